//! Drives the hop sweeps of a schedule on one link.

#[cfg(test)]
pub(crate) mod tests;

use crate::agenda::Agenda;
use crate::clock::AgentClock;
use crate::driver::{Driver, DriverEvent, EngineKey};
use crate::limits::LocalLimits;
use crate::link::{Link, PORTS};
use crate::measurement::{Measured, Measurement};
use crate::names::{Answer, Names};
use crate::pair_routes::PairRoutes;
use crate::plan::{self, Plan};
use crate::ticket;
use crate::two_way::Sessions;
use itinera_model::batch::RefusedTask;
use itinera_model::id::{AgentId, ContentId, PathId};
use itinera_model::path::Method;
use itinera_model::protocol::{Schedule, Task};
use itinera_model::round::Round;
use itinera_model::route::Resolution;
use itinera_model::two_way::{self, Ticket};
use itinera_model::unit::{HopLimit, Micros, Tick, WallTime};
use itinera_probe::{
    Branches, BranchesConfig, Engine, HopSweep, Input, ProbeSpec, Sweep, SweepConfig,
};
use itinera_wire::Addresses;
use rustls::pki_types::CertificateDer;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, watch};

/// What a measurement needs permission from.
pub(crate) struct Permission {
    /// What the site allows.
    pub(crate) limits: LocalLimits,
    /// This agent.
    pub(crate) agent: AgentId,
    /// The authority that signs tickets.
    pub(crate) authority: CertificateDer<'static>,
}

/// Parts of the agent that follow the schedule.
#[derive(Default)]
pub(crate) struct Listeners {
    /// What is not done of it.
    pub(crate) refusals: watch::Sender<Vec<RefusedTask>>,
    /// The addresses that are probed now.
    pub(crate) targets: watch::Sender<BTreeSet<IpAddr>>,
}

struct Prober {
    key: EngineKey,
    task: Task,
    engine: HopSweep,
    /// When its member routes are enumerated next; absent when they never are.
    enumerate_at: Option<Tick>,
}

/// The enumeration in progress: one at a time, so that many paths do not ask at once.
struct Enumeration {
    key: EngineKey,
    of: EngineKey,
    engine: Branches,
}

/// Everything that is being measured.
struct Probers {
    leave: Permission,
    schedule: Schedule,
    /// The schedule's tickets that are good.
    tickets: Vec<Ticket>,
    names: Names,
    answers: mpsc::Sender<Answer>,
    /// What is being done of it.
    plan: Plan,
    all: BTreeMap<EngineKey, Prober>,
    agenda: Agenda,
    /// Paths that something came in for.
    touched: Vec<EngineKey>,
    sessions: Sessions,
    pair_routes: PairRoutes,
    /// Next round numbers of paths with an ended engine.
    numbers: BTreeMap<PathId, u64>,
    /// Tasks that cannot be done for now: there is no route to their target.
    waiting: Vec<Task>,
    enumeration: Option<Enumeration>,
    enumerate_every_s: u32,
    next_key: EngineKey,
}

/// Flows tried when member routes are enumerated.
pub(crate) const MAX_FLOWS: u16 = 256;
/// Chance to miss a member behind a router, in parts per million.
const ERROR_PPM: u32 = 50_000;
/// A path is enumerated only once it is known a little.
const BEFORE_ENUMERATION: Micros = Micros::from_millis(20_000);
/// Packets taken in at most before engines are served.
const BATCH: usize = 256;
/// Answers of resolvers that may wait.
const ANSWERS: usize = 64;
/// How often it is looked what the time and whether probes would leave from another address now.
const GLANCE: Duration = Duration::from_secs(5);

/// UDP port probed: unlikely to be served, so that the target says "port unreachable".
pub(crate) const UDP_PORT: u16 = 33_434;

