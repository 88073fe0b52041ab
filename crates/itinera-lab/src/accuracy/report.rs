//! Records of worlds added up to scores.

use super::chance::split_mix;
use super::cost::Cost;
use super::coverage::CoverageRecord;
use super::figures::{ScoredCase, figure_of, is_first, is_weighed, mean_of, one};
use super::groups::{Group, by_class, by_crossings, by_history, by_kind, by_size};
pub use super::interval::Interval;
use super::interval::{of_rate, of_worlds};
use super::oracle::{LEARNED, ORACLE, SIZE_UNKNOWN};
use super::phantoms::PhantomRecord;
use super::run::{CaseRecord, THRESHOLDS, WorldRecord};
use super::setup::WINDOW_S;
use super::verdict::CaseScore;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// A finding is sure from here on.
const SURE: f64 = 0.9;
const CALIBRATION_BINS: usize = 10;
/// So many of the highest peaks are too few to tell of their rate.
const TAIL: usize = 20;
/// No verdict is scored as less probable than this.
const LEAST_PROBABILITY: f64 = 1e-3;
const DAY_S: f64 = 86_400.0;
/// A miss counts as noticed when candidates are asked about a fault that lasts.
const CASE_S: f64 = 600.0;

/// All scores, by setup and family.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Report {
    /// Version of worlds, cases and scores.
    pub version: u32,
    /// By setup and family of worlds.
    pub parts: Vec<Part>,
    /// What drawing and candidates cost, where worlds were run.
    pub costs: Vec<Cost>,
}

/// Scores in the worlds of one family, measured by one setup.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Part {
    /// The setup's name.
    pub setup: String,
    /// The family's name.
    pub family: String,
    /// Seeds of the worlds.
    pub seeds: Vec<u64>,
    /// Cases in all.
    pub cases: usize,
    /// Cases that no judgement could find.
    pub undetectable: usize,
    /// Days of a path without any fault.
    pub path_days: f64,
    /// Share of directed links that share a class with another.
    pub blind: f64,
    /// Share of directed links that cannot be told from their own reverse.
    pub blind_reverse: f64,
    /// By candidate.
    pub scores: Vec<Scores>,
    /// Comparisons in the same cases.
    pub paired: Vec<Paired>,
}

/// One candidate's scores. Without other words they are over faults of single links that lose 2
/// to 20 % or delay by 8 to 60 ms; a missed fault counts as wrong.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Scores {
    /// The candidate.
    pub candidate: String,
    /// The link is right.
    pub link: Interval,
    /// Share of the cases in which a claim can name the link: the most that any candidate could get.
    pub ceiling: Interval,
    /// The link or one next to it.
    pub near: Interval,
    /// The owner is right.
    pub owner: Interval,
    /// The owner on either side of the link.
    pub either_side: Interval,
    /// The direction is right, given the link; absent where none is ever said.
    pub direction: Interval,
    /// Links in what was claimed.
    pub set_links: Interval,
    /// Debiased calibration error of the link's confidence, over all cases with a claim.
    pub calibration_link: Interval,
    /// The same of the owner's.
    pub calibration_owner: Interval,
    /// Mean log of the probability given to what turned out; without a claim, that is "no fault".
    pub log_score: Interval,
    /// Share of cases with a claim of confidence .9 or more.
    pub sure: Interval,
    /// Share of these in which the link is right.
    pub sure_right: Interval,
    /// Episodes of claims that nothing true explains, in 1,000 days of a path: before, between and in cases.
    pub phantoms: Interval,
    /// Those that reach a confidence of .9.
    pub phantoms_sure: Interval,
    /// Those that reach a confidence of .99.
    pub phantoms_surest: Interval,
    /// Days of a path that were watched for these.
    pub path_days: f64,
    /// Episodes in that time that name a link which really got worse, by the cause and in the direction claimed.
    pub true_surges: u64,
    /// Cause and link are claimed rightly: share of the cases that a sequential test with known place and size
    /// notices at equal false alarms.
    pub noticed: Interval,
    /// In these cases: mean time until then against that test's, where what is missed counts until the end of
    /// the case.
    pub delay_ratio: Interval,
    /// How often the first place of the first claim changed in a case, from when the fault was noticed.
    pub changes: Interval,
    /// Of faults that ended: mean seconds until no claim about them stood any more.
    pub clear_s: Interval,
    /// Of faults that ended and were located: share that cleared within five minutes.
    pub cleared: Interval,
    /// Extra rounds that it asked for, as a share of the usual ones.
    pub extra_rounds: Interval,
    /// Of the pairs of links that it says it cannot tell apart: the share that cannot be.
    pub alike_right: Interval,
    /// Of the pairs of links that cannot be told apart: the share that it says.
    pub alike_said: Interval,
    /// By what is known from before: single links.
    pub by_history: Vec<Group>,
    /// By kind of fault, the undetectable left out.
    pub by_kind: Vec<Group>,
    /// By size, single links.
    pub by_size: Vec<Group>,
    /// By paths that cross the fault, single links.
    pub by_crossings: Vec<Group>,
    /// By links that cannot be told apart, single links.
    pub by_class: Vec<Group>,
}

