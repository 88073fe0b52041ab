//! What messages about checks of services and names say.

use crate::check::{AskKind, Step, Why};
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};

/// State of the path to a server while the server was checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum PathState {
    /// No fault on it.
    Clean {
        /// Probes sent.
        sent: u32,
        /// Of those, lost.
        lost: u32,
    },
    /// It loses or delays packets.
    Faulty {
        /// Probes sent.
        sent: u32,
        /// Of those, lost.
        lost: u32,
        /// True where that explains what the check saw.
        explains: bool,
    },
    /// Not measured.
    Unknown,
}

/// The same check from other sites.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Elsewhere {
    /// Other sites with this check.
    pub sites: u32,
    /// Of those, sites where it succeeds.
    pub working: u32,
}

/// A check that fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CheckFailure {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// The server that was asked; absent where no connection was tried.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub server: Option<SocketAddr>,
    /// Kind of check.
    pub check: AskKind,
    /// The step that failed.
    pub step: Step,
    /// Why.
    pub why: Why,
    /// HTTP status, where that is why.
    pub status: Option<u16>,
    /// True where a resolver of the site returns a wrong address for the server's name.
    pub wrong_address: bool,
    /// The path to the server.
    pub path: PathState,
    /// The same check from other sites.
    pub elsewhere: Elsewhere,
}

/// A check that succeeds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CheckSuccess {
    /// The target's name.
    pub target: String,
    /// Time that all steps took.
    pub took_us: u32,
    /// HTTP status.
    pub status: Option<u16>,
    /// Bytes per second of a transfer.
    pub bytes_per_s: Option<u64>,
    /// The name that was asked for, of a DNS check.
    pub name: Option<String>,
    /// Its addresses.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub addresses: Vec<IpAddr>,
    /// The path to the server.
    pub path: PathState,
}

/// Full-sized packets that do not reach a server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LargePacketLoss {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// The server.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub server: Option<SocketAddr>,
    /// The path to the server.
    pub path: PathState,
    /// The same check from other sites.
    pub elsewhere: Elsewhere,
}

/// A name that does not resolve.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct NameFailure {
    /// The name.
    pub name: String,
    /// The agent's site.
    pub site: String,
    /// The resolver that failed; absent where none answered.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub resolver: Option<IpAddr>,
    /// Why.
    pub why: Why,
}

/// A stale DNS answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct StaleAnswer {
    /// The name.
    pub name: String,
    /// The agent's site.
    pub site: String,
    /// The resolver.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub resolver: IpAddr,
    /// What it returns.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub returned: Vec<IpAddr>,
    /// The authoritative server.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub authority: IpAddr,
    /// What that returns.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub current: Vec<IpAddr>,
}

/// One resolver's answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ResolverAnswer {
    /// The resolver.
    #[cfg_attr(feature = "openapi", schema(value_type = String))]
    pub resolver: IpAddr,
    /// What it returns.
    #[cfg_attr(feature = "openapi", schema(value_type = Vec<String>))]
    pub addresses: Vec<IpAddr>,
    /// Why it returns nothing.
    pub why: Option<Why>,
}

/// Resolvers that return different addresses.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DifferentAnswers {
    /// The name.
    pub name: String,
    /// The agent's site.
    pub site: String,
    /// What each resolver returns.
    pub answers: Vec<ResolverAnswer>,
}

/// A late first byte.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LateAnswer {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// Time to the first byte.
    pub first_byte_us: u32,
    /// Its usual value; absent before it is learned.
    pub usual_us: Option<u32>,
    /// Time to open the connection.
    pub connect_us: Option<u32>,
    /// The path to the server.
    pub path: PathState,
    /// The same check from other sites.
    pub elsewhere: Elsewhere,
}

/// A slow transfer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SlowTransfer {
    /// The target's name.
    pub target: String,
    /// The agent's site.
    pub site: String,
    /// Bytes per second.
    pub bytes_per_s: u64,
    /// Its usual value; absent before it is learned.
    pub usual_bytes_per_s: Option<u64>,
    /// Time to the first byte.
    pub first_byte_us: Option<u32>,
    /// The path to the server.
    pub path: PathState,
}
