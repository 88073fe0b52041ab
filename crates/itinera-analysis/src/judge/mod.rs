//! The step from newly committed rounds, or from the clock, to everything that follows from them.

mod path;
mod seal;
#[cfg(test)]
mod tests;

use crate::alarm::{AlarmBook, Limits};
use crate::history::{Exactness, WINDOW_US, Window, window_of};
use itinera_model::alarm::AlarmEffect;
use itinera_model::finding::Assessment;
use itinera_model::id::{ContentId, PathId};
use itinera_model::round::{HopCounts, Lateness, Round, StampSource};
use itinera_model::unit::WallTime;
use path::PathHistory;
use seal::{PathSeal, Seals};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// Rounds older than this are too late to be judged: ten minutes of windows behind the path's newest.
const LATE_WINDOWS: i64 = 60;
/// Windows kept for a path: what is usual, what is recent, and what may still be corrected.
const KEPT_WINDOWS: usize = 180;
/// Windows before the first late one that are read again with it: a fault may have begun there.
const READ_BEFORE: i64 = 12;
/// Paths with late rounds that are read again in one step at most.
const READ_AGAIN_AT_ONCE: usize = 64;

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
    /// Where the delays' stamps came from.
    pub stamps: StampSource,
    /// How late the agent's own program was, where it reports that.
    pub lateness: Option<Lateness>,
}

impl<'a> Observation<'a> {
    /// A round as its agent reported it, with what it refers to.
    pub fn of(round: &'a Round, source: IpAddr, addresses: &'a [Option<IpAddr>]) -> Self {
        Self {
            path: round.path,
            measured_at: round.clocks.corrected_wall(),
            number: round.number,
            source,
            route: round.route,
            addresses,
            hops: &round.hops,
            stamps: round.stamps,
            lateness: round.lateness,
        }
    }

    /// How exact it is.
    pub(crate) fn exactness(&self) -> Exactness {
        Exactness::of(self.stamps, self.lateness)
    }
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

/// What a step takes.
#[derive(Debug, Clone, Copy)]
pub enum JudgeInput<'a> {
    /// The rounds of one commit.
    Rounds(&'a [Observation<'a>]),
    /// Nothing but the time.
    Clock,
}

/// The beginning of a window.
const fn beginning_of(window: i64) -> WallTime {
    WallTime::from_unix_micros(window.saturating_mul(WINDOW_US))
}

/// What judgement remembers beside the windows of each path.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct JudgeState {
    book: AlarmBook,
    seals: Seals,
}

impl JudgeState {
    /// The same state under other limits; open alarms stay until they clear by them.
    #[must_use]
    pub fn with_limits(self, limits: Limits) -> Self {
        Self { book: self.book.with_limits(limits), ..self }
    }
}

/// All of judgement's memory.
#[derive(Debug, Clone, Default)]
pub struct Judge {
    paths: BTreeMap<PathId, PathHistory>,
    state: JudgeState,
}

impl Judge {
    /// A judge without memory.
    pub fn new(limits: Limits) -> Self {
        let state = JudgeState { book: AlarmBook::new(limits), seals: Seals::default() };
        Self { paths: BTreeMap::new(), state }
    }

    /// A judge with the memory that earlier effects recorded.
    pub fn restored(
        state: JudgeState,
        windows: impl IntoIterator<Item = (PathId, i64, IpAddr, Window)>,
    ) -> Self {
        let mut paths = BTreeMap::new();
        for (path, index, source, window) in windows {
            let history = paths.entry(path).or_insert_with(|| PathHistory::new(source));
            history.windows.insert(index, window);
        }
        let seals = &state.seals;
        for (path, history) in &mut paths {
            let Some(seal) = seals.paths.get(path) else { continue };
            let unsealed = history.windows.range(seal.through + 1..);
            let unsealed: Vec<i64> = unsealed.map(|(window, _)| *window).collect();
            for window in unsealed {
                if let Some(assessment) = history.assess(*path, window) {
                    history.unsealed.insert(window, assessment);
                }
            }
        }
        Self { paths, state }
    }

    /// What is to be recorded with the effects of a step.
    pub const fn state(&self) -> &JudgeState {
        &self.state
    }

    /// Index of the newest window with rounds; absent before the first round.
    pub fn newest_window(&self) -> Option<i64> {
        self.paths.values().filter_map(|path| path.windows.keys().next_back().copied()).max()
    }

    /// The alarms and what they are waiting for.
    pub const fn book(&self) -> &AlarmBook {
        &self.state.book
    }

    /// Takes an input of the log at its time.
    pub fn step(&mut self, input: JudgeInput<'_>, now: WallTime) -> Vec<Effect> {
        let now = self.state.seals.on_input(now);
        let mut effects = Vec::new();
        match input {
            JudgeInput::Rounds(observations) => self.on_rounds(observations, now, &mut effects),
            JudgeInput::Clock => self.on_clock(now, &mut effects),
        }
        effects
    }

    fn on_clock(&mut self, now: WallTime, effects: &mut Vec<Effect>) {
        let paths: Vec<PathId> = self.paths.keys().copied().collect();
        for path in paths {
            self.seal(path, now, effects);
        }
        for (path, late) in self.state.seals.take_late(READ_AGAIN_AT_ONCE) {
            self.read_again(path, late.first, now, effects);
        }
        let alarms = self.state.book.on_clock(&self.state.seals.clock);
        effects.extend(alarms.into_iter().map(Effect::Alarm));
    }

