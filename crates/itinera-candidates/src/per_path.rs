//! The rule that the service uses today: each path by itself, alarms by a limit held over.

use crate::{Candidate, Claim, Topology, WindowInput, owner_name};
use itinera_analysis::{AgentReport, Judge, JudgeInput, Limits};
use itinera_model::alarm::Alarm;
use itinera_model::finding::Cause;
use std::sync::Arc;

/// The service's own judge, as it is: its open alarms are the claims.
#[derive(Debug, Clone)]
pub struct PerPath {
    topology: Arc<Topology>,
    judge: Judge,
}

impl PerPath {
    /// A judge without memory, by the service's default limits.
    pub fn new(topology: Arc<Topology>) -> Self {
        Self { topology, judge: Judge::new(Limits::default()) }
    }

    fn claim(&self, alarm: &Alarm) -> Claim {
        let confidence = f64::from(alarm.confidence_ppm) / 1e6;
        Claim {
            cause: alarm.key.cause,
            places: vec![(alarm.key.place.into(), confidence)],
            direction: None,
            owner: alarm
                .key
                .place
                .first_with_fault()
                .map(|to| (owner_name(&self.topology.owners, to), confidence)),
            size: Some(match alarm.key.cause {
                Cause::Delay => f64::from(alarm.added_delay_us.as_micros()) / 1e3,
                _ => f64::from(alarm.loss_ppm) / 1e6,
            }),
        }
    }
}

impl Candidate for PerPath {
    fn name(&self) -> &'static str {
        "per-path"
    }

    fn version(&self) -> u32 {
        1
    }

    fn is_baseline(&self) -> bool {
        true
    }

    fn regard(&mut self, shown: &WindowInput<'_>) -> Vec<Claim> {
        self.judge.step(JudgeInput::Report(AgentReport::of_rounds(shown.rounds)), shown.until);
        self.judge.step(JudgeInput::Clock, shown.until);
        let mut open: Vec<&Alarm> = self.judge.book().open().iter().collect();
        // The alarm that most paths show first, then the surer one, then the older one.
        open.sort_by_key(|alarm| {
            let paths = std::cmp::Reverse(alarm.showing.len());
            (paths, std::cmp::Reverse(alarm.confidence_ppm), alarm.raised_at, alarm.key.place)
        });
        open.into_iter().map(|alarm| self.claim(alarm)).collect()
    }

    fn fork(&self) -> Box<dyn Candidate> {
        Box::new(self.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Region;
    use crate::naive::tests::{FROM, TO, topology, window};

    #[test]
    fn what_is_alarmed_is_claimed_until_it_clears_and_policing_is_not() {
        let mut candidate = PerPath::new(topology());
        let mut regard = |windows: std::ops::Range<i64>, answered: [u16; 4]| {
            let mut last = Vec::new();
            for number in windows {
                last = window(number, answered, |shown| candidate.regard(shown));
            }
            last
        };
        assert_eq!(regard(0..66, [1023, 255, 1023, 1023]), []);
        let claims = regard(66..80, [1023, 255, 63, 63]);
        assert_eq!(claims.len(), 1);
        assert_eq!(claims[0].cause, Cause::Loss);
        let (region, confidence) = &claims[0].places[0];
        let Region::Place(place) = region else { panic!("{region:?}") };
        assert!(
            place.first_with_fault() == Some(TO) && *confidence > 0.9,
            "{place:?} after {FROM}"
        );
        let size = claims[0].size.unwrap();
        assert!((size - 0.4).abs() < 0.15, "six of ten get through: {size}");
        assert_eq!(claims[0].owner.as_ref().unwrap().0, crate::SITE);
        assert_eq!(regard(80..95, [1023; 4]), []);
    }
}
