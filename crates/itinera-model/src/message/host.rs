//! What messages about hosts of agents, throughput and intended routes say.

use crate::host_facts::LocalAction;
use crate::unit::Ratio;
use serde::{Deserialize, Serialize};

/// Throughput under its limit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LowThroughput {
    /// Site of the sending agent.
    pub from: String,
    /// Site of the receiving agent.
    pub to: String,
    /// Protocol.
    pub protocol: String,
    /// Bits per second; absent where nothing arrived.
    pub bits_per_s: Option<u64>,
    /// The limit in bits per second.
    pub limit_bits_per_s: u64,
    /// Measurements in a row under it.
    pub times: u32,
}

/// Receive errors of an interface.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ReceiveErrorCounts {
    /// The agent's site.
    pub site: String,
    /// The interface.
    pub interface: String,
    /// Frames with errors.
    pub errors: u64,
    /// All frames received.
    pub frames: u64,
    /// Length of time in seconds.
    pub seconds: u64,
}

/// Direction of traffic at an interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TrafficDirection {
    /// Received.
    Inbound,
    /// Sent.
    Outbound,
}

/// Use of an agent's own link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LinkUse {
    /// The agent's site.
    pub site: String,
    /// The interface.
    pub interface: String,
    /// The direction that is saturated.
    pub direction: TrafficDirection,
    /// Share of its speed in use.
    pub used: Ratio,
    /// Its speed in megabits per second.
    pub speed_mbit_s: u32,
    /// Length of time in seconds.
    pub seconds: u64,
}

/// Lateness of an agent's own program.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HostLateness {
    /// The agent's site.
    pub site: String,
    /// 95th percentile.
    pub p95_us: u32,
    /// Timers and packets that it is estimated from.
    pub samples: u64,
}

/// An agent that reports nothing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SilentAgent {
    /// The agent's site.
    pub site: String,
    /// For how long, when it was noticed.
    pub seconds: u32,
}

/// A fact about an agent's host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HostFact {
    /// The host's name.
    HostName,
    /// The IPv4 gateway.
    Ipv4Gateway,
    /// The IPv6 gateway.
    Ipv6Gateway,
    /// The list of resolvers.
    Resolvers,
    /// An interface.
    Interface,
    /// Speed of an interface.
    Speed,
    /// Duplex mode of an interface.
    Duplex,
    /// State of an interface.
    State,
    /// Addresses of an interface.
    Addresses,
    /// The interface by which packets to some targets leave.
    Route,
    /// The switch port that the host is attached to.
    Switch,
    /// The device that answers for the gateway's address.
    GatewayDevice,
    /// The access networks.
    AccessNetwork,
}

/// A change of a host fact.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct HostChange {
    /// The agent's site.
    pub site: String,
    /// The fact.
    pub fact: HostFact,
    /// The interface, or the targets, that it is about.
    pub subject: Option<String>,
    /// Its value before; absent where there was none.
    pub before: Option<String>,
    /// Its value now; absent where there is none.
    pub after: Option<String>,
}

/// An action of an agent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct TakenAction {
    /// The agent's site.
    pub site: String,
    /// The action.
    pub action: LocalAction,
}

/// One deviation from the intended route.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum RouteDeviation {
    /// It passes other owners.
    Owners {
        /// Names of the owners that it passes.
        taken: Vec<String>,
        /// AS numbers of the intended ones.
        intended: Vec<u32>,
    },
    /// It does not pass a tunnel, and should.
    TunnelMissing,
    /// It passes a tunnel, and should not.
    TunnelTaken,
    /// The DSCP is rewritten.
    DscpRewritten {
        /// As sent.
        sent: u8,
        /// As it arrives.
        arrived: u8,
    },
}

/// A route that is not the intended one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RouteDeviations {
    /// The agent's site.
    pub site: String,
    /// The target's name.
    pub target: String,
    /// The kind of packets.
    pub packets: String,
    /// How it deviates.
    pub deviations: Vec<RouteDeviation>,
}
