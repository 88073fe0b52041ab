//! The oracle that knows neither place nor cause, size and onset: it weighs all of them by the odds with which cases
//! are drawn. It still knows routing and what is usual.

use super::evidence::Reader;
use super::known::by_spells;
use super::laws::{CROSSED, Tested};
use super::told::Told;
use super::weighing::{Held, Likelihood, weigh};
use crate::accuracy::stretch::Stretch;
use itinera_analysis::stat::ln_sum_exp;

/// Takes the windows of a case, and weighs them at the end.
#[derive(Debug)]
pub(in crate::accuracy) struct SizeUnknown<'a> {
    stretch: &'a Stretch<'a>,
    windows: Vec<Vec<Told>>,
    /// Share of the windows in which a fault is taken to act.
    acts: f64,
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
        let mut likelihood = Usual { of: self, reader, crossing: None, kept: Vec::new() };
        let held = weigh(self.stretch.stage, &mut likelihood, &[]);
        let kept = likelihood.kept;
        reader.forget(|[from, to]| kept.contains(&Tested::DelayMs(from, to)));
        held
    }

    /// A fault that acts in a share of windows tells less by each; a black hole acts always.
    fn by_windows(&self, tested: Tested, ratio: f64) -> f64 {
        if tested == Tested::Loss(1.0) { ratio } else { by_spells(ratio, self.acts) }
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
}

/// The observations that cross a suspect, by window, and how often.
type Crossing<'w> = (usize, Vec<Vec<(&'w Told, usize)>>);

/// How likely the data of a case are where all that is usual is known.
struct Usual<'w, 'a, 'r, 'x> {
    of: &'w SizeUnknown<'a>,
    reader: &'r mut Reader<'x>,
    crossing: Option<Crossing<'w>>,
    /// Tests that come again in each case.
    kept: Vec<Tested>,
}

impl Likelihood for Usual<'_, '_, '_, '_> {
    fn of_all(&mut self, tests: &[Tested]) -> Vec<Vec<f64>> {
        self.kept = tests.to_vec();
        let atlas = &self.of.stretch.stage.atlas;
        let mut by_window: Vec<Vec<f64>> = Vec::with_capacity(self.of.windows.len());
        for told in &self.of.windows {
            let mut sums = vec![0.0; atlas.suspects.len() * tests.len()];
            for told in told {
                let ratios: Vec<[f64; CROSSED]> =
                    tests.iter().map(|test| self.reader.ratios(told, *test)).collect();
                for (suspect, times) in atlas.crossings.get(&told.signal).into_iter().flatten() {
                    let times = usize::from(*times).min(CROSSED) - 1;
                    let own = &mut sums[suspect * tests.len()..];
                    for (sum, ratio) in own.iter_mut().zip(&ratios) {
                        *sum += ratio[times];
                    }
                }
            }
            for (sum, test) in sums.iter_mut().zip(tests.iter().cycle()) {
                *sum = self.of.by_windows(*test, *sum);
            }
            by_window.push(sums);
        }
        let of = |nth: usize, suspect: usize| {
            over_onsets(by_window.iter().map(|sums| sums[suspect * tests.len() + nth]))
        };
        let suspects = 0..atlas.suspects.len();
        let by_test = |nth| suspects.clone().map(|suspect| of(nth, suspect)).collect();
        (0..tests.len()).map(by_test).collect()
    }

    fn of_one(&mut self, suspect: usize, tested: Tested) -> f64 {
        if self.crossing.as_ref().is_none_or(|(known, _)| *known != suspect) {
            self.crossing = Some((suspect, self.of.crossing(suspect)));
        }
        let windows = self.crossing.iter().flat_map(|(_, windows)| windows);
        let told: Vec<f64> = windows
            .map(|told| {
                let ratios =
                    told.iter().map(|(told, times)| self.reader.ratios(told, tested)[*times]);
                self.of.by_windows(tested, ratios.sum())
            })
            .collect();
        over_onsets(told.into_iter())
    }
}
