//! Prober, simulation and judgement together in virtual time: hours in seconds, with the very
//! engines that the agent and the service run.
//!
//! This crate promises no sockets and no clock; the same scenario, seed and settings give the
//! same rounds and the same findings.

pub mod accuracy;
mod one;

use itinera_analysis::{AgentReport, Effect, Judge, JudgeInput, Limits, Observation};
use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, BootId, PathId};
use itinera_model::path::Method;
use itinera_model::reading::Reading;
use itinera_model::round::{Clocks, Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{HopLimit, Micros, Tick, WallTime};
use itinera_probe::{Budget, Engine, HopSweep, Input, ProbeSpec, Sweep, SweepConfig};
use itinera_simnet::{Endpoint, Scenario, Simnet, Truth};
use itinera_wire::Addresses;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

pub use one::drive;

/// Wall time at tick zero of every virtual run: well in the past, so that a service which takes
/// in its rounds finds nothing odd about them.
pub const EPOCH: WallTime = WallTime::from_unix_seconds(1_700_000_000);
/// Judgement hears the time so often, as the service's log does.
const CLOCK: Tick = Tick::from_millis(5_000);
/// Steps of one virtual millisecond in which neither engine nor network comes to rest mean a
/// bug; the loop ends there instead of never.
const MAX_STEPS: u64 = 500_000_000;

/// How densely every site probes every target.
#[derive(Debug, Clone)]
pub struct Density {
    /// Methods used towards each target.
    pub methods: Vec<Method>,
    /// From round to round.
    pub interval: Micros,
    /// Probes for each hop in a round.
    pub probes_per_hop: u8,
    /// An answer after this is late.
    pub timeout: Micros,
}

impl Default for Density {
    fn default() -> Self {
        Self {
            methods: vec![Method::IcmpEcho],
            interval: Micros::from_millis(2_000),
            probes_per_hop: 2,
            timeout: Micros::from_millis(1_000),
        }
    }
}

/// A path of the run.
#[derive(Debug, Clone)]
pub struct LabPath {
    /// Its name.
    pub id: PathId,
    /// The site's agent.
    pub agent: AgentId,
    /// The site.
    pub site: Endpoint,
    /// The target.
    pub target: Endpoint,
    /// The site's and the target's address, of the version that both have.
    pub addresses: Addresses,
    /// Probe method.
    pub method: Method,
}

/// A settled round with everything it refers to.
#[derive(Debug, Clone)]
pub struct LabRound {
    /// When it was settled.
    pub settled_at: Tick,
    /// The agent that measured it.
    pub agent: AgentId,
    /// The round.
    pub round: Round,
    /// Its flow.
    pub flow: Flow,
    /// Its resolution.
    pub resolution: Resolution,
    /// Its route.
    pub route: Route,
    /// Further content of the answers.
    pub reading: Reading,
}

/// Everything a virtual run gave.
#[derive(Debug, Clone)]
pub struct LabRun {
    /// The paths.
    pub paths: Vec<LabPath>,
    /// The rounds in the order in which they were settled.
    pub rounds: Vec<LabRound>,
    /// The faults as they really are, for scoring.
    pub truth: Vec<Truth>,
}

/// Names things of a run by number.
const fn numbered(kind: u128, number: u128) -> uuid::Uuid {
    uuid::Uuid::from_u128((kind << 64) | number)
}

struct Prober {
    path: LabPath,
    engine: HopSweep,
}

/// Runs a scenario for `span` of virtual time from tick zero.
///
/// # Panics
/// As [`VirtualRun::advance`].
pub fn run(scenario: &Scenario, seed: u64, density: &Density, span: Tick) -> LabRun {
    let mut run = VirtualRun::new(scenario, seed, density, EPOCH, |_| true);
    let mut rounds = run.advance(span);
    rounds.extend(run.stop(span));
    let truth = run.net.truth().to_vec();
    let paths = run.probers.into_iter().map(|prober| prober.path).collect();
    LabRun { paths, rounds, truth }
}

/// A run in steps of any length, which keeps no rounds.
pub struct VirtualRun {
    net: Simnet,
    probers: Vec<Prober>,
    agenda: Agenda,
    /// Wall time at tick zero.
    epoch: WallTime,
    packet: Vec<u8>,
}

impl std::fmt::Debug for VirtualRun {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("VirtualRun").field("paths", &self.probers.len()).finish_non_exhaustive()
    }
}

impl VirtualRun {
    /// A run of the `wanted` paths of a scenario. Tick zero is `epoch`.
    pub fn new(
        scenario: &Scenario,
        seed: u64,
        density: &Density,
        epoch: WallTime,
        wanted: impl Fn(&LabPath) -> bool,
    ) -> Self {
        let net = Simnet::new(scenario, seed);
        let mut probers = probers(&net, seed, density);
        probers.retain(|prober| wanted(&prober.path));
        let agenda = Agenda::new(&probers);
        Self { net, probers, agenda, epoch, packet: Vec::new() }
    }

