//! Paths: the intent to measure from one agent to one target by one method in one direction (RFC 2330).

use crate::id::{AgentId, TargetId};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

/// Address family of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Family {
    /// IPv4 (RFC 791).
    Ipv4,
    /// IPv6 (RFC 8200).
    Ipv6,
}

impl Family {
    /// The family of an address.
    pub const fn of(address: IpAddr) -> Self {
        match address {
            IpAddr::V4(_) => Self::Ipv4,
            IpAddr::V6(_) => Self::Ipv6,
        }
    }
}

impl fmt::Display for Family {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Ipv4 => "ipv4",
            Self::Ipv6 => "ipv6",
        })
    }
}

/// A version of IP that is neither 4 nor 6.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("unknown family {0:?}: use ipv4 or ipv6")]
pub struct UnknownFamily(pub String);

impl FromStr for Family {
    type Err = UnknownFamily;
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text {
            "ipv4" => Ok(Self::Ipv4),
            "ipv6" => Ok(Self::Ipv6),
            other => Err(UnknownFamily(other.to_owned())),
        }
    }
}

/// How a path is probed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Method {
    /// ICMP echo (RFC 792).
    IcmpEcho,
    /// UDP to a high port (RFC 768); the target's "port unreachable" is the arrival.
    Udp,
    /// TCP SYN (RFC 9293); an acceptance or a refusal by the target is the arrival.
    TcpSyn,
}

/// A method that does not exist.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("unknown method {0:?}: use icmp-echo, udp or tcp-syn")]
pub struct UnknownMethod(pub String);

impl FromStr for Method {
    type Err = UnknownMethod;
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text {
            "icmp-echo" => Ok(Self::IcmpEcho),
            "udp" => Ok(Self::Udp),
            "tcp-syn" => Ok(Self::TcpSyn),
            other => Err(UnknownMethod(other.to_owned())),
        }
    }
}

impl fmt::Display for Method {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::IcmpEcho => "icmp-echo",
            Self::Udp => "udp",
            Self::TcpSyn => "tcp-syn",
        })
    }
}

/// Direction of the packets of interest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Direction {
    /// Sent by the agent, answered by the path: a round trip seen from one side.
    RoundTrip,
}

/// What a path is: the intent, none of what was found. Two paths are the same exactly when
/// all of these are equal.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct PathSpec {
    /// The agent.
    pub agent: AgentId,
    /// The agent's egress; empty for the only one.
    pub uplink: String,
    /// What is measured to.
    pub target: TargetId,
    /// IPv4 or IPv6.
    pub family: Family,
    /// Probe method.
    pub method: Method,
    /// Differentiated services code point as sent (RFC 2474), 0..=63.
    pub dscp: u8,
    /// Length of the whole IP packet in bytes.
    pub size_bytes: u16,
    /// The direction.
    pub direction: Direction,
}
