//! A scenario with everything drawn: nodes, directed links, forwarding and truth.

use crate::scenario::{FaultEntry, HostEntry, RouterEntry, Scenario, addresses_of};
use itinera_model::unit::Tick;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// A site or target of the world.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint {
    /// Its id in the scenario.
    pub id: String,
    /// What people call it.
    pub name: String,
    /// Its addresses: IPv4, IPv6, or both in this order.
    pub addresses: Vec<IpAddr>,
}

/// What a fault does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum TruthCause {
    /// Loses this share of packets.
    Loss(f64),
    /// Delays every packet by this many milliseconds more.
    AddedDelayMs(f64),
}

/// A fault as it really is. For scoring only: no judgement may see it.
#[derive(Debug, Clone, PartialEq)]
pub struct Truth {
    /// Addresses of the node before the faulty link.
    pub from: Vec<IpAddr>,
    /// Addresses of the node behind it.
    pub to: Vec<IpAddr>,
    /// Name of the network that runs the node behind it; absent where nobody is named.
    pub owner: Option<String>,
    /// What it does.
    pub cause: TruthCause,
    /// When it begins.
    pub begins: Tick,
    /// When it ends; absent when it does not.
    pub ends: Option<Tick>,
}

#[derive(Debug, Clone)]
pub(crate) struct Node {
    pub(crate) addresses: Vec<IpAddr>,
    pub(crate) is_site: bool,
    /// Whether packets for others pass through it.
    pub(crate) passes: bool,
    pub(crate) silent: bool,
    /// Share of its answers it refuses: drawn anew within these bounds every minute.
    pub(crate) polices: Option<[f64; 2]>,
    pub(crate) answer_delay_nanos: u64,
}

/// One direction of a link.
#[derive(Debug, Clone)]
pub(crate) struct Arc {
    pub(crate) to: usize,
    pub(crate) delay_nanos: u64,
    pub(crate) jitter_nanos: f64,
    pub(crate) loss: f64,
    pub(crate) faults: Vec<(Tick, Option<Tick>, TruthCause)>,
}

/// The drawn world.
#[derive(Debug, Clone)]
pub(crate) struct World {
    pub(crate) nodes: Vec<Node>,
    /// By node: its outgoing directed links.
    pub(crate) arcs: Vec<Vec<Arc>>,
    pub(crate) by_address: BTreeMap<IpAddr, usize>,
    /// By version (IPv4, IPv6), node and destination: the index of the arc to take.
    pub(crate) next: [Vec<Vec<Option<usize>>>; 2],
    pub(crate) sites: Vec<Endpoint>,
    pub(crate) targets: Vec<Endpoint>,
    pub(crate) truth: Vec<Truth>,
}

const DEFAULT_POLICING: [f64; 2] = [0.23, 0.57];

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "checked as finite and not negative when the scenario was read; casts saturate"
)]
fn nanos(ms: f64) -> u64 {
    (ms * 1e6) as u64
}

impl World {
    pub(crate) fn draw(scenario: &Scenario, seed: u64) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        rng.set_stream(1);
        let mut builder = Builder::new(scenario);
        for fault in &scenario.faults {
            builder.add_fault(fault, &mut rng);
        }
        for draw in &scenario.draws {
            let option = &draw.options[rng.random_range(0..draw.options.len())];
            for id in &option.silent {
                builder.node(id.as_ref()).silent = true;
            }
            let share = option.polices_share.as_ref().map_or(DEFAULT_POLICING, |s| *s.as_ref());
            for id in &option.polices {
                builder.node(id.as_ref()).polices = Some(share);
            }
            for fault in &option.faults {
                builder.add_fault(fault, &mut rng);
            }
        }
        let mut world = builder.world;
        world.next = [false, true]
            .map(|six| (0..world.nodes.len()).map(|from| world.first_arcs(from, six)).collect());
        world
    }

    /// Shortest ways by delay from one node: for each destination the first arc. Ties go to the
    /// arc that stands first in the scenario. Nodes without an address of the version are not
    /// there for it.
    fn first_arcs(&self, from: usize, six: bool) -> Vec<Option<usize>> {
        let count = self.nodes.len();
        let mut first = vec![None; count];
        let mut distance = vec![u64::MAX; count];
        let mut done = vec![false; count];
        distance[from] = 0;
        for _ in 0..count {
            let open = (0..count).filter(|n| !done[*n] && distance[*n] < u64::MAX);
            let Some(node) = open.min_by_key(|n| distance[*n]) else {
                break;
            };
            done[node] = true;
            // Sites and targets are ends: nothing passes through them.
            if node != from && !self.nodes[node].passes {
                continue;
            }
            for (index, arc) in self.arcs[node].iter().enumerate() {
                if !self.nodes[arc.to].addresses.iter().any(|a| a.is_ipv6() == six) {
                    continue;
                }
                let way = distance[node].saturating_add(arc.delay_nanos.max(1));
                if way < distance[arc.to] {
                    distance[arc.to] = way;
                    first[arc.to] = if node == from { Some(index) } else { first[node] };
                }
            }
        }
        first
    }
}

