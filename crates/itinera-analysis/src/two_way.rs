//! Summaries of two-way measurement, in numbers and words.

use itinera_model::finding::LossCounts;
use itinera_model::note::{Disorder, Note, PacketCount, PairCounts, PairDscp, PairLoss};
use itinera_model::quantile::median;
use itinera_model::two_way::{Direction, OneWay, TwoWayRound};

/// A share of loss below this is not remarked on by words alone.
const REMARKABLE: f64 = 0.005;
/// Fewer packets than this say nothing about a share.
const ENOUGH: u32 = 50;

/// One direction over some time.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct DirectionSummary {
    /// Packets that arrived.
    pub arrived: u32,
    /// Packets that were lost.
    pub lost: u32,
    /// Copies beyond the first.
    pub duplicated: u32,
    /// Packets that came after one sent later.
    pub reordered: u32,
    /// Packets that arrived marked as having met congestion.
    pub congested: u32,
    /// Bounds of the smallest delay in microseconds, by the newest round.
    pub delay_bounds_us: Option<(i64, i64)>,
    /// Median of the rounds' delay variation, 95th percentile above the smallest, in
    /// microseconds (RFC 5481).
    pub variation_us: Option<u32>,
    /// Code points on arrival, the most frequent first.
    pub dscp: Vec<(u8, u32)>,
    /// Links passed, where packets bear the largest hop limit at first.
    pub hops: Option<u8>,
}

impl DirectionSummary {
    /// Share lost of what is known; nothing without a packet.
    pub fn loss_ratio(&self) -> Option<f64> {
        let all = self.arrived + self.lost;
        (all > 0).then(|| f64::from(self.lost) / f64::from(all))
    }
}

/// Both directions over some time.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct TwoWaySummary {
    /// Rounds regarded.
    pub rounds: u32,
    /// Packets sent.
    pub sent: u32,
    /// Packets without an answer and with unknown direction of loss.
    pub undetermined: u32,
    /// From the sender to the reflector.
    pub forward: DirectionSummary,
    /// From the reflector to the sender.
    pub return_: DirectionSummary,
    /// Median of the rounds' median round-trip delay in microseconds.
    pub round_trip_us: Option<u32>,
    /// The far clock minus the near one and the bound of that, by the newest round, in
    /// microseconds.
    pub offset_us: Option<(i64, u32)>,
    /// Its drift and the bound of that, in parts per thousand million.
    pub drift_ppb: Option<(i32, u32)>,
    /// Both clocks say they are synchronised: delays are absolute within their bounds.
    pub is_synchronised: bool,
    /// A clock was set within the time.
    pub stepped: bool,
}

/// Sums rounds up, given from the oldest to the newest.
pub fn summary(rounds: &[TwoWayRound]) -> TwoWaySummary {
    let sum = |of: fn(&TwoWayRound) -> u16| rounds.iter().map(|r| u32::from(of(r))).sum();
    let newest = rounds.iter().rev().find_map(|round| round.clock.map(|clock| (round, clock)));
    let trips = rounds.iter().filter_map(|round| round.round_trip_us.map(|[_, middle, _]| middle));
    TwoWaySummary {
        rounds: u32::try_from(rounds.len()).unwrap_or(u32::MAX),
        sent: sum(|round| round.sent),
        undetermined: sum(|round| round.undetermined),
        forward: direction_summary(rounds, Direction::Forward),
        return_: direction_summary(rounds, Direction::Return),
        round_trip_us: median(trips),
        offset_us: newest.map(|(_, clock)| (clock.offset_us, clock.offset_error_us)),
        drift_ppb: newest.and_then(|(_, clock)| clock.drift_ppb.zip(clock.drift_error_ppb)),
        is_synchronised: newest.is_some_and(|(round, _)| round.synchronised_us.is_some()),
        stepped: rounds.iter().any(|round| round.clock.is_some_and(|clock| clock.stepped)),
    }
}

