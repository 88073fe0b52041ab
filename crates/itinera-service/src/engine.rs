//! The judging engine over entries of the log: computes on threads of its own, with what it needs
//! from the store.

use crate::rebuild;
use itinera_analysis::event::Carried;
use itinera_analysis::inventory::Inventory;
use itinera_analysis::{
    AgentReport, Effect, Judge, JudgeInput, Observation, PairObservation, RebuildSources, Stage,
    UnreadableStage,
};
use itinera_model::alarm::AlarmEffect;
use itinera_model::check::CheckRound;
use itinera_model::checkpoint::Checkpoint;
use itinera_model::codec::decode;
use itinera_model::host_facts::HostFacts;
use itinera_model::owner::OwnerMap;
use itinera_model::two_way::PairRoute;
use itinera_model::unit::WallTime;
use itinera_store::{
    EventQuery, JudgeMemory, Lasting, LogContent, LogEntry, LoggedReport, LoggedRound, Store,
    StoreError, ThroughputRecord,
};
use rayon::{ThreadPool, ThreadPoolBuilder};
use std::sync::{Arc, LazyLock};
use uuid::Uuid;

/// By how much the threads that judge give way to those that answer users and agents ("nice").
const NICENESS: i32 = 10;

/// The threads that judge, one for each processor; absent where the system refuses them.
static THREADS: LazyLock<Option<ThreadPool>> = LazyLock::new(|| {
    let give_way = |_| {
        // Where that is refused, all threads are alike.
        let _refused = rustix::process::setpriority_process(None, NICENESS);
    };
    let name = |number| format!("judging-{number}");
    ThreadPoolBuilder::new().thread_name(name).start_handler(give_way).build().ok()
});

/// Open events and alarms taken over from another version at most.
const MOST_OPEN: u64 = 10_000;

/// Why entries cannot be judged.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// What is needed for it cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The engine has a fault.
    #[error("judgement panicked: the log has its message")]
    Panicked,
}

impl From<UnreadableStage> for EngineError {
    fn from(error: UnreadableStage) -> Self {
        tracing::error!(error = &error as &dyn std::error::Error, "unreadable state of judgement");
        Self::Store(StoreError::Corrupt { what: "state of judgement" })
    }
}

/// A stored round as judgement takes it.
pub(crate) fn observation(round: &LoggedRound) -> Observation<'_> {
    Observation {
        path: round.path,
        measured_at: round.measured_at,
        number: round.number,
        source: round.source,
        flow: round.flow,
        route: round.route.id,
        addresses: &round.route.route.hops,
        hops: &round.hops,
        stamps: round.stamps,
        lateness: round.lateness,
        arrived_dscp: round.arrived_dscp,
    }
}

/// A measurement of throughput as judgement takes it; absent where it has no limit.
fn carried(run: &ThroughputRecord) -> Option<Carried<'_>> {
    Some(Carried {
        agent: run.sender,
        from: &run.from,
        to: &run.to,
        by: run.spec.by,
        at: run.measured_at()?,
        got_bit_s: run.rate_bit_s(),
        least_bit_s: run.spec.least_bit_s?,
        raise_after: run.spec.raise_after,
    })
}

fn step_report(judge: &mut Judge, report: &LoggedReport, at: WallTime) -> Vec<Effect> {
    let rounds: Vec<Observation<'_>> = report.rounds.iter().map(observation).collect();
    let pairs = report.two_way.iter();
    let pairs = pairs.map(|(at, round)| PairObservation { measured_at: *at, round });
    let pairs: Vec<PairObservation<'_>> = pairs.collect();
    let pair_routes = report.pair_routes.iter().map(|it| (it.at, &it.route));
    let pair_routes: Vec<(WallTime, &PairRoute)> = pair_routes.collect();
    let checks = report.checks.iter().map(|it| (it.at, &it.round));
    let checks: Vec<(WallTime, &CheckRound)> = checks.collect();
    let host_facts = report.host_facts.iter().map(|it| (it.at, &it.round.host_facts));
    let host_facts: Vec<(WallTime, &HostFacts)> = host_facts.collect();
    let throughput: Vec<Carried<'_>> = report.throughput.iter().filter_map(carried).collect();
    let report = AgentReport {
        agent: Some(report.agent),
        rounds: &rounds,
        pairs: &pairs,
        pair_routes: &pair_routes,
        checks: &checks,
        host_facts: &host_facts,
        throughput: &throughput,
    };
    judge.step(JudgeInput::Report(report), at)
}

/// An entry with what is to be looked up for it.
enum Prepared {
    Entry(LogEntry),
    Inventory(WallTime, Box<Inventory>, Arc<OwnerMap>),
}

