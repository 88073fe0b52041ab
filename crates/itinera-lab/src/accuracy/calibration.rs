//! Confidence as it should have been: fitted on worlds that are kept for it, and applied to others.

use super::figures::is_weighed;
use super::run::{CaseRecord, RECORD_VERSION, WorldRecord};
use super::verdict::CaseScore;
use itinera_simnet::worlds::Split;
use serde::{Deserialize, Serialize};

/// Cases with a claim that a fit needs at least.
const LEAST_CASES: usize = 50;
/// No probability is fitted nearer to nothing or to certainty than so many cases tell.
const PRIOR: f64 = 1.0;

/// Maps what a candidate says of its confidence to how often it is right then.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Calibration {
    /// Version of worlds, cases and scores.
    pub version: u32,
    /// The candidate.
    pub candidate: String,
    /// Version of its method.
    pub candidate_version: u32,
    /// The seeds of the worlds that it was fitted on.
    pub seeds: Vec<u64>,
    /// Cases with a claim.
    pub cases: usize,
    /// For the link: confidences and probabilities, both rising; between them the probability is a straight line.
    pub link: Vec<[f64; 2]>,
    /// The same for the owner.
    pub owner: Vec<[f64; 2]>,
}

/// Why there is no calibration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CalibrationError {
    /// No world of the calibrating split.
    #[error("no record is of a world of the split `calibrate`, or none of the candidate")]
    NoWorlds,
    /// Too few cases with a claim.
    #[error("{0} cases with a claim are too few to fit; {LEAST_CASES} are needed")]
    TooFew(usize),
}

impl Calibration {
    /// Fits by the worlds of the calibrating split among these; others are not looked at.
    ///
    /// # Errors
    /// No such world has the candidate, or it made too few claims.
    pub fn fit(records: &[WorldRecord], candidate: &str) -> Result<Self, CalibrationError> {
        let worlds: Vec<&WorldRecord> = records
            .iter()
            .filter(|world| Split::of(world.seed) == Split::Calibrate)
            .filter(|world| world.versions.contains_key(candidate))
            .collect();
        let candidate_version = worlds.first().and_then(|world| world.versions.get(candidate));
        let candidate_version = *candidate_version.ok_or(CalibrationError::NoWorlds)?;
        let cases = worlds.iter().flat_map(|world| &world.cases).filter(|case| is_weighed(case));
        let scores = cases.filter_map(|case| case.verdicts.get(candidate));
        let claimed: Vec<&CaseScore> = scores.filter(|score| score.claimed).collect();
        if claimed.len() < LEAST_CASES {
            return Err(CalibrationError::TooFew(claimed.len()));
        }
        let fitted = |of: fn(&CaseScore) -> (f64, bool)| {
            rising(claimed.iter().map(|score| of(score)).collect())
        };
        let mut seeds: Vec<u64> = worlds.iter().map(|world| world.seed).collect();
        seeds.sort_unstable();
        seeds.dedup();
        Ok(Self {
            version: RECORD_VERSION,
            candidate: candidate.to_owned(),
            candidate_version,
            seeds,
            cases: claimed.len(),
            link: fitted(|score| (score.confidence, score.link)),
            owner: fitted(|score| (score.owner_confidence, score.owner)),
        })
    }

    /// What tables call the candidate with this calibration.
    pub fn name(&self) -> String {
        format!("{}, calibrated", self.candidate)
    }

    /// Adds the calibrated candidate to the records of worlds that it was not fitted on. Gives how many these are.
    pub fn apply(&self, records: &mut [WorldRecord]) -> usize {
        let is_other = |world: &WorldRecord| {
            Split::of(world.seed) != Split::Calibrate
                && world.version == self.version
                && world.versions.get(&self.candidate) == Some(&self.candidate_version)
        };
        let mut worlds = 0;
        for world in records.iter_mut().filter(|world| is_other(world)) {
            world.cases.iter_mut().for_each(|case| self.add_to(case));
            world.versions.insert(self.name(), self.candidate_version);
            worlds += 1;
        }
        worlds
    }

