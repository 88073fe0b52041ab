//! Judgement as it runs: follows the log of commits while it holds the lease.
//!
//! The engine computes on threads of its own, so that a long step delays neither requests nor the
//! renewal of the lease. Where there is more to judge, what a step gave is written and the entries after it
//! are read while the next step computes.

use crate::context::Shared;
use crate::correlation::ByCause;
use crate::disk::Room;
use crate::duty::Duty;
use crate::engine::{Engine, EngineError};
use crate::inventory::InventoryWatch;
use itinera_analysis::{ENGINE, Effect, Limits, Stage};
use itinera_model::alarm::{AlarmEffect, AlarmKey, Severity};
use itinera_model::checkpoint::Checkpoint;
use itinera_model::codec::encode;
use itinera_model::event::EventEffect;
use itinera_model::evidence::EvidenceSubject;
use itinera_model::finding::Assessment;
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::unit::WallTime;
use itinera_store::{EvidenceWrite, JudgeWrite, LogEntry, LogReader, NewEntry, StoreError};
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::{Duration, Instant};
use time::{Date, OffsetDateTime};

/// Commits judged in one transaction at most.
const COMMITS_AT_ONCE: i64 = 64;
/// After so many rounds in one step there are more to be judged.
const MANY_ROUNDS: usize = 10_000;
/// How long nothing may happen before the log is looked at again.
const IDLE: Duration = Duration::from_secs(1);
/// How often the time is entered into the log, by the service's clock.
const CLOCK: time::Duration = time::Duration::seconds(5);
/// Interval between renewals of the lease, well below its time.
const HEARTBEAT: Duration = Duration::from_secs(1);
/// A checkpoint is made after this time, or after so many rounds: the next leader judges as much
/// again before it continues.
const CHECKPOINT: Duration = Duration::from_secs(60);
const CHECKPOINT_ROUNDS: usize = 40_000;
/// How long what is judged may wait to be written while more is to be judged: what several steps say of
/// the same path is written once.
const GATHERED: Duration = Duration::from_secs(5);

/// Failures of one kind after which a commit is set aside.
const TRIES: u32 = 3;

/// The commit on which judgement failed last, and how often with the same error.
#[derive(Debug, Default)]
struct Failures {
    at: i64,
    error: String,
    count: u32,
}

impl Failures {
    /// Counts a failure after `cursor`; true when it is the last that is borne.
    fn count(&mut self, cursor: i64, error: &str) -> bool {
        if self.at != cursor || self.error != error {
            *self = Self { at: cursor, error: error.to_owned(), count: 0 };
        }
        self.count += 1;
        self.count >= TRIES
    }

    /// True while the commits after `cursor` are judged one by one, to find the one that fails.
    fn searching(&self, cursor: i64) -> bool {
        self.count > 0 && (self.at..self.at + COMMITS_AT_ONCE).contains(&cursor)
    }
}

/// Why judgement stops for now.
#[derive(Debug)]
pub(crate) enum Stopped {
    /// The database is away, or another process leads.
    Store(StoreError),
    /// The commits after this one cannot be judged; the memory is not to be used any more.
    Unjudgeable(i64, String),
}

impl Stopped {
    /// What an error while the commits after `cursor` are judged means.
    fn at(cursor: i64, error: EngineError) -> Self {
        match error {
            EngineError::Store(error) if error.may_pass() => Self::Store(error),
            EngineError::Store(error) => Self::Unjudgeable(cursor, error.with_causes()),
            EngineError::Panicked => Self::Unjudgeable(cursor, error.to_string()),
        }
    }
}

