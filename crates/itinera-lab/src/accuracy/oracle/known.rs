//! The oracle that knows everything but the place.

use super::evidence::Reader;
use super::laws::CROSSED;
use super::told::Told;
use super::{Candidate, NOTHING, Opinion, cause_of, odds, odds_of_black_hole};
use crate::accuracy::atlas::Signal;
use crate::accuracy::cases::{Case, Effect, Kind};
use crate::accuracy::setup::WINDOW_S;
use crate::accuracy::stretch::Stretch;
use crate::accuracy::window::Drawn;
use itinera_analysis::stat::ln_sum_exp;
use itinera_model::unit::Tick;
use itinera_simnet::fault_spell;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// Weighs one case as its windows come.
#[derive(Debug)]
pub(in crate::accuracy) struct Oracle<'a> {
    stretch: &'a Stretch<'a>,
    effect: Effect,
    begins: Tick,
    spells: f64,
    /// By spell that is not over, and suspect: log likelihood against "nothing".
    open: BTreeMap<u64, Vec<f64>>,
    /// By suspect: log likelihood of the spells that are over.
    total: Vec<f64>,
    /// Of the suspect that is followed: log likelihood before what the last window told.
    before: f64,
    /// By window since the onset, for the suspect that is followed: what it added.
    pub(in crate::accuracy) followed: Vec<f64>,
    follow: Option<usize>,
}

impl<'a> Oracle<'a> {
    pub(in crate::accuracy) fn new(stretch: &'a Stretch<'a>, case: &Case) -> Self {
        let stage = stretch.stage;
        let follow = match case.suspects().as_slice() {
            [only] => stage.atlas.suspect(*only),
            _ => None,
        };
        Self {
            stretch,
            effect: case.effect,
            begins: case.changes.begins(),
            spells: case.spells,
            open: BTreeMap::new(),
            total: vec![0.0; stage.atlas.suspects.len()],
            before: 0.0,
            followed: Vec::new(),
            follow,
        }
    }

    /// Takes what one window tells.
    pub(in crate::accuracy) fn regard(&mut self, reader: &mut Reader<'_>, told: &[Told]) {
        for told in told.iter().filter(|told| told.at >= self.begins) {
            let ratios = reader.ratios(told, self.effect.into());
            let spell = spell_at(self.stretch, (self.begins, self.spells), told.at);
            let suspects = self.total.len();
            let sums = self.open.entry(spell).or_insert_with(|| vec![0.0; suspects]);
            let crossed = self.stretch.stage.atlas.crossings.get(&told.signal);
            for (suspect, times) in crossed.into_iter().flatten() {
                sums[*suspect] += ratios[usize::from(*times).min(CROSSED) - 1];
            }
        }
        if let Some(suspect) = self.follow {
            let total = self.ratio(suspect);
            self.followed.push(total - self.before);
            self.before = total;
        }
        let last = told.iter().map(|told| told.at).max().unwrap_or(self.begins);
        let now = spell_at(self.stretch, (self.begins, self.spells), last);
        while let Some(spell) = self.open.first_entry().filter(|spell| *spell.key() < now) {
            for (total, ratio) in self.total.iter_mut().zip(spell.remove()) {
                *total += by_spells(ratio, self.spells);
            }
        }
    }

    /// What all that was seen tells of a suspect.
    fn ratio(&self, suspect: usize) -> f64 {
        let open = self.open.values().map(|spell| by_spells(spell[suspect], self.spells));
        self.total[suspect] + open.sum::<f64>()
    }

