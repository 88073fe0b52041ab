//! Services, names and host facts as written in a scenario.

use serde::Deserialize;
use std::net::IpAddr;
use toml::Spanned;

/// A protocol that a test server speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Speaks {
    Web,
    Name,
    Mail,
    Pop3,
    Imap,
    Ftp,
    Ssh,
}

/// What is right or wrong with a service's certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TlsHabit {
    /// Nothing is wrong.
    Good,
    /// It is for another name.
    WrongName,
    /// Its time is over.
    Expired,
    /// Its time has not begun.
    Early,
    /// It is self-signed.
    Untrusted,
}

/// How a service behaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Does {
    #[default]
    Good,
    /// It begins to answer late.
    Slow,
    /// It says that it fails.
    Fail,
    /// No program accepts connections.
    Refuse,
    /// It tears connections down.
    Reset,
    /// It closes them before it has said anything.
    Close,
    /// It accepts them and says nothing: half open.
    Silent,
    /// Its answers never end.
    Endless,
    /// Its answers come byte by byte.
    Trickle,
    /// Its answers are not of its protocol.
    Malformed,
    /// Its header, or its line, never ends.
    Flood,
    /// What it says does something to terminals.
    Hostile,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct ServiceEntry {
    /// A target's id.
    pub(crate) at: Spanned<String>,
    pub(crate) port: Spanned<u16>,
    pub(crate) speaks: Speaks,
    pub(crate) tls: Option<TlsHabit>,
    /// The name that its certificate is for.
    pub(crate) name: Option<String>,
    #[serde(default)]
    pub(crate) does: Does,
    #[serde(default)]
    pub(crate) changes: Vec<DoesEntry>,
    /// Bytes of its large content.
    #[serde(default = "large")]
    pub(crate) size_bytes: u32,
    /// Bytes a second at which it says its content.
    pub(crate) rate_bytes_per_s: Option<u64>,
    /// A resolver that says things with authority.
    #[serde(default)]
    pub(crate) authoritative: bool,
    /// A resolver that misses every change.
    #[serde(default)]
    pub(crate) stale: bool,
}

const fn large() -> u32 {
    200_000
}

/// Another behaviour for a limited time.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct DoesEntry {
    pub(crate) at_s: f64,
    pub(crate) for_s: Option<f64>,
    #[serde(default)]
    pub(crate) does: Does,
    /// Bytes a second at which it says its content meanwhile.
    pub(crate) rate_bytes_per_s: Option<u64>,
}

/// A name and its addresses.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct NameEntry {
    pub(crate) name: String,
    pub(crate) addresses: Vec<IpAddr>,
    pub(crate) ttl_s: u32,
    pub(crate) moves: Option<MoveEntry>,
}

/// From when on a name has other addresses.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct MoveEntry {
    pub(crate) at_s: f64,
    pub(crate) to: Vec<IpAddr>,
}

/// The host facts of a site's agent.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct HostFactsEntry {
    pub(crate) resolvers: Vec<IpAddr>,
    pub(crate) speed_mbit_s: Option<u32>,
    pub(crate) half_duplex: bool,
    pub(crate) wireless: bool,
    /// The switch that announces itself, and its port.
    pub(crate) attached_to: Option<[String; 2]>,
}
