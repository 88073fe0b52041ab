//! Rounds without packets: the same world, in closed form.
//!
//! Routes, loads, spells, habits and faults are those that packets would meet; given these, probes
//! are independent, so a round is drawn by a few additions and one random word a probe. What has
//! no closed form (lines with queues, chains of bursts by packet, translation, limits of size,
//! doubling, sharing by packet or by checksum) is refused, not approximated. A router that limits its answers by
//! rate answers each probe with the share that its limit is of what one site, or all sites, ask of it.
//!
//! Every hop of every round has a stream of chance of its own, so that a fault changes nothing
//! but what crosses it.

mod pairs;
mod routes;

use crate::life::{self, Draws, purpose};
use crate::noise::Noise;
use crate::scenario::{Balance, Scenario};
use crate::world::{Endpoint, Truth, World};
use crate::worlds::Changes;
use itinera_model::id::ContentId;
use itinera_model::round::HopCounts;
use itinera_model::route::Route;
use itinera_model::unit::{Micros, Tick};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

use pairs::PAIR_PORTS;
pub use pairs::{PairCounts, PairExpected, PairPlan};
use routes::Pathfinder;
pub use routes::{Passage, RouteHop, TrueRoute};

/// A probability as a number of 2^-32.
const WHOLE: f64 = 4_294_967_296.0;

/// Names one directed link of a world.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct LinkId(pub usize);

/// One directed link, as it really is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkFacts {
    /// Node it leaves.
    pub from: usize,
    /// Node it enters.
    pub to: usize,
    /// Lines that share its traffic.
    pub members: u8,
}

/// One path: a site asks a target by flows in turn.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PathPlan {
    /// Number of the site.
    pub site: usize,
    /// Number of the target.
    pub target: usize,
    /// Source and destination port of each UDP flow; none asks by ICMP echo.
    pub flows: Vec<(u16, u16)>,
}

/// How densely paths are probed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pace {
    /// Probes for each hop in a round.
    pub probes: u8,
    /// From round to round of a path, in nanoseconds.
    pub interval_nanos: u64,
}

/// What has no closed form.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what} has no closed form: {place}")]
pub struct NoClosedForm {
    what: &'static str,
    place: String,
}

/// A route for one flow, with its identity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VisibleRoute {
    /// Identity of the route.
    pub id: ContentId,
    /// Its addresses; absent for silent hops.
    pub addresses: Vec<Option<IpAddr>>,
}

/// What happens to probes to one hop at one time.
#[derive(Debug, Clone, PartialEq)]
pub struct Expected {
    /// Probability that a probe is not answered.
    pub loss: f64,
    /// Round-trip delay without noise.
    pub delay_nanos: u64,
    /// Means of additional exponential delays, in nanoseconds.
    pub jitters_nanos: Vec<f64>,
    /// Share of answers that are slow, and the mean of their exponential time in nanoseconds.
    pub slow: Option<(f64, f64)>,
}

/// What a link does for the length of a slot: between two changes of the world.
#[derive(Debug, Clone, Copy, Default)]
struct LinkSlot {
    slot: u64,
    keep: f64,
    delay_nanos: u64,
    jitters_nanos: [f64; 2],
}

#[derive(Debug, Clone, Copy, Default)]
struct NodeSlot {
    slot: u64,
    refuses: f64,
    slow: Option<(f64, f64)>,
}

/// All routes, by phase of routing.
#[derive(Debug)]
struct Routes(Vec<Arc<Phase>>);

/// The routes between two changes of routing.
#[derive(Debug)]
struct Phase {
    /// By path and flow.
    paths: Vec<Vec<(TrueRoute, VisibleRoute)>>,
    /// By pair: there and back.
    pairs: Vec<[PairRoute; 2]>,
}

/// One direction between two sites.
#[derive(Debug)]
struct PairRoute {
    passages: Vec<Passage>,
    /// The hops before the receiver that answer, or do not, to the sender.
    seen: Vec<Option<IpAddr>>,
}

