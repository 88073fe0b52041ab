//! A scenario with everything drawn: nodes, directed links, forwarding and truth.

mod builder;

use crate::flow::FlowKey;
use crate::life::{self, Daily, Draws, Spells, purpose};
use crate::noise::Noise;
use crate::routing::{Edge, GraphNode, Next, Routing};
use crate::scenario::{AnswersBy, Balance, Burst, HostFactsEntry, Protocol, Scenario, Slow};
use crate::time::{nanos, ticks};
use crate::worlds::Changes;
use builder::Builder;
use itinera_model::unit::Tick;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::sync;

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