fn direction_summary(rounds: &[TwoWayRound], direction: Direction) -> DirectionSummary {
    let of = |round: &TwoWayRound| match direction {
        Direction::Forward => round.forward.clone(),
        Direction::Return => round.return_.clone(),
    };
    let directions: Vec<OneWay> = rounds.iter().map(of).collect();
    let sum =
        |of: fn(&OneWay) -> u16| directions.iter().map(|direction| u32::from(of(direction))).sum();
    let mut dscp: Vec<(u8, u32)> = Vec::new();
    for (value, count) in directions.iter().flat_map(|direction| direction.dscp.iter().copied()) {
        match dscp.iter_mut().find(|(known, _)| *known == value) {
            Some((_, known)) => *known += u32::from(count),
            None => dscp.push((value, count.into())),
        }
    }
    dscp.sort_by_key(|(value, count)| (std::cmp::Reverse(*count), *value));
    let variation =
        directions.iter().filter_map(|direction| direction.delay.map(|delay| delay.p95_us));
    DirectionSummary {
        arrived: sum(|direction| direction.arrived),
        lost: sum(|direction| direction.lost),
        duplicated: sum(|direction| direction.duplicated),
        reordered: sum(|direction| direction.reordered),
        congested: sum(|direction| direction.congested),
        delay_bounds_us: rounds.iter().rev().find_map(|round| round.delay_bounds_us(direction)),
        variation_us: median(variation),
        dscp,
        hops: directions
            .iter()
            .rev()
            .find_map(|direction| direction.hop_limit)
            .map(|left| 255 - left),
    }
}

/// Notes on both directions: `near` sends, `far` reflects, packets are sent with `dscp`.
pub fn notes(both: &TwoWaySummary, near: &str, far: &str, dscp: u8) -> Vec<Note> {
    let (near, far) = (near.to_owned(), far.to_owned());
    if both.sent == 0 {
        return vec![Note::NothingExchanged];
    }
    if both.forward.arrived == 0 && both.return_.arrived == 0 {
        return vec![Note::PairUnreachable(PairCounts { near, far, sent: both.sent })];
    }
    let mut notes = vec![loss_note(both, &near, &far)];
    if both.undetermined > 0 {
        notes.push(Note::DirectionUnknown(PacketCount { packets: both.undetermined }));
    }
    for (direction, from, to) in [(&both.forward, &near, &far), (&both.return_, &far, &near)] {
        let (from, to) = (from.clone(), to.clone());
        if let Some((arrived, _)) = direction.dscp.first().filter(|(seen, _)| *seen != dscp) {
            let (from, to, arrived) = (from.clone(), to.clone(), *arrived);
            notes.push(Note::PairDscpRewritten(PairDscp { from, to, sent: dscp, arrived }));
        }
        let DirectionSummary { duplicated, reordered, arrived, .. } = *direction;
        if duplicated > 0 || reordered > 0 {
            let disorder = Disorder { from, to, duplicated, reordered, arrived };
            notes.push(Note::PacketsDisordered(disorder));
        }
    }
    if both.stepped {
        notes.push(Note::ClockSet);
    }
    if !both.is_synchronised {
        notes.push(Note::ClocksNotSynchronised);
    }
    notes
}

