//! Watches, which measure a path more often for a limited time, and suppressions, which measure
//! nothing for a limited time. Both are part of the schedule that agents are given.

use crate::schedule_version::renew_schedule;
use crate::statement::sql;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use itinera_model::id::{AgentId, IncidentId, PathId};
use itinera_model::protocol::{Denser, Suppression};
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{ConnectionTrait, DatabaseTransaction, TransactionTrait};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

/// A watch to begin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewWatch {
    /// The path.
    pub path: PathId,
    /// From round to round while it lasts, in milliseconds.
    pub interval_ms: u32,
    /// When it begins.
    pub begins_at: OffsetDateTime,
    /// When it ends by itself.
    pub ends_at: OffsetDateTime,
    /// The reason.
    pub reason: String,
    /// The user.
    pub user: String,
}

/// A while in which a watch rested.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pause {
    /// From when.
    #[serde(with = "time::serde::rfc3339")]
    pub from: OffsetDateTime,
    /// Until when; absent while it lasts.
    #[serde(with = "time::serde::rfc3339::option")]
    pub until: Option<OffsetDateTime>,
}

/// A stored watch.
#[derive(Debug, Clone, PartialEq)]
pub struct WatchRecord {
    /// Its name.
    pub id: Uuid,
    /// Its short number.
    pub no: i64,
    /// What was asked for.
    pub asked: NewWatch,
    /// Its pauses, from the first on.
    pub pauses: Vec<Pause>,
    /// The incident it belongs to, with its number.
    pub incident: Option<(IncidentId, i64)>,
    /// What was found, once it is over.
    pub summary: Option<Json>,
}

/// Why a watch cannot be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WatchRefused {
    /// Nothing has this id.
    #[error("no watch has this id")]
    Unknown,
    /// It is over.
    #[error("this watch is over")]
    Over,
    /// It rests already.
    #[error("this watch is paused already")]
    Paused,
    /// It does not rest.
    #[error("this watch is not paused")]
    Running,
    /// There is no such incident.
    #[error("no incident has this id")]
    UnknownIncident,
    /// There is no such path, or it is not measured any more.
    #[error("this path is not measured")]
    UnknownPath,
    /// There is no such suppression, or it is over.
    #[error("no suppression that lasts has this id")]
    UnknownSuppression,
}

/// Which watches are wanted: all of them, unless something is named.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct WatchQuery {
    /// Those of this incident.
    pub incident: Option<IncidentId>,
    /// Those of this path.
    pub path: Option<PathId>,
}

/// A suppression to begin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewSuppression {
    /// From this site only.
    pub site: Option<String>,
    /// To this target only.
    pub target: Option<String>,
    /// From when.
    pub from: OffsetDateTime,
    /// Until when.
    pub until: OffsetDateTime,
    /// The reason.
    pub reason: String,
    /// The user.
    pub user: String,
}

/// A stored suppression.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SuppressionRecord {
    /// Its name.
    pub id: Uuid,
    /// Its number.
    pub no: i64,
    /// What was asked for.
    pub asked: NewSuppression,
}

/// What is done to a watch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WatchChange {
    /// It rests.
    Pause,
    /// It continues.
    Resume,
    /// It ends now.
    End,
    /// It belongs to an incident.
    Attach(IncidentId),
}

const WATCHES: &str = "SELECT w.*, i.no AS incident_no FROM watch w \
     LEFT JOIN incident i ON i.id = w.incident_id";

#[derive(FromQueryResult)]
struct WatchRow {
    id: Uuid,
    no: i64,
    path_id: Uuid,
    interval_ms: i32,
    begins_at: OffsetDateTime,
    ends_at: OffsetDateTime,
    reason: String,
    user_name: String,
    pauses: Json,
    incident_id: Option<Uuid>,
    incident_no: Option<i64>,
    summary: Option<Json>,
}

fn watch(row: WatchRow) -> Result<WatchRecord, StoreError> {
    let pauses = serde_json::from_value(row.pauses);
    Ok(WatchRecord {
        id: row.id,
        no: row.no,
        asked: NewWatch {
            path: PathId::from_uuid(row.path_id),
            interval_ms: row.interval_ms.cast_unsigned(),
            begins_at: row.begins_at,
            ends_at: row.ends_at,
            reason: row.reason,
            user: row.user_name,
        },
        pauses: pauses.map_err(|_| StoreError::corrupt("pauses"))?,
        incident: row.incident_id.map(IncidentId::from_uuid).zip(row.incident_no),
        summary: row.summary,
    })
}