    /// What each of so many windows without a fault tells of the suspect that is followed, from its observations drawn
    /// by themselves. Empty where none is followed.
    pub(in crate::accuracy) fn without_fault(
        &self,
        reader: &mut Reader<'_>,
        windows: Range<u64>,
        series: u64,
    ) -> Vec<f64> {
        let Some(suspect) = self.follow else { return Vec::new() };
        let stretch = self.stretch;
        let crosses = |crossed: &[(usize, u8)]| {
            crossed.iter().find(|(known, _)| *known == suspect).map(|(_, times)| *times)
        };
        let crossings = stretch.stage.atlas.crossings.iter();
        let crossing: BTreeMap<Signal, u8> =
            crossings.filter_map(|(signal, all)| Some((*signal, crosses(all)?))).collect();
        let (mut paths, mut pairs) = (BTreeSet::new(), BTreeSet::new());
        for signal in crossing.keys() {
            match signal {
                Signal::Hop(path, ..) => paths.insert(*path),
                Signal::Pair(pair, _) => pairs.insert(*pair),
            };
        }
        let mut sampler = stretch.calm.clone();
        let mut round = Drawn::default();
        let mut by_spell: BTreeMap<u64, f64> = BTreeMap::new();
        let mut increments = Vec::new();
        let mut before = 0.0;
        for window in windows {
            let mut all = Vec::new();
            for path in &paths {
                for (number, at) in stretch.rounds_of(*path, window) {
                    (round.path, round.number, round.at) = (*path, number, at);
                    sampler.round(*path, number, at, series, &mut round.hops);
                    reader.round(&round, &mut all);
                }
            }
            for pair in &pairs {
                if let Some(drawn) = stretch.pair_round(&mut sampler, *pair, window, series) {
                    reader.pair(&drawn, &mut all);
                }
            }
            for told in all {
                let Some(times) = crossing.get(&told.signal) else { continue };
                let ratio =
                    reader.ratios(&told, self.effect.into())[usize::from(*times).min(CROSSED) - 1];
                let spell = spell_at(stretch, (self.begins, self.spells), told.at);
                *by_spell.entry(spell).or_default() += ratio;
            }
            let total: f64 = by_spell.values().map(|ratio| by_spells(*ratio, self.spells)).sum();
            increments.push(total - before);
            before = total;
        }
        increments
    }

    /// The posterior, from the odds by which cases are drawn. A black hole is known to be one.
    pub(in crate::accuracy) fn opinion(&self, kind: Kind) -> Opinion {
        let cause = cause_of(self.effect);
        let (odds, nothing) = match kind {
            Kind::BlackHole => (odds_of_black_hole(self.stretch.stage), 0.0),
            // A case without a fault has one of the two causes assumed.
            _ => (odds(self.stretch.stage, cause), NOTHING / 2.0),
        };
        let terms = odds.iter().map(|(suspect, odds)| libm::log(*odds) + self.ratio(*suspect));
        let mut terms: Vec<f64> = terms.collect();
        terms.push(if nothing > 0.0 { libm::log(nothing) } else { f64::NEG_INFINITY });
        let whole = ln_sum_exp(&terms);
        let probability = |term: &f64| libm::exp(term - whole);
        let candidates = odds.keys().zip(&terms).map(|(suspect, term)| Candidate {
            suspect: *suspect,
            cause,
            probability: probability(term),
        });
        Opinion { candidates: candidates.collect(), nothing: terms.last().map_or(0.0, probability) }
    }

    /// What a case will show of its fault, in nats, expected from routing and schedule alone: the divergence between its
    /// data and those without it, over so many seconds.
    pub(in crate::accuracy) fn information(&self, reader: &mut Reader<'_>, lasts_s: f64) -> f64 {
        let Some(suspect) = self.follow else { return f64::NAN };
        let at = (self.begins, lasts_s / WINDOW_S as f64);
        let mut sum = 0.0;
        for (signal, crossed) in &self.stretch.stage.atlas.crossings {
            let Some((_, times)) = crossed.iter().find(|(known, _)| *known == suspect) else {
                continue;
            };
            let effect = (self.effect, usize::from(*times).min(CROSSED));
            sum += self.spells * reader.expected_nats(*signal, effect, at);
        }
        sum
    }
}

/// The number of the spell of a fault that begins at a time, as it would have been drawn; one for all where it acts
/// always.
pub(super) fn spell_at(stretch: &Stretch<'_>, (begins, spells): (Tick, f64), at: Tick) -> u64 {
    match spells {
        share if share < 1.0 => fault_spell(stretch.stage.world.seed, begins, at),
        _ => 0,
    }
}

/// A fault that acts in a share of spells tells less by each.
pub(super) fn by_spells(ratio: f64, share: f64) -> f64 {
    if share >= 1.0 {
        ratio
    } else {
        ln_sum_exp(&[libm::log(1.0 - share), libm::log(share) + ratio])
    }
}
