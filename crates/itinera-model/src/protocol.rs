//! Messages between agent and service, each encoded by [`crate::batch::encode`].

use crate::id::{AgentId, PathId, SiteId};
use crate::path::Method;
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
    /// The site's name, for people.
    pub site_name: String,
    /// The client certificate in PEM.
    pub certificate_pem: String,
}

/// One path to sweep, and how.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Task {
    /// The path.
    pub path: PathId,
    /// The target's address.
    pub address: IpAddr,
    /// Probe method.
    pub method: Method,
    /// Differentiated services code point, 0..=63.
    pub dscp: u8,
    /// Length of the whole IP packet in octets.
    pub size_bytes: u16,
    /// From one round's start to the next, in milliseconds, before jitter.
    pub interval_ms: u32,
    /// Probes for each hop in a round.
    pub probes_per_hop: u8,
    /// How long an answer is in time, in milliseconds.
    pub timeout_ms: u32,
    /// The last hop limit tried.
    pub last_hop: u8,
}

/// What an agent is told to do (RFC 7594). Replaces the one before as a whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schedule {
    /// Grows with every change; an agent asks for anything newer than what it has.
    pub version: u64,
    /// The tasks.
    pub tasks: Vec<Task>,
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