/// One candidate against another in the same cases.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Paired {
    /// The better one, it is hoped.
    pub better: String,
    /// The other.
    pub than: String,
    /// Share of cases with the right link, minus the other's.
    pub link: Interval,
}

/// Adds records up. Records of the same world count once; the order does not matter.
pub fn report(records: &[WorldRecord]) -> Report {
    let mut parts: BTreeMap<(&str, &str), BTreeMap<u64, &WorldRecord>> = BTreeMap::new();
    for record in records {
        let key = (record.setup.name.as_str(), record.family.as_str());
        parts.entry(key).or_default().insert(record.seed, record);
    }
    let version = super::run::RECORD_VERSION;
    let part = |((setup, family), worlds): ((&str, &str), BTreeMap<u64, &WorldRecord>)| {
        part(setup, family, &worlds.into_values().collect::<Vec<_>>())
    };
    Report { version, parts: parts.into_iter().map(part).collect(), costs: Vec::new() }
}

fn part(setup: &str, family: &str, worlds: &[&WorldRecord]) -> Part {
    let cases = || worlds.iter().flat_map(|world| &world.cases);
    let names: BTreeSet<&str> =
        worlds.iter().flat_map(|world| world.versions.keys().map(String::as_str)).collect();
    let mut names: Vec<&str> = names.into_iter().collect();
    // Those to compare with come first, and each before itself calibrated.
    let roster = itinera_candidates::roster();
    names.sort_by_key(|name| roster.iter().position(|(known, _)| name.starts_with(known)));
    names.extend([LEARNED, SIZE_UNKNOWN, ORACLE]);
    let path_days = path_days(worlds);
    let mean = |which: usize| {
        worlds.iter().map(|world| world.blind[which]).sum::<f64>() / worlds.len().max(1) as f64
    };
    Part {
        setup: setup.to_owned(),
        family: family.to_owned(),
        seeds: worlds.iter().map(|world| world.seed).collect(),
        cases: cases().count(),
        undetectable: cases().filter(|case| case.truth.is_undetectable()).count(),
        path_days,
        blind: mean(0),
        blind_reverse: mean(1),
        scores: names.iter().map(|name| scores(name, worlds)).collect(),
        paired: paired_all(&names, worlds),
    }
}

/// Days of a path without any fault: before and between cases, by the candidate that watched most.
fn path_days(worlds: &[&WorldRecord]) -> f64 {
    let windows = |world: &WorldRecord| world.calm.values().map(|it| it.windows).max().unwrap_or(0);
    worlds.iter().map(|world| days_of(world, windows(world))).sum()
}

/// Each candidate against each that is listed before it, and the oracle against each.
fn paired_all(names: &[&str], worlds: &[&WorldRecord]) -> Vec<Paired> {
    let pairs = names
        .iter()
        .enumerate()
        .flat_map(|(nth, better)| names[..nth].iter().rev().map(move |than| (*better, *than)));
    pairs.map(|(better, than)| paired(better, than, worlds)).collect()
}

/// Days of the paths of a world in so many windows.
fn days_of(world: &WorldRecord, windows: u64) -> f64 {
    world.paths as f64 * (windows * WINDOW_S) as f64 / DAY_S
}

/// All episodes of a candidate in a world: before, between and in cases.
fn episodes(name: &str, world: &WorldRecord) -> PhantomRecord {
    let mut sum = world.calm.get(name).copied().unwrap_or_default();
    for case in world.cases.iter().filter_map(|case| case.phantoms.get(name)) {
        sum.add(case);
    }
    sum
}