/// Follows the schedule until told to stop; every round begun is sent to `rounds`.
pub(crate) async fn follow(
    link: Arc<Link>,
    clock: Arc<AgentClock>,
    leave: Permission,
    mut schedule: watch::Receiver<Schedule>,
    rounds: mpsc::Sender<Measurement>,
    listeners: Listeners,
    mut stop: watch::Receiver<bool>,
) {
    let now = schedule.borrow_and_update().clone();
    let mut driver = Driver::new(link, clock, &now.pacing);
    let (answers, mut answered) = mpsc::channel(ANSWERS);
    let mut probers = Probers::new(leave, answers, driver.clock());
    let mut settled = probers.schedule(now, &listeners, &mut driver);
    let mut glance = tokio::time::interval(GLANCE);
    loop {
        for measured in settled.drain(..) {
            if rounds.send(measured).await.is_err() {
                return;
            }
        }
        let deadline = probers.deadline();
        tokio::select! {
            occurred = driver.wait(deadline) => {
                if let DriverEvent::Received = occurred {
                    probers.deliver(&mut driver);
                }
                // What has come meanwhile is served together, and before a deadline that ends the
                // round it belongs to.
                for _ in 1..BATCH {
                    if !driver.receive_more().await {
                        break;
                    }
                    probers.deliver(&mut driver);
                }
            },
            Ok(()) = schedule.changed() => {
                let now = schedule.borrow_and_update().clone();
                settled.extend(probers.schedule(now, &listeners, &mut driver));
            }
            Some((name, answer)) = answered.recv() => {
                probers.names.on_answer(&name, answer);
                settled.extend(probers.replan(&listeners, &mut driver));
            }
            _ = glance.tick() => {
                if probers.tickets.len() < probers.schedule.tickets.len() {
                    probers.verify_tickets(driver.clock().service_now());
                }
                settled.extend(probers.replan(&listeners, &mut driver));
                settled.extend(probers.follow_addresses(&mut driver));
                probers.enumerate_next(&driver);
                let Probers { pair_routes, next_key, .. } = &mut probers;
                pair_routes.begin_next(next_key, &driver);
                probers.sessions.set_synchronised(&driver);
            }
            () = stopped(&mut stop) => {
                for prober in probers.all.values_mut() {
                    settled.extend(end(prober, &mut driver));
                }
                settled.extend(probers.sessions.stop(&mut driver).into_iter().map(Measurement::from));
                for measured in settled.drain(..) {
                    let _closed = rounds.send(measured).await;
                }
                return;
            }
        }
        settled.extend(probers.serve(&mut driver));
    }
}

impl Probers {
    fn new(leave: Permission, answers: mpsc::Sender<Answer>, clock: &AgentClock) -> Self {
        Self {
            leave,
            schedule: Schedule::default(),
            tickets: Vec::new(),
            names: Names::default(),
            answers,
            plan: Plan::default(),
            all: BTreeMap::new(),
            agenda: Agenda::default(),
            touched: Vec::new(),
            sessions: Sessions::new(0, clock.for_stamps()),
            pair_routes: PairRoutes::default(),
            numbers: BTreeMap::new(),
            waiting: Vec::new(),
            enumeration: None,
            enumerate_every_s: 0,
            next_key: 1,
        }
    }

    /// The engines that are few: they are asked every time.
    fn few(&mut self) -> impl Iterator<Item = (EngineKey, &mut dyn Engine)> {
        let enumeration = self.enumeration.iter_mut().map(|enumeration| {
            let engine: &mut dyn Engine = &mut enumeration.engine;
            (enumeration.key, engine)
        });
        enumeration.chain(self.pair_routes.engine()).chain(self.sessions.engines())
    }

    fn deadline(&self) -> Option<Tick> {
        let enumeration = self.enumeration.iter().filter_map(|e| e.engine.poll_deadline());
        let few = enumeration.chain(self.pair_routes.deadline()).chain(self.sessions.deadlines());
        self.agenda.next().into_iter().chain(few).min()
    }

    /// Passes a received packet to the engines it may concern.
    fn deliver(&mut self, driver: &mut Driver) {
        let Some(about) = driver.about() else {
            return;
        };
        let mut meant = self.agenda.of_target(about);
        if !self.offer(&meant, driver) {
            // Translation may have hidden the target.
            meant = self.agenda.of_port(about, MAX_FLOWS);
            self.offer(&meant, driver);
        }
        self.few().for_each(|(_, engine)| {
            driver.deliver(engine);
        });
    }

    /// True when one of them takes it.
    fn offer(&mut self, keys: &[EngineKey], driver: &mut Driver) -> bool {
        let mut taken = false;
        for key in keys {
            if let Some(prober) = self.all.get_mut(key) {
                taken |= driver.deliver(&mut prober.engine);
                self.touched.push(*key);
            }
        }
        taken
    }

