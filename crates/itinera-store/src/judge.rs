//! Judgement's memory and what it says, written in one transaction with its cursor and its
//! fencing token.

use crate::alarms;
use crate::change_feed;
use crate::compute::compute;
use crate::correlation::{Correlation, Incidents};
use crate::events;
use crate::evidence::{self, EvidenceWrite};
use crate::lease::renew_lease;
use crate::notices::{self, Touched};
use crate::packing::Packing;
use crate::set_aside;
use crate::statement::sql;
use crate::timeline::hold_alarms;
use crate::times::offset;
use crate::{Store, StoreError, rows};
use itinera_model::alarm::{Alarm, AlarmClass, AlarmEffect};
use itinera_model::checkpoint::{Checkpoint, StageState, StoredMinute};
use itinera_model::event::{Event, EventEffect};
use itinera_model::finding::{Assessment, Finding};
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{AccessMode, DatabaseTransaction, IsolationLevel, TransactionTrait};
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::sync::Arc;
use time::{Date, OffsetDateTime};

/// What judgement recorded when it last committed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct JudgeMemory {
    /// The last commit that is judged.
    pub judged: i64,
    /// The last commit that the checkpoint knows: those from it to the last that is judged are to be
    /// judged again, to the same end.
    pub cursor: i64,
    /// The checkpoint.
    pub checkpoint: Checkpoint,
}

/// What a judge wants recorded after judging the commits from one cursor to another.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct JudgeWrite {
    /// Cursor before.
    pub from: i64,
    /// Cursor after.
    pub to: i64,
    /// The day that begins with this: the last checkpoint is kept as its opening state, where it was
    /// made at the cursor before.
    pub opening: Option<Date>,
    /// What differs from the checkpoint before, where this is one.
    pub checkpoint: Option<Checkpoint>,
    /// Windows that are not the newest of their paths any more, as a wrong clock had dated them.
    pub withdrawn: Vec<(PathId, i64)>,
    /// Evidence, of each minute and part the last word.
    pub evidence: Vec<EvidenceWrite>,
    /// Windows judged, perhaps again: path, window, whether it is the newest, judgement.
    pub assessed: Vec<(i64, bool, Arc<Assessment>)>,
    /// About alarms, in order.
    pub alarms: Vec<AlarmEffect>,
    /// About events, in order.
    pub occurred: Vec<EventEffect>,
}

#[derive(FromQueryResult)]
struct CursorRow {
    cursor: i64,
    checkpoint: i64,
}

#[derive(FromQueryResult)]
struct StageRow {
    stage: String,
    version: i32,
    content: Vec<u8>,
}

fn checkpoint_of(stages: Vec<StageRow>, minutes: Vec<MinuteRow>) -> Result<Checkpoint, StoreError> {
    let stage = |row: StageRow| -> Result<StageState, StoreError> {
        let version = u16::try_from(row.version);
        let version = version.map_err(|_| StoreError::corrupt("version of a stage"))?;
        Ok(StageState { stage: row.stage, version, content: row.content })
    };
    let minute = |row: MinuteRow| -> Result<StoredMinute, StoreError> {
        Ok(StoredMinute {
            path: PathId::from_uuid(row.path_id),
            minute: row.minute,
            source: row.source.parse().map_err(|_| StoreError::corrupt("source of a minute"))?,
            content: row.content,
        })
    };
    Ok(Checkpoint {
        stages: stages.into_iter().map(stage).collect::<Result<_, _>>()?,
        minutes: minutes.into_iter().map(minute).collect::<Result<_, _>>()?,
        dropped: Vec::new(),
    })
}

#[derive(FromQueryResult)]
struct MinuteRow {
    path_id: Uuid,
    minute: i64,
    source: String,
    content: Vec<u8>,
}

/// Everything that judgement has recorded. What has ended, or is over, has the time of that.
#[derive(Debug, Clone, PartialEq)]
pub struct Recorded {
    /// The last commit that was judged by then.
    pub judged: i64,
    /// Findings by path and window, in that order.
    pub findings: Vec<(PathId, i64, Finding)>,
    /// Alarms in the order in which they were raised.
    pub alarms: Vec<(Alarm, Option<WallTime>)>,
    /// Events in the order in which they were noticed.
    pub events: Vec<(Event, Option<WallTime>)>,
}

#[derive(FromQueryResult)]
struct EndingRow {
    body: Json,
    cleared_at: Option<OffsetDateTime>,
}

#[derive(FromQueryResult)]
struct FindingRow {
    path_id: Uuid,
    window_no: i64,
    body: Json,
}