    fn add_to(&self, case: &mut CaseRecord) {
        let Some(score) = case.verdicts.get(&self.candidate) else { return };
        let score = CaseScore {
            confidence: mapped(&self.link, score.confidence),
            owner_confidence: mapped(&self.owner, score.owner_confidence),
            ..score.clone()
        };
        case.verdicts.insert(self.name(), score);
    }
}

/// How often what is said with a confidence is right, not less often for a higher one: confidences and shares.
///
/// Source: M. Ayer, H. D. Brunk, G. M. Ewing, W. T. Reid, E. Silverman, An empirical distribution function for
/// sampling with incomplete information (1955): the pool-adjacent-violators algorithm.
fn rising(mut said: Vec<(f64, bool)>) -> Vec<[f64; 2]> {
    said.sort_by(|a, b| a.0.total_cmp(&b.0));
    // Blocks: confidences added up, cases, right ones.
    let mut blocks: Vec<[f64; 3]> = Vec::new();
    for (confidence, right) in said {
        let mut block = [confidence, 1.0, f64::from(u8::from(right))];
        let share = |block: &[f64; 3]| block[2] / block[1];
        let same = |last: &[f64; 3], block: &[f64; 3]| {
            (last[0] / last[1] - block[0] / block[1]).abs() < f64::EPSILON
        };
        while let Some(last) = blocks.pop() {
            if share(&last) < share(&block) && !same(&last, &block) {
                blocks.push(last);
                break;
            }
            block = [last[0] + block[0], last[1] + block[1], last[2] + block[2]];
        }
        blocks.push(block);
    }
    let point =
        |block: &[f64; 3]| [block[0] / block[1], (block[2] + PRIOR / 2.0) / (block[1] + PRIOR)];
    let mut points: Vec<[f64; 2]> = blocks.iter().map(point).collect();
    // A small block is drawn to one half, which must not turn the order.
    for nth in 1..points.len() {
        points[nth][1] = points[nth][1].max(points[nth - 1][1]);
    }
    points
}

/// The probability at a confidence; beyond the ends it is that of the end.
fn mapped(points: &[[f64; 2]], confidence: f64) -> f64 {
    let above = points.partition_point(|point| point[0] <= confidence);
    let (Some(low), Some(high)) = (points.get(above.wrapping_sub(1)), points.get(above)) else {
        let end = if above == 0 { points.first() } else { points.last() };
        return end.map_or(confidence, |point| point[1]);
    };
    let share = (confidence - low[0]) / (high[0] - low[0]);
    low[1] + share * (high[1] - low[1])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_rise_and_pool_what_does_not() {
        let said = |confidence: f64, right: usize, of: usize| {
            (0..of).map(move |nth| (confidence, nth < right))
        };
        let all = said(0.5, 30, 100).chain(said(0.7, 20, 100)).chain(said(0.9, 80, 100));
        let points = rising(all.collect());
        assert_eq!(points.len(), 2, "{points:?}");
        assert!((points[0][0] - 0.6).abs() < 1e-9 && (points[0][1] - 0.25).abs() < 0.01);
        assert!((points[1][1] - 0.8).abs() < 0.01);
        for (confidence, wanted) in [(0.1, 0.25), (0.6, 0.25), (0.75, 0.525), (0.99, 0.8)] {
            let got = mapped(&points, confidence);
            assert!((got - wanted).abs() < 0.01, "{confidence}: {got}");
        }
        assert!((mapped(&[], 0.4) - 0.4).abs() < f64::EPSILON);
    }

    #[test]
    fn a_few_cases_do_not_make_certainty() {
        let points = rising((0..10).map(|_| (0.99, true)).collect());
        assert!(points[0][1] < 0.96, "{points:?}");
    }
}
