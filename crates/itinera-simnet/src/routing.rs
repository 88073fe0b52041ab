//! How packets are routed: by the least sum of metrics, or from owner to owner with the
//! nearest exit of each.

use crate::life::{Draws, purpose};
use crate::scenario::{Exits, Scenario};
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap};

/// By node and destination: the arcs to go on by.
pub(crate) type Next = Vec<Vec<Vec<usize>>>;

/// Share of destinations for which an owner prefers an upstream by its own policy.
const OWN_POLICY: f64 = 0.4;

/// What routing needs of one direction of a link.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Edge {
    pub(crate) to: usize,
    /// Its length for routing.
    pub(crate) metric: u64,
}

/// What routing needs of a node, for one version of IP.
#[derive(Debug, Clone)]
pub(crate) struct GraphNode {
    /// It speaks this version.
    pub(crate) speaks: bool,
    /// It forwards packets; sites and targets do not.
    pub(crate) forwards: bool,
    pub(crate) owner: Option<usize>,
    /// Its outgoing links.
    pub(crate) edges: Vec<Edge>,
}

/// Owners, their contracts, and how an owner chooses its exit.
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

    /// The next arcs of each node to each destination, as indices of the node's edges. `seed`
    /// draws the policies of owners.
    pub(crate) fn next(&self, graph: &[GraphNode], seed: u64) -> Next {
        let count = graph.len();
        let mut next = vec![vec![Vec::new(); count]; count];
        let routes = Routes::new(graph);
        for end in (0..count).filter(|end| graph[*end].speaks) {
            let by_node = match self.exits {
                Exits::Least => routes.least(end),
                Exits::Nearest => routes.nearest_exits(self, seed, end),
            };
            for (node, arcs) in by_node.into_iter().enumerate().filter(|(node, _)| *node != end) {
                next[node][end] = arcs;
            }
        }
        next
    }

    /// By owner: the owners that it may hand to towards `end`'s owner. A route over a
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

/// A graph with its edges backwards.
struct Routes<'a> {
    graph: &'a [GraphNode],
    /// By node: the nodes with an edge to it, and its metric.
    into: Vec<Vec<(usize, u64)>>,
    /// By node: the owner that routes it; hosts follow their router.
    domains: Vec<Option<usize>>,
}

impl<'a> Routes<'a> {
    fn new(graph: &'a [GraphNode]) -> Self {
        let mut into = vec![Vec::new(); graph.len()];
        for (from, node) in graph.iter().enumerate() {
            for edge in &node.edges {
                into[edge.to].push((from, edge.metric));
            }
        }
        let domain = |node: &GraphNode| {
            let gateway = || node.edges.iter().find_map(|edge| graph[edge.to].owner);
            node.owner.or_else(|| if node.forwards { None } else { gateway() })
        };
        let domains = graph.iter().map(domain).collect();
        Self { graph, into, domains }
    }

    /// Whether a packet to `end` may enter a node: sites and targets are ends, nothing passes
    /// through them.
    fn carries(&self, node: usize, end: usize) -> bool {
        node == end || self.graph[node].forwards
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
        let mut distance = vec![u64::MAX; self.graph.len()];
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
                if self.graph[*from].speaks && starts(*from) && over < distance[*from] {
                    distance[*from] = over;
                    open.push(Reverse((over, *from)));
                }
            }
        }
        distance
    }

    /// The arcs of each node that lie on a route of this distance, among those that `may` be taken.
    fn on_the_route(
        &self,
        distance: &[u64],
        may: impl Fn(usize) -> bool,
    ) -> impl Fn(usize) -> Vec<usize> {
        move |node| {
            let own = distance[node];
            let arcs = self.graph[node].edges.iter().enumerate().filter(|(_, edge)| {
                may(edge.to) && own != u64::MAX && distance[edge.to] != u64::MAX
            });
            let least = arcs.filter(|(_, edge)| {
                own == distance[edge.to].saturating_add(edge.metric) && self.graph[edge.to].speaks
            });
            least.map(|(index, _)| index).collect()
        }
    }

    fn least(&self, end: usize) -> Vec<Vec<usize>> {
        let distance =
            self.distances(std::iter::once(end), |node| self.carries(node, end), |_| true);
        let arcs = self.on_the_route(&distance, |to| self.carries(to, end));
        (0..distance.len())
            .map(|node| if self.graph[node].speaks { arcs(node) } else { Vec::new() })
            .collect()
    }

    /// Within the end's owner the shortest route; elsewhere the shortest route to the nearest node
    /// that has a link to one of the owners chosen.
    fn nearest_exits(&self, routing: &Routing, seed: u64, end: usize) -> Vec<Vec<usize>> {
        let count = self.graph.len();
        let mut next = vec![Vec::new(); count];
        let Some(home) = self.domains[end] else {
            return next;
        };
        let choices = routing.choices(seed, home);
        for (owner, chosen) in choices.iter().enumerate() {
            let inside = |node: usize| self.domains[node] == Some(owner);
            let leaving = |node: usize| -> Vec<usize> {
                let arcs = self.graph[node].edges.iter().enumerate();
                let over = arcs.filter(|(_, edge)| {
                    let open = self.graph[edge.to].speaks && self.graph[edge.to].forwards;
                    open && self.domains[edge.to].is_some_and(|domain| chosen.contains(&domain))
                });
                over.map(|(index, _)| index).collect()
            };
            let exits: Vec<usize> = if owner == home {
                vec![end]
            } else {
                let routers = (0..count).filter(|node| self.graph[*node].forwards);
                routers.filter(|node| inside(*node) && !leaving(*node).is_empty()).collect()
            };
            let may = |node: usize| inside(node) && self.carries(node, end);
            let distance = self.distances(exits.iter().copied(), may, inside);
            let arcs = self.on_the_route(&distance, may);
            for node in (0..count).filter(|node| inside(*node) && self.graph[*node].speaks) {
                let is_exit = owner != home && exits.contains(&node);
                // At an exit one of several links is taken, the same for all of a destination.
                next[node] =
                    if is_exit { leaving(node).into_iter().take(1).collect() } else { arcs(node) };
            }
        }
        next
    }
}
