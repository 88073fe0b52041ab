//! Incidents: alarms of one cause, or a complaint, reviewed together.

use crate::alarms::{AlarmRecord, alarm_record};
use crate::entity::{alarm, incident, incident_event};
use crate::events;
use crate::events::EventRecord;
use crate::statement::sql;
use crate::timeline::{Entry, ITSELF, enter, hold_alarms, open_incident};
use crate::times::Lasting;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::alarm::AlarmClass;
use itinera_model::audit::Action;
use itinera_model::id::IncidentId;
use itinera_model::incident::TimelineKind;
use sea_orm::entity::prelude::*;
use sea_orm::{ExprTrait, QueryOrder, QuerySelect, TransactionTrait};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// The reported problem.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Complaint {
    /// The site it comes from.
    pub site: String,
    /// The service it is about.
    pub service: String,
    /// Since about when.
    #[serde(with = "time::serde::rfc3339")]
    pub about: OffsetDateTime,
    /// In their own words.
    pub words: String,
    /// The user.
    pub user: String,
}

/// An incident with its alarms.
#[derive(Debug, Clone, PartialEq)]
pub struct IncidentRecord {
    /// Its id.
    pub id: IncidentId,
    /// Its short number.
    pub no: i64,
    /// When it was opened.
    pub opened_at: OffsetDateTime,
    /// When it was closed; absent while open.
    pub closed_at: Option<OffsetDateTime>,
    /// The complaint that opened it; absent where alarms did.
    pub complaint: Option<Complaint>,
    /// What was gathered for the complaint, frozen.
    pub evidence: Option<Json>,
    /// Its alarms, oldest first.
    pub alarms: Vec<AlarmRecord>,
    /// Faults that no path shows, oldest first.
    pub faults: Vec<EventRecord>,
}

/// An entry in the timeline of an incident.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IncidentEvent {
    /// Its id.
    pub id: Uuid,
    /// When.
    pub at: OffsetDateTime,
    /// The user; the service itself where it acted alone.
    pub user: String,
    /// Its kind.
    pub kind: TimelineKind,
    /// How.
    pub body: Json,
}

impl From<incident_event::Model> for IncidentEvent {
    fn from(row: incident_event::Model) -> Self {
        let incident_event::Model { id, at, user, kind, body, .. } = row;
        Self { id, at, user, kind: TimelineKind::of(&kind), body }
    }
}

/// Why a change to an incident is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum IncidentRefused {
    /// There is none of this id.
    #[error("there is no incident of this id")]
    Unknown,
    /// It is closed already.
    #[error("this incident is closed; reopen it to go on")]
    Closed,
    /// It is open already.
    #[error("this incident is open")]
    Open,
}

