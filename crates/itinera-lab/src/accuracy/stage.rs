//! A world with its agents, and their observations window by window.

use super::atlas::Atlas;
use super::setup::{Setup, WINDOW_S};
use crate::{EPOCH, numbered};
use itinera_analysis::Observation;
use itinera_candidates::{PairFacts, PairRounds, PathFacts, Topology, WindowInput};
use itinera_model::id::PathId;
use itinera_model::owner::{Owner, OwnerEntry, OwnerMap};
use itinera_model::round::{HopCounts, StampSource};
use itinera_model::route::FlowKey;
use itinera_model::unit::{Tick, WallTime};
use itinera_simnet::Scenario;
use itinera_simnet::closed_form::{PairCounts, PairPlan, PathPlan, Sampler};
use itinera_simnet::worlds::{Blueprint, Changes, WorldFamily};
use std::sync::Arc;

const NANOS_PER_S: u64 = 1_000_000_000;
/// Windows before the onset: the usual, and the last minute.
pub(super) const HISTORY_WINDOWS: u64 = 72;

/// A world, its probing, and what is known of it.
#[derive(Debug, Clone)]
pub struct Stage {
    /// The world.
    pub world: Blueprint,
    /// The measuring setup.
    pub setup: Setup,
    pub(super) paths: Vec<PathPlan>,
    pub(super) pairs: Vec<PairPlan>,
    /// What candidates may know.
    pub topology: Arc<Topology>,
    pub(super) atlas: Arc<Atlas>,
    /// The world without faults.
    pub(super) calm: Sampler,
}

/// One round of a path as it was drawn.
#[derive(Debug, Clone, Default)]
pub(super) struct Drawn {
    pub(super) path: usize,
    pub(super) number: u64,
    pub(super) at: Tick,
    pub(super) hops: Vec<HopCounts>,
}

/// One window: rounds of paths and pairs.
#[derive(Debug, Clone, Default)]
pub(super) struct Window {
    pub(super) rounds: Vec<Drawn>,
    pub(super) pairs: Vec<(Tick, PairCounts)>,
}

pub(super) fn wall(at: Tick) -> WallTime {
    EPOCH.plus_micros(i64::try_from(at.as_nanos() / 1_000).unwrap_or(i64::MAX))
}

/// The tick at which a window begins.
pub(super) fn begin_of(window: u64) -> Tick {
    Tick::from_nanos(window * WINDOW_S * NANOS_PER_S)
}

impl Stage {
    /// Draws a world and puts the setup's agents into it.
    ///
    /// # Panics
    /// When a drawn world is no scenario or has no closed form: a bug of ours.
    pub fn new(setup: &Setup, family: WorldFamily, seed: u64) -> Self {
        let world = Blueprint::draw(seed, family, setup.agents);
        let (paths, pairs) = (setup.paths(&world), setup.pairs(&world));
        let calm = sampler(&world, setup, &Changes::default(), &paths, &pairs);
        let address = |node: &itinera_simnet::Endpoint| node.addresses[0];
        let topology = Topology {
            paths: paths
                .iter()
                .zip(1u128..)
                .map(|(plan, number)| PathFacts {
                    id: PathId::from_uuid(numbered(3, number)),
                    source: address(&calm.sites()[plan.site]),
                    target: address(&calm.targets()[plan.target]),
                })
                .collect(),
            pairs: pairs
                .iter()
                .map(|plan| PairFacts {
                    near: address(&calm.sites()[plan.near]),
                    far: address(&calm.sites()[plan.far]),
                })
                .collect(),
            owners: owner_map(&world),
        };
        let atlas = Arc::new(Atlas::new(&world, &calm, &topology));
        Self {
            world,
            setup: setup.clone(),
            paths,
            pairs,
            topology: Arc::new(topology),
            atlas,
            calm,
        }
    }

    /// The world with changes.
    pub(super) fn changed(&self, changes: &Changes) -> Sampler {
        sampler(&self.world, &self.setup, changes, &self.paths, &self.pairs)
    }