fn loss_note(both: &TwoWaySummary, near: &str, far: &str) -> Note {
    let counts = |direction: &DirectionSummary| LossCounts {
        sent: direction.arrived + direction.lost,
        lost: direction.lost,
    };
    let lossy = |direction: &DirectionSummary| {
        direction.arrived + direction.lost >= ENOUGH
            && direction.loss_ratio().is_some_and(|ratio| ratio >= REMARKABLE)
    };
    let loss = PairLoss {
        near: near.to_owned(),
        far: far.to_owned(),
        forward: counts(&both.forward),
        return_: counts(&both.return_),
    };
    match (lossy(&both.forward), lossy(&both.return_)) {
        (true, false) => Note::PairLossForward(loss),
        (false, true) => Note::PairLossReturn(loss),
        (true, true) => Note::PairLossBoth(loss),
        (false, false) => Note::PairLossNone(loss),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::{BootId, PairId};
    use itinera_model::round::{Clocks, StampSource};
    use itinera_model::two_way::{OneWayDelay, PeerClock};
    use itinera_model::unit::{Tick, WallTime};
    use uuid::Uuid;

    fn round(forward_lost: u16, back_lost: u16) -> TwoWayRound {
        let delay = |min_us| Some(OneWayDelay { min_us, p50_us: 100, p95_us: 900, max_us: 2_000 });
        let reached = 100 - forward_lost;
        let direction = |arrived, lost, min_us| OneWay {
            arrived,
            lost,
            delay: delay(min_us),
            dscp: vec![(46, arrived)],
            hop_limit: Some(246),
            ..OneWay::default()
        };
        TwoWayRound {
            pair: PairId::from_uuid(Uuid::nil()),
            number: 0,
            clocks: Clocks {
                boot: BootId::from_uuid(Uuid::nil()),
                tick: Tick::ZERO,
                wall: WallTime::from_unix_seconds(0),
                offset_us: None,
                offset_error_us: None,
            },
            source: [198, 18, 1, 2].into(),
            destination: [198, 18, 2, 2].into(),
            stamps: StampSource::Kernel,
            lateness: None,
            dscp: 46,
            sent: 100,
            interval_ms: 1_000,
            bursts: 0,
            longest_burst: 0,
            undetermined: 0,
            forward: direction(reached, forward_lost, 90_000),
            return_: direction(reached - back_lost, back_lost, -65_000),
            round_trip_us: Some([25_000, 25_500, 27_000]),
            clock: Some(PeerClock {
                offset_us: 77_500,
                offset_error_us: 12_500,
                drift_ppb: None,
                drift_error_ppb: None,
                stepped: false,
            }),
            synchronised_us: None,
        }
    }

    #[test]
    fn the_direction_that_loses_is_named() {
        let note = |forward, back| {
            let both = summary(&vec![round(forward, back); 3]);
            notes(&both, "Eskerry", "Dunverra", 46).remove(0)
        };
        let loss = |forward_lost: u32, return_lost: u32| PairLoss {
            near: "Eskerry".to_owned(),
            far: "Dunverra".to_owned(),
            forward: LossCounts { sent: 300, lost: forward_lost },
            return_: LossCounts { sent: 300 - forward_lost, lost: return_lost },
        };
        assert_eq!(note(0, 4), Note::PairLossReturn(loss(0, 12)));
        assert_eq!(note(4, 0), Note::PairLossForward(loss(12, 0)));
        assert_eq!(note(4, 4), Note::PairLossBoth(loss(12, 12)));
        assert_eq!(note(0, 0), Note::PairLossNone(loss(0, 0)));
    }

    #[test]
    fn delays_have_the_bounds_of_the_clocks() {
        let both = summary(&[round(0, 0)]);
        assert_eq!(both.forward.delay_bounds_us, Some((0, 25_000)));
        assert_eq!(both.return_.delay_bounds_us, Some((0, 25_000)));
        assert_eq!((both.forward.hops, both.forward.variation_us), (Some(9), Some(900)));
        let mut known = round(0, 0);
        known.synchronised_us = Some(1_000);
        known.forward.delay = known.forward.delay.map(|d| OneWayDelay { min_us: 10_000, ..d });
        let both = summary(&[known]);
        assert_eq!(both.forward.delay_bounds_us, Some((9_000, 11_000)));
        assert!(both.is_synchronised);
    }

    #[test]
    fn what_cannot_be_known_is_noted() {
        let mut dark = round(0, 0);
        (dark.undetermined, dark.clock) = (100, None);
        (dark.forward, dark.return_) = (OneWay::default(), OneWay::default());
        let (near, far) = ("A".to_owned(), "B".to_owned());
        let unreachable = PairCounts { near, far, sent: 100 };
        let noted = notes(&summary(&[dark.clone()]), "A", "B", 46);
        assert_eq!(noted, [Note::PairUnreachable(unreachable)]);
        let some = notes(&summary(&[round(0, 0), dark]), "A", "B", 0);
        let rewritten = |from: &str, to: &str| {
            let (from, to) = (from.to_owned(), to.to_owned());
            Note::PairDscpRewritten(PairDscp { from, to, sent: 0, arrived: 46 })
        };
        assert_eq!(
            some[1..],
            [
                Note::DirectionUnknown(PacketCount { packets: 100 }),
                rewritten("A", "B"),
                rewritten("B", "A"),
                Note::ClocksNotSynchronised,
            ]
        );
        assert_eq!(notes(&summary(&[]), "A", "B", 0), [Note::NothingExchanged]);
    }
}
