//! Rebuilding: a stage of judgement with a new version is made again from what the others and the
//! evidence say, and what the old version said stands until then.
//!
//! Findings are made path by path with the clock of the log, so that judgement continues meanwhile.

use super::path::{PathHistory, minute_of};
use super::{Effect, Judge, Stage};
use crate::alarm::AlarmBook;
use crate::evidence::{PublishedMinute, WINDOWS_A_MINUTE, beginning_of, end_of, window_of};
use crate::judge::Observation;
use itinera_model::alarm::{Alarm, AlarmEffect};
use itinera_model::checkpoint::{Checkpoint, StoredMinute};
use itinera_model::event::Event;
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Windows that are judged again with one entry of the clock: about a second.
const AT_ONCE: usize = 8_000;
/// Windows of a path that alarms regard again: a path that shows an alarm may have to show another place
/// for so long before that is believed.
const REGARDED: usize = 18;

/// What stages are rebuilt from, beside the checkpoint.
#[derive(Debug, Default)]
pub struct RebuildSources<'a> {
    /// The owner map of the stored inventory.
    pub owners: Arc<OwnerMap>,
    /// Events that last.
    pub lasting: Vec<Event>,
    /// Alarms that are open.
    pub open: Vec<Alarm>,
    /// Evidence of the minutes with windows to be rebuilt, each with its number.
    pub minutes: Vec<(PathId, i64, PublishedMinute)>,
    /// The rounds of the newest minutes, of which evidence is not published yet.
    pub rounds: Vec<Observation<'a>>,
}

/// How far a stage is rebuilt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RebuildProgress {
    /// The stage.
    pub stage: Stage,
    /// Paths that are done, of all.
    pub done: usize,
    /// All.
    pub paths: usize,
}

/// Paths of which the findings are still those of another version.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct Rebuild {
    waiting: BTreeSet<PathId>,
    paths: usize,
}

impl Rebuild {
    pub(super) fn of(paths: impl Iterator<Item = PathId>) -> Self {
        let waiting: BTreeSet<PathId> = paths.collect();
        Self { paths: waiting.len(), waiting }
    }

    fn progress(&self) -> Option<RebuildProgress> {
        let done = self.paths.saturating_sub(self.waiting.len());
        (!self.waiting.is_empty()).then_some(RebuildProgress {
            stage: Stage::Findings,
            done,
            paths: self.paths,
        })
    }
}

/// The minutes of a checkpoint that another version wrote: only which there are can be read.
pub fn minutes_to_rebuild(checkpoint: &Checkpoint) -> &[StoredMinute] {
    if Stage::Windows.is_in(checkpoint) { &[] } else { &checkpoint.minutes }
}

impl Judge {
    /// What a checkpoint says of a rebuild; absent where nothing is being rebuilt.
    pub fn stored_progress(checkpoint: &Checkpoint) -> Option<RebuildProgress> {
        Stage::Findings.read::<Rebuild>(checkpoint).ok().flatten()?.progress()
    }

    /// Judges the windows of some paths again that have findings of another version.
    pub(super) fn rebuild_findings(&mut self, effects: &mut Vec<Effect>) {
        let mut judged = 0;
        while judged < AT_ONCE
            && let Some(path) = self.rebuild.waiting.pop_first()
        {
            let Some(history) = self.paths.get_mut(&path) else { continue };
            let newest = history.windows.newest();
            for (window, assessment) in history.find_again(path) {
                let newest = newest == Some(window);
                if newest {
                    self.latest.insert(path, Arc::clone(&assessment));
                }
                if let Some(unsealed) = history.unsealed.get_mut(&window) {
                    *unsealed = Arc::clone(&assessment);
                }
                judged += 1;
                effects.push(Effect::Assessed { window, newest, assessment });
            }
        }
    }

    /// The windows of a checkpoint of another version, from evidence, and the newest from rounds. A path
    /// without either keeps nothing but the numbers of its minutes, which the next checkpoint drops.
    pub(super) fn rebuild_windows(&mut self, checkpoint: &Checkpoint, from: &RebuildSources<'_>) {
        let mut wanted: BTreeSet<(PathId, i64)> = BTreeSet::new();
        let mut stored: Vec<&StoredMinute> = minutes_to_rebuild(checkpoint).iter().collect();
        // The source is that of the newest.
        stored.sort_by_key(|it| it.minute);
        for StoredMinute { path, minute, source, .. } in stored {
            let history = self.paths.entry(*path);
            let history = history.or_insert_with(|| PathHistory::new(*source));
            history.source = *source;
            history.expect(*minute);
            wanted.insert((*path, *minute));
        }
        for (path, minute, published) in &from.minutes {
            let Some(history) = self.paths.get_mut(path) else { continue };
            if !wanted.remove(&(*path, *minute)) {
                continue;
            }
            for (place, window) in published.windows() {
                let index = minute.saturating_mul(WINDOWS_A_MINUTE) + i64::from(place);
                history.take_over(index, window);
            }
        }
        for round in &from.rounds {
            let window = window_of(round.measured_at);
            let is_wanted = wanted.contains(&(round.path, minute_of(window)));
            let Some(history) = self.paths.get_mut(&round.path).filter(|_| is_wanted) else {
                continue;
            };
            history.add(window, (round.route, round.addresses), &round.counts());
        }
    }

    /// Alarms as the newest windows show them. One that is open already stays as it is. Where findings
    /// are known, paths without any are left out.
    pub(super) fn rebuild_alarms(
        &mut self,
        open: Vec<Alarm>,
        findings_are_known: bool,
    ) -> Vec<AlarmEffect> {
        self.book = AlarmBook::default();
        self.set_rules();
        let book = &mut self.book;
        for (path, history) in &mut self.paths {
            let through = self.seals.paths.get(path).map_or(i64::MAX, |seal| seal.through);
            let newest = history.windows.range(..=through).rev().take(REGARDED);
            let mut newest: Vec<(i64, bool)> = newest.map(|(it, kept)| (it, kept.found)).collect();
            if findings_are_known && !newest.iter().any(|(_, found)| *found) {
                continue;
            }
            newest.reverse();
            for (window, _) in newest {
                if let Some(assessment) = history.assess_in_order(*path, window) {
                    book.regard(&assessment, beginning_of(window), end_of(window));
                }
            }
        }
        self.book.take_over(open, self.seals.clock.now)
    }
}

/// Where the rounds begin that windows are rebuilt from: the earliest minute after the last of the
/// `minutes` that there are of its path; absent where evidence has all.
pub fn rounds_to_rebuild(
    checkpoint: &Checkpoint,
    minutes: &[(PathId, i64, PublishedMinute)],
) -> Option<WallTime> {
    let mut last: BTreeMap<PathId, i64> = BTreeMap::new();
    for (path, minute, _) in minutes {
        let known = last.entry(*path).or_insert(*minute);
        *known = (*known).max(*minute);
    }
    let after = |it: &&StoredMinute| last.get(&it.path).is_none_or(|last| it.minute > *last);
    let first = minutes_to_rebuild(checkpoint).iter().filter(after).map(|it| it.minute).min()?;
    Some(beginning_of(first.saturating_mul(WINDOWS_A_MINUTE)))
}
