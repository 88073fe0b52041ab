//! A candidate that knows everything but the place: the upper bound for the same data.
//!
//! The oracle is told the world with its routing, loads, habits and noise, when the fault began,
//! and how bad it is, and asked where it is, or whether at all. Given these, probes are
//! independent, so its posterior over all single faults is exact; delays are regarded in bins of a
//! tenth of a millisecond.

use super::atlas::{Edge, Signal, Suspect};
use super::cases::{self, Case, Effect, JITTER, Kind};
use super::stage::{Drawn, Stage, Window};
use itinera_analysis::stat::ln_sum_exp;
use itinera_model::round::HopCounts;
use itinera_model::unit::Tick;
use itinera_simnet::closed_form::{Expected, PairCounts, Sampler};
use itinera_simnet::spread_exponentially;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::rc::Rc;

const BIN_NANOS: u64 = 100_000;
const BINS: usize = 5_000;
/// Mass that every bin has at least: for what rounding moves over an edge.
const FLOOR: f64 = 1e-9;
/// A path's probes cross a fault twice at most.
const CROSSED: usize = 2;
const CERTAIN: f64 = 1e-12;

/// What a law of delays depends on: site, slow answers, jitters; bits of floats.
type LawKey = (usize, u64, u64, Vec<u64>);
/// Log masses without the fault, and crossing it once and twice.
type Law = Rc<[Vec<f64>; CROSSED + 1]>;

/// Weighs one case as its windows come.
#[derive(Debug)]
pub(super) struct Oracle<'a> {
    stage: &'a Stage,
    calm: Sampler,
    effect: Effect,
    begins_nanos: u64,
    spells: f64,
    laws: BTreeMap<LawKey, Law>,
    /// By suspect: log likelihood against "nothing", of this window and of all.
    window: Vec<f64>,
    total: Vec<f64>,
    /// By window since the onset, for the suspects followed: what it added.
    pub(super) followed: Vec<f64>,
    follow: Option<usize>,
}

/// A candidate with its prior weight.
#[derive(Debug, Clone, Copy)]
pub(super) struct Candidate {
    pub(super) suspect: usize,
    weight: f64,
    pub(super) probability: f64,
}

/// What the oracle says at the end.
#[derive(Debug, Clone)]
pub(super) struct Opinion {
    /// Everything it holds possible.
    pub(super) candidates: Vec<Candidate>,
    /// Probability of no fault.
    pub(super) nothing: f64,
}

impl Opinion {
    pub(super) fn probability_of(&self, mut holds: impl FnMut(usize) -> bool) -> f64 {
        let right = self.candidates.iter().filter(|candidate| holds(candidate.suspect));
        right.map(|candidate| candidate.probability).sum()
    }
}

