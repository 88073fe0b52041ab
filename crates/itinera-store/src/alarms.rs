//! Alarms as recorded, with the history of their states. Alarms of paths and events of agents, checks
//! and routes are rows of one table; an event without severity is no alarm.

use crate::change_feed;
use crate::correlation::Incidents;
use crate::entity::alarm;
use crate::statement::{recordable_json, sql};
use crate::timeline::{self, Placed};
use crate::times::{Lasting, offset};
use crate::{Store, StoreError, rows, triage};
use itinera_model::alarm::{Alarm, AlarmClass, AlarmEffect, AlarmState, Severity};
use itinera_model::event::Fault;
use itinera_model::id::{AlarmId, IncidentId};
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{
    ActiveValue::{NotSet, Set},
    DatabaseTransaction, FromQueryResult, QueryOrder, QuerySelect,
};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// A change of an alarm's state or severity.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StateChange {
    /// When, by the service's clock.
    pub at: OffsetDateTime,
    /// The state since then.
    pub state: AlarmState,
    /// The severity since then; absent for an event that is no alarm.
    pub severity: Option<Severity>,
}

/// An alarm as recorded.
#[derive(Debug, Clone, PartialEq)]
pub struct AlarmRecord {
    /// Its id.
    pub id: AlarmId,
    /// Its short number.
    pub no: i64,
    /// The alarm.
    pub alarm: Alarm,
    /// When it cleared; absent while open.
    pub cleared_at: Option<OffsetDateTime>,
    /// The incident that it belongs to; absent for alarms from before there were any.
    pub incident: Option<IncidentId>,
}

impl Store {
    /// Alarms of paths, newest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn alarms(&self, which: Lasting, limit: u64) -> Result<Vec<AlarmRecord>, StoreError> {
        let query = alarm::Entity::find()
            .filter(alarm::Column::Class.eq(AlarmClass::Path.name()))
            .filter(which.condition(alarm::Column::RaisedAt, alarm::Column::ClearedAt))
            .order_by_desc(alarm::Column::RaisedAt)
            .order_by_desc(alarm::Column::Id)
            .limit(limit);
        query.all(&self.db).await?.into_iter().map(alarm_record).collect()
    }
}

impl Store {
    /// The states of alarms and events, oldest first.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn alarm_states(
        &self,
        ids: Vec<Uuid>,
    ) -> Result<BTreeMap<Uuid, Vec<StateChange>>, StoreError> {
        let select = "SELECT alarm_id, at, state, severity FROM alarm_state \
             WHERE alarm_id = ANY($1) ORDER BY alarm_id, no";
        let mut states: BTreeMap<Uuid, Vec<StateChange>> = BTreeMap::new();
        for row in rows::all::<StateRow>(&self.db, select, [ids.into()]).await? {
            let severity = row.severity.map(of_name).transpose()?;
            let change = StateChange { at: row.at, state: of_name(row.state)?, severity };
            states.entry(row.alarm_id).or_default().push(change);
        }
        Ok(states)
    }
}

#[derive(FromQueryResult)]
struct StateRow {
    alarm_id: Uuid,
    at: OffsetDateTime,
    state: String,
    severity: Option<String>,
}

fn of_name<T: DeserializeOwned>(name: String) -> Result<T, StoreError> {
    serde_json::from_value(Json::String(name)).map_err(|_| StoreError::corrupt("state of an alarm"))
}

pub(crate) fn name_of(value: &impl Serialize) -> Option<String> {
    serde_json::json!(value).as_str().map(str::to_owned)
}

