//! A scenario with everything drawn: nodes, directed links, forwarding and truth.

use crate::scenario::{
    Balance, Burst, FaultEntry, HostEntry, Protocol, RouterEntry, Scenario, addresses_of,
};
use itinera_model::unit::Tick;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use toml::Spanned;

/// A site or target of the world.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint {
    /// Its id in the scenario.
    pub id: String,
    /// What people call it.
    pub name: String,
    /// Its addresses: IPv4, IPv6, or both in this order.
    pub addresses: Vec<IpAddr>,
    /// Its clock is so much ahead of the true time at the start, in microseconds.
    pub clock_offset_us: i64,
    /// It runs so much faster, in parts per thousand million.
    pub clock_drift_ppb: i32,
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
    /// Mean of an exponential delay of its answers.
    pub(crate) answer_jitter_nanos: f64,
    /// Answers a second to one address, as Linux grants them.
    pub(crate) answers_per_s: Option<f64>,
    /// It counts the hop limit down.
    pub(crate) counts: bool,
    /// Labels that packets carry when they come in, outermost first.
    pub(crate) labels: Vec<u32>,
    /// Hop limit that its quotes show instead of the one that ran out.
    pub(crate) quotes_hop_limit: Option<u8>,
    pub(crate) marks_dscp: Option<u8>,
    pub(crate) translates_to: Option<Ipv4Addr>,
    pub(crate) restores_quotes: bool,
    pub(crate) says_too_big: bool,
    pub(crate) balances: Option<Balance>,
    /// What a host answers to.
    pub(crate) host: Host,
}

/// How a host answers.
#[derive(Debug, Clone, Default)]
pub(crate) struct Host {
    pub(crate) ignores: Vec<Protocol>,
    pub(crate) tcp_open: Vec<u16>,
    pub(crate) udp_open: Vec<u16>,
}

/// A queue in front of a line.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Line {
    pub(crate) nanos_per_octet: f64,
    pub(crate) longest_nanos: f64,
    pub(crate) load: f64,
}

/// One direction of a link.
#[derive(Debug, Clone)]
pub(crate) struct Arc {
    pub(crate) to: usize,
    pub(crate) delay_nanos: u64,
    pub(crate) jitter_nanos: f64,
    pub(crate) loss: f64,
    pub(crate) faults: Vec<(Tick, Option<Tick>, TruthCause)>,
    /// What routing takes for its length.
    pub(crate) metric: u64,
    pub(crate) burst: Option<Burst>,
    pub(crate) duplicates: f64,
    pub(crate) reorders: f64,
    pub(crate) mtu: Option<u16>,
    pub(crate) line: Option<Line>,
}

/// The drawn world.
#[derive(Debug, Clone)]
pub(crate) struct World {
    pub(crate) nodes: Vec<Node>,
    /// By node: its outgoing directed links.
    pub(crate) arcs: Vec<Vec<Arc>>,
    pub(crate) by_address: BTreeMap<IpAddr, usize>,
    /// By version (IPv4, IPv6), node and destination: the arcs of least metric, in the order of
    /// the scenario.
    pub(crate) next: [Vec<Vec<Vec<usize>>>; 2],
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
        world.next = [false, true].map(|six| world.all_arcs(six));
        world
    }

    /// By node and destination: the arcs on ways of least metric. Nodes without an address of
    /// the version are not there for it.
    fn all_arcs(&self, six: bool) -> Vec<Vec<Vec<usize>>> {
        let count = self.nodes.len();
        let speaks = |node: &Node| {
            node.addresses.iter().any(|address| address.is_ipv6() == six)
                || (!six && node.translates_to.is_some())
        };
        let there: Vec<bool> = self.nodes.iter().map(speaks).collect();
        let mut next = vec![vec![Vec::new(); count]; count];
        for end in (0..count).filter(|end| there[*end]) {
            let distance = self.distances(end, &there);
            for (node, arcs) in self.arcs.iter().enumerate() {
                if node == end || !there[node] || distance[node] == u64::MAX {
                    continue;
                }
                let on_the_way = |arc: &Arc| {
                    self.carries(arc.to, end)
                        && distance[arc.to].saturating_add(arc.metric) == distance[node]
                };
                next[node][end] = (0..arcs.len()).filter(|i| on_the_way(&arcs[*i])).collect();
            }
        }
        next
    }

    /// Whether a packet to `end` may enter a node: sites and targets are ends, nothing passes
    /// through them.
    fn carries(&self, node: usize, end: usize) -> bool {
        node == end || self.nodes[node].passes
    }

    /// The metric of the best way from each node to one.
    ///
    /// Source: E. W. Dijkstra, A note on two problems in connexion with graphs (1959), backwards.
    fn distances(&self, end: usize, there: &[bool]) -> Vec<u64> {
        let count = self.nodes.len();
        let mut into: Vec<Vec<(usize, u64)>> = vec![Vec::new(); count];
        for (from, arcs) in self.arcs.iter().enumerate() {
            for arc in arcs {
                into[arc.to].push((from, arc.metric));
            }
        }
        let mut distance = vec![u64::MAX; count];
        let mut done = vec![false; count];
        distance[end] = 0;
        for _ in 0..count {
            let open = (0..count).filter(|n| !done[*n] && distance[*n] < u64::MAX);
            let Some(node) = open.min_by_key(|n| distance[*n]) else {
                break;
            };
            done[node] = true;
            if !self.carries(node, end) {
                continue;
            }
            for (from, metric) in &into[node] {
                if there[*from] {
                    distance[*from] = distance[*from].min(distance[node].saturating_add(*metric));
                }
            }
        }
        distance
    }
}

