//! Evidence of pairs: windows by the time at which rounds began, published by the minute.

use super::path::minute_of;
use super::seal::PathSeal;
use super::{Effect, LATE_WINDOWS};
use crate::evidence::{
    EvidenceError, PairCounts, PairEvidence, WINDOWS_A_MINUTE, publish_pair, window_of,
};
use itinera_model::evidence::EvidenceSubject;
use itinera_model::id::PairId;
use itinera_model::two_way::TwoWayRound;
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// One committed round of a pair.
#[derive(Debug, Clone, Copy)]
pub struct PairObservation<'a> {
    /// When it began, by the service's estimate.
    pub measured_at: WallTime,
    /// The round.
    pub round: &'a TwoWayRound,
}

/// What is remembered of one pair.
#[derive(Debug, Clone)]
struct PairHistory {
    windows: BTreeMap<i64, PairCounts>,
    seal: PathSeal,
}

impl PairHistory {
    fn evidence_of(&self, minute: i64) -> Option<Vec<u8>> {
        let first = minute.saturating_mul(WINDOWS_A_MINUTE);
        let windows = self.windows.range(first..first.saturating_add(WINDOWS_A_MINUTE));
        let mut windows = windows.map(|(window, counts)| (*window, counts)).peekable();
        windows.peek()?;
        Some(publish_pair(windows))
    }
}

/// A window of a pair that has been sealed.
#[derive(Debug, Clone)]
pub(super) struct SealedWindow {
    pub(super) pair: PairId,
    pub(super) window: i64,
    pub(super) counts: PairCounts,
}

/// What is remembered of all pairs.
#[derive(Debug, Clone, Default)]
pub(super) struct Pairs {
    known: BTreeMap<PairId, PairHistory>,
    /// Windows sealed by this step, each pair's in order of time.
    sealed: Vec<SealedWindow>,
}

/// The same as it is stored: each window as evidence of one place.
#[derive(Serialize, Deserialize)]
pub(super) struct StoredPair {
    pair: PairId,
    seal: PathSeal,
    pub(super) windows: Vec<(i64, Vec<u8>)>,
}

