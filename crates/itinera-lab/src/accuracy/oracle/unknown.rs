//! The oracle that knows neither place nor cause, size and onset: it weighs all of them by the odds with which cases
//! are drawn. It still knows routing and what is usual.

use super::evidence::Reader;
use super::known::by_spells;
use super::laws::{CROSSED, Tested};
use super::told::Told;
use super::{Candidate, NOTHING, Opinion, odds, odds_of_black_hole};
use crate::accuracy::cases::{DELAYS_MS, Effect, LOSSES};
use crate::accuracy::stretch::Stretch;
use itinera_analysis::stat::ln_sum_exp;
use itinera_model::finding::Cause;
use std::collections::BTreeMap;
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

/// Takes the windows of a case, and weighs them at the end.
#[derive(Debug)]
pub(in crate::accuracy) struct SizeUnknown<'a> {
    stretch: &'a Stretch<'a>,
    windows: Vec<Vec<Told>>,
    /// Share of the windows in which a fault is taken to act.
    acts: f64,
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

/// What the oracle holds: of places, and of sizes.
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

/// A cause, and the logarithms of some of its sizes.
type Sizes = (Cause, Range<f64>);

/// The ranges of sizes that places are weighed by first, by cause.
fn coarse() -> Vec<Sizes> {
    let cells = |cause, count| divided(&prior(cause), count).into_iter().map(move |it| (cause, it));
    cells(Cause::Loss, COARSE_LOSSES).chain(cells(Cause::Delay, COARSE_DELAYS)).collect()
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

/// Log of the mean likelihood over all windows in which a fault may have begun, by what each window tells.
fn over_onsets(told: impl DoubleEndedIterator<Item = f64>) -> f64 {
    let mut sum = 0.0;
    let since: Vec<f64> = told
        .rev()
        .map(|window| {
            sum += window;
            sum
        })
        .collect();
    ln_sum_exp(&since) - libm::log(since.len().max(1) as f64)
}

impl<'a> SizeUnknown<'a> {
    /// `acts` is the share of windows in which faults act in this world.
    pub(in crate::accuracy) const fn new(stretch: &'a Stretch<'a>, acts: f64) -> Self {
        Self { stretch, windows: Vec::new(), acts }
    }

    /// Takes what one window tells.
    pub(in crate::accuracy) fn regard(&mut self, told: Vec<Told>) {
        self.windows.push(told);
    }

    /// What it holds of all that was seen.
    pub(in crate::accuracy) fn opinion(&self, reader: &mut Reader<'_>) -> Held {
        let stage = self.stretch.stage;
        let cells = coarse();
        let tables = self.coarse_tables(reader, &cells);
        let by_cause = [Cause::Loss, Cause::Delay].map(|cause| (cause, odds(stage, cause)));
        let mut first: Vec<(f64, Weighed)> = Vec::new();
        for (cause, odds) in &by_cause {
            let range = prior(*cause);
            for (suspect, odds) in odds {
                let own = cells.iter().enumerate().filter(|(_, it)| it.0 == *cause);
                let cells = own.map(|(nth, (_, cell))| Cell {
                    range: cell.clone(),
                    weight: libm::log(*odds * share(cell, &range))
                        + over_onsets(
                            tables.iter().map(|table| table[suspect * cells.len() + nth]),
                        ),
                });
                let weighed = Weighed { suspect: *suspect, cause: *cause, cells: cells.collect() };
                first.push((weighed.weight(), weighed));
            }
        }
        first.sort_by(|a, b| b.0.total_cmp(&a.0));
        let best = first.first().map_or(0.0, |(weight, _)| *weight);
        let least = best - CLOSE_NATS.max(CLOSE_SHARE * best);
        let mut weighed: Vec<Weighed> = first
            .into_iter()
            .enumerate()
            .map(|(rank, (weight, weighed))| {
                let is_close = rank < MOST_CLOSE && weight >= least;
                if is_close { self.finely(reader, &by_cause, weighed) } else { weighed }
            })
            .collect();
        weighed.extend(self.black_holes(reader));
        let tests: Vec<Tested> = cells.iter().map(|(cause, cell)| tested(*cause, cell)).collect();
        reader.forget(|[from, to]| tests.contains(&Tested::DelayMs(from, to)));
        held(weighed)
    }

    /// By window: what it tells by suspect and range of sizes, one after the other.
    fn coarse_tables(&self, reader: &mut Reader<'_>, cells: &[Sizes]) -> Vec<Vec<f64>> {
        let stage = self.stretch.stage;
        let tests: Vec<Tested> = cells.iter().map(|(cause, cell)| tested(*cause, cell)).collect();
        let tables = self.windows.iter().map(|told| {
            let mut sums = vec![0.0; stage.atlas.suspects.len() * cells.len()];
            for told in told {
                let ratios: Vec<[f64; CROSSED]> =
                    tests.iter().map(|test| reader.ratios(told, *test)).collect();
                let crossed = stage.atlas.crossings.get(&told.signal);
                for (suspect, times) in crossed.into_iter().flatten() {
                    let times = usize::from(*times).min(CROSSED) - 1;
                    let own = &mut sums[suspect * cells.len()..];
                    for (sum, ratio) in own.iter_mut().zip(&ratios) {
                        *sum += ratio[times];
                    }
                }
            }
            sums.iter_mut().for_each(|sum| *sum = by_spells(*sum, self.acts));
            sums
        });
        tables.collect()
    }

    /// The observations that cross a suspect, by window, and how often.
    fn crossing(&self, suspect: usize) -> Vec<Vec<(&Told, usize)>> {
        let crossings = &self.stretch.stage.atlas.crossings;
        let times = |told: &Told| {
            let crossed = crossings.get(&told.signal)?;
            let own = crossed.iter().find(|(known, _)| *known == suspect)?;
            Some(usize::from(own.1).min(CROSSED) - 1)
        };
        let windows = self.windows.iter();
        windows
            .map(|told| told.iter().filter_map(|told| Some((told, times(told)?))).collect())
            .collect()
    }

    fn score(
        &self,
        reader: &mut Reader<'_>,
        crossing: &[Vec<(&Told, usize)>],
        tested: Tested,
    ) -> f64 {
        let told: Vec<f64> = crossing
            .iter()
            .map(|told| {
                let ratios = told.iter().map(|(told, times)| reader.ratios(told, tested)[*times]);
                by_spells(ratios.sum(), self.acts)
            })
            .collect();
        over_onsets(told.into_iter())
    }

    /// The same place and cause with sizes as fine as the data tell them apart.
    fn finely(
        &self,
        reader: &mut Reader<'_>,
        by_cause: &[(Cause, BTreeMap<usize, f64>)],
        weighed: Weighed,
    ) -> Weighed {
        let Weighed { suspect, cause, .. } = weighed;
        let odds =
            by_cause.iter().find(|(known, _)| *known == cause).map_or(0.0, |(_, it)| it[&suspect]);
        let crossing = self.crossing(suspect);
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
                    + self.score(reader, &crossing, tested(cause, &cell)),
                range: cell,
            });
            open = cells.collect();
        }
        done.extend(open);
        Weighed { suspect, cause, cells: done }
    }

    /// Links that lose everything.
    fn black_holes(&self, reader: &mut Reader<'_>) -> Vec<Weighed> {
        let stage = self.stretch.stage;
        let mut by_window: Vec<BTreeMap<usize, f64>> = Vec::new();
        for told in &self.windows {
            let mut sums: BTreeMap<usize, f64> = BTreeMap::new();
            for told in told {
                let ratio = reader.ratios(told, Tested::Loss(1.0))[0];
                for (suspect, _) in stage.atlas.crossings.get(&told.signal).into_iter().flatten() {
                    *sums.entry(*suspect).or_default() += ratio;
                }
            }
            by_window.push(sums);
        }
        let size = libm::log(1.0);
        let weighed = odds_of_black_hole(stage).into_iter().map(|(suspect, odds)| {
            let told = by_window.iter().map(|sums| sums.get(&suspect).copied().unwrap_or(0.0));
            let weight = libm::log(odds) + over_onsets(told);
            Weighed { suspect, cause: Cause::Loss, cells: vec![Cell { range: size..size, weight }] }
        });
        weighed.collect()
    }
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

fn held(weighed: Vec<Weighed>) -> Held {
    let mut weights: Vec<f64> = weighed.iter().map(Weighed::weight).collect();
    weights.push(libm::log(NOTHING));
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
    let nothing = weights.last().map_or(0.0, |weight| libm::exp(weight - whole));
    Held { opinion: Opinion { candidates, nothing }, weighed }
}
