//! Measurements of a path summed up over some time: counts and quantiles of delay.
//!
//! Rollups are sums: they can be merged in any order, and late rounds are added like others.

use crate::delay_class::{class_of, middle_of, percentile};
use crate::round::{HopCounts, Lateness, StampSource};
use serde::{Deserialize, Serialize};

/// Length of a rollup.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, strum::VariantArray, strum::FromRepr,
)]
#[repr(i32)]
pub enum RollupSpan {
    /// Five minutes.
    FiveMinutes = 300,
    /// An hour.
    Hour = 3_600,
    /// A day (UTC).
    Day = 86_400,
}

impl RollupSpan {
    /// In seconds.
    pub const fn seconds(self) -> i32 {
        self as i32
    }

    /// The beginning of the rollup that holds a time, both in seconds since 1970.
    pub const fn start_of(self, unix_seconds: i64) -> i64 {
        unix_seconds - unix_seconds.rem_euclid(self as i64)
    }

    /// The longest that gives a range of so many seconds at least 200 points, or the shortest.
    pub const fn fit_for(seconds: i64) -> Self {
        const POINTS: i64 = 200;
        if seconds >= POINTS * Self::Day as i64 {
            Self::Day
        } else if seconds >= POINTS * Self::Hour as i64 {
            Self::Hour
        } else {
            Self::FiveMinutes
        }
    }
}

/// A delay that may be wrong by more than this says nothing of the usual delay, in microseconds.
const EXACT_US: u32 = 2_000;

/// What the rounds of a path gave at its far end over some time.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Rollup {
    /// Rounds.
    pub rounds: u32,
    /// Probes sent to the far end.
    pub sent: u32,
    /// Of those, the ones without an answer.
    pub lost: u32,
    /// Round-trip delays: class and number, in order of class.
    delays: Vec<(u16, u32)>,
}

impl Rollup {
    /// Adds a round by its last hop. Where the agent's own program was too late to read every
    /// answer, no loss counts; delays that may be wrong by more than 2 ms are left out.
    pub fn add(&mut self, end: &HopCounts, stamps: StampSource, lateness: Option<Lateness>) {
        // A late answer shows that the packet was carried.
        let heard = u32::from(end.answers()) + u32::from(end.late);
        let sent = u32::from(end.sent);
        let hides_answers = lateness.is_some_and(|lateness| lateness.hides_answers(stamps));
        self.rounds = self.rounds.saturating_add(1);
        self.sent = self.sent.saturating_add(if hides_answers { sent.min(heard) } else { sent });
        let lost = if hides_answers { 0 } else { sent.saturating_sub(heard) };
        self.lost = self.lost.saturating_add(lost);
        if lateness.is_none_or(|lateness| lateness.delay_error_us(stamps) <= EXACT_US) {
            for rtt in &end.rtt {
                self.count(class_of(rtt.as_micros()), 1);
            }
        }
    }

    /// Adds all of another.
    pub fn merge(&mut self, other: &Self) {
        self.rounds = self.rounds.saturating_add(other.rounds);
        self.sent = self.sent.saturating_add(other.sent);
        self.lost = self.lost.saturating_add(other.lost);
        for (class, number) in &other.delays {
            self.count(*class, *number);
        }
    }

    fn count(&mut self, class: u16, number: u32) {
        match self.delays.binary_search_by_key(&class, |(known, _)| *known) {
            Ok(index) => {
                let known = &mut self.delays[index].1;
                *known = known.saturating_add(number);
            }
            Err(index) => self.delays.insert(index, (class, number)),
        }
    }

    /// A quantile of the round-trip delay in microseconds, by nearest rank, wrong by 0.8 % at most;
    /// absent without answers.
    pub fn delay_us(&self, percent: u8) -> Option<u32> {
        percentile(self.delays.iter().copied(), percent).map(middle_of)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantile::quantile;
    use crate::unit::Micros;
    use proptest::prelude::*;
    use strum::VariantArray;

    fn hop(delays: &[u32], sent: u8) -> HopCounts {
        let answered = (1_u16 << delays.len()) - 1;
        let rtt = delays.iter().map(|us| Micros::new(*us)).collect();
        HopCounts { sent, answered, rtt, ..HopCounts::default() }
    }

    fn of(hops: &[HopCounts]) -> Rollup {
        let mut rollup = Rollup::default();
        hops.iter().for_each(|hop| rollup.add(hop, StampSource::Kernel, None));
        rollup
    }

    #[test]
    fn loss_and_delay_that_are_the_agents_own_do_not_count() {
        let mut rollup = of(&[hop(&[900, 1_100], 3)]);
        assert_eq!((rollup.rounds, rollup.sent, rollup.lost), (1, 3, 1));
        let lateness = Some(Lateness { timer_us: 0, read_us: 200_000, link_us: 0 });
        rollup.add(&hop(&[200_900], 3), StampSource::Program, lateness);
        assert_eq!((rollup.rounds, rollup.sent, rollup.lost), (2, 4, 1));
        assert!(rollup.delay_us(100).unwrap() < 1_200, "200 ms were the agent's own");
        assert_eq!(Rollup::default().delay_us(50), None);
    }

    #[test]
    fn a_range_gets_the_longest_rollups_that_draw_a_curve() {
        let (day, year) = (86_400, 365 * 86_400);
        let spans = [600, day, 9 * day, 60 * day, year].map(RollupSpan::fit_for);
        use RollupSpan::{Day, FiveMinutes, Hour};
        assert_eq!(spans, [FiveMinutes, FiveMinutes, Hour, Hour, Day]);
        assert_eq!(Hour.start_of(7_300), 7_200);
        assert_eq!(Day.start_of(-1), -86_400);
        for span in RollupSpan::VARIANTS {
            assert_eq!(RollupSpan::from_repr(span.seconds()), Some(*span));
        }
    }

    proptest! {
        #[test]
        fn any_order_and_any_division_give_the_same_quantiles(
            rounds in prop::collection::vec(prop::collection::vec(1u32..2_000_000, 0..10), 1..40),
            at in 0usize..40,
        ) {
            let hops: Vec<HopCounts> = rounds.iter().map(|delays| hop(delays, 10)).collect();
            let whole = of(&hops);
            let (first, rest) = hops.split_at(at.min(hops.len()));
            let mut merged = of(rest);
            merged.merge(&of(first));
            prop_assert_eq!(&merged, &whole);
            let mut exact: Vec<u32> = rounds.concat();
            exact.sort_unstable();
            for percent in [5u8, 50, 95] {
                let exact = quantile(&exact, percent.into(), 100);
                let about = whole.delay_us(percent);
                prop_assert_eq!(exact.is_some(), about.is_some());
                if let (Some(exact), Some(about)) = (exact, about) {
                    prop_assert!(f64::from(exact.abs_diff(about)) <= f64::from(exact) * 0.009 + 1.0);
                }
            }
        }
    }
}