struct Builder<'a> {
    scenario: &'a Scenario,
    index: BTreeMap<&'a str, usize>,
    world: World,
}

impl<'a> Builder<'a> {
    fn new(scenario: &'a Scenario) -> Self {
        let endpoint = |host: &HostEntry| Endpoint {
            id: host.id.as_ref().clone(),
            name: host.name.clone(),
            addresses: addresses_of(host.address.as_ref(), host.address6.as_ref()),
        };
        let world = World {
            nodes: Vec::new(),
            arcs: Vec::new(),
            by_address: BTreeMap::new(),
            next: [Vec::new(), Vec::new()],
            sites: scenario.sites.iter().map(endpoint).collect(),
            targets: scenario.targets.iter().map(endpoint).collect(),
            truth: Vec::new(),
        };
        let mut builder = Self { scenario, index: BTreeMap::new(), world };
        for host in scenario.sites.iter().chain(&scenario.targets) {
            let is_site = scenario.sites.iter().any(|site| site.id.as_ref() == host.id.as_ref());
            let addresses = addresses_of(host.address.as_ref(), host.address6.as_ref());
            builder.add_node(host.id.as_ref(), addresses, is_site, None);
        }
        for router in &scenario.routers {
            let addresses = addresses_of(router.address.as_ref(), router.address6.as_ref());
            builder.add_node(router.id.as_ref(), addresses, false, Some(router));
        }
        for link in &scenario.links {
            let [a, b] = [0, 1].map(|end| builder.index[link.between[end].as_ref().as_str()]);
            for (from, to) in [(a, b), (b, a)] {
                builder.world.arcs[from].push(Arc {
                    to,
                    delay_nanos: nanos(*link.delay_ms.as_ref()),
                    jitter_nanos: link.jitter_ms.as_ref().map_or(0.0, |ms| ms.as_ref() * 1e6),
                    loss: link.loss.as_ref().map_or(0.0, |loss| *loss.as_ref()),
                    faults: Vec::new(),
                });
            }
        }
        builder
    }

    fn add_node(
        &mut self,
        id: &'a str,
        addresses: Vec<IpAddr>,
        is_site: bool,
        router: Option<&RouterEntry>,
    ) {
        let index = self.world.nodes.len();
        let delay = router.and_then(|r| r.answer_delay_ms.as_ref()).map_or(0.0, |ms| *ms.as_ref());
        self.world.by_address.extend(addresses.iter().map(|address| (*address, index)));
        self.world.nodes.push(Node {
            addresses,
            is_site,
            passes: router.is_some(),
            silent: router.is_some_and(|r| r.silent),
            polices: router.and_then(|r| r.polices.as_ref()).map(|share| *share.as_ref()),
            answer_delay_nanos: nanos(delay),
        });
        self.world.arcs.push(Vec::new());
        self.index.insert(id, index);
    }

    fn node(&mut self, id: &str) -> &mut Node {
        &mut self.world.nodes[self.index[id]]
    }

    fn add_fault(&mut self, fault: &FaultEntry, rng: &mut ChaCha8Rng) {
        let (from, to) =
            (self.index[fault.from.as_ref().as_str()], self.index[fault.to.as_ref().as_str()]);
        let begins = Tick::from_nanos(nanos(draw_between(*fault.at_s.as_ref(), rng) * 1e3));
        let ends = fault.for_s.as_ref().map(|s| begins.plus_nanos(nanos(s.as_ref() * 1e3)));
        let loss = fault.loss.as_ref().map(|r| TruthCause::Loss(draw_between(*r.as_ref(), rng)));
        let delay = fault.added_delay_ms.as_ref();
        let delay = delay.map(|r| TruthCause::AddedDelayMs(draw_between(*r.as_ref(), rng)));
        let owner = self.owner_name(fault.to.as_ref());
        for cause in loss.into_iter().chain(delay) {
            let arcs = &mut self.world.arcs[from];
            if let Some(arc) = arcs.iter_mut().find(|arc| arc.to == to) {
                arc.faults.push((begins, ends, cause));
            }
            self.world.truth.push(Truth {
                from: self.world.nodes[from].addresses.clone(),
                to: self.world.nodes[to].addresses.clone(),
                owner: owner.clone(),
                cause,
                begins,
                ends,
            });
        }
    }

    fn owner_name(&self, router: &str) -> Option<String> {
        let router = self.scenario.routers.iter().find(|r| r.id.as_ref() == router)?;
        let id = router.owner.as_ref()?.as_ref();
        let owner = self.scenario.owners.iter().find(|owner| owner.id.as_ref() == id)?;
        Some(owner.name.clone())
    }
}

fn draw_between([low, high]: [f64; 2], rng: &mut ChaCha8Rng) -> f64 {
    low + (high - low) * rng.random::<f64>()
}
