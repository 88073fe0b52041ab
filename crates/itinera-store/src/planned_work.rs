//! Calendars of planned work, what they plan, and the alarms that it explains.

use crate::statement::sql;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, FromQueryResult, TransactionTrait};
use time::OffsetDateTime;

/// A calendar to keep.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CalendarSpec {
    /// Name, unique.
    pub name: String,
    /// Where it is fetched from again and again; absent for one from a file.
    pub url: Option<String>,
    /// The site that its work is at, where an event names none.
    pub site: Option<String>,
    /// AS number of the owner that does its work, where an event names none.
    pub owner: Option<u32>,
    /// Time zone of times without one.
    pub zone: String,
    /// iCalendar text (RFC 5545).
    pub content: String,
}

/// A calendar as recorded, without its text.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct CalendarRecord {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Where it is fetched from; absent for one from a file.
    pub url: Option<String>,
    /// The site of its work, where an event names none.
    pub site: Option<String>,
    /// AS number of the owner of its work, where an event names none.
    pub owner: Option<i64>,
    /// Time zone of times without one.
    pub zone: String,
    /// When its text was saved or fetched.
    pub fetched_at: OffsetDateTime,
    /// Why it was not fetched since.
    pub error: Option<String>,
    /// Occurrences of its events that are kept.
    pub occurrences: i64,
    /// The user who saved it.
    pub saved_by: String,
}

/// One occurrence of planned work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedWork {
    /// UID of its event.
    pub uid: String,
    /// Begin.
    pub starts_at: OffsetDateTime,
    /// End.
    pub ends_at: OffsetDateTime,
    /// What is done.
    pub summary: String,
    /// Sites that it is at.
    pub sites: Vec<String>,
    /// AS numbers of the owners that do it.
    pub owners: Vec<u32>,
}

/// An occurrence as recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedWorkRecord {
    /// Id of the calendar.
    pub calendar_id: Uuid,
    /// Name of the calendar.
    pub calendar: String,
    /// The work.
    pub work: PlannedWork,
    /// Roots and short numbers of the alarms that it explained.
    pub explained: Vec<(Uuid, i64)>,
}

#[derive(FromQueryResult)]
struct WorkRow {
    calendar_id: Uuid,
    calendar: String,
    uid: String,
    starts_at: OffsetDateTime,
    ends_at: OffsetDateTime,
    summary: String,
    sites: Vec<String>,
    owners: Vec<i64>,
    explained: Vec<Uuid>,
    numbers: Vec<i64>,
}

impl From<WorkRow> for PlannedWorkRecord {
    fn from(row: WorkRow) -> Self {
        let owners = row.owners.into_iter().filter_map(|it| u32::try_from(it).ok()).collect();
        let work = PlannedWork {
            uid: row.uid,
            starts_at: row.starts_at,
            ends_at: row.ends_at,
            summary: row.summary,
            sites: row.sites,
            owners,
        };
        let explained = row.explained.into_iter().zip(row.numbers).collect();
        Self { calendar_id: row.calendar_id, calendar: row.calendar, work, explained }
    }
}

#[derive(FromQueryResult)]
struct DueRow {
    name: String,
    url: Option<String>,
    site: Option<String>,
    owner: Option<i64>,
    zone: String,
    content: String,
}

async fn replace_work(
    txn: &DatabaseTransaction,
    calendar: Uuid,
    works: &[PlannedWork],
) -> Result<(), StoreError> {
    let delete = "DELETE FROM planned_work WHERE calendar_id = $1";
    txn.execute_raw(sql(delete, [calendar.into()])).await?;
    let insert = "INSERT INTO planned_work \
             (calendar_id, uid, starts_at, ends_at, summary, sites, owners) \
         VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING";
    for work in works {
        let owners: Vec<i64> = work.owners.iter().map(|it| i64::from(*it)).collect();
        let values: [Value; 7] = [
            calendar.into(),
            work.uid.clone().into(),
            work.starts_at.into(),
            work.ends_at.into(),
            work.summary.clone().into(),
            work.sites.clone().into(),
            owners.into(),
        ];
        txn.execute_raw(sql(insert, values)).await?;
    }
    Ok(())
}