impl From<StoreError> for Stopped {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

/// Judges until the service stops: leads when no other process does, stands by otherwise.
pub(crate) async fn judge_commits(shared: Arc<Shared>, limits: Limits) {
    let mut failures = Failures::default();
    loop {
        match shared.store.lead_judgement(shared.process).await {
            Ok(Some(token)) => match lead(&shared, limits, token, &failures).await {
                Ok(()) => return,
                Err(Stopped::Store(StoreError::Fenced)) => {
                    tracing::warn!("another process judges now");
                    shared.duties.stands_by(Duty::Judging);
                }
                Err(Stopped::Store(error)) => shared.duties.failed(Duty::Judging, &error),
                Err(Stopped::Unjudgeable(cursor, error)) => {
                    tracing::error!(commit_no = cursor + 1, error, "a commit cannot be judged");
                    // Only once it is known which of several commits fails.
                    let alone = failures.searching(cursor);
                    if failures.count(cursor, &error) && alone {
                        set_aside(&shared, token, cursor, &error).await;
                        failures = Failures::default();
                    }
                }
            },
            Ok(None) => {
                tracing::debug!("standing by: another process judges");
                shared.duties.stands_by(Duty::Judging);
            }
            Err(error) => shared.duties.failed(Duty::Judging, &error),
        }
        let stopped = tokio::time::timeout(IDLE, shared.stopped()).await;
        if stopped.is_ok() {
            return;
        }
    }
}

async fn set_aside(shared: &Shared, token: i64, cursor: i64, error: &str) {
    let commit_no = cursor + 1;
    match shared.store.set_commit_aside(token, commit_no, ENGINE, error).await {
        Ok(()) => tracing::error!(
            commit_no,
            "set aside; `itinera set-aside retry {commit_no}` has it judged again"
        ),
        Err(error) => shared.duties.failed(Duty::Judging, &error),
    }
}

/// Judges until the service stops, or something else stops it, and holds the lease meanwhile.
async fn lead(
    shared: &Arc<Shared>,
    limits: Limits,
    token: i64,
    failures: &Failures,
) -> Result<(), Stopped> {
    tokio::select! {
        stopped = follow_log(shared, limits, token, failures) => stopped,
        stopped = keep_lease(shared, token) => stopped.map(|never| match never {}),
    }
}

/// Renews the lease until that fails.
async fn keep_lease(shared: &Shared, token: i64) -> Result<Infallible, Stopped> {
    loop {
        tokio::time::sleep(HEARTBEAT).await;
        shared.store.renew_leadership(token).await?;
    }
}

/// Where judgement stands.
struct Judging {
    shared: Arc<Shared>,
    token: i64,
    reader: LogReader,
    engine: Engine,
    /// The last commit that the engine has judged.
    cursor: i64,
    /// The last commit with effects that are written, and what is to be written up to `cursor`.
    written: i64,
    unwritten: Option<Unwritten>,
    /// Entries after `cursor` that were read already.
    ahead: Vec<LogEntry>,
    /// What is to be written with the next commits beside their own effects.
    carried_over: Gathered,
    /// When the last checkpoint was made, and the rounds judged since; absent where one is due.
    checkpoint: Option<(Instant, usize)>,
}

async fn follow_log(
    shared: &Arc<Shared>,
    limits: Limits,
    token: i64,
    failures: &Failures,
) -> Result<(), Stopped> {
    let mut follower = Follower::start(shared, limits, token, failures).await?;
    tracing::info!(cursor = follower.judging.cursor, "judging");
    shared.duties.leads(Duty::Judging);
    loop {
        if *shared.stop.borrow() {
            return follower.close().await;
        }
        shared.duties.done(Duty::Judging);
        if shared.disk.borrow().room == Room::Full {
            // Time in which nothing is entered counts as silence of no agent.
            tokio::time::sleep(IDLE).await;
            continue;
        }
        if !follower.turn(failures).await? {
            tokio::select! {
                _nothing_new = tokio::time::timeout(IDLE, shared.committed.notified()) => (),
                () = shared.stopped() => (),
            }
        }
    }
}

/// Judgement that follows the log, for the leader.
pub(crate) struct Follower {
    judging: Judging,
    limits: Limits,
    inventory: InventoryWatch,
    /// The last day that has begun in the log.
    begun: Option<Date>,
    /// When something was last entered into the log.
    logged_at: Option<OffsetDateTime>,
}

impl Follower {
    async fn start(
        shared: &Arc<Shared>,
        limits: Limits,
        token: i64,
        failures: &Failures,
    ) -> Result<Self, Stopped> {
        let judging = continue_from_checkpoint(shared, token, failures).await?;
        let begun = judging.engine.judge().now().date_time().map(OffsetDateTime::date);
        let inventory = InventoryWatch::default();
        Ok(Self { judging, limits, inventory, begun, logged_at: None })
    }

