//! One world from its first window to its last case.

use super::cases::{self, Case, Effect, Kind};
use super::oracle::Oracle;
use super::phantoms::{self, Episodes, Explanation, PhantomRecord};
use super::setup::{Setup, WINDOW_S};
use super::stage::{HISTORY_WINDOWS, Stage, Window, begin_of};
use super::verdict::{self, CaseScore, Expected, Truth};
use itinera_candidates::{Candidate, Claim};
use itinera_model::unit::Tick;
use itinera_simnet::closed_form::{LinkId, Sampler};
use itinera_simnet::worlds::WorldFamily;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Version of worlds, cases and scores: records of others do not add up with these.
pub const RECORD_VERSION: u32 = 3;
/// What the oracle is called in tables.
pub const ORACLE: &str = "oracle";
/// Windows from the onset to the end of a case: ten minutes.
pub(super) const CASE_WINDOWS: u64 = 61;
/// Windows over which the true background of a link is compared: ten minutes.
const BACKGROUND_WINDOWS: u64 = 60;
/// Series of draws for cases played without their fault: cases have numbers below.
const CALM_SERIES: u64 = 1_000_000;
/// Thresholds of the sequential test with recorded times, in nats.
pub(super) const THRESHOLDS: std::ops::RangeInclusive<u32> = 2..=30;

/// How much of a world is run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Extent {
    /// Cases.
    pub cases: u64,
    /// Windows of ten seconds without any fault.
    pub calm_windows: u64,
    /// Only cases of the first figures are played: single links, neither slight nor gross.
    pub first_only: bool,
}

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
    /// The cases.
    pub cases: Vec<CaseRecord>,
    /// By candidate: episodes of claims before and between cases.
    pub calm: BTreeMap<String, PhantomRecord>,
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
    /// By candidate.
    pub verdicts: BTreeMap<String, CaseScore>,
    /// By candidate: episodes of claims that began in the case.
    pub phantoms: BTreeMap<String, PhantomRecord>,
    /// Seconds from the onset until the sequential test that knows place and size of the fault
    /// passes each threshold; absent where it never does.
    pub optimal_s: Vec<Option<f64>>,
    /// The highest that this test gets in as much time without a fault; absent where it follows none.
    pub calm_peak: Option<f64>,
}

/// Runs a world. `on_case` is told after every case, and after the calm time.
pub fn run_world(
    setup: &Setup,
    family: WorldFamily,
    seed: u64,
    extent: Extent,
    mut on_step: impl FnMut(),
) -> WorldRecord {
    let stage = Stage::new(setup, family, seed);
    let warm = Warm::new(&stage);
    let calm = warm.calm(extent.calm_windows);
    on_step();
    let mut cases = Vec::new();
    let all = (0..).map(|number| draw(&stage, number));
    let wanted = all.filter(|case| !extent.first_only || case.is_first());
    for case in wanted.take(usize::try_from(extent.cases).unwrap_or(usize::MAX)) {
        cases.push(warm.play(&case, |_| {}));
        on_step();
    }
    WorldRecord {
        version: RECORD_VERSION,
        setup: setup.clone(),
        family: family.to_string(),
        seed,
        extent,
        paths: stage.paths.len(),
        blind: blind(&stage),
        cases,
        calm,
    }
}

/// The nth case of a world.
pub fn draw(stage: &Stage, number: u64) -> Case {
    cases::draw(stage, number, (HISTORY_WINDOWS * WINDOW_S) as f64)
}

/// Candidates that have seen what is usual in a world.
pub struct Warm<'a> {
    stage: &'a Stage,
    candidates: Vec<Box<dyn Candidate>>,
    /// By candidate: what stood at the end of it.
    standing: Vec<Vec<Claim>>,
    /// By candidate: episodes of claims in it.
    episodes: Vec<Episodes>,
}

impl std::fmt::Debug for Warm<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Warm").field("candidates", &self.candidates.len()).finish_non_exhaustive()
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

impl<'a> Warm<'a> {
    /// Lets every candidate see the windows before anything happens.
    pub fn new(stage: &'a Stage) -> Self {
        Self::of(stage, itinera_candidates::all(&stage.topology))
    }

    /// The same of other candidates.
    pub(super) fn of(stage: &'a Stage, mut candidates: Vec<Box<dyn Candidate>>) -> Self {
        let mut sampler = stage.calm.clone();
        let mut drawn = Window::default();
        let mut standing: Vec<Vec<Claim>> = Vec::new();
        let mut episodes = vec![Episodes::default(); candidates.len()];
        for window in 0..HISTORY_WINDOWS {
            stage.window(&mut sampler, window, 0, &mut drawn);
            standing = stage.show(&sampler, window, &drawn, |shown| {
                candidates.iter_mut().map(|candidate| candidate.regard(shown)).collect()
            });
            for (claims, episodes) in standing.iter().zip(&mut episodes) {
                episodes.regard(window, claims, |claim, _| {
                    surge_or_nothing(stage, &mut sampler, claim, window)
                });
            }
        }
        Self { stage, candidates, standing, episodes }
    }

