//! One world from its first window to its last case.

use super::archive;
use super::cases::{Case, Effect, Kind, draw};
use super::cast::{Cast, Said};
use super::coverage::{CoverageRecord, coverage};
use super::job::{Extent, Job};
use super::memory::Memory;
use super::oracle::{Baselines, Ladder, Learner, Reader};
use super::phantoms::{self, Episodes, Explanation, PhantomRecord};
use super::setup::{Setup, WINDOW_S};
use super::stage::Stage;
use super::stretch::{STRETCHES, Stretch};
use super::verdict::{self, CaseScore, Expected, Truth};
use super::window::{Window, begin_of};
use itinera_candidates::{Candidate, Claim, Region};
use itinera_model::unit::Tick;
use itinera_simnet::closed_form::{LinkId, Sampler};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Version of worlds, cases and scores: records of others do not add up with these.
pub const RECORD_VERSION: u32 = 5;
/// A baseline watches one part of so many of the time without faults.
const BASELINE_PART: u64 = 7;
/// Windows over which the true background of a link is compared: ten minutes.
const BACKGROUND_WINDOWS: u64 = 60;
/// Series of draws for cases played without their fault: cases have numbers below.
const CALM_SERIES: u64 = 1_000_000;
/// Thresholds of the sequential test with recorded times, in nats.
pub(super) const THRESHOLDS: std::ops::RangeInclusive<u32> = 2..=30;

/// Everything that came of one world.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct WorldRecord {
    /// Version of the record.
    pub version: u32,
    /// The measuring setup.
    pub setup: Setup,
    /// The family, by name.
    pub family: String,
    /// The seed.
    pub seed: u64,
    /// How much of it was run.
    pub extent: Extent,
    /// Paths.
    pub paths: usize,
    /// Shares of the used directed links that share a class with another, and that cannot be told
    /// from their own reverse.
    pub blind: [f64; 2],
    /// By candidate: the version of its method.
    pub versions: BTreeMap<String, u32>,
    /// The cases.
    pub cases: Vec<CaseRecord>,
    /// By candidate: episodes of claims before and between cases.
    pub calm: BTreeMap<String, PhantomRecord>,
    /// By candidate: what it says that it cannot tell apart, at the end of each history.
    pub coverage: BTreeMap<String, CoverageRecord>,
}

/// One case.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CaseRecord {
    /// Its number.
    pub number: u64,
    /// Its kind.
    pub kind: Kind,
    /// How bad.
    pub effect: Effect,
    /// What is true of it.
    pub truth: Truth,
    /// Windows of history before it.
    pub history_windows: u64,
    /// Weeks before that which are kept as summaries; none after a cold start.
    pub weeks: u8,
    /// By candidate.
    pub verdicts: BTreeMap<String, CaseScore>,
    /// By candidate: episodes of claims that began in the case.
    pub phantoms: BTreeMap<String, PhantomRecord>,
    /// Seconds from the onset until the sequential test that knows place and size of the fault
    /// passes each threshold; absent where it never does.
    pub optimal_s: Vec<Option<f64>>,
    /// The highest that this test gets in as much time without a fault; absent where it follows none.
    pub calm_peak: Option<f64>,
    /// Of a loss, by oracle that does not know the size: the probability that it gave to at most the true one, given
    /// that it is a loss: uniform over many cases where its posterior is right.
    pub size_ranks: BTreeMap<String, f64>,
}

/// What of a world is run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parts {
    /// What is true of it, and the oracle.
    pub world: bool,
    /// These candidates, by name.
    pub candidates: Vec<String>,
}

impl Parts {
    /// The world and every candidate.
    pub fn all() -> Self {
        let all = itinera_candidates::roster();
        Self { world: true, candidates: all.iter().map(|(name, _)| (*name).to_owned()).collect() }
    }

    fn cast(&self, stage: &Stage) -> Vec<Box<dyn Candidate>> {
        let mut all = itinera_candidates::all(&stage.topology);
        all.retain(|candidate| self.candidates.iter().any(|name| name == candidate.name()));
        all
    }
}

