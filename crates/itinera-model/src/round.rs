//! A round: one sweep over all hops of a path at one time.

use crate::id::{BootId, ContentId, PathId};
use crate::unit::{Micros, Tick, WallTime};
use serde::{Deserialize, Serialize};

/// Where send and receive stamps came from; it bounds how exact a delay can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StampSource {
    /// The program's clock around the system calls.
    Program,
    /// The kernel's stamps of both ways, as packets pass its network drivers.
    Kernel,
    /// The simulation's own virtual clock.
    Virtual,
}

/// The clocks of a round's start, as the agent had them.
///
/// The service's time of receipt is the batch's and orders the record; these do not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Clocks {
    /// The agent's run.
    pub boot: BootId,
    /// Monotonic time within that run.
    pub tick: Tick,
    /// The agent's wall clock, as wrong as it may be.
    pub wall: WallTime,
    /// Estimated service clock minus agent clock in microseconds; absent before the first
    /// exchange.
    pub offset_us: Option<i64>,
    /// Bound of that estimate's error in microseconds.
    pub offset_error_us: Option<u32>,
}

impl Clocks {
    /// The wall time corrected by the estimated offset.
    pub fn corrected_wall(&self) -> WallTime {
        self.wall.plus_micros(self.offset_us.unwrap_or(0))
    }
}

/// What one hop limit of a round gave. Late, duplicate and refusing answers are kept apart.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct HopCounts {
    /// Probes that left.
    pub sent: u8,
    /// Bit i is set when probe i was answered in time.
    pub answered: u16,
    /// Round-trip delay of each answer in time, in probe order: as many as bits are set.
    pub rtt: Vec<Micros>,
    /// Answers after the timeout but before the round was settled.
    pub late: u8,
    /// Further answers to a probe already answered.
    pub duplicate: u8,
    /// Answers in time from another address than the route's at this hop.
    pub elsewhere: u8,
    /// Answers that came in another order than their probes had left (RFC 4737).
    pub reordered: u8,
    /// Answers that could belong to more than one probe, and so count for none.
    pub ambiguous: u8,
    /// "Unreachable" answers by ICMP code: somebody refused, the target was not reached.
    pub unreachable: Vec<(u8, u8)>,
}

impl HopCounts {
    /// Number of answers in time.
    pub fn answers(&self) -> u8 {
        u8::try_from(self.answered.count_ones()).unwrap_or(u8::MAX)
    }
}

/// One sweep over all hops of a path.
///
/// References intent (`path`), header (`flow`), name (`resolution`) and what was seen
/// (`route`); none stands for another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Round {
    /// The path measured.
    pub path: PathId,
    /// Consecutive number within path and boot, from 0. Every number issued is reported.
    pub number: u64,
    /// When, by the agent's clocks.
    pub clocks: Clocks,
    /// Header fields used.
    pub flow: ContentId,
    /// Address the target stood for.
    pub resolution: ContentId,
    /// Route seen.
    pub route: ContentId,
    /// What the answers said besides; absent from agents that do not report it.
    #[serde(default)]
    pub reading: Option<ContentId>,
    /// Hop limit at which the target itself answered; absent when it did not.
    pub reached_at: Option<u8>,
    /// Where the delays' stamps came from.
    pub stamps: StampSource,
    /// By hop limit from 1.
    pub hops: Vec<HopCounts>,
}
