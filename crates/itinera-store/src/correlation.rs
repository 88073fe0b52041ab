//! How faults get into incidents.

use crate::statement::sql;
use crate::timeline::{Entry, ITSELF, Placed, close_where_empty, enter, open_incident};
use crate::times::offset;
use crate::{StoreError, rows, triage};
use itinera_model::event::Fault;
use itinera_model::id::IncidentId;
use itinera_model::incident::TimelineKind;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, FromQueryResult};
use std::collections::BTreeSet;
use time::OffsetDateTime;

/// A fault of an incident.
#[derive(Debug, Clone)]
pub struct KnownFault {
    /// The incident.
    pub incident: IncidentId,
    /// The fault.
    pub fault: Fault,
    /// When the incident was closed; absent while open.
    pub closed_at: Option<OffsetDateTime>,
    /// When the fault was over; absent while it lasts.
    pub cleared_at: Option<OffsetDateTime>,
}

/// Decides which incidents a fault belongs to.
pub trait Correlation: Send {
    /// Takes note of a fault of an incident.
    fn add(&mut self, known: KnownFault);
    /// The incident of a new fault, where it is known, and others that have the same cause.
    fn choose(&self, fault: &Fault) -> (Option<IncidentId>, Vec<IncidentId>);
    /// Takes note that the faults of one incident belong to another now.
    fn merge(&mut self, from: IncidentId, into: IncidentId);
    /// Forgets everything.
    fn clear(&mut self);
}

/// Every fault is an incident.
#[derive(Debug, Clone, Copy)]
pub struct EachApart;

impl Correlation for EachApart {
    fn add(&mut self, _: KnownFault) {}

    fn choose(&self, _: &Fault) -> (Option<IncidentId>, Vec<IncidentId>) {
        (None, Vec::new())
    }

    fn merge(&mut self, _: IncidentId, _: IncidentId) {}

    fn clear(&mut self) {}
}

/// The incidents that faults of one write are put into.
pub(crate) struct Incidents<'a> {
    correlation: &'a mut dyn Correlation,
    /// When the first of the faults began, and when the first was raised.
    first: (OffsetDateTime, OffsetDateTime),
    is_loaded: bool,
    /// Incidents that have lost their alarms to another.
    pub(crate) merged: Vec<Uuid>,
}

#[derive(FromQueryResult)]
struct FaultRow {
    id: Uuid,
    body: Json,
    is_alarm: bool,
    closed_at: Option<OffsetDateTime>,
    cleared_at: Option<OffsetDateTime>,
}

impl FaultRow {
    fn known(self) -> Result<KnownFault, StoreError> {
        let fault = if self.is_alarm {
            serde_json::from_value(self.body).map(Fault::Alarm)
        } else {
            serde_json::from_value(self.body).map(Fault::Event)
        };
        Ok(KnownFault {
            incident: IncidentId::from_uuid(self.id),
            fault: fault.map_err(|_| StoreError::corrupt("alarm or event"))?,
            closed_at: self.closed_at,
            cleared_at: self.cleared_at,
        })
    }
}

impl<'a> Incidents<'a> {
    /// Incidents for faults of which the first began at one time and the first was raised at another.
    pub(crate) fn new(
        correlation: &'a mut dyn Correlation,
        first: (OffsetDateTime, OffsetDateTime),
    ) -> Self {
        Self { correlation, first, is_loaded: false, merged: Vec::new() }
    }

    /// Reads the faults of all incidents that can take one of the write.
    async fn load(&mut self, txn: &DatabaseTransaction) -> Result<(), StoreError> {
        if self.is_loaded {
            return Ok(());
        }
        self.correlation.clear();
        let select = "SELECT i.id, a.body, a.class = 'path' AS is_alarm, i.closed_at, a.cleared_at \
             FROM incident i JOIN alarm a ON a.incident_id = i.id \
             WHERE (i.closed_at IS NULL OR i.closed_at > $1) AND (a.cleared_at IS NULL OR \
                 a.cleared_at > $2 - interval '30 minutes') ORDER BY i.id, a.id";
        let (since, at) = self.first;
        for row in rows::all::<FaultRow>(txn, select, [since.into(), at.into()]).await? {
            self.correlation.add(row.known()?);
        }
        self.is_loaded = true;
        Ok(())
    }

