//! Judges the log again and compares findings, alarms and events with what is recorded.

use crate::engine::{Engine, EngineError};
use itinera_analysis::{ENGINE, Effect, Judge, Stage};
use itinera_model::alarm::{Alarm, AlarmEffect};
use itinera_model::codec::encode;
use itinera_model::event::{Event, EventEffect};
use itinera_model::finding::Finding;
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;
use itinera_store::{JudgeMemory, Store, StoreError};
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use time::Date;

/// Entries judged at once.
const AT_ONCE: i64 = 256;
/// Differences named at most.
const NAMED: usize = 10;

/// The outcome of a recomputation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Recomputation {
    /// Version of the judging engine.
    pub engine: u16,
    /// Commits read.
    pub commits: u64,
    /// Rounds read.
    pub rounds: u64,
    /// Findings.
    pub findings: Compared,
    /// Alarms.
    pub alarms: Compared,
    /// Events.
    pub events: Compared,
}

/// What is recorded of one kind, beside what was recomputed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Compared {
    /// Number recorded.
    pub recorded: u64,
    /// Number recomputed.
    pub recomputed: u64,
    /// Digest of what is recorded, as hexadecimal SHA-256.
    pub recorded_sha256: String,
    /// Digest of what was recomputed.
    pub recomputed_sha256: String,
    /// The first differences, at most ten.
    pub differences: Vec<String>,
}

impl Compared {
    fn of(recorded: &BTreeMap<Vec<u8>, String>, recomputed: &BTreeMap<Vec<u8>, String>) -> Self {
        let either: BTreeSet<&Vec<u8>> = recorded.keys().chain(recomputed.keys()).collect();
        let differ = either.into_iter().filter_map(|content| {
            match (recorded.get(content), recomputed.get(content)) {
                (Some(name), None) => Some(format!("recorded only: {name}")),
                (None, Some(name)) => Some(format!("recomputed only: {name}")),
                _ => None,
            }
        });
        let count = |all: &BTreeMap<Vec<u8>, String>| u64::try_from(all.len()).unwrap_or(u64::MAX);
        Self {
            recorded: count(recorded),
            recomputed: count(recomputed),
            recorded_sha256: digest(recorded),
            recomputed_sha256: digest(recomputed),
            differences: differ.take(NAMED).collect(),
        }
    }

    /// True when both are the same.
    pub fn agrees(&self) -> bool {
        self.recorded_sha256 == self.recomputed_sha256
    }
}

impl Recomputation {
    /// True when all that is recorded was recomputed, and nothing else.
    pub fn agrees(&self) -> bool {
        [&self.findings, &self.alarms, &self.events].into_iter().all(Compared::agrees)
    }
}

fn digest(all: &BTreeMap<Vec<u8>, String>) -> String {
    let mut hasher = Sha256::new();
    for content in all.keys() {
        hasher.update(content.len().to_be_bytes());
        hasher.update(content);
    }
    hasher.finalize().iter().map(|octet| format!("{octet:02x}")).collect()
}

/// Why nothing can be recomputed.
#[derive(Debug, thiserror::Error)]
pub enum RecomputeError {
    /// The database is away or cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// An entry of the log cannot be judged.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// The beginning is not kept any more.
    #[error(
        "the log begins at commit {first}, and no opening state of engine {ENGINE} is kept: \
         days can be recomputed from the next midnight (UTC) on"
    )]
    NoOpening {
        /// The first commit that is kept.
        first: i64,
    },
    /// There is no opening state of this day.
    #[error("no opening state of engine {ENGINE} is kept for {0}")]
    NoDay(Date),
}

/// Where a recomputation begins.
async fn beginning(store: &Store, day: Option<Date>) -> Result<JudgeMemory, RecomputeError> {
    let first = store.first_commit().await?.unwrap_or(1);
    if day.is_none() && first == 1 {
        return Ok(JudgeMemory::default());
    }
    let (stage, version) = (Stage::Findings.name(), Stage::Findings.version());
    let opening = store.opening_memory(day, (stage, version)).await?;
    let nothing = || day.map_or(RecomputeError::NoOpening { first }, RecomputeError::NoDay);
    opening.map(|(_, memory)| memory).ok_or_else(nothing)
}