    /// Follows the log where no commit was set aside.
    pub(crate) async fn alone(
        shared: &Arc<Shared>,
        limits: Limits,
        token: i64,
    ) -> Result<Self, Stopped> {
        Self::start(shared, limits, token, &Failures::default()).await
    }

    /// Judges all that is in the log by now.
    pub(crate) async fn catch_up(&mut self) -> Result<(), Stopped> {
        while self.turn(&Failures::default()).await? {}
        Ok(())
    }

    /// Writes all that is judged, with a checkpoint: the next leader judges nothing again.
    pub(crate) async fn close(&mut self) -> Result<(), Stopped> {
        self.judging.close().await
    }

    /// Enters the time into the log where it is due, and judges the next commits; false when there
    /// are none.
    async fn turn(&mut self, failures: &Failures) -> Result<bool, Stopped> {
        let judging = &mut self.judging;
        let shared = Arc::clone(&judging.shared);
        let now = shared.clock.now();
        let known = judging.engine.judge().inventory();
        let changed = self.inventory.changed(&shared, self.limits, known).await?;
        // A clock that was set back is entered at once.
        let is_due = |at: OffsetDateTime| !(at..at + CLOCK).contains(&now);
        if changed.is_some() || self.logged_at.is_none_or(is_due) {
            let entry = changed.map_or(NewEntry::Clock, |it| NewEntry::Inventory(encode(&it)));
            shared.store.log(judging.token, entry, now).await?;
            self.logged_at = Some(now);
        }
        let cursor = judging.cursor;
        let limit = if failures.searching(cursor) { 1 } else { COMMITS_AT_ONCE };
        let mut entries = std::mem::take(&mut judging.ahead);
        if entries.is_empty() {
            let read = judging.reader.after(cursor, limit).await;
            entries = read.map_err(|error| Stopped::at(cursor, error.into()))?;
        }
        let Some(first) = entries.first() else { return Ok(false) };
        self.inventory.note_unknown(&entries, judging.engine.judge().inventory());
        let day = first.received_at.date_time().map(OffsetDateTime::date);
        let begins = |day: &Date| self.begun.is_none_or(|begun| *day > begun);
        // Before the first commit there is nothing to be kept.
        let opening = day.filter(|day| cursor > 0 && begins(day));
        let opening = opening.filter(|_| shared.disk.borrow().room == Room::Enough);
        self.begun = self.begun.max(day);
        let count = entries.len() as u64;
        judging.take(entries, opening).await?;
        shared.metrics.judged(count);
        Ok(true)
    }
}

/// Takes up judgement where the last leader left it: from its checkpoint, with what it judged after
/// that judged again. A stage that has no state of this version is rebuilt, and effects are written
/// again for such a stage alone.
async fn continue_from_checkpoint(
    shared: &Arc<Shared>,
    token: i64,
    failures: &Failures,
) -> Result<Judging, Stopped> {
    let memory = shared.store.judge_memory().await?;
    let (judged, mut cursor) = (memory.judged, memory.cursor);
    let new = |stage: Stage| !stage.is_in(&memory.checkpoint);
    let (alarms_are_new, events_are_new) = (new(Stage::Alarms), new(Stage::Events));
    let is_complete = !Stage::ALL.into_iter().any(new);
    let mut carried_over = Gathered::default();
    let engine = Engine::restored(&shared.store, memory).await;
    let (mut engine, alarms) = engine.map_err(|error| Stopped::at(cursor, error))?;
    carried_over.alarms = alarms;
    let mut reader = shared.store.log_reader();
    while cursor < judged {
        let limit = if failures.searching(cursor) { 1 } else { COMMITS_AT_ONCE };
        let entries = reader.between((cursor, judged), limit).await;
        let entries = entries.map_err(|error| Stopped::at(cursor, error.into()))?;
        let to = entries.last().map_or(judged, |last| last.commit_no);
        let effects = engine.step(entries).await;
        carried_over.take(effects.map_err(|error| Stopped::at(cursor, error))?);
        if !alarms_are_new {
            carried_over.alarms.clear();
        }
        if !events_are_new {
            carried_over.occurred.clear();
        }
        carried_over.assessed.clear();
        carried_over.evidence.clear();
        cursor = to;
    }
    let checkpoint = is_complete.then(|| (Instant::now(), 0));
    Ok(Judging {
        shared: Arc::clone(shared),
        token,
        reader,
        engine,
        cursor,
        written: cursor,
        unwritten: None,
        ahead: Vec::new(),
        carried_over,
        checkpoint,
    })
}

/// What is to be written of the last steps.
struct Unwritten {
    /// When the first of them began to wait.
    since: Instant,
    gathered: Gathered,
    to: i64,
    opening: Option<Date>,
    checkpoint: Option<Checkpoint>,
}

impl Unwritten {
    fn of(gathered: Gathered) -> Self {
        Self { since: Instant::now(), gathered, to: 0, opening: None, checkpoint: None }
    }
}

impl Judging {
    /// Judges entries and records what follows from them, or does so with later ones where these are
    /// not the last. A day that begins with them has a checkpoint of the entry before as its opening state.
    async fn take(&mut self, entries: Vec<LogEntry>, opening: Option<Date>) -> Result<(), Stopped> {
        let Some(to) = entries.last().map(|last| last.commit_no) else { return Ok(()) };
        let cursor = self.cursor;
        if opening.is_some() {
            self.close().await?;
        }
        let reports = entries.iter().filter_map(LogEntry::report);
        let rounds: usize = reports.map(|report| report.rounds.len()).sum();
        let is_behind =
            rounds >= MANY_ROUNDS || entries.len() as u64 == COMMITS_AT_ONCE.cast_unsigned();
        let is_due = |it: &mut Unwritten| it.checkpoint.is_some() || it.since.elapsed() >= GATHERED;
        let before = self.unwritten.take_if(is_due);
        let Self { shared, token, reader, engine, written, .. } = self;
        let owners = engine.owners();
        let (effects, beside) = tokio::join!(engine.step(entries), async {
            if let Some(before) = before {
                write(shared, *token, written, before, &owners).await?;
            }
            // What cannot be read now is read again, and told then.
            let ahead = if is_behind { reader.after(to, COMMITS_AT_ONCE).await.ok() } else { None };
            Ok::<_, Stopped>(ahead.unwrap_or_default())
        });
        self.ahead = beside?;
        let effects = effects.map_err(|error| Stopped::at(cursor, error))?;
        let since = self.checkpoint.map(|(at, before)| (at, before + rounds));
        let is_due = since
            .is_none_or(|(at, rounds)| at.elapsed() >= CHECKPOINT || rounds >= CHECKPOINT_ROUNDS);
        let mut checkpoint = None;
        if is_due {
            let made = self.engine.checkpoint().await;
            checkpoint = Some(made.map_err(|error| Stopped::at(cursor, error))?);
        }
        self.checkpoint = if is_due { Some((Instant::now(), 0)) } else { since };
        self.cursor = to;
        let carried_over = &mut self.carried_over;
        let new = || Unwritten::of(std::mem::take(carried_over));
        let unwritten = self.unwritten.get_or_insert_with(new);
        unwritten.gathered.take(effects);
        (unwritten.to, unwritten.checkpoint) = (to, checkpoint);
        unwritten.opening = opening.or(unwritten.opening);
        if self.ahead.is_empty() { self.write().await } else { Ok(()) }
    }

