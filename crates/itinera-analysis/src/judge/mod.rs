//! The step from an input of the log to everything that follows from it.
//!
//! An input is the report of an agent, a time of the clock, or the inventory. Nothing else enters
//! judgement, so the same log gives the same findings, alarms and events again.

mod facts;
mod held;
mod memory;
mod pairs;
mod path;
mod rebuild;
mod seal;
#[cfg(test)]
mod tests;

use crate::alarm::AlarmBook;
use crate::event::{Carried, Watcher};
use crate::evidence::{Exactness, RoundCounts, WINDOWS_A_MINUTE, beginning_of, window_of};
use crate::inventory::Inventory;
use crate::limits::Limits;
use crate::locate::RECENT;
use held::Held;
use itinera_model::alarm::AlarmEffect;
use itinera_model::check::CheckRound;
use itinera_model::event::EventEffect;
use itinera_model::evidence::EvidenceSubject;
use itinera_model::finding::Assessment;
use itinera_model::host_facts::HostFacts;
use itinera_model::id::{AgentId, ContentId, PathId};
use itinera_model::owner::OwnerMap;
use itinera_model::round::{HopCounts, Lateness, Round, StampSource};
use itinera_model::route::{Flow, FlowKey};
use itinera_model::two_way::PairRoute;
use itinera_model::unit::WallTime;
pub use memory::{Stage, UnreadableStage};
pub use pairs::PairObservation;
use pairs::Pairs;
use path::{PathHistory, minute_of};
use rayon::prelude::*;
use rebuild::Rebuild;
pub use rebuild::{RebuildProgress, RebuildSources, minutes_to_rebuild, rounds_to_rebuild};
use seal::{PathSeal, Seals};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;

/// Windows behind the newest of a path that stay as they were counted, for rounds that come late: ten
/// minutes. Earlier ones are held and judged by themselves.
const LATE_WINDOWS: i64 = 60;
/// Rounds are not judged any more after 14 days, only counted as evidence.
const JUDGED_WINDOWS: i64 = 14 * 8_640;
/// Windows kept for a path: what is usual, what is recent, and what may still be corrected.
const KEPT_WINDOWS: usize = 180;
/// Windows before the first late one that are read again with it: a fault may have begun there.
const READ_BEFORE: i64 = 12;
/// Paths that a processor judges at once: fewer are not worth waking another one.
const PATHS_A_TASK: usize = 16;
/// Windows with late rounds after which no further path is read again in the same step.
const READ_AGAIN_AT_ONCE: usize = 4_000;

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
    /// Its flow; all zero where that is not known.
    pub flow: FlowKey,
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
    /// DSCP of the probe as the last hop that quoted it received it; absent where none did.
    pub arrived_dscp: Option<u8>,
}

impl<'a> Observation<'a> {
    /// A round as its agent reported it, with what it refers to.
    pub fn of(round: &'a Round, flow: &Flow, addresses: &'a [Option<IpAddr>]) -> Self {
        Self {
            path: round.path,
            measured_at: round.clocks.corrected_wall(),
            number: round.number,
            source: flow.source,
            flow: flow.key(),
            route: round.route,
            addresses,
            hops: &round.hops,
            stamps: round.stamps,
            lateness: round.lateness,
            arrived_dscp: None,
        }
    }

    /// What is counted of it.
    fn counts(&self) -> RoundCounts<'a> {
        let exactness = Exactness::of(self.stamps, self.lateness);
        RoundCounts { number: self.number, flow: self.flow, hops: self.hops, exactness }
    }
}

/// What a step wants recorded.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// A path's window was judged, perhaps again.
    Assessed {
        /// Index of the window.
        window: i64,
        /// True when no newer window of the path has rounds.
        newest: bool,
        /// The judgement.
        assessment: Arc<Assessment>,
    },
    /// A wrong clock had dated the rounds of a window: it is the newest of its path no more.
    Withdrawn {
        /// The path.
        path: PathId,
        /// Index of the window.
        window: i64,
    },
    /// The sealed windows of a minute, or those that late rounds have changed.
    Evidence {
        /// What it is of.
        subject: EvidenceSubject,
        /// Number of the minute since 1970.
        minute: i64,
        /// Absent for the whole of it. Rounds that are too late for their windows are published by
        /// themselves, as parts with rising numbers.
        part: Option<i64>,
        /// A [`crate::PublishedMinute`] in bytes, of a pair a [`crate::PairEvidence`]; absent where a wrong clock had dated its rounds.
        content: Option<Vec<u8>>,
    },
    /// A change of an alarm.
    Alarm(AlarmEffect),
    /// A change of an event.
    Event(EventEffect),
}

