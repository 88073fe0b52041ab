//! Measurements of a path or a pair summed up over some time: counts and quantiles of delay.
//!
//! Rollups are sums: they can be merged in any order, and late rounds are added like others.

use crate::delay_class::{class_of, middle_of, percentile};
use crate::round::{HopCounts, Lateness, StampSource};
use crate::two_way::{Direction, OneWay, TwoWayRound};
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
    /// Round-trip delays.
    delays: DelayCounts,
}

/// How many delays were of each class, in order of class.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
struct DelayCounts(Vec<(u16, u32)>);

impl DelayCounts {
    fn count(&mut self, class: u16, number: u32) {
        match self.0.binary_search_by_key(&class, |(known, _)| *known) {
            Ok(index) => {
                let known = &mut self.0[index].1;
                *known = known.saturating_add(number);
            }
            Err(index) => self.0.insert(index, (class, number)),
        }
    }

    fn merge(&mut self, other: &Self) {
        for (class, number) in &other.0 {
            self.count(*class, *number);
        }
    }

    fn percentile_us(&self, percent: u8) -> Option<u32> {
        percentile(self.0.iter().copied(), percent).map(middle_of)
    }
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
                self.delays.count(class_of(rtt.as_micros()), 1);
            }
        }
    }

    /// Adds all of another.
    pub fn merge(&mut self, other: &Self) {
        self.rounds = self.rounds.saturating_add(other.rounds);
        self.sent = self.sent.saturating_add(other.sent);
        self.lost = self.lost.saturating_add(other.lost);
        self.delays.merge(&other.delays);
    }

    /// A quantile of the round-trip delay in microseconds, by nearest rank, wrong by 0.8 % at most;
    /// absent without answers.
    pub fn delay_us(&self, percent: u8) -> Option<u32> {
        self.delays.percentile_us(percent)
    }
}

/// What the rounds of a pair gave over some time, each direction by itself.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct PairRollup {
    /// Rounds.
    pub rounds: u32,
    /// Packets sent.
    pub sent: u32,
    /// Packets without an answer and with unknown direction of loss.
    pub undetermined: u32,
    /// From the sender to the reflector.
    pub forward: DirectionRollup,
    /// From the reflector to the sender.
    pub return_: DirectionRollup,
}

/// One direction of a pair.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct DirectionRollup {
    /// Packets that arrived.
    pub arrived: u32,
    /// Packets that were lost.
    pub lost: u32,
    /// Packets that came after one sent later.
    pub reordered: u32,
    /// Bounds of the smallest delay in microseconds, those with the lowest upper one; absent where
    /// nothing is known of the clocks.
    pub floor_us: Option<(i64, i64)>,
    /// Delay variations of rounds: the 95th percentile above the smallest.
    variations: DelayCounts,
}

impl DirectionRollup {
    fn add(&mut self, one: &OneWay, bounds_us: Option<(i64, i64)>) {
        self.merge(&Self {
            arrived: one.arrived.into(),
            lost: one.lost.into(),
            reordered: one.reordered.into(),
            floor_us: bounds_us,
            variations: DelayCounts::default(),
        });
        if let Some(delay) = one.delay {
            self.variations.count(class_of(delay.p95_us), 1);
        }
    }

    fn merge(&mut self, other: &Self) {
        self.arrived = self.arrived.saturating_add(other.arrived);
        self.lost = self.lost.saturating_add(other.lost);
        self.reordered = self.reordered.saturating_add(other.reordered);
        let floors = self.floor_us.into_iter().chain(other.floor_us);
        self.floor_us = floors.min_by_key(|(low, high)| (*high, *low));
        self.variations.merge(&other.variations);
    }

    /// A quantile over the rounds of the delay variation (RFC 5481) in microseconds, wrong by 0.8 % at
    /// most; absent without delays.
    pub fn variation_us(&self, percent: u8) -> Option<u32> {
        self.variations.percentile_us(percent)
    }
}