#[derive(FromQueryResult)]
struct SuppressionRow {
    id: Uuid,
    no: i64,
    site: Option<String>,
    target: Option<String>,
    from_at: OffsetDateTime,
    until_at: OffsetDateTime,
    reason: String,
    user_name: String,
}

fn suppression(row: SuppressionRow) -> SuppressionRecord {
    SuppressionRecord {
        id: row.id,
        no: row.no,
        asked: NewSuppression {
            site: row.site,
            target: row.target,
            from: row.from_at,
            until: row.until_at,
            reason: row.reason,
            user: row.user_name,
        },
    }
}

impl WatchRecord {
    /// It rests now.
    pub fn is_paused(&self) -> bool {
        self.pauses.last().is_some_and(|pause| pause.until.is_none())
    }

    /// Whether something measured at a time belongs to it.
    pub fn covers(&self, at: OffsetDateTime) -> bool {
        let rests = |pause: &Pause| pause.from <= at && pause.until.is_none_or(|until| at < until);
        (self.asked.begins_at..self.asked.ends_at).contains(&at) && !self.pauses.iter().any(rests)
    }
}

impl Store {
    /// Begins a watch. Gives its id, and the schedule's new version.
    ///
    /// # Errors
    /// [`WatchRefused::UnknownPath`]; [`StoreError::Database`].
    pub async fn start_watch(&self, new: &NewWatch) -> Result<(Uuid, Option<u64>), StoreError> {
        let txn = self.db.begin().await?;
        let insert = "INSERT INTO watch (id, path_id, interval_ms, begins_at, ends_at, reason, user_name) \
             SELECT $1, p.id, $3, $4, $5, $6, $7 FROM path p JOIN target t ON t.id = p.target_id \
             WHERE p.id = $2 AND t.active RETURNING no";
        let id = Uuid::now_v7();
        let values = [
            id.into(),
            new.path.as_uuid().into(),
            new.interval_ms.cast_signed().into(),
            new.begins_at.into(),
            new.ends_at.into(),
            new.reason.clone().into(),
            new.user.clone().into(),
        ];
        let no: Option<i64> = rows::value(&txn, insert, values).await?;
        let no = no.ok_or(WatchRefused::UnknownPath)?;
        let detail = serde_json::json!({ "path": new.path, "interval_ms": new.interval_ms });
        let (user, object) = (&new.user, no.to_string());
        let entry = Audited { user, action: Action::WatchBegun, object: &object, detail };
        audit(&txn, &entry).await?;
        let version = renew_schedule(&txn).await?;
        txn.commit().await?;
        Ok((id, version))
    }

