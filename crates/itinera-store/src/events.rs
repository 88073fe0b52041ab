//! Events, for a moment or lasting.

use crate::alarms::{EndedRow, StateChange, insert, note_state};
use crate::change_feed;
use crate::correlation::{Correlation, Incidents};
use crate::notices::{self, Touched};
use crate::timeline::{self, Placed, hold_alarms};
use crate::times::{Lasting, offset};
use crate::{Store, StoreError, rows, triage};
use itinera_model::alarm::{AlarmClass, AlarmState};
use itinera_model::event::{Event, EventEffect, EventKind, Fault};
use itinera_model::id::{AgentId, EventId, IncidentId};
use sea_orm::DatabaseTransaction;
use sea_orm::entity::prelude::*;
use sea_orm::{FromQueryResult, TransactionTrait};
use std::collections::{BTreeMap, BTreeSet};
use time::OffsetDateTime;

/// An event as recorded.
#[derive(Debug, Clone, PartialEq)]
pub struct EventRecord {
    /// Its name.
    pub id: EventId,
    /// Its short number.
    pub no: i64,
    /// The event.
    pub event: Event,
    /// The site of its agent; absent for what is about the service itself.
    pub site: Option<String>,
    /// When it was over; absent while it lasts.
    pub ended_at: Option<OffsetDateTime>,
    /// The incident that it belongs to.
    pub incident: Option<IncidentId>,
    /// The first event of its cause in that incident, itself or another: both are one alarm.
    pub root: EventId,
}

impl EventRecord {
    /// The event, the name of its site, which is empty without one, and whether it is over.
    pub fn standing(&self) -> (&Event, &str, bool) {
        (&self.event, self.site.as_deref().unwrap_or_default(), self.ended_at.is_some())
    }
}

/// Which events.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct EventQuery {
    /// Only those that lasted then.
    pub lasting: Lasting,
    /// Only faults.
    pub faults: bool,
    /// Only those of this agent.
    pub agent: Option<AgentId>,
    /// Only those of this incident.
    pub incident: Option<IncidentId>,
}

const SELECT: &str = "SELECT e.id, e.no, e.body, e.cleared_at, e.incident_id, e.root_id, \
         s.name AS site \
     FROM alarm e LEFT JOIN agent a ON a.id = e.agent_id LEFT JOIN site s ON s.id = a.site_id";

#[derive(FromQueryResult)]
struct EventRow {
    id: Uuid,
    no: i64,
    body: Json,
    site: Option<String>,
    cleared_at: Option<OffsetDateTime>,
    incident_id: Option<Uuid>,
    root_id: Uuid,
}

fn record(row: EventRow) -> Result<EventRecord, StoreError> {
    Ok(EventRecord {
        id: EventId::from_uuid(row.id),
        no: row.no,
        event: serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("event"))?,
        site: row.site,
        ended_at: row.cleared_at,
        incident: row.incident_id.map(IncidentId::from_uuid),
        root: EventId::from_uuid(row.root_id),
    })
}

impl Store {
    /// One event; absent when nothing has this id.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn event(&self, id: EventId) -> Result<Option<EventRecord>, StoreError> {
        let select = format!("{SELECT} WHERE e.id = $1 AND e.class <> 'path'");
        rows::first(&self.db, &select, [id.as_uuid().into()]).await?.map(record).transpose()
    }

    /// Events, newest first, at most `limit`, those before `before` in that order.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn events(
        &self,
        which: EventQuery,
        before: Option<(OffsetDateTime, EventId)>,
        limit: u64,
    ) -> Result<Vec<EventRecord>, StoreError> {
        let select = format!(
            "{SELECT} WHERE e.class = 'event' AND (NOT $1 OR e.cleared_at IS NULL) \
                 AND (NOT $2 OR e.severity IS NOT NULL) \
                 AND ($3::uuid IS NULL OR e.agent_id = $3) \
                 AND ($4::uuid IS NULL OR e.incident_id = $4) \
                 AND ($5::timestamptz IS NULL OR e.cleared_at IS NULL OR e.cleared_at >= $5) \
                 AND ($9::timestamptz IS NULL OR e.raised_at <= $9) \
                 AND ($6::timestamptz IS NULL OR (e.raised_at, e.id) < ($6, $7)) \
             ORDER BY e.raised_at DESC, e.id DESC LIMIT $8"
        );
        let values: [Value; 9] = [
            which.lasting.open.into(),
            which.faults.into(),
            which.agent.map(AgentId::as_uuid).into(),
            which.incident.map(IncidentId::as_uuid).into(),
            which.lasting.from.into(),
            before.map(|(at, _)| at).into(),
            before.map_or(Uuid::nil(), |(_, id)| id.as_uuid()).into(),
            i64::try_from(limit).unwrap_or(i64::MAX).into(),
            which.lasting.to.into(),
        ];
        rows::all(&self.db, &select, values).await?.into_iter().map(record).collect()
    }

    /// The open alarms of the service itself.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn open_self_alarms(&self) -> Result<Vec<Event>, StoreError> {
        let select = "SELECT body FROM alarm WHERE class = $1 AND cleared_at IS NULL ORDER BY id";
        let bodies = rows::column(&self.db, select, [AlarmClass::Service.name().into()]).await?;
        let read = |body| serde_json::from_value(body).map_err(|_| StoreError::corrupt("event"));
        bodies.into_iter().map(read).collect()
    }

    /// Records what follows from how the service stands, all or nothing. `correlation` decides to which
    /// incidents new alarms belong.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn record_self_alarms(
        &self,
        effects: &[EventEffect],
        now: OffsetDateTime,
        correlation: &mut dyn Correlation,
    ) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        hold_alarms(&txn).await?;
        let mut incidents = Incidents::new(correlation, (now, now));
        let mut touched = Touched::default();
        for effect in effects {
            touched.alarms.extend(write(&txn, effect, &mut incidents).await?);
        }
        touched.incidents = std::mem::take(&mut incidents.merged);
        notices::note(&txn, touched, (now, now)).await?;
        txn.commit().await?;
        Ok(())
    }

    /// The sites with an agent that reports nothing.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn silent_sites(&self) -> Result<BTreeSet<String>, StoreError> {
        let select = "SELECT DISTINCT s.name FROM alarm e \
                 JOIN agent a ON a.id = e.agent_id JOIN site s ON s.id = a.site_id \
             WHERE e.class = 'event' AND e.cleared_at IS NULL AND e.body#>>'{key,kind}' = $1";
        let kind = EventKind::AgentSilent.to_string();
        let names: Vec<String> = rows::column(&self.db, select, [kind.into()]).await?;
        Ok(names.into_iter().collect())
    }
}

