//! Events of an agent, a name, a service or a route; some for a moment,
//! some that last.

use crate::alarm::{Alarm, AlarmClass, Severity};
use crate::diagnosis::Part;
use crate::id::{AgentId, CheckId};
use crate::message::Message;
use crate::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// Kind of event.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum EventKind {
    /// A check has never succeeded: check and server do not match.
    #[serde(alias = "misfit")]
    CheckMismatch,
    /// A name does not resolve.
    #[serde(alias = "name-fails")]
    NameUnresolved,
    /// Resolvers return different addresses, and none of them is authoritative.
    #[serde(alias = "names-disagree")]
    DnsDisagree,
    /// A resolver returns an address that the name no longer has.
    #[serde(alias = "name-stale")]
    DnsStale,
    /// A check of a service fails.
    #[serde(alias = "service-fails")]
    ServiceFailed,
    /// The first byte of a service's answer is late.
    ServiceSlow,
    /// A service's content arrives slowly.
    TransferSlow,
    /// Small packets pass and full-sized ones do not (RFC 2923).
    #[serde(alias = "large-lost")]
    MtuBlackHole,
    /// Throughput is under its limit, several times in a row.
    #[serde(alias = "limit-missed")]
    ThroughputLow,
    /// Packets are lost in one direction between two agents.
    PairLoss,
    /// Two agents do not get packets from each other.
    PairUnreachable,
    /// An agent's interface counts receive errors.
    #[serde(alias = "frames-damaged")]
    ReceiveErrors,
    /// An agent's own link is saturated.
    #[serde(alias = "line-full")]
    LinkSaturated,
    /// An agent's own program is late, because its machine is busy with other work.
    HostBusy,
    /// An agent reports nothing.
    AgentSilent,
    /// A host fact of an agent has changed.
    #[serde(alias = "surroundings-changed")]
    HostFactsChanged,
    /// Packets take another route than the intended one.
    #[serde(alias = "not-as-intended")]
    RouteNotIntended,
    /// A cut-off agent took the action that its site permits.
    LocalAction,
    /// The service judges measurements late.
    JudgementBehind,
    /// Judgement fails on commits.
    CommitsSetAside,
    /// A duty of the service is not done.
    DutyFailing,
    /// Little or no room is left for the database.
    DiskLow,
    /// Many agents report late.
    AgentsLate,
    /// A receiver does not get its notices.
    DeliveriesFailing,
}

impl EventKind {
    /// True for an event of two agents that measure each other. It names no place by itself.
    pub const fn is_of_pair(self) -> bool {
        matches!(self, Self::PairLoss | Self::PairUnreachable)
    }

    /// The class of its alarms.
    pub const fn class(self) -> AlarmClass {
        match self {
            Self::JudgementBehind
            | Self::CommitsSetAside
            | Self::DutyFailing
            | Self::DiskLow
            | Self::AgentsLate
            | Self::DeliveriesFailing => AlarmClass::Service,
            _ => AlarmClass::Event,
        }
    }
}

/// What makes two events the same while they last.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct EventKey {
    /// Kind.
    pub kind: EventKind,
    /// At which agent; nil for what is about the service itself.
    pub agent: AgentId,
    /// About what there: a check's id, an interface, a name, a pair with its direction.
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
    /// What occurred, as it was first seen.
    pub message: Message,
    /// The service that it touches, where it is about one.
    pub service: Option<String>,
    /// The check that saw it.
    pub check: Option<CheckId>,
    /// The machine's own addresses, where it is about the machine: a fault on its first link is
    /// the same.
    pub own_addresses: Vec<IpAddr>,
    /// Addresses on the routes that it depends on: a fault there at the same time may be its cause.
    #[serde(default)]
    pub route: Vec<IpAddr>,
}

/// What judgement wants recorded about events.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum EventEffect {
    /// A momentary event.
    Occurred(Event),
    /// Something began.
    Began(Event),
    /// A lasting event changed its message or severity.
    Changed {
        /// The event.
        event: Event,
        /// When, by the service's clock.
        at: WallTime,
    },
    /// Something that lasted is over.
    Ended {
        /// Which.
        key: EventKey,
        /// When, by the service's clock.
        at: WallTime,
    },
}

impl EventEffect {
    /// When it came to be, by the service's clock.
    pub const fn at(&self) -> WallTime {
        match self {
            Self::Occurred(event) | Self::Began(event) => event.raised_at,
            Self::Changed { at, .. } | Self::Ended { at, .. } => *at,
        }
    }
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
            Self::CheckMismatch => "check-mismatch",
            Self::NameUnresolved => "name-unresolved",
            Self::DnsDisagree => "dns-disagree",
            Self::DnsStale => "dns-stale",
            Self::ServiceFailed => "service-failed",
            Self::ServiceSlow => "service-slow",
            Self::TransferSlow => "transfer-slow",
            Self::MtuBlackHole => "mtu-black-hole",
            Self::ThroughputLow => "throughput-low",
            Self::PairLoss => "pair-loss",
            Self::PairUnreachable => "pair-unreachable",
            Self::ReceiveErrors => "receive-errors",
            Self::LinkSaturated => "link-saturated",
            Self::HostBusy => "host-busy",
            Self::AgentSilent => "agent-silent",
            Self::HostFactsChanged => "host-facts-changed",
            Self::RouteNotIntended => "route-not-intended",
            Self::LocalAction => "local-action",
            Self::JudgementBehind => "judgement-behind",
            Self::CommitsSetAside => "commits-set-aside",
            Self::DutyFailing => "duty-failing",
            Self::DiskLow => "disk-low",
            Self::AgentsLate => "agents-late",
            Self::DeliveriesFailing => "deliveries-failing",
        })
    }
}
