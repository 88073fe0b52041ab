//! Findings: what locating says about one path in one window.
//!
//! All scores are quantised integers (parts per million, microseconds), so that recomputing a
//! finding from its evidence gives equal bytes.

use crate::id::{AgentId, PathId};
use crate::path::{Family, Method};
use crate::unit::{Micros, WallTime};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// Class of fault at the place (X.733 probable cause, as far as probes can tell).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// Packets are lost.
    Loss,
    /// Packets are delayed beyond what is usual.
    Delay,
    /// No packet passes.
    Break,
    /// Packets take a route that does not lead to the target.
    Misrouting,
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Loss => "loss",
            Self::Delay => "delay",
            Self::Break => "break",
            Self::Misrouting => "misrouting",
        })
    }
}

/// Direction of packets that have the fault, seen from the agent.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FaultDirection {
    /// From the agent to the target.
    Forward,
    /// From the target to the agent.
    Return,
    /// Round trips alone do not tell the directions apart.
    #[default]
    Undetermined,
}

/// Place at fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Place {
    /// Between two answering addresses, or in the devices at its ends.
    Link {
        /// The last address without the fault; the agent's own at the first hop.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        from: IpAddr,
        /// The first address with it.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        to: IpAddr,
        /// Silent hops in between: the links around them cannot be told apart.
        silent_between: u8,
    },
    /// One of several parallel member routes between two addresses (RFC 9198).
    Member {
        /// Where the member routes part.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        from: IpAddr,
        /// The next hop of the member at fault.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        to: IpAddr,
    },
    /// A router, whatever link packets take through it.
    Node {
        /// Its address.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        address: IpAddr,
    },
    /// The link where the owner changes.
    Boundary {
        /// The last address of the owner before.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        from: IpAddr,
        /// The first address of the owner behind.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        to: IpAddr,
    },
    /// Several places of one owner.
    Owner {
        /// Autonomous system number (RFC 6793).
        as_number: u32,
    },
    /// The agent's own machine or site.
    AgentSite {
        /// The agent.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        agent: AgentId,
    },
    /// The target or its own access.
    TargetEnd {
        /// The target's address.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        address: IpAddr,
    },
    /// The return route from an address to the agent.
    ReturnRoute {
        /// The address that answers.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        from: IpAddr,
    },
    /// One probe method alone has the fault; other packets to the address pass.
    OneProtocol {
        /// The address.
        #[serde(with = "text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        address: IpAddr,
        /// The method that has the fault.
        method: Method,
    },
    /// The evidence does not name a place.
    Unknown,
}

impl Place {
    /// The two addresses around it, the one nearer to the agent first; absent where the place is
    /// not between two addresses.
    pub const fn ends(&self) -> Option<(IpAddr, IpAddr)> {
        match *self {
            Self::Link { from, to, .. }
            | Self::Member { from, to }
            | Self::Boundary { from, to } => Some((from, to)),
            Self::Node { .. }
            | Self::Owner { .. }
            | Self::AgentSite { .. }
            | Self::TargetEnd { .. }
            | Self::ReturnRoute { .. }
            | Self::OneProtocol { .. }
            | Self::Unknown => None,
        }
    }

    /// The first address of a path with the fault; absent where the place names none.
    pub const fn first_with_fault(&self) -> Option<IpAddr> {
        match *self {
            Self::Link { to, .. } | Self::Member { to, .. } | Self::Boundary { to, .. } => Some(to),
            Self::Node { address }
            | Self::TargetEnd { address }
            | Self::OneProtocol { address, .. } => Some(address),
            Self::ReturnRoute { from } => Some(from),
            Self::Owner { .. } | Self::AgentSite { .. } | Self::Unknown => None,
        }
    }

    /// Silent hops inside it.
    pub const fn silent_between(&self) -> u8 {
        match *self {
            Self::Link { silent_between, .. } => silent_between,
            _ => 0,
        }
    }

    /// Version of IP of its addresses; absent where it names none.
    pub fn family(&self) -> Option<Family> {
        self.first_with_fault().map(Family::of)
    }
}

/// Addresses and ids as text in every encoding: inside an enum that is told apart by a tag, serde
/// reads binary formats as if they were human-readable.
pub(crate) mod text {
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serializer};
    use std::fmt::Display;
    use std::str::FromStr;

    pub(crate) fn serialize<T: Display, S: Serializer>(
        value: &T,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        to.collect_str(value)
    }

    pub(crate) fn deserialize<'de, T, D>(from: D) -> Result<T, D::Error>
    where
        T: FromStr<Err: Display>,
        D: Deserializer<'de>,
    {
        String::deserialize(from)?.parse().map_err(D::Error::custom)
    }
}

/// One candidate account of what is seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Explanation {
    /// What.
    pub cause: Cause,
    /// Where.
    pub place: Place,
    /// Probability in parts per million.
    pub probability_ppm: u32,
}

/// What a hop's answers mean.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HopVerdict {
    /// Answers, and nothing begins here.
    Clean,
    /// Never answers while later hops do.
    Silent,
    /// Limits the rate of its own answers; traffic passes.
    #[serde(alias = "polices")]
    RateLimits,
    /// The finding's fault begins on the link into this hop.
    Onset,
    /// Shows faults that began before it.
    Carries,
    /// Nothing from here to the end answers.
    Unanswered,
}

