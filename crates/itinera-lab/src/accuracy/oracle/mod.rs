//! Candidates that know the world: bounds for what any candidate can get from the same data.
//!
//! The first two are told the world with its routing, loads, habits and noise. The first also knows when the fault
//! begins and how bad it is; the second does not. The third is told routing and loads, and learns the rest from
//! history. Given what is usual, probes are independent, so their posteriors over all single faults
//! follow from Bayes' rule; delays are regarded in bins of a tenth of a millisecond.

mod chain;
mod evidence;
mod known;
mod ladder;
mod laws;
mod learned;
mod told;
mod unknown;
mod weighing;

use super::atlas::{Edge, Suspect};
use super::cases::{self, Effect};
use super::stage::Stage;
use itinera_model::finding::Cause;
use std::collections::{BTreeMap, BTreeSet};

pub(super) use evidence::Reader;
pub(super) use ladder::{Asked, Ladder};
pub(super) use learned::{Baselines, Learner};

/// What the oracle is called in tables that knows everything but the place.
pub const ORACLE: &str = "oracle";
/// And the one that does not know cause, size and onset either.
pub const SIZE_UNKNOWN: &str = "oracle, size unknown";
/// And the one that also has to learn what is usual: what candidates are held against.
pub const LEARNED: &str = "oracle, learning";

/// A possible fault with its probability.
#[derive(Debug, Clone, Copy)]
pub(super) struct Candidate {
    pub(super) suspect: usize,
    pub(super) cause: Cause,
    pub(super) probability: f64,
}

/// What an oracle says at the end.
#[derive(Debug, Clone)]
pub(super) struct Opinion {
    /// Everything it holds possible.
    pub(super) candidates: Vec<Candidate>,
    /// Probability of no fault.
    pub(super) nothing: f64,
}

impl Opinion {
    pub(super) fn probability_of(&self, mut holds: impl FnMut(&Candidate) -> bool) -> f64 {
        let right = self.candidates.iter().filter(|candidate| holds(candidate));
        right.map(|candidate| candidate.probability).sum()
    }
}

/// The cause of an effect.
pub(super) const fn cause_of(effect: Effect) -> Cause {
    match effect {
        Effect::Loss(_) => Cause::Loss,
        Effect::DelayMs(_) => Cause::Delay,
    }
}

/// The odds of a case without a fault, in units of the weights of kinds.
const NOTHING: f64 = 6.0;

/// The odds by which cases are drawn with a fault of this cause, by suspect.
fn odds(stage: &Stage, cause: Cause) -> BTreeMap<usize, f64> {
    let atlas = &stage.atlas;
    let links = |which: usize| -> Vec<Suspect> {
        atlas.inner(which).into_iter().map(Suspect::Link).collect()
    };
    let is_loss = cause == Cause::Loss;
    // Lines lose as often as they delay.
    let groups: [(f64, Vec<Suspect>); 5] = [
        (if is_loss { 5.0 } else { 4.0 }, links(0)),
        (if is_loss { 4.0 } else { 3.0 }, links(1)),
        (if is_loss { 2.0 } else { 0.0 }, cases::members(atlas)),
        (1.0, cases::lines(stage, true)),
        (1.0, cases::lines(stage, false)),
    ];
    spread(stage, groups)
}

/// The odds of a black hole, by suspect.
fn odds_of_black_hole(stage: &Stage) -> BTreeMap<usize, f64> {
    let links = stage.atlas.inner(0).into_iter().map(Suspect::Link).collect();
    spread(stage, [(1.0, links)])
}

/// Shares the odds of each group equally among its suspects.
fn spread<const N: usize>(stage: &Stage, groups: [(f64, Vec<Suspect>); N]) -> BTreeMap<usize, f64> {
    let mut weights: BTreeMap<usize, f64> = BTreeMap::new();
    for (odds, group) in groups {
        let each = odds / group.len().max(1) as f64;
        for suspect in group.into_iter().filter_map(|suspect| stage.atlas.suspect(suspect)) {
            *weights.entry(suspect).or_default() += each;
        }
    }
    weights.retain(|_, weight| *weight > 0.0);
    weights
}

/// The classes of links that a suspect cannot be told from.
pub(super) fn class_of(stage: &Stage, suspect: Suspect) -> BTreeSet<Edge> {
    let links = stage.atlas.links_of(suspect);
    links.into_iter().flat_map(|link| stage.atlas.class(link).iter().copied()).collect()
}