/// The one that has not ended, where there is one.
fn open<T>(
    all: &mut [(T, Option<WallTime>)],
    is: impl Fn(&T) -> bool,
) -> Option<&mut (T, Option<WallTime>)> {
    all.iter_mut().find(|(it, ended)| ended.is_none() && is(it))
}

/// Alarms and events as the effects of judgement leave them, with when they ended.
struct Replayed {
    /// What had ended by then is left out.
    from: WallTime,
    alarms: Vec<(Alarm, Option<WallTime>)>,
    events: Vec<(Event, Option<WallTime>)>,
}

impl Replayed {
    /// Those that the judge knows.
    fn of(judge: &Judge, from: WallTime) -> Self {
        let past = judge.book().past().map(|(alarm, at)| (alarm.clone(), Some(at)));
        let open = judge.book().open().iter().map(|alarm| (alarm.clone(), None));
        let lasting = judge.watcher().lasting().iter().map(|event| (event.clone(), None));
        Self { from, alarms: past.chain(open).collect(), events: lasting.collect() }
    }

    fn take_alarm(&mut self, effect: AlarmEffect) {
        match effect {
            AlarmEffect::Raised(alarm) => self.alarms.push((alarm, None)),
            AlarmEffect::Recorded { alarm, cleared_at } => {
                self.alarms.push((alarm, Some(cleared_at)));
            }
            AlarmEffect::RaisedAgain { alarm, .. } => self.replace_ended(alarm, None),
            AlarmEffect::Corrected { alarm, cleared_at } => {
                self.replace_ended(alarm, Some(cleared_at));
            }
            AlarmEffect::Changed { alarm, .. } => {
                if let Some(known) = open(&mut self.alarms, |known| known.key == alarm.key) {
                    known.0 = alarm;
                }
            }
            AlarmEffect::Cleared { key, at } => {
                if let Some(known) = open(&mut self.alarms, |known| known.key == key) {
                    known.1 = Some(at);
                }
            }
        }
    }

    /// Replaces an alarm that had ended, by its key and the time at which it was raised.
    fn replace_ended(&mut self, alarm: Alarm, ended: Option<WallTime>) {
        let known = self.alarms.iter_mut().find(|(known, ended)| {
            ended.is_some() && (known.key, known.raised_at) == (alarm.key, alarm.raised_at)
        });
        if let Some(known) = known {
            *known = (alarm, ended);
        }
    }

    fn take_event(&mut self, effect: EventEffect) {
        match effect {
            EventEffect::Occurred(event) => {
                let at = event.raised_at;
                self.events.push((event, Some(at)));
            }
            EventEffect::Began(event) => self.events.push((event, None)),
            EventEffect::Changed { event, .. } => {
                if let Some(known) = open(&mut self.events, |known| known.key == event.key) {
                    known.0 = event;
                }
            }
            EventEffect::Ended { key, at } => {
                if let Some(known) = open(&mut self.events, |known| known.key == key) {
                    known.1 = Some(at);
                }
            }
        }
    }

    /// The contents of alarms by their encoding, each with a name.
    fn alarms_of(&self, alarms: &[(Alarm, Option<WallTime>)]) -> BTreeMap<Vec<u8>, String> {
        let counts = |(alarm, ended): &&(Alarm, Option<WallTime>)| {
            let known_at = alarm.recorded_at.unwrap_or(alarm.raised_at);
            known_at > self.from || ended.is_none_or(|ended| ended > self.from)
        };
        let named = |it: &(Alarm, Option<WallTime>)| {
            let (alarm, _) = it;
            let name = format!("{:?} of {:?}", alarm.key.cause, alarm.key.place);
            (encode(it), raised(&name, alarm.raised_at))
        };
        alarms.iter().filter(counts).map(named).collect()
    }