    /// The incident of the cause of a fault that was raised at a time, or a new one. Others that the fault
    /// shows to have the same cause become part of it.
    async fn of_fault(
        &mut self,
        txn: &DatabaseTransaction,
        fault: &Fault,
        at: OffsetDateTime,
    ) -> Result<IncidentId, StoreError> {
        self.load(txn).await?;
        let (known, same) = self.correlation.choose(fault);
        let incident = match known {
            Some(incident) => incident,
            None => {
                let incident = open_incident(txn, at, None, None).await?;
                let body = serde_json::json!({});
                let entry = Entry { incident, at, user: ITSELF, kind: TimelineKind::Opened, body };
                enter(txn, entry).await?;
                incident
            }
        };
        for from in same {
            if merge(txn, (from, incident), at).await? {
                self.correlation.merge(from, incident);
                self.merged.push(from.as_uuid());
            }
        }
        let fault = fault.clone();
        self.correlation.add(KnownFault { incident, fault, closed_at: None, cleared_at: None });
        Ok(incident)
    }

    /// Enters a fault into the incident of its cause, or opens one; gives that. `id` is that of the alarm or event.
    pub(crate) async fn place(
        &mut self,
        txn: &DatabaseTransaction,
        id: Uuid,
        fault: &Fault,
    ) -> Result<IncidentId, StoreError> {
        let (raised_at, kind, body, group) = match fault {
            Fault::Alarm(alarm) => {
                let body = serde_json::json!({ "alarm": id });
                (alarm.raised_at, TimelineKind::AlarmRaised, body, None)
            }
            Fault::Event(event) => {
                let body = serde_json::json!({ "event": id });
                (event.raised_at, TimelineKind::EventBegan, body, Some(event.group.clone()))
            }
        };
        let at = offset(raised_at);
        let incident = self.of_fault(txn, fault, at).await?;
        // Events of one cause in one incident are one alarm.
        let update = "UPDATE alarm SET incident_id = $2, root_id = coalesce((SELECT o.root_id FROM alarm o \
                 WHERE o.incident_id = $2 AND o.class <> 'path' AND o.body->>'group' = $3 \
                 ORDER BY o.id LIMIT 1), root_id) \
             WHERE id = $1";
        txn.execute_raw(sql(update, [id.into(), incident.as_uuid().into(), group.into()])).await?;
        enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await?;
        Ok(incident)
    }

    /// Enters that an alarm was raised again, where it belongs to an incident: one that was closed meanwhile is
    /// open again.
    pub(crate) async fn note_return(
        &mut self,
        txn: &DatabaseTransaction,
        placed: &Placed,
        at: OffsetDateTime,
    ) -> Result<(), StoreError> {
        let Some(incident) = placed.incident_id.map(IncidentId::from_uuid) else { return Ok(()) };
        let update = "UPDATE incident SET closed_at = NULL WHERE id = $1 AND closed_at IS NOT NULL";
        let reopened = txn.execute_raw(sql(update, [incident.as_uuid().into()])).await?;
        if reopened.rows_affected() == 1 {
            // It can take faults again.
            self.is_loaded = false;
            let (kind, body) = (TimelineKind::Reopened, serde_json::json!({}));
            enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await?;
        }
        let (kind, body) = (TimelineKind::AlarmRaised, serde_json::json!({ "alarm": placed.id }));
        enter(txn, Entry { incident, at, user: ITSELF, kind, body }).await
    }
}

/// Attaches all alarms of one incident to another, unless a user has worked on it; true where that is done.
async fn merge(
    txn: &DatabaseTransaction,
    (from, into): (IncidentId, IncidentId),
    at: OffsetDateTime,
) -> Result<bool, StoreError> {
    let update = "UPDATE alarm SET incident_id = $2 WHERE incident_id = $1 \
             AND (SELECT complaint IS NULL FROM incident WHERE id = $1) \
             AND NOT EXISTS (SELECT FROM incident_event \
                 WHERE incident_id = $1 AND user_name <> $3) \
         RETURNING root_id";
    let values = [from.as_uuid().into(), into.as_uuid().into(), ITSELF.into()];
    let roots: BTreeSet<Uuid> = rows::column(txn, update, values).await?.into_iter().collect();
    if roots.is_empty() {
        return Ok(false);
    }
    let detail = serde_json::json!({ "incident": into, "from": from });
    triage::attached(txn, roots.into_iter().collect(), (detail, at), [from, into]).await?;
    close_where_empty(txn, from, at).await?;
    Ok(true)
}
