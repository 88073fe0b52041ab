//! What judgement remembers, in stages with a version each, and how it continues from that.

use super::Judge;
use super::held::Held;
use super::pairs::Pairs;
use super::path::PathHistory;
use super::rebuild::{Rebuild, RebuildSources};
use crate::ENGINE;
use crate::event::Watcher;
use crate::evidence::EvidenceError;
use crate::inventory::Inventory;
use itinera_model::alarm::AlarmEffect;
use itinera_model::checkpoint::{Checkpoint, StageState, StoredMinute};
use itinera_model::codec::{DecodeError, decode, encode};
use itinera_model::id::PathId;
use rayon::prelude::*;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::sync::Arc;

/// A stage of judgement: a part of its memory with a version of its own. A new version of one
/// stage leaves the others as they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// Counts of rounds by path and window.
    Windows,
    /// Findings of the windows: what is usual is learned from windows without any.
    Findings,
    /// How far each path is sealed.
    Seals,
    /// Windows of late rounds that wait to be judged.
    Held,
    /// Counts of pairs by window, and how far each pair is sealed.
    Pairs,
    /// Open alarms, and what each path has been showing.
    Alarms,
    /// Lasting events, and what is known of checks and agents.
    Events,
    /// The inventory.
    Inventory,
}

impl Stage {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Windows,
        Self::Findings,
        Self::Seals,
        Self::Held,
        Self::Pairs,
        Self::Alarms,
        Self::Events,
        Self::Inventory,
    ];

    /// Its name as stored.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Windows => "windows",
            Self::Findings => "findings",
            Self::Seals => "seals",
            Self::Held => "held",
            Self::Pairs => "pairs",
            Self::Alarms => "alarms",
            Self::Events => "events",
            Self::Inventory => "inventory",
        }
    }

    /// The version that this program writes, and alone reads.
    pub const fn version(self) -> u16 {
        match self {
            Self::Findings => ENGINE,
            Self::Windows => 3,
            Self::Held | Self::Alarms => 2,
            Self::Seals | Self::Pairs | Self::Events | Self::Inventory => 1,
        }
    }

    /// Its state among those of a checkpoint; absent where there is none of this version.
    fn of(self, stages: &[StageState]) -> Option<&[u8]> {
        let known = |it: &&StageState| it.stage == self.name() && it.version == self.version();
        stages.iter().find(known).map(|it| it.content.as_slice())
    }

    /// True where a checkpoint has its state in the version that this program reads.
    pub fn is_in(self, checkpoint: &Checkpoint) -> bool {
        self.of(&checkpoint.stages).is_some()
    }

    pub(super) fn read<T: DeserializeOwned>(
        self,
        checkpoint: &Checkpoint,
    ) -> Result<Option<T>, UnreadableStage> {
        // A state that was not needed was written as nothing.
        let content = self.of(&checkpoint.stages).filter(|content| !content.is_empty());
        content.map(decode).transpose().map_err(|source| self.unreadable(source))
    }

    fn unreadable(self, source: impl Into<StateError>) -> UnreadableStage {
        UnreadableStage { stage: self, source: source.into() }
    }
}

