//! Runs the checks of the schedule, reports host facts, and runs diagnoses when a user
//! wants it: everything that an agent does in addition to probing.

use crate::clock::AgentClock;
use crate::diagnosis::{DiagnosisPlan, DiagnosisProgress, Place, diagnose};
use crate::host_facts::{HostFactsSource, Turns};
use crate::limits::LocalLimits;
use crate::measurement::Measurement;
use crate::plan;
use crate::probing::stopped;
use crate::{throughput, ticket};
use itinera_check::{Asker, Destination, Net, Patience, Roots};
use itinera_model::batch::RefusedTask;
use itinera_model::check::{CheckRound, CheckTask};
use itinera_model::diagnosis::{DiagnosisReport, DiagnosisTask, DiagnosisUpdate};
use itinera_model::host_facts::{HostFactsRound, LocalAction};
use itinera_model::id::{AgentId, CheckId, DiagnosisId, ThroughputId};
use itinera_model::protocol::Schedule;
use itinera_model::throughput::{Side, ThroughputOrder, ThroughputRound, ThroughputWord};
use itinera_model::unit::Tick;
use rustls::pki_types::CertificateDer;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{Semaphore, mpsc, watch};
use tokio::task::JoinSet;
use tokio::time::Instant;
use uuid::Uuid;

/// Checks that are asked at one time: a small machine must not be kept from probing by them.
const AT_ONCE: usize = 4;
/// Diagnoses at one time, and their progress reports that may wait.
const DIAGNOSES_AT_ONCE: usize = 2;
const WORDS: usize = 64;
/// How often what is to be done now is looked at again.
const GLANCE: Duration = Duration::from_secs(5);

/// A check and when it is asked next.
struct Entry {
    task: CheckTask,
    next: Instant,
    running: bool,
}

/// What was settled.
enum Settled {
    Check(CheckId, Box<CheckRound>),
    HostFactsSource(Option<Box<HostFactsRound>>),
    Diagnosis,
    Throughput(Option<Box<ThroughputRound>>),
}

/// Everything this needs.
pub(crate) struct Checking {
    pub(crate) place: Place,
    pub(crate) clock: Arc<AgentClock>,
    pub(crate) limits: LocalLimits,
    pub(crate) roots: Arc<Roots>,
    pub(crate) found: mpsc::Sender<Measurement>,
    pub(crate) refusals: watch::Sender<Vec<RefusedTask>>,
    /// The last action that the agent took while it was cut off; absent where none is permitted.
    pub(crate) action: Option<watch::Receiver<Option<LocalAction>>>,
    /// The addresses that are probed now.
    pub(crate) probed: watch::Receiver<BTreeSet<IpAddr>>,
    /// This agent, and the authority that signs orders.
    pub(crate) agent: AgentId,
    pub(crate) authority: CertificateDer<'static>,
}

/// A share of a span drawn by chance, from nothing to all of it.
fn some_of(span: Duration) -> Duration {
    let [a, b, ..] = *Uuid::new_v4().as_bytes();
    span.mul_f64(f64::from(u16::from_be_bytes([a, b])) / 65_536.0)
}

/// Everything that is being asked.
struct Follower {
    it: Checking,
    host_facts: Option<HostFactsSource>,
    asker: Asker,
    schedule: Schedule,
    entries: BTreeMap<CheckId, Entry>,
    /// Numbers of the next results of checks, whatever becomes of their tasks.
    numbers: BTreeMap<CheckId, u64>,
    ordered: BTreeSet<DiagnosisId>,
    carried: BTreeSet<ThroughputId>,
    /// When measurements of throughput began, and the bytes they might take.
    spent: Vec<(Instant, u64)>,
    running: JoinSet<Settled>,
    turns: Arc<Semaphore>,
    diagnosis_turns: Arc<Semaphore>,
    /// When host facts are read.
    readings: Turns,
}