/// Runs a world. `on_step` is told after every case, and after the calm time.
pub fn run_world(job: &Job, parts: &Parts, mut on_step: impl FnMut()) -> WorldRecord {
    let Job { setup, family, seed, extent } = job;
    let stage = Stage::new(setup, *family, *seed);
    let times = extent.times.clamp(1, STRETCHES);
    let stretches: Vec<Stretch<'_>> =
        (0..times).map(|number| Stretch::new(&stage, number)).collect();
    let at_these = (0..).filter(|number| number % STRETCHES < times);
    let all = at_these.map(|number| draw(&stretches[index(number % STRETCHES)], number));
    let wanted = all.filter(|case| !extent.first_only || case.is_first());
    let wanted: Vec<Case> = wanted.take(index(extent.cases)).collect();
    let with_oracles: BTreeSet<u64> =
        wanted.iter().map(|case| case.number).take(index(extent.oracle_cases)).collect();
    let cast = parts.cast(&stage);
    let mut cases = Vec::new();
    let mut calm: BTreeMap<String, PhantomRecord> = BTreeMap::new();
    let mut alike: BTreeMap<String, CoverageRecord> = BTreeMap::new();
    for stretch in &stretches {
        let fresh = cast.iter().map(|candidate| candidate.fork()).collect();
        let warm = Warm::of(stretch, fresh, parts.world);
        for case in wanted.iter().filter(|case| case.number % STRETCHES == stretch.number) {
            let asks = with_oracles.contains(&case.number);
            cases.push(warm.play_with(case, asks, |_| {}));
            on_step();
        }
        for candidate in warm.cast.candidates() {
            let sets = candidate.alike();
            *alike.entry(candidate.name().to_owned()).or_default() += coverage(&stage.atlas, &sets);
        }
        for (name, record) in warm.calm(extent.calm_windows / times) {
            calm.entry(name).or_default().add(&record);
        }
    }
    cases.sort_by_key(|case| case.number);
    on_step();
    WorldRecord {
        version: RECORD_VERSION,
        setup: setup.clone(),
        family: family.to_string(),
        seed: *seed,
        extent: *extent,
        paths: stage.paths.len(),
        blind: blind(&stage),
        versions: cast.iter().map(|it| (it.name().to_owned(), it.version())).collect(),
        cases,
        calm,
        coverage: alike,
    }
}

fn index(number: u64) -> usize {
    usize::try_from(number).unwrap_or(usize::MAX)
}

/// Candidates that have seen what is usual at a time of a world.
pub struct Warm<'a> {
    stretch: &'a Stretch<'a>,
    cast: Cast,
    /// What agents know of routes.
    memory: Memory,
    /// What is usual as history tells it, for oracles; absent where these are not asked.
    pub(super) baselines: Option<Baselines>,
    /// By candidate: what stood at the end of it.
    standing: Vec<Vec<Claim>>,
    /// By candidate: episodes of claims in it.
    episodes: Vec<Episodes>,
}

impl std::fmt::Debug for Warm<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Warm").field("candidates", &self.cast.len()).finish_non_exhaustive()
    }
}

/// A window of a case, for display.
#[derive(Debug)]
pub struct Moment<'a> {
    /// The window.
    pub window: u64,
    pub(super) drawn: &'a Window,
    /// By candidate: what stands.
    pub claims: &'a [(&'static str, Vec<Claim>)],
}

/// What a candidate does in a case, window by window.
#[derive(Debug, Clone, Default)]
struct Course {
    noticed_s: Option<f64>,
    /// The first region of the first claim when it was last looked at.
    first: Option<Region>,
    changes: u32,
    verdict: CaseScore,
    /// When a claim about the fault stood last, in seconds from the end of the fault.
    stood_s: Option<f64>,
}

impl<'a> Warm<'a> {
    /// Lets every candidate see the windows before anything happens.
    pub fn new(stretch: &'a Stretch<'a>) -> Self {
        Self::of(stretch, itinera_candidates::all(&stretch.stage.topology), true)
    }