impl<'a> Oracle<'a> {
    pub(super) fn new(stage: &'a Stage, case: &Case) -> Self {
        let suspects = stage.atlas.suspects.len();
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "seconds of a run"
        )]
        let begins_nanos = (case.changes.at_s * 1e9) as u64;
        let follow = match case.suspects().as_slice() {
            [only] => stage.atlas.suspect(*only),
            _ => None,
        };
        Self {
            stage,
            calm: stage.calm.clone(),
            effect: case.effect,
            begins_nanos,
            spells: case.spells,
            laws: BTreeMap::new(),
            window: vec![0.0; suspects],
            total: vec![0.0; suspects],
            followed: Vec::new(),
            follow,
        }
    }

    /// Takes what was measured in one window.
    pub(super) fn regard(&mut self, drawn: &Window) {
        self.window.fill(0.0);
        for round in &drawn.rounds {
            if round.at.as_nanos() < self.begins_nanos {
                continue;
            }
            for (signal, ratios) in self.of_round(round) {
                self.add(signal, ratios);
            }
        }
        for (pair, (at, counts)) in drawn.pairs.iter().enumerate() {
            if at.as_nanos() < self.begins_nanos {
                continue;
            }
            for (signal, ratios) in self.of_pair(pair, *at, counts) {
                self.add(signal, ratios);
            }
        }
        for (total, window) in self.total.iter_mut().zip(&self.window) {
            *total += by_spells(*window, self.spells);
        }
        if let Some(suspect) = self.follow {
            self.followed.push(by_spells(self.window[suspect], self.spells));
        }
    }

    /// What each hop of a round tells against "nothing", crossing the fault once and twice.
    fn of_round(&mut self, round: &Drawn) -> Vec<(Signal, [f64; CROSSED])> {
        let site = self.stage.paths[round.path].site;
        let flow = usize::try_from(round.number % self.calm.flows(round.path) as u64);
        let flow = flow.unwrap_or(0);
        let expected = self.calm.expected(round.path, round.number, round.at).to_vec();
        let hops = round.hops.iter().zip(&expected).enumerate();
        let told = hops.filter(|(_, (_, expected))| expected.loss < 1.0);
        told.map(|(hop, (counts, expected))| {
            let ratios = match self.effect {
                Effect::Loss(share) => loss_ratios(counts, expected.loss, share),
                Effect::DelayMs(ms) => self.delay_ratios(site, counts, expected, ms),
            };
            (Signal::Hop(round.path, flow, hop), ratios)
        })
        .collect()
    }

    /// The same of the directions of a pair's round.
    fn of_pair(
        &mut self,
        pair: usize,
        at: Tick,
        counts: &PairCounts,
    ) -> Vec<(Signal, [f64; CROSSED])> {
        let plan = (pair, self.stage.pairs[pair]);
        let both = [0, 1].map(|route| self.calm.pair_expected(plan, route, at));
        if counts.undetermined > 0 {
            let Effect::Loss(share) = self.effect else { return Vec::new() };
            let loss = 1.0 - (1.0 - both[0].loss) * (1.0 - both[1].loss);
            let sent = u8::try_from(counts.sent).unwrap_or(u8::MAX);
            let all = HopCounts { sent, ..HopCounts::default() };
            return vec![(Signal::Pair(pair, 2), loss_ratios(&all, loss, share))];
        }
        let directions = [&counts.forward, &counts.return_].into_iter().zip(both).enumerate();
        let told = directions.map(|(route, (one, expected))| {
            let ratios = match self.effect {
                Effect::Loss(share) => {
                    ratios_of(f64::from(one.lost), f64::from(one.arrived), expected.loss, share)
                }
                Effect::DelayMs(ms) => {
                    let law = self.law((expected.receiver, 0, 0, Vec::new()), ms);
                    let base = i64::try_from(expected.delay_nanos / 1_000).unwrap_or(i64::MAX);
                    let over = counts.delays_us[route].iter();
                    law_ratios(&law, over.map(|us| us - expected.offset_us - base))
                }
            };
            (Signal::Pair(pair, route), ratios)
        });
        told.collect()
    }

    /// What each of so many windows without a fault tells of the suspect that is followed, from its
    /// observations drawn by themselves. Empty where none is followed.
    pub(super) fn without_fault(&mut self, windows: Range<u64>, series: u64) -> Vec<f64> {
        let Some(suspect) = self.follow else { return Vec::new() };
        let stage = self.stage;
        let crosses = |crossed: &[(usize, u8)]| {
            crossed.iter().find(|(known, _)| *known == suspect).map(|(_, times)| *times)
        };
        let crossings = stage.atlas.crossings.iter();
        let crossing: BTreeMap<Signal, u8> =
            crossings.filter_map(|(signal, all)| Some((*signal, crosses(all)?))).collect();
        let (mut paths, mut pairs) = (BTreeSet::new(), BTreeSet::new());
        for signal in crossing.keys() {
            match signal {
                Signal::Hop(path, ..) => paths.insert(*path),
                Signal::Pair(pair, _) => pairs.insert(*pair),
            };
        }
        let mut sampler = stage.calm.clone();
        let mut round = Drawn::default();
        let mut told = Vec::new();
        for window in windows {
            let mut ratios = Vec::new();
            for path in &paths {
                for (number, at) in stage.rounds_of(*path, window) {
                    (round.path, round.number, round.at) = (*path, number, at);
                    sampler.round(*path, number, at, series, &mut round.hops);
                    ratios.extend(self.of_round(&round));
                }
            }
            for pair in &pairs {
                let (at, counts) = stage.pair_round(&mut sampler, *pair, window, series);
                ratios.extend(self.of_pair(*pair, at, &counts));
            }
            let of_suspect = ratios.iter().filter_map(|(signal, ratios)| {
                Some(ratios[usize::from(*crossing.get(signal)?).min(CROSSED) - 1])
            });
            told.push(by_spells(of_suspect.sum(), self.spells));
        }
        told
    }

    fn add(&mut self, sight: Signal, ratios: [f64; CROSSED]) {
        for (suspect, times) in self.stage.atlas.crossings.get(&sight).into_iter().flatten() {
            self.window[*suspect] += ratios[usize::from(*times).min(CROSSED) - 1];
        }
    }

    fn delay_ratios(
        &mut self,
        site: usize,
        counts: &HopCounts,
        expected: &Expected,
        ms: f64,
    ) -> [f64; CROSSED] {
        let (share, mean) = expected.slow.unwrap_or((0.0, 0.0));
        let jitters = expected.jitters_nanos.iter().map(|mean| mean.to_bits()).collect();
        let law = self.law((site, share.to_bits(), mean.to_bits(), jitters), ms);
        let base = i64::try_from(expected.delay_nanos / 1_000).unwrap_or(i64::MAX);
        law_ratios(&law, counts.rtt.iter().map(|rtt| i64::from(rtt.as_micros()) - base))
    }

    fn law(&mut self, key: LawKey, ms: f64) -> Law {
        if let Some(law) = self.laws.get(&key) {
            return Rc::clone(law);
        }
        let (site, share, mean, jitters) = &key;
        let bin = BIN_NANOS as f64;
        let mut usual = match self.calm.noise(*site) {
            Some(noise) => noise.masses(BIN_NANOS, BINS),
            None => std::iter::once(1.0).chain(std::iter::repeat_n(0.0, BINS - 1)).collect(),
        };
        let share = f64::from_bits(*share);
        if share > 0.0 {
            let mut slow = usual.clone();
            spread_exponentially(&mut slow, f64::from_bits(*mean) / bin);
            for (usual, slow) in usual.iter_mut().zip(slow) {
                *usual = (1.0 - share) * *usual + share * slow;
            }
        }
        for jitter in jitters {
            spread_exponentially(&mut usual, f64::from_bits(*jitter) / bin);
        }
        let mut masses = vec![usual];
        for _ in 0..CROSSED {
            let before = &masses[masses.len() - 1];
            #[allow(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "a fifth of a second in bins"
            )]
            let shift = (ms * 1e6 / bin).round() as usize;
            let mut later = vec![0.0; BINS];
            for (from, mass) in before.iter().enumerate() {
                later[(from + shift).min(BINS - 1)] += mass;
            }
            spread_exponentially(&mut later, ms * JITTER * 1e6 / bin);
            masses.push(later);
        }
        let logs = |masses: &Vec<f64>| masses.iter().map(|mass| libm::log(mass + FLOOR)).collect();
        let law: Law = Rc::new([0, 1, 2].map(|times| logs(&masses[times])));
        self.laws.insert(key, Rc::clone(&law));
        law
    }

    /// The posterior, from the priors by which cases are drawn.
    pub(super) fn opinion(&self, kind: Kind) -> Opinion {
        let (mut candidates, nothing) = priors(self.stage, self.effect, kind == Kind::BlackHole);
        let ln = |weight: f64, ratio: f64| libm::log(weight) + ratio;
        let mut terms: Vec<f64> =
            candidates.iter().map(|c| ln(c.weight, self.total[c.suspect])).collect();
        terms.push(if nothing > 0.0 { libm::log(nothing) } else { f64::NEG_INFINITY });
        let whole = ln_sum_exp(&terms);
        for (candidate, term) in candidates.iter_mut().zip(&terms) {
            candidate.probability = libm::exp(term - whole);
        }
        Opinion { candidates, nothing: terms.last().map_or(0.0, |term| libm::exp(term - whole)) }
    }

    /// What a case will show of its fault, in nats, expected from routing and schedule alone: the
    /// divergence between its data and those without it, over so many windows.
    pub(super) fn information(&mut self, windows: u64) -> f64 {
        let Some(suspect) = self.follow else { return f64::NAN };
        let stage = self.stage;
        let at = Tick::from_nanos(self.begins_nanos);
        let rounds = f64::from(stage.setup.rounds_per_window.max(1)) * windows as f64;
        let mut sum = 0.0;
        for (sight, crossed) in &stage.atlas.crossings {
            let Some((_, times)) = crossed.iter().find(|(known, _)| *known == suspect) else {
                continue;
            };
            let times = usize::from(*times).min(CROSSED);
            let (loss, packets, key) = match sight {
                Signal::Hop(path, flow, hop) => {
                    let flows = self.calm.flows(*path) as f64;
                    let expected = self.calm.expected(*path, *flow as u64, at)[*hop].clone();
                    let (share, mean) = expected.slow.unwrap_or((0.0, 0.0));
                    let key =
                        (stage.paths[*path].site, share.to_bits(), mean.to_bits(), Vec::new());
                    (expected.loss, f64::from(stage.setup.probes_per_hop) * rounds / flows, key)
                }
                Signal::Pair(pair, route) if *route < 2 => {
                    let expected = self.calm.pair_expected((*pair, stage.pairs[*pair]), *route, at);
                    let packets = f64::from(stage.setup.pair_packets) * windows as f64;
                    (expected.loss, packets, (expected.receiver, 0, 0, Vec::new()))
                }
                Signal::Pair(..) => continue,
            };
            if loss >= 1.0 {
                continue;
            }
            sum += self.spells
                * packets
                * match self.effect {
                    Effect::Loss(share) => {
                        let with = 1.0 - (1.0 - loss) * libm::pow(1.0 - share, times as f64);
                        divergence(with, loss)
                    }
                    Effect::DelayMs(ms) => {
                        let law = self.law(key, ms);
                        let terms = law[times].iter().zip(&law[0]);
                        (1.0 - loss)
                            * terms
                                .map(|(with, usual)| libm::exp(*with) * (with - usual))
                                .sum::<f64>()
                    }
                };
        }
        sum
    }
}

