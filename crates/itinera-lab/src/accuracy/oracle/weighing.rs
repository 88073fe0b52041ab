//! Weighs places, causes and sizes by the odds with which cases are drawn, whatever tells how likely each makes the
//! data.

use super::laws::Tested;
use super::{Candidate, NOTHING, Opinion, odds, odds_of_black_hole};
use crate::accuracy::cases::{DELAYS_MS, Effect, LOSSES};
use crate::accuracy::stage::Stage;
use itinera_analysis::stat::ln_sum_exp;
use itinera_model::finding::Cause;
use std::ops::Range;

/// Cells of sizes, equally wide in their logarithm, that all places are weighed by first.
const COARSE_LOSSES: usize = 8;
const COARSE_DELAYS: usize = 7;
/// Cells that a range of sizes is divided into where the data tell sizes apart more finely.
const FINE: usize = 12;
/// Neighbouring cells differ by less than this where they are fine enough, in nats.
const SMOOTH: f64 = 1.5;
const DEEPEST: u32 = 5;
/// Places are weighed more finely that are not clearly worse than the best: by so many nats, or this share of it.
const CLOSE_NATS: f64 = 30.0;
const CLOSE_SHARE: f64 = 0.3;
const MOST_CLOSE: usize = 6;
/// A link loses everything.
const BLACK_HOLE: Tested = Tested::Loss(1.0);

/// Tells how likely faults make the data of a case.
pub(super) trait Likelihood {
    /// By test, one after the other, and then by suspect: log of how much likelier the data are with a fault there
    /// than without any, on average over the windows in which it may have begun.
    fn of_all(&mut self, tests: &[Tested]) -> Vec<Vec<f64>>;

    /// The same of one suspect and test.
    fn of_one(&mut self, suspect: usize, tested: Tested) -> f64;
}

/// A range of sizes of a fault, with its weight as a logarithm.
#[derive(Debug, Clone)]
struct Cell {
    /// Logarithms of sizes.
    range: Range<f64>,
    weight: f64,
}

/// What is held of one place and cause.
#[derive(Debug, Clone)]
struct Weighed {
    suspect: usize,
    cause: Cause,
    cells: Vec<Cell>,
}

impl Weighed {
    fn weight(&self) -> f64 {
        ln_sum_exp(&self.cells.iter().map(|cell| cell.weight).collect::<Vec<_>>())
    }
}

/// What an oracle holds: of places, and of sizes.
#[derive(Debug, Clone)]
pub(in crate::accuracy) struct Held {
    pub(in crate::accuracy) opinion: Opinion,
    weighed: Vec<Weighed>,
}

impl Held {
    /// Probability that a loss is at most as large, given that the fault is one; absent for delays, which are known to
    /// a bin only, and where no loss is held possible.
    pub(in crate::accuracy) fn loses_at_most(&self, effect: Effect) -> Option<f64> {
        let Effect::Loss(share) = effect else { return None };
        let size = libm::log(share);
        let cells = self.weighed.iter().filter(|it| it.cause == Cause::Loss);
        let cells: Vec<&Cell> = cells.flat_map(|it| &it.cells).collect();
        let whole = ln_sum_exp(&cells.iter().map(|cell| cell.weight).collect::<Vec<_>>());
        let below = cells.iter().map(|cell| {
            let width = (cell.range.end - cell.range.start).max(f64::MIN_POSITIVE);
            let share = ((size - cell.range.start) / width).clamp(0.0, 1.0);
            share * libm::exp(cell.weight - whole)
        });
        whole.is_finite().then(|| below.sum())
    }
}

/// A change by itself that is no fault: what is tested, and its odds on each link, in units of the weights of
/// kinds.
pub(super) type ByItself = (Tested, f64);