/// What an agent reported in one commit.
#[derive(Debug, Clone, Copy, Default)]
pub struct AgentReport<'a> {
    /// The agent; absent where only rounds are judged.
    pub agent: Option<AgentId>,
    /// Its rounds.
    pub rounds: &'a [Observation<'a>],
    /// Rounds of the pairs in which it sends.
    pub pairs: &'a [PairObservation<'a>],
    /// Routes of its pairs in the direction in which it sends, each with its time by the service's
    /// estimate.
    pub pair_routes: &'a [(WallTime, &'a PairRoute)],
    /// Results of its checks, each with its time by the service's estimate.
    pub checks: &'a [(WallTime, &'a CheckRound)],
    /// Its host facts, each with their time by the service's estimate.
    pub host_facts: &'a [(WallTime, &'a HostFacts)],
    /// Its measurements of throughput that have a limit.
    pub throughput: &'a [Carried<'a>],
}

impl<'a> AgentReport<'a> {
    /// A report with nothing but rounds.
    pub fn of_rounds(rounds: &'a [Observation<'a>]) -> Self {
        Self { rounds, ..Self::default() }
    }
}

/// What a step takes.
#[derive(Debug, Clone)]
pub enum JudgeInput<'a> {
    /// The report of an agent.
    Report(AgentReport<'a>),
    /// Nothing but the time.
    Clock,
    /// The inventory has changed.
    Inventory(Box<Inventory>, Arc<OwnerMap>),
}

/// A path with its windows judged, apart from the others: its history is to be put back.
struct JudgedPath {
    path: PathId,
    history: PathHistory,
    judged: Vec<(i64, Arc<Assessment>)>,
}

/// All of judgement's memory.
#[derive(Debug, Clone, Default)]
pub struct Judge {
    paths: BTreeMap<PathId, PathHistory>,
    /// Windows with late rounds that are not among those of `paths`.
    held: Held,
    /// What of the findings another version made.
    rebuild: Rebuild,
    seals: Seals,
    pairs: Pairs,
    book: AlarmBook,
    watcher: Watcher,
    inventory: Inventory,
    owners: Arc<OwnerMap>,
    /// The newest judgement of each path.
    latest: BTreeMap<PathId, Arc<Assessment>>,
    /// DSCP that a probe had where it was quoted last, and when that was, by path with an intended
    /// route.
    arrived_dscp: BTreeMap<PathId, (WallTime, u8)>,
}

impl Judge {
    /// A judge without memory.
    pub fn new(limits: Limits) -> Self {
        Self { book: AlarmBook::new(limits), ..Self::default() }
    }

    /// Index of the newest window with rounds; absent before the first round.
    pub fn newest_window(&self) -> Option<i64> {
        self.paths.values().filter_map(|path| path.windows.newest()).max()
    }

    /// The alarms and what they are waiting for.
    pub const fn book(&self) -> &AlarmBook {
        &self.book
    }

    /// The time of the newest input.
    pub const fn now(&self) -> WallTime {
        self.seals.clock.now
    }

    /// What watches for events.
    pub const fn watcher(&self) -> &Watcher {
        &self.watcher
    }

    /// What judgement was told last of agents, paths and checks.
    pub const fn inventory(&self) -> &Inventory {
        &self.inventory
    }

    /// Takes an input of the log at its time.
    pub fn step(&mut self, input: JudgeInput<'_>, now: WallTime) -> Vec<Effect> {
        let (now, was_set_back) = self.seals.on_input(now);
        if was_set_back {
            self.pairs.set_back(now);
            self.held = Held::default();
        }
        let mut effects = Vec::new();
        match input {
            JudgeInput::Report(report) => self.on_report(&report, now, &mut effects),
            JudgeInput::Clock => self.on_clock(now, &mut effects),
            JudgeInput::Inventory(inventory, owners) => {
                self.inventory = *inventory;
                self.owners = owners;
                self.set_rules();
                self.keep_to_inventory(now, &mut effects);
                self.on_clock(now, &mut effects);
            }
        }
        let events = self.watch_pairs(now);
        effects.extend(events.into_iter().map(Effect::Event));
        let alarms = self.book.publish(now);
        effects.extend(alarms.into_iter().map(Effect::Alarm));
        self.grade_events(&mut effects);
        effects
    }

    /// Has alarms go by the rules of the inventory.
    fn set_rules(&mut self) {
        let Inventory { limits, rules, .. } = &self.inventory;
        self.book.set_rules(*limits, Arc::new(rules.clone()), Arc::clone(&self.owners));
    }

