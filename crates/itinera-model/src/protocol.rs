//! Messages between agent and service, each encoded by [`crate::codec::encode`].

use crate::check::CheckTask;
use crate::diagnosis::DiagnosisTask;
use crate::id::{AgentId, PathId, SiteId};
use crate::path::Method;
use crate::two_way::SignedTicket;
use crate::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// An agent asks to join.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JoinRequest {
    /// The one-time code's secret part.
    pub secret: String,
    /// A PKCS #10 request (RFC 2986) in PEM for the agent's own key.
    pub signing_request_pem: String,
    /// The agent's program version.
    pub version: String,
}

/// The service lets it in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JoinAnswer {
    /// The agent's name from now on.
    pub agent: AgentId,
    /// The site it belongs to.
    pub site: SiteId,
    /// Name of the site.
    pub site_name: String,
    /// The client certificate in PEM.
    pub certificate_pem: String,
}

/// One path to sweep, and how.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Task {
    /// The path.
    pub path: PathId,
    /// The target's address; where it has a name, what the name may give at best is known, and
    /// this only says which version of IP is meant.
    pub address: IpAddr,
    /// The target's name, which the agent resolves itself, again and again.
    #[serde(default)]
    pub name: Option<String>,
    /// Probe method.
    pub method: Method,
    /// The port to probe by UDP or TCP; by UDP one that is unlikely to be served where absent.
    #[serde(default)]
    pub port: Option<u16>,
    /// Differentiated services code point, 0..=63.
    pub dscp: u8,
    /// Length of the whole IP packet in bytes.
    pub size_bytes: u16,
    /// From one round's start to the next, in milliseconds, before jitter.
    pub interval_ms: u32,
    /// Probes for each hop in a round.
    pub probes_per_hop: u8,
    /// How long an answer is in time, in milliseconds.
    pub timeout_ms: u32,
    /// The last hop limit tried.
    pub last_hop: u8,
    /// Of so many rounds one sweeps all hops; the others only look whether the target answers.
    #[serde(default = "every")]
    pub full_every: u8,
    /// A limited time with a shorter interval.
    #[serde(default)]
    pub denser: Option<Denser>,
}

/// A shorter interval for a limited time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Denser {
    /// From one round's start to the next, in milliseconds.
    pub interval_ms: u32,
    /// Until when, by the service's clock.
    pub until: WallTime,
}

/// A while in which tasks are not done on purpose (RFC 7594 section 5.2.3).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Suppression {
    /// The paths that are not measured; all where empty, and no pairs either then.
    pub paths: Vec<PathId>,
    /// From when, by the service's clock.
    pub from: WallTime,
    /// Until when.
    pub until: WallTime,
}

const fn every() -> u8 {
    1
}

/// The schedule of an agent (RFC 7594). Replaces the one before as a whole.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Schedule {
    /// Grows with every change; an agent asks for anything newer than what it has.
    pub version: u64,
    /// The tasks.
    pub tasks: Vec<Task>,
    /// How much the agent may send.
    #[serde(default)]
    pub pacing: Pacing,
    /// How often the member routes of each path are enumerated again, in seconds; never where 0.
    #[serde(default)]
    pub enumerate_every_s: u32,
    /// Tickets for two-way measurement with other agents.
    #[serde(default)]
    pub tickets: Vec<SignedTicket>,
    /// When some of this is not done.
    #[serde(default)]
    pub suppressions: Vec<Suppression>,
    /// What services are asked.
    #[serde(default)]
    pub checks: Vec<CheckTask>,
    /// How often host facts are reported, in seconds; changes at once. Never where 0.
    #[serde(default, rename = "surroundings_every_s")]
    pub host_facts_every_s: u32,
    /// Diagnoses to run now.
    #[serde(default, rename = "outward")]
    pub diagnoses: Vec<DiagnosisTask>,
    /// Leave to measure how much gets through: each an encoded order, signed.
    #[serde(default)]
    pub throughput: Vec<SignedTicket>,
}

/// Budgets that all tasks of an agent share.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pacing {
    /// Probes a second in all.
    pub agent_per_s: u32,
    /// Probes a second that may reach one target.
    pub target_per_s: u32,
    /// Probes for which one hop's address is asked to answer, in a thousand seconds.
    pub hop_per_1000_s: u32,
    /// Where several agents stand behind one public address, hops see them as one: each second,
    /// by the service's clock, one of them has the turn.
    #[serde(default)]
    pub hop_turn: Turn,
}

/// The seconds of an agent: those with a remainder of `index` modulo `of`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Turn {
    /// This agent's place, from 0.
    pub index: u16,
    /// How many take turns; 1 for one that is alone.
    pub of: u16,
}

impl Default for Turn {
    fn default() -> Self {
        Self { index: 0, of: 1 }
    }
}

impl Default for Pacing {
    /// One answer a second from a hop: what Linux routers give by default to one address.
    fn default() -> Self {
        Self {
            agent_per_s: 1_000,
            target_per_s: 50,
            hop_per_1000_s: 1_000,
            hop_turn: Turn::default(),
        }
    }
}

/// The service has committed a batch, now or before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BatchReceipt {
    /// The service's clock when the batch came in.
    pub received_at: WallTime,
    /// True when it had been committed before.
    pub duplicate: bool,
    /// Rounds not stored because their path is not this agent's.
    pub refused_rounds: u32,
}