impl Pairs {
    /// Adds rounds of an agent; publishes what is complete, and what late rounds have changed.
    /// `next_part` numbers rounds that are too late for their window.
    pub(super) fn on_rounds(
        &mut self,
        observations: &[PairObservation<'_>],
        (now, after_us): (WallTime, i64),
        mut next_part: impl FnMut() -> i64,
        effects: &mut Vec<Effect>,
    ) {
        let mut changed: BTreeMap<PairId, BTreeSet<i64>> = BTreeMap::new();
        let mut too_late: BTreeMap<(PairId, i64), PairEvidence> = BTreeMap::new();
        for PairObservation { measured_at, round } in observations {
            let window = window_of(*measured_at);
            let history = self.known.entry(round.pair).or_insert_with(|| PairHistory {
                windows: BTreeMap::new(),
                seal: PathSeal::new(*measured_at, *measured_at, now),
            });
            // A wrong clock had dated them, and has been set back.
            let last = window_of(now).saturating_add(LATE_WINDOWS);
            for future in history.windows.split_off(&last.saturating_add(1)).into_keys() {
                let (subject, minute) = (EvidenceSubject::Pair(round.pair), minute_of(future));
                effects.push(Effect::Evidence { subject, minute, part: None, content: None });
            }
            let counts = PairCounts::of(round);
            let newest = history.windows.keys().next_back().copied();
            if newest.is_some_and(|newest| window < newest - LATE_WINDOWS) {
                let place = u8::try_from(window.rem_euclid(WINDOWS_A_MINUTE)).unwrap_or(u8::MAX);
                let late = too_late.entry((round.pair, minute_of(window))).or_default();
                late.add(place, &counts);
                continue;
            }
            history.windows.entry(window).or_default().merge(&counts);
            history.seal.on_report(*measured_at, now);
            changed.entry(round.pair).or_default().insert(minute_of(window));
        }
        for (pair, minutes) in changed {
            self.publish(pair, minutes, (now, after_us), effects);
        }
        for ((pair, minute), evidence) in too_late {
            let subject = EvidenceSubject::Pair(pair);
            let (part, content) = (Some(next_part()), Some(evidence.to_bytes()));
            effects.push(Effect::Evidence { subject, minute, part, content });
        }
    }

    /// Publishes what the clock completes.
    pub(super) fn on_clock(&mut self, time: (WallTime, i64), effects: &mut Vec<Effect>) {
        let pairs: Vec<PairId> = self.known.keys().copied().collect();
        for pair in pairs {
            self.publish(pair, BTreeSet::new(), time, effects);
        }
    }

    /// The clock has been set back.
    pub(super) fn set_back(&mut self, now: WallTime) {
        self.known.values_mut().for_each(|history| history.seal.set_back(now));
    }

    /// Publishes minutes that have become complete, and those among the `changed` that were before.
    fn publish(
        &mut self,
        pair: PairId,
        changed: BTreeSet<i64>,
        (now, after_us): (WallTime, i64),
        effects: &mut Vec<Effect>,
    ) {
        let Some(history) = self.known.get_mut(&pair) else { return };
        let mut minutes = changed;
        let published = history.seal.published;
        minutes.retain(|minute| *minute <= published);
        let before = history.seal.through;
        let through = history.seal.advance(now, after_us);
        if before < through {
            let sealed = history.windows.range(before + 1..=through);
            let sealed = sealed.map(|(window, counts)| SealedWindow {
                pair,
                window: *window,
                counts: counts.clone(),
            });
            self.sealed.extend(sealed);
        }
        if let Some(complete) = history.seal.complete_minutes() {
            let first = complete.start().saturating_mul(WINDOWS_A_MINUTE);
            let sealed = history.windows.range(first..=through.max(first));
            minutes.extend(sealed.map(|(window, _)| minute_of(*window)));
            minutes.retain(|minute| minute <= complete.end());
        }
        for minute in minutes {
            let subject = EvidenceSubject::Pair(pair);
            let content = history.evidence_of(minute);
            effects.push(Effect::Evidence { subject, minute, part: None, content });
        }
        // Those of a minute that may still be changed stay.
        let newest = history.windows.keys().next_back().copied().unwrap_or(0);
        let unsealed = minute_of(through.saturating_add(1)).saturating_mul(WINDOWS_A_MINUTE);
        let first_needed = minute_of(newest - LATE_WINDOWS).saturating_mul(WINDOWS_A_MINUTE);
        history.windows = history.windows.split_off(&first_needed.min(unsealed));
    }

    /// The windows sealed since this was asked last.
    pub(super) fn take_sealed(&mut self) -> Vec<SealedWindow> {
        std::mem::take(&mut self.sealed)
    }

    pub(super) fn to_stored(&self) -> Vec<StoredPair> {
        let stored = |(pair, history): (&PairId, &PairHistory)| {
            let windows = history.windows.iter();
            let windows = windows.map(|(window, counts)| {
                let content = publish_pair(std::iter::once((*window, counts)));
                (*window, content)
            });
            StoredPair { pair: *pair, seal: history.seal, windows: windows.collect() }
        };
        self.known.iter().map(stored).collect()
    }

    /// Reads what was stored.
    ///
    /// # Errors
    /// [`EvidenceError`] for a damaged window.
    pub(super) fn from_stored(stored: Vec<StoredPair>) -> Result<Self, EvidenceError> {
        let mut pairs = BTreeMap::new();
        for StoredPair { pair, seal, windows: stored } in stored {
            let mut windows = BTreeMap::new();
            for (window, content) in stored {
                windows.insert(window, PairEvidence::from_bytes(&content)?.sum());
            }
            pairs.insert(pair, PairHistory { windows, seal });
        }
        Ok(Self { known: pairs, sealed: Vec::new() })
    }
}