struct Builder<'a> {
    scenario: &'a Scenario,
    index: BTreeMap<&'a str, usize>,
    world: World,
}

/// A checked number times a thousand; zero where absent.
fn thousandfold(value: Option<&Spanned<f64>>) -> i64 {
    #[allow(clippy::cast_possible_truncation, reason = "checked to be within a million")]
    value.map_or(0, |value| (value.as_ref() * 1e3).round() as i64)
}

impl<'a> Builder<'a> {
    fn new(scenario: &'a Scenario) -> Self {
        let endpoint = |host: &HostEntry| Endpoint {
            id: host.id.as_ref().clone(),
            name: host.name.clone(),
            addresses: addresses_of(host.address.as_ref(), host.address6.as_ref()),
            clock_offset_us: thousandfold(host.clock_offset_ms.as_ref()),
            clock_drift_ppb: i32::try_from(thousandfold(host.clock_drift_ppm.as_ref()))
                .unwrap_or(0),
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
            builder.node(host.id.as_ref()).host = Host {
                ignores: host.ignores.clone(),
                tcp_open: host.tcp_open.clone(),
                udp_open: host.udp_open.clone(),
            };
        }
        for router in &scenario.routers {
            let addresses = addresses_of(router.address.as_ref(), router.address6.as_ref());
            builder.add_node(router.id.as_ref(), addresses, false, Some(router));
        }
        for link in &scenario.links {
            let [a, b] = [0, 1].map(|end| builder.index[link.between[end].as_ref().as_str()]);
            let share = |value: &Option<Spanned<f64>>| value.as_ref().map_or(0.0, |v| *v.as_ref());
            for (direction, (from, to)) in [(a, b), (b, a)].into_iter().enumerate() {
                let metric = link.metric.as_ref().map(|metric| metric.as_ref()[direction]);
                builder.world.arcs[from].push(Arc {
                    metric: nanos(metric.unwrap_or_else(|| *link.delay_ms.as_ref())).max(1),
                    burst: link.burst.as_ref().map(|burst| *burst.as_ref()),
                    duplicates: share(&link.duplicates),
                    reorders: share(&link.reorders),
                    mtu: link.mtu.as_ref().map(|mtu| *mtu.as_ref()),
                    line: link.queue.as_ref().map(|queue| {
                        let queue = queue.as_ref();
                        Line {
                            nanos_per_octet: 8_000.0 / queue.mbit_per_s,
                            longest_nanos: queue.longest_ms * 1e6,
                            load: queue.load,
                        }
                    }),
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
        let jitter =
            router.and_then(|r| r.answer_jitter_ms.as_ref()).map_or(0.0, |ms| *ms.as_ref());
        let outside = router.and_then(|r| r.translates_to.as_ref()).map(|a| *a.as_ref());
        self.world.by_address.extend(outside.map(|address| (IpAddr::V4(address), index)));
        self.world.by_address.extend(addresses.iter().map(|address| (*address, index)));
        self.world.nodes.push(Node {
            addresses,
            is_site,
            passes: router.is_some(),
            silent: router.is_some_and(|r| r.silent),
            polices: router.and_then(|r| r.polices.as_ref()).map(|share| *share.as_ref()),
            answer_delay_nanos: nanos(delay),
            answer_jitter_nanos: jitter * 1e6,
            answers_per_s: router.and_then(|r| r.answers_per_s.as_ref()).map(|rate| *rate.as_ref()),
            counts: router.is_none_or(|r| !r.hidden),
            labels: router.map(|r| r.labels.clone()).unwrap_or_default(),
            quotes_hop_limit: router.and_then(|r| r.quotes_hop_limit),
            marks_dscp: router.and_then(|r| r.marks_dscp.as_ref()).map(|dscp| *dscp.as_ref()),
            translates_to: outside,
            restores_quotes: router.is_none_or(|r| !r.leaves_quotes),
            says_too_big: router.is_none_or(|r| !r.hides_too_big),
            balances: router.and_then(|r| r.balances),
            host: Host::default(),
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
