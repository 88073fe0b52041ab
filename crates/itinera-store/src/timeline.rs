//! The timeline of an incident.

use crate::StoreError;
use crate::change_feed;
use crate::entity::{incident, incident_event};
use crate::statement::{recordable_json, sql};
use itinera_model::alarm::AlarmClass;
use itinera_model::id::{DiagnosisId, IncidentId};
use itinera_model::incident::TimelineKind;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{ActiveValue::Set, DatabaseTransaction};
use time::OffsetDateTime;

/// The author of entries that no user made.
pub(crate) const ITSELF: &str = "Itinera";

/// Something to enter into an incident's timeline.
pub(crate) struct Entry<'a> {
    pub(crate) incident: IncidentId,
    pub(crate) at: OffsetDateTime,
    pub(crate) user: &'a str,
    pub(crate) kind: TimelineKind,
    pub(crate) body: Json,
}

pub(crate) async fn enter(txn: &DatabaseTransaction, entry: Entry<'_>) -> Result<(), StoreError> {
    let Entry { incident, at, user, kind, body } = entry;
    let row = incident_event::ActiveModel {
        id: Set(Uuid::now_v7()),
        incident_id: Set(incident.as_uuid()),
        at: Set(at),
        user: Set(user.to_owned()),
        kind: Set(kind.name().to_owned()),
        body: Set(recordable_json(body)),
    };
    incident_event::Entity::insert(row).exec_without_returning(txn).await?;
    let change = serde_json::json!({ "id": incident, "what": kind });
    change_feed::add(txn, change_feed::Topic::Incident, change).await
}

/// A new incident, with its complaint and the evidence gathered for it as JSON.
pub(crate) async fn open_incident(
    txn: &DatabaseTransaction,
    at: OffsetDateTime,
    complaint: Option<Json>,
    evidence: Option<Json>,
) -> Result<IncidentId, StoreError> {
    let id = Uuid::now_v7();
    let row = incident::ActiveModel {
        id: Set(id),
        opened_at: Set(at),
        closed_at: Set(None),
        complaint: Set(complaint.map(recordable_json)),
        evidence: Set(evidence.map(recordable_json)),
        ..Default::default()
    };
    incident::Entity::insert(row).exec_without_returning(txn).await?;
    Ok(IncidentId::from_uuid(id))
}

/// Closes an incident without a complaint that has lost its last alarm to another.
pub(crate) async fn close_where_empty(
    txn: &DatabaseTransaction,
    incident: IncidentId,
    at: OffsetDateTime,
) -> Result<(), StoreError> {
    let update = "UPDATE incident SET closed_at = $2 \
         WHERE id = $1 AND closed_at IS NULL AND complaint IS NULL \
             AND NOT EXISTS (SELECT FROM alarm WHERE incident_id = $1)";
    let closed = txn.execute_raw(sql(update, [incident.as_uuid().into(), at.into()])).await?;
    if closed.rows_affected() == 1 {
        let body =
            serde_json::json!({ "text": "All of its alarms are attached to other incidents." });
        enter(txn, Entry { incident, at, user: ITSELF, kind: TimelineKind::Closed, body }).await?;
    }
    Ok(())
}

/// Alarms and incidents have one writer at a time: judgement, or a user. Each changes several of them, in
/// any order.
pub(crate) async fn hold_alarms(txn: &DatabaseTransaction) -> Result<(), StoreError> {
    txn.execute_unprepared("SELECT pg_advisory_xact_lock(hashtext('alarms'))").await?;
    Ok(())
}

/// An alarm or an event, and the incident that it belongs to.
#[derive(FromQueryResult)]
pub(crate) struct Placed {
    pub(crate) id: Uuid,
    pub(crate) incident_id: Option<Uuid>,
}

/// Enters a diagnosis started for an incident.
pub(crate) async fn record_diagnosis(
    txn: &DatabaseTransaction,
    id: DiagnosisId,
    incident: IncidentId,
    user: &str,
) -> Result<(), StoreError> {
    let (at, body) = (OffsetDateTime::now_utc(), serde_json::json!({ "diagnosis": id }));
    enter(txn, Entry { incident, at, user, kind: TimelineKind::DiagnosisStarted, body }).await
}

/// Enters that an alarm has cleared or an event is over, where it belongs to an incident.
pub(crate) async fn note_end(
    txn: &DatabaseTransaction,
    of: AlarmClass,
    placed: &Placed,
    at: OffsetDateTime,
) -> Result<(), StoreError> {
    let Some(incident) = placed.incident_id.map(IncidentId::from_uuid) else { return Ok(()) };
    let (kind, body) = match of {
        AlarmClass::Path => (TimelineKind::AlarmCleared, serde_json::json!({ "alarm": placed.id })),
        AlarmClass::Event | AlarmClass::Service => {
            (TimelineKind::EventEnded, serde_json::json!({ "event": placed.id }))
        }
    };
    enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await
}