    /// The contents of events by their encoding, each with a name.
    fn events_of(&self, events: &[(Event, Option<WallTime>)]) -> BTreeMap<Vec<u8>, String> {
        let counts = |(event, ended): &&(Event, Option<WallTime>)| {
            event.raised_at > self.from || ended.is_none_or(|ended| ended > self.from)
        };
        let named = |it: &(Event, Option<WallTime>)| {
            let (event, _) = it;
            let name = format!("{} at {}", event.key.kind, event.key.agent);
            (encode(it), raised(&name, event.raised_at))
        };
        events.iter().filter(counts).map(named).collect()
    }
}

fn raised(name: &str, at: WallTime) -> String {
    at.date_time().map_or_else(|| name.to_owned(), |at| format!("{name}, raised {at}"))
}

fn findings_of<'a>(
    findings: impl Iterator<Item = (&'a (PathId, i64), &'a Finding)>,
) -> BTreeMap<Vec<u8>, String> {
    let named = |(key, finding): (&(PathId, i64), &Finding)| {
        (encode(&(key, finding)), format!("path {} at window {}", key.0, key.1))
    };
    findings.map(named).collect()
}

/// Reads the log from its beginning, from the opening state of a day, or of the first day that is
/// kept, up to where judgement has come, and judges it again. `progress` hears of the commits read so
/// far.
///
/// # Errors
/// [`RecomputeError`] when the database is unavailable or unreadable, or no state to begin with is kept.
pub async fn recompute(
    store: &Store,
    day: Option<Date>,
    mut progress: impl FnMut(u64),
) -> Result<Recomputation, RecomputeError> {
    let memory = beginning(store, day).await?;
    let mut cursor = memory.cursor;
    let mut engine = match cursor {
        0 => Engine::new(store),
        _ => Engine::restored(store, memory).await?.0,
    };
    let mut reader = store.log_reader();
    let recorded = store.recorded().await?;
    let (from, from_window) = match cursor {
        0 => (WallTime::from_unix_micros(i64::MIN), i64::MIN),
        _ => (engine.judge().now(), engine.judge().newest_window().unwrap_or(i64::MIN)),
    };
    let mut replayed = Replayed::of(engine.judge(), from);
    // What was said last of each window that was judged.
    let mut said: BTreeMap<(PathId, i64), Option<Finding>> = BTreeMap::new();
    let (mut commits, mut rounds) = (0u64, 0u64);
    while cursor < recorded.judged {
        let entries = reader.between((cursor, recorded.judged), AT_ONCE).await?;
        let Some(last) = entries.last() else { break };
        cursor = last.commit_no;
        commits += entries.len() as u64;
        let reports = entries.iter().filter_map(|entry| entry.report());
        rounds += reports.map(|report| report.rounds.len() as u64).sum::<u64>();
        for effect in engine.step(entries).await? {
            match effect {
                Effect::Assessed { window, assessment, .. } => {
                    said.insert((assessment.path, window), assessment.finding.clone());
                }
                Effect::Withdrawn { .. } | Effect::Evidence { .. } => {}
                Effect::Alarm(effect) => replayed.take_alarm(effect),
                Effect::Event(effect) => replayed.take_event(effect),
            }
        }
        progress(commits);
    }
    // Those before the beginning were found by what is not kept.
    let known: BTreeMap<(PathId, i64), Finding> = recorded
        .findings
        .into_iter()
        .map(|(path, window, finding)| ((path, window), finding))
        .filter(|(key, _)| key.1 > from_window || said.contains_key(key))
        .collect();
    let found = said.iter().filter_map(|(key, finding)| Some((key, finding.as_ref()?)));
    Ok(Recomputation {
        engine: ENGINE,
        commits,
        rounds,
        findings: Compared::of(&findings_of(known.iter()), &findings_of(found)),
        alarms: Compared::of(
            &replayed.alarms_of(&recorded.alarms),
            &replayed.alarms_of(&replayed.alarms),
        ),
        events: Compared::of(
            &replayed.events_of(&recorded.events),
            &replayed.events_of(&replayed.events),
        ),
    })
}
