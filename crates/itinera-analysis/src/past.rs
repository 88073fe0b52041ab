//! Judgement of what was, computed again from the rounds of then.

use crate::judge::{Effect, Judge, Observation};
use itinera_model::finding::Assessment;
use itinera_model::unit::WallTime;

/// Every window's assessment, by path and time. What was usual is learned from the windows
/// before it within the same observations, so they should begin some minutes earlier.
pub fn assessments(observations: &[Observation<'_>]) -> Vec<Assessment> {
    let mut ordered = observations.to_vec();
    ordered.sort_by_key(|observation| observation.measured_at);
    let now = ordered.last().map_or(WallTime::from_unix_seconds(0), |last| last.measured_at);
    let effects = Judge::default().step(&ordered, now);
    let assessed = effects.into_iter().filter_map(|effect| match effect {
        Effect::Assessed { assessment, .. } => Some(*assessment),
        _ => None,
    });
    assessed.collect()
}