    /// Watches from the newest on, those before number `before`, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn watches(
        &self,
        which: WatchQuery,
        before: Option<i64>,
        limit: i64,
    ) -> Result<Vec<WatchRecord>, StoreError> {
        let select = format!(
            "{WATCHES} WHERE w.no < $1 AND ($2::uuid IS NULL OR w.incident_id = $2) \
             AND ($3::uuid IS NULL OR w.path_id = $3) ORDER BY w.no DESC LIMIT $4"
        );
        let incident = which.incident.map(IncidentId::as_uuid);
        let path = which.path.map(PathId::as_uuid);
        let values =
            [before.unwrap_or(i64::MAX).into(), incident.into(), path.into(), limit.into()];
        rows::all(&self.db, &select, values).await?.into_iter().map(watch).collect()
    }

    /// One watch; absent when nothing has this id.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn watch(&self, id: Uuid) -> Result<Option<WatchRecord>, StoreError> {
        one_watch(&self.db, id).await
    }

    /// Changes a watch. Gives the schedule's new version where that changed with it.
    ///
    /// # Errors
    /// [`WatchRefused`]; [`StoreError::Database`].
    pub async fn change_watch(
        &self,
        id: Uuid,
        change: WatchChange,
        user: &str,
    ) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        txn.execute_raw(sql("SELECT FROM watch WHERE id = $1 FOR UPDATE", [id.into()])).await?;
        let known = one_watch(&txn, id).await?.ok_or(WatchRefused::Unknown)?;
        let now = OffsetDateTime::now_utc();
        let is_over = known.summary.is_some() || known.asked.ends_at <= now;
        if is_over && !matches!(change, WatchChange::Attach(_)) {
            return Err(WatchRefused::Over.into());
        }
        let mut pauses = known.pauses.clone();
        let action = match change {
            WatchChange::Pause if known.is_paused() => return Err(WatchRefused::Paused.into()),
            WatchChange::Pause => {
                pauses.push(Pause { from: now, until: None });
                Action::WatchPaused
            }
            WatchChange::Resume if !known.is_paused() => return Err(WatchRefused::Running.into()),
            WatchChange::Resume | WatchChange::End => {
                pauses.iter_mut().for_each(|pause| pause.until = pause.until.or(Some(now)));
                if change == WatchChange::End { Action::WatchEnded } else { Action::WatchResumed }
            }
            WatchChange::Attach(incident) => {
                attach(&txn, id, incident).await?;
                Action::WatchAttached
            }
        };
        let ends_at = if change == WatchChange::End { now } else { known.asked.ends_at };
        let update = "UPDATE watch SET pauses = $2, ends_at = $3 WHERE id = $1";
        let values = [id.into(), serde_json::json!(pauses).into(), ends_at.into()];
        txn.execute_raw(sql(update, values)).await?;
        let detail = match change {
            WatchChange::Attach(incident) => serde_json::json!({ "incident": incident }),
            _ => serde_json::json!({}),
        };
        let object = known.no.to_string();
        audit(&txn, &Audited { user, action, object: &object, detail }).await?;
        let version = match change {
            WatchChange::Attach(_) => None,
            _ => renew_schedule(&txn).await?,
        };
        txn.commit().await?;
        Ok(version)
    }

    /// Watches that are over and have no summary yet.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn watches_to_sum_up(&self) -> Result<Vec<WatchRecord>, StoreError> {
        let select = format!("{WATCHES} WHERE w.summary IS NULL AND w.ends_at <= now() LIMIT 100");
        rows::all(&self.db, &select, []).await?.into_iter().map(watch).collect()
    }

    /// Keeps what a watch has found. Gives the schedule's new version.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn keep_watch_summary(
        &self,
        id: Uuid,
        summary: Json,
    ) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        let update = "UPDATE watch SET summary = $2 WHERE id = $1 AND summary IS NULL";
        txn.execute_raw(sql(update, [id.into(), summary.into()])).await?;
        let version = renew_schedule(&txn).await?;
        txn.commit().await?;
        Ok(version)
    }

    /// Begins a suppression. Gives its id, and the schedule's new version.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn suppress(&self, new: &NewSuppression) -> Result<(Uuid, Option<u64>), StoreError> {
        let txn = self.db.begin().await?;
        let insert = "INSERT INTO suppression (id, site, target, from_at, until_at, reason, user_name) \
             VALUES ($1, $2, $3, $4, $5, $6, $7)";
        let id = Uuid::now_v7();
        let values = [
            id.into(),
            new.site.clone().into(),
            new.target.clone().into(),
            new.from.into(),
            new.until.into(),
            new.reason.clone().into(),
            new.user.clone().into(),
        ];
        txn.execute_raw(sql(insert, values)).await?;
        let (user, object) = (&new.user, id.to_string());
        let detail = serde_json::json!({ "site": new.site, "target": new.target });
        let entry = Audited { user, action: Action::SuppressionMade, object: &object, detail };
        audit(&txn, &entry).await?;
        let version = renew_schedule(&txn).await?;
        txn.commit().await?;
        Ok((id, version))
    }

    /// Suppressions that last or are to come, by their beginning.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn suppressions(&self) -> Result<Vec<SuppressionRecord>, StoreError> {
        let select = "SELECT * FROM suppression WHERE until_at > now() ORDER BY from_at, no";
        Ok(rows::all(&self.db, select, []).await?.into_iter().map(suppression).collect())
    }

    /// Ends a suppression now, or before it begins. Gives the schedule's new version.
    ///
    /// # Errors
    /// [`WatchRefused::UnknownSuppression`]; [`StoreError::Database`].
    pub async fn lift_suppression(&self, id: Uuid, user: &str) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        let update = "UPDATE suppression SET until_at = now() \
             WHERE id = $1 AND until_at > now() RETURNING no";
        let row = txn.query_one_raw(sql(update, [id.into()])).await?;
        row.ok_or(WatchRefused::UnknownSuppression)?;
        let (object, detail) = (id.to_string(), serde_json::json!({}));
        let entry = Audited { user, action: Action::SuppressionLifted, object: &object, detail };
        audit(&txn, &entry).await?;
        let version = renew_schedule(&txn).await?;
        txn.commit().await?;
        Ok(version)
    }
}

