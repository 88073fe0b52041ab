//! Rounds that come so late that their windows are not remembered any more: an agent was cut off,
//! and its spool comes with the newest batch first. They are held until probably no more of them
//! come, and are judged in order of time then.

use super::Observation;
use super::path::PathHistory;
use crate::evidence::{EvidenceError, window_of};
use itinera_model::finding::Assessment;
use itinera_model::id::PathId;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// Windows held of all paths at most, about 250 bytes each. Beyond it the path with most of them is
/// judged at once.
const MOST_HELD: usize = 200_000;

/// The held windows of all paths.
#[derive(Debug, Clone)]
pub(super) struct Held {
    paths: BTreeMap<PathId, PathHistory>,
    count: usize,
    /// Windows that are too many.
    pub(super) most: usize,
}

impl Default for Held {
    fn default() -> Self {
        Self { paths: BTreeMap::new(), count: 0, most: MOST_HELD }
    }
}

/// The same of one path as it is stored.
#[derive(Serialize, Deserialize)]
pub(super) struct StoredHeld {
    path: PathId,
    source: IpAddr,
    minutes: Vec<(i64, Vec<u8>)>,
}

impl Held {
    /// Adds a round to the window of its time.
    pub(super) fn add(&mut self, observation: &Observation<'_>) {
        let history = self.paths.entry(observation.path);
        let history = history.or_insert_with(|| PathHistory::new(observation.source));
        let window = window_of(observation.measured_at);
        let before = history.windows.len();
        let route = (observation.route, observation.addresses);
        history.add(window, route, &observation.counts());
        self.count += history.windows.len() - before;
    }

    /// Puts what was added into its compact form.
    pub(super) fn compact(&mut self, path: PathId) {
        if let Some(history) = self.paths.get_mut(&path) {
            history.windows.compact_before(i64::MAX);
        }
    }

    /// The path with most windows, where there are too many in all.
    pub(super) fn fullest(&self) -> Option<PathId> {
        let by_count = |(path, history): (&PathId, &PathHistory)| (history.windows.len(), *path);
        let (_, path) = self.paths.iter().map(by_count).max()?;
        (self.count > self.most).then_some(path)
    }

    /// Holds the windows of a path no more; gives them.
    pub(super) fn forget(&mut self, path: PathId) -> Option<PathHistory> {
        let held = self.paths.remove(&path)?;
        self.count -= held.windows.len();
        Some(held)
    }

    /// Judges the held windows of a path in order of time, each by those before it, and holds them
    /// no more. `remembered` is what judgement remembers of the path: what was usual before.
    pub(super) fn judge(
        &mut self,
        path: PathId,
        remembered: &PathHistory,
    ) -> Vec<(i64, Arc<Assessment>)> {
        let Some(mut held) = self.forget(path) else { return Vec::new() };
        let Some((first, _)) = held.windows.range(..).next() else { return Vec::new() };
        let mut history = PathHistory::new(held.source);
        for (window, kept) in remembered.windows.range(..first) {
            history.insert(window, kept.clone());
        }
        let mut judged = Vec::new();
        while let Some((window, kept)) = held.windows.take_first() {
            history.insert(window, kept);
            let assessment = history.assess_in_order(path, window);
            judged.extend(assessment.map(|it| (window, Arc::new(it))));
            while let Some(spare) = history.spare_window(window, None) {
                history.forget(spare);
            }
        }
        judged
    }

    pub(super) fn to_stored(&self) -> Vec<StoredHeld> {
        let stored = |(path, history): (&PathId, &PathHistory)| {
            let minutes = history.minutes(i64::MIN..=i64::MAX).into_iter();
            let stored = |minute| Some((minute, history.windows.minute_bytes(minute)?));
            let minutes = minutes.filter_map(stored).collect();
            StoredHeld { path: *path, source: history.source, minutes }
        };
        self.paths.iter().map(stored).collect()
    }

    /// Reads what was stored.
    ///
    /// # Errors
    /// [`EvidenceError`] for a damaged minute.
    pub(super) fn from_stored(stored: Vec<StoredHeld>) -> Result<Self, EvidenceError> {
        let mut held = Self::default();
        for StoredHeld { path, source, minutes } in stored {
            let mut history = PathHistory::new(source);
            for (minute, content) in minutes {
                history.restore(minute, &content)?;
            }
            held.count += history.windows.len();
            held.paths.insert(path, history);
        }
        Ok(held)
    }
}