    /// Takes rounds that are in order of measuring as if those of each window had been reported
    /// when the last of them was measured.
    pub(crate) fn step_through(&mut self, ordered: &[Observation<'_>]) -> Vec<Effect> {
        let window = |it: &Observation<'_>| window_of(it.measured_at);
        let windows = ordered.chunk_by(|a, b| window(a) == window(b));
        let reports = windows.filter_map(|rounds| Some((rounds, rounds.last()?.measured_at)));
        reports
            .flat_map(|(rounds, at)| {
                self.step(JudgeInput::Report(AgentReport::of_rounds(rounds)), at)
            })
            .collect()
    }

    fn on_report(&mut self, report: &AgentReport<'_>, now: WallTime, effects: &mut Vec<Effect>) {
        if let Some(agent) = report.agent {
            let ended = self.watcher.on_report(agent, now);
            effects.extend(ended.into_iter().map(Effect::Event));
        }
        let time = (now, self.seal_after_us());
        let Self { pairs, seals, .. } = self;
        pairs.on_rounds(report.pairs, time, || seals.next_part(), effects);
        let before = effects.len();
        self.on_rounds(report.rounds, now, effects);
        let mut judged = Vec::new();
        for effect in &effects[before..] {
            if let Effect::Assessed { newest: true, assessment, .. } = effect {
                self.latest.insert(assessment.path, Arc::clone(assessment));
                judged.push(assessment.path);
            }
        }
        self.on_facts(report, &judged, now, effects);
    }

    fn on_clock(&mut self, now: WallTime, effects: &mut Vec<Effect>) {
        let paths: Vec<PathId> = self.paths.keys().copied().collect();
        for path in paths {
            self.seal(path, now, effects);
        }
        self.rebuild_findings(effects);
        let mut read = 0;
        for path in self.seals.late_and_due() {
            if read >= READ_AGAIN_AT_ONCE {
                break;
            }
            read += self.read_again(path, now, effects);
        }
        let after_us = self.seal_after_us();
        self.pairs.on_clock((now, after_us), effects);
        let alarms = self.book.on_clock(&self.seals.clock);
        effects.extend(alarms.into_iter().map(Effect::Alarm));
        effects.extend(self.watch_clock().into_iter().map(Effect::Event));
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
            let seals = &mut self.seals.paths;
            seals.entry(*path).or_insert_with(|| PathSeal::new(*first, *last, now));
            // What the clock has sealed is judged without the rounds that come now.
            self.seal(*path, now, effects);
        }
        let mut touched: BTreeMap<PathId, BTreeSet<i64>> = BTreeMap::new();
        let mut too_late: BTreeMap<PathId, PathHistory> = BTreeMap::new();
        for observation in observations {
            let window = window_of(observation.measured_at);
            let history = self.paths.entry(observation.path);
            let history = history.or_insert_with(|| PathHistory::new(observation.source));
            history.source = observation.source;
            for window in history.of_a_wrong_clock(now) {
                history.forget(window);
                effects.push(Effect::Withdrawn { path: observation.path, window });
                let (path, minute) = (observation.path, minute_of(window));
                effects.push(Effect::Evidence {
                    subject: EvidenceSubject::Path(path),
                    minute,
                    part: None,
                    content: None,
                });
            }
            let newest = history.windows.newest();
            let route = (observation.route, observation.addresses);
            if newest.is_some_and(|newest| window < newest - LATE_WINDOWS) {
                let late = too_late.entry(observation.path);
                let late = late.or_insert_with(|| PathHistory::new(observation.source));
                late.add(window, route, &observation.counts());
                if window >= window_of(now) - JUDGED_WINDOWS {
                    self.held.add(observation);
                    self.seals.on_late(observation.path, window);
                }
                continue;
            }
            history.add(window, route, &observation.counts());
            touched.entry(observation.path).or_default().insert(window);
        }
        for JudgedPath { path, history, judged } in self.judge_paths(touched) {
            let newest = history.windows.newest();
            self.paths.insert(path, history);
            for (window, assessment) in judged {
                let newest = Some(window) == newest;
                effects.push(Effect::Assessed { window, newest, assessment });
            }
            if let Some((_, newest)) = spans.get(&path)
                && let Some(seal) = self.seals.paths.get_mut(&path)
            {
                seal.on_report(*newest, now);
            }
            self.seal(path, now, effects);
            self.forget_old_windows(path);
        }
        for (path, late) in too_late {
            for minute in late.minutes(i64::MIN..=i64::MAX) {
                let part = Some(self.seals.next_part());
                let content = late.evidence_of(minute);
                let subject = EvidenceSubject::Path(path);
                effects.push(Effect::Evidence { subject, minute, part, content });
            }
            self.held.compact(path);
        }
        while let Some(path) = self.held.fullest() {
            self.read_again(path, now, effects);
        }
    }