impl PairRollup {
    /// Adds a round. One in which the sender's own program was too late to read every answer is
    /// counted as a round only.
    pub fn add(&mut self, round: &TwoWayRound) {
        let hides = round.lateness.is_some_and(|lateness| lateness.hides_answers(round.stamps));
        self.rounds = self.rounds.saturating_add(1);
        if hides {
            return;
        }
        self.sent = self.sent.saturating_add(round.sent.into());
        self.undetermined = self.undetermined.saturating_add(round.undetermined.into());
        self.forward.add(&round.forward, round.delay_bounds_us(Direction::Forward));
        self.return_.add(&round.return_, round.delay_bounds_us(Direction::Return));
    }

    /// Adds all of another.
    pub fn merge(&mut self, other: &Self) {
        self.rounds = self.rounds.saturating_add(other.rounds);
        self.sent = self.sent.saturating_add(other.sent);
        self.undetermined = self.undetermined.saturating_add(other.undetermined);
        self.forward.merge(&other.forward);
        self.return_.merge(&other.return_);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::id::{BootId, PairId};
    use crate::quantile::quantile;
    use crate::round::Clocks;
    use crate::two_way::{OneWayDelay, PeerClock};
    use crate::unit::{Micros, Tick, WallTime};
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

    fn pair_round(number: u16) -> TwoWayRound {
        let one_way = |lost: u16, p95_us: u32| OneWay {
            arrived: 20 - lost,
            lost,
            reordered: number % 3,
            delay: Some(OneWayDelay {
                min_us: 9_000 + i64::from(number),
                p50_us: 10,
                p95_us,
                max_us: 900,
            }),
            ..OneWay::default()
        };
        TwoWayRound {
            pair: PairId::from_uuid(uuid::Uuid::nil()),
            number: number.into(),
            clocks: Clocks {
                boot: BootId::from_uuid(uuid::Uuid::nil()),
                tick: Tick::default(),
                wall: WallTime::default(),
                offset_us: None,
                offset_error_us: None,
            },
            source: [10, 1, 0, 2].into(),
            destination: [10, 2, 0, 2].into(),
            stamps: StampSource::Program,
            lateness: None,
            dscp: 0,
            sent: 20,
            interval_ms: 100,
            bursts: 0,
            longest_burst: 0,
            undetermined: 0,
            forward: one_way(number % 2, 100),
            return_: one_way(0, 4_000),
            round_trip_us: None,
            clock: Some(PeerClock {
                offset_us: 200,
                offset_error_us: 50,
                drift_ppb: None,
                drift_error_ppb: None,
                stepped: false,
            }),
            synchronised_us: None,
        }
    }

    #[test]
    fn directions_of_a_pair_are_summed_up_apart_in_any_order() {
        let rounds: Vec<TwoWayRound> = (0..10).map(pair_round).collect();
        let of = |rounds: &[TwoWayRound]| {
            let mut rollup = PairRollup::default();
            rounds.iter().for_each(|round| rollup.add(round));
            rollup
        };
        let whole = of(&rounds);
        assert_eq!((whole.rounds, whole.sent), (10, 200));
        assert_eq!((whole.forward.arrived, whole.forward.lost, whole.return_.lost), (195, 5, 0));
        assert_eq!(whole.forward.floor_us, Some((8_750, 8_850)), "of the first round");
        let variations = (whole.forward.variation_us(50), whole.return_.variation_us(95));
        assert!(variations.0 < Some(102) && variations.1 > Some(3_900), "{variations:?}");
        let mut merged = of(&rounds[7..]);
        merged.merge(&of(&rounds[..7]));
        assert_eq!(merged, whole);

        let mut late = rounds[1].clone();
        late.lateness = Some(Lateness { timer_us: 0, read_us: 500_000, link_us: 0 });
        merged.add(&late);
        assert_eq!((merged.rounds, merged.sent, merged.forward.lost), (11, 200, 5));
    }
}