impl Phase {
    fn of(
        world: &World,
        offsets: &[usize],
        at: Tick,
        plans: &[PathPlan],
        pairs: &[PairPlan],
    ) -> Self {
        let finder = Pathfinder { world, offsets, at };
        let between = |(from, to): (usize, usize)| {
            let route = finder.hops(from, to, Some(PAIR_PORTS));
            let before = route.len().saturating_sub(1);
            let seen = route.iter().take(before).map(|hop| hop.address).collect();
            let passages = route.last().map(|end| end.there.clone()).unwrap_or_default();
            PairRoute { passages, seen }
        };
        let both = |pair: &PairPlan| [(pair.near, pair.far), (pair.far, pair.near)].map(between);
        Self {
            paths: plans.iter().map(|plan| routes_of(&finder, world, plan)).collect(),
            pairs: pairs.iter().map(both).collect(),
        }
    }
}

/// When faults begin or end.
fn boundaries(world: &World) -> Vec<Tick> {
    let faults = world.arcs.iter().flatten().flat_map(|arc| &arc.faults);
    let mut all: Vec<Tick> =
        faults.flat_map(|fault| std::iter::once(fault.begins).chain(fault.ends)).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// Draws rounds of a world.
#[derive(Debug, Clone)]
pub struct Sampler {
    world: Arc<World>,
    plans: Arc<Vec<PathPlan>>,
    pairs: Arc<Vec<PairPlan>>,
    routes: Arc<Routes>,
    /// By node: the number of its first directed link.
    offsets: Arc<Vec<usize>>,
    /// When faults begin or end.
    boundaries: Arc<Vec<Tick>>,
    links: Vec<[LinkSlot; 4]>,
    nodes: Vec<NodeSlot>,
    pace: Pace,
    /// By node and asking site, where the node limits its answers: what it is asked in a second, by the site or
    /// by all where they share the limit.
    asked: Arc<BTreeMap<(usize, usize), f64>>,
    expected: Vec<Expected>,
}

impl Sampler {
    /// A sampler of a scenario's world, for these paths and pairs.
    ///
    /// # Errors
    /// [`NoClosedForm`] naming the first thing that has none.
    pub fn try_new(
        scenario: &Scenario,
        seed: u64,
        plans: &[PathPlan],
        pairs: &[PairPlan],
        pace: Pace,
    ) -> Result<Self, NoClosedForm> {
        let world = World::draw(scenario, seed);
        closed(&world)?;
        let mut offsets = Vec::new();
        let mut total = 0;
        for arcs in &world.arcs {
            offsets.push(total);
            total += arcs.len();
        }
        let phases = world.phases.iter();
        let routes = Routes(
            phases
                .map(|(at, _)| Arc::new(Phase::of(&world, &offsets, *at, plans, pairs)))
                .collect(),
        );
        let asked = asked(&world, plans, &routes, pace);
        Ok(Self {
            nodes: vec![NodeSlot::default(); world.nodes.len()],
            links: vec![[LinkSlot::default(); 4]; total],
            boundaries: Arc::new(boundaries(&world)),
            world: Arc::new(world),
            plans: Arc::new(plans.to_vec()),
            pairs: Arc::new(pairs.to_vec()),
            routes: Arc::new(routes),
            offsets: Arc::new(offsets),
            asked: Arc::new(asked),
            pace,
            expected: Vec::new(),
        })
    }

    /// The same world at another time: its first tick has this hour of the week, and what changes by itself is drawn
    /// by this number.
    #[must_use]
    pub fn at_another_time(&self, week_hour: f64, life: u64) -> Self {
        let mut world = World::clone(&self.world);
        (world.week_hour, world.life) = (week_hour, life);
        self.of_world(world)
    }

    /// The same world with what changes in it: as a sampler of the scenario with these changes, but without
    /// finding its routes again. Changes of metric must lie after those that it has already.
    #[must_use]
    pub fn changed(&self, changes: &Changes) -> Self {
        let world = self.world.changed(changes);
        let known = &self.routes.0;
        let new = world.phases.get(known.len()..).unwrap_or_default().iter();
        let of = |at: &Tick| Phase::of(&world, &self.offsets, *at, &self.plans, &self.pairs);
        let phases = known.iter().cloned().chain(new.map(|(at, _)| Arc::new(of(at))));
        let routes = Arc::new(Routes(phases.collect()));
        Self { routes, ..self.of_world(world) }
    }

    /// The same routes in a world that differs otherwise; nothing of the old one's states is kept.
    fn of_world(&self, world: World) -> Self {
        Self {
            nodes: vec![NodeSlot::default(); world.nodes.len()],
            links: vec![[LinkSlot::default(); 4]; self.links.len()],
            boundaries: Arc::new(boundaries(&world)),
            world: Arc::new(world),
            ..self.clone()
        }
    }

    /// The sites, which are the nodes from 0.
    pub fn sites(&self) -> &[Endpoint] {
        &self.world.sites
    }

    /// The targets, which are the nodes after the sites.
    pub fn targets(&self) -> &[Endpoint] {
        &self.world.targets
    }

    /// The faults as they really are.
    pub fn truth(&self) -> &[Truth] {
        &self.world.truth
    }

    /// Every directed link, by [`LinkId`].
    pub fn links(&self) -> Vec<LinkFacts> {
        let arcs = self.world.arcs.iter().enumerate();
        arcs.flat_map(|(from, arcs)| {
            arcs.iter().map(move |arc| LinkFacts { from, to: arc.to, members: arc.members.max(1) })
        })
        .collect()
    }

    /// What a site adds to each delay it measures.
    pub fn noise(&self, site: usize) -> Option<&Noise> {
        self.world.nodes[site].noise.as_ref()
    }

    /// The number of flows that a path's rounds take in turn.
    pub fn flows(&self, path: usize) -> usize {
        self.plans[path].flows.len().max(1)
    }

    /// How a path's nth round goes at a time, and what it would show.
    pub fn route(&self, path: usize, number: u64, at: Tick) -> (&[RouteHop], &VisibleRoute) {
        let flows = &self.routes.0[self.phase(at)].paths[path];
        let nth = usize::try_from(number % flows.len() as u64).unwrap_or(0);
        let (route, seen) = &flows[nth];
        (route, seen)
    }

    /// The directed links of a pair at a time, there and back.
    pub fn pair_ways(&self, pair: usize, at: Tick) -> [&[Passage]; 2] {
        self.routes.0[self.phase(at)].pairs[pair].each_ref().map(|route| route.passages.as_slice())
    }

    /// The hops that the sites of a pair see toward each other at a time, there and back: the addresses of
    /// routers before the receiver, absent where they are silent.
    pub fn pair_hops(&self, pair: usize, at: Tick) -> [&[Option<IpAddr>]; 2] {
        self.routes.0[self.phase(at)].pairs[pair].each_ref().map(|route| route.seen.as_slice())
    }

    /// Share lost by and delay in nanoseconds of one member of a link at a time.
    pub fn link_state(&mut self, link: LinkId, member: u8, at: Tick) -> (f64, u64) {
        let state = self.link(Passage { link, member }, self.slot(at), at);
        (1.0 - state.keep, state.delay_nanos)
    }

    fn phase(&self, at: Tick) -> usize {
        self.world.phases.partition_point(|(from, _)| *from <= at).max(1) - 1
    }

    /// States hold for a slot: an epoch, or the part of it before or after a change.
    fn slot(&self, at: Tick) -> u64 {
        let changes = self.boundaries.partition_point(|change| *change <= at) as u64;
        1 + life::epoch_of(at) + (changes << 40)
    }

    fn link(&mut self, passage: Passage, slot: u64, at: Tick) -> LinkSlot {
        let known = &mut self.links[passage.link.0][usize::from(passage.member & 3)];
        if known.slot != slot {
            // Of nodes that share an offset all but the last have no links.
            let from = self.offsets.partition_point(|first| *first <= passage.link.0) - 1;
            let index = passage.link.0 - self.offsets[from];
            let state = self.world.state_of(from, index, passage.member, at);
            *known = LinkSlot {
                slot,
                keep: 1.0 - state.loss,
                delay_nanos: state.delay_nanos,
                jitters_nanos: [self.world.arcs[from][index].jitter_nanos, state.jitter_nanos],
            };
        }
        *known
    }

    fn node(&mut self, node: usize, slot: u64, at: Tick) -> NodeSlot {
        if self.nodes[node].slot != slot {
            let here = &self.world.nodes[node];
            let habits = self.world.follows_habits(node, at);
            let rate_limits = here.rate_limits.filter(|_| habits);
            self.nodes[node] = NodeSlot {
                slot,
                refuses: rate_limits.map_or(0.0, |b| self.world.rate_limiting_share(node, b, at)),
                slow: here.slow.filter(|_| habits).map(|s| (s.share, s.mean_ms * 1e6)),
            };
        }
        self.nodes[node]
    }

    /// What happens to probes to each hop of a path in its nth round, at a time. Silent hops lose
    /// all.
    pub fn expected(&mut self, path: usize, number: u64, at: Tick) -> &[Expected] {
        let slot = self.slot(at);
        let routes = Arc::clone(&self.routes);
        let flows = &routes.0[self.phase(at)].paths[path];
        let nth = usize::try_from(number % flows.len() as u64).unwrap_or(0);
        let (route, _) = &flows[nth];
        let end = route.len().saturating_sub(1);
        self.expected.resize_with(route.len(), || Expected {
            loss: 1.0,
            delay_nanos: 0,
            jitters_nanos: Vec::new(),
            slow: None,
        });
        let mut jitters: Vec<f64> = Vec::new();
        let (mut keep, mut delay, mut passed) = (1.0, 0, 0);
        for (index, hop) in route.iter().enumerate() {
            for passage in &hop.there[passed..] {
                let state = self.link(*passage, slot, at);
                keep *= state.keep;
                delay += state.delay_nanos;
                jitters.extend(state.jitters_nanos.iter().filter(|mean| **mean > 0.0));
            }
            passed = hop.there.len();
            let node = self.node(hop.node, slot, at);
            let (mut keep, mut delay) = (keep, delay);
            let mut expected = std::mem::take(&mut self.expected[index].jitters_nanos);
            expected.clear();
            expected.extend(&jitters);
            for passage in &hop.return_ {
                let state = self.link(*passage, slot, at);
                keep *= state.keep;
                delay += state.delay_nanos;
                expected.extend(state.jitters_nanos.iter().filter(|mean| **mean > 0.0));
            }
            let here = &self.world.nodes[hop.node];
            let habits = index < end;
            let refuses = if habits { node.refuses } else { 0.0 };
            if let Some(per_s) = here.answers_per_s.filter(|_| habits) {
                let asked = self.asked.get(&(hop.node, self.plans[path].site));
                keep *= asked.map_or(1.0, |asked| (per_s / asked).min(1.0));
            }
            let answers = hop.address.is_some() && !hop.return_.is_empty();
            if here.answer_jitter_nanos > 0.0 {
                expected.push(here.answer_jitter_nanos);
            }
            self.expected[index] = Expected {
                loss: if answers { 1.0 - keep * (1.0 - refuses) } else { 1.0 },
                delay_nanos: delay + here.answer_delay_nanos,
                jitters_nanos: expected,
                slow: node.slow.filter(|_| habits),
            };
        }
        &self.expected[..]
    }

    /// Draws the nth round of a path, begun at a time. `series` tells runs of one world apart.
    pub fn round(
        &mut self,
        path: usize,
        number: u64,
        at: Tick,
        series: u64,
        out: &mut Vec<HopCounts>,
    ) {
        self.expected(path, number, at);
        let world = Arc::clone(&self.world);
        let routes = Arc::clone(&self.routes);
        let flows = &routes.0[self.phase(at)].paths[path];
        let nth = usize::try_from(number % flows.len() as u64).unwrap_or(0);
        let (route, _) = &flows[nth];
        let site = self.plans[path].site;
        let noise = world.nodes[site].noise.as_ref();
        out.truncate(route.len());
        out.resize_with(route.len(), HopCounts::default);
        let of = Draws::of([world.seed, world.life, purpose::ROUND, series, path as u64]);
        let of = of.under(number);
        for (index, counts) in out.iter_mut().enumerate() {
            counts.sent = self.pace.probes;
            counts.answered = 0;
            counts.rtt.clear();
            let expected = &self.expected[index];
            if expected.loss >= 1.0 {
                continue;
            }
            #[allow(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "a share of 2^32"
            )]
            let lost_below = (expected.loss * WHOLE) as u64;
            let mut of = of.under(index as u64);
            for probe in 0..self.pace.probes {
                let word = of.word();
                if word >> 32 < lost_below {
                    continue;
                }
                #[allow(clippy::cast_possible_truncation, reason = "the lower half of a word")]
                let mut nanos = expected.delay_nanos + noise.map_or(0, |n| n.at(word as u32));
                nanos += extra(&mut of, expected);
                counts.answered |= 1 << probe;
                counts.rtt.push(Micros::new(u32::try_from(nanos / 1_000).unwrap_or(u32::MAX)));
            }
        }
    }
}