    /// Lets every engine do what is due; gives the rounds that were settled.
    fn serve(&mut self, driver: &mut Driver) -> Vec<Measurement> {
        let mut keys = self.agenda.due(driver.clock().now());
        keys.append(&mut self.touched);
        keys.sort_unstable();
        keys.dedup();
        let mut settled = Vec::new();
        for key in keys {
            if let Some(prober) = self.all.get_mut(&key) {
                driver.serve(key, &mut prober.engine);
                while let Some(sweep) = prober.engine.poll_event() {
                    settled.push(measured(prober, sweep, driver).into());
                }
                self.agenda.enter(key, prober.engine.poll_deadline());
            }
        }
        self.few().for_each(|(key, engine)| driver.serve(key, engine));
        settled.extend(self.sessions.settled(driver).into_iter().map(Measurement::from));
        let route = self.pair_routes.settled(driver);
        settled.extend(route.map(|route| Measurement::PairRoute(Box::new(route))));
        for (key, token, stamp) in driver.late_stamps() {
            let sent = Input::Sent { token, stamp };
            if let Some(prober) = self.all.get_mut(&key) {
                prober.engine.handle(stamp, sent);
            } else if let Some((_, engine)) = self.few().find(|(of, _)| *of == key) {
                engine.handle(stamp, sent);
            }
        }
        self.take_ways(driver);
        settled
    }

    /// Enters all paths again after a change of schedule.
    fn reindex(&mut self) {
        self.agenda = Agenda::default();
        for (key, prober) in &self.all {
            self.agenda.admit(*key, prober.task.address, own_port(&prober.task));
            self.agenda.enter(*key, prober.engine.poll_deadline());
        }
    }

    /// Takes what an enumeration has found.
    fn take_ways(&mut self, driver: &mut Driver) {
        let Some(found) = self.enumeration.as_mut().and_then(|e| e.engine.poll_event()) else {
            return;
        };
        let Some(Enumeration { key, of, .. }) = self.enumeration.take() else {
            return;
        };
        driver.forget(key);
        let every = Micros::from_millis(self.enumerate_every_s.saturating_mul(1_000));
        if let Some(prober) = self.all.get_mut(&of) {
            prober.enumerate_at = Some(driver.clock().now() + every);
            let flows = found.one_flow_each(itinera_probe::sweep::MAX_FLOWS);
            if !flows.is_empty() {
                prober.engine.set_flows(&flows);
            }
            tracing::debug!(path = %prober.task.path, routes = found.members.len(), "routes enumerated");
        }
        self.enumerate_next(driver);
    }

    /// Begins the enumeration that is due.
    fn enumerate_next(&mut self, driver: &Driver) {
        if self.enumeration.is_some() {
            return;
        }
        let now = driver.clock().now();
        let due = |prober: &&mut Prober| prober.enumerate_at.is_some_and(|at| at <= now);
        let Some(prober) = self.all.values_mut().find(due) else {
            return;
        };
        let sweep = prober.engine.config();
        let config = BranchesConfig {
            probe: sweep.probe.clone(),
            first_port: own_port(&prober.task),
            max_flows: MAX_FLOWS,
            error_ppm: ERROR_PPM,
            timeout: sweep.timeout,
            gap: Micros::from_millis(20),
            last_hop: sweep.last_hop,
            seed: sweep.seed,
        };
        match Branches::new(config, now) {
            Ok(engine) => {
                let (key, of) = (self.next_key, prober.key);
                self.next_key += 1;
                self.enumeration = Some(Enumeration { key, of, engine });
            }
            Err(error) => {
                tracing::warn!(path = %prober.task.path, %error, "routes cannot be enumerated");
                prober.enumerate_at = None;
            }
        }
    }

    /// Starts again when the source address has changed: the machine has moved, or an
    /// interface has come or gone. Where there is no route at all, engines go on and say so.
    fn follow_addresses(&mut self, driver: &mut Driver) -> Vec<Measurement> {
        let (paths, mut settled) = (self.all.len(), Vec::new());
        for task in std::mem::take(&mut self.waiting) {
            self.add(task, driver);
        }
        let mut moved = self.all.len() != paths;
        for prober in self.all.values_mut() {
            let before = prober.engine.config().probe.addresses.source();
            let now = driver.link().source_for(prober.task.address);
            if now.is_ok_and(|now| now != before)
                && let Ok(engine) = engine_for(&prober.task, driver.link(), driver.clock())
            {
                tracing::info!(path = %prober.task.path, "probes leave from another address now");
                let number = prober.engine.next_number();
                settled.extend(end(prober, driver));
                prober.engine = engine.numbered_from(number);
                moved = true;
            }
        }
        if moved {
            self.reindex();
        }
        settled
    }

