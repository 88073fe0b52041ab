//! One observation, beside what it is without a fault.

use crate::accuracy::atlas::Signal;
use itinera_model::unit::Tick;

/// What one hop of a round, or one direction of a pair's round, gave.
#[derive(Debug, Clone)]
pub(in crate::accuracy) struct Told {
    pub(super) at: Tick,
    pub(super) signal: Signal,
    pub(super) lost: f64,
    pub(super) kept: f64,
    /// The share that is lost without a fault.
    pub(super) usual_loss: f64,
    /// The law of what delays are above the least.
    pub(super) law: usize,
    /// The same law without slow answers.
    pub(super) steady: usize,
    /// By how much they are, in microseconds.
    pub(super) over_us: Vec<i64>,
}