/// Variation from packet to packet other than noise.
fn extra(of: &mut Draws, expected: &Expected) -> u64 {
    let mut nanos = 0.0;
    for mean in &expected.jitters_nanos {
        nanos += of.exponential(*mean);
    }
    if let Some((share, mean)) = expected.slow
        && of.unit() < share
    {
        nanos += of.exponential(mean);
    }
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "not negative; float to integer casts saturate"
    )]
    let nanos = nanos as u64;
    nanos
}

/// What routers that limit their answers are asked by each site, in probes a second.
fn asked(
    world: &World,
    plans: &[PathPlan],
    routes: &Routes,
    pace: Pace,
) -> BTreeMap<(usize, usize), f64> {
    let per_s = f64::from(pace.probes) * 1e9 / pace.interval_nanos.max(1) as f64;
    let mut asked = BTreeMap::new();
    for (plan, flows) in plans.iter().zip(routes.0.iter().take(1).flat_map(|first| &first.paths)) {
        for (route, _) in flows {
            let passed = route.iter().rev().skip(1).map(|hop| hop.node);
            for node in passed.filter(|node| world.nodes[*node].answers_per_s.is_some()) {
                *asked.entry((node, plan.site)).or_default() += per_s / flows.len() as f64;
            }
        }
    }
    let mut by_all: BTreeMap<usize, f64> = BTreeMap::new();
    for ((node, _), per_s) in &asked {
        *by_all.entry(*node).or_default() += per_s;
    }
    for ((node, _), per_s) in &mut asked {
        if world.nodes[*node].limits_all {
            *per_s = by_all[node];
        }
    }
    asked
}

