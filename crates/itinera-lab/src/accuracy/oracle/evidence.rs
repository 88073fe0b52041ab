//! What rounds gave, beside what they give without a fault.

use super::laws::{CROSSED, LawKey, Laws, Tested};
use super::told::Told;
use crate::accuracy::atlas::Signal;
use crate::accuracy::cases::Effect;
use crate::accuracy::stretch::Stretch;
use crate::accuracy::window::{Drawn, DrawnPair, Window};
use itinera_model::unit::Tick;
use itinera_simnet::closed_form::{Expected, PairExpected, Sampler};
use std::rc::Rc;

/// Reads rounds with the knowledge of the world without a fault.
#[derive(Debug)]
pub(in crate::accuracy) struct Reader<'a> {
    pub(super) stretch: &'a Stretch<'a>,
    calm: Sampler,
    laws: Laws,
}

impl<'a> Reader<'a> {
    pub(in crate::accuracy) fn new(stretch: &'a Stretch<'a>) -> Self {
        Self { stretch, calm: stretch.calm.clone(), laws: Laws::default() }
    }

    /// What a window tells.
    pub(in crate::accuracy) fn window(&mut self, drawn: &Window) -> Vec<Told> {
        let mut all = Vec::new();
        for round in &drawn.rounds {
            self.round(round, &mut all);
        }
        for pair in &drawn.pairs {
            self.pair(pair, &mut all);
        }
        all
    }

    /// What each hop of a round tells.
    pub(super) fn round(&mut self, round: &Drawn, into: &mut Vec<Told>) {
        let site = self.stretch.stage.paths[round.path].site;
        let flow = usize::try_from(round.number % self.calm.flows(round.path) as u64);
        let flow = flow.unwrap_or(0);
        let expected = self.calm.expected(round.path, round.number, round.at).to_vec();
        let hops = round.hops.iter().zip(&expected).enumerate();
        into.extend(hops.filter(|(_, (_, expected))| expected.loss < 1.0).map(
            |(hop, (counts, expected))| {
                let base = i64::try_from(expected.delay_nanos / 1_000).unwrap_or(i64::MAX);
                let answered = f64::from(counts.answers());
                Told {
                    at: round.at,
                    signal: Signal::Hop(round.path, flow, hop),
                    lost: f64::from(counts.sent) - answered,
                    kept: answered,
                    usual_loss: expected.loss,
                    law: self.laws.number(law_of_hop(site, expected)),
                    steady: self.laws.number(steady_law_of_hop(site, expected)),
                    over_us: counts.rtt.iter().map(|it| i64::from(it.as_micros()) - base).collect(),
                }
            },
        ));
    }

    /// What the directions of a pair's round tell.
    pub(super) fn pair(&mut self, drawn: &DrawnPair, into: &mut Vec<Told>) {
        let DrawnPair { pair, at, ref counts } = *drawn;
        let plan = (pair, self.stretch.stage.pairs[pair]);
        let both = [0, 1].map(|route| self.calm.pair_expected(plan, route, at));
        if counts.undetermined > 0 {
            into.push(Told {
                at,
                signal: Signal::Pair(pair, 2),
                lost: f64::from(counts.sent),
                kept: 0.0,
                usual_loss: 1.0 - (1.0 - both[0].loss) * (1.0 - both[1].loss),
                law: self.laws.number(law_of_pair(&both[0])),
                steady: self.laws.number(law_of_pair(&both[0])),
                over_us: Vec::new(),
            });
            return;
        }
        let directions = [&counts.forward, &counts.return_].into_iter().zip(both).enumerate();
        into.extend(directions.map(|(route, (one, expected))| {
            let base = i64::try_from(expected.delay_nanos / 1_000).unwrap_or(i64::MAX);
            let over = counts.delays_us[route].iter();
            Told {
                at,
                signal: Signal::Pair(pair, route),
                lost: f64::from(one.lost),
                kept: f64::from(one.arrived),
                usual_loss: expected.loss,
                law: self.laws.number(law_of_pair(&expected)),
                steady: self.laws.number(law_of_pair(&expected)),
                over_us: over.map(|us| us - expected.offset_us - base).collect(),
            }
        }));
    }

    /// Log of how much likelier an observation is with an effect, crossing it once and twice.
    pub(super) fn ratios(&mut self, told: &Told, tested: Tested) -> [f64; CROSSED] {
        self.laws.ratios(&self.calm, told, tested)
    }

    /// Masses of a law without any fault, by bin.
    pub(super) fn masses(&mut self, law: usize) -> Rc<Vec<f64>> {
        self.laws.masses(&self.calm, law)
    }

    /// Forgets the laws of added delays that are looked at once.
    pub(super) fn forget(&mut self, is_kept: impl Fn([f64; 2]) -> bool) {
        self.laws.forget(is_kept);
    }

    /// What one packet of an observation, and how many of them in so many windows, tell of an effect that it crosses so
    /// many times, in nats; nothing of what never answers.
    pub(super) fn expected_nats(
        &mut self,
        signal: Signal,
        (effect, times): (Effect, usize),
        (at, windows): (Tick, f64),
    ) -> f64 {
        let stage = self.stretch.stage;
        let (loss, packets, key) = match signal {
            Signal::Hop(path, flow, hop) => {
                let rounds = f64::from(stage.setup.rounds_per_window.max(1)) * windows;
                let flows = self.calm.flows(path) as f64;
                let expected = self.calm.expected(path, flow as u64, at)[hop].clone();
                let packets = f64::from(stage.setup.probes_per_hop) * rounds / flows;
                (expected.loss, packets, law_of_hop(stage.paths[path].site, &expected))
            }
            Signal::Pair(pair, route) if route < 2 => {
                let expected = self.calm.pair_expected((pair, stage.pairs[pair]), route, at);
                let packets = f64::from(stage.setup.pair_packets) * windows;
                (expected.loss, packets, law_of_pair(&expected))
            }
            Signal::Pair(..) => return 0.0,
        };
        if loss >= 1.0 {
            return 0.0;
        }
        let law = self.laws.number(key);
        packets * self.laws.divergence(&self.calm, (law, loss), effect, times)
    }
}

/// What the law of delays of a hop's answers depends on.
fn law_of_hop(site: usize, expected: &Expected) -> LawKey {
    let (share, mean) = expected.slow.unwrap_or((0.0, 0.0));
    let (site, _, _, jitters) = steady_law_of_hop(site, expected);
    (site, share.to_bits(), mean.to_bits(), jitters)
}

/// The same of answers that are not slow.
fn steady_law_of_hop(site: usize, expected: &Expected) -> LawKey {
    let jitters = expected.jitters_nanos.iter().map(|mean| mean.to_bits()).collect();
    (site, 0, 0, jitters)
}

/// What the law of delays of one direction of a pair depends on.
fn law_of_pair(expected: &PairExpected) -> LawKey {
    let jitters = expected.jitters_nanos.iter().map(|mean| mean.to_bits()).collect();
    (expected.receiver, 0, 0, jitters)
}
