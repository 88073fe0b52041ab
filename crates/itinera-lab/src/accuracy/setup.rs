//! The measuring setup: agents, pairs, probes and rounds.

use itinera_simnet::closed_form::{Pace, PairPlan, PathPlan};
use itinera_simnet::worlds::Blueprint;
use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

/// Length of a window, in seconds.
pub const WINDOW_S: u64 = 10;

/// How an installation measures.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Setup {
    /// What it is called.
    pub name: String,
    /// Agents; every one of them probes every target.
    pub agents: usize,
    /// Two-way partners of each agent.
    pub peers: usize,
    /// Probes for each hop in a round.
    pub probes_per_hop: u8,
    /// Rounds of a path in a window of ten seconds.
    pub rounds_per_window: u8,
    /// Paths from an agent to a target, each with flows of its own.
    pub per_target: usize,
    /// Flows that a path's rounds take in turn.
    pub flows: u16,
    /// Packets of a pair in a window.
    pub pair_packets: u16,
    /// Extra rounds that a candidate may ask for, in percent of the usual ones.
    pub follow_up_percent: u8,
}

impl Setup {
    /// Sixteen agents with five peers each.
    pub fn a() -> Self {
        Self {
            name: "A".to_owned(),
            agents: 16,
            peers: 5,
            probes_per_hop: 10,
            rounds_per_window: 1,
            per_target: 1,
            flows: 4,
            pair_packets: 10,
            follow_up_percent: 0,
        }
    }

    /// Twenty-four agents with twelve peers each.
    pub fn b() -> Self {
        Self { name: "B".to_owned(), agents: 24, peers: 12, ..Self::a() }
    }

    /// Setup A with one thing changed at a time: what more of it buys.
    pub fn sweep() -> Vec<Self> {
        let base = Self::a;
        let named = |name: String, setup: Self| Self { name, ..setup };
        let agents = [3, 6, 12, 24].map(|agents| {
            let peers = base().peers.min(agents - 1);
            named(format!("A, {agents} agents"), Self { agents, peers, ..base() })
        });
        let peers =
            [0, 2, 11].map(|peers| named(format!("A, {peers} peers"), Self { peers, ..base() }));
        let probes = [2, 5].map(|probes_per_hop| {
            named(format!("A, {probes_per_hop} probes"), Self { probes_per_hop, ..base() })
        });
        let rounds = [2, 5].map(|rounds_per_window| {
            let name = format!("A, {rounds_per_window} rounds of 2 probes");
            named(name, Self { probes_per_hop: 2, rounds_per_window, ..base() })
        });
        let follow_up =
            named("A, 25 % follow-up".to_owned(), Self { follow_up_percent: 25, ..base() });
        let all = agents.into_iter().chain(peers).chain(probes).chain(rounds).chain([follow_up]);
        std::iter::once(base()).chain(all).collect()
    }

    /// How many extra rounds a candidate may ask for in a window.
    pub(super) fn extra_rounds(&self, paths: usize) -> usize {
        paths * usize::from(self.rounds_per_window) * usize::from(self.follow_up_percent) / 100
    }

    pub(super) fn pace(&self) -> Pace {
        let per_window = u64::from(self.rounds_per_window.max(1));
        let interval_nanos = WINDOW_S * 1_000_000_000 / per_window;
        Pace { probes: self.probes_per_hop, interval_nanos }
    }

    /// Every agent to every target, by stable flows.
    pub(super) fn paths(&self, world: &Blueprint) -> Vec<PathPlan> {
        let targets = world.targets.len();
        let plan = |index: usize| {
            let port = 33_434 + u16::try_from(index % 20_000).unwrap_or(0);
            let flows = (0..self.flows.max(1)).map(|flow| (40_000 + flow, port));
            let pair = index / self.per_target.max(1);
            PathPlan { site: pair / targets, target: pair % targets, flows: flows.collect() }
        };
        (0..world.sites.len() * targets * self.per_target.max(1)).map(plan).collect()
    }

    /// Pairs, so that each agent has about as many peers as wanted.
    pub(super) fn pairs(&self, world: &Blueprint) -> Vec<PairPlan> {
        let mut rng = ChaCha8Rng::seed_from_u64(world.seed);
        rng.set_stream(21);
        let sites = world.sites.len();
        let mut all: Vec<PairPlan> = (0..sites)
            .flat_map(|near| (near + 1..sites).map(move |far| PairPlan { near, far }))
            .collect();
        all.shuffle(&mut rng);
        let mut degree = vec![0; sites];
        all.retain(|pair| {
            let wanted = degree[pair.near] < self.peers && degree[pair.far] < self.peers;
            if wanted {
                degree[pair.near] += 1;
                degree[pair.far] += 1;
            }
            wanted
        });
        all
    }
}
