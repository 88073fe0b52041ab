//! A world to run, and how much of it.

use super::setup::Setup;
use itinera_simnet::worlds::WorldFamily;
use serde::{Deserialize, Serialize};

/// One world to run.
#[derive(Debug, Clone, PartialEq)]
pub struct Job {
    /// The measuring setup.
    pub setup: Setup,
    /// Family of the world.
    pub family: WorldFamily,
    /// Its seed.
    pub seed: u64,
    /// How much of it.
    pub extent: Extent,
}

/// How much of a world is run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Extent {
    /// Cases.
    pub cases: u64,
    /// Cases, the first ones, that the oracles are asked about which do not know the size.
    pub oracle_cases: u64,
    /// Times of the world at which they are played, ten at most.
    pub times: u64,
    /// Windows of ten seconds without any fault, after the history of each time of the world.
    pub calm_windows: u64,
    /// Only cases of the first figures are played: single links, neither slight nor gross.
    pub first_only: bool,
}