/// Divergence between losing with these probabilities, in nats a packet.
fn divergence(with: f64, usual: f64) -> f64 {
    let (with, usual) = (with.clamp(CERTAIN, 1.0 - CERTAIN), usual.clamp(CERTAIN, 1.0 - CERTAIN));
    with * libm::log(with / usual) + (1.0 - with) * libm::log((1.0 - with) / (1.0 - usual))
}

/// A fault that acts in a share of spells tells less by each.
fn by_spells(ratio: f64, share: f64) -> f64 {
    if share >= 1.0 {
        ratio
    } else {
        ln_sum_exp(&[libm::log(1.0 - share), libm::log(share) + ratio])
    }
}

fn loss_ratios(counts: &HopCounts, usual: f64, share: f64) -> [f64; CROSSED] {
    let answered = f64::from(counts.answers());
    ratios_of(f64::from(counts.sent) - answered, answered, usual, share)
}

fn ratios_of(lost: f64, kept: f64, usual: f64, share: f64) -> [f64; CROSSED] {
    let usual = usual.clamp(CERTAIN, 1.0 - CERTAIN);
    let stays = (1.0 - share).max(CERTAIN);
    [stays, stays * stays].map(|stays| {
        let with = 1.0 - (1.0 - usual) * stays;
        lost * libm::log(with / usual) + kept * libm::log(stays)
    })
}