/// Records a new alarm or event, open or over; gives its id.
pub(crate) async fn insert(
    txn: &DatabaseTransaction,
    fault: &Fault,
    cleared_at: Option<OffsetDateTime>,
) -> Result<Uuid, StoreError> {
    let id = Uuid::now_v7();
    let (class, key, body, severity, agent_id, raised_at) = match fault {
        Fault::Alarm(alarm) => {
            let (key, body) = (serde_json::json!(alarm.key), serde_json::json!(alarm));
            (AlarmClass::Path, key, body, Some(alarm.severity), None, alarm.raised_at)
        }
        Fault::Event(event) => {
            let (key, body) = (serde_json::json!(event.key), serde_json::json!(event));
            let class = event.key.kind.class();
            let agent = (class == AlarmClass::Event).then(|| event.key.agent.as_uuid());
            (class, key, body, event.severity, agent, event.raised_at)
        }
    };
    let row = alarm::ActiveModel {
        id: Set(id),
        no: NotSet,
        class: Set(class.name().to_owned()),
        key: Set(recordable_json(key)),
        body: Set(recordable_json(body)),
        severity: Set(severity.as_ref().and_then(name_of)),
        agent_id: Set(agent_id),
        raised_at: Set(offset(raised_at)),
        cleared_at: Set(cleared_at),
        incident_id: Set(None),
        root_id: Set(id),
    };
    alarm::Entity::insert(row).exec_without_returning(txn).await?;
    Ok(id)
}

/// Enters the state of an alarm since a time into its history, where it is another than before.
pub(crate) async fn note_state(
    txn: &DatabaseTransaction,
    id: Uuid,
    now: StateChange,
) -> Result<(), StoreError> {
    let insert = "INSERT INTO alarm_state (alarm_id, no, at, state, severity) \
         SELECT $1, coalesce(max(no), 0) + 1, $2, $3::text, $4::text FROM alarm_state \
         WHERE alarm_id = $1 \
         HAVING coalesce((SELECT (state, severity) IS DISTINCT FROM ($3::text, $4::text) \
             FROM alarm_state WHERE alarm_id = $1 ORDER BY no DESC LIMIT 1), true)";
    let values = [
        id.into(),
        now.at.into(),
        name_of(&now.state).into(),
        now.severity.as_ref().and_then(name_of).into(),
    ];
    txn.execute_raw(sql(insert, values)).await?;
    Ok(())
}

/// A row that is over now.
#[derive(FromQueryResult)]
pub(crate) struct EndedRow {
    pub(crate) id: Uuid,
    pub(crate) incident_id: Option<Uuid>,
    pub(crate) body: Json,
}

/// Gives an alarm that has ended other contents and another end, or none: it is open again.
async fn update_ended(
    txn: &DatabaseTransaction,
    alarm: &Alarm,
    cleared_at: Option<WallTime>,
) -> Result<Option<Placed>, StoreError> {
    let update = "UPDATE alarm SET body = $3, severity = $4, cleared_at = $5 \
         WHERE key = $1 AND raised_at = $2 AND cleared_at IS NOT NULL AND class = 'path' \
         RETURNING id, incident_id";
    let values = [
        serde_json::json!(alarm.key).into(),
        offset(alarm.raised_at).into(),
        serde_json::json!(alarm).into(),
        name_of(&alarm.severity).into(),
        cleared_at.map(offset).into(),
    ];
    rows::first(txn, update, values).await
}