    fn fork(&self) -> Vec<Box<dyn Candidate>> {
        self.candidates.iter().map(|candidate| candidate.fork()).collect()
    }

    /// Continues without any fault; gives the episodes of claims from the first window on.
    pub(super) fn calm(&self, windows: u64) -> BTreeMap<String, PhantomRecord> {
        let mut candidates = self.fork();
        let mut sampler = self.stage.calm.clone();
        let mut drawn = Window::default();
        let mut episodes = self.episodes.clone();
        for window in HISTORY_WINDOWS..HISTORY_WINDOWS + windows {
            self.stage.window(&mut sampler, window, 1, &mut drawn);
            let now: Vec<Vec<Claim>> = self.stage.show(&sampler, window, &drawn, |shown| {
                candidates.iter_mut().map(|candidate| candidate.regard(shown)).collect()
            });
            for (claims, episodes) in now.iter().zip(&mut episodes) {
                episodes.regard(window, claims, |claim, _| {
                    surge_or_nothing(self.stage, &mut sampler, claim, window)
                });
            }
        }
        let names = candidates.iter().map(|candidate| candidate.name().to_owned());
        names.zip(episodes.into_iter().map(|it| it.record)).collect()
    }

    /// Plays one case; `on_window` is shown every window of it.
    pub fn play(&self, case: &Case, mut on_window: impl FnMut(&Moment<'_>)) -> CaseRecord {
        let stage = self.stage;
        let mut candidates = self.fork();
        let mut sampler = stage.changed(&case.changes);
        let mut oracle = Oracle::new(stage, case);
        let information = oracle.information(CASE_WINDOWS - 1);
        let expected = Expected::new(stage, case);
        let mut episodes: Vec<Episodes> = self.episodes.iter().map(Episodes::continued).collect();
        let mut noticed: Vec<Option<f64>> = vec![None; candidates.len()];
        let mut claims: Vec<(&'static str, Vec<Claim>)> =
            candidates.iter().map(|candidate| (candidate.name(), Vec::new())).collect();
        let mut drawn = Window::default();
        for window in HISTORY_WINDOWS..HISTORY_WINDOWS + CASE_WINDOWS {
            stage.window(&mut sampler, window, 2 + case.number, &mut drawn);
            stage.show(&sampler, window, &drawn, |shown| {
                for (candidate, (_, claims)) in candidates.iter_mut().zip(&mut claims) {
                    *claims = candidate.regard(shown);
                }
            });
            if has_oracle(case.kind) {
                oracle.regard(&drawn);
            }
            let since_s = seconds(begin_of(window + 1)) - case.changes.at_s;
            for (nth, (_, claims)) in claims.iter().enumerate() {
                let is_new =
                    |claim: &&Claim| !self.standing[nth].iter().any(|known| known.same_as(claim));
                let mut fresh = claims.iter().filter(is_new);
                if since_s > 0.0 && fresh.any(|claim| expected.is_right(stage, claim)) {
                    noticed[nth] = noticed[nth].or(Some(since_s));
                }
                episodes[nth].regard(window, claims, |claim, of_fault| {
                    match since_s > 0.0 && expected.explains(stage, claim, of_fault) {
                        true => Explanation::Fault,
                        false => surge_or_nothing(stage, &mut sampler, claim, window),
                    }
                });
            }
            on_window(&Moment { window, drawn: &drawn, claims: &claims });
        }
        let names = claims.iter().map(|(name, _)| (*name).to_owned());
        let phantoms = names.zip(episodes.into_iter().map(|it| it.record)).collect();
        let mut verdicts: BTreeMap<String, CaseScore> = BTreeMap::new();
        for ((name, claims), noticed_s) in claims.iter().zip(noticed) {
            let verdict = verdict::verdict(stage, case, claims);
            verdicts.insert((*name).to_owned(), CaseScore { noticed_s, ..verdict });
        }
        if has_oracle(case.kind) {
            let opinion = oracle.opinion(case.kind);
            verdicts.insert(ORACLE.to_owned(), verdict::of_opinion(stage, case, &opinion));
        }
        let windows = HISTORY_WINDOWS..HISTORY_WINDOWS + CASE_WINDOWS;
        let without_fault = oracle.without_fault(windows, CALM_SERIES + case.number);
        CaseRecord {
            number: case.number,
            kind: case.kind,
            effect: case.effect,
            truth: verdict::truth(stage, case, information),
            verdicts,
            phantoms,
            optimal_s: optimal(case, &oracle.followed),
            calm_peak: peak(&without_fault),
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
fn optimal(case: &Case, followed: &[f64]) -> Vec<Option<f64>> {
    let mut sum: f64 = 0.0;
    let mut passed = vec![None; THRESHOLDS.count()];
    for (window, told) in (HISTORY_WINDOWS..).zip(followed) {
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
