//! Judgement's memory and what it says, written in one transaction with its cursor and its
//! fencing token.

use crate::change_feed;
use crate::entity::alarm;
use crate::events;
use crate::lease::renew_lease;
use crate::set_aside;
use crate::statement::{recordable_json, sql};
use crate::timeline::{self, ChooseIncident, Ending, Placed};
use crate::times::offset;
use crate::{Store, StoreError, rows};
use itinera_model::alarm::{Alarm, AlarmEffect};
use itinera_model::event::{EventEffect, Fault};
use itinera_model::finding::Assessment;
use itinera_model::id::PathId;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{
    AccessMode,
    ActiveValue::{NotSet, Set},
    DatabaseTransaction, IsolationLevel, TransactionTrait,
};
use std::collections::BTreeMap;
use std::net::IpAddr;
use time::{Date, OffsetDateTime};

/// A window as recorded: content in the judging engine's own encoding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredWindow {
    /// The path.
    pub path: PathId,
    /// Index.
    pub window: i64,
    /// The agent's address.
    pub source: IpAddr,
    /// Content.
    pub content: Vec<u8>,
}

/// Everything a judge remembered when it last committed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct JudgeMemory {
    /// The last commit it has judged.
    pub cursor: i64,
    /// Version of the engine that wrote it; 0 before the first write.
    pub engine: u16,
    /// What judgement remembers beside the windows; empty before the first write.
    pub state: Vec<u8>,
    /// What watches for events remembers; empty before the first write.
    pub events: Vec<u8>,
    /// The windows.
    pub windows: Vec<StoredWindow>,
}

/// What a judge wants recorded after judging the commits from one cursor to another.
#[derive(Debug, Clone, PartialEq)]
pub struct JudgeWrite {
    /// Cursor before.
    pub from: i64,
    /// Cursor after.
    pub to: i64,
    /// The day that begins with this: what was remembered before it is kept as its opening state.
    pub opening: Option<Date>,
    /// The commit that is no longer set aside.
    pub retried: Option<i64>,
    /// Version of the engine.
    pub engine: u16,
    /// What judgement remembers beside the windows.
    pub state: Vec<u8>,
    /// What watches for events remembers.
    pub events: Vec<u8>,
    /// Windows with another content.
    pub windows: Vec<StoredWindow>,
    /// Windows no longer needed.
    pub dropped: Vec<(PathId, i64)>,
    /// Windows judged, perhaps again: path, window, whether it is the newest, judgement.
    pub assessed: Vec<(i64, bool, Assessment)>,
    /// About alarms, in order.
    pub alarms: Vec<AlarmEffect>,
    /// About events, in order.
    pub occurred: Vec<EventEffect>,
}

#[derive(FromQueryResult)]
struct MemoryRow {
    cursor: i64,
    engine: i32,
    state: Vec<u8>,
    events: Vec<u8>,
}

impl MemoryRow {
    fn with_windows(self, windows: Vec<WindowRow>) -> Result<JudgeMemory, StoreError> {
        let engine = u16::try_from(self.engine);
        let window = |row: WindowRow| -> Result<StoredWindow, StoreError> {
            Ok(StoredWindow {
                path: PathId::from_uuid(row.path_id),
                window: row.window_no,
                source: row.source.parse().map_err(|_| StoreError::corrupt("window source"))?,
                content: row.content,
            })
        };
        Ok(JudgeMemory {
            cursor: self.cursor,
            engine: engine.map_err(|_| StoreError::corrupt("engine version"))?,
            state: self.state,
            events: self.events,
            windows: windows.into_iter().map(window).collect::<Result<_, _>>()?,
        })
    }
}

#[derive(FromQueryResult)]
struct WindowRow {
    path_id: Uuid,
    window_no: i64,
    source: String,
    content: Vec<u8>,
}

#[derive(FromQueryResult)]
struct FindingRow {
    path_id: Uuid,
    window_no: i64,
    body: Json,
}

