//! Two-way measurement between agents: their sessions, and the results of each direction.

use crate::id::{AgentId, PairId};
use crate::quantile::quantile;
use crate::round::{Clocks, Lateness, StampSource};
use crate::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// The UDP port at which agents reflect.
pub const PORT: u16 = 59_862;
/// Packets of one round at most.
pub const MAX_PACKETS: u16 = 1_000;
/// Hops of a route between agents at most: hop limits that probes have.
pub const MAX_ROUTE_HOPS: usize = 64;

/// Leave for two agents to exchange packets, given by the service to each of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ticket {
    /// The pair.
    pub pair: PairId,
    /// The holder of this copy.
    pub holder: AgentId,
    /// What the holder does.
    pub role: Role,
    /// The other agent.
    pub peer: AgentId,
    /// Where the peer can be reached; for a reflector, where its sender seems to be.
    pub peer_address: IpAddr,
    /// The peer's port.
    pub peer_port: u16,
    /// True when the holder may stand behind address translation and has to send first.
    pub is_hidden: bool,
    /// The session's number (RFC 8972 section 3).
    pub session: u16,
    /// The session's key.
    pub key: [u8; 32],
    /// Code point of both directions.
    pub dscp: u8,
    /// Length of the whole IP packet in bytes.
    pub size_bytes: u16,
    /// From packet to packet in milliseconds, before jitter.
    pub interval_ms: u32,
    /// Packets of a round.
    pub packets: u16,
    /// Until when, by the service's clock.
    pub not_after: WallTime,
    /// When it is a voice-like stream instead.
    #[serde(default)]
    pub voice: Option<VoiceSlots>,
}

/// Whiles in which a session is a stream like that of a codec: packets of 20 ms of G.711 with their
/// headers, marked EF (RFC 3246).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct VoiceSlots {
    /// From one while to the next, in seconds; never by itself where 0.
    pub every_s: u32,
    /// How long, in seconds.
    pub for_s: u32,
    /// Until then anyway, by the service's clock.
    pub until: Option<WallTime>,
}

/// From packet to packet of a voice-like stream in milliseconds.
pub const VOICE_INTERVAL_MS: u32 = 20;
/// Length of its packets: 160 bytes of speech, and RTP, UDP and IPv4 headers.
const VOICE_SIZE: u16 = 200;
/// Expedited forwarding.
const VOICE_DSCP: u8 = 46;
/// Packets of a round of it: five seconds.
const VOICE_PACKETS: u16 = 250;

impl VoiceSlots {
    /// True within one of the whiles; `pair` spreads them.
    pub fn holds(&self, pair: PairId, now: WallTime) -> bool {
        if self.until.is_some_and(|until| now < until) {
            return true;
        }
        if self.every_s == 0 {
            return false;
        }
        let every = i64::from(self.every_s);
        let shift = i64::try_from(pair.as_uuid().as_u128() % u128::from(self.every_s)).unwrap_or(0);
        let second = now.as_unix_micros().div_euclid(1_000_000);
        second.saturating_add(shift).rem_euclid(every) < i64::from(self.for_s)
    }
}

impl Ticket {
    /// The session as it is now: a voice-like stream within its whiles, itself otherwise.
    #[must_use]
    pub fn at(&self, now: WallTime) -> Self {
        let mut ticket = self.clone();
        if ticket.voice.take().is_some_and(|voice| voice.holds(self.pair, now)) {
            ticket.interval_ms = VOICE_INTERVAL_MS;
            ticket.size_bytes = VOICE_SIZE;
            ticket.dscp = VOICE_DSCP;
            ticket.packets = VOICE_PACKETS;
        }
        ticket
    }
}

/// What an agent does in a session.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// It sends and measures.
    Sender,
    /// It answers.
    Reflector,
}

/// A ticket with the service's signature over its bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignedTicket {
    /// An encoded [`Ticket`].
    pub ticket: Vec<u8>,
    /// ECDSA over P-256 with SHA-256 (FIPS 186-5), in ASN.1, by the key that names agents.
    pub signature: Vec<u8>,
}

/// Rating of a direction for a use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Fitness {
    /// Users are satisfied.
    Fit,
    /// Some users complain.
    Strained,
    /// Not usable.
    Unfit,
}

/// One direction of a pair.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Direction {
    /// From the sender to the reflector.
    Forward,
    /// From the reflector to the sender.
    #[serde(alias = "back")]
    Return,
}

impl fmt::Display for Direction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Forward => "forward",
            Self::Return => "return",
        })
    }
}

/// One-way delays of a round, each with the difference of both clocks in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct OneWayDelay {
    /// The smallest, in microseconds: the delay plus what the far clock is ahead of the near one.
    pub min_us: i64,
    /// The median's distance from it in microseconds.
    pub p50_us: u32,
    /// The 95th percentile's distance: delay variation (RFC 5481 section 4.2).
    pub p95_us: u32,
    /// The largest one's distance.
    pub max_us: u32,
}

impl OneWayDelay {
    /// Of delays in microseconds; absent without any.
    pub fn of(mut delays_us: Vec<i64>) -> Option<Self> {
        delays_us.sort_unstable();
        let min_us = *delays_us.first()?;
        let over = |percent: usize| {
            let delay_us = quantile(&delays_us, percent, 100)?;
            Some(u32::try_from(delay_us - min_us).unwrap_or(u32::MAX))
        };
        Some(Self { min_us, p50_us: over(50)?, p95_us: over(95)?, max_us: over(100)? })
    }
}

