//! Findings: what locating says about one path in one window.
//!
//! All scores are quantised integers (parts per million, microseconds), so that recomputing a
//! finding from its evidence gives equal bytes.

use crate::id::PathId;
use crate::unit::{Micros, WallTime};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// What is wrong at the place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// Packets are lost.
    Loss,
    /// Packets are delayed beyond what is usual.
    Delay,
}

/// Where it is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Place {
    /// Between two answering addresses, or in the devices at its ends.
    Link {
        /// The last address without the fault; the agent's own at the first hop.
        #[serde(with = "text")]
        from: IpAddr,
        /// The first address with it.
        #[serde(with = "text")]
        to: IpAddr,
        /// Silent hops in between: the links around them cannot be told apart.
        silent_between: u8,
    },
}

/// Addresses as text in every encoding: inside an enum that is told apart by a tag, serde reads
/// binary formats as if they were human-readable.
pub(crate) mod text {
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serializer};
    use std::net::IpAddr;

    pub(crate) fn serialize<S: Serializer>(address: &IpAddr, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(address)
    }

    pub(crate) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<IpAddr, D::Error> {
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

/// One localization result.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// What.
    pub cause: Cause,
    /// Where it begins.
    pub place: Place,
    /// Probability of this cause at this place, in parts per million.
    pub confidence_ppm: u32,
    /// Carried loss as ratio in parts per million (cause loss).
    pub loss_ppm: u32,
    /// Added delay (cause delay).
    pub added_delay_us: Micros,
    /// The most probable accounts, best first, this one included.
    pub explanations: Vec<Explanation>,
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
    use crate::batch::{decode, encode};

    #[test]
    fn a_place_is_read_back_from_either_encoding() {
        for (from, to) in [("198.18.64.3", "198.18.64.4"), ("2001:db8::3", "2001:db8::4")] {
            let (from, to) = (from.parse().unwrap(), to.parse().unwrap());
            let place = Place::Link { from, to, silent_between: 1 };
            assert_eq!(decode::<Place>(&encode(&place)).unwrap(), place);
            let json = serde_json::to_string(&place).unwrap();
            assert!(json.contains(&format!("\"from\":\"{from}\"")), "{json}");
            assert_eq!(serde_json::from_str::<Place>(&json).unwrap(), place);
        }
    }
}