impl Store {
    /// What the last judge remembered.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn judge_memory(&self) -> Result<JudgeMemory, StoreError> {
        let select = "SELECT cursor, engine, book AS state, events FROM judge";
        let Some(memory) = rows::first::<MemoryRow>(&self.judge, select, []).await? else {
            return Ok(JudgeMemory::default());
        };
        let select = "SELECT path_id, window_no, source, content FROM path_window \
             ORDER BY path_id, window_no";
        memory.with_windows(rows::all(&self.judge, select, []).await?)
    }

    /// The newest day with an opening state.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn last_opening(&self) -> Result<Option<Date>, StoreError> {
        let day = rows::value(&self.judge, "SELECT max(day) FROM opening_state", []).await?;
        Ok(day.flatten())
    }

    /// What was remembered at the beginning of a day, or of the first day that is kept, by an engine.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn opening_memory(
        &self,
        day: Option<Date>,
        engine: u16,
    ) -> Result<Option<(Date, JudgeMemory)>, StoreError> {
        let select = "SELECT min(day) FROM opening_state \
             WHERE engine = $1 AND ($2::date IS NULL OR day = $2)";
        let values = [i32::from(engine).into(), day.into()];
        let day: Option<Option<Date>> = rows::value(&self.judge, select, values).await?;
        let Some(day) = day.flatten() else { return Ok(None) };
        let select = "SELECT commit_no AS cursor, engine, state, events FROM opening_state \
             WHERE day = $1";
        let memory: Option<MemoryRow> = rows::first(&self.judge, select, [day.into()]).await?;
        let memory = memory.ok_or_else(|| StoreError::corrupt("opening state"))?;
        let select = "SELECT path_id, window_no, source, content FROM opening_window \
             WHERE day = $1 ORDER BY path_id, window_no";
        let windows = rows::all(&self.judge, select, [day.into()]).await?;
        Ok(Some((day, memory.with_windows(windows)?)))
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

    /// Renews leadership and records what judgement says, all or nothing. `fold` chooses the
    /// incident of each new alarm.
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
        fold: &ChooseIncident<'_>,
    ) -> Result<(), StoreError> {
        let txn = self.judge.begin().await?;
        if let Some(day) = write.opening {
            keep_opening(&txn, day, write.from).await?;
        }
        move_cursor(&txn, write).await?;
        write_windows(&txn, write).await?;
        write_assessments(&txn, &write.assessed).await?;
        for effect in &write.alarms {
            write_alarm(&txn, effect, fold).await?;
        }
        for effect in &write.occurred {
            events::write(&txn, effect, fold).await?;
        }
        if let Some(commit_no) = write.retried {
            set_aside::judged(&txn, commit_no).await?;
        }
        tell(&txn, &write.assessed).await?;
        // Last, so that the lease can be renewed from elsewhere while this is written.
        renew_lease(&txn, token).await?;
        txn.commit().await?;
        Ok(())
    }

    /// The last commit that was judged, and everything found by then, in the order of path and
    /// window: (path, window, finding as JSON).
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn findings(&self) -> Result<(i64, Vec<(PathId, i64, Json)>), StoreError> {
        // Both as of one moment, while judgement runs.
        let snapshot = (Some(IsolationLevel::RepeatableRead), Some(AccessMode::ReadOnly));
        let txn = self.db.begin_with_config(snapshot.0, snapshot.1).await?;
        let cursor = rows::value(&txn, "SELECT cursor FROM judge", []).await?;
        let select = "SELECT path_id, window_no, body FROM finding ORDER BY path_id, window_no";
        let rows: Vec<FindingRow> = rows::all(&txn, select, []).await?;
        txn.commit().await?;
        let finding = |row: FindingRow| (PathId::from_uuid(row.path_id), row.window_no, row.body);
        Ok((cursor.unwrap_or(0), rows.into_iter().map(finding).collect()))
    }
}

/// Most paths named in one change; beyond that it says that there are more.
const NAMED_PATHS: usize = 500;