/// Phantoms in 1,000 days of a path, at one of the levels of confidence; intervals by world, or by the number
/// of days where there is none.
fn phantom_rate(name: &str, level: usize, worlds: &[&WorldRecord]) -> Interval {
    let events = |world: &WorldRecord| episodes(name, world).phantoms[level];
    let exposure = |world: &WorldRecord| days_of(world, episodes(name, world).windows) / 1_000.0;
    let count: u64 = worlds.iter().map(|world| events(world)).sum();
    if count == 0 {
        return of_rate(0, worlds.iter().map(|world| exposure(world)).sum());
    }
    of_worlds(worlds, usize::try_from(count).unwrap_or(usize::MAX), |drawn| {
        let days: f64 = drawn.iter().map(|world| exposure(world)).sum();
        let count: u64 = drawn.iter().map(|world| events(world)).sum();
        (days > 0.0).then(|| count as f64 / days)
    })
}

fn scores(name: &str, worlds: &[&WorldRecord]) -> Scores {
    let first = |value: fn(ScoredCase<'_>) -> Option<f64>| mean_of(name, worlds, is_first, value);
    let is_oracle = [ORACLE, SIZE_UNKNOWN, LEARNED].contains(&name);
    let unless_oracle = |figure: &dyn Fn() -> Interval| match is_oracle {
        true => Interval::default(),
        false => figure(),
    };
    let threshold = threshold(name, worlds);
    let reference = |case: &CaseRecord| case.optimal_s.get(threshold).copied().flatten();
    let delay_ratio = |all: &[ScoredCase<'_>]| {
        let noticed = all.iter().filter_map(|(case, it)| {
            Some((it.noticed_s.unwrap_or_else(|| lasts_s(case)), reference(case)?))
        });
        let (own, best) =
            noticed.fold((0.0, 0.0), |(own, best), (at, reference)| (own + at, best + reference));
        (best > 0.0).then(|| own / best)
    };
    Scores {
        candidate: name.to_owned(),
        link: first(|(_, verdict)| one(verdict.link)),
        ceiling: first(|(case, _)| one(case.truth.nameable)),
        near: first(|(_, verdict)| one(verdict.near)),
        owner: first(|(_, verdict)| one(verdict.owner)),
        either_side: first(|(_, verdict)| one(verdict.either_side)),
        direction: first(|(_, verdict)| verdict.direction.and_then(one)),
        set_links: first(|(_, verdict)| verdict.claimed.then_some(verdict.set_links as f64)),
        calibration_link: figure_of(name, worlds, is_weighed, |all| {
            calibration(all, |verdict| (verdict.confidence, verdict.link))
        }),
        calibration_owner: figure_of(name, worlds, is_weighed, |all| {
            calibration(all, |verdict| (verdict.owner_confidence, verdict.owner))
        }),
        log_score: mean_of(name, worlds, is_weighed, |(case, verdict)| {
            Some(log_score(case, verdict))
        }),
        sure: first(|(_, verdict)| one(verdict.claimed && verdict.confidence >= SURE)),
        sure_right: first(|(_, verdict)| {
            (verdict.claimed && verdict.confidence >= SURE).then_some(())?;
            one(verdict.link)
        }),
        phantoms: unless_oracle(&|| phantom_rate(name, 0, worlds)),
        phantoms_sure: unless_oracle(&|| phantom_rate(name, 1, worlds)),
        phantoms_surest: unless_oracle(&|| phantom_rate(name, 2, worlds)),
        path_days: worlds.iter().map(|it| days_of(it, episodes(name, it).windows)).sum(),
        true_surges: worlds.iter().map(|world| episodes(name, world).true_surges).sum(),
        noticed: unless_oracle(&|| {
            mean_of(name, worlds, is_first, |(case, verdict)| {
                reference(case).and_then(|_| one(verdict.noticed_s.is_some()))
            })
        }),
        delay_ratio: unless_oracle(&|| figure_of(name, worlds, is_first, delay_ratio)),
        changes: unless_oracle(&|| {
            first(|(_, verdict)| verdict.noticed_s.map(|_| f64::from(verdict.changes)))
        }),
        clear_s: unless_oracle(&|| first(|(_, verdict)| verdict.cleared_s)),
        cleared: unless_oracle(&|| {
            first(|(case, verdict)| {
                (case.truth.lasts_s.is_some() && verdict.link).then_some(())?;
                one(verdict.cleared_s.is_some())
            })
        }),
        extra_rounds: extra_rounds(name, worlds),
        alike_right: alike(name, worlds, |it| (it.right, it.said)),
        alike_said: alike(name, worlds, |it| (it.right, it.alike)),
        by_history: by_history(name, worlds),
        by_kind: by_kind(name, worlds),
        by_size: by_size(name, worlds),
        by_crossings: by_crossings(name, worlds),
        by_class: by_class(name, worlds),
    }
}

/// How long a candidate had to notice a fault, in seconds.
fn lasts_s(case: &CaseRecord) -> f64 {
    case.truth.lasts_s.unwrap_or(CASE_S)
}

fn mean(values: impl Iterator<Item = f64>) -> f64 {
    let (sum, count) = values.fold((0.0, 0.0), |(sum, count), value| (sum + value, count + 1.0));
    if count > 0.0 { sum / count } else { 0.0 }
}

/// Which threshold of the sequential test gives as few false alarms as a candidate has phantoms, by the peaks
/// that it reaches where there is no fault. Without any phantom the upper limit counts.
fn threshold(name: &str, worlds: &[&WorldRecord]) -> usize {
    let windows: u64 = worlds.iter().map(|world| episodes(name, world).windows).sum();
    let phantoms: u64 = worlds.iter().map(|world| episodes(name, world).phantoms[0]).sum();
    let events = if phantoms == 0 { 3.0 } else { phantoms as f64 };
    let peaks = worlds.iter().flat_map(|world| &world.cases).filter_map(|case| case.calm_peak);
    let rate = events / windows.max(1) as f64;
    let windows_a_case =
        mean(worlds.iter().flat_map(|it| &it.cases).map(lasts_s)) / WINDOW_S as f64;
    let nats = nats_for(peaks.collect(), rate * windows_a_case).ceil();
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "clamped")]
    let nats = nats.clamp(f64::from(*THRESHOLDS.start()), f64::from(*THRESHOLDS.end())) as u32;
    (nats - THRESHOLDS.start()) as usize
}

