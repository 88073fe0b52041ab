//! The step from newly committed rounds to everything that follows from them.

use crate::alarm::{AlarmBook, Limits};
use crate::history::{WINDOW_US, Window, end_of, window_of};
use crate::locate;
use itinera_model::alarm::AlarmEffect;
use itinera_model::finding::Assessment;
use itinera_model::id::{ContentId, PathId};
use itinera_model::round::HopCounts;
use itinera_model::unit::WallTime;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// Rounds older than this correct history but are too late to change an assessment again: ten
/// minutes of windows behind the path's newest.
const LATE_WINDOWS: i64 = 60;
/// Windows kept for a path: what is usual, what is recent, and what may still be corrected.
const KEPT_WINDOWS: usize = 180;
/// An assessment this old raises no alarm any more: three minutes.
const TOO_OLD_TO_RAISE_US: i64 = 180_000_000;

/// One committed round, as judgement needs it.
#[derive(Debug, Clone, Copy)]
pub struct Observation<'a> {
    /// The path.
    pub path: PathId,
    /// When it was measured, by the service's estimate.
    pub measured_at: WallTime,
    /// Its number.
    pub number: u64,
    /// The agent's own address.
    pub source: IpAddr,
    /// Identity of the route.
    pub route: ContentId,
    /// The route's addresses.
    pub addresses: &'a [Option<IpAddr>],
    /// What each hop gave.
    pub hops: &'a [HopCounts],
}

/// What a step wants recorded.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// A path's window has another content.
    WindowChanged {
        /// The path.
        path: PathId,
        /// Index of the window.
        window: i64,
        /// The agent's own address.
        source: IpAddr,
        /// Its content now.
        content: Window,
    },
    /// A path's window is no longer needed.
    WindowDropped {
        /// The path.
        path: PathId,
        /// Index of the window.
        window: i64,
    },
    /// A path's window was judged, perhaps again.
    Assessed {
        /// Index of the window.
        window: i64,
        /// True when no newer window of the path has rounds.
        newest: bool,
        /// The judgement.
        assessment: Box<Assessment>,
    },
    /// Something about alarms.
    Alarm(AlarmEffect),
}

#[derive(Debug, Clone)]
struct PathHistory {
    source: IpAddr,
    windows: BTreeMap<i64, Window>,
}

impl PathHistory {
    /// A window to forget when there are too many: the oldest with a finding that cannot be
    /// corrected any more, so that a long fault does not push out what was usual before it;
    /// else the oldest.
    fn spare_window(&self, newest: i64) -> Option<i64> {
        if self.windows.len() <= KEPT_WINDOWS {
            return None;
        }
        let mut settled = self.windows.range(..newest - LATE_WINDOWS);
        let flagged = settled.find(|(_, content)| content.flagged).map(|(index, _)| *index);
        flagged.or_else(|| self.windows.keys().next().copied())
    }
}

/// All of judgement's memory.
#[derive(Debug, Clone, Default)]
pub struct Judge {
    paths: BTreeMap<PathId, PathHistory>,
    book: AlarmBook,
}

impl Judge {
    /// A judge without memory.
    pub fn new(limits: Limits) -> Self {
        Self { paths: BTreeMap::new(), book: AlarmBook::new(limits) }
    }

    /// A judge with the memory that earlier effects recorded.
    pub fn restored(
        book: AlarmBook,
        windows: impl IntoIterator<Item = (PathId, i64, IpAddr, Window)>,
    ) -> Self {
        let mut judge = Self { paths: BTreeMap::new(), book };
        for (path, index, source, window) in windows {
            let history = judge.paths.entry(path);
            let history =
                history.or_insert_with(|| PathHistory { source, windows: BTreeMap::new() });
            history.windows.insert(index, window);
        }
        judge
    }

    /// The alarms and what they are waiting for, to be recorded with the effects of a step.
    pub const fn book(&self) -> &AlarmBook {
        &self.book
    }

    /// Takes the rounds of one commit, received at `now`.
    pub fn step(&mut self, observations: &[Observation<'_>], now: WallTime) -> Vec<Effect> {
        let mut touched: BTreeMap<PathId, BTreeSet<i64>> = BTreeMap::new();
        let mut newest_before: BTreeMap<PathId, Option<i64>> = BTreeMap::new();
        for observation in observations {
            let window = window_of(observation.measured_at);
            let history = self.paths.entry(observation.path).or_insert_with(|| PathHistory {
                source: observation.source,
                windows: BTreeMap::new(),
            });
            history.source = observation.source;
            let newest = history.windows.keys().next_back().copied();
            newest_before.entry(observation.path).or_insert(newest);
            if newest.is_some_and(|newest| window < newest - LATE_WINDOWS) {
                continue;
            }
            let content = history.windows.entry(window).or_default();
            content.add(
                observation.route,
                observation.addresses,
                observation.number,
                observation.hops,
            );
            touched.entry(observation.path).or_default().insert(window);
        }
        let mut effects = Vec::new();
        for (path, windows) in touched {
            let before = newest_before.get(&path).copied().flatten();
            self.judge_path(path, &windows, before, now, &mut effects);
        }
        effects
    }

    fn judge_path(
        &mut self,
        path: PathId,
        touched: &BTreeSet<i64>,
        newest_before: Option<i64>,
        now: WallTime,
        effects: &mut Vec<Effect>,
    ) {
        let Some(history) = self.paths.get_mut(&path) else {
            return;
        };
        let Some(first) = touched.first().copied() else {
            return;
        };
        let newest = history.windows.keys().next_back().copied().unwrap_or(first);
        // A window that a newer one has just closed is judged once more, now complete.
        let first =
            newest_before.filter(|seen| *seen < newest).map_or(first, |seen| first.min(seen));
        let affected: Vec<i64> = history.windows.range(first..).map(|(index, _)| *index).collect();
        let mut complete = Vec::new();
        for window in affected {
            let assessment = locate::assess(path, history.source, &history.windows, window);
            let Some(assessment) = assessment else {
                continue;
            };
            let Some(content) = history.windows.get_mut(&window) else {
                continue;
            };
            let flagged = assessment.finding.is_some();
            let changed = std::mem::replace(&mut content.flagged, flagged) != flagged;
            if changed || touched.contains(&window) {
                effects.push(Effect::WindowChanged {
                    path,
                    window,
                    source: history.source,
                    content: content.clone(),
                });
            }
            let closes_now = window < newest && newest_before.is_none_or(|seen| window >= seen);
            let age_us = now.micros_since(end_of(window));
            if closes_now && age_us <= TOO_OLD_TO_RAISE_US {
                complete.push((window, assessment.clone()));
            }
            effects.push(Effect::Assessed {
                window,
                newest: window == newest,
                assessment: Box::new(assessment),
            });
        }
        while let Some(window) = history.spare_window(newest) {
            history.windows.remove(&window);
            effects.push(Effect::WindowDropped { path, window });
        }
        for (window, assessment) in complete {
            let since = WallTime::from_unix_micros(window.saturating_mul(WINDOW_US));
            let alarms = self.book.regard(&assessment, since, now);
            effects.extend(alarms.into_iter().map(Effect::Alarm));
        }
    }
}
