//! The weeks before a time of a world, as summaries of hours. An hour is drawn when it is asked for.

use super::stretch::{Stretch, life_of};
use itinera_candidates::{Archive, HopSummary};
use itinera_model::round::HopCounts;
use itinera_model::unit::Tick;
use itinera_simnet::closed_form::Sampler;
use std::sync::Arc;

/// Rounds of each hour that its summary is made from: one every five minutes.
const ROUNDS: u64 = 12;
const NANOS_PER_HOUR: u64 = 3_600_000_000_000;
const HOURS_A_WEEK: u8 = 168;
/// The series of its rounds.
const SERIES: u64 = 2_000_000;

/// What was measured in the weeks before a time of a world.
pub(super) fn before(stretch: &Stretch<'_>) -> Arc<dyn Archive> {
    Arc::new(Weeks::new(stretch))
}

/// Weeks of a world without faults.
#[derive(Debug)]
struct Weeks {
    stretch: u64,
    weeks: u8,
    calm: Sampler,
}

impl Weeks {
    fn new(stretch: &Stretch<'_>) -> Self {
        Self { stretch: stretch.number, weeks: stretch.weeks, calm: stretch.calm.clone() }
    }
}

impl Archive for Weeks {
    fn weeks(&self) -> u8 {
        self.weeks
    }

    fn hour(&self, path: usize, weeks_ago: u8, hour_of_week: u8) -> Vec<HopSummary> {
        if !(1..=self.weeks).contains(&weeks_ago) || hour_of_week >= HOURS_A_WEEK {
            return Vec::new();
        }
        let mut sampler = self.calm.at_another_time(0.0, life_of(self.stretch, weeks_ago));
        let mut round = Vec::new();
        let mut hops: Vec<(HopSummary, Vec<u32>)> = Vec::new();
        for turn in 0..ROUNDS {
            let number = u64::from(hour_of_week) * ROUNDS + turn;
            let at = Tick::from_nanos(number * (NANOS_PER_HOUR / ROUNDS));
            sampler.round(path, number, at, SERIES, &mut round);
            hops.resize_with(hops.len().max(round.len()), Default::default);
            for ((summary, delays), counts) in hops.iter_mut().zip(&round) {
                add(summary, delays, counts);
            }
        }
        hops.into_iter().map(|(summary, delays)| with_quartiles(summary, delays)).collect()
    }
}

fn add(summary: &mut HopSummary, delays: &mut Vec<u32>, counts: &HopCounts) {
    summary.sent += u32::from(counts.sent);
    summary.lost += u32::from(counts.sent) - u32::from(counts.answers());
    delays.extend(counts.rtt.iter().map(|rtt| rtt.as_micros()));
}

fn with_quartiles(summary: HopSummary, mut delays: Vec<u32>) -> HopSummary {
    delays.sort_unstable();
    let at = |quarter: usize| delays[(delays.len() - 1) * quarter / 4];
    let quartiles_us = (!delays.is_empty()).then(|| [at(1), at(2), at(3)]);
    HopSummary { quartiles_us, ..summary }
}

#[cfg(test)]
mod tests {
    use super::super::setup::Setup;
    use super::super::stage::Stage;
    use super::*;
    use itinera_simnet::worlds::WorldFamily;

    #[test]
    fn an_hour_of_the_weeks_before_is_like_others_of_its_hour() {
        let setup = Setup { agents: 4, peers: 2, ..Setup::a() };
        let stage = Stage::new(&setup, WorldFamily::Plain, 10);
        let archive = before(&Stretch::new(&stage, 0));
        assert!(archive.weeks() >= 1);
        let median = |path, week, hour| {
            let hops = archive.hour(path, week, hour);
            let end = *hops.last().unwrap();
            assert!(end.lost * 5 < end.sent, "{end:?}");
            f64::from(end.quartiles_us.unwrap()[1])
        };
        let mut apart = 0;
        for path in 0..20 {
            let (monday, again) = (median(path, 1, 3), median(path, 1, 3));
            assert!((monday - again).abs() < f64::EPSILON, "an hour is the same again");
            apart += usize::from((median(path, 1, 27) / monday - 1.0).abs() > 0.2);
        }
        assert!(apart < 5, "{apart} of 20 differ from the next night");
        assert!(archive.hour(0, archive.weeks() + 1, 3).is_empty());
        let cold = Stretch::new(&stage, 3);
        let archive = before(&cold);
        assert!(cold.weeks == 0 && cold.history < 60 && archive.weeks() == 0);
        assert!(archive.hour(0, 1, 3).is_empty());
    }
}
