//! What operators do with alarms, recorded with the alarm, in its incident and in the audit.

use crate::change_feed;
use crate::notices::{self, Touched};
use crate::statement::{recordable_json, sql};
use crate::timeline::{Entry, ITSELF, close_where_empty, enter, hold_alarms};
use crate::times::offset;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows, severity};
use itinera_model::alarm::{AlarmClass, Severity};
use itinera_model::id::IncidentId;
use itinera_model::triage::{Act, Handling, HandlingChange, OperatorAction, Shelf};
use sea_orm::entity::prelude::*;
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult, TransactionTrait};
use std::collections::{BTreeMap, BTreeSet};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// What is done with alarms.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AlarmChange {
    /// Change how they are handled.
    Handling(HandlingChange),
    /// Attach them to an incident.
    Attach(IncidentId),
}

impl AlarmChange {
    const fn action(&self) -> OperatorAction {
        match self {
            Self::Handling(change) => change.action(),
            Self::Attach(_) => OperatorAction::Attached,
        }
    }
}

/// A change of alarms by a user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AlarmRequest {
    /// The change.
    pub change: AlarmChange,
    /// What the user writes about it.
    pub text: String,
    /// The user, and when.
    pub act: Act,
}

/// What became of a change of one alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AlarmOutcome {
    /// It is done.
    Done,
    /// The alarm was so before.
    Unchanged,
    /// It is not done.
    Refused(AlarmRefused),
}

/// Why a change of alarms is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AlarmRefused {
    /// There is none of this id.
    #[error("no alarm has this id or number")]
    Unknown,
    /// It is closed.
    #[error("this alarm is closed; reopen it first")]
    Closed,
    /// There is no such user, or the user may only view.
    #[error("no active analyst or administrator has this name")]
    UnknownUser,
    /// There is no such incident.
    #[error("no incident has this id")]
    UnknownIncident,
    /// The incident is closed.
    #[error("this incident is closed; reopen it first")]
    IncidentClosed,
}

/// An action on an alarm.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ActionRecord {
    /// When.
    pub at: OffsetDateTime,
    /// The user; the service itself where it acted alone.
    pub user: String,
    /// What.
    pub action: OperatorAction,
    /// How: `text`, `to` (a user), `until` (a time), `incident` and `from` (ids), each where there is one.
    pub detail: Json,
}

#[derive(FromQueryResult)]
struct HandlingRow {
    alarm_id: Uuid,
    acknowledged_at: Option<OffsetDateTime>,
    acknowledged_by: Option<String>,
    assignee: Option<String>,
    shelved_until: Option<OffsetDateTime>,
    shelved_by: Option<String>,
    shelve_reason: Option<String>,
    closed_at: Option<OffsetDateTime>,
    closed_by: Option<String>,
}

impl From<HandlingRow> for Handling {
    fn from(row: HandlingRow) -> Self {
        let act = |by: Option<String>, at: Option<OffsetDateTime>| {
            by.zip(at).map(|(by, at)| Act { by, at: at.into() })
        };
        let shelf = row.shelved_by.zip(row.shelved_until).map(|(by, until)| Shelf {
            by,
            until: until.into(),
            reason: row.shelve_reason.unwrap_or_default(),
        });
        Self {
            acknowledged: act(row.acknowledged_by, row.acknowledged_at),
            assignee: row.assignee,
            shelved: shelf,
            closed: act(row.closed_by, row.closed_at),
        }
    }
}

async fn handlings(
    db: &impl ConnectionTrait,
    roots: Vec<Uuid>,
) -> Result<BTreeMap<Uuid, Handling>, StoreError> {
    let select = "SELECT w.*, u.name AS assignee FROM alarm_operator w \
         LEFT JOIN user_account u ON u.id = w.assignee_id WHERE w.alarm_id = ANY($1)";
    let found = rows::all::<HandlingRow>(db, select, [roots.into()]).await?.into_iter();
    Ok(found.map(|row| (row.alarm_id, Handling::from(row))).collect())
}

