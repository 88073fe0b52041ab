//! A round: one sweep over all hops of a path at one time.

use crate::id::{BootId, ContentId, PathId};
use crate::unit::{Micros, Tick, WallTime};
use serde::{Deserialize, Serialize};

/// Where send and receive stamps came from; it bounds how exact a delay can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StampSource {
    /// The program's clock around the system calls.
    Program,
    /// The kernel's stamps in both directions, as packets pass its network drivers.
    Kernel,
    /// The clock of the simulation, in both directions: virtual time, or the times at which a simulated
    /// link took and delivered packets.
    Virtual,
}

impl StampSource {
    /// Its name in data.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Program => "program",
            Self::Kernel => "kernel",
            Self::Virtual => "virtual",
        }
    }
}

/// How late the agent's own program was while a round lasted: the longest of each kind. A program
/// that waits for a processor stamps packets late, or reads answers late.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Lateness {
    /// From the time at which a timer was due to the time at which it was served, in microseconds.
    pub timer_us: u32,
    /// From the stamp of a received packet to the time at which the program read it, in microseconds.
    pub read_us: u32,
    /// From the time at which the simulated link should have delivered a packet to the time at
    /// which it did, in microseconds. 0 on real links.
    pub link_us: u32,
}

/// At this lateness a round may end before its answers are read. A round waits at least 400 ms for
/// an answer, and then as long again for a late one.
const HIDES_ANSWERS_US: u32 = 200_000;

impl Lateness {
    /// The larger of each kind.
    #[must_use]
    pub fn max(self, other: Self) -> Self {
        Self {
            timer_us: self.timer_us.max(other.timer_us),
            read_us: self.read_us.max(other.read_us),
            link_us: self.link_us.max(other.link_us),
        }
    }

    /// How late a packet may have been sent or read at most, in microseconds.
    pub fn worst_us(self) -> u32 {
        self.timer_us.max(self.read_us.saturating_add(self.link_us))
    }

    /// How much of a measured delay may be the program's own lateness. None of it where the kernel
    /// or the simulated link stamps packets in both directions.
    pub fn delay_error_us(self, stamps: StampSource) -> u32 {
        match stamps {
            StampSource::Kernel | StampSource::Virtual => 0,
            StampSource::Program => self.worst_us(),
        }
    }

    /// True when an answer may have arrived in time and was not read before the round ended. Not
    /// on kernel sockets with stamps in both directions: the kernel keeps answers until they are read.
    pub fn hides_answers(self, stamps: StampSource) -> bool {
        match stamps {
            StampSource::Kernel => false,
            StampSource::Virtual | StampSource::Program => self.worst_us() >= HIDES_ANSWERS_US,
        }
    }
}

/// The clocks of a round's start, as the agent had them.
///
/// The service's time of receipt is the batch's and orders the log; these do not.
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
    /// "Unreachable" answers by ICMP code: a node refused, the target was not reached.
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
    /// Further content of the answers; absent from agents that do not report it.
    #[serde(default)]
    pub reading: Option<ContentId>,
    /// Hop limit at which the target itself answered; absent when it did not.
    pub reached_at: Option<u8>,
    /// Where the delays' stamps came from.
    pub stamps: StampSource,
    /// How late the agent's own program was; absent from agents that do not report it.
    #[serde(default)]
    pub lateness: Option<Lateness>,
    /// By hop limit from 1.
    pub hops: Vec<HopCounts>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lateness_matters_only_where_the_program_stamps() {
        let late = Lateness { timer_us: 90_000, read_us: 150_000, link_us: 60_000 };
        let of = |stamps| (late.delay_error_us(stamps), late.hides_answers(stamps));
        assert_eq!(of(StampSource::Program), (210_000, true));
        assert_eq!(of(StampSource::Virtual), (0, true));
        assert_eq!(of(StampSource::Kernel), (0, false));
        assert!(!Lateness { link_us: 49_999, ..late }.hides_answers(StampSource::Program));
    }
}
