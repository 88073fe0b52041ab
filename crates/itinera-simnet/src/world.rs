//! A scenario with everything drawn: nodes, directed links, forwarding and truth.

use crate::flow::FlowKey;
use crate::life::{self, Daily, Draws, Spells, purpose};
use crate::noise::Noise;
use crate::routing::{Edge, GraphNode, Next, Routing};
use crate::scenario::{
    AnswersBy, Balance, Burst, FaultEntry, HostEntry, HostFactsEntry, LinkEntry, Protocol,
    RouterEntry, Scenario, Slow, addresses_of,
};
use crate::time::{nanos, ticks};
use crate::worlds::Changes;
use itinera_model::unit::Tick;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::sync;
use toml::Spanned;

/// A site or target of the world.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint {
    /// Its id in the scenario.
    pub id: String,
    /// What users call it.
    pub name: String,
    /// Its addresses: IPv4, IPv6, or both in this order.
    pub addresses: Vec<IpAddr>,
    /// Its clock is so much ahead of the true time at the start, in microseconds.
    pub clock_offset_us: i64,
    /// It runs so much faster, in parts per thousand million.
    pub clock_drift_ppb: i32,
    /// When it is set, and by how many microseconds forward.
    pub clock_steps: Vec<(Tick, i64)>,
}

/// What a fault does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum TruthCause {
    /// Loses this share of packets.
    Loss(f64),
    /// Delays every packet by this many milliseconds more.
    AddedDelayMs(f64),
    /// Packets longer than this vanish, in bytes.
    SwallowsOver(u16),
}

/// A fault as it really is. For scoring only: no judgement may see it.
#[derive(Debug, Clone, PartialEq)]
pub struct Truth {
    /// Addresses of the node before the faulty link.
    pub from: Vec<IpAddr>,
    /// Addresses of the node behind it.
    pub to: Vec<IpAddr>,
    /// Name of the network that runs the node behind it; absent where it has none.
    pub owner: Option<String>,
    /// Which member of the link, from 1; absent where all of them.
    pub member: Option<u8>,
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
    /// Its owner, by the order in the scenario.
    pub(crate) owner: Option<usize>,
    pub(crate) is_site: bool,
    /// Whether packets for others pass through it.
    pub(crate) passes: bool,
    pub(crate) silent: bool,
    /// Share of its answers it refuses: drawn within these bounds every minute of its own.
    pub(crate) rate_limits: Option<[f64; 2]>,
    pub(crate) answer_delay_nanos: u64,
    /// Mean of an exponential delay of its answers.
    pub(crate) answer_jitter_nanos: f64,
    pub(crate) slow: Option<Slow>,
    pub(crate) habit_share: f64,
    pub(crate) answers_by: AnswersBy,
    /// Hop limit that its answers leave with.
    pub(crate) answer_hop_limit: u8,
    /// What a site adds to what it measures.
    pub(crate) noise: Option<Noise>,
    /// Answers a second, as Linux grants them to one address.
    pub(crate) answers_per_s: Option<f64>,
    /// These are for all senders together.
    pub(crate) limits_all: bool,
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
    pub(crate) name: String,
    pub(crate) host_facts: Option<HostFactsEntry>,
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
    pub(crate) faults: Vec<ArcFault>,
    /// What routing takes for its length.
    pub(crate) metric: u64,
    pub(crate) burst: Option<Burst>,
    pub(crate) duplicates: f64,
    pub(crate) reorders: f64,
    pub(crate) mtu: Option<u16>,
    pub(crate) line: Option<Line>,
    pub(crate) daily: Option<Daily>,
    pub(crate) spells: Option<Spells>,
    pub(crate) members: u8,
    /// Addresses of its interfaces at both ends: none, one for all members, or one for each.
    pub(crate) interfaces: [Vec<IpAddr>; 2],
}

