//! What is remembered of a path: counts by window of time, by route.
//!
//! The content does not depend on the order in which rounds arrive: rounds are added to the
//! window of their own time, and everything judged is computed from windows alone. So late
//! rounds correct history, and a shuffled log ends in the same findings.

use crate::delays::Delays;
use itinera_model::id::ContentId;
use itinera_model::round::{HopCounts, Lateness, StampSource};
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Length of a window in microseconds.
pub const WINDOW_US: i64 = 10_000_000;
/// Late delays kept for a hop in a window, chosen without regard to their size.
const MAX_LATE: usize = 32;

/// A delay that may be wrong by more than this is kept with its error, and says nothing of what is
/// usual. A busy but healthy program stays well below it.
const EXACT_US: u32 = 2_000;

/// How exact a round is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Exactness {
    /// How much shorter a delay may have been than measured, in microseconds.
    delay_error_us: u32,
    /// An unanswered probe may have been answered.
    hides_answers: bool,
}

impl Exactness {
    pub(crate) fn of(stamps: StampSource, lateness: Option<Lateness>) -> Self {
        lateness.map_or_else(Self::default, |lateness| Self {
            delay_error_us: lateness.delay_error_us(stamps),
            hides_answers: lateness.hides_answers(stamps),
        })
    }
}

/// A delay of a round in which the agent's own program was late.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub(crate) struct LateDelay {
    /// As measured.
    pub(crate) at_most_us: u32,
    /// As it may have been.
    pub(crate) at_least_us: u32,
}

impl LateDelay {
    /// The delay within its bounds that departs least from what is usual.
    pub(crate) fn toward(self, usual_us: u32) -> u32 {
        usual_us.clamp(self.at_least_us, self.at_most_us)
    }

    /// A number that decides which delays are kept: the same for equal ones, and as good as random.
    /// (The finaliser of SplitMix64.)
    fn draw(self) -> (u64, Self) {
        let mut mixed = (u64::from(self.at_most_us) << 32) | u64::from(self.at_least_us);
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        (mixed ^ (mixed >> 31), self)
    }
}

/// Index of the window that holds an instant.
pub(crate) const fn window_of(at: WallTime) -> i64 {
    at.as_unix_micros().div_euclid(WINDOW_US)
}

/// End of a window.
pub(crate) const fn end_of(window: i64) -> WallTime {
    WallTime::from_unix_micros((window + 1).saturating_mul(WINDOW_US))
}

/// One window of a path.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(crate) struct Window {
    pub(crate) routes: BTreeMap<ContentId, RouteCounts>,
    /// A finding was made here.
    pub(crate) found: bool,
    /// A finding was made here or near: it is not learned as usual.
    pub(crate) flagged: bool,
}

/// Counts of the rounds in a window that saw one route.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(crate) struct RouteCounts {
    pub(crate) rounds: u32,
    /// Newest round counted, to tell which route is the present one.
    pub(crate) newest: u64,
    pub(crate) addresses: Vec<Option<IpAddr>>,
    pub(crate) hops: Vec<HopWindow>,
}

/// Counts of one hop in a window.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(crate) struct HopWindow {
    pub(crate) sent: u32,
    pub(crate) lost: u32,
    pub(crate) delays: Delays,
    /// Delays that may be wrong, in the order of [`LateDelay::draw`]; the first ones when there are
    /// too many.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) late_delays: Vec<LateDelay>,
}

impl HopWindow {
    fn add(&mut self, counts: &HopCounts, exactness: Exactness) {
        // A late answer shows that the packet was carried: not lost.
        let heard = u32::from(counts.answers()) + u32::from(counts.late);
        let sent = u32::from(counts.sent);
        self.sent += if exactness.hides_answers { sent.min(heard) } else { sent };
        self.lost += if exactness.hides_answers { 0 } else { sent.saturating_sub(heard) };
        for rtt in &counts.rtt {
            let us = rtt.as_micros();
            if exactness.delay_error_us > EXACT_US {
                let at_least_us = us.saturating_sub(exactness.delay_error_us);
                let late = LateDelay { at_most_us: us, at_least_us };
                let at = self.late_delays.partition_point(|known| known.draw() <= late.draw());
                self.late_delays.insert(at, late);
            } else {
                self.delays.add(us);
            }
        }
        self.late_delays.truncate(MAX_LATE);
    }

    /// Adds the counts and delays of others.
    pub(crate) fn merge(&mut self, others: &[&Self]) {
        for other in others {
            self.sent += other.sent;
            self.lost += other.lost;
            self.late_delays.extend(&other.late_delays);
        }
        let own = std::mem::take(&mut self.delays);
        let all = others.iter().map(|other| &other.delays).chain([&own]);
        self.delays = Delays::merged(all, []);
    }
}

impl Window {
    pub(crate) fn add(
        &mut self,
        route: ContentId,
        addresses: &[Option<IpAddr>],
        number: u64,
        hops: &[HopCounts],
        exactness: Exactness,
    ) {
        let entry = self.routes.entry(route).or_default();
        entry.rounds += 1;
        entry.newest = entry.newest.max(number);
        if entry.addresses.is_empty() {
            entry.addresses = addresses.to_vec();
        }
        if entry.hops.len() < hops.len() {
            entry.hops.resize_with(hops.len(), HopWindow::default);
        }
        for (mine, counts) in entry.hops.iter_mut().zip(hops) {
            mine.add(counts, exactness);
        }
    }

    /// Its routes, that of its newest round first.
    pub(crate) fn newest_first(&self) -> Vec<&RouteCounts> {
        let mut routes: Vec<&RouteCounts> = self.routes.values().collect();
        routes.sort_by_key(|counts| std::cmp::Reverse(counts.newest));
        routes
    }
}

/// True when two routes can be the same route: no contradicting address, and equal length or
/// nothing but silence behind the end of the shorter one. So a round that gets no further than some
/// hop counts for the known route. Where routes part behind that hop it counts for each of them:
/// the packets were lost before they part.
pub(crate) fn compatible(a: &[Option<IpAddr>], b: &[Option<IpAddr>]) -> bool {
    let (short, long) = if a.len() <= b.len() { (a, b) } else { (b, a) };
    let (common, behind) = long.split_at(short.len());
    let ends_there =
        behind.is_empty() || (reaches_target(short) && !behind.iter().any(Option::is_some));
    ends_there
        && short.iter().zip(common).all(|(a, b)| !matches!((a, b), (Some(a), Some(b)) if a != b))
}

/// True when a route ends with an answer. Where the target does not answer, agents probe beyond the
/// last router that does, so such routes end in silence.
pub(crate) fn reaches_target(route: &[Option<IpAddr>]) -> bool {
    route.last().is_some_and(Option::is_some)
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::unit::Micros;

    #[test]
    fn late_answers_are_not_lost_and_delays_stay_sorted() {
        let counts = HopCounts {
            sent: 4,
            answered: 0b11,
            rtt: vec![Micros::new(30), Micros::new(10)],
            late: 1,
            ..HopCounts::default()
        };
        let mut hop = HopWindow::default();
        hop.add(&counts, Exactness::default());
        assert_eq!((hop.sent, hop.lost), (4, 1));
        assert_eq!(hop.delays, [10, 30].into_iter().collect());
    }

    #[test]
    fn windows_before_1970_are_numbered_downward() {
        assert_eq!(window_of(WallTime::from_unix_micros(-1)), -1);
        assert_eq!(end_of(-1), WallTime::from_unix_micros(0));
    }
}