    /// Draws a window; `series` tells runs of one world apart.
    pub(super) fn window(&self, sampler: &mut Sampler, window: u64, series: u64, out: &mut Window) {
        let total = self.paths.len() * usize::from(self.setup.rounds_per_window.max(1));
        out.rounds.resize_with(total, Drawn::default);
        let rounds = (0..self.paths.len()).flat_map(|path| {
            self.rounds_of(path, window).map(move |(number, at)| (path, number, at))
        });
        for (round, (path, number, at)) in out.rounds.iter_mut().zip(rounds) {
            (round.path, round.number, round.at) = (path, number, at);
            sampler.round(path, number, at, series, &mut round.hops);
        }
        let pairs =
            (0..self.pairs.len()).map(|pair| self.pair_round(sampler, pair, window, series));
        out.pairs.clear();
        out.pairs.extend(pairs);
    }

    /// Numbers and times of the rounds of a path in a window.
    pub(super) fn rounds_of(
        &self,
        path: usize,
        window: u64,
    ) -> impl Iterator<Item = (u64, Tick)> + use<> {
        let per_window = u64::from(self.setup.rounds_per_window.max(1));
        let gap = WINDOW_S * NANOS_PER_S / per_window;
        // Each path begins its rounds at a moment of its own.
        let offset = path as u64 * 7_919 % 1_000 * gap / 1_000;
        let at = move |turn| begin_of(window).plus_nanos(turn * gap + offset);
        (0..per_window).map(move |turn| (window * per_window + turn, at(turn)))
    }

    /// The round of a pair in a window.
    pub(super) fn pair_round(
        &self,
        sampler: &mut Sampler,
        pair: usize,
        window: u64,
        series: u64,
    ) -> (Tick, PairCounts) {
        let shift = pair as u64 * 6_133 % 1_000 * WINDOW_S * NANOS_PER_S / 1_000;
        let at = begin_of(window).plus_nanos(shift);
        let (plan, packets) = (self.pairs[pair], self.setup.pair_packets);
        (at, sampler.pair_round((pair, plan), window, at, packets, series))
    }

    /// What candidates are shown of a window.
    pub(super) fn show<T>(
        &self,
        sampler: &Sampler,
        window: u64,
        drawn: &Window,
        regard: impl FnOnce(&WindowInput<'_>) -> T,
    ) -> T {
        let rounds: Vec<Observation<'_>> = drawn
            .rounds
            .iter()
            .map(|round| {
                let (_, seen) = sampler.route(round.path, round.number, round.at);
                let facts = &self.topology.paths[round.path];
                Observation {
                    path: facts.id,
                    measured_at: wall(round.at),
                    number: round.number,
                    source: facts.source,
                    flow: FlowKey::default(),
                    route: seen.id,
                    addresses: &seen.addresses,
                    hops: &round.hops,
                    stamps: StampSource::Virtual,
                    lateness: None,
                    arrived_dscp: None,
                }
            })
            .collect();
        let pairs: Vec<PairRounds> = drawn
            .pairs
            .iter()
            .enumerate()
            .map(|(pair, (at, counts))| PairRounds {
                pair,
                at: wall(*at),
                sent: counts.sent,
                undetermined: counts.undetermined,
                forward: counts.forward.clone(),
                return_: counts.return_.clone(),
            })
            .collect();
        let until = wall(begin_of(window + 1));
        regard(&WindowInput { until, rounds: &rounds, pairs: &pairs })
    }
}

fn sampler(
    world: &Blueprint,
    setup: &Setup,
    changes: &Changes,
    paths: &[PathPlan],
    pairs: &[PairPlan],
) -> Sampler {
    #[allow(clippy::expect_used, reason = "a drawn world is a scenario, or we have a bug")]
    let scenario = Scenario::parse(&world.scenario(changes)).expect("a drawn world is a scenario");
    #[allow(clippy::expect_used, reason = "as above")]
    let sampler = Sampler::try_new(&scenario, world.seed, paths, pairs, setup.pace())
        .expect("a drawn world has a closed form");
    sampler
}

fn owner_map(world: &Blueprint) -> OwnerMap {
    let entries = world.holdings().into_iter().filter_map(|(prefix, owner)| {
        let (as_number, contact) = world.registration(owner);
        let owner = Owner { as_number, name: world.owners[owner].name.clone(), contact };
        Some(OwnerEntry { prefix: prefix.parse().ok()?, owner })
    });
    OwnerMap::new(entries.collect())
}