/// Why a state cannot be read.
#[derive(Debug, thiserror::Error)]
#[error(transparent)]
pub enum StateError {
    /// Of a state in CBOR.
    Cbor(#[from] DecodeError),
    /// Of evidence.
    Evidence(#[from] EvidenceError),
}

/// The state of a stage that cannot be read although its version is known.
#[derive(Debug, thiserror::Error)]
#[error("state of stage {} of judgement", stage.name())]
pub struct UnreadableStage {
    /// Which.
    pub stage: Stage,
    /// Why.
    pub source: StateError,
}

/// The windows of all paths, each path's by itself, on all processors.
fn restored_paths(
    stored: &[StoredMinute],
) -> Result<BTreeMap<PathId, PathHistory>, UnreadableStage> {
    let mut by_path: BTreeMap<PathId, Vec<&StoredMinute>> = BTreeMap::new();
    for minute in stored {
        by_path.entry(minute.path).or_default().push(minute);
    }
    let restored = |(path, minutes): (PathId, Vec<&StoredMinute>)| {
        let newest = minutes.iter().max_by_key(|it| it.minute);
        let Some(newest) = newest else { return Ok(None) };
        let mut history = PathHistory::new(newest.source);
        for minute in minutes {
            history.restore(minute.minute, &minute.content)?;
        }
        Ok(Some((path, history)))
    };
    let by_path: Vec<_> = by_path.into_iter().collect();
    let paths = by_path.into_par_iter().map(restored).filter_map(Result::transpose);
    let paths: Result<_, EvidenceError> = paths.collect();
    paths.map_err(|source| Stage::Windows.unreadable(source))
}

impl Judge {
    /// A judge that continues from a checkpoint, and what changes of alarms with that. A stage with a
    /// state of another version is rebuilt: windows from evidence and the newest rounds, alarms from
    /// the windows and the open ones, events from the lasting ones; findings, path by path, with the
    /// next entries of the clock. Seals, held windows and the inventory begin empty.
    ///
    /// # Errors
    /// [`UnreadableStage`] for a damaged state.
    pub fn restored(
        checkpoint: &Checkpoint,
        mut sources: RebuildSources<'_>,
    ) -> Result<(Self, Vec<AlarmEffect>), UnreadableStage> {
        let inventory = Self::stored_inventory(checkpoint)?;
        let owners = Arc::clone(&sources.owners);
        let mut it = Self { owners, ..Self::new(inventory.limits) };
        it.inventory = inventory;
        it.seals = Stage::Seals.read(checkpoint)?.unwrap_or_default();
        let held = Stage::Held.read(checkpoint)?.map(Held::from_stored).transpose();
        it.held = held.map_err(|source| Stage::Held.unreadable(source))?.unwrap_or_default();
        let pairs = Stage::Pairs.read(checkpoint)?.map(Pairs::from_stored).transpose();
        it.pairs = pairs.map_err(|source| Stage::Pairs.unreadable(source))?.unwrap_or_default();
        (it.watcher, it.arrived_dscp) = match Stage::Events.read(checkpoint)? {
            Some(events) => events,
            None => (Watcher::resumed(std::mem::take(&mut sources.lasting)), BTreeMap::new()),
        };
        if Stage::Windows.is_in(checkpoint) {
            it.paths = restored_paths(&checkpoint.minutes)?;
        } else {
            it.rebuild_windows(checkpoint, &sources);
        }
        let is_known = Stage::Windows.is_in(checkpoint) && Stage::Findings.is_in(checkpoint);
        it.rebuild = match Stage::Findings.read(checkpoint)?.filter(|_| is_known) {
            Some(rebuild) => rebuild,
            None if is_known => Rebuild::default(),
            None => Rebuild::of(it.paths.keys().copied()),
        };
        let seals = &it.seals.paths;
        let newest = |(path, history): (&PathId, &mut PathHistory)| {
            let through = seals.get(path).map_or(i64::MAX, |seal| seal.through);
            history.restore_unsealed(*path, through);
            Some((*path, Arc::new(history.newest_assessment(*path)?)))
        };
        let paths: Vec<_> = it.paths.iter_mut().collect();
        it.latest = paths.into_par_iter().filter_map(newest).collect();
        let book = Stage::Alarms.read(checkpoint)?;
        let alarms = match book {
            Some(book) => {
                it.book = book;
                it.set_rules();
                Vec::new()
            }
            None => it.rebuild_alarms(sources.open, is_known),
        };
        Ok((it, alarms))
    }

    /// The inventory of a checkpoint.
    ///
    /// # Errors
    /// [`UnreadableStage`] for a damaged state.
    pub fn stored_inventory(checkpoint: &Checkpoint) -> Result<Inventory, UnreadableStage> {
        Ok(Stage::Inventory.read(checkpoint)?.unwrap_or_default())
    }

    /// What differs from the last checkpoint, which this is now.
    pub fn checkpoint(&mut self) -> Checkpoint {
        let state = |stage: Stage| {
            let content = match stage {
                // The version tells how the windows are to be read.
                Stage::Windows => Vec::new(),
                Stage::Findings => encode(&self.rebuild),
                Stage::Seals => encode(&self.seals),
                Stage::Held => encode(&self.held.to_stored()),
                Stage::Pairs => encode(&self.pairs.to_stored()),
                Stage::Alarms => encode(&self.book),
                Stage::Events => encode(&(&self.watcher, &self.arrived_dscp)),
                Stage::Inventory => encode(&self.inventory),
            };
            StageState { stage: stage.name().to_owned(), version: stage.version(), content }
        };
        let mut checkpoint =
            Checkpoint { stages: Stage::ALL.map(state).to_vec(), ..Checkpoint::default() };
        for (path, history) in &mut self.paths {
            let (path, source) = (*path, history.source);
            for (minute, content) in history.take_changes() {
                match content {
                    Some(content) => {
                        let stored = StoredMinute { path, minute, source, content };
                        checkpoint.minutes.push(stored);
                    }
                    None => checkpoint.dropped.push((path, minute)),
                }
            }
        }
        checkpoint
    }
}