fn step(judge: &mut Judge, input: Prepared) -> Vec<Effect> {
    match input {
        Prepared::Inventory(at, inventory, owners) => {
            judge.step(JudgeInput::Inventory(inventory, owners), at)
        }
        Prepared::Entry(entry) => match &entry.content {
            LogContent::Report(report) => step_report(judge, report, entry.received_at),
            LogContent::Clock | LogContent::Inventory(_) => {
                judge.step(JudgeInput::Clock, entry.received_at)
            }
        },
    }
}

/// The judging engine.
pub(crate) struct Engine {
    store: Store,
    judge: Judge,
    owners: (Option<Uuid>, Arc<OwnerMap>),
}

impl Engine {
    /// An engine that knows nothing yet.
    pub(crate) fn new(store: &Store) -> Self {
        let (judge, owners) = (Judge::default(), (None, Arc::default()));
        Self { store: store.clone(), judge, owners }
    }

    /// An engine that continues from a checkpoint, and what changes of alarms with that where they are
    /// rebuilt.
    pub(crate) async fn restored(
        store: &Store,
        memory: JudgeMemory,
    ) -> Result<(Self, Vec<AlarmEffect>), EngineError> {
        let JudgeMemory { checkpoint, cursor, .. } = memory;
        let inventory = Judge::stored_inventory(&checkpoint)?;
        let mut it = Self::new(store);
        let owners = it.owner_map(inventory.owner_map).await?;
        let mut lasting = Vec::new();
        if !Stage::Events.is_in(&checkpoint) {
            let open = EventQuery { lasting: Lasting::OPEN, ..EventQuery::default() };
            let open = store.events(open, None, MOST_OPEN).await?;
            lasting.extend(open.into_iter().map(|record| record.event));
        }
        let mut open = Vec::new();
        if !Stage::Alarms.is_in(&checkpoint) {
            let recorded = store.alarms(Lasting::OPEN, MOST_OPEN).await?;
            open.extend(recorded.into_iter().map(|record| record.alarm));
        }
        let minutes = rebuild::minutes(store, &checkpoint).await?;
        let entries = rebuild::newest_entries(store, &checkpoint, &minutes, cursor).await?;
        let work = move |_: &mut Judge| {
            let reports = entries.iter().filter_map(LogEntry::report);
            let rounds = reports.flat_map(|report| report.rounds.iter().map(observation)).collect();
            let sources = RebuildSources { owners, lasting, open, minutes, rounds };
            Judge::restored(&checkpoint, sources)
        };
        let (judge, alarms) = it.compute(work).await??;
        it.judge = judge;
        Ok((it, alarms))
    }

    pub(crate) const fn judge(&self) -> &Judge {
        &self.judge
    }

    /// The owner map that is judged by.
    pub(crate) fn owners(&self) -> Arc<OwnerMap> {
        Arc::clone(&self.owners.1)
    }

    async fn owner_map(&mut self, id: Option<Uuid>) -> Result<Arc<OwnerMap>, StoreError> {
        if self.owners.0 != id {
            let map = match id {
                None => OwnerMap::default(),
                Some(id) => self.store.owner_map(id).await?,
            };
            self.owners = (id, Arc::new(map));
        }
        Ok(self.owners())
    }

    /// Computes with the judge off the async runtime. After a panic the engine is not used any more.
    async fn compute<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&mut Judge) -> T + Send + 'static,
    ) -> Result<T, EngineError> {
        let mut judge = std::mem::take(&mut self.judge);
        let compute = move || {
            let result = work(&mut judge);
            (judge, result)
        };
        let done = tokio::task::spawn_blocking(|| match &*THREADS {
            Some(threads) => threads.install(compute),
            None => compute(),
        });
        let (judge, result) = done.await.map_err(|_| EngineError::Panicked)?;
        self.judge = judge;
        Ok(result)
    }

    /// Judges entries in order; gives the effects of all of them.
    pub(crate) async fn step(
        &mut self,
        entries: Vec<LogEntry>,
    ) -> Result<Vec<Effect>, EngineError> {
        let mut inputs = Vec::with_capacity(entries.len());
        for entry in entries {
            inputs.push(match &entry.content {
                LogContent::Inventory(content) => {
                    let inventory: Inventory =
                        decode(content).map_err(|_| StoreError::Corrupt { what: "inventory" })?;
                    let owners = self.owner_map(inventory.owner_map).await?;
                    Prepared::Inventory(entry.received_at, Box::new(inventory), owners)
                }
                LogContent::Report(_) | LogContent::Clock => Prepared::Entry(entry),
            });
        }
        let all = |judge: &mut Judge| inputs.into_iter().flat_map(|it| step(judge, it)).collect();
        self.compute(all).await
    }

    /// What differs from the last checkpoint.
    pub(crate) async fn checkpoint(&mut self) -> Result<Checkpoint, EngineError> {
        self.compute(Judge::checkpoint).await
    }
}
