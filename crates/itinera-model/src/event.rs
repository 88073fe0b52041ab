//! Events of an agent, a name, a service or a route; some for a moment,
//! some that last.

use crate::alarm::{Alarm, Severity};
use crate::diagnosis::Part;
use crate::id::{AgentId, CheckId};
use crate::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// Kind of event.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EventKind {
    /// A check that never worked: check and server do not fit.
    Misfit,
    /// A name does not resolve.
    NameFails,
    /// Resolvers give different addresses, and nobody says which are right.
    NamesDisagree,
    /// A resolver returns an address that the name no longer has.
    NameStale,
    /// A service does not do what it is there for.
    ServiceFails,
    /// A service thinks long.
    ServiceSlow,
    /// A service's content comes slowly.
    TransferSlow,
    /// Small packets pass and full-sized ones do not.
    LargeLost,
    /// Less gets through than should, several times in a row.
    LimitMissed,
    /// Frames arrive damaged at an agent's own interface.
    FramesDamaged,
    /// An agent's own line is full.
    LineFull,
    /// An agent's own program is late, because its machine is busy with other work.
    HostBusy,
    /// A host fact of an agent has changed.
    #[serde(alias = "surroundings-changed")]
    HostFactsChanged,
    /// Packets take another way than the one that is intended.
    NotAsIntended,
}

/// What makes two events the same while they last.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct EventKey {
    /// Kind.
    pub kind: EventKind,
    /// At which agent.
    pub agent: AgentId,
    /// About what there: a check's id, an interface, a name.
    pub subject: String,
}

/// One event.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Event {
    /// Identity while it lasts.
    pub key: EventKey,
    /// The part at fault.
    pub part: Part,
    /// How bad; absent for what is only to be known, or follows from a fault with an alarm.
    pub severity: Option<Severity>,
    /// When it began, by the service's estimate.
    pub since: WallTime,
    /// When it was noticed, by the service's clock.
    pub raised_at: WallTime,
    /// Events of one group have one cause.
    pub group: String,
    /// In words, at the time.
    pub words: String,
    /// The service that it touches, where it is about one.
    pub service: Option<String>,
    /// The check that saw it.
    pub check: Option<CheckId>,
    /// The machine's own addresses, where it is about the machine: a fault on its first link is
    /// the same.
    pub own_addresses: Vec<IpAddr>,
}

/// What judgement wants recorded about events.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum EventEffect {
    /// A momentary event.
    Occurred(Event),
    /// Something began.
    Began(Event),
    /// Something that lasts is told in other words, or is worse.
    Changed(Event),
    /// Something that lasted is over.
    Ended {
        /// Which.
        key: EventKey,
        /// When, by the service's clock.
        at: WallTime,
    },
}

/// What an incident is made of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// A path's alarm.
    Alarm(Alarm),
    /// An event that is bad by itself.
    Event(Event),
}

impl fmt::Display for EventKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Misfit => "misfit",
            Self::NameFails => "name-fails",
            Self::NamesDisagree => "names-disagree",
            Self::NameStale => "name-stale",
            Self::ServiceFails => "service-fails",
            Self::ServiceSlow => "service-slow",
            Self::TransferSlow => "transfer-slow",
            Self::LargeLost => "large-lost",
            Self::LimitMissed => "limit-missed",
            Self::FramesDamaged => "frames-damaged",
            Self::LineFull => "line-full",
            Self::HostBusy => "host-busy",
            Self::HostFactsChanged => "host-facts-changed",
            Self::NotAsIntended => "not-as-intended",
        })
    }
}