impl Arc {
    /// True for a packet of this length that vanishes here.
    pub(crate) fn swallows(&self, length: usize, at: Tick) -> bool {
        self.faults.iter().any(|fault| match fault.cause {
            TruthCause::SwallowsOver(most) => length > usize::from(most) && fault.acts(0, at),
            TruthCause::Loss(_) | TruthCause::AddedDelayMs(_) => false,
        })
    }

    /// True while what this loses arrives as damaged frames.
    pub(crate) fn damages_frames(&self, at: Tick) -> bool {
        self.faults.iter().any(|fault| fault.damages_frames && fault.acts(0, at))
    }

    /// The address of its interface at the near (0) or far (1) end.
    pub(crate) fn interface(&self, end: usize, member: u8) -> Option<IpAddr> {
        let all = &self.interfaces[end];
        all.get(usize::from(member)).or_else(|| all.first()).copied()
    }
}

/// A fault on one direction of a link.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ArcFault {
    pub(crate) begins: Tick,
    pub(crate) ends: Option<Tick>,
    pub(crate) cause: TruthCause,
    pub(crate) jitter_nanos: f64,
    /// From 0; absent where all members.
    pub(crate) member: Option<u8>,
    /// Share of spells in which it acts; faults that begin together share their spells.
    pub(crate) spells: f64,
    /// What it loses arrives as damaged frames.
    pub(crate) damages_frames: bool,
}

impl ArcFault {
    fn acts(&self, member: u8, at: Tick) -> bool {
        self.begins <= at
            && self.ends.is_none_or(|ends| at < ends)
            && self.member.is_none_or(|bad| bad == member)
    }
}

/// What one direction of a link does to packets at one time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct ArcState {
    /// Share lost.
    pub(crate) loss: f64,
    pub(crate) delay_nanos: u64,
    /// Mean of an exponential time that a fault adds.
    pub(crate) jitter_nanos: f64,
}

impl ArcState {
    fn lose(&mut self, share: f64) {
        self.loss = 1.0 - (1.0 - self.loss) * (1.0 - share);
    }
}

/// The drawn world.
#[derive(Debug, Clone)]
pub(crate) struct World {
    pub(crate) nodes: Vec<Node>,
    /// By node: its outgoing directed links.
    pub(crate) arcs: Vec<Vec<Arc>>,
    pub(crate) by_address: BTreeMap<IpAddr, usize>,
    /// By time from which it holds, and version (IPv4, IPv6): the arcs to go on by.
    pub(crate) phases: Vec<(Tick, sync::Arc<[Next; 2]>)>,
    routing: Routing,
    pub(crate) seed: u64,
    /// Hour of the week at tick zero.
    pub(crate) week_hour: f64,
    /// Number of the draw of what changes by itself with time.
    pub(crate) life: u64,
    pub(crate) sites: Vec<Endpoint>,
    pub(crate) targets: Vec<Endpoint>,
    pub(crate) truth: Vec<Truth>,
}

const DEFAULT_POLICING: [f64; 2] = [0.23, 0.57];
/// Hop limit of answers where nothing else is said.
const ANSWER_HOP_LIMIT: u8 = 64;