    /// Its paths.
    pub fn paths(&self) -> impl Iterator<Item = &LabPath> {
        self.probers.iter().map(|prober| &prober.path)
    }

    /// Runs up to a time; gives the rounds that were settled, in order.
    ///
    /// # Panics
    /// When an engine or the simulation does not come to rest, or refuses a built-in setting: both
    /// are bugs of ours.
    pub fn advance(&mut self, until: Tick) -> Vec<LabRound> {
        let mut rounds = Vec::new();
        let mut budget = Budget::unbounded();
        for _ in 0..MAX_STEPS {
            let next = self.agenda.next().into_iter().chain(self.net.poll_deadline()).min();
            let Some(now) = next.filter(|now| *now <= until) else {
                break;
            };
            self.net.advance(now);
            while let Some(delivery) = self.net.poll_delivery() {
                let input = Input::Datagram { stamp: delivery.at, packet: &delivery.packet };
                for (index, prober) in self.probers.iter_mut().enumerate() {
                    if prober.engine.config().probe.addresses.source() == delivery.to {
                        prober.engine.handle(now, input);
                        self.agenda.enter(index, prober);
                    }
                }
            }
            for index in self.agenda.due(now) {
                let prober = &mut self.probers[index];
                prober.engine.handle(now, Input::Deadline);
                while let Some(token) =
                    prober.engine.poll_transmit(now, &mut budget, &mut self.packet)
                {
                    let outcome = match self.net.inject(now, &self.packet) {
                        Ok(_) => Input::Sent { token, stamp: now },
                        Err(_) => Input::NotSent { token },
                    };
                    prober.engine.handle(now, outcome);
                }
                while let Some(sweep) = prober.engine.poll_event() {
                    rounds.push(settled(prober, sweep, now, self.epoch));
                }
                self.agenda.enter(index, prober);
            }
        }
        rounds
    }

    /// Stops probing; gives what the open rounds have by then.
    pub fn stop(&mut self, now: Tick) -> Vec<LabRound> {
        let mut rounds = Vec::new();
        for prober in &mut self.probers {
            prober.engine.handle(now, Input::Stop);
            while let Some(sweep) = prober.engine.poll_event() {
                rounds.push(settled(prober, sweep, now, self.epoch));
            }
        }
        rounds
    }
}

/// Which engine wants to be called when, in order of time and then of number.
struct Agenda {
    order: BTreeSet<(Tick, usize)>,
    entered: Vec<Option<Tick>>,
}

impl Agenda {
    fn new(probers: &[Prober]) -> Self {
        let mut agenda = Self { order: BTreeSet::new(), entered: vec![None; probers.len()] };
        for (index, prober) in probers.iter().enumerate() {
            agenda.enter(index, prober);
        }
        agenda
    }

    /// Enters an engine's deadline again.
    fn enter(&mut self, index: usize, prober: &Prober) {
        let deadline = prober.engine.poll_deadline();
        let before = std::mem::replace(&mut self.entered[index], deadline);
        if before != deadline {
            before.map(|at| self.order.remove(&(at, index)));
            deadline.map(|at| self.order.insert((at, index)));
        }
    }

    fn next(&self) -> Option<Tick> {
        self.order.first().map(|(at, _)| *at)
    }

    /// Takes out the engines that are due.
    fn due(&mut self, now: Tick) -> Vec<usize> {
        let later = self.order.split_off(&(now.plus_nanos(1), 0));
        let due = std::mem::replace(&mut self.order, later);
        let due: Vec<usize> = due.into_iter().map(|(_, index)| index).collect();
        for index in &due {
            self.entered[*index] = None;
        }
        due
    }
}

fn probers(net: &Simnet, seed: u64, density: &Density) -> Vec<Prober> {
    let mut probers = Vec::new();
    for (site, number) in net.sites().iter().zip(1u128..) {
        for target in net.targets() {
            for addresses in pairs(site, target) {
                for method in &density.methods {
                    let index = u16::try_from(probers.len()).unwrap_or(u16::MAX);
                    let path = LabPath {
                        id: PathId::from_uuid(numbered(3, u128::from(index) + 1)),
                        agent: AgentId::from_uuid(numbered(1, number)),
                        site: site.clone(),
                        target: target.clone(),
                        addresses,
                        method: *method,
                    };
                    probers.push(Prober { engine: engine_of(&path, index, seed, density), path });
                }
            }
        }
    }
    probers
}

/// The address pairs of each version that both ends have.
fn pairs(site: &Endpoint, target: &Endpoint) -> impl Iterator<Item = Addresses> {
    let of = |own: IpAddr| {
        target.addresses.iter().find_map(move |other| Addresses::try_new(own, *other))
    };
    site.addresses.iter().filter_map(move |own| of(*own))
}