/// One hop as assessed in a window.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HopView {
    /// Hop limit.
    pub hop: u8,
    /// Answering address; absent for a hop that never answered.
    pub address: Option<IpAddr>,
    /// Probes sent in the window.
    pub sent: u32,
    /// Probes without an answer.
    pub lost: u32,
    /// Share of packets that got at least this far, in parts per million; absent when nothing
    /// from here on answered.
    pub got_here_ppm: Option<u32>,
    /// Median round-trip delay in the window.
    pub delay_us: Option<Micros>,
    /// Lower and upper quartile of it.
    pub delay_quartiles_us: Option<(Micros, Micros)>,
    /// Usual median delay of earlier windows; absent before three of them.
    pub usual_delay_us: Option<Micros>,
    /// What the answers mean.
    pub verdict: HopVerdict,
}

/// Probes that would have been answered without the fault, and those of them that were lost: what
/// a located loss is estimated from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LossCounts {
    /// Probes sent beyond the place.
    pub sent: u32,
    /// Of those, lost beyond what is usual.
    pub lost: u32,
}

/// A moment that is known up to an interval.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct TimeInterval {
    /// Not before.
    pub earliest: WallTime,
    /// Not after.
    pub latest: WallTime,
}

/// A reason for or against a finding, as data.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "reason", rename_all = "kebab-case")]
pub enum Reason {
    /// For: the hops before the place answer as usual.
    HopsBeforeAreClean {
        /// Hops before the place that answered.
        hops: u8,
    },
    /// For: the hops behind the place have the fault, up to the target.
    HopsBehindCarry {
        /// Hops behind the place that answered.
        hops: u8,
    },
    /// Against: no hop behind the place answers but the last, which may itself drop probes.
    OnlyTheLastHop,
    /// Against: silent hops hide on which of their links the fault is.
    SilentHops {
        /// How many.
        hops: u8,
    },
    /// Against: another place explains nearly as much.
    CloseAlternative {
        /// Its probability in parts per million.
        probability_ppm: u32,
    },
}

impl Reason {
    /// True where it supports the finding, false where it speaks against it.
    pub const fn supports(&self) -> bool {
        match self {
            Self::HopsBeforeAreClean { .. } | Self::HopsBehindCarry { .. } => true,
            Self::OnlyTheLastHop | Self::SilentHops { .. } | Self::CloseAlternative { .. } => false,
        }
    }
}

/// One localization result.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// Class of fault.
    pub cause: Cause,
    /// Where it begins.
    pub place: Place,
    /// Which direction of packets has it.
    #[serde(default)]
    pub direction: FaultDirection,
    /// Probability of this cause at this place, in parts per million.
    pub confidence_ppm: u32,
    /// Carried loss as ratio in parts per million (loss and break).
    pub loss_ppm: u32,
    /// What that ratio is estimated from; nothing sent for another cause.
    #[serde(default)]
    pub loss_counts: LossCounts,
    /// Added delay (cause delay).
    pub added_delay_us: Micros,
    /// When it began; absent where that is not known.
    #[serde(default)]
    pub onset: Option<TimeInterval>,
    /// When it ended; absent while it lasts.
    #[serde(default)]
    pub end: Option<TimeInterval>,
    /// The most probable accounts, best first, this one included.
    pub explanations: Vec<Explanation>,
    /// Places that the present agents and targets cannot tell from this one.
    #[serde(default)]
    pub indistinguishable: Vec<Place>,
    /// What speaks for it and against it.
    #[serde(default)]
    pub reasons: Vec<Reason>,
}

impl Finding {
    /// A finding without figures, reasons or times.
    pub const fn new(cause: Cause, place: Place, confidence_ppm: u32) -> Self {
        Self {
            cause,
            place,
            direction: FaultDirection::Undetermined,
            confidence_ppm,
            loss_ppm: 0,
            loss_counts: LossCounts { sent: 0, lost: 0 },
            added_delay_us: Micros::ZERO,
            onset: None,
            end: None,
            explanations: Vec::new(),
            indistinguishable: Vec::new(),
            reasons: Vec::new(),
        }
    }
}

/// Everything judged about one path in one window.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Assessment {
    /// The path.
    pub path: PathId,
    /// End of the newest window regarded.
    pub until: WallTime,
    /// Length of time regarded, in seconds.
    pub span_s: u32,
    /// Rounds regarded.
    pub rounds: u32,
    /// Probes sent to the far end.
    pub end_sent: u32,
    /// Of those, unanswered.
    pub end_lost: u32,
    /// Version of the judging engine.
    pub engine: u16,
    /// Version of the mapping from interfaces to routers; 0 takes every address for its own.
    pub mapping: u32,
    /// Hops.
    pub hops: Vec<HopView>,
    /// The finding, when a fault is likelier than none.
    pub finding: Option<Finding>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::{decode, encode};

    #[test]
    fn a_place_is_read_back_from_either_encoding() {
        let ip = |text: &str| text.parse::<IpAddr>().unwrap();
        let (four, six) = (ip("198.18.64.3"), ip("2001:db8::4"));
        for place in [
            Place::Link { from: four, to: ip("198.18.64.4"), silent_between: 1 },
            Place::Link { from: ip("2001:db8::3"), to: six, silent_between: 0 },
            Place::Member { from: four, to: ip("198.18.64.9") },
            Place::Node { address: four },
            Place::Boundary { from: six, to: four },
            Place::Owner { as_number: 64_500 },
            Place::AgentSite { agent: AgentId::from_uuid(uuid::Uuid::from_u128(7)) },
            Place::TargetEnd { address: six },
            Place::ReturnRoute { from: four },
            Place::OneProtocol { address: six, method: Method::TcpSyn },
            Place::Unknown,
        ] {
            assert_eq!(decode::<Place>(&encode(&place)).unwrap(), place);
            let json = serde_json::to_string(&place).unwrap();
            assert_eq!(serde_json::from_str::<Place>(&json).unwrap(), place, "{json}");
        }
    }
}
