//! How packets find their way: by the least sum of metrics, or from owner to owner with the
//! nearest exit of each.

use crate::life::{Draws, purpose};
use crate::scenario::{Exits, Scenario};
use crate::world::World;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap};

/// By node and destination: the arcs to go on by.
pub(crate) type Next = Vec<Vec<Vec<usize>>>;

/// Share of destinations for which an owner prefers an upstream by its own policy.
const OWN_POLICY: f64 = 0.4;

/// What routing knows beside the world's nodes and arcs.
#[derive(Debug, Clone)]
pub(crate) struct Routing {
    exits: Exits,
    /// By owner: its transit providers and peers.
    upstreams: Vec<BTreeSet<usize>>,
    peers: Vec<BTreeSet<usize>>,
}

impl Routing {
    pub(crate) fn of(scenario: &Scenario) -> Self {
        let index: BTreeMap<&str, usize> = scenario
            .owners
            .iter()
            .enumerate()
            .map(|(index, owner)| (owner.id.as_ref().as_str(), index))
            .collect();
        let all = |ids: &[toml::Spanned<String>]| {
            ids.iter().map(|id| index[id.as_ref().as_str()]).collect::<BTreeSet<_>>()
        };
        let upstreams = scenario.owners.iter().map(|owner| all(&owner.upstreams)).collect();
        let mut peers: Vec<BTreeSet<usize>> =
            scenario.owners.iter().map(|owner| all(&owner.peers)).collect();
        for owner in 0..peers.len() {
            for peer in peers[owner].clone() {
                peers[peer].insert(owner);
            }
        }
        Self { exits: scenario.exits, upstreams, peers }
    }

    /// The arcs to go on by, for one version of IP: nodes that are not `there` do not speak it.
    pub(crate) fn next(&self, world: &World, there: &[bool]) -> Next {
        let count = world.nodes.len();
        let mut next = vec![vec![Vec::new(); count]; count];
        let routes = Routes::new(world, there);
        for end in (0..count).filter(|end| there[*end]) {
            let by_node = match self.exits {
                Exits::Least => routes.least(end),
                Exits::Nearest => routes.nearest_exits(self, end),
            };
            for (node, arcs) in by_node.into_iter().enumerate().filter(|(node, _)| *node != end) {
                next[node][end] = arcs;
            }
        }
        next
    }

    /// By owner: the owners that it may hand to on the way to `end`'s owner. A way over a
    /// customer is preferred to one over a peer, that to one over an upstream; then the shortest.
    /// For some destinations an owner prefers one of its upstreams whatever the length.
    ///
    /// Source: L. Gao, J. Rexford, Stable Internet routing without global coordination,
    /// IEEE/ACM Transactions on Networking 9 (2001).
    fn choices(&self, seed: u64, end: usize) -> Vec<BTreeSet<usize>> {
        let owners = self.upstreams.len();
        let mut over_customers = vec![None; owners];
        over_customers[end] = Some(0u32);
        let mut reached = vec![end];
        for step in 1..=owners {
            let payers = std::mem::take(&mut reached);
            for owner in payers.into_iter().flat_map(|payer| &self.upstreams[payer]) {
                if over_customers[*owner].is_none() {
                    over_customers[*owner] = u32::try_from(step).ok();
                    reached.push(*owner);
                }
            }
        }
        let over_peers = |owner: usize| {
            self.peers[owner].iter().filter_map(|peer| over_customers[*peer]).min().map(|d| d + 1)
        };
        let mut best: Vec<Option<u32>> =
            (0..owners).map(|owner| over_customers[owner].or_else(|| over_peers(owner))).collect();
        let settled = best.clone();
        for _ in 0..owners {
            for owner in (0..owners).filter(|owner| settled[*owner].is_none()) {
                let over = self.upstreams[owner].iter().filter_map(|up| best[*up]).min();
                best[owner] = over.map(|distance| distance + 1);
            }
        }
        let choice = |owner: usize| -> BTreeSet<usize> {
            let Some(distance) = best[owner].filter(|_| owner != end) else {
                return BTreeSet::new();
            };
            let all = 0..owners;
            if over_customers[owner].is_some() {
                let customers = all.filter(|other| self.upstreams[*other].contains(&owner));
                return customers.filter(|c| over_customers[*c] == Some(distance - 1)).collect();
            }
            if over_peers(owner).is_some() {
                let peers = self.peers[owner].iter().copied();
                return peers.filter(|peer| over_customers[*peer] == Some(distance - 1)).collect();
            }
            let upstreams = self.upstreams[owner].iter().copied();
            let mut own = Draws::of([seed, owner as u64, end as u64]).under(purpose::POLICY);
            if own.unit() < OWN_POLICY {
                let able: Vec<usize> = upstreams.filter(|up| best[*up].is_some()).collect();
                let nth = own.word() % able.len().max(1) as u64;
                return able.into_iter().skip(usize::try_from(nth).unwrap_or(0)).take(1).collect();
            }
            upstreams.filter(|up| best[*up] == Some(distance - 1)).collect()
        };
        (0..owners).map(choice).collect()
    }
}