/// Follows the schedule's checks and orders until told to stop.
pub(crate) async fn follow(
    it: Checking,
    mut schedule: watch::Receiver<Schedule>,
    mut stop: watch::Receiver<bool>,
) {
    let net = loop {
        match it.place.net().await {
            Ok(net) => break net,
            Err(error) => {
                tracing::warn!(%error, "services cannot be asked yet");
                tokio::time::sleep(GLANCE).await;
            }
        }
    };
    let mut follower = Follower::new(it, net, schedule.borrow_and_update().clone());
    let mut probed = follower.it.probed.clone();
    let mut action = follower.it.action.clone();
    let mut glance = tokio::time::interval(GLANCE);
    loop {
        let next = follower.next();
        let host_facts_changed = async {
            match &follower.host_facts {
                Some(host_facts) => host_facts.changed().await,
                None => std::future::pending().await,
            }
        };
        let acted = async {
            match &mut action {
                Some(action) => action.changed().await.is_ok(),
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            () = tokio::time::sleep_until(next) => {}
            true = acted => follower.readings.on_change(Instant::now()),
            Ok(()) = schedule.changed() => {
                follower.schedule = schedule.borrow_and_update().clone();
                follower.replan();
            }
            _ = glance.tick() => follower.replan(),
            () = host_facts_changed => follower.readings.on_change(Instant::now()),
            Ok(()) = probed.changed() => follower.readings.on_change(Instant::now()),
            Some(settled) = follower.running.join_next() => match settled {
                Ok(settled) => if !follower.on_settled(settled).await {
                    return;
                },
                Err(error) => tracing::error!(%error, "a check has failed"),
            },
            () = stopped(&mut stop) => return,
        }
        follower.read_host_facts();
        follower.ask();
        follower.start_diagnoses();
        follower.carry();
    }
}

impl Follower {
    fn new(it: Checking, net: Net, schedule: Schedule) -> Self {
        let asker = Asker {
            net,
            resolvers: Vec::new(),
            roots: Arc::clone(&it.roots),
            patience: Patience::default(),
            within: it.limits.targets.clone().map(Arc::new),
        };
        Self {
            host_facts: it.place.host_facts(it.limits.sockets == Some(true)),
            it,
            asker,
            schedule,
            entries: BTreeMap::new(),
            numbers: BTreeMap::new(),
            ordered: BTreeSet::new(),
            carried: BTreeSet::new(),
            spent: Vec::new(),
            running: JoinSet::new(),
            turns: Arc::new(Semaphore::new(AT_ONCE)),
            diagnosis_turns: Arc::new(Semaphore::new(DIAGNOSES_AT_ONCE)),
            readings: Turns::new(Instant::now()),
        }
    }

    /// When there is something to do next.
    fn next(&self) -> Instant {
        let waiting = self.entries.values().filter(|entry| !entry.running);
        let due = waiting.map(|entry| entry.next).min();
        let reading = self.readings.next(Instant::now());
        due.map_or(reading, |due| due.min(reading))
    }

    /// Sends what was found; false when the receiver is gone.
    async fn on_settled(&mut self, settled: Settled) -> bool {
        let found = match settled {
            Settled::Check(check, round) => {
                if let Some(entry) = self.entries.get_mut(&check) {
                    entry.running = false;
                }
                Measurement::Check(round)
            }
            Settled::HostFactsSource(round) => {
                self.readings.end(Instant::now(), round.is_some());
                let Some(round) = round else { return true };
                self.asker.resolvers.clone_from(&round.host_facts.resolvers);
                Measurement::HostFacts(round)
            }
            Settled::Throughput(Some(round)) => Measurement::Throughput(round),
            Settled::Diagnosis | Settled::Throughput(None) => return true,
        };
        self.it.found.send(found).await.is_ok()
    }

    /// Reads the host facts when they are due.
    fn read_host_facts(&mut self) {
        let every = Duration::from_secs(self.schedule.host_facts_every_s.into());
        let Some(host_facts) = self.host_facts.clone() else { return };
        if every.is_zero() || !self.readings.begin(Instant::now(), every) {
            return;
        }
        let (place, clock) = (self.it.place.clone(), Arc::clone(&self.it.clock));
        let limits = self.it.limits.clone();
        let action = self.it.action.as_ref().and_then(|action| action.borrow().clone());
        let targets: Vec<IpAddr> = self.it.probed.borrow().iter().copied().collect();
        self.running.spawn(async move {
            let mut seen = match host_facts.read().await {
                Ok(seen) => seen,
                Err(error) => {
                    tracing::warn!(%error, "host facts cannot be read");
                    return Settled::HostFactsSource(None);
                }
            };
            seen.lateness = clock.lateness_report();
            seen.action = action;
            seen.routes_used = host_facts.routes_to(&targets).await;
            let clocks = clock.clocks_at(clock.now());
            let gateway = seen.gateway(false).or_else(|| seen.gateway(true));
            let gateway = match gateway.filter(|it| limits.forbids(*it).is_none()) {
                Some(gateway) => place.gateway_echoes(gateway).await,
                None => None,
            };
            Settled::HostFactsSource(Some(Box::new(HostFactsRound {
                clocks,
                host_facts: seen,
                gateway,
            })))
        });
    }

    /// Asks what is due.
    fn ask(&mut self) {
        // Programs resolve names by what the machine is configured with: known after one look.
        let knows_resolvers = self.readings.is_read() || self.schedule.host_facts_every_s == 0;
        for (check, entry) in &mut self.entries {
            if entry.running || entry.next > Instant::now() || !knows_resolvers {
                continue;
            }
            entry.running = true;
            let interval = Duration::from_millis(entry.task.interval_ms.into());
            entry.next = Instant::now() + interval.mul_f64(0.9) + some_of(interval.mul_f64(0.2));
            let number = self.numbers.entry(*check).or_default();
            let (asker, turns) = (self.asker.clone(), Arc::clone(&self.turns));
            let (task, nth, clock) = (entry.task.clone(), *number, Arc::clone(&self.it.clock));
            *number += 1;
            self.running.spawn(async move {
                let _turn = turns.acquire().await;
                let began: Tick = clock.now();
                let destination = destination(task.name, task.address, task.family);
                let result = asker.check(&destination, &task.ask).await;
                let clocks = clock.clocks_at(began);
                let late_us = clock.usually_late_us_since(began);
                let round = CheckRound { check: task.check, number: nth, clocks, result, late_us };
                Settled::Check(task.check, Box::new(round))
            });
        }
    }

    /// Starts the diagnoses ordered by the schedule.
    fn start_diagnoses(&mut self) {
        let now = self.it.clock.service_now();
        for order in &self.schedule.diagnoses {
            if now >= order.not_after || !self.ordered.insert(order.id) {
                continue;
            }
            let (place, roots) = (self.it.place.clone(), Arc::clone(&self.it.roots));
            let (order, found) = (order.clone(), self.it.found.clone());
            let (turns, limits) = (Arc::clone(&self.diagnosis_turns), self.it.limits.clone());
            self.running.spawn(async move {
                let _turn = turns.acquire().await;
                run_diagnosis(place, roots, &limits, &order, &found).await;
                Settled::Diagnosis
            });
        }
        self.ordered.retain(|id| self.schedule.diagnoses.iter().any(|order| order.id == *id));
    }

    /// Begins to measure how much gets through, where the service gives leave and the site does not
    /// forbid it.
    fn carry(&mut self) {
        let now = self.it.clock.service_now();
        for signed in &self.schedule.throughput {
            let verified =
                ticket::verified::<ThroughputOrder>(signed, &self.it.authority, self.it.agent, now);
            let Ok(order) = verified else { continue };
            if !order.is_bounded() || !self.carried.insert(order.id) {
                continue;
            }
            let day = Duration::from_secs(86_400);
            self.spent.retain(|(at, _)| at.elapsed() < day);
            let spent = self.spent.iter().map(|(_, bytes)| bytes).sum();
            let refused = self.it.limits.refusal_of_throughput(&order, spent);
            if refused.is_none() {
                self.spent.push((Instant::now(), order.most_bytes));
            }
            let (net, host_facts) = (self.asker.net.clone(), self.host_facts.clone());
            let clock = Arc::clone(&self.it.clock);
            self.running.spawn(async move {
                let clocks = clock.clocks_at(clock.now());
                let (word, carried_bytes) = match refused {
                    Some(reason) if order.side == Side::Sends => {
                        (ThroughputWord::Failed(reason), None)
                    }
                    Some(_) => return Settled::Throughput(None),
                    None => match throughput::run(&net, host_facts.as_ref(), &order).await {
                        Some(said) => said,
                        None => return Settled::Throughput(None),
                    },
                };
                let round = ThroughputRound { id: order.id, clocks, word, carried_bytes };
                Settled::Throughput(Some(Box::new(round)))
            });
        }
        if self.schedule.throughput.is_empty() {
            self.carried.clear();
        }
    }

    /// Does what the schedule says for now. Checks that stay the same go on undisturbed.
    fn replan(&mut self) {
        let now = self.it.clock.service_now();
        let (checks, refused) = plan::checks_at(&self.schedule, now, &self.it.limits);
        self.it.refusals.send_if_modified(|known| {
            let other = *known != refused;
            *known = refused;
            other
        });
        let wanted: BTreeSet<CheckId> = checks.iter().map(|task| task.check).collect();
        self.entries.retain(|check, _| wanted.contains(check));
        for task in checks {
            match self.entries.get_mut(&task.check) {
                Some(known) => {
                    if known.task.wanted != task.wanted {
                        known.next = Instant::now();
                    }
                    known.task = task;
                }
                None => {
                    let interval = Duration::from_millis(task.interval_ms.into());
                    // Not all at once, and the first within the time a user would wait.
                    let next = Instant::now() + some_of(interval.min(Duration::from_secs(20)));
                    self.entries.insert(task.check, Entry { task, next, running: false });
                }
            }
        }
    }
}

/// A target as it is asked: by its name where it has one.
fn destination(
    name: Option<String>,
    address: Option<IpAddr>,
    family: itinera_model::path::Family,
) -> Destination {
    match (name, address) {
        (Some(name), _) => Destination::Name(name, Some(family)),
        (None, Some(address)) => Destination::Address(address),
        // Questions to resolvers have no target.
        (None, None) => Destination::Name("localhost".to_owned(), Some(family)),
    }
}

/// Runs an ordered diagnosis and reports its progress.
async fn run_diagnosis(
    place: Place,
    roots: Arc<Roots>,
    limits: &LocalLimits,
    order: &DiagnosisTask,
    found: &mpsc::Sender<Measurement>,
) {
    let say = async |word| {
        let report = DiagnosisReport { id: order.id, word };
        let _stopped = found.send(Measurement::Diagnosis(Box::new(report))).await;
    };
    if let Some(reason) = order.address.and_then(|address| limits.forbids(address)) {
        return say(DiagnosisUpdate::Failed(reason)).await;
    }
    let plan = DiagnosisPlan {
        target: order.target.clone(),
        destination: destination(order.name.clone(), order.address, order.family),
        asks: order.asks.clone(),
        roots,
        within: limits.targets.clone().map(Arc::new),
    };
    let (news, mut heard) = mpsc::channel(WORDS);
    let telling = async {
        while let Some(news) = heard.recv().await {
            say(match news {
                DiagnosisProgress::Looking(step) => DiagnosisUpdate::Looking(step),
                DiagnosisProgress::Swept(round, of) => DiagnosisUpdate::Swept(
                    u8::try_from(round).unwrap_or(u8::MAX),
                    u8::try_from(of).unwrap_or(u8::MAX),
                ),
            })
            .await;
        }
    };
    let (seen, ()) = tokio::join!(diagnose(&place, &plan, news), telling);
    say(match seen {
        Ok(seen) => DiagnosisUpdate::Done(Box::new(seen)),
        Err(error) => DiagnosisUpdate::Failed(error.to_string().chars().take(100).collect()),
    })
    .await;
}