impl Store {
    /// What judgement remembered at its last checkpoint, and how far it has come.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn judge_memory(&self) -> Result<JudgeMemory, StoreError> {
        let select = "SELECT cursor, checkpoint FROM judge";
        let row: Option<CursorRow> = rows::first(&self.judge, select, []).await?;
        let CursorRow { cursor: judged, checkpoint: cursor } =
            row.ok_or_else(|| StoreError::corrupt("judge row"))?;
        let select = "SELECT stage, version, content FROM stage_state ORDER BY stage";
        let stages = rows::all(&self.judge, select, []).await?;
        let select = "SELECT path_id, minute, source, content FROM path_minute";
        let minutes = rows::all(&self.judge, select, []).await?;
        Ok(JudgeMemory { judged, cursor, checkpoint: checkpoint_of(stages, minutes)? })
    }

    /// A stage of the last checkpoint by its name, without the windows; nothing where it has none.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn stored_stage(&self, stage: &str) -> Result<Checkpoint, StoreError> {
        let select = "SELECT stage, version, content FROM stage_state WHERE stage = $1";
        checkpoint_of(rows::all(&self.db, select, [stage.into()]).await?, Vec::new())
    }

    /// What was remembered at the beginning of a day, or of the first day that is kept, where a
    /// stage had this version.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn opening_memory(
        &self,
        day: Option<Date>,
        (stage, version): (&str, u16),
    ) -> Result<Option<(Date, JudgeMemory)>, StoreError> {
        let select = "SELECT min(day) FROM opening_stage \
             WHERE stage = $1 AND version = $2 AND ($3::date IS NULL OR day = $3)";
        let values = [stage.into(), i32::from(version).into(), day.into()];
        let day: Option<Option<Date>> = rows::value(&self.judge, select, values).await?;
        let Some(day) = day.flatten() else { return Ok(None) };
        let select = "SELECT commit_no FROM opening_state WHERE day = $1";
        let cursor: Option<i64> = rows::value(&self.judge, select, [day.into()]).await?;
        let cursor = cursor.ok_or_else(|| StoreError::corrupt("opening state"))?;
        let select = "SELECT stage, version, content FROM opening_stage WHERE day = $1";
        let stages = rows::all(&self.judge, select, [day.into()]).await?;
        let select = "SELECT path_id, minute, source, content FROM opening_minute WHERE day = $1";
        let minutes = rows::all(&self.judge, select, [day.into()]).await?;
        let checkpoint = checkpoint_of(stages, minutes)?;
        Ok(Some((day, JudgeMemory { judged: cursor, cursor, checkpoint })))
    }

    /// The last commit before a time, and not after another commit; 0 where none is kept.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn last_commit_before(&self, at: WallTime, upto: i64) -> Result<i64, StoreError> {
        // Times of receipt never run backwards: the search ends at the first that is early enough.
        let select = "SELECT commit_no FROM batch \
             WHERE commit_no <= $2 AND coalesce(clock_at, received_at) < $1 \
             ORDER BY commit_no DESC LIMIT 1";
        let values = [offset(at).into(), upto.into()];
        Ok(rows::value(&self.judge, select, values).await?.unwrap_or(0))
    }

    /// The first commit that is kept; absent where there is none.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn first_commit(&self) -> Result<Option<i64>, StoreError> {
        let select = "SELECT least((SELECT min(commit_no) FROM batch), \
             (SELECT min(commit_no) FROM log_clock))";
        let first = rows::value(&self.judge, select, []).await?;
        Ok(first.flatten())
    }

    /// Renews leadership and records what judgement says, all or nothing. `correlation` decides to which
    /// incidents new alarms belong.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] when another process leads or has judged these commits;
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing; a repeated write is refused by the cursor.
    pub async fn commit_judgement(
        &self,
        token: i64,
        write: &JudgeWrite,
        correlation: &mut dyn Correlation,
    ) -> Result<(), StoreError> {
        let txn = self.judge.begin().await?;
        if let Some(day) = write.opening {
            keep_opening(&txn, day, write.from).await?;
        }
        move_cursor(&txn, write).await?;
        if let Some(checkpoint) = &write.checkpoint {
            write_stages(&txn, &checkpoint.stages).await?;
            write_minutes(&txn, checkpoint).await?;
        }
        withdraw(&txn, &write.withdrawn).await?;
        evidence::write(&txn, &write.evidence).await?;
        write_assessments(&txn, &write.assessed).await?;
        write_alarms(&txn, write, correlation).await?;
        set_aside::judged(&txn, (write.from, write.to)).await?;
        tell(&txn, &write.assessed).await?;
        // Last, so that the lease can be renewed from elsewhere while this is written.
        renew_lease(&txn, token).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Everything that judgement has recorded, as of one moment.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn recorded(&self) -> Result<Recorded, StoreError> {
        let snapshot = (Some(IsolationLevel::RepeatableRead), Some(AccessMode::ReadOnly));
        let txn = self.db.begin_with_config(snapshot.0, snapshot.1).await?;
        let judged = rows::value(&txn, "SELECT cursor FROM judge", []).await?;
        let select = "SELECT path_id, window_no, body FROM finding ORDER BY path_id, window_no";
        let findings: Vec<FindingRow> = rows::all(&txn, select, []).await?;
        let select = "SELECT body, cleared_at FROM alarm WHERE class = $1 ORDER BY raised_at, id";
        let alarms: Vec<EndingRow> =
            rows::all(&txn, select, [AlarmClass::Path.name().into()]).await?;
        let events: Vec<EndingRow> =
            rows::all(&txn, select, [AlarmClass::Event.name().into()]).await?;
        txn.commit().await?;
        let finding = |row: FindingRow| -> Result<(PathId, i64, Finding), StoreError> {
            let finding = serde_json::from_value(row.body);
            let finding = finding.map_err(|_| StoreError::corrupt("finding"))?;
            Ok((PathId::from_uuid(row.path_id), row.window_no, finding))
        };
        Ok(Recorded {
            judged: judged.unwrap_or(0),
            findings: findings.into_iter().map(finding).collect::<Result<_, _>>()?,
            alarms: with_ends(alarms, "alarm")?,
            events: with_ends(events, "event")?,
        })
    }
}

