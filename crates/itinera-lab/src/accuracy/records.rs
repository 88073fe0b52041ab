//! Records of a world and of each candidate apart: what has not changed is not run again.

use super::coverage::CoverageRecord;
use super::job::Extent;
use super::phantoms::PhantomRecord;
use super::run::{CaseRecord, RECORD_VERSION, WorldRecord};
use super::setup::Setup;
use super::verdict::CaseScore;
use serde::{Deserialize, Serialize};

/// What a candidate did in a world.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CandidateRecord {
    /// Version of worlds, cases and scores.
    pub version: u32,
    /// Its name.
    pub candidate: String,
    /// Version of its method.
    pub candidate_version: u32,
    /// The measuring setup.
    pub setup: Setup,
    /// The family, by name.
    pub family: String,
    /// The seed.
    pub seed: u64,
    /// How much was run.
    pub extent: Extent,
    /// By case, in their order: the score, and the episodes that began in it.
    cases: Vec<(CaseScore, PhantomRecord)>,
    /// Episodes before and between cases.
    calm: PhantomRecord,
    /// What it cannot tell apart.
    coverage: CoverageRecord,
}

impl WorldRecord {
    /// Takes a candidate's part out of the record of a world.
    pub fn take(&mut self, candidate: &str) -> Option<CandidateRecord> {
        let candidate_version = self.versions.remove(candidate)?;
        let part = |case: &mut CaseRecord| {
            let score = case.verdicts.remove(candidate)?;
            Some((score, case.phantoms.remove(candidate)?))
        };
        Some(CandidateRecord {
            version: self.version,
            candidate: candidate.to_owned(),
            candidate_version,
            setup: self.setup.clone(),
            family: self.family.clone(),
            seed: self.seed,
            extent: self.extent,
            cases: self.cases.iter_mut().map(part).collect::<Option<_>>()?,
            calm: self.calm.remove(candidate)?,
            coverage: self.coverage.remove(candidate)?,
        })
    }

    /// Puts a candidate's part into the record of its world. False, and nothing is changed, where it is of another.
    pub fn put(&mut self, part: CandidateRecord) -> bool {
        let is_of_this = part.version == RECORD_VERSION
            && part.setup == self.setup
            && (&part.family, part.seed) == (&self.family, self.seed)
            && part.extent == self.extent
            && part.cases.len() == self.cases.len();
        if !is_of_this {
            return false;
        }
        for (case, (score, phantoms)) in self.cases.iter_mut().zip(part.cases) {
            case.verdicts.insert(part.candidate.clone(), score);
            case.phantoms.insert(part.candidate.clone(), phantoms);
        }
        self.calm.insert(part.candidate.clone(), part.calm);
        self.coverage.insert(part.candidate.clone(), part.coverage);
        self.versions.insert(part.candidate, part.candidate_version);
        true
    }
}