    /// Writes what is to be written, and a checkpoint: nothing need be judged again from here.
    async fn close(&mut self) -> Result<(), Stopped> {
        self.write().await?;
        let cursor = self.cursor;
        let checkpoint = self.engine.checkpoint().await;
        let checkpoint = Some(checkpoint.map_err(|error| Stopped::at(cursor, error))?);
        // A checkpoint has the stages that are new; what these write belongs to it.
        let carried_over = std::mem::take(&mut self.carried_over);
        self.unwritten = Some(Unwritten { to: cursor, checkpoint, ..Unwritten::of(carried_over) });
        self.write().await
    }

    /// Writes what is to be written.
    async fn write(&mut self) -> Result<(), Stopped> {
        let Some(unwritten) = self.unwritten.take() else { return Ok(()) };
        let owners = self.engine.owners();
        write(&self.shared, self.token, &mut self.written, unwritten, &owners).await
    }
}

async fn write(
    shared: &Shared,
    token: i64,
    written: &mut i64,
    Unwritten { gathered, to, opening, checkpoint, .. }: Unwritten,
    owners: &OwnerMap,
) -> Result<(), Stopped> {
    let from = *written;
    let write = gathered.into_write(from, to, opening, checkpoint);
    let mut correlation = ByCause::new(owners);
    let done = shared.store.commit_judgement(token, &write, &mut correlation).await;
    done.map_err(|error| Stopped::at(from, error.into()))?;
    *written = to;
    shared.change_added.notify_one();
    Ok(())
}

/// The effects of several steps, of each thing the last word.
#[derive(Default)]
struct Gathered {
    assessed: BTreeMap<(PathId, i64), (bool, Arc<Assessment>)>,
    withdrawn: Vec<(PathId, i64)>,
    /// By subject, minute and part.
    evidence: BTreeMap<(EvidenceSubject, i64, Option<i64>), Option<Vec<u8>>>,
    alarms: Vec<AlarmEffect>,
    occurred: Vec<EventEffect>,
}

impl Gathered {
    fn take(&mut self, effects: Vec<Effect>) {
        for effect in effects {
            match effect {
                Effect::Assessed { window, newest, assessment } => {
                    self.assessed.insert((assessment.path, window), (newest, assessment));
                }
                Effect::Withdrawn { path, window } => {
                    self.assessed.remove(&(path, window));
                    self.withdrawn.push((path, window));
                }
                Effect::Evidence { subject, minute, part, content } => {
                    self.evidence.insert((subject, minute, part), content);
                }
                Effect::Alarm(alarm) => self.alarms.push(alarm),
                Effect::Event(event) => self.occurred.push(event),
            }
        }
    }