    /// The same of other candidates, with oracles or without.
    pub(super) fn of(
        stretch: &'a Stretch<'a>,
        candidates: Vec<Box<dyn Candidate>>,
        has_oracles: bool,
    ) -> Self {
        let stage = stretch.stage;
        let mut sampler = stretch.calm.clone();
        let mut drawn = Window::default();
        let mut memory = Memory::new(stage);
        let mut standing: Vec<Vec<Claim>> = Vec::new();
        let mut episodes = vec![Episodes::default(); candidates.len()];
        let mut learner = has_oracles.then(|| Learner::new(stretch));
        let mut cast = Cast::new(candidates, &archive::before(stretch));
        for window in 0..stretch.history {
            stretch.window(&mut sampler, window, 0, &mut drawn);
            if let Some(learner) = &mut learner {
                learner.regard(&drawn);
            }
            let now = (window, 0, &drawn);
            let said = cast.watch(stretch, &mut memory, &mut sampler, now, |_| true);
            standing.clear();
            for (said, episodes) in said.into_iter().zip(&mut episodes) {
                let said = said.unwrap_or_default();
                episodes.regard(window, &said, |claim, _| {
                    surge_or_nothing(stage, &mut sampler, claim, window)
                });
                standing.push(said.claims);
            }
        }
        let baselines = learner.map(Learner::learned);
        Self { stretch, cast, memory, baselines, standing, episodes }
    }

    /// Continues without any fault; gives the episodes of claims from the first window on. In the middle the routing
    /// of one link changes, as it does now and then, and changes back.
    pub(super) fn calm(&self, windows: u64) -> BTreeMap<String, PhantomRecord> {
        let stretch = self.stretch;
        let mut cast = self.cast.fork();
        let mut memory = self.memory.clone();
        let mut sampler = stretch.with_route_changes(windows);
        let mut drawn = Window::default();
        let mut episodes = self.episodes.clone();
        for turn in 0..windows {
            let window = stretch.history + turn;
            let is_watched =
                |it: &dyn Candidate| !it.is_baseline() || turn * BASELINE_PART < windows;
            if !cast.candidates().any(is_watched) {
                break;
            }
            stretch.window(&mut sampler, window, 1, &mut drawn);
            let now = (window, 1, &drawn);
            let said = cast.watch(stretch, &mut memory, &mut sampler, now, is_watched);
            for (said, episodes) in said.iter().zip(&mut episodes) {
                let Some(said) = said else { continue };
                episodes.regard(window, said, |claim, _| {
                    surge_or_nothing(stretch.stage, &mut sampler, claim, window)
                });
            }
        }
        let names = cast.candidates().map(|candidate| candidate.name().to_owned());
        names.zip(episodes.into_iter().map(|it| it.record)).collect()
    }

