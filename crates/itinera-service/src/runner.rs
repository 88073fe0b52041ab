//! Judgement as it runs: follows the log of commits while it holds the lease.

use crate::happening::Happening;
use crate::server::Shared;
use itinera_analysis::{AlarmBook, ENGINE, Effect, Judge, Limits, Observation, Window, incident};
use itinera_model::alarm::AlarmEffect;
use itinera_model::batch::{DecodeError, decode, encode};
use itinera_model::event::{EventEffect, Trouble};
use itinera_model::id::{IncidentId, PathId};
use itinera_store::{JudgeMemory, JudgeWrite, LogEntry, LoggedRound, StoreError, StoredWindow};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use time::OffsetDateTime;
use uuid::Uuid;

/// Commits judged in one transaction at most.
const COMMITS_AT_ONCE: i64 = 64;
/// How long nothing may happen before the lease is renewed and the log looked at again.
const IDLE: Duration = Duration::from_secs(1);

/// Judges for ever: leads when nobody does, stands by otherwise.
pub(crate) async fn judge_commits(shared: Arc<Shared>, limits: Limits) {
    let me = Uuid::now_v7();
    loop {
        match shared.store.lead_judgement(me).await {
            Ok(Some(token)) => match lead(&shared, limits, token).await {
                Ok(()) => {}
                Err(StoreError::Fenced) => tracing::warn!("another process judges now"),
                Err(error) => {
                    let cause = std::error::Error::source(&error).map(ToString::to_string);
                    tracing::error!(%error, cause, "judgement is interrupted");
                }
            },
            Ok(None) => tracing::debug!("standing by: another process judges"),
            Err(error) => tracing::error!(%error, "judgement cannot begin"),
        }
        tokio::time::sleep(IDLE).await;
    }
}

async fn lead(shared: &Shared, limits: Limits, token: i64) -> Result<(), StoreError> {
    *shared.lease.lock().await = Some(token);
    let memory = shared.store.judge_memory().await?;
    let mut cursor = memory.cursor;
    let mut happening = Happening::restored(shared, &memory.events).await?;
    let mut inherited = left_by_another_engine(shared, &memory).await?;
    let mut judge = remembered(memory, limits)?;
    tracing::info!(cursor, "judging");
    loop {
        let entries = shared.store.log_after(cursor, COMMITS_AT_ONCE).await?;
        let Some(last) = entries.last() else {
            shared.store.renew_leadership(token).await?;
            let _nothing_new = tokio::time::timeout(IDLE, shared.committed.notified()).await;
            continue;
        };
        let to = last.commit_no;
        let mut gathered = std::mem::take(&mut inherited);
        let (map, _) = shared.owner_map_at(OffsetDateTime::now_utc()).await?;
        for entry in &entries {
            let effects = step(&mut judge, entry);
            gathered.happened.extend(happening.step(shared, entry, &effects, &map).await?);
            gathered.take(effects);
        }
        let fold = |trouble: &Trouble, open: &[(IncidentId, Vec<Trouble>)]| {
            incident::fold(trouble, open, &map)
        };
        let write = gathered.into_write(&judge, &happening, cursor, to);
        shared.store.commit_judgement(token, &write, &fold).await?;
        shared.news.notify_one();
        shared.metrics.judged(entries.len() as u64);
        cursor = to;
    }
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

/// One commit's observations, judged at its time of receipt.
pub(crate) fn step(judge: &mut Judge, entry: &LogEntry) -> Vec<Effect> {
    let observations: Vec<Observation<'_>> = entry.rounds.iter().map(observation).collect();
    judge.step(&observations, entry.received_at)
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
    let at = crate::server::now();
    let open = shared.store.alarms(true, None, u64::from(u16::MAX)).await?;
    let cleared = open.iter().map(|old| AlarmEffect::Cleared { key: old.alarm.key, at });
    left.alarms = cleared.collect();
    Ok(left)
}

fn remembered(memory: JudgeMemory, limits: Limits) -> Result<Judge, StoreError> {
    let corrupt = |error: DecodeError| {
        tracing::error!(%error, "what judgement remembered cannot be read");
        StoreError::Corrupt { what: "memory of judgement" }
    };
    if memory.engine != ENGINE {
        // Nothing yet, or another engine's memory, which this one cannot go on from.
        return Ok(Judge::new(limits));
    }
    let book: AlarmBook = decode(&memory.book).map_err(corrupt)?;
    let windows = memory.windows.into_iter().map(|stored| {
        let content: Window = decode(&stored.content).map_err(corrupt)?;
        Ok((stored.path, stored.window, stored.source, content))
    });
    let windows = windows.collect::<Result<Vec<_>, StoreError>>()?;
    Ok(Judge::restored(book.with_limits(limits), windows))
}

/// The effects of several steps, of each thing the last word.
#[derive(Default)]
struct Gathered {
    windows: BTreeMap<(PathId, i64), Option<StoredWindow>>,
    assessed: BTreeMap<(PathId, i64), (bool, itinera_model::finding::Assessment)>,
    alarms: Vec<AlarmEffect>,
    happened: Vec<EventEffect>,
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

    fn into_write(self, judge: &Judge, happening: &Happening, from: i64, to: i64) -> JudgeWrite {
        let dropped = self.windows.iter().filter(|(_, content)| content.is_none());
        let dropped = dropped.map(|(key, _)| *key).collect();
        let assessed = self.assessed.into_iter();
        JudgeWrite {
            from,
            to,
            engine: ENGINE,
            book: encode(judge.book()),
            events: encode(happening.watcher()),
            windows: self.windows.into_values().flatten().collect(),
            dropped,
            assessed: assessed.map(|((_, window), (newest, a))| (window, newest, a)).collect(),
            alarms: self.alarms,
            happened: self.happened,
        }
    }
}
