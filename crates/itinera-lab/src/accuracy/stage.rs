//! A world with its agents: all that does not change with time.

use super::atlas::Atlas;
use super::setup::Setup;
use crate::numbered;
use itinera_candidates::{PairFacts, PathFacts, Topology};
use itinera_model::id::PathId;
use itinera_model::owner::{Owner, OwnerEntry, OwnerMap};
use itinera_simnet::Scenario;
use itinera_simnet::closed_form::{PairPlan, PathPlan, Sampler};
use itinera_simnet::worlds::{Blueprint, Changes, WorldFamily};
use std::sync::Arc;

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
    /// The world without faults, at no time in particular.
    pub(super) sampler: Sampler,
}

impl Stage {
    /// Draws a world and puts the setup's agents into it.
    ///
    /// # Panics
    /// When a drawn world is no scenario or has no closed form: a bug of ours.
    pub fn new(setup: &Setup, family: WorldFamily, seed: u64) -> Self {
        let world = Blueprint::draw(seed, family, setup.agents);
        let (paths, pairs) = (setup.paths(&world), setup.pairs(&world));
        let sampler = sampler(&world, setup, &paths, &pairs);
        let address = |node: &itinera_simnet::Endpoint| node.addresses[0];
        let topology = Topology {
            paths: paths
                .iter()
                .zip(1u128..)
                .map(|(plan, number)| PathFacts {
                    id: PathId::from_uuid(numbered(3, number)),
                    source: address(&sampler.sites()[plan.site]),
                    target: address(&sampler.targets()[plan.target]),
                })
                .collect(),
            pairs: pairs
                .iter()
                .map(|plan| PairFacts {
                    near: address(&sampler.sites()[plan.near]),
                    far: address(&sampler.sites()[plan.far]),
                })
                .collect(),
            owners: owner_map(&world),
        };
        let atlas = Arc::new(Atlas::new(&world, &sampler, &topology));
        Self {
            world,
            setup: setup.clone(),
            paths,
            pairs,
            topology: Arc::new(topology),
            atlas,
            sampler,
        }
    }
}

fn sampler(world: &Blueprint, setup: &Setup, paths: &[PathPlan], pairs: &[PairPlan]) -> Sampler {
    #[allow(clippy::expect_used, reason = "a drawn world is a scenario, or we have a bug")]
    let scenario =
        Scenario::parse(&world.scenario(&Changes::default())).expect("a drawn world is a scenario");
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