fn with_ends<T: DeserializeOwned>(
    rows: Vec<EndingRow>,
    what: &'static str,
) -> Result<Vec<(T, Option<WallTime>)>, StoreError> {
    let read = |row: EndingRow| {
        let body = serde_json::from_value(row.body).map_err(|_| StoreError::corrupt(what))?;
        Ok((body, row.cleared_at.map(WallTime::from)))
    };
    rows.into_iter().map(read).collect()
}

/// Most paths named in one change; beyond that it says that there are more.
const NAMED_PATHS: usize = 500;

/// Tells which paths have a newer judgement.
async fn tell(
    txn: &DatabaseTransaction,
    assessed: &[(i64, bool, Arc<Assessment>)],
) -> Result<(), StoreError> {
    let mut paths: Vec<Uuid> =
        assessed.iter().filter(|a| a.1).map(|a| a.2.path.as_uuid()).collect();
    paths.sort_unstable();
    paths.dedup();
    if paths.is_empty() {
        return Ok(());
    }
    let more = paths.len() > NAMED_PATHS;
    paths.truncate(NAMED_PATHS);
    change_feed::add(
        txn,
        change_feed::Topic::Judged,
        serde_json::json!({ "paths": paths, "more": more }),
    )
    .await
}

/// Keeps the last checkpoint as the opening state of a day, where it is of the commit before it.
async fn keep_opening(txn: &DatabaseTransaction, day: Date, from: i64) -> Result<(), StoreError> {
    let insert = "INSERT INTO opening_state (day, commit_no) \
         SELECT $1, cursor FROM judge WHERE cursor = $2 AND checkpoint = $2 \
         ON CONFLICT DO NOTHING";
    let kept = txn.execute_raw(sql(insert, [day.into(), from.into()])).await?.rows_affected();
    if kept == 1 {
        let insert = "INSERT INTO opening_stage (day, stage, version, content) \
             SELECT $1, stage, version, content FROM stage_state";
        txn.execute_raw(sql(insert, [day.into()])).await?;
        let insert = "INSERT INTO opening_minute (day, path_id, minute, source, content) \
             SELECT $1, path_id, minute, source, content FROM path_minute";
        txn.execute_raw(sql(insert, [day.into()])).await?;
    }
    Ok(())
}

/// Records what judgement says of alarms and events, and the notices that follow.
async fn write_alarms(
    txn: &DatabaseTransaction,
    write: &JudgeWrite,
    correlation: &mut dyn Correlation,
) -> Result<(), StoreError> {
    let of_alarms = write.alarms.iter().map(AlarmEffect::at);
    let at = of_alarms.chain(write.occurred.iter().map(EventEffect::at)).max();
    let Some(at) = at.map(offset) else { return Ok(()) };
    hold_alarms(txn).await?;
    let mut touched = Touched::default();
    let mut incidents = Incidents::new(correlation, first_fault(write, at));
    for effect in &write.alarms {
        touched.alarms.extend(alarms::write(txn, effect, &mut incidents).await?);
    }
    for effect in &write.occurred {
        touched.alarms.extend(events::write(txn, effect, &mut incidents).await?);
    }
    touched.incidents = incidents.merged;
    notices::note(txn, touched, (at, OffsetDateTime::now_utc())).await
}

