//! Windows of rounds as they were drawn.

use super::setup::WINDOW_S;
use itinera_model::round::HopCounts;
use itinera_model::unit::Tick;
use itinera_simnet::closed_form::PairCounts;

const NANOS_PER_S: u64 = 1_000_000_000;

/// One round of a path as it was drawn.
#[derive(Debug, Clone, Default)]
pub(super) struct Drawn {
    pub(super) path: usize,
    pub(super) number: u64,
    pub(super) at: Tick,
    pub(super) hops: Vec<HopCounts>,
}

/// One round of a pair as it was drawn.
#[derive(Debug, Clone)]
pub(super) struct DrawnPair {
    pub(super) pair: usize,
    pub(super) at: Tick,
    pub(super) counts: PairCounts,
}

/// One window: rounds of paths and pairs.
#[derive(Debug, Clone, Default)]
pub(super) struct Window {
    pub(super) rounds: Vec<Drawn>,
    pub(super) pairs: Vec<DrawnPair>,
}

/// The tick at which a window begins.
pub(super) fn begin_of(window: u64) -> Tick {
    Tick::from_nanos(window * WINDOW_S * NANOS_PER_S)
}