/// What one direction of a round gave.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct OneWay {
    /// Packets that are known to have arrived.
    pub arrived: u16,
    /// Packets that are known to have been lost (RFC 7680).
    pub lost: u16,
    /// Copies beyond the first (RFC 5560).
    pub duplicated: u16,
    /// Packets that arrived after one sent later (RFC 4737).
    pub reordered: u16,
    /// Delays of those with an answer.
    pub delay: Option<OneWayDelay>,
    /// Code points as they arrived, with how often.
    pub dscp: Vec<(u8, u16)>,
    /// Packets that arrived marked "congestion experienced" (RFC 3168).
    pub congested: u16,
    /// Hop limit left on arrival, of the last packet.
    pub hop_limit: Option<u8>,
}

/// What is known of the peer's clock against one's own.
///
/// An asymmetry of the path looks like an offset: the truth lies between the bounds, no method can
/// say where (RFC 7679 section 3.7).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct PeerClock {
    /// The middle of what the offset can be: peer's clock minus ours, in microseconds.
    pub offset_us: i64,
    /// Half the width of what it can be.
    pub offset_error_us: u32,
    /// The middle of what the drift can be, in parts per thousand million; absent while too
    /// little has been seen.
    pub drift_ppb: Option<i32>,
    /// Half the width of what it can be.
    pub drift_error_ppb: Option<u32>,
    /// One of both clocks was set since the round before: delays are not comparable across.
    pub stepped: bool,
}

/// Packets of one session, in both directions.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TwoWayRound {
    /// The pair.
    pub pair: PairId,
    /// Consecutive number within pair and boot, from 0.
    pub number: u64,
    /// When it began, by the sender's clocks.
    pub clocks: Clocks,
    /// The sender's address as it knows it.
    pub source: IpAddr,
    /// Where it sent to.
    pub destination: IpAddr,
    /// Where the sender's stamps came from.
    pub stamps: StampSource,
    /// How late the sender's own program was; absent from agents that do not report it.
    #[serde(default)]
    pub lateness: Option<Lateness>,
    /// Code point as sent.
    pub dscp: u8,
    /// Packets that left.
    pub sent: u16,
    /// From packet to packet in milliseconds, before jitter; 0 from agents that do not say.
    #[serde(default)]
    pub interval_ms: u32,
    /// Runs of packets without an answer, in either direction, and the longest of them.
    #[serde(default)]
    pub bursts: u16,
    /// The longest of these runs.
    #[serde(default)]
    pub longest_burst: u16,
    /// Packets without an answer and with unknown direction of loss.
    pub undetermined: u16,
    /// From the sender to the reflector.
    pub forward: OneWay,
    /// From the reflector to the sender.
    #[serde(rename = "back")]
    pub return_: OneWay,
    /// Round-trip delay without the reflector's own time: smallest, median, 95th percentile, in
    /// microseconds.
    pub round_trip_us: Option<[u32; 3]>,
    /// The peer's clock; absent before the first answer.
    pub clock: Option<PeerClock>,
    /// How far apart both clocks may be where each says it is synchronised to UTC, in
    /// microseconds: only then is a one-way delay more than a change.
    pub synchronised_us: Option<u32>,
}

impl TwoWayRound {
    /// True for a round of a voice-like stream.
    pub const fn is_voice(&self) -> bool {
        self.interval_ms == VOICE_INTERVAL_MS && self.dscp == VOICE_DSCP
    }

    /// The bounds of a direction's smallest delay in microseconds: from what both clocks say of
    /// themselves, or from the exchange alone.
    pub fn delay_bounds_us(&self, direction: Direction) -> Option<(i64, i64)> {
        let (seen, sign) = match direction {
            Direction::Forward => (self.forward.delay?, 1),
            Direction::Return => (self.return_.delay?, -1),
        };
        let clock = self.clock?;
        let (middle, error) = match self.synchronised_us {
            Some(error) if error < clock.offset_error_us => (0, error),
            _ => (clock.offset_us, clock.offset_error_us),
        };
        let delay = seen.min_us.saturating_sub(sign * middle);
        Some((delay.saturating_sub(error.into()).max(0), delay.saturating_add(error.into())))
    }

    /// Why its counts cannot be; absent for one that may be believed.
    pub fn contradiction(&self) -> Option<&'static str> {
        let of = |one: &OneWay| u32::from(one.arrived) + u32::from(one.lost);
        let (forward, back) = (of(&self.forward), of(&self.return_));
        if self.bursts > self.sent || self.longest_burst > self.sent {
            Some("has more bursts than packets")
        } else if self.sent > MAX_PACKETS {
            Some("has more than 1,000 packets")
        } else if forward + u32::from(self.undetermined) != u32::from(self.sent)
            || back != u32::from(self.forward.arrived)
        {
            Some("has counts that contradict each other")
        } else if [&self.forward, &self.return_].iter().any(|one| one.dscp.len() > 64) {
            Some("has more code points than there are")
        } else {
            None
        }
    }
}

/// The route of a pair's packets in one direction, by hop sweeps of the agent that sends in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PairRoute {
    /// The pair.
    pub pair: PairId,
    /// The direction.
    pub direction: Direction,
    /// When it was measured, by the clocks of the agent that sends.
    pub clocks: Clocks,
    /// What answered, by hop limit from 1; absent where nothing did.
    pub hops: Vec<Option<IpAddr>>,
}

impl PairRoute {
    /// Why it cannot be; absent for one that may be believed.
    pub const fn contradiction(&self) -> Option<&'static str> {
        if self.hops.len() > MAX_ROUTE_HOPS { Some("has more hops than hop limits") } else { None }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn delays_are_given_above_the_smallest() {
        let delays = OneWayDelay::of((0..=100).map(|n| 5 - 70_000 + n * 10).collect()).unwrap();
        assert_eq!(
            delays,
            OneWayDelay { min_us: -69_995, p50_us: 500, p95_us: 950, max_us: 1_000 }
        );
        assert_eq!(OneWayDelay::of(Vec::new()), None);
    }
}