fn routes_of(
    finder: &Pathfinder<'_>,
    world: &World,
    plan: &PathPlan,
) -> Vec<(TrueRoute, VisibleRoute)> {
    let target = world.sites.len() + plan.target;
    let ports = plan.flows.iter().map(|(from, to)| Some(u32::from(*from) << 16 | u32::from(*to)));
    let ports: Vec<Option<u32>> = if plan.flows.is_empty() { vec![None] } else { ports.collect() };
    let of_flow = |ports: Option<u32>| {
        let route = finder.hops(plan.site, target, ports);
        let addresses: Vec<Option<IpAddr>> = route.iter().map(|hop| hop.address).collect();
        let id = Route { hops: addresses.clone() }.id();
        (route, VisibleRoute { id, addresses })
    };
    ports.into_iter().map(of_flow).collect()
}

fn closed(world: &World) -> Result<(), NoClosedForm> {
    let name = |node: usize| {
        world.nodes[node].addresses.first().map_or_else(String::new, |a| a.to_string())
    };
    let refuse = |what, place| Err(NoClosedForm { what, place });
    for (from, arcs) in world.arcs.iter().enumerate() {
        for arc in arcs {
            let place = || format!("the link {} to {}", name(from), name(arc.to));
            let what = [
                (arc.line.is_some(), "a queue"),
                (arc.burst.is_some(), "a chain of bursts"),
                (arc.mtu.is_some(), "a limit of size"),
                (arc.duplicates > 0.0, "doubling"),
                (arc.reorders > 0.0, "reordering"),
                (arc.members > 4, "a bundle of more than four"),
            ];
            if let Some((_, what)) = what.into_iter().find(|(there, _)| *there) {
                return refuse(what, place());
            }
        }
    }
    for (node, here) in world.nodes.iter().enumerate() {
        let what = [
            (here.translates_to.is_some(), "translation"),
            (
                matches!(here.balances, Some(Balance::Packet | Balance::Flow)),
                "sharing among routes by packet or by checksum",
            ),
        ];
        if let Some((_, what)) = what.into_iter().find(|(there, _)| *there) {
            return refuse(what, format!("at {}", name(node)));
        }
    }
    Ok(())
}