/// The events that are one alarm with each of some roots: the root, then the others, oldest first.
pub(crate) async fn of_roots(
    db: &DatabaseConnection,
    roots: Vec<Uuid>,
) -> Result<BTreeMap<Uuid, Vec<EventRecord>>, StoreError> {
    let select = format!(
        "{SELECT} WHERE e.class <> 'path' AND e.root_id = ANY($1) \
         ORDER BY e.id <> e.root_id, e.raised_at, e.id"
    );
    let mut by_root: BTreeMap<Uuid, Vec<EventRecord>> = BTreeMap::new();
    for row in rows::all::<EventRow>(db, &select, [roots.into()]).await? {
        by_root.entry(row.root_id).or_default().push(record(row)?);
    }
    Ok(by_root)
}

/// Faults by incident, oldest first.
pub(crate) async fn of_incidents(
    db: &DatabaseConnection,
    incidents: Vec<Uuid>,
) -> Result<BTreeMap<Uuid, Vec<EventRecord>>, StoreError> {
    let select = format!(
        "{SELECT} WHERE e.class <> 'path' AND e.incident_id = ANY($1) ORDER BY e.raised_at, e.id"
    );
    let mut by_incident: BTreeMap<Uuid, Vec<EventRecord>> = BTreeMap::new();
    for row in rows::all::<EventRow>(db, &select, [incidents.into()]).await? {
        if let Some(incident) = row.incident_id {
            by_incident.entry(incident).or_default().push(record(row)?);
        }
    }
    Ok(by_incident)
}

/// Records what judgement says of an event; gives its id, where it is known. A fault belongs to one of
/// the `incidents`.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    effect: &EventEffect,
    incidents: &mut Incidents<'_>,
) -> Result<Option<Uuid>, StoreError> {
    let (id, what, now) = match effect {
        EventEffect::Occurred(event) => {
            let at = offset(event.raised_at);
            let id = insert(txn, &Fault::Event(event.clone()), Some(at)).await?;
            let state = StateChange { at, state: AlarmState::Cleared, severity: event.severity };
            (id, "occurred", state)
        }
        EventEffect::Began(event) => {
            let fault = Fault::Event(event.clone());
            let id = insert(txn, &fault, None).await?;
            let (at, severity) = (offset(event.raised_at), event.severity);
            if severity.is_some() {
                incidents.place(txn, id, &fault).await?;
                triage::note_return(txn, id, at).await?;
            }
            (id, "began", StateChange { at, state: AlarmState::Open, severity })
        }
        EventEffect::Changed { event, at } => {
            if let Some(severity) = event.severity {
                let class = event.key.kind.class();
                let risen = (class, serde_json::json!(event.key), severity);
                triage::note_severity(txn, risen, offset(*at)).await?;
            }
            // The class is written out: there is an index for the open ones of each.
            let update = format!(
                "UPDATE alarm SET body = $2, severity = $2::jsonb->>'severity' \
                 WHERE key = $1 AND cleared_at IS NULL AND class = '{}' RETURNING id, incident_id",
                event.key.kind.class().name()
            );
            let values = [serde_json::json!(event.key).into(), serde_json::json!(event).into()];
            let placed: Option<Placed> = rows::first(txn, &update, values).await?;
            let Some(Placed { id, incident_id }) = placed else { return Ok(None) };
            if incident_id.is_none() && event.severity.is_some() {
                incidents.place(txn, id, &Fault::Event(event.clone())).await?;
                triage::note_return(txn, id, offset(*at)).await?;
            }
            let (at, severity) = (offset(*at), event.severity);
            (id, "changed", StateChange { at, state: AlarmState::Open, severity })
        }
        EventEffect::Ended { key, at } => {
            let update = format!(
                "UPDATE alarm SET cleared_at = $2 \
                 WHERE key = $1 AND cleared_at IS NULL AND class = '{}' \
                 RETURNING id, incident_id, body",
                key.kind.class().name()
            );
            let values = [serde_json::json!(key).into(), offset(*at).into()];
            let ended: Option<EndedRow> = rows::first(txn, &update, values).await?;
            let Some(EndedRow { id, incident_id, body }) = ended else { return Ok(None) };
            let event: Event =
                serde_json::from_value(body).map_err(|_| StoreError::corrupt("event"))?;
            let (at, severity) = (offset(*at), event.severity);
            let class = event.key.kind.class();
            timeline::note_end(txn, class, &Placed { id, incident_id }, at).await?;
            (id, "ended", StateChange { at, state: AlarmState::Cleared, severity })
        }
    };
    note_state(txn, id, now).await?;
    let body = serde_json::json!({ "id": id, "what": what });
    change_feed::add(txn, change_feed::Topic::Event, body).await?;
    Ok(Some(id))
}