    fn into_write(
        self,
        from: i64,
        to: i64,
        opening: Option<Date>,
        checkpoint: Option<Checkpoint>,
    ) -> JudgeWrite {
        let assessed = self.assessed.into_iter();
        let evidence = self.evidence.into_iter();
        let evidence = evidence.map(|((subject, minute, part), content)| EvidenceWrite {
            subject,
            minute,
            part,
            content,
        });
        JudgeWrite {
            from,
            to,
            opening,
            checkpoint,
            withdrawn: self.withdrawn,
            evidence: evidence.collect(),
            assessed: assessed.map(|((_, window), (newest, it))| (window, newest, it)).collect(),
            alarms: last_figures(self.alarms),
            occurred: self.occurred,
        }
    }
}

/// Changes of alarms without figures that later ones of the same write replace. Changes of state or severity
/// stay, since they belong to the history.
fn last_figures(alarms: Vec<AlarmEffect>) -> Vec<AlarmEffect> {
    let mut later: BTreeMap<AlarmKey, (Severity, Option<WallTime>)> = BTreeMap::new();
    let mut kept = Vec::with_capacity(alarms.len());
    for effect in alarms.into_iter().rev() {
        if let AlarmEffect::Changed { alarm, .. } = &effect {
            let state = (alarm.severity, alarm.no_data_since);
            if later.insert(alarm.key, state) == Some(state) {
                continue;
            }
        } else {
            later.remove(&effect.key());
        }
        kept.push(effect);
    }
    kept.reverse();
    kept
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Config, Service, testing};
    use itinera_store::Store;
    use itinera_store::cluster::Cluster;
    use std::os::unix::fs::PermissionsExt;

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn a_service_that_stops_leaves_nothing_to_be_judged_again() {
        let place = tempfile::tempdir().unwrap();
        std::fs::set_permissions(place.path(), PermissionsExt::from_mode(0o755)).unwrap();
        let cluster = Cluster::start(place.path()).await.unwrap();
        let url = Cluster::url_in(place.path());
        let listen = "listen = \"127.0.0.1:0\"\nlisten_agents = \"127.0.0.1:0\"";
        let text = format!("database = \"{url}\"\n{listen}\n{}", testing::PLAN);
        let mut config = Config::parse(&text).unwrap();
        config.data = place.path().join("data");
        let service = Service::start(&config, |_| ()).await.unwrap();
        let store = Store::open(&url).await.unwrap();
        let now = OffsetDateTime::now_utc();
        let (agent, paths) = testing::join(&store, now).await;
        let mut seen = None;
        let all_judged = async {
            // The first step makes a checkpoint anyway; the second is too soon after it for another one.
            for seq in 0..2 {
                let batch = testing::batch(agent, &paths, seq, now);
                store.commit_batch(agent, &batch, now).await.unwrap();
                while store.status_counts().await.unwrap().unjudged_commits > 0 {
                    tokio::task::yield_now().await;
                }
            }
            seen = Some(store.judge_memory().await.unwrap());
        };
        service.run(all_judged).await.unwrap();
        let seen = seen.unwrap();
        assert!(
            seen.cursor < seen.judged,
            "nothing would have to be judged again anyway: {seen:?}"
        );
        let memory = store.judge_memory().await.unwrap();
        assert!(memory.judged >= seen.judged && memory.cursor == memory.judged, "{memory:?}");
        assert_eq!(memory.checkpoint.minutes.len(), paths.len());
        cluster.stop().await.unwrap();
    }