impl Store {
    /// Saves a calendar under its name, with the occurrences of its events.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn save_calendar(
        &self,
        spec: &CalendarSpec,
        works: &[PlannedWork],
        next_at: OffsetDateTime,
        user: &str,
    ) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let upsert = "INSERT INTO calendar (id, name, url, site, owner, zone, content, fetched_at, \
                 next_at, saved_by) VALUES ($1, $2, $3, $4, $5, $6, $7, now(), $8, $9) \
             ON CONFLICT (name) DO UPDATE SET url = excluded.url, site = excluded.site, \
                 owner = excluded.owner, zone = excluded.zone, content = excluded.content, \
                 fetched_at = excluded.fetched_at, next_at = excluded.next_at, error = NULL, \
                 saved_by = excluded.saved_by \
             RETURNING id";
        let values: [Value; 9] = [
            Uuid::now_v7().into(),
            spec.name.clone().into(),
            spec.url.clone().into(),
            spec.site.clone().into(),
            spec.owner.map(i64::from).into(),
            spec.zone.clone().into(),
            spec.content.clone().into(),
            next_at.into(),
            user.into(),
        ];
        let id: Option<Uuid> = rows::value(&txn, upsert, values).await?;
        let id = id.ok_or_else(|| StoreError::corrupt("calendar"))?;
        replace_work(&txn, id, works).await?;
        let detail = serde_json::json!({ "url": spec.url, "site": spec.site, "owner": spec.owner,
            "occurrences": works.len() });
        let (action, object) = (Action::CalendarSaved, spec.name.as_str());
        audit(&txn, &Audited { user, action, object, detail }).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Removes a calendar with its work; false where none has the name. Alarms that it explained stay as they
    /// are.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn remove_calendar(&self, name: &str, user: &str) -> Result<bool, StoreError> {
        let txn = self.db.begin().await?;
        let delete = "DELETE FROM calendar WHERE name = $1";
        let removed = txn.execute_raw(sql(delete, [name.into()])).await?.rows_affected() == 1;
        if removed {
            let (action, detail) = (Action::CalendarRemoved, serde_json::json!({}));
            audit(&txn, &Audited { user, action, object: name, detail }).await?;
        }
        txn.commit().await?;
        Ok(removed)
    }

    /// Calendars by name.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn calendars(&self) -> Result<Vec<CalendarRecord>, StoreError> {
        let select = "SELECT c.id, c.name, c.url, c.site, c.owner, c.zone, c.fetched_at, c.error, \
                 c.saved_by, (SELECT count(*) FROM planned_work w WHERE w.calendar_id = c.id) \
                     AS occurrences \
             FROM calendar c ORDER BY c.name";
        rows::all(&self.db, select, []).await
    }

    /// Calendars that are to be fetched or expanded again.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn due_calendars(
        &self,
        now: OffsetDateTime,
    ) -> Result<Vec<CalendarSpec>, StoreError> {
        let select = "SELECT name, url, site, owner, zone, content FROM calendar \
             WHERE next_at <= $1 ORDER BY next_at LIMIT 20";
        let found: Vec<DueRow> = rows::all(&self.db, select, [now.into()]).await?;
        let spec = |row: DueRow| CalendarSpec {
            name: row.name,
            url: row.url,
            site: row.site,
            owner: row.owner.and_then(|owner| u32::try_from(owner).ok()),
            zone: row.zone,
            content: row.content,
        };
        Ok(found.into_iter().map(spec).collect())
    }

    /// Records a calendar that was fetched or expanded again, or why not. It keeps what it had then.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn record_calendar(
        &self,
        name: &str,
        outcome: Result<(&str, &[PlannedWork]), &str>,
        next_at: OffsetDateTime,
    ) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let (content, works, error) = match outcome {
            Ok((content, works)) => (Some(content), Some(works), None),
            Err(error) => (None, None, Some(error)),
        };
        let update = "UPDATE calendar SET content = coalesce($2, content), error = $3, \
                 fetched_at = CASE WHEN $2::text IS NULL THEN fetched_at ELSE now() END, \
                 next_at = $4 WHERE name = $1 RETURNING id";
        let values: [Value; 4] = [
            name.into(),
            content.map(str::to_owned).into(),
            error.map(str::to_owned).into(),
            next_at.into(),
        ];
        let id: Option<Uuid> = rows::value(&txn, update, values).await?;
        if let (Some(id), Some(works)) = (id, works) {
            replace_work(&txn, id, works).await?;
        }
        txn.commit().await?;
        Ok(())
    }

    /// Planned work within a range, by begin, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn planned_work(
        &self,
        from: OffsetDateTime,
        to: OffsetDateTime,
        limit: i64,
    ) -> Result<Vec<PlannedWorkRecord>, StoreError> {
        let select = "SELECT w.calendar_id, c.name AS calendar, w.uid, w.starts_at, w.ends_at, \
                 w.summary, w.sites, w.owners, \
                 coalesce(array_agg(e.alarm_id ORDER BY e.at, a.no) FILTER (WHERE a.no IS NOT NULL), \
                     '{}') AS explained, \
                 coalesce(array_agg(a.no ORDER BY e.at, a.no) FILTER (WHERE a.no IS NOT NULL), '{}') \
                     AS numbers \
             FROM planned_work w JOIN calendar c ON c.id = w.calendar_id \
                 LEFT JOIN explained_alarm e ON e.calendar_id = w.calendar_id AND e.uid = w.uid \
                     AND e.starts_at = w.starts_at \
                 LEFT JOIN alarm a ON a.id = e.alarm_id \
             WHERE w.ends_at > $1 AND w.starts_at <= $2 \
             GROUP BY w.calendar_id, c.name, w.uid, w.starts_at, w.ends_at, w.summary, w.sites, w.owners \
             ORDER BY w.starts_at, w.uid LIMIT $3";
        let values: [Value; 3] = [from.into(), to.into(), limit.into()];
        let found: Vec<WorkRow> = rows::all(&self.db, select, values).await?;
        Ok(found.into_iter().map(PlannedWorkRecord::from).collect())
    }

    /// Records that planned work explains an alarm; false where it was recorded before.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn record_explained(
        &self,
        work: &PlannedWorkRecord,
        root: Uuid,
        at: OffsetDateTime,
    ) -> Result<bool, StoreError> {
        let insert = "INSERT INTO explained_alarm (calendar_id, uid, starts_at, alarm_id, at) \
             VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING";
        let values: [Value; 5] = [
            work.calendar_id.into(),
            work.work.uid.clone().into(),
            work.work.starts_at.into(),
            root.into(),
            at.into(),
        ];
        Ok(self.db.execute_raw(sql(insert, values)).await?.rows_affected() == 1)
    }
}