/// The height that the share `wanted` of peaks reaches. What lies behind the twenty highest is extrapolated: in
/// the tail, one nat more is e times as rare (Lorden 1971).
fn nats_for(mut peaks: Vec<f64>, wanted: f64) -> f64 {
    peaks.sort_by(|a, b| b.total_cmp(a));
    let count = peaks.len().max(1) as f64;
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of them")]
    let rank = (wanted.clamp(0.0, 1.0) * count) as usize;
    let known = rank.max(TAIL.min(peaks.len() / 2));
    let Some(height) = peaks.get(known).or_else(|| peaks.last()) else {
        return -libm::log(wanted.max(f64::MIN_POSITIVE));
    };
    let reached = (known + 1) as f64 / count;
    height + libm::log(reached / wanted.clamp(f64::MIN_POSITIVE, reached))
}

/// The root of the mean square between confidence and share of right ones, over bins of equally
/// many, less what chance alone would make of it.
///
/// Source: A. Kumar, P. Liang, T. Ma, Verified uncertainty calibration (2019), the debiased
/// estimator.
fn calibration(all: &[ScoredCase<'_>], of: impl Fn(&CaseScore) -> (f64, bool)) -> Option<f64> {
    // Equal confidences are in an order that knows nothing of the outcome: else bins within them would be
    // all right or all wrong.
    let mut state = 0;
    let claimed = all.iter().filter(|(_, verdict)| verdict.claimed);
    let mut drawn: Vec<(f64, u64, bool)> = claimed
        .map(|(_, verdict)| {
            let (confidence, right) = of(verdict);
            (confidence, split_mix(&mut state), right)
        })
        .collect();
    if drawn.len() < 2 * CALIBRATION_BINS {
        return None;
    }
    drawn.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
    let said: Vec<(f64, bool)> =
        drawn.into_iter().map(|(confidence, _, right)| (confidence, right)).collect();
    let mut sum = 0.0;
    for bin in 0..CALIBRATION_BINS {
        let range = said.len() * bin / CALIBRATION_BINS..said.len() * (bin + 1) / CALIBRATION_BINS;
        let part = &said[range];
        let count = part.len() as f64;
        let confidence = part.iter().map(|(confidence, _)| confidence).sum::<f64>() / count;
        let right = part.iter().filter(|(_, right)| *right).count() as f64 / count;
        let chance = right * (1.0 - right) / (count - 1.0);
        sum += ((confidence - right).powi(2) - chance) * count / said.len() as f64;
    }
    Some(sum.max(0.0).sqrt())
}
/// Log of the probability that a verdict gave to what turned out. A candidate that claims nothing says
/// that nothing is wrong.
fn log_score(case: &CaseRecord, verdict: &CaseScore) -> f64 {
    let is_right = if verdict.claimed { verdict.link } else { !case.kind.is_fault() };
    let confidence = if verdict.claimed { verdict.confidence } else { 1.0 };
    let probability = if is_right { confidence } else { 1.0 - confidence };
    libm::log(probability.max(LEAST_PROBABILITY))
}

/// Extra rounds as a share of the usual ones; absent where a candidate asks for none.
fn extra_rounds(name: &str, worlds: &[&WorldRecord]) -> Interval {
    let usual = |world: &WorldRecord| {
        let per_window = world.paths as u64 * u64::from(world.setup.rounds_per_window);
        (episodes(name, world).windows * per_window) as f64
    };
    let extra = |world: &WorldRecord| episodes(name, world).extra_rounds as f64;
    of_worlds(worlds, worlds.len(), |drawn| {
        let given: f64 = drawn.iter().map(|world| extra(world)).sum();
        (given > 0.0).then(|| given / drawn.iter().map(|world| usual(world)).sum::<f64>())
    })
}

/// A share of pairs of links; absent where a candidate says nothing of what it cannot tell apart.
fn alike(
    name: &str,
    worlds: &[&WorldRecord],
    share: impl Fn(&CoverageRecord) -> (u64, u64),
) -> Interval {
    let of = |worlds: &[&&WorldRecord]| {
        let mut sum = CoverageRecord::default();
        worlds.iter().filter_map(|world| world.coverage.get(name)).for_each(|it| sum += *it);
        sum
    };
    of_worlds(worlds, worlds.len(), |drawn| {
        let sum = of(drawn);
        let (part, whole) = share(&sum);
        (sum.said > 0 && whole > 0).then(|| part as f64 / whole as f64)
    })
}

fn paired(better: &str, than: &str, worlds: &[&WorldRecord]) -> Paired {
    let difference = |case: &CaseRecord| {
        let right = |name: &str| case.verdicts.get(name).map(|v| f64::from(u8::from(v.link)));
        Some(right(better)? - right(than)?)
    };
    let cases = |worlds: &[&WorldRecord]| -> Vec<f64> {
        let all = worlds.iter().flat_map(|world| &world.cases).filter(|case| is_first(case));
        all.filter_map(difference).collect()
    };
    let count = cases(worlds).len();
    let link = of_worlds(worlds, count, |drawn| {
        let worlds: Vec<&WorldRecord> = drawn.iter().map(|world| **world).collect();
        let all = cases(&worlds);
        (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
    });
    Paired { better: better.to_owned(), than: than.to_owned(), link }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_threshold_is_what_peaks_without_a_fault_reach_as_often() {
        let peaks: Vec<f64> = (1..=1_000).map(|n| -libm::log(f64::from(n) / 1_000.0)).collect();
        for wanted in [0.5, 0.1, 0.03] {
            let nats = nats_for(peaks.clone(), wanted);
            let reached = peaks.iter().filter(|peak| **peak >= nats).count() as f64 / 1_000.0;
            assert!((reached - wanted).abs() <= 0.002, "{wanted}: {reached}");
        }
        // Rarer than any of a thousand tells: a nat more is e times as rare.
        assert!((nats_for(peaks.clone(), 1e-6) + libm::log(1e-6)).abs() < 0.05);
        assert!(nats_for(peaks, 7.0) < 0.01, "more alarms than cases");
        assert!((nats_for(Vec::new(), 1e-3) + libm::log(1e-3)).abs() < 1e-9, "the bound alone");
    }
}