impl Store {
    /// The short numbers of incidents.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn incident_numbers(
        &self,
        ids: impl IntoIterator<Item = IncidentId>,
    ) -> Result<BTreeMap<IncidentId, i64>, StoreError> {
        let ids: Vec<Uuid> = ids.into_iter().map(IncidentId::as_uuid).collect();
        let rows = incident::Entity::find()
            .filter(incident::Column::Id.is_in(ids))
            .select_only()
            .columns([incident::Column::Id, incident::Column::No])
            .into_tuple::<(Uuid, i64)>();
        let rows = rows.all(&self.db).await?;
        Ok(rows.into_iter().map(|(id, no)| (IncidentId::from_uuid(id), no)).collect())
    }

    /// Incidents, newest first, at most `limit`, those before `before` in that order.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn incidents(
        &self,
        which: Lasting,
        before: Option<(OffsetDateTime, IncidentId)>,
        limit: u64,
    ) -> Result<Vec<IncidentRecord>, StoreError> {
        let mut query = incident::Entity::find()
            .filter(which.condition(incident::Column::OpenedAt, incident::Column::ClosedAt))
            .order_by_desc(incident::Column::OpenedAt)
            .order_by_desc(incident::Column::Id)
            .limit(limit);
        if let Some((at, id)) = before {
            let same_time = incident::Column::OpenedAt.eq(at);
            let earlier = incident::Column::OpenedAt.lt(at);
            query = query.filter(earlier.or(same_time.and(incident::Column::Id.lt(id.as_uuid()))));
        }
        let rows = query.all(&self.db).await?;
        self.with_alarms(rows).await
    }

    /// One incident; absent when nothing has this id.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn incident(&self, id: IncidentId) -> Result<Option<IncidentRecord>, StoreError> {
        let row = incident::Entity::find_by_id(id.as_uuid()).one(&self.db).await?;
        Ok(self.with_alarms(row.into_iter().collect()).await?.pop())
    }

    async fn with_alarms(
        &self,
        rows: Vec<incident::Model>,
    ) -> Result<Vec<IncidentRecord>, StoreError> {
        let ids = rows.iter().map(|row| row.id);
        let rows_ids: Vec<Uuid> = ids.clone().collect();
        let alarms = alarm::Entity::find()
            .filter(alarm::Column::IncidentId.is_in(ids))
            .filter(alarm::Column::Class.eq(AlarmClass::Path.name()))
            .order_by_asc(alarm::Column::RaisedAt)
            .order_by_asc(alarm::Column::Id)
            .all(&self.db)
            .await?;
        let mut by_incident: BTreeMap<Uuid, Vec<AlarmRecord>> = BTreeMap::new();
        for row in alarms {
            let incident = row.incident_id.unwrap_or_default();
            by_incident.entry(incident).or_default().push(alarm_record(row)?);
        }
        let mut faults = events::of_incidents(&self.db, rows_ids).await?;
        let record = |row: incident::Model| -> Result<IncidentRecord, StoreError> {
            let complaint = row.complaint.map(serde_json::from_value).transpose();
            Ok(IncidentRecord {
                id: IncidentId::from_uuid(row.id),
                no: row.no,
                opened_at: row.opened_at,
                closed_at: row.closed_at,
                complaint: complaint.map_err(|_| StoreError::corrupt("complaint"))?,
                evidence: row.evidence,
                alarms: by_incident.remove(&row.id).unwrap_or_default(),
                faults: faults.remove(&row.id).unwrap_or_default(),
            })
        };
        rows.into_iter().map(record).collect()
    }

    /// What occurred in an incident, in order.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn incident_events(&self, id: IncidentId) -> Result<Vec<IncidentEvent>, StoreError> {
        let rows = incident_event::Entity::find()
            .filter(incident_event::Column::IncidentId.eq(id.as_uuid()))
            .order_by_asc(incident_event::Column::At)
            .order_by_asc(incident_event::Column::Id)
            .all(&self.db)
            .await?;
        Ok(rows.into_iter().map(IncidentEvent::from).collect())
    }

    /// What occurred in some incidents since a time, in order.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn timelines_since(
        &self,
        ids: impl IntoIterator<Item = IncidentId>,
        since: OffsetDateTime,
    ) -> Result<BTreeMap<IncidentId, Vec<IncidentEvent>>, StoreError> {
        let ids = ids.into_iter().map(IncidentId::as_uuid);
        let rows = incident_event::Entity::find()
            .filter(incident_event::Column::IncidentId.is_in(ids))
            .filter(incident_event::Column::At.gte(since))
            .order_by_asc(incident_event::Column::At)
            .order_by_asc(incident_event::Column::Id)
            .all(&self.db)
            .await?;
        let mut timelines: BTreeMap<IncidentId, Vec<IncidentEvent>> = BTreeMap::new();
        for row in rows {
            let incident = IncidentId::from_uuid(row.incident_id);
            timelines.entry(incident).or_default().push(row.into());
        }
        Ok(timelines)
    }

    /// Opens an incident from a complaint, with what was gathered for it.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn open_complaint(
        &self,
        complaint: &Complaint,
        evidence: Json,
    ) -> Result<IncidentId, StoreError> {
        let txn = self.db.begin().await?;
        let at = OffsetDateTime::now_utc();
        let incident =
            open_incident(&txn, at, Some(serde_json::json!(complaint)), Some(evidence)).await?;
        let user = complaint.user.as_str();
        let body = serde_json::json!({ "words": complaint.words });
        enter(&txn, Entry { incident, at, user, kind: TimelineKind::Opened, body }).await?;
        let object = incident.to_string();
        let detail = serde_json::json!({ "site": complaint.site, "service": complaint.service });
        let entry = Audited { user, action: Action::IncidentOpened, object: &object, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        Ok(incident)
    }

    /// Writes a note.
    ///
    /// # Errors
    /// [`IncidentRefused`]; [`StoreError::Database`].
    pub async fn add_note(
        &self,
        incident: IncidentId,
        text: &str,
        by: &str,
    ) -> Result<(), StoreError> {
        let body = serde_json::json!({ "text": text });
        self.act(incident, by, TimelineKind::Note, body, None).await
    }

    /// Closes an incident.
    ///
    /// # Errors
    /// [`IncidentRefused`]; [`StoreError::Database`].
    pub async fn close_incident(
        &self,
        incident: IncidentId,
        words: &str,
        by: &str,
    ) -> Result<(), StoreError> {
        let body = serde_json::json!({ "text": words });
        self.act(incident, by, TimelineKind::Closed, body, Some(false)).await
    }

    /// Opens a closed incident again.
    ///
    /// # Errors
    /// [`IncidentRefused`]; [`StoreError::Database`].
    pub async fn reopen_incident(&self, incident: IncidentId, by: &str) -> Result<(), StoreError> {
        let body = serde_json::json!({});
        self.act(incident, by, TimelineKind::Reopened, body, Some(true)).await
    }

    async fn act(
        &self,
        incident: IncidentId,
        user: &str,
        kind: TimelineKind,
        body: Json,
        open: Option<bool>,
    ) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        hold_alarms(&txn).await?;
        let found = incident::Entity::find_by_id(incident.as_uuid()).lock_exclusive();
        let row = found.one(&txn).await?.ok_or(IncidentRefused::Unknown)?;
        match (open, row.closed_at) {
            (Some(false), Some(_)) => return Err(IncidentRefused::Closed.into()),
            (Some(true), None) => return Err(IncidentRefused::Open.into()),
            _ => {}
        }
        let at = OffsetDateTime::now_utc();
        if let Some(open) = open {
            let closed_at = (!open).then_some(at);
            let update = "UPDATE incident SET closed_at = $2 WHERE id = $1";
            txn.execute_raw(sql(update, [incident.as_uuid().into(), closed_at.into()])).await?;
        }
        enter(&txn, Entry { incident, at, user, kind, body }).await?;
        let action = match open {
            None => Action::IncidentNoted,
            Some(false) => Action::IncidentClosed,
            Some(true) => Action::IncidentReopened,
        };
        let object = incident.to_string();
        let detail = serde_json::json!({});
        audit(&txn, &Audited { user, action, object: &object, detail }).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Closes incidents with all alarms and events over for half an hour before `now`.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn close_settled_incidents(&self, now: OffsetDateTime) -> Result<(), StoreError> {
        let select = "SELECT i.id FROM incident i JOIN alarm a ON a.incident_id = i.id \
             WHERE i.closed_at IS NULL AND i.complaint IS NULL GROUP BY i.id \
             HAVING bool_and(a.cleared_at IS NOT NULL) \
                 AND max(a.cleared_at) < $1 - interval '30 minutes'";
        let settled: Vec<Uuid> = rows::column(&self.db, select, [now.into()]).await?;
        for id in settled.into_iter().map(IncidentId::from_uuid) {
            match self.close_incident(id, "All of it has been over for 30 minutes.", ITSELF).await {
                Err(StoreError::Incident(IncidentRefused::Closed)) | Ok(()) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }
}
