//! Judgement as it runs: follows the log of commits while it holds the lease.
//!
//! The engine computes on threads of its own, so that a long step delays neither requests nor the
//! renewal of the lease.

use crate::context::Shared;
use crate::duty::Duty;
use crate::events::Events;
use itinera_analysis::{
    ENGINE, Effect, Judge, JudgeInput, JudgeState, Limits, Observation, Window, incident,
};
use itinera_model::alarm::AlarmEffect;
use itinera_model::codec::{DecodeError, decode, encode};
use itinera_model::event::{EventEffect, Fault};
use itinera_model::id::{IncidentId, PathId};
use itinera_store::{JudgeMemory, JudgeWrite, LogEntry, LoggedRound, StoreError, StoredWindow};
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::{Duration, Instant};
use time::{Date, OffsetDateTime};

/// Commits judged in one transaction at most.
const COMMITS_AT_ONCE: i64 = 64;
/// How long nothing may happen before the log is looked at again.
const IDLE: Duration = Duration::from_secs(1);
/// How often the time is entered into the log.
const CLOCK: Duration = Duration::from_secs(5);
/// Interval between renewals of the lease, well below its time.
const HEARTBEAT: Duration = Duration::from_secs(1);

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
enum Stopped {
    /// The database is away, or another process leads.
    Store(StoreError),
    /// The commits after this one cannot be judged; the memory is not to be used any more.
    Unjudgeable(i64, String),
    /// A commit that was tried again failed again: begin with what is recorded.
    RetryFailed,
}

impl Stopped {
    /// What an error while the commits after `cursor` are judged means.
    fn at(cursor: i64, error: StoreError) -> Self {
        if error.may_pass() {
            Self::Store(error)
        } else {
            Self::Unjudgeable(cursor, error.with_causes())
        }
    }
}