/// When the first fault of a write began, and when the first was raised; `at` where there is none.
fn first_fault(write: &JudgeWrite, at: OffsetDateTime) -> (OffsetDateTime, OffsetDateTime) {
    let alarms = write.alarms.iter().filter_map(|effect| match effect {
        AlarmEffect::Raised(alarm) | AlarmEffect::Recorded { alarm, .. } => {
            Some((alarm.since, alarm.raised_at))
        }
        _ => None,
    });
    let events = write.occurred.iter().filter_map(|effect| match effect {
        EventEffect::Began(event) | EventEffect::Changed { event, .. } => {
            Some((event.since, event.raised_at))
        }
        _ => None,
    });
    let first = |known: (OffsetDateTime, OffsetDateTime), (since, raised_at)| {
        (known.0.min(offset(since)), known.1.min(offset(raised_at)))
    };
    alarms.chain(events).fold((at, at), first)
}

async fn move_cursor(txn: &DatabaseTransaction, write: &JudgeWrite) -> Result<(), StoreError> {
    let update = "UPDATE judge SET cursor = $2, \
         checkpoint = CASE WHEN $3 THEN $2 ELSE checkpoint END WHERE cursor = $1";
    let values = [write.from.into(), write.to.into(), write.checkpoint.is_some().into()];
    let moved = txn.execute_raw(sql(update, values)).await?.rows_affected();
    if moved == 1 { Ok(()) } else { Err(StoreError::Fenced) }
}

async fn write_stages(txn: &DatabaseTransaction, stages: &[StageState]) -> Result<(), StoreError> {
    let upsert = "INSERT INTO stage_state (stage, version, content) \
         SELECT * FROM unnest($1::text[], $2::int[], $3::bytea[]) \
         ON CONFLICT (stage) DO UPDATE SET version = excluded.version, \
             content = excluded.content \
         WHERE (stage_state.version, stage_state.content) \
             IS DISTINCT FROM (excluded.version, excluded.content)";
    let values: [Value; 3] = [
        stages.iter().map(|it| it.stage.clone()).collect::<Vec<_>>().into(),
        stages.iter().map(|it| i32::from(it.version)).collect::<Vec<_>>().into(),
        stages.iter().map(|it| it.content.clone()).collect::<Vec<_>>().into(),
    ];
    txn.execute_raw(sql(upsert, values)).await?;
    Ok(())
}

async fn write_minutes(
    txn: &DatabaseTransaction,
    checkpoint: &Checkpoint,
) -> Result<(), StoreError> {
    let minutes = &checkpoint.minutes;
    // They are compact already.
    let contents: Vec<Vec<u8>> = minutes.iter().map(|it| it.content.clone()).collect();
    let upsert = "INSERT INTO path_minute (path_id, minute, source, content) \
         SELECT * FROM unnest($1::uuid[], $2::bigint[], $3::text[], $4::bytea[]) \
         ON CONFLICT (path_id, minute) DO UPDATE \
             SET source = excluded.source, content = excluded.content";
    let values: [Value; 4] = [
        minutes.iter().map(|it| it.path.as_uuid()).collect::<Vec<_>>().into(),
        minutes.iter().map(|it| it.minute).collect::<Vec<_>>().into(),
        minutes.iter().map(|it| it.source.to_string()).collect::<Vec<_>>().into(),
        contents.into(),
    ];
    txn.execute_raw(sql(upsert, values)).await?;
    let delete = "DELETE FROM path_minute m USING unnest($1::uuid[], $2::bigint[]) AS d(p, n) \
         WHERE m.path_id = d.p AND m.minute = d.n";
    delete_numbered(txn, delete, &checkpoint.dropped).await
}

/// What was judged last of a path may be a window of the future, made under a wrong clock.
async fn withdraw(txn: &DatabaseTransaction, windows: &[(PathId, i64)]) -> Result<(), StoreError> {
    let delete = "DELETE FROM path_latest l USING unnest($1::uuid[], $2::bigint[]) AS d(p, n) \
         WHERE l.path_id = d.p AND l.window_no = d.n";
    delete_numbered(txn, delete, windows).await
}