impl World {
    pub(crate) fn draw(scenario: &Scenario, seed: u64) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        rng.set_stream(1);
        let mut builder = Builder::new(scenario);
        for draw in &scenario.draws {
            let option = &draw.options[rng.random_range(0..draw.options.len())];
            for id in &option.silent {
                builder.node(id.as_ref()).silent = true;
            }
            let share =
                option.rate_limiting_share.as_ref().map_or(DEFAULT_POLICING, |s| *s.as_ref());
            for id in &option.rate_limits {
                builder.node(id.as_ref()).rate_limits = Some(share);
            }
            for fault in &option.faults {
                builder.add_fault(fault, &mut rng);
            }
        }
        // After what is drawn, so that the same seed draws the same whatever else happens.
        for fault in &scenario.faults {
            builder.add_fault(fault, &mut rng);
        }
        let mut world = builder.world;
        world.seed = seed;
        let mut reroutes: Vec<_> = scenario.reroutes.iter().collect();
        reroutes.sort_by(|a, b| a.at_s.as_ref().total_cmp(b.at_s.as_ref()));
        world.route_from(Tick::ZERO);
        for reroute in reroutes {
            let ends = reroute.between.each_ref().map(|id| builder.index[id.as_ref().as_str()]);
            world.set_metric(ends, *reroute.metric.as_ref());
            world.route_from(ticks(*reroute.at_s.as_ref()));
        }
        world
    }

    /// Gives both directions of a link another metric. Routes stay until [`Self::route_from`].
    fn set_metric(&mut self, ends: [usize; 2], metric: [f64; 2]) {
        for (from, to, metric) in [(ends[0], ends[1], metric[0]), (ends[1], ends[0], metric[1])] {
            let arcs = self.arcs[from].iter_mut();
            arcs.filter(|arc| arc.to == to).for_each(|arc| arc.metric = nanos(metric).max(1));
        }
    }

    /// Lets packets take the routes of the present metrics from a time on.
    fn route_from(&mut self, at: Tick) {
        let next = [false, true].map(|six| self.next_for(six));
        self.phases.push((at, sync::Arc::new(next)));
    }

    /// The same world with what changes in it: as if it had been drawn with it. Changes of metric must lie after
    /// those that the world has already.
    pub(crate) fn changed(&self, changes: &Changes) -> Self {
        let mut world = self.clone();
        for plan in &changes.faults {
            let begins = ticks(changes.at_s + plan.after_s);
            let ends = changes.for_s.map(|s| begins.plus_nanos(nanos(s * 1e3)));
            let loss = plan.loss.map(TruthCause::Loss);
            let delay = plan.delay_ms.map(|[ms, _]| TruthCause::AddedDelayMs(ms));
            let arcs = &mut world.arcs[plan.from];
            let Some(arc) = arcs.iter_mut().find(|arc| arc.to == plan.to) else { continue };
            arc.faults.extend(loss.into_iter().chain(delay).map(|cause| ArcFault {
                begins,
                ends,
                cause,
                jitter_nanos: plan.delay_ms.map_or(0.0, |[_, jitter_ms]| jitter_ms * 1e6),
                member: plan.member.map(|member| member - 1),
                spells: plan.spells,
                damages_frames: false,
            }));
        }
        for (ends, metric) in &changes.reroutes {
            world.set_metric(*ends, *metric);
        }
        if !changes.reroutes.is_empty() {
            world.route_from(ticks(changes.at_s));
        }
        for (site, ms) in &changes.clock_steps {
            #[allow(clippy::cast_possible_truncation, reason = "milliseconds of a clock")]
            let step = (ticks(changes.at_s), (ms * 1e3) as i64);
            world.sites[*site].clock_steps.push(step);
        }
        world
    }

    /// The next arcs for one version of IP. Nodes without an address of the version do not speak
    /// it.
    fn next_for(&self, six: bool) -> Next {
        let speaks = |node: &Node| {
            node.addresses.iter().any(|address| address.is_ipv6() == six)
                || (!six && node.translates_to.is_some())
        };
        let edge = |arc: &Arc| Edge { to: arc.to, metric: arc.metric };
        let graph_node = |(node, arcs): (&Node, &Vec<Arc>)| GraphNode {
            speaks: speaks(node),
            forwards: node.passes,
            owner: node.owner,
            edges: arcs.iter().map(edge).collect(),
        };
        let graph: Vec<GraphNode> = self.nodes.iter().zip(&self.arcs).map(graph_node).collect();
        self.routing.next(&graph, self.seed)
    }

    /// Routing as it is at a time.
    pub(crate) fn next_at(&self, at: Tick) -> &[Next; 2] {
        let phase = self.phases.partition_point(|(from, _)| *from <= at).max(1) - 1;
        &self.phases[phase].1
    }

    /// What a link does to packets at a time, on one of its members.
    pub(crate) fn state_of(&self, from: usize, index: usize, member: u8, at: Tick) -> ArcState {
        let arc = &self.arcs[from][index];
        let of = Draws::of([self.seed, self.life, from as u64, index as u64]);
        let mut state =
            ArcState { loss: arc.loss, delay_nanos: arc.delay_nanos, jitter_nanos: 0.0 };
        if let Some(daily) = arc.daily {
            let load = daily.load(of, life::hours(self.week_hour, life::epoch_begin(at)));
            state.delay_nanos += nanos(daily.peak_ms * load);
            state.lose((daily.loss * load).min(1.0));
        }
        if let Some(spells) = arc.spells
            && life::in_spell(of.under(purpose::SPELL), spells.share, at)
        {
            state.lose(spells.loss);
        }
        for fault in &arc.faults {
            let spells = life::fault_spells(self.seed, fault.begins);
            if !fault.acts(member, at) || !life::in_spell(spells, fault.spells, at) {
                continue;
            }
            match fault.cause {
                TruthCause::Loss(more) => state.lose(more),
                TruthCause::AddedDelayMs(ms) => {
                    state.delay_nanos += nanos(ms);
                    state.jitter_nanos += fault.jitter_nanos;
                }
                TruthCause::SwallowsOver(_) => {}
            }
        }
        state
    }

    /// Which member of a bundle carries a flow. Where ports are absent, as in ICMP, addresses and
    /// protocol have to do.
    pub(crate) fn member_of(&self, from: usize, index: usize, flow: &FlowKey) -> u8 {
        let members = self.arcs[from][index].members;
        if members < 2 {
            return 0;
        }
        let of = Draws::of([self.seed, from as u64, index as u64]).under(purpose::MEMBER);
        let mut of = flow.under(of);
        u8::try_from(of.word() % u64::from(members)).unwrap_or(0)
    }

    /// Which of several routes of equal metric a router that balances by ports takes for a flow.
    pub(crate) fn branch_of(&self, node: usize, routes: usize, flow: &FlowKey) -> usize {
        let of = Draws::of([self.seed, node as u64]).under(purpose::BRANCH);
        usize::try_from(flow.under(of).word() % routes.max(1) as u64).unwrap_or(0)
    }

    /// The share of answers a router refuses at a time: the same whenever it is asked.
    pub(crate) fn rate_limiting_share(&self, node: usize, bounds: [f64; 2], at: Tick) -> f64 {
        life::rate_limiting_share(Draws::of([self.seed, self.life, node as u64]), bounds, at)
    }

    /// Whether a router limits its rate or is slow by habit at a time.
    pub(crate) fn follows_habits(&self, node: usize, at: Tick) -> bool {
        let of = Draws::of([self.seed, self.life, node as u64]);
        life::follows_habits(of, self.nodes[node].habit_share, at)
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
            clock_steps: host
                .clock_steps
                .iter()
                .map(|[at_s, ms]| {
                    #[allow(clippy::cast_possible_truncation, reason = "casts saturate")]
                    (Tick::from_nanos(nanos(at_s.max(0.0) * 1e3)), (ms * 1e3) as i64)
                })
                .collect(),
        };
        let world = World {
            nodes: Vec::new(),
            arcs: Vec::new(),
            by_address: BTreeMap::new(),
            phases: Vec::new(),
            routing: Routing::of(scenario),
            seed: 0,
            week_hour: scenario.week_hour,
            life: scenario.life,
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
                name: host.id.as_ref().clone(),
                host_facts: host.host_facts.as_ref().map(|host_facts| host_facts.as_ref().clone()),
            };
            builder.node(host.id.as_ref()).noise =
                host.noise.as_ref().map(|noise| Noise::new(noise.as_ref()));
        }
        for router in &scenario.routers {
            let addresses = addresses_of(router.address.as_ref(), router.address6.as_ref());
            builder.add_node(router.id.as_ref(), addresses, false, Some(router));
        }
        for link in &scenario.links {
            builder.add_link(link);
        }
        builder
    }

    fn add_link(&mut self, link: &LinkEntry) {
        let [a, b] = [0, 1].map(|end| self.index[link.between[end].as_ref().as_str()]);
        let share = |value: &Option<Spanned<f64>>| value.as_ref().map_or(0.0, |v| *v.as_ref());
        let interfaces = link.interfaces.as_ref().map(|both| {
            both.as_ref()
                .each_ref()
                .map(|end| end.iter().map(|a| IpAddr::V4(*a)).collect::<Vec<_>>())
        });
        let [near, far] = interfaces.unwrap_or_default();
        for (from, own) in [(a, &near), (b, &far)] {
            self.world.by_address.extend(own.iter().map(|address| (*address, from)));
        }
        let both = [(a, b, [near.clone(), far.clone()]), (b, a, [far, near])];
        for (direction, (from, to, interfaces)) in both.into_iter().enumerate() {
            let metric = link.metric.as_ref().map(|metric| metric.as_ref()[direction]);
            self.world.arcs[from].push(Arc {
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
                daily: link.daily.as_ref().map(|daily| *daily.as_ref()),
                spells: link.spells.as_ref().map(|spells| *spells.as_ref()),
                members: link.members.as_ref().map_or(1, |members| *members.as_ref()),
                interfaces,
            });
        }
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
        let owner = router.and_then(|r| r.owner.as_ref()).and_then(|id| {
            self.scenario.owners.iter().position(|owner| owner.id.as_ref() == id.as_ref())
        });
        self.world.nodes.push(Node {
            owner,
            slow: router.and_then(|r| r.slow.as_ref()).map(|slow| *slow.as_ref()),
            habit_share: router
                .and_then(|r| r.habit_share.as_ref())
                .map_or(1.0, |share| *share.as_ref()),
            answers_by: router.map(|r| r.answers_by).unwrap_or_default(),
            answer_hop_limit: router.and_then(|r| r.answer_hop_limit).unwrap_or(ANSWER_HOP_LIMIT),
            noise: None,
            addresses,
            is_site,
            passes: router.is_some(),
            silent: router.is_some_and(|r| r.silent),
            rate_limits: router.and_then(|r| r.rate_limits.as_ref()).map(|share| *share.as_ref()),
            answer_delay_nanos: nanos(delay),
            answer_jitter_nanos: jitter * 1e6,
            answers_per_s: router.and_then(|r| r.answers_per_s.as_ref()).map(|rate| *rate.as_ref()),
            limits_all: router.is_some_and(|r| r.limits_all),
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
        let begins = ticks(draw_between(*fault.at_s.as_ref(), rng));
        let ends = fault.for_s.as_ref().map(|s| begins.plus_nanos(nanos(s.as_ref() * 1e3)));
        let loss = fault.loss.as_ref().map(|r| TruthCause::Loss(draw_between(*r.as_ref(), rng)));
        let delay = fault.added_delay_ms.as_ref();
        let delay = delay.map(|r| TruthCause::AddedDelayMs(draw_between(*r.as_ref(), rng)));
        let owner = self.owner_name(fault.to.as_ref());
        let large =
            fault.swallows_over.as_ref().map(|size| TruthCause::SwallowsOver(*size.as_ref()));
        for cause in loss.into_iter().chain(delay).chain(large) {
            let arcs = &mut self.world.arcs[from];
            if let Some(arc) = arcs.iter_mut().find(|arc| arc.to == to) {
                arc.faults.push(ArcFault {
                    begins,
                    ends,
                    cause,
                    jitter_nanos: fault.jitter_ms.as_ref().map_or(0.0, |ms| ms.as_ref() * 1e6),
                    member: fault.member.as_ref().map(|member| member.as_ref() - 1),
                    spells: fault.spells.as_ref().map_or(1.0, |share| *share.as_ref()),
                    damages_frames: fault.damages_frames,
                });
            }
            self.world.truth.push(Truth {
                from: self.world.nodes[from].addresses.clone(),
                to: self.world.nodes[to].addresses.clone(),
                owner: owner.clone(),
                member: fault.member.as_ref().map(|member| *member.as_ref()),
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