fn engine_of(path: &LabPath, index: u16, seed: u64, density: &Density) -> HopSweep {
    let hop = |limit| HopLimit::try_new(limit).unwrap_or_else(|| unreachable!("1..=64"));
    let config = SweepConfig {
        probe: ProbeSpec {
            addresses: path.addresses,
            method: path.method,
            destination_port: 33_434 + index,
            port_answers: false,
            dscp: 0,
            size_bytes: 64,
            dont_fragment: false,
            secret: index,
        },
        source_ports: vec![40_000 + index],
        interval: density.interval,
        probes_per_hop: density.probes_per_hop,
        timeout: density.timeout,
        first_hop: hop(1),
        last_hop: hop(30),
        full_every: 1,
        rounds: None,
        seed: seed.wrapping_mul(1_000).wrapping_add(u64::from(index)),
    };
    #[allow(clippy::expect_used, reason = "a bad density is the caller's bug")]
    HopSweep::new(config, Tick::ZERO).expect("density within bounds")
}

fn settled(prober: &Prober, sweep: Sweep, now: Tick, epoch: WallTime) -> LabRound {
    let flow = sweep.flow;
    let resolution = Resolution { name: None, address: flow.destination };
    let wall_us = i64::try_from(sweep.started.as_nanos() / 1_000).unwrap_or(i64::MAX);
    let round = Round {
        path: prober.path.id,
        number: sweep.number,
        clocks: Clocks {
            boot: boot_of(prober.path.agent),
            tick: sweep.started,
            wall: epoch.plus_micros(wall_us),
            offset_us: Some(0),
            offset_error_us: Some(0),
        },
        flow: flow.id(),
        resolution: resolution.id(),
        route: sweep.route.id(),
        reading: Some(sweep.reading.id()),
        reached_at: sweep.reached_at,
        stamps: StampSource::Virtual,
        lateness: None,
        hops: sweep.hops,
    };
    let agent = prober.path.agent;
    LabRound {
        settled_at: now,
        agent,
        round,
        flow,
        resolution,
        route: sweep.route,
        reading: sweep.reading,
    }
}

const fn boot_of(agent: AgentId) -> BootId {
    BootId::from_uuid(uuid::Uuid::from_u128(agent.as_uuid().as_u128() ^ (2 << 64)))
}

impl LabRun {
    /// What judgement says of the rounds, given one by one when they were settled, with the clock.
    pub fn judge(&self, limits: Limits) -> (Judge, Vec<(Tick, Effect)>) {
        let mut judge = Judge::new(limits);
        let (mut effects, mut tick) = (Vec::new(), Tick::ZERO);
        for lab in &self.rounds {
            let now_us = i64::try_from(lab.settled_at.as_nanos() / 1_000).unwrap_or(i64::MAX);
            while tick <= lab.settled_at {
                let at_us = i64::try_from(tick.as_nanos() / 1_000).unwrap_or(i64::MAX);
                let step = judge.step(JudgeInput::Clock, EPOCH.plus_micros(at_us));
                effects.extend(step.into_iter().map(|effect| (tick, effect)));
                tick = tick.plus_nanos(CLOCK.as_nanos());
            }
            let observation = Observation::of(&lab.round, &lab.flow, &lab.route.hops);
            let step = judge.step(
                JudgeInput::Report(AgentReport::of_rounds(&[observation])),
                EPOCH.plus_micros(now_us),
            );
            effects.extend(step.into_iter().map(|effect| (lab.settled_at, effect)));
        }
        (judge, effects)
    }

    /// The rounds as the batches their agents would upload, `per_batch` rounds each.
    ///
    /// `agents` gives the names a service has given to this run's agents and paths; what it
    /// leaves out keeps the run's own names.
    pub fn batches(&self, names: &Names, per_batch: usize) -> Vec<Batch> {
        let mut by_agent: BTreeMap<AgentId, Vec<&LabRound>> = BTreeMap::new();
        for lab in &self.rounds {
            by_agent.entry(lab.agent).or_default().push(lab);
        }
        let mut batches = Vec::new();
        for (agent, rounds) in by_agent {
            for (chunk, seq) in rounds.chunks(per_batch.max(1)).zip(0..) {
                batches.push(batch_of(names, agent, seq, chunk));
            }
        }
        batches
    }
}

/// Names that a service has given to a run's agents and paths.
#[derive(Debug, Clone, Default)]
pub struct Names {
    /// By the run's agent.
    pub agents: BTreeMap<AgentId, AgentId>,
    /// By the run's path.
    pub paths: BTreeMap<PathId, PathId>,
}

/// A batch of some rounds of an agent.
pub fn batch_of(names: &Names, agent: AgentId, seq: u64, rounds: &[&LabRound]) -> Batch {
    let named = names.agents.get(&agent).copied().unwrap_or(agent);
    let mut batch = Batch::new(named, boot_of(agent), seq);
    for lab in rounds {
        let mut round = lab.round.clone();
        round.path = names.paths.get(&round.path).copied().unwrap_or(round.path);
        batch.paths.add(round, &lab.flow, &lab.resolution, &lab.route, &lab.reading);
    }
    batch
}