    fn on_rounds(
        &mut self,
        observations: &[Observation<'_>],
        now: WallTime,
        effects: &mut Vec<Effect>,
    ) {
        let mut spans: BTreeMap<PathId, (WallTime, WallTime)> = BTreeMap::new();
        for Observation { path, measured_at: at, .. } in observations {
            let (first, last) = spans.entry(*path).or_insert((*at, *at));
            (*first, *last) = ((*first).min(*at), (*last).max(*at));
        }
        for (path, (first, last)) in &spans {
            let seals = &mut self.state.seals.paths;
            seals.entry(*path).or_insert_with(|| PathSeal::new(*first, *last, now));
            // What the clock has sealed is judged without the rounds that come now.
            self.seal(*path, now, effects);
        }
        let mut touched: BTreeMap<PathId, BTreeSet<i64>> = BTreeMap::new();
        for observation in observations {
            let window = window_of(observation.measured_at);
            let history = self.paths.entry(observation.path);
            let history = history.or_insert_with(|| PathHistory::new(observation.source));
            history.source = observation.source;
            for window in history.of_a_wrong_clock(now) {
                history.forget(window);
                effects.push(Effect::WindowDropped { path: observation.path, window });
            }
            let newest = history.windows.keys().next_back().copied();
            if newest.is_some_and(|newest| window < newest - LATE_WINDOWS) {
                continue;
            }
            history.on_change(window);
            let content = history.windows.entry(window).or_default();
            content.add(
                observation.route,
                observation.addresses,
                observation.number,
                observation.hops,
                observation.exactness(),
            );
            touched.entry(observation.path).or_default().insert(window);
        }
        for (path, windows) in touched {
            self.judge_path(path, &windows, effects);
            if let Some((_, newest)) = spans.get(&path)
                && let Some(seal) = self.state.seals.paths.get_mut(&path)
            {
                seal.on_report(*newest, now);
            }
            self.seal(path, now, effects);
        }
    }

    /// Judges the windows of a path that got rounds, and those after them.
    fn judge_path(&mut self, path: PathId, touched: &BTreeSet<i64>, effects: &mut Vec<Effect>) {
        let Some(history) = self.paths.get_mut(&path) else { return };
        let Some(first) = touched.first().copied() else { return };
        let newest = history.windows.keys().next_back().copied().unwrap_or(first);
        let through = self.state.seals.paths.get(&path).map_or(i64::MIN, |seal| seal.through);
        let affected: Vec<i64> = history.windows.range(first..).map(|(index, _)| *index).collect();
        for window in affected {
            let Some(mut assessment) = history.assess(path, window) else {
                continue;
            };
            let mut changed = history.enter_found(window, assessment.finding.is_some());
            if let Some(finding) = &mut assessment.finding {
                finding.onset = history.onset(window);
            }
            if touched.contains(&window) && !changed.contains(&window) {
                changed.push(window);
            }
            for window in changed {
                let Some(content) = history.windows.get(&window) else { continue };
                let (source, content) = (history.source, content.clone());
                effects.push(Effect::WindowChanged { path, window, source, content });
            }
            if window > through {
                history.unsealed.insert(window, assessment.clone());
            } else if touched.contains(&window) {
                self.state.seals.on_late(path, window);
            }
            effects.push(Effect::Assessed {
                window,
                newest: window == newest,
                assessment: Box::new(assessment),
            });
        }
        while let Some(window) = history.spare_window(newest) {
            history.forget(window);
            effects.push(Effect::WindowDropped { path, window });
        }
    }

    /// Has alarms regard the windows of a path that are complete now.
    fn seal(&mut self, path: PathId, now: WallTime, effects: &mut Vec<Effect>) {
        let JudgeState { book, seals } = &mut self.state;
        let after_us = i64::from(book.limits().seal_after_s).saturating_mul(1_000_000);
        let Some(seal) = seals.paths.get_mut(&path) else { return };
        let through = seal.advance(now, after_us);
        let Some(history) = self.paths.get_mut(&path) else { return };
        let later = history.unsealed.split_off(&(through + 1));
        for (window, assessment) in std::mem::replace(&mut history.unsealed, later) {
            let alarms = book.regard(&assessment, beginning_of(window), now);
            effects.extend(alarms.into_iter().map(Effect::Alarm));
        }
    }

    /// Has alarms read the sealed windows of a path again from `first` on, which got late rounds.
    fn read_again(&mut self, path: PathId, first: i64, now: WallTime, effects: &mut Vec<Effect>) {
        let Some(history) = self.paths.get_mut(&path) else { return };
        let Some(seal) = self.state.seals.paths.get(&path) else { return };
        let sealed = history.windows.range(first - READ_BEFORE..=seal.through.max(first));
        let sealed: Vec<i64> = sealed.map(|(window, _)| *window).collect();
        let judged = |window| Some((beginning_of(window), history.assess(path, window)?));
        let windows: Vec<_> = sealed.into_iter().filter_map(judged).collect();
        let again = self.state.book.read_again(path, &windows, now);
        if again.unfinished {
            self.state.seals.on_late(path, first);
        }
        effects.extend(again.effects.into_iter().map(Effect::Alarm));
    }
}