/// Deletes by paths and numbers as two arrays, where there are any.
async fn delete_numbered(
    txn: &DatabaseTransaction,
    delete: &str,
    numbered: &[(PathId, i64)],
) -> Result<(), StoreError> {
    if numbered.is_empty() {
        return Ok(());
    }
    let values: [Value; 2] = [
        numbered.iter().map(|(path, _)| path.as_uuid()).collect::<Vec<_>>().into(),
        numbered.iter().map(|(_, number)| *number).collect::<Vec<_>>().into(),
    ];
    txn.execute_raw(sql(delete, values)).await?;
    Ok(())
}

/// The values of the statements that write assessments.
struct AssessmentValues {
    latest: [Value; 4],
    /// Absent where nothing is found.
    found: Option<[Value; 3]>,
    without: [Value; 2],
}

fn assessment_values(
    assessed: &[(i64, bool, Arc<Assessment>)],
) -> Result<AssessmentValues, StoreError> {
    // Several windows of a path may each have been its newest in turn.
    let mut latest: BTreeMap<PathId, (i64, &Assessment)> = BTreeMap::new();
    for (window, _, judged) in assessed.iter().filter(|(_, newest, _)| *newest) {
        let known = latest.entry(judged.path).or_insert((*window, judged));
        if *window >= known.0 {
            *known = (*window, judged);
        }
    }
    let latest = latest_values(&latest)?;
    let (mut paths, mut windows, mut bodies) = (Vec::new(), Vec::new(), Vec::new());
    for (window, _, judged) in assessed {
        if let Some(finding) = &judged.finding {
            paths.push(judged.path.as_uuid());
            windows.push(*window);
            bodies.push(serde_json::json!(finding));
        }
    }
    let found: Option<[Value; 3]> =
        (!paths.is_empty()).then(|| [paths.into(), windows.into(), bodies.into()]);
    let without = assessed.iter().filter(|(_, _, judged)| judged.finding.is_none());
    let (paths, windows): (Vec<Uuid>, Vec<i64>) =
        without.map(|(window, _, judged)| (judged.path.as_uuid(), *window)).unzip();
    Ok(AssessmentValues { latest, found, without: [paths.into(), windows.into()] })
}

/// The newest judgements of paths, with their windows: paths, windows, confidences, contents.
fn latest_values(latest: &BTreeMap<PathId, (i64, &Assessment)>) -> Result<[Value; 4], StoreError> {
    let mut packing = Packing::new()?;
    let contents = latest.values().map(|(_, judged)| packing.value(judged));
    let contents: Vec<Vec<u8>> = contents.collect::<Result<_, _>>()?;
    // The array's element for "none" is below every confidence.
    let confidence = |judged: &Assessment| {
        let ppm = judged.finding.as_ref().map(|finding| finding.confidence_ppm);
        ppm.map_or(-1, |ppm| i32::try_from(ppm).unwrap_or(i32::MAX))
    };
    Ok([
        latest.keys().map(|path| path.as_uuid()).collect::<Vec<_>>().into(),
        latest.values().map(|(window, _)| *window).collect::<Vec<_>>().into(),
        latest.values().map(|(_, judged)| confidence(judged)).collect::<Vec<_>>().into(),
        contents.into(),
    ])
}

/// The last word on each window: a finding is recorded, revised, or withdrawn.
async fn write_assessments(
    txn: &DatabaseTransaction,
    assessed: &[(i64, bool, Arc<Assessment>)],
) -> Result<(), StoreError> {
    let copy = assessed.to_vec();
    let values = compute("assessment", move || assessment_values(&copy)).await??;
    let upsert = "INSERT INTO path_latest (path_id, window_no, confidence_ppm, content) \
         SELECT p, w, nullif(c, -1), b \
         FROM unnest($1::uuid[], $2::bigint[], $3::int[], $4::bytea[]) AS n(p, w, c, b) \
         ON CONFLICT (path_id) DO UPDATE SET window_no = excluded.window_no, \
             confidence_ppm = excluded.confidence_ppm, content = excluded.content \
         WHERE path_latest.window_no <= excluded.window_no";
    txn.execute_raw(sql(upsert, values.latest)).await?;
    if let Some(found) = values.found {
        let upsert = "INSERT INTO finding (path_id, window_no, body) \
             SELECT * FROM unnest($1::uuid[], $2::bigint[], $3::jsonb[]) \
             ON CONFLICT (path_id, window_no) DO UPDATE SET body = excluded.body";
        txn.execute_raw(sql(upsert, found)).await?;
    }
    let delete = "DELETE FROM finding f USING unnest($1::uuid[], $2::bigint[]) AS d(p, n) \
         WHERE f.path_id = d.p AND f.window_no = d.n";
    txn.execute_raw(sql(delete, values.without)).await?;
    Ok(())
}