    #[test]
    fn what_is_withdrawn_before_it_is_written_is_not_written() {
        let path = PathId::from_uuid(uuid::Uuid::from_u128(7));
        let assessment = Arc::new(Assessment {
            path,
            until: WallTime::from_unix_micros(0),
            span_s: 60,
            rounds: 6,
            end_sent: 18,
            end_lost: 0,
            engine: 1,
            mapping: 0,
            hops: Vec::new(),
            finding: None,
        });
        let assessed =
            |window| Effect::Assessed { window, newest: true, assessment: Arc::clone(&assessment) };
        let mut gathered = Gathered::default();
        gathered.take(vec![assessed(1), assessed(90)]);
        gathered.take(vec![Effect::Withdrawn { path, window: 90 }, assessed(2)]);
        let write = gathered.into_write(3, 4, None, None);
        let windows: Vec<i64> = write.assessed.iter().map(|(window, ..)| *window).collect();
        assert_eq!((windows, write.withdrawn), (vec![1, 2], vec![(path, 90)]));
    }

    #[test]
    fn only_the_last_figures_of_an_alarm_are_written_and_every_state() {
        let alarm = |loss_ppm, severity| {
            let mut alarm = testing::alarm();
            (alarm.loss_ppm, alarm.severity) = (loss_ppm, severity);
            alarm
        };
        let at = WallTime::from_unix_seconds(0);
        let changed = |loss_ppm, severity| {
            let alarm = alarm(loss_ppm, severity);
            AlarmEffect::Changed { alarm, at }
        };
        let key = alarm(0, Severity::Minor).key;
        let all = vec![
            AlarmEffect::Raised(alarm(1, Severity::Minor)),
            changed(2, Severity::Minor),
            changed(3, Severity::Minor),
            changed(4, Severity::Major),
            changed(5, Severity::Major),
            AlarmEffect::Cleared { key, at },
            AlarmEffect::RaisedAgain { alarm: alarm(6, Severity::Major), at },
            changed(7, Severity::Major),
        ];
        let kept = [0, 2, 4, 5, 6, 7].map(|index: usize| all[index].clone());
        assert_eq!(last_figures(all), kept);
    }

    #[test]
    fn the_failing_commit_is_searched_alone_and_borne_three_times() {
        let mut failures = Failures::default();
        assert!(!failures.searching(7));
        assert!(!failures.count(7, "unreadable hops"), "of up to 64 commits");
        assert!(failures.searching(7) && failures.searching(7 + 40) && !failures.searching(6));
        assert!(!failures.count(30, "unreadable hops"), "it is the thirty-first");
        assert!(!failures.count(30, "another error"), "not the same error");
        assert!(!failures.count(30, "another error"));
        assert!(failures.count(30, "another error"));
    }
}