async fn one_watch<C: ConnectionTrait>(
    db: &C,
    id: Uuid,
) -> Result<Option<WatchRecord>, StoreError> {
    let select = format!("{WATCHES} WHERE w.id = $1");
    rows::first(db, &select, [id.into()]).await?.map(watch).transpose()
}

async fn attach(
    txn: &DatabaseTransaction,
    id: Uuid,
    incident: IncidentId,
) -> Result<(), StoreError> {
    let known = sql("SELECT FROM incident WHERE id = $1", [incident.as_uuid().into()]);
    txn.query_one_raw(known).await?.ok_or(WatchRefused::UnknownIncident)?;
    let update = "UPDATE watch SET incident_id = $2 WHERE id = $1";
    txn.execute_raw(sql(update, [id.into(), incident.as_uuid().into()])).await?;
    Ok(())
}

/// The denser interval of each watched path of an agent.
pub(crate) async fn denser(
    txn: &DatabaseTransaction,
    agent: AgentId,
) -> Result<Vec<(PathId, Denser)>, StoreError> {
    let select = "SELECT DISTINCT ON (w.path_id) w.path_id, w.interval_ms, w.ends_at FROM watch w \
             JOIN path p ON p.id = w.path_id \
         WHERE p.agent_id = $1 AND w.summary IS NULL AND w.ends_at > now() \
             AND (w.pauses = '[]' OR w.pauses -> -1 ->> 'until' IS NOT NULL) \
         ORDER BY w.path_id, w.interval_ms, w.ends_at DESC";
    let rows: Vec<DenserRow> = rows::all(txn, select, [agent.as_uuid().into()]).await?;
    let denser = |row: DenserRow| {
        let interval_ms = row.interval_ms.cast_unsigned();
        (PathId::from_uuid(row.path_id), Denser { interval_ms, until: WallTime::from(row.ends_at) })
    };
    Ok(rows.into_iter().map(denser).collect())
}

#[derive(FromQueryResult)]
struct DenserRow {
    path_id: Uuid,
    interval_ms: i32,
    ends_at: OffsetDateTime,
}

#[derive(FromQueryResult)]
struct SuppressedRow {
    from_at: OffsetDateTime,
    until_at: OffsetDateTime,
    everything: bool,
    paths: Vec<Uuid>,
}

/// The suppressions that touch an agent.
pub(crate) async fn suppressed(
    txn: &DatabaseTransaction,
    agent: AgentId,
) -> Result<Vec<Suppression>, StoreError> {
    let select = "SELECT x.from_at, x.until_at, x.target IS NULL AS everything, \
             coalesce(array_agg(p.id) FILTER (WHERE p.id IS NOT NULL), '{}') AS paths \
         FROM suppression x JOIN agent a ON a.id = $1 JOIN site s ON s.id = a.site_id \
             LEFT JOIN (path p JOIN target t ON t.id = p.target_id) \
                 ON p.agent_id = a.id AND t.name = x.target \
         WHERE x.until_at > now() AND (x.site IS NULL OR x.site = s.name) \
         GROUP BY x.id ORDER BY x.from_at, x.id";
    let rows: Vec<SuppressedRow> = rows::all(txn, select, [agent.as_uuid().into()]).await?;
    // Empty would mean everything: a target that this agent has no path to touches nothing.
    let touches = |row: &SuppressedRow| row.everything || !row.paths.is_empty();
    let suppression = |row: SuppressedRow| Suppression {
        paths: row.paths.into_iter().map(PathId::from_uuid).collect(),
        from: WallTime::from(row.from_at),
        until: WallTime::from(row.until_at),
    };
    Ok(rows.into_iter().filter(touches).map(suppression).collect())
}
