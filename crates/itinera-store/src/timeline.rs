//! The timeline of an incident, and how faults get into incidents.

use crate::change_feed;
use crate::entity::{incident, incident_event};
use crate::statement::{recordable_json, sql};
use crate::times::offset;
use crate::{StoreError, rows};
use itinera_model::event::Fault;
use itinera_model::id::{DiagnosisId, IncidentId};
use itinera_model::incident::TimelineKind;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{ActiveValue::Set, DatabaseTransaction};
use time::OffsetDateTime;

/// The author of entries that no user made.
pub(crate) const ITSELF: &str = "Itinera";

/// Chooses the incident of a new fault, among the open ones with their faults.
pub type ChooseIncident<'a> =
    dyn Fn(&Fault, &[(IncidentId, Vec<Fault>)]) -> Option<IncidentId> + Send + Sync + 'a;

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

/// What a row of the table of alarms is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Class {
    /// The alarm of a path.
    Path,
    /// An event of an agent, a check or a route.
    Event,
}

impl Class {
    pub(crate) const fn name(self) -> &'static str {
        match self {
            Self::Path => "path",
            Self::Event => "event",
        }
    }
}

/// An alarm or an event, and the incident that it belongs to.
#[derive(FromQueryResult)]
pub(crate) struct Placed {
    pub(crate) id: Uuid,
    pub(crate) incident_id: Option<Uuid>,
}

#[derive(FromQueryResult)]
struct FaultRow {
    id: Uuid,
    body: Json,
    is_alarm: bool,
}

/// The incidents with their faults, oldest first, that a fault which began at `since` and was raised
/// at `at` can belong to: those that were open then. One with all faults over for half an hour
/// takes no more: what comes then is another.
async fn open_with_faults(
    txn: &DatabaseTransaction,
    (since, at): (OffsetDateTime, OffsetDateTime),
) -> Result<Vec<(IncidentId, Vec<Fault>)>, StoreError> {
    let select = "SELECT i.id, a.body, a.class = 'path' AS is_alarm FROM incident i \
             JOIN alarm a ON a.incident_id = i.id \
         WHERE (i.closed_at IS NULL OR i.closed_at > $1) AND (a.cleared_at IS NULL OR \
             a.cleared_at > $2 - interval '30 minutes') ORDER BY i.id, a.id";
    let mut open: Vec<(IncidentId, Vec<Fault>)> = Vec::new();
    for row in rows::all::<FaultRow>(txn, select, [since.into(), at.into()]).await? {
        let id = IncidentId::from_uuid(row.id);
        let fault = if row.is_alarm {
            serde_json::from_value(row.body).map(Fault::Alarm)
        } else {
            serde_json::from_value(row.body).map(Fault::Event)
        };
        let fault = fault.map_err(|_| StoreError::corrupt("alarm or event"))?;
        match open.last_mut() {
            Some((last, faults)) if *last == id => faults.push(fault),
            _ => open.push((id, vec![fault])),
        }
    }
    Ok(open)
}

/// The incident of the cause of a fault, or a new one.
async fn incident_of(
    txn: &DatabaseTransaction,
    fault: &Fault,
    (since, at): (OffsetDateTime, OffsetDateTime),
    fold: &ChooseIncident<'_>,
) -> Result<IncidentId, StoreError> {
    let open = open_with_faults(txn, (since, at)).await?;
    if let Some(incident) = fold(fault, &open) {
        return Ok(incident);
    }
    let incident = open_incident(txn, at, None, None).await?;
    let body = serde_json::json!({});
    enter(txn, Entry { incident, at, user: ITSELF, kind: TimelineKind::Opened, body }).await?;
    Ok(incident)
}

/// Enters a fault into the incident of its cause, or opens one; gives that. `id` is that of the alarm or event.
pub(crate) async fn place(
    txn: &DatabaseTransaction,
    id: Uuid,
    fault: &Fault,
    fold: &ChooseIncident<'_>,
) -> Result<IncidentId, StoreError> {
    let (since, raised_at, kind, body) = match fault {
        Fault::Alarm(alarm) => {
            let body = serde_json::json!({ "alarm": id });
            (alarm.since, alarm.raised_at, TimelineKind::AlarmRaised, body)
        }
        Fault::Event(event) => {
            let body = serde_json::json!({ "event": id });
            (event.since, event.raised_at, TimelineKind::EventBegan, body)
        }
    };
    let at = offset(raised_at);
    let incident = incident_of(txn, fault, (offset(since), at), fold).await?;
    let group = match fault {
        Fault::Alarm(_) => None,
        Fault::Event(event) => Some(event.group.clone()),
    };
    // Events of one cause in one incident are one alarm.
    let update = "UPDATE alarm SET incident_id = $2, root_id = coalesce((SELECT o.root_id FROM alarm o \
             WHERE o.incident_id = $2 AND o.class = 'event' AND o.body->>'group' = $3 \
             ORDER BY o.id LIMIT 1), root_id) \
         WHERE id = $1";
    txn.execute_raw(sql(update, [id.into(), incident.as_uuid().into(), group.into()])).await?;
    enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await?;
    Ok(incident)
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

/// Enters that an alarm was raised again, where it belongs to an incident: one that was closed meanwhile is
/// open again.
pub(crate) async fn note_return(
    txn: &DatabaseTransaction,
    placed: &Placed,
    at: OffsetDateTime,
) -> Result<(), StoreError> {
    let Some(incident) = placed.incident_id.map(IncidentId::from_uuid) else { return Ok(()) };
    let update = "UPDATE incident SET closed_at = NULL WHERE id = $1 AND closed_at IS NOT NULL";
    let reopened = txn.execute_raw(sql(update, [incident.as_uuid().into()])).await?;
    if reopened.rows_affected() == 1 {
        let (kind, body) = (TimelineKind::Reopened, serde_json::json!({}));
        enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await?;
    }
    let (kind, body) = (TimelineKind::AlarmRaised, serde_json::json!({ "alarm": placed.id }));
    enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await
}

/// Enters that an alarm has cleared or an event is over, where it belongs to an incident.
pub(crate) async fn note_end(
    txn: &DatabaseTransaction,
    of: Class,
    placed: &Placed,
    at: OffsetDateTime,
) -> Result<(), StoreError> {
    let Some(incident) = placed.incident_id.map(IncidentId::from_uuid) else { return Ok(()) };
    let (kind, body) = match of {
        Class::Path => (TimelineKind::AlarmCleared, serde_json::json!({ "alarm": placed.id })),
        Class::Event => (TimelineKind::EventEnded, serde_json::json!({ "event": placed.id })),
    };
    enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await
}