    /// Changes to another schedule.
    fn schedule(
        &mut self,
        schedule: Schedule,
        listeners: &Listeners,
        driver: &mut Driver,
    ) -> Vec<Measurement> {
        self.schedule = schedule;
        self.verify_tickets(driver.clock().service_now());
        self.replan(listeners, driver)
    }

    /// Takes the tickets that are good now. Before the first exchange with the service a clock may
    /// be years off, and tickets seem to be of another time.
    fn verify_tickets(&mut self, now: WallTime) {
        let verify =
            |signed| ticket::verified(signed, &self.leave.authority, self.leave.agent, now);
        let verified: Vec<_> = self.schedule.tickets.iter().map(verify).collect();
        let good = verified.iter().flatten().count();
        if good != self.tickets.len() {
            for error in verified.iter().filter_map(|ticket| ticket.as_ref().err()) {
                tracing::warn!(%error, "a ticket is not followed");
            }
        }
        self.tickets = verified.into_iter().flatten().collect();
    }

    /// Does what the schedule says for now. Tasks that stay the same go on undisturbed.
    fn replan(&mut self, listeners: &Listeners, driver: &mut Driver) -> Vec<Measurement> {
        let names = self.schedule.tasks.iter().filter_map(|task| task.name.as_deref());
        self.names.ask(names, &self.answers);
        let now = driver.clock().service_now();
        let (plan, mut refused) =
            plan::at(&self.schedule, &self.tickets, now, &self.names, &self.leave.limits);
        let (rounds, hindered) = self.sessions.replan(&plan.tickets, &mut self.next_key, driver);
        self.pair_routes.replan(&plan.tickets, plan.pair_route_every_s, driver);
        let mut settled: Vec<Measurement> = rounds.into_iter().map(Measurement::from).collect();
        refused.extend(hindered);
        listeners.refusals.send_if_modified(|before| {
            let changed = *before != refused;
            if changed {
                for RefusedTask { path, pair, reason, .. } in &refused {
                    tracing::warn!(?path, ?pair, reason, "a task is not done");
                }
            }
            *before = refused;
            changed
        });
        if plan == self.plan {
            return settled;
        }
        self.plan = plan.clone();
        let Plan { tasks, pacing, enumerate_every_s, .. } = plan;
        driver.pace(&pacing);
        let targets: BTreeSet<IpAddr> = tasks.iter().map(|task| task.address).collect();
        listeners.targets.send_if_modified(|before| {
            let changed = *before != targets;
            *before = targets;
            changed
        });
        self.enumerate_every_s = enumerate_every_s;
        self.enumeration = None;
        self.waiting.clear();
        let mut wanted: BTreeMap<PathId, Task> =
            tasks.into_iter().map(|task| (task.path, task)).collect();
        for (key, mut prober) in std::mem::take(&mut self.all) {
            if wanted.get(&prober.task.path) == Some(&prober.task) {
                wanted.remove(&prober.task.path);
                self.all.insert(key, prober);
            } else {
                settled.extend(end(&mut prober, driver));
                self.numbers.insert(prober.task.path, prober.engine.next_number());
            }
        }
        wanted.into_values().for_each(|task| self.add(task, driver));
        let first = driver.clock().now() + BEFORE_ENUMERATION;
        for prober in self.all.values_mut() {
            let at = prober.enumerate_at.unwrap_or(first);
            prober.enumerate_at = (enumerate_every_s > 0).then_some(at);
        }
        self.reindex();
        let waiting = self.waiting.len();
        tracing::info!(tasks = self.all.len(), waiting, "following the schedule");
        settled
    }

    fn add(&mut self, task: Task, driver: &Driver) {
        match engine_for(&task, driver.link(), driver.clock()) {
            Ok(engine) => {
                let number = self.numbers.remove(&task.path).unwrap_or(0);
                let engine = engine.numbered_from(number);
                let key = self.next_key;
                self.all.insert(key, Prober { key, task, engine, enumerate_at: None });
                self.next_key += 1;
            }
            Err(reason) => {
                tracing::debug!(path = %task.path, address = %task.address, reason, "task waits");
                self.waiting.push(task);
            }
        }
    }
}