async fn write_handling(
    txn: &DatabaseTransaction,
    root: Uuid,
    handling: &Handling,
) -> Result<(), StoreError> {
    let upsert = "INSERT INTO alarm_operator (alarm_id, acknowledged_at, acknowledged_by, assignee_id, \
             shelved_until, shelved_by, shelve_reason, closed_at, closed_by) \
         VALUES ($1, $2, $3, (SELECT id FROM user_account WHERE name = $4), $5, $6, $7, $8, $9) \
         ON CONFLICT (alarm_id) DO UPDATE SET acknowledged_at = excluded.acknowledged_at, \
             acknowledged_by = excluded.acknowledged_by, assignee_id = excluded.assignee_id, \
             shelved_until = excluded.shelved_until, shelved_by = excluded.shelved_by, \
             shelve_reason = excluded.shelve_reason, closed_at = excluded.closed_at, \
             closed_by = excluded.closed_by";
    let act = |act: &Option<Act>| {
        let act = act.as_ref();
        (act.map(|it| offset(it.at)), act.map(|it| it.by.clone()))
    };
    let ((acknowledged_at, acknowledged_by), (closed_at, closed_by)) =
        (act(&handling.acknowledged), act(&handling.closed));
    let shelf = handling.shelved.as_ref();
    let values: [Value; 9] = [
        root.into(),
        acknowledged_at.into(),
        acknowledged_by.into(),
        handling.assignee.clone().into(),
        shelf.map(|it| offset(it.until)).into(),
        shelf.map(|it| it.by.clone()).into(),
        shelf.map(|it| it.reason.clone()).into(),
        closed_at.into(),
        closed_by.into(),
    ];
    txn.execute_raw(sql(upsert, values)).await?;
    Ok(())
}

/// An alarm by its root.
#[derive(FromQueryResult)]
struct Root {
    id: Uuid,
    no: i64,
    incident_id: Option<Uuid>,
}

/// An action on an alarm, before it is recorded.
struct Action<'a> {
    root: &'a Root,
    at: OffsetDateTime,
    user: &'a str,
    action: OperatorAction,
    detail: Json,
}

/// Enters an action into the history of the alarm, and into some incidents.
async fn record(
    txn: &DatabaseTransaction,
    Action { root, at, user, action, detail }: Action<'_>,
    incidents: impl IntoIterator<Item = Uuid>,
) -> Result<(), StoreError> {
    let detail = recordable_json(detail);
    let insert = "INSERT INTO alarm_action (alarm_id, no, at, user_name, action, detail) \
         SELECT $1, coalesce(max(no), 0) + 1, $2, $3, $4, $5 FROM alarm_action WHERE alarm_id = $1";
    let values =
        [root.id.into(), at.into(), user.into(), action.name().into(), detail.clone().into()];
    txn.execute_raw(sql(insert, values)).await?;
    for incident in incidents.into_iter().map(IncidentId::from_uuid) {
        let mut body = detail.clone();
        body["alarm"] = serde_json::json!(root.id);
        body["alarm_no"] = root.no.into();
        enter(txn, Entry { incident, at, user, kind: action.in_timeline(), body }).await?;
    }
    let change = serde_json::json!({ "id": root.id, "what": action.name() });
    change_feed::add(txn, change_feed::Topic::Alarm, change).await
}

/// Enters that the service has attached alarms to another incident.
pub(crate) async fn attached(
    txn: &DatabaseTransaction,
    roots: Vec<Uuid>,
    (detail, at): (Json, OffsetDateTime),
    incidents: [IncidentId; 2],
) -> Result<(), StoreError> {
    let select = "SELECT id, no, incident_id FROM alarm WHERE id = ANY($1)";
    for root in &rows::all::<Root>(txn, select, [roots.into()]).await? {
        let (action, detail) = (OperatorAction::Attached, detail.clone());
        let action = Action { root, at, user: ITSELF, action, detail };
        record(txn, action, incidents.map(IncidentId::as_uuid)).await?;
    }
    Ok(())
}

/// Reopens an alarm that an operator closed, where it was raised again.
pub(crate) async fn note_return(
    txn: &DatabaseTransaction,
    row: Uuid,
    at: OffsetDateTime,
) -> Result<(), StoreError> {
    let select = "SELECT r.id, r.no, r.incident_id FROM alarm a JOIN alarm r ON r.id = a.root_id \
         JOIN alarm_operator w ON w.alarm_id = r.id WHERE a.id = $1 AND w.closed_at IS NOT NULL";
    match rows::first(txn, select, [row.into()]).await? {
        Some(root) => reopen(txn, &root, at).await,
        None => Ok(()),
    }
}