/// What is held after the data of a case.
pub(super) fn weigh(
    stage: &Stage,
    likelihood: &mut impl Likelihood,
    by_itself: &[ByItself],
) -> Held {
    let mut tests = Vec::new();
    let cells = [
        (Cause::Loss, divided(&prior(Cause::Loss), COARSE_LOSSES)),
        (Cause::Delay, divided(&prior(Cause::Delay), COARSE_DELAYS)),
    ];
    for (cause, cells) in &cells {
        tests.extend(cells.iter().map(|cell| tested(*cause, cell)));
    }
    let faults = tests.len();
    tests.push(BLACK_HOLE);
    tests.extend(by_itself.iter().map(|(tested, _)| *tested));
    let told = likelihood.of_all(&tests);
    let mut weighed: Vec<(f64, f64, Weighed)> = Vec::new();
    let mut first = 0;
    for (cause, cells) in &cells {
        let range = prior(*cause);
        for (suspect, odds) in odds(stage, *cause) {
            let told = cells.iter().zip(&told[first..]);
            let cells = told.map(|(cell, told)| Cell {
                range: cell.clone(),
                weight: libm::log(odds * share(cell, &range)) + told[suspect],
            });
            let one = Weighed { suspect, cause: *cause, cells: cells.collect() };
            weighed.push((one.weight(), odds, one));
        }
        first += cells.len();
    }
    weighed.sort_by(|a, b| b.0.total_cmp(&a.0));
    let best = weighed.first().map_or(0.0, |(weight, ..)| *weight);
    let least = best - CLOSE_NATS.max(CLOSE_SHARE * best);
    let mut all: Vec<Weighed> = Vec::with_capacity(weighed.len());
    for (rank, (weight, odds, one)) in weighed.into_iter().enumerate() {
        let is_close = rank < MOST_CLOSE && weight >= least;
        all.push(if is_close { finely(likelihood, odds, one) } else { one });
    }
    let size = libm::log(1.0);
    all.extend(odds_of_black_hole(stage).into_iter().map(|(suspect, odds)| {
        let weight = libm::log(odds) + told[faults][suspect];
        Weighed { suspect, cause: Cause::Loss, cells: vec![Cell { range: size..size, weight }] }
    }));
    let links = || (0..2).flat_map(|which| odds_of_links(stage, which));
    let mut nothing = vec![libm::log(NOTHING)];
    for ((_, odds), told) in by_itself.iter().zip(&told[faults + 1..]) {
        nothing.extend(links().map(|suspect| libm::log(NOTHING * odds) + told[suspect]));
    }
    held(all, ln_sum_exp(&nothing))
}

/// The links that probes, or answers, cross.
fn odds_of_links(stage: &Stage, which: usize) -> Vec<usize> {
    use crate::accuracy::atlas::Suspect;
    let links = stage.atlas.inner(which).into_iter();
    links.filter_map(|link| stage.atlas.suspect(Suspect::Link(link))).collect()
}

/// The same place and cause with sizes as fine as the data tell them apart.
fn finely(likelihood: &mut impl Likelihood, odds: f64, weighed: Weighed) -> Weighed {
    let Weighed { suspect, cause, .. } = weighed;
    let range = prior(cause);
    let mut done = Vec::new();
    let mut open: Vec<Cell> = weighed.cells;
    for depth in 0..DEEPEST {
        let best = (0..open.len()).max_by(|a, b| open[*a].weight.total_cmp(&open[*b].weight));
        let Some(best) = best else { break };
        let near = best.saturating_sub(1)..(best + 2).min(open.len());
        let apart = open[near.clone()].iter().map(|cell| open[best].weight - cell.weight);
        if depth > 0 && apart.fold(0.0, f64::max) < SMOOTH {
            break;
        }
        let inner = open[near.start].range.start..open[near.end - 1].range.end;
        done.extend(open.drain(..near.start).collect::<Vec<_>>());
        done.extend(open.drain(near.len()..));
        let cells = divided(&inner, FINE).into_iter().map(|cell| Cell {
            weight: libm::log(odds * share(&cell, &range))
                + likelihood.of_one(suspect, tested(cause, &cell)),
            range: cell,
        });
        open = cells.collect();
    }
    done.extend(open);
    Weighed { suspect, cause, cells: done }
}

/// What observations are weighed by for a range of sizes. Sizes of loss are weighed by the one in the middle; delays in
/// a range are weighed together, as one size is too short or too long for all others.
fn tested(cause: Cause, cell: &Range<f64>) -> Tested {
    match cause {
        Cause::Delay => Tested::DelayMs(libm::exp(cell.start), libm::exp(cell.end)),
        _ => Tested::Loss(libm::exp((cell.start + cell.end) / 2.0)),
    }
}

fn divided(range: &Range<f64>, count: usize) -> Vec<Range<f64>> {
    let width = (range.end - range.start) / count as f64;
    let from = |nth: usize| range.start + width * nth as f64;
    (0..count).map(|nth| from(nth)..from(nth + 1)).collect()
}

/// The logarithms of the sizes that faults of a cause have.
fn prior(cause: Cause) -> Range<f64> {
    let range = if cause == Cause::Delay { DELAYS_MS } else { LOSSES };
    libm::log(range.start)..libm::log(range.end)
}

/// The share of faults with a size in a cell: sizes are drawn uniformly in their logarithm.
fn share(cell: &Range<f64>, all: &Range<f64>) -> f64 {
    (cell.end - cell.start) / (all.end - all.start)
}

fn held(weighed: Vec<Weighed>, nothing: f64) -> Held {
    let mut weights: Vec<f64> = weighed.iter().map(Weighed::weight).collect();
    weights.push(nothing);
    let whole = ln_sum_exp(&weights);
    let mut candidates: Vec<Candidate> = Vec::new();
    for (weighed, weight) in weighed.iter().zip(&weights) {
        let (suspect, cause) = (weighed.suspect, weighed.cause);
        let probability = libm::exp(weight - whole);
        match candidates.iter_mut().find(|it| (it.suspect, it.cause) == (suspect, cause)) {
            Some(known) => known.probability += probability,
            None => candidates.push(Candidate { suspect, cause, probability }),
        }
    }
    Held { opinion: Opinion { candidates, nothing: libm::exp(nothing - whole) }, weighed }
}