impl From<StoreError> for Stopped {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

/// Judges for ever: leads when no other process does, stands by otherwise.
pub(crate) async fn judge_commits(shared: Arc<Shared>, limits: Limits) {
    let mut failures = Failures::default();
    loop {
        match shared.store.lead_judgement(shared.process).await {
            Ok(Some(token)) => match lead(&shared, limits, token, &failures).await {
                Stopped::Store(StoreError::Fenced) => {
                    tracing::warn!("another process judges now");
                    shared.duties.stands_by(Duty::Judging);
                }
                Stopped::Store(error) => shared.duties.failed(Duty::Judging, &error),
                Stopped::RetryFailed => {}
                Stopped::Unjudgeable(cursor, error) => {
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
        tokio::time::sleep(IDLE).await;
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

/// Judges until something stops it, and holds the lease meanwhile.
async fn lead(shared: &Shared, limits: Limits, token: i64, failures: &Failures) -> Stopped {
    let stopped = tokio::select! {
        stopped = follow_log(shared, limits, token, failures) => stopped,
        stopped = keep_lease(shared, token) => stopped,
    };
    match stopped {
        Err(stopped) => stopped,
        Ok(never) => match never {},
    }
}

/// Renews the lease until that fails.
async fn keep_lease(shared: &Shared, token: i64) -> Result<Infallible, Stopped> {
    loop {
        tokio::time::sleep(HEARTBEAT).await;
        shared.store.renew_leadership(token).await?;
    }
}

/// Computes off the async runtime.
///
/// # Errors
/// [`Stopped::Unjudgeable`] for the commits after `cursor` where it panics.
async fn compute<T: Send + 'static>(
    cursor: i64,
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, Stopped> {
    let panicked = "judgement panicked: the log has its message";
    let done = tokio::task::spawn_blocking(work).await;
    done.map_err(|_| Stopped::Unjudgeable(cursor, panicked.to_owned()))
}

async fn follow_log(
    shared: &Shared,
    limits: Limits,
    token: i64,
    failures: &Failures,
) -> Result<Infallible, Stopped> {
    let memory = shared.store.judge_memory().await?;
    let mut cursor = memory.cursor;
    let events = Events::restored(shared, &memory.events).await?;
    let mut inherited = left_by_another_engine(shared, &memory).await?;
    let judge = compute(cursor, move || remembered(memory, limits)).await??;
    let mut engines = Engines { judge, events };
    tracing::info!(cursor, "judging");
    shared.duties.leads(Duty::Judging);
    let mut opened = shared.store.last_opening().await?;
    let mut logged_at: Option<Instant> = None;
    loop {
        shared.duties.done(Duty::Judging);
        if logged_at.is_none_or(|at| at.elapsed() >= CLOCK) {
            shared.store.log_time(token, shared.clock.now()).await?;
            logged_at = Some(Instant::now());
        }
        if let Some(commit_no) = shared.store.commit_to_retry().await? {
            retry(shared, token, cursor, commit_no, &mut engines).await?;
        }
        let limit = if failures.searching(cursor) { 1 } else { COMMITS_AT_ONCE };
        let entries = shared.store.log_after(cursor, limit).await;
        let entries = entries.map_err(|error| Stopped::at(cursor, error))?;
        let (Some(first), Some(last)) = (entries.first(), entries.last()) else {
            let _nothing_new = tokio::time::timeout(IDLE, shared.committed.notified()).await;
            continue;
        };
        let to = last.commit_no;
        let day = first.received_at.date_time().map(OffsetDateTime::date);
        let opening = day.filter(|day| opened.is_none_or(|opened| *day > opened));
        opened = opened.max(opening);
        let (count, gathered) = (entries.len() as u64, std::mem::take(&mut inherited));
        let span = Span { from: cursor, to, opening, retried: None };
        let work = Work { entries, span, gathered };
        judge_entries(shared, token, work, &mut engines).await?;
        shared.metrics.judged(count);
        cursor = to;
    }
}

/// Judges a commit that had been set aside. When it fails again, it stays there.
async fn retry(
    shared: &Shared,
    token: i64,
    cursor: i64,
    commit_no: i64,
    engines: &mut Engines,
) -> Result<(), Stopped> {
    let judged = match shared.store.log_entry(commit_no).await {
        Ok(entry) => {
            let retried = Some(commit_no);
            let span = Span { from: cursor, to: cursor, opening: None, retried };
            let work = Work { entries: vec![entry], span, gathered: Gathered::default() };
            judge_entries(shared, token, work, engines).await
        }
        Err(error) => Err(Stopped::at(cursor, error)),
    };
    match judged {
        Err(Stopped::Unjudgeable(_, error)) => {
            shared.store.retry_failed(commit_no, &error).await?;
            tracing::error!(commit_no, error, "stays set aside");
            Err(Stopped::RetryFailed)
        }
        judged => judged,
    }
}

/// What judges, with its memory.
struct Engines {
    judge: Judge,
    events: Events,
}

/// What is judged in one transaction.
struct Work {
    entries: Vec<LogEntry>,
    span: Span,
    gathered: Gathered,
}

/// Where in the log that is.
#[derive(Clone, Copy)]
struct Span {
    /// The cursor before.
    from: i64,
    /// The cursor after.
    to: i64,
    /// The day that begins with this.
    opening: Option<Date>,
    /// The commit that is no longer set aside when this is recorded.
    retried: Option<i64>,
}

async fn judge_entries(
    shared: &Shared,
    token: i64,
    work: Work,
    engines: &mut Engines,
) -> Result<(), Stopped> {
    let Work { entries, span, mut gathered } = work;
    let from = span.from;
    let (map, _) = shared.owner_map_at(OffsetDateTime::now_utc()).await?;
    // The judge is away while it computes; after a panic it is not used any more.
    let mut judge = std::mem::take(&mut engines.judge);
    let stepped = compute(from, move || {
        let effects: Vec<_> = entries.iter().map(|entry| step(&mut judge, entry)).collect();
        (judge, entries, effects)
    });
    let (judge, entries, effects) = stepped.await?;
    for (entry, effects) in entries.iter().zip(&effects) {
        let occurred = engines.events.step(shared, entry, effects, &map).await;
        gathered.occurred.extend(occurred.map_err(|error| Stopped::at(from, error))?);
    }
    let events = encode(engines.events.watcher());
    let written = compute(from, move || {
        effects.into_iter().for_each(|effects| gathered.take(effects));
        let write = gathered.into_write(&judge, events, span);
        (judge, write)
    });
    let (judge, write) = written.await?;
    engines.judge = judge;
    let fold = |fault: &Fault, open: &[(IncidentId, Vec<Fault>)]| incident::fold(fault, open, &map);
    let written = shared.store.commit_judgement(token, &write, &fold).await;
    written.map_err(|error| Stopped::at(from, error))?;
    shared.change_added.notify_one();
    Ok(())
}

/// A stored round as judgement takes it.
pub(crate) fn observation(round: &LoggedRound) -> Observation<'_> {
    Observation {
        path: round.path,
        measured_at: round.measured_at,
        number: round.number,
        source: round.source,
        route: round.route_id,
        addresses: &round.route.hops,
        hops: &round.hops,
        stamps: round.stamps,
        lateness: round.lateness,
    }
}

/// One entry of the log, judged at its time.
pub(crate) fn step(judge: &mut Judge, entry: &LogEntry) -> Vec<Effect> {
    let observations: Vec<Observation<'_>> = entry.rounds.iter().map(observation).collect();
    let input = match entry.agent {
        Some(_) => JudgeInput::Rounds(&observations),
        None => JudgeInput::Clock,
    };
    judge.step(input, entry.received_at)
}

/// What is done with another engine's memory: its windows are dropped and its alarms cleared with
/// this engine's first words. What is still wrong is raised again, into the same incident.
async fn left_by_another_engine(
    shared: &Shared,
    memory: &JudgeMemory,
) -> Result<Gathered, StoreError> {
    let mut left = Gathered::default();
    if memory.engine == ENGINE {
        return Ok(left);
    }
    left.windows = memory.windows.iter().map(|old| ((old.path, old.window), None)).collect();
    let at = shared.clock.wall_now();
    let open = shared.store.alarms(true, None, u64::from(u16::MAX)).await?;
    let cleared = open.iter().map(|old| AlarmEffect::Cleared { key: old.alarm.key, at });
    left.alarms = cleared.collect();
    Ok(left)
}

pub(crate) fn remembered(memory: JudgeMemory, limits: Limits) -> Result<Judge, StoreError> {
    let corrupt = |error: DecodeError| {
        tracing::error!(%error, "what judgement remembered cannot be read");
        StoreError::Corrupt { what: "memory of judgement" }
    };
    if memory.engine != ENGINE {
        // Nothing yet, or another engine's memory, which this one cannot go on from.
        return Ok(Judge::new(limits));
    }
    let state: JudgeState = decode(&memory.state).map_err(corrupt)?;
    let windows = memory.windows.into_iter().map(|stored| {
        let content: Window = decode(&stored.content).map_err(corrupt)?;
        Ok((stored.path, stored.window, stored.source, content))
    });
    let windows = windows.collect::<Result<Vec<_>, StoreError>>()?;
    Ok(Judge::restored(state.with_limits(limits), windows))
}

/// The effects of several steps, of each thing the last word.
#[derive(Default)]
struct Gathered {
    windows: BTreeMap<(PathId, i64), Option<StoredWindow>>,
    assessed: BTreeMap<(PathId, i64), (bool, itinera_model::finding::Assessment)>,
    alarms: Vec<AlarmEffect>,
    occurred: Vec<EventEffect>,
}

impl Gathered {
    fn take(&mut self, effects: Vec<Effect>) {
        for effect in effects {
            match effect {
                Effect::WindowChanged { path, window, source, content } => {
                    let content = encode(&content);
                    let stored = StoredWindow { path, window, source, content };
                    self.windows.insert((path, window), Some(stored));
                }
                Effect::WindowDropped { path, window } => {
                    self.windows.insert((path, window), None);
                }
                Effect::Assessed { window, newest, assessment } => {
                    self.assessed.insert((assessment.path, window), (newest, *assessment));
                }
                Effect::Alarm(alarm) => self.alarms.push(alarm),
            }
        }
    }

    fn into_write(
        self,
        judge: &Judge,
        events: Vec<u8>,
        Span { from, to, opening, retried }: Span,
    ) -> JudgeWrite {
        let dropped = self.windows.iter().filter(|(_, content)| content.is_none());
        let dropped = dropped.map(|(key, _)| *key).collect();
        let assessed = self.assessed.into_iter();
        JudgeWrite {
            from,
            to,
            opening,
            retried,
            engine: ENGINE,
            state: encode(judge.state()),
            events,
            windows: self.windows.into_values().flatten().collect(),
            dropped,
            assessed: assessed.map(|((_, window), (newest, a))| (window, newest, a)).collect(),
            alarms: self.alarms,
            occurred: self.occurred,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