    /// Plays one case; `on_window` is shown every window of it.
    pub fn play(&self, case: &Case, on_window: impl FnMut(&Moment<'_>)) -> CaseRecord {
        self.play_with(case, true, on_window)
    }

    /// The same, and the oracles that do not know the size are asked about it or not.
    fn play_with(
        &self,
        case: &Case,
        asks_oracles: bool,
        mut on_window: impl FnMut(&Moment<'_>),
    ) -> CaseRecord {
        let stretch = self.stretch;
        let stage = stretch.stage;
        let mut cast = self.cast.fork();
        let mut memory = self.memory.clone();
        let mut sampler = stretch.changed(&case.changes);
        let mut reader = Reader::new(stretch);
        let baselines = self.baselines.as_ref();
        let has_oracle = baselines.is_some() && has_oracle(case.kind);
        let mut ladder = Ladder::new(stretch, case, baselines.filter(|_| asks_oracles));
        let information =
            baselines.map_or(f64::NAN, |_| ladder.oracle.information(&mut reader, case.lasts_s()));
        let expected = Expected::new(stage, case);
        let mut episodes: Vec<Episodes> = self.episodes.iter().map(Episodes::continued).collect();
        let mut courses = vec![Course::default(); cast.len()];
        let mut claims: Vec<(&'static str, Vec<Claim>)> =
            cast.candidates().map(|candidate| (candidate.name(), Vec::new())).collect();
        let mut drawn = Window::default();
        for window in stretch.history..case.watched_until() {
            let series = 2 + case.number;
            stretch.window(&mut sampler, window, series, &mut drawn);
            let now = (window, series, &drawn);
            let said = cast.watch(stretch, &mut memory, &mut sampler, now, |_| true);
            let said: Vec<Said> = said.into_iter().map(Option::unwrap_or_default).collect();
            if has_oracle && window <= case.asked_after() {
                let told = reader.window(&drawn);
                ladder.regard(&mut reader, told);
            }
            let since_s = seconds(begin_of(window + 1)) - case.changes.at_s;
            for (nth, said) in said.into_iter().enumerate() {
                let (standing, course) = (&self.standing[nth], &mut courses[nth]);
                course.regard(stage, case, &expected, (window, since_s), (standing, &said.claims));
                episodes[nth].regard(window, &said, |claim, of_fault| {
                    match since_s > 0.0 && expected.explains(stage, claim, of_fault) {
                        true => Explanation::Fault,
                        false => surge_or_nothing(stage, &mut sampler, claim, window),
                    }
                });
                claims[nth].1 = said.claims;
            }
            on_window(&Moment { window, drawn: &drawn, claims: &claims });
        }
        let names = claims.iter().map(|(name, _)| (*name).to_owned());
        let phantoms = names.zip(episodes.into_iter().map(|it| it.record)).collect();
        let names = claims.iter().map(|(name, _)| (*name).to_owned());
        let mut verdicts: BTreeMap<String, CaseScore> =
            names.zip(courses.into_iter().map(|course| course.score(case))).collect();
        let mut size_ranks = BTreeMap::new();
        let asked = if has_oracle { ladder.asked(case, &mut reader) } else { Vec::new() };
        for asked in asked {
            let verdict = verdict::of_opinion(stage, case, &asked.opinion);
            verdicts.insert(asked.name.to_owned(), verdict);
            size_ranks.extend(asked.size_rank.map(|rank| (asked.name.to_owned(), rank)));
        }
        let until = if self.baselines.is_some() { case.asked_after() + 1 } else { stretch.history };
        let windows = stretch.history..until;
        let without_fault =
            ladder.oracle.without_fault(&mut reader, windows, CALM_SERIES + case.number);
        CaseRecord {
            number: case.number,
            kind: case.kind,
            effect: case.effect,
            truth: verdict::truth(stretch, case, information),
            history_windows: stretch.history,
            weeks: stretch.weeks,
            verdicts,
            phantoms,
            optimal_s: optimal(case, stretch.history, &ladder.oracle.followed),
            calm_peak: peak(&without_fault),
            size_ranks,
        }
    }
}

impl Course {
    /// Takes what a candidate claims at the end of a window, and what it claimed before the case.
    fn regard(
        &mut self,
        stage: &Stage,
        case: &Case,
        expected: &Expected,
        (window, since_s): (u64, f64),
        (standing, claims): (&[Claim], &[Claim]),
    ) {
        let is_new = |claim: &&Claim| !standing.iter().any(|known| known.same_as(claim));
        if window <= case.asked_after() {
            let mut fresh = claims.iter().filter(is_new);
            if since_s > 0.0 && fresh.any(|claim| expected.is_right(stage, claim)) {
                self.noticed_s = self.noticed_s.or(Some(since_s));
            }
            let first = claims.first().and_then(|claim| claim.places.first());
            let first = first.map(|(region, _)| region.clone());
            if self.noticed_s.is_some() {
                self.changes += u32::from(self.first.is_some() && self.first != first);
                self.first = first;
            }
        }
        if window == case.asked_after() {
            self.verdict = verdict::verdict(stage, case, claims);
        }
        let about = claims.iter().filter(is_new).any(|claim| expected.is_about(stage, claim));
        if window >= case.asked_after() && about {
            self.stood_s = Some(since_s - case.lasts_s());
        }
    }

    fn score(self, case: &Case) -> CaseScore {
        let watched_s = seconds(begin_of(case.watched_until())) - case.changes.at_s;
        let left_s = watched_s - case.lasts_s() - WINDOW_S as f64 / 2.0;
        let cleared_s =
            self.stood_s.filter(|stood| case.changes.for_s.is_some() && *stood < left_s);
        CaseScore {
            noticed_s: self.noticed_s,
            changes: self.changes,
            cleared_s: cleared_s.map(|stood| stood + WINDOW_S as f64),
            ..self.verdict
        }
    }
}

const fn has_oracle(kind: Kind) -> bool {
    kind.is_single() || matches!(kind, Kind::None)
}

/// Whether a link that is claimed really is worse, in the direction, by the cause and by about the size that are
/// claimed, than it was on average before; nothing else explains a claim without a fault.
fn surge_or_nothing(
    stage: &Stage,
    sampler: &mut Sampler,
    claim: &Claim,
    window: u64,
) -> Explanation {
    let is_worse = |link: &LinkId| {
        let members = stage.atlas.links[link.0].members;
        (0..members).any(|member| {
            let mut at = |window: u64| sampler.link_state(*link, member, begin_of(window));
            let before = window.saturating_sub(BACKGROUND_WINDOWS)..window.saturating_sub(6);
            let count = before.clone().count().max(1) as f64;
            let (loss, delay) = before.fold((0.0, 0.0), |(loss, delay), earlier| {
                let (more_loss, more_delay) = at(earlier);
                (loss + more_loss / count, delay + more_delay as f64 / count)
            });
            let recent = (window.saturating_sub(5)..=window).map(&mut at);
            let now = recent.fold((0.0, 0.0), |(loss, delay), (more_loss, more_delay)| {
                (loss + more_loss / 6.0, delay + more_delay as f64 / 6.0)
            });
            phantoms::is_surge(claim, now.0 - loss, (now.1 - delay) / 1e6)
        })
    };
    let links = verdict::claimed_links(stage, claim);
    if links.iter().any(is_worse) { Explanation::Surge } else { Explanation::Nothing }
}

fn seconds(at: Tick) -> f64 {
    at.as_nanos() as f64 / 1e9
}

/// The highest that the cumulative sum of what windows tell gets; absent without any window.
fn peak(told: &[f64]) -> Option<f64> {
    let sums = told.iter().scan(0.0_f64, |sum, told| {
        *sum = (*sum + told).max(0.0);
        Some(*sum)
    });
    sums.reduce(f64::max)
}

/// When the cumulative sum of what each window tells passes each threshold.
///
/// Source: E. S. Page, Continuous inspection schemes, Biometrika 41 (1954); G. Lorden, Procedures
/// for reacting to a change in distribution (1971): its false alarms are at least exp(threshold)
/// windows apart.
fn optimal(case: &Case, begins: u64, followed: &[f64]) -> Vec<Option<f64>> {
    let mut sum: f64 = 0.0;
    let mut passed = vec![None; THRESHOLDS.count()];
    for (window, told) in (begins..).zip(followed) {
        sum = (sum + told).max(0.0);
        let since_s = seconds(begin_of(window + 1)) - case.changes.at_s;
        for (passed, threshold) in passed.iter_mut().zip(THRESHOLDS) {
            if sum >= f64::from(threshold) {
                *passed = passed.or(Some(since_s));
            }
        }
    }
    passed
}

/// Shares of used directed links that share a class with another link, and that cannot be told
/// from their own reverse.
fn blind(stage: &Stage) -> [f64; 2] {
    let used: BTreeSet<_> = stage.atlas.used.iter().flatten().copied().collect();
    let count = used.len().max(1) as f64;
    let shared = used.iter().filter(|link| stage.atlas.class(**link).len() > 1).count();
    let reversed = used
        .iter()
        .filter(|link| stage.atlas.same_column(**link, stage.atlas.reverse(**link)))
        .count();
    [shared as f64 / count, reversed as f64 / count]
}