    /// Judges the windows of paths that got rounds and are not sealed, and those after them: each path by
    /// itself, on all processors. Sealed ones are read again when no more late rounds come.
    fn judge_paths(&mut self, touched: BTreeMap<PathId, BTreeSet<i64>>) -> Vec<JudgedPath> {
        let mut jobs = Vec::with_capacity(touched.len());
        for (path, touched) in touched {
            let taken = self.paths.remove(&path).zip(touched.first().copied());
            let Some((mut history, first)) = taken else { continue };
            let through = self.seals.paths.get(&path).map_or(i64::MIN, |seal| seal.through);
            for late in touched.range(..=through) {
                history.republish.insert(minute_of(*late));
                self.seals.on_late(path, *late);
            }
            jobs.push((path, history, first.max(through.saturating_add(1))));
        }
        let judge = |(path, mut history, first): (PathId, PathHistory, i64)| {
            let judged = history.judge_from(path, first);
            JudgedPath { path, history, judged }
        };
        jobs.into_par_iter().with_min_len(PATHS_A_TASK).map(judge).collect()
    }

    /// Forgets the windows of a path that are too many, after they were sealed.
    fn forget_old_windows(&mut self, path: PathId) {
        let Some(history) = self.paths.get_mut(&path) else { return };
        let Some(newest) = history.windows.newest() else { return };
        let needed = self.seals.first_late(path).map(|first| first - READ_BEFORE);
        while let Some(window) = history.spare_window(newest, needed) {
            history.forget(window);
        }
        // The newest of those that are usual is read once more.
        history.windows.compact_before(newest - RECENT);
    }

    /// Time after which the clock seals, in microseconds.
    fn seal_after_us(&self) -> i64 {
        i64::from(self.book.limits().seal_after_s).saturating_mul(1_000_000)
    }

    /// Has alarms regard the windows of a path that are complete now, and publishes the evidence of
    /// minutes that are.
    fn seal(&mut self, path: PathId, now: WallTime, effects: &mut Vec<Effect>) {
        let after_us = self.seal_after_us();
        let Self { book, seals, .. } = self;
        let Some(seal) = seals.paths.get_mut(&path) else { return };
        let through = seal.advance(now, after_us);
        let Some(history) = self.paths.get_mut(&path) else { return };
        let later = history.unsealed.split_off(&(through + 1));
        for (window, assessment) in std::mem::replace(&mut history.unsealed, later) {
            let alarms = book.regard(&assessment, beginning_of(window), now);
            effects.extend(alarms.into_iter().map(Effect::Alarm));
        }
        let mut minutes = std::mem::take(&mut history.republish);
        minutes.retain(|minute| *minute <= seal.published);
        if let Some(complete) = seal.complete_minutes() {
            let first = complete.start().saturating_mul(WINDOWS_A_MINUTE);
            minutes.extend(history.minutes(first..=through));
            minutes.retain(|minute| minute <= complete.end());
        }
        for minute in minutes {
            let content = history.evidence_of(minute);
            let subject = EvidenceSubject::Path(path);
            effects.push(Effect::Evidence { subject, minute, part: None, content });
        }
    }

    /// Judges the windows of a path that got late rounds, and those after them, and has alarms read
    /// the sealed ones again; gives the number of windows.
    fn read_again(&mut self, path: PathId, now: WallTime, effects: &mut Vec<Effect>) -> usize {
        let late = self.seals.take_late(path);
        let Some(history) = self.paths.get_mut(&path) else {
            self.held.forget(path);
            return 0;
        };
        let through = self.seals.paths.get(&path).map_or(i64::MIN, |seal| seal.through);
        let held = self.held.judge(path, history);
        let Some(first) = late.or_else(|| held.first().map(|it| it.0)) else { return 0 };
        let again = history.windows.range(first - READ_BEFORE..);
        let again: Vec<i64> = again.map(|(window, _)| window).collect();
        let mut judge = |window| Some((window, Arc::new(history.assess_in_order(path, window)?)));
        let again: Vec<_> = again.into_iter().filter_map(&mut judge).collect();
        let (sealed, unsealed) = again.split_at(again.partition_point(|(it, _)| *it <= through));
        history.unsealed.extend(unsealed.iter().cloned());
        // The newer ones first: a fault that lasts is open, and earlier windows belong to it.
        let read = self.book.read_again(path, sealed, now);
        let (newest, kept) = (history.windows.newest(), i64::try_from(KEPT_WINDOWS));
        // What began before all that is remembered is not waited for.
        let oldest = newest.unwrap_or(first).saturating_sub(kept.unwrap_or(i64::MAX));
        if read.unfinished && first >= oldest {
            self.seals.on_late(path, first);
        }
        let count = again.len() + held.len();
        let earlier = self.book.read_again(path, &held, now);
        for (window, assessment) in held.into_iter().chain(again) {
            let newest = Some(window) == newest;
            if newest {
                self.latest.insert(path, Arc::clone(&assessment));
            }
            effects.push(Effect::Assessed { window, newest, assessment });
        }
        let alarms = read.effects.into_iter().chain(earlier.effects);
        effects.extend(alarms.map(Effect::Alarm));
        self.forget_old_windows(path);
        count
    }
}
