//! How far the evidence of each path is complete.
//!
//! A window is sealed when its path has reported past it, or when the clock has: after a fixed time,
//! or longer where a path's rounds always take longer. Alarms regard each window once, sealed, in
//! order. Rounds of a sealed window are late.

use super::path::minute_of;
use crate::evidence::window_of;
use crate::log_clock::LogClock;
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;

/// A round that began so long after a window shows that those of the window have been reported:
/// two seconds, the usual time that a probe is waited for.
const PAST_US: i64 = 2_000_000;
/// A path's usual lag moves by this at most with each report, so that one outage is not usual.
const LAG_STEP_US: i64 = 5_000_000;
/// Time beyond the usual lag for which a path's rounds are waited for.
const BEYOND_LAG_US: i64 = 5_000_000;
/// Longest usual lag: three minutes. A target measured less often is judged late.
const MOST_LAG_US: i64 = 180_000_000;
/// Late rounds are judged when none has come for so long, at most so long after the first.
const QUIET_US: i64 = 20_000_000;
const LONGEST_WAIT_US: i64 = 120_000_000;

/// The last minute that a sealed window completes, with all before it sealed too.
const fn sealed_minute(through: i64) -> i64 {
    minute_of(through.saturating_add(1)) - 1
}

/// How far one path is sealed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct PathSeal {
    /// The last sealed window.
    pub(super) through: i64,
    /// The last minute of which all windows are sealed, and their evidence is published. States
    /// before evidence was published have none.
    #[serde(default)]
    pub(super) published: i64,
    /// Beginning of the newest round.
    newest: WallTime,
    /// Time from the beginning of the newest round of a report to its receipt, as usual.
    lag_us: i64,
}

impl PathSeal {
    pub(super) fn new(first: WallTime, newest: WallTime, now: WallTime) -> Self {
        let lag_us = now.micros_since(newest).clamp(0, MOST_LAG_US);
        // Nothing is sealed by the commit that brings the first rounds.
        let through = window_of(first) - 1;
        Self { through, published: sealed_minute(through), newest: first, lag_us }
    }

    /// A commit with rounds of the path came in, of which the newest began at `newest`.
    pub(super) fn on_report(&mut self, newest: WallTime, now: WallTime) {
        if newest <= self.newest {
            return;
        }
        self.newest = newest;
        let lag_us = now.micros_since(newest).clamp(0, MOST_LAG_US);
        self.lag_us = lag_us.clamp(self.lag_us - LAG_STEP_US, self.lag_us + LAG_STEP_US);
    }

    /// Seals what is complete at `now`; gives the last sealed window.
    pub(super) fn advance(&mut self, now: WallTime, after_us: i64) -> i64 {
        let wait_us = after_us.max(self.lag_us + BEYOND_LAG_US);
        let by_report = window_of(self.newest.plus_micros(-PAST_US)) - 1;
        let by_clock = window_of(now.plus_micros(-wait_us)) - 1;
        self.through = self.through.max(by_report).max(by_clock);
        self.through
    }

    /// The minutes that have become complete since this was asked last, by their numbers.
    pub(super) fn complete_minutes(&mut self) -> Option<RangeInclusive<i64>> {
        let complete = sealed_minute(self.through);
        let first = self.published.saturating_add(1);
        self.published = self.published.max(complete);
        (first <= complete).then_some(first..=complete)
    }

    pub(super) fn set_back(&mut self, now: WallTime) {
        self.through = self.through.min(window_of(now) - 1);
        self.published = self.published.min(sealed_minute(self.through));
        self.newest = self.newest.min(now);
    }
}

/// Windows of a path that got late rounds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
struct LateWindows {
    /// The first.
    first: i64,
    /// When the first and the newest late rounds came in.
    begun: WallTime,
    newest: WallTime,
}

/// How far all paths are sealed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct Seals {
    pub(super) paths: BTreeMap<PathId, PathSeal>,
    late: BTreeMap<PathId, LateWindows>,
    pub(super) clock: LogClock,
    /// What numbered the last part of a minute that was too late for its windows.
    #[serde(default)]
    last_part: i64,
}

impl Seals {
    /// Takes the time of the next input; gives the time that counts, and whether the clock has been
    /// set back.
    pub(super) fn on_input(&mut self, at: WallTime) -> (WallTime, bool) {
        let was_set_back = self.clock.on_entry(at);
        if was_set_back {
            self.paths.values_mut().for_each(|seal| seal.set_back(at));
            self.late.clear();
        }
        (self.clock.now, was_set_back)
    }

    /// A number for what is too late for its windows, above all earlier ones.
    pub(super) fn next_part(&mut self) -> i64 {
        self.last_part = self.clock.now.as_unix_micros().max(self.last_part.saturating_add(1));
        self.last_part
    }

    /// A sealed window of a path got rounds.
    pub(super) fn on_late(&mut self, path: PathId, window: i64) {
        let now = self.clock.now;
        let late = self.late.entry(path);
        let late = late.or_insert(LateWindows { first: window, begun: now, newest: now });
        late.first = late.first.min(window);
        late.newest = now;
    }

    /// The first window of a path that got late rounds and is to be read again.
    pub(super) fn first_late(&self, path: PathId) -> Option<i64> {
        self.late.get(&path).map(|late| late.first)
    }

    /// Paths with late rounds of which probably no more will come.
    pub(super) fn late_and_due(&self) -> Vec<PathId> {
        let now = self.clock.now;
        let is_due = |late: &LateWindows| {
            now.micros_since(late.newest) >= QUIET_US
                || now.micros_since(late.begun) >= LONGEST_WAIT_US
        };
        self.late.iter().filter(|(_, late)| is_due(late)).map(|(path, _)| *path).collect()
    }

    /// Takes out the first late window of a path; absent where none is late.
    pub(super) fn take_late(&mut self, path: PathId) -> Option<i64> {
        self.late.remove(&path).map(|late| late.first)
    }
}