/// Records what judgement says of an alarm of paths; gives its id, where it is known. A new one belongs to
/// one of the `incidents`.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    effect: &AlarmEffect,
    incidents: &mut Incidents<'_>,
) -> Result<Option<Uuid>, StoreError> {
    let now = |at: WallTime, alarm: &Alarm, ended| {
        let (state, severity) = (alarm.state(ended), Some(alarm.severity));
        Some(StateChange { at: offset(at), state, severity })
    };
    let (id, what, now) = match effect {
        AlarmEffect::Raised(alarm) => {
            let fault = Fault::Alarm(alarm.clone());
            let id = insert(txn, &fault, None).await?;
            incidents.place(txn, id, &fault).await?;
            (Some(id), "raised", now(alarm.raised_at, alarm, false))
        }
        AlarmEffect::RaisedAgain { alarm, at } => {
            let placed = update_ended(txn, alarm, None).await?;
            let Some(placed) = placed else { return Ok(None) };
            incidents.note_return(txn, &placed, offset(*at)).await?;
            triage::note_return(txn, placed.id, offset(*at)).await?;
            (Some(placed.id), "raised-again", now(*at, alarm, false))
        }
        AlarmEffect::Recorded { alarm, cleared_at } => {
            let (fault, at) = (Fault::Alarm(alarm.clone()), offset(*cleared_at));
            let id = insert(txn, &fault, Some(at)).await?;
            let incident = incidents.place(txn, id, &fault).await?;
            let placed = Placed { id, incident_id: Some(incident.as_uuid()) };
            timeline::note_end(txn, AlarmClass::Path, &placed, at).await?;
            (Some(id), "recorded", now(alarm.recorded_at.unwrap_or(*cleared_at), alarm, true))
        }
        AlarmEffect::Corrected { alarm, cleared_at } => {
            let id = update_ended(txn, alarm, Some(*cleared_at)).await?.map(|placed| placed.id);
            if let (Some(id), AlarmState::Cleared) = (id, alarm.state(true)) {
                // It may have cleared before and been raised again.
                let update = "UPDATE alarm_state SET at = $2 WHERE alarm_id = $1 \
                     AND state = 'cleared' \
                     AND no = (SELECT max(no) FROM alarm_state WHERE alarm_id = $1)";
                txn.execute_raw(sql(update, [id.into(), offset(*cleared_at).into()])).await?;
            }
            (id, "corrected", None)
        }
        AlarmEffect::Changed { alarm, at } => {
            let risen = (AlarmClass::Path, serde_json::json!(alarm.key), alarm.severity);
            triage::note_severity(txn, risen, offset(*at)).await?;
            let update = "UPDATE alarm SET body = $2, severity = $3 \
                 WHERE key = $1 AND cleared_at IS NULL AND class = 'path' RETURNING id";
            let values = [
                serde_json::json!(alarm.key).into(),
                serde_json::json!(alarm).into(),
                name_of(&alarm.severity).into(),
            ];
            let id = rows::value::<Uuid>(txn, update, values).await?;
            (id, "changed", now(*at, alarm, false))
        }
        AlarmEffect::Cleared { key, at } => {
            let update = "UPDATE alarm SET cleared_at = $2 \
                 WHERE key = $1 AND cleared_at IS NULL AND class = 'path' \
                 RETURNING id, incident_id, body";
            let values = [serde_json::json!(key).into(), offset(*at).into()];
            let ended: Option<EndedRow> = rows::first(txn, update, values).await?;
            let Some(EndedRow { id, incident_id, body }) = ended else { return Ok(None) };
            let alarm: Alarm =
                serde_json::from_value(body).map_err(|_| StoreError::corrupt("alarm"))?;
            timeline::note_end(txn, AlarmClass::Path, &Placed { id, incident_id }, offset(*at))
                .await?;
            (Some(id), "cleared", now(*at, &alarm, true))
        }
    };
    let Some(id) = id else { return Ok(None) };
    if let Some(now) = now {
        note_state(txn, id, now).await?;
    }
    let body = serde_json::json!({ "id": id, "what": what });
    change_feed::add(txn, change_feed::Topic::Alarm, body).await?;
    Ok(Some(id))
}

pub(crate) fn alarm_record(row: alarm::Model) -> Result<AlarmRecord, StoreError> {
    let alarm = serde_json::from_value(row.body);
    Ok(AlarmRecord {
        id: AlarmId::from_uuid(row.id),
        no: row.no,
        alarm: alarm.map_err(|_| StoreError::corrupt("alarm"))?,
        cleared_at: row.cleared_at,
        incident: row.incident_id.map(IncidentId::from_uuid),
    })
}