/// The arcs of a world, backwards.
struct Routes<'a> {
    world: &'a World,
    there: &'a [bool],
    /// By node: who has an arc to it, and of what metric.
    into: Vec<Vec<(usize, u64)>>,
    /// By node: the owner that routes it; hosts follow their router.
    domains: Vec<Option<usize>>,
}

impl<'a> Routes<'a> {
    fn new(world: &'a World, there: &'a [bool]) -> Self {
        let mut into = vec![Vec::new(); world.nodes.len()];
        for (from, arcs) in world.arcs.iter().enumerate() {
            for arc in arcs {
                into[arc.to].push((from, arc.metric));
            }
        }
        let domain = |node: usize| {
            let own = world.nodes[node].owner;
            let gateway = || world.arcs[node].iter().find_map(|arc| world.nodes[arc.to].owner);
            own.or_else(|| if world.nodes[node].passes { None } else { gateway() })
        };
        let domains = (0..world.nodes.len()).map(domain).collect();
        Self { world, there, into, domains }
    }

    /// Whether a packet to `end` may enter a node: sites and targets are ends, nothing passes
    /// through them.
    fn carries(&self, node: usize, end: usize) -> bool {
        node == end || self.world.nodes[node].passes
    }

    /// The least metric from each node to the nearest of some, over nodes that `may` be entered.
    ///
    /// Source: E. W. Dijkstra, A note on two problems in connexion with graphs (1959), backwards.
    fn distances(
        &self,
        ends: impl Iterator<Item = usize>,
        may: impl Fn(usize) -> bool,
        starts: impl Fn(usize) -> bool,
    ) -> Vec<u64> {
        let mut distance = vec![u64::MAX; self.world.nodes.len()];
        let mut open: BinaryHeap<Reverse<(u64, usize)>> = BinaryHeap::new();
        for end in ends {
            distance[end] = 0;
            open.push(Reverse((0, end)));
        }
        while let Some(Reverse((so_far, node))) = open.pop() {
            if so_far > distance[node] || !may(node) {
                continue;
            }
            for (from, metric) in &self.into[node] {
                let over = so_far.saturating_add(*metric);
                if self.there[*from] && starts(*from) && over < distance[*from] {
                    distance[*from] = over;
                    open.push(Reverse((over, *from)));
                }
            }
        }
        distance
    }

    /// The arcs of each node that lie on a way of this distance, among those that `may` be taken.
    fn on_the_way(
        &self,
        distance: &[u64],
        may: impl Fn(usize) -> bool,
    ) -> impl Fn(usize) -> Vec<usize> {
        move |node| {
            let own = distance[node];
            let arcs = self.world.arcs[node]
                .iter()
                .enumerate()
                .filter(|(_, arc)| may(arc.to) && own != u64::MAX && distance[arc.to] != u64::MAX);
            let least = arcs.filter(|(_, arc)| {
                own == distance[arc.to].saturating_add(arc.metric) && self.there[arc.to]
            });
            least.map(|(index, _)| index).collect()
        }
    }

    fn least(&self, end: usize) -> Vec<Vec<usize>> {
        let distance =
            self.distances(std::iter::once(end), |node| self.carries(node, end), |_| true);
        let arcs = self.on_the_way(&distance, |to| self.carries(to, end));
        (0..distance.len())
            .map(|node| if self.there[node] { arcs(node) } else { Vec::new() })
            .collect()
    }

    /// Within the end's owner the shortest way; elsewhere the shortest way to the nearest node
    /// that has a link to one of the owners chosen.
    fn nearest_exits(&self, routing: &Routing, end: usize) -> Vec<Vec<usize>> {
        let count = self.world.nodes.len();
        let mut next = vec![Vec::new(); count];
        let Some(home) = self.domains[end] else {
            return next;
        };
        let choices = routing.choices(self.world.seed, home);
        for (owner, chosen) in choices.iter().enumerate() {
            let inside = |node: usize| self.domains[node] == Some(owner);
            let leaving = |node: usize| -> Vec<usize> {
                let arcs = self.world.arcs[node].iter().enumerate();
                let over = arcs.filter(|(_, arc)| {
                    let there = self.there[arc.to] && self.world.nodes[arc.to].passes;
                    there && self.domains[arc.to].is_some_and(|domain| chosen.contains(&domain))
                });
                over.map(|(index, _)| index).collect()
            };
            let exits: Vec<usize> = if owner == home {
                vec![end]
            } else {
                let routers = (0..count).filter(|node| self.world.nodes[*node].passes);
                routers.filter(|node| inside(*node) && !leaving(*node).is_empty()).collect()
            };
            let may = |node: usize| inside(node) && self.carries(node, end);
            let distance = self.distances(exits.iter().copied(), may, inside);
            let arcs = self.on_the_way(&distance, may);
            for node in (0..count).filter(|node| inside(*node) && self.there[*node]) {
                let is_exit = owner != home && exits.contains(&node);
                // At an exit one of several links is taken, the same for all of a destination.
                next[node] =
                    if is_exit { leaving(node).into_iter().take(1).collect() } else { arcs(node) };
            }
        }
        next
    }
}