/// Reopens the alarm of an open row with a key that an operator closed, where its severity rises to this.
pub(crate) async fn note_severity(
    txn: &DatabaseTransaction,
    (class, key, severity): (AlarmClass, Json, Severity),
    at: OffsetDateTime,
) -> Result<(), StoreError> {
    let select = "SELECT r.id, r.no, r.incident_id FROM alarm a JOIN alarm r ON r.id = a.root_id \
             JOIN alarm_operator w ON w.alarm_id = r.id \
         WHERE a.key = $1 AND a.cleared_at IS NULL AND a.class = $4 AND w.closed_at IS NOT NULL \
             AND array_position($2::text[], a.severity) > array_position($2::text[], $3)";
    let (ranks, name) = (severity::ranks(), severity::name(severity));
    let values = [key.into(), ranks.into(), name.into(), class.name().into()];
    match rows::first(txn, select, values).await? {
        Some(root) => reopen(txn, &root, at).await,
        None => Ok(()),
    }
}

async fn reopen(
    txn: &DatabaseTransaction,
    root: &Root,
    at: OffsetDateTime,
) -> Result<(), StoreError> {
    let handling = handlings(txn, vec![root.id]).await?.remove(&root.id).unwrap_or_default();
    let act = Act { by: ITSELF.to_owned(), at: at.into() };
    let Ok(Some(next)) = handling.after(&HandlingChange::Reopen, act) else { return Ok(()) };
    write_handling(txn, root.id, &next).await?;
    let (action, detail) = (OperatorAction::Reopened, serde_json::json!({}));
    record(txn, Action { root, at, user: ITSELF, action, detail }, root.incident_id).await
}

/// Refuses a change that no alarm can take.
async fn check(txn: &DatabaseTransaction, change: &AlarmChange) -> Result<(), StoreError> {
    match change {
        AlarmChange::Handling(HandlingChange::Assign(Some(name))) => {
            let select =
                "SELECT true FROM user_account WHERE name = $1 AND active AND role <> 'viewer'";
            let known: Option<bool> = rows::value(txn, select, [name.clone().into()]).await?;
            known.ok_or(AlarmRefused::UnknownUser)?;
        }
        AlarmChange::Handling(_) => {}
        AlarmChange::Attach(incident) => {
            let select = "SELECT closed_at IS NULL FROM incident WHERE id = $1";
            let is_open: Option<bool> =
                rows::value(txn, select, [incident.as_uuid().into()]).await?;
            if !is_open.ok_or(AlarmRefused::UnknownIncident)? {
                return Err(AlarmRefused::IncidentClosed.into());
            }
        }
    }
    Ok(())
}

/// What an action says beside its name.
fn detail_of(request: &AlarmRequest) -> Json {
    let mut detail = serde_json::json!({});
    if !request.text.is_empty() {
        detail["text"] = request.text.clone().into();
    }
    match &request.change {
        AlarmChange::Handling(HandlingChange::Assign(to)) => detail["to"] = to.clone().into(),
        AlarmChange::Handling(HandlingChange::Shelve { until, .. }) => {
            detail["until"] = offset(*until).format(&Rfc3339).unwrap_or_default().into();
        }
        AlarmChange::Attach(incident) => detail["incident"] = serde_json::json!(incident),
        AlarmChange::Handling(_) => {}
    }
    detail
}

async fn act_on(
    txn: &DatabaseTransaction,
    root: &Root,
    handling: &Handling,
    request: &AlarmRequest,
) -> Result<AlarmOutcome, StoreError> {
    let mut detail = detail_of(request);
    let mut incidents: BTreeSet<Uuid> = root.incident_id.into_iter().collect();
    match &request.change {
        AlarmChange::Handling(change) => match handling.after(change, request.act.clone()) {
            Err(_) => return Ok(AlarmOutcome::Refused(AlarmRefused::Closed)),
            Ok(None) => return Ok(AlarmOutcome::Unchanged),
            Ok(Some(next)) => write_handling(txn, root.id, &next).await?,
        },
        AlarmChange::Attach(incident) => {
            if !incidents.insert(incident.as_uuid()) {
                return Ok(AlarmOutcome::Unchanged);
            }
            let update = "UPDATE alarm SET incident_id = $2 WHERE root_id = $1";
            txn.execute_raw(sql(update, [root.id.into(), incident.as_uuid().into()])).await?;
            detail["from"] = serde_json::json!(root.incident_id);
        }
    }
    let (at, user) = (offset(request.act.at), request.act.by.as_str());
    let action = request.change.action();
    let object = root.no.to_string();
    let audited =
        Audited { user, action: action.audited(), object: &object, detail: detail.clone() };
    audit(txn, &audited).await?;
    record(txn, Action { root, at, user, action, detail }, incidents).await?;
    if let (AlarmChange::Attach(_), Some(left)) = (&request.change, root.incident_id) {
        close_where_empty(txn, IncidentId::from_uuid(left), at).await?;
    }
    Ok(AlarmOutcome::Done)
}