fn law_ratios(law: &Law, over_us: impl Iterator<Item = i64>) -> [f64; CROSSED] {
    let mut ratios = [0.0; CROSSED];
    for us in over_us {
        let bin = usize::try_from(us.max(0) * 1_000).unwrap_or(usize::MAX) / 100_000;
        let bin = bin.min(BINS - 1);
        for (times, ratio) in ratios.iter_mut().enumerate() {
            *ratio += law[times + 1][bin] - law[0][bin];
        }
    }
    ratios
}

/// Every single fault of this effect, by the odds with which cases are drawn, and the odds of
/// nothing.
fn priors(stage: &Stage, effect: Effect, black_hole: bool) -> (Vec<Candidate>, f64) {
    let atlas = &stage.atlas;
    let links = |which: usize| -> Vec<Suspect> {
        cases::inner(atlas, which).into_iter().map(Suspect::Link).collect()
    };
    let loses = matches!(effect, Effect::Loss(_));
    let groups: Vec<(f64, Vec<Suspect>)> = if black_hole {
        vec![(1.0, links(0))]
    } else {
        vec![
            (if loses { 5.0 } else { 4.0 }, links(0)),
            (if loses { 4.0 } else { 3.0 }, links(1)),
            (if loses { 2.0 } else { 0.0 }, cases::members(atlas)),
            (1.0, cases::lines(stage, true)),
            (1.0, cases::lines(stage, false)),
        ]
    };
    let mut weights: BTreeMap<usize, f64> = BTreeMap::new();
    for (odds, group) in groups {
        let each = odds / group.len().max(1) as f64;
        for suspect in group.into_iter().filter_map(|suspect| atlas.suspect(suspect)) {
            *weights.entry(suspect).or_default() += each;
        }
    }
    let candidates = weights
        .into_iter()
        .filter(|(_, weight)| *weight > 0.0)
        .map(|(suspect, weight)| Candidate { suspect, weight, probability: 0.0 });
    (candidates.collect(), if black_hole { 0.0 } else { 3.0 })
}

/// The classes of links that a suspect cannot be told from.
pub(super) fn class_of(stage: &Stage, suspect: Suspect) -> BTreeSet<Edge> {
    let links = stage.atlas.links_of(suspect);
    links.into_iter().flat_map(|link| stage.atlas.class(link).iter().copied()).collect()
}