/// Tells which paths have a newer judgement.
async fn tell(
    txn: &DatabaseTransaction,
    assessed: &[(i64, bool, Assessment)],
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

/// Keeps what is remembered now as the opening state of a day.
async fn keep_opening(txn: &DatabaseTransaction, day: Date, from: i64) -> Result<(), StoreError> {
    let insert = "INSERT INTO opening_state (day, commit_no, engine, state, events) \
         SELECT $1, cursor, engine, book, events FROM judge WHERE cursor = $2 \
         ON CONFLICT DO NOTHING";
    let kept = txn.execute_raw(sql(insert, [day.into(), from.into()])).await?.rows_affected();
    if kept == 1 {
        let insert = "INSERT INTO opening_window (day, path_id, window_no, source, content) \
             SELECT $1, path_id, window_no, source, content FROM path_window";
        txn.execute_raw(sql(insert, [day.into()])).await?;
    }
    Ok(())
}

async fn move_cursor(txn: &DatabaseTransaction, write: &JudgeWrite) -> Result<(), StoreError> {
    let move_on = "INSERT INTO judge (cursor, engine, book, events) SELECT $2, $3, $4, $5 WHERE $1 = 0 \
         ON CONFLICT (one_row) DO NOTHING";
    let values: [Value; 5] = [
        write.from.into(),
        write.to.into(),
        i32::from(write.engine).into(),
        write.state.clone().into(),
        write.events.clone().into(),
    ];
    if txn.execute_raw(sql(move_on, values.clone())).await?.rows_affected() == 1 {
        return Ok(());
    }
    let move_on =
        "UPDATE judge SET cursor = $2, engine = $3, book = $4, events = $5 WHERE cursor = $1";
    let moved = txn.execute_raw(sql(move_on, values)).await?.rows_affected();
    if moved == 1 { Ok(()) } else { Err(StoreError::Fenced) }
}

async fn write_windows(txn: &DatabaseTransaction, write: &JudgeWrite) -> Result<(), StoreError> {
    let windows = &write.windows;
    let upsert = "INSERT INTO path_window (path_id, window_no, source, content) \
         SELECT * FROM unnest($1::uuid[], $2::bigint[], $3::text[], $4::bytea[]) \
         ON CONFLICT (path_id, window_no) DO UPDATE \
             SET source = excluded.source, content = excluded.content";
    let values: [Value; 4] = [
        windows.iter().map(|w| w.path.as_uuid()).collect::<Vec<_>>().into(),
        windows.iter().map(|w| w.window).collect::<Vec<_>>().into(),
        windows.iter().map(|w| w.source.to_string()).collect::<Vec<_>>().into(),
        windows.iter().map(|w| w.content.clone()).collect::<Vec<_>>().into(),
    ];
    txn.execute_raw(sql(upsert, values)).await?;
    if !write.dropped.is_empty() {
        let delete = "DELETE FROM path_window w USING unnest($1::uuid[], $2::bigint[]) AS d(p, n) \
             WHERE w.path_id = d.p AND w.window_no = d.n";
        let values: [Value; 2] = [
            write.dropped.iter().map(|(path, _)| path.as_uuid()).collect::<Vec<_>>().into(),
            write.dropped.iter().map(|(_, window)| *window).collect::<Vec<_>>().into(),
        ];
        txn.execute_raw(sql(delete, values.clone())).await?;
        // What was judged last may be a window of the future, made under a wrong clock.
        let delete = "DELETE FROM path_latest l USING unnest($1::uuid[], $2::bigint[]) AS d(p, n) \
             WHERE l.path_id = d.p AND l.window_no = d.n";
        txn.execute_raw(sql(delete, values)).await?;
    }
    Ok(())
}

/// The last word on each window: a finding is recorded, revised, or withdrawn.
async fn write_assessments(
    txn: &DatabaseTransaction,
    assessed: &[(i64, bool, Assessment)],
) -> Result<(), StoreError> {
    // Several windows of a path may each have been its newest in turn.
    let mut latest: BTreeMap<PathId, (i64, &Assessment)> = BTreeMap::new();
    for (window, _, judged) in assessed.iter().filter(|(_, newest, _)| *newest) {
        let known = latest.entry(judged.path).or_insert((*window, judged));
        if *window >= known.0 {
            *known = (*window, judged);
        }
    }
    let latest = latest
        .into_iter()
        .map(|(path, (window, judged))| (path, window, serde_json::json!(judged)));
    let upsert = "INSERT INTO path_latest (path_id, window_no, body) \
         SELECT * FROM unnest($1::uuid[], $2::bigint[], $3::jsonb[]) \
         ON CONFLICT (path_id) DO UPDATE SET window_no = excluded.window_no, \
             body = excluded.body WHERE path_latest.window_no <= excluded.window_no";
    write_bodies(txn, upsert, latest).await?;
    let found = assessed.iter().filter_map(|(window, _, judged)| {
        Some((judged.path, *window, serde_json::json!(judged.finding.as_ref()?)))
    });
    let upsert = "INSERT INTO finding (path_id, window_no, body) \
         SELECT * FROM unnest($1::uuid[], $2::bigint[], $3::jsonb[]) \
         ON CONFLICT (path_id, window_no) DO UPDATE SET body = excluded.body";
    write_bodies(txn, upsert, found).await?;
    let without = assessed.iter().filter(|(_, _, judged)| judged.finding.is_none());
    let (paths, windows): (Vec<Uuid>, Vec<i64>) =
        without.map(|(window, _, judged)| (judged.path.as_uuid(), *window)).unzip();
    let delete = "DELETE FROM finding f USING unnest($1::uuid[], $2::bigint[]) AS d(p, n) \
         WHERE f.path_id = d.p AND f.window_no = d.n";
    txn.execute_raw(sql(delete, [paths.into(), windows.into()])).await?;
    Ok(())
}

/// Runs a statement over paths, windows and bodies as three arrays, where there are any.
async fn write_bodies(
    txn: &DatabaseTransaction,
    statement: &str,
    rows: impl Iterator<Item = (PathId, i64, Json)>,
) -> Result<(), StoreError> {
    let (mut paths, mut windows, mut bodies) = (Vec::new(), Vec::new(), Vec::new());
    for (path, window, body) in rows {
        paths.push(path.as_uuid());
        windows.push(window);
        bodies.push(body);
    }
    if !paths.is_empty() {
        let values = [paths.into(), windows.into(), bodies.into()];
        txn.execute_raw(sql(statement, values)).await?;
    }
    Ok(())
}

/// Records a new alarm, open or of the past, and places it; gives its id and its incident.
async fn insert_alarm(
    txn: &DatabaseTransaction,
    alarm: &Alarm,
    cleared_at: Option<OffsetDateTime>,
    fold: &ChooseIncident<'_>,
) -> Result<(Uuid, Option<Uuid>), StoreError> {
    let id = Uuid::now_v7();
    let row = alarm::ActiveModel {
        id: Set(id),
        no: NotSet,
        key: Set(recordable_json(serde_json::json!(alarm.key))),
        body: Set(recordable_json(serde_json::json!(alarm))),
        raised_at: Set(offset(alarm.raised_at)),
        cleared_at: Set(cleared_at),
        incident_id: Set(None),
    };
    alarm::Entity::insert(row).exec_without_returning(txn).await?;
    let incident = timeline::place(txn, id, &Fault::Alarm(alarm.clone()), fold).await?;
    Ok((id, Some(incident.as_uuid())))
}

async fn write_alarm(
    txn: &DatabaseTransaction,
    effect: &AlarmEffect,
    fold: &ChooseIncident<'_>,
) -> Result<(), StoreError> {
    let (id, what) = match effect {
        AlarmEffect::Raised(alarm) => {
            let (id, _) = insert_alarm(txn, alarm, None, fold).await?;
            (Some(id), "raised")
        }
        AlarmEffect::Recorded { alarm, cleared_at } => {
            let at = offset(*cleared_at);
            let (id, incident_id) = insert_alarm(txn, alarm, Some(at), fold).await?;
            let placed = Placed { id, incident_id };
            timeline::note_end(txn, Ending::Alarm, &placed, at).await?;
            (Some(id), "recorded")
        }
        AlarmEffect::Corrected { alarm, cleared_at } => {
            let update = "UPDATE alarm SET body = $3, cleared_at = $4 \
                 WHERE key = $1 AND raised_at = $2 AND cleared_at IS NOT NULL RETURNING id";
            let values = [
                serde_json::json!(alarm.key).into(),
                offset(alarm.raised_at).into(),
                serde_json::json!(alarm).into(),
                offset(*cleared_at).into(),
            ];
            (rows::value::<Uuid>(txn, update, values).await?, "corrected")
        }
        AlarmEffect::Changed(alarm) => {
            let update =
                "UPDATE alarm SET body = $2 WHERE key = $1 AND cleared_at IS NULL RETURNING id";
            let values = [serde_json::json!(alarm.key).into(), serde_json::json!(alarm).into()];
            (rows::value::<Uuid>(txn, update, values).await?, "changed")
        }
        AlarmEffect::Cleared { key, at } => {
            let update = "UPDATE alarm SET cleared_at = $2 WHERE key = $1 AND cleared_at IS NULL \
                 RETURNING id, incident_id";
            let values = [serde_json::json!(key).into(), offset(*at).into()];
            let placed: Option<Placed> = rows::first(txn, update, values).await?;
            if let Some(placed) = &placed {
                timeline::note_end(txn, Ending::Alarm, placed, offset(*at)).await?;
            }
            (placed.map(|row| row.id), "cleared")
        }
    };
    let Some(id) = id else { return Ok(()) };
    change_feed::add(txn, change_feed::Topic::Alarm, serde_json::json!({ "id": id, "what": what }))
        .await
}