/// Waits for the word to stop; a sender that is gone has no more use for us either.
pub(crate) async fn stopped(stop: &mut watch::Receiver<bool>) {
    let _said = stop.wait_for(|stop| *stop).await.map(drop);
}

/// Ends an engine; gives the rounds it had begun.
fn end(prober: &mut Prober, driver: &mut Driver) -> Vec<Measurement> {
    prober.engine.handle(driver.clock().now(), Input::Stop);
    let strays = prober.engine.strays();
    if strays > 0 {
        tracing::info!(path = %prober.task.path, strays, "answers came after their round was settled");
    }
    let sweeps: Vec<Sweep> = std::iter::from_fn(|| prober.engine.poll_event()).collect();
    let rounds = sweeps.into_iter().map(|sweep| measured(prober, sweep, driver).into()).collect();
    driver.forget(prober.key);
    rounds
}

fn engine_for(task: &Task, link: &Link, clock: &AgentClock) -> Result<HopSweep, String> {
    if !link.can(task.method) {
        return Err(format!("{} needs raw sockets", task.method));
    }
    let source = link
        .source_for(task.address)
        .map_err(|error| format!("no route to the target: {error}"))?;
    let addresses = Addresses::try_new(source, task.address)
        .ok_or_else(|| format!("{source} cannot speak with {}", task.address))?;
    let config = config_for(task, addresses, clock)?;
    HopSweep::new(config, clock.now()).map_err(|error| error.to_string())
}

/// The source port or identifier of a path's own flow, the same after a restart; further flows
/// take the ports behind it.
fn own_port(task: &Task) -> u16 {
    let [a, b, ..] = *ContentId::of(task.path.as_uuid().as_bytes()).as_bytes();
    PORTS.start + u16::from_be_bytes([a, b]) % (two_way::PORT - PORTS.start - MAX_FLOWS)
}

fn config_for(
    task: &Task,
    addresses: Addresses,
    clock: &AgentClock,
) -> Result<SweepConfig, String> {
    // Flow fields follow from the path alone, so that its flow is the same after a restart.
    let id = ContentId::of(task.path.as_uuid().as_bytes());
    let [_, _, c, d, ..] = *id.as_bytes();
    let constant = u16::from_be_bytes([c, d]).clamp(1, 0xfffe);
    let boot = clock.boot().as_uuid().as_u128();
    let mut seed = [0; 8];
    seed.copy_from_slice(
        &ContentId::of(&[id.as_bytes(), &boot.to_be_bytes()[..]].concat()).as_bytes()[..8],
    );
    let destination_port = match (task.method, task.port) {
        (Method::IcmpEcho, _) => constant,
        (Method::Udp, port) => port.unwrap_or(UDP_PORT),
        (Method::TcpSyn, Some(port)) => port,
        (Method::TcpSyn, None) => return Err("tcp-syn without a port to knock at".to_owned()),
    };
    let hop = |limit: u8| {
        HopLimit::try_new(limit).ok_or_else(|| format!("hop limit {limit} is outside 1..=64"))
    };
    Ok(SweepConfig {
        probe: ProbeSpec {
            addresses,
            method: task.method,
            destination_port,
            port_answers: task.port.is_some(),
            dscp: task.dscp,
            size_bytes: task.size_bytes,
            dont_fragment: false,
            secret: constant,
        },
        source_ports: vec![own_port(task)],
        interval: Micros::from_millis(task.interval_ms),
        probes_per_hop: task.probes_per_hop,
        timeout: Micros::from_millis(task.timeout_ms),
        first_hop: hop(1)?,
        last_hop: hop(task.last_hop)?,
        full_every: task.full_every,
        rounds: None,
        seed: u64::from_be_bytes(seed),
    })
}

fn measured(prober: &Prober, sweep: Sweep, driver: &mut Driver) -> Measured {
    let resolution = Resolution { name: prober.task.name.clone(), address: prober.task.address };
    let stamps = driver.stamp_source(prober.key);
    let round = Round {
        path: prober.task.path,
        number: sweep.number,
        clocks: driver.clock().clocks_at(sweep.started),
        flow: sweep.flow.id(),
        resolution: resolution.id(),
        route: sweep.route.id(),
        reading: Some(sweep.reading.id()),
        reached_at: sweep.reached_at,
        stamps,
        lateness: Some(driver.clock().lateness_since(sweep.started)),
        hops: sweep.hops,
    };
    Measured { round, flow: sweep.flow, resolution, route: sweep.route, reading: sweep.reading }
}