#[derive(FromQueryResult)]
struct NamedRow {
    id: Uuid,
    no: i64,
    root_id: Uuid,
}

#[derive(FromQueryResult)]
struct ActionRow {
    alarm_id: Uuid,
    at: OffsetDateTime,
    user_name: String,
    action: String,
    detail: Json,
}

impl Store {
    /// The alarms that some ids and short numbers name, by both.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn alarms_named(
        &self,
        ids: Vec<Uuid>,
        numbers: Vec<i64>,
    ) -> Result<(BTreeMap<Uuid, Uuid>, BTreeMap<i64, Uuid>), StoreError> {
        let select = "SELECT id, no, root_id FROM alarm \
             WHERE (id = ANY($1) OR no = ANY($2)) AND severity IS NOT NULL";
        let found: Vec<NamedRow> =
            rows::all(&self.db, select, [ids.into(), numbers.into()]).await?;
        let by_id = found.iter().map(|row| (row.id, row.root_id)).collect();
        Ok((by_id, found.iter().map(|row| (row.no, row.root_id)).collect()))
    }

    /// Changes alarms, each by its root: what one refuses does not keep the others from it.
    ///
    /// # Errors
    /// [`AlarmRefused`] for a change that no alarm can take; [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn change_alarms(
        &self,
        roots: &BTreeSet<Uuid>,
        request: &AlarmRequest,
    ) -> Result<BTreeMap<Uuid, AlarmOutcome>, StoreError> {
        let txn = self.db.begin().await?;
        hold_alarms(&txn).await?;
        check(&txn, &request.change).await?;
        let asked: Vec<Uuid> = roots.iter().copied().collect();
        let select = "SELECT id, no, incident_id FROM alarm WHERE id = ANY($1) AND id = root_id";
        let found: Vec<Root> = rows::all(&txn, select, [asked.clone().into()]).await?;
        let handlings = handlings(&txn, asked.clone()).await?;
        let unknown = AlarmOutcome::Refused(AlarmRefused::Unknown);
        let mut outcomes: BTreeMap<Uuid, AlarmOutcome> =
            asked.iter().map(|root| (*root, unknown)).collect();
        let unhandled = Handling::default();
        for root in &found {
            let handling = handlings.get(&root.id).unwrap_or(&unhandled);
            outcomes.insert(root.id, act_on(&txn, root, handling, request).await?);
        }
        let left = found.iter().filter_map(|root| root.incident_id).collect();
        let at = offset(request.act.at);
        notices::note(&txn, Touched { alarms: asked, incidents: left }, (at, at)).await?;
        txn.commit().await?;
        Ok(outcomes)
    }

    /// How operators handle alarms, by root; nothing for those that no operator has acted on.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn handlings(
        &self,
        roots: Vec<Uuid>,
    ) -> Result<BTreeMap<Uuid, Handling>, StoreError> {
        handlings(&self.db, roots).await
    }

    /// The actions on alarms by root, oldest first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn alarm_actions(
        &self,
        roots: Vec<Uuid>,
    ) -> Result<BTreeMap<Uuid, Vec<ActionRecord>>, StoreError> {
        let select = "SELECT alarm_id, at, user_name, action, detail FROM alarm_action \
             WHERE alarm_id = ANY($1) ORDER BY alarm_id, no";
        let mut actions: BTreeMap<Uuid, Vec<ActionRecord>> = BTreeMap::new();
        for row in rows::all::<ActionRow>(&self.db, select, [roots.into()]).await? {
            let ActionRow { alarm_id, at, user_name: user, action, detail } = row;
            let action = OperatorAction::of(&action);
            actions.entry(alarm_id).or_default().push(ActionRecord { at, user, action, detail });
        }
        Ok(actions)
    }
}
