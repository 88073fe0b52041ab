//! How operators handle an alarm, as the API shows it.

use super::path::offset;
use itinera_model::id::IncidentId;
use itinera_model::triage::{Act, Handling, OperatorAction, OperatorState};
use itinera_store::ActionRecord;
use serde::Serialize;
use std::collections::BTreeMap;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::ToSchema;
use uuid::Uuid;

/// How operators handle an alarm now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub(crate) struct HandlingView {
    /// The operator state (RFC 8632).
    pub(crate) state: OperatorState,
    /// The user it is assigned to.
    pub(crate) assignee: Option<String>,
    /// The user who acknowledged it.
    pub(crate) acknowledged_by: Option<String>,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) acknowledged_at: Option<OffsetDateTime>,
    /// The user who shelved it, while it is shelved.
    pub(crate) shelved_by: Option<String>,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) shelved_until: Option<OffsetDateTime>,
    pub(crate) shelve_reason: Option<String>,
    /// The user who closed it.
    pub(crate) closed_by: Option<String>,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) closed_at: Option<OffsetDateTime>,
}

impl Default for HandlingView {
    /// No operator has acted on it.
    fn default() -> Self {
        Self::new(&Handling::default(), OffsetDateTime::UNIX_EPOCH)
    }
}

impl HandlingView {
    pub(crate) fn new(handling: &Handling, now: OffsetDateTime) -> Self {
        let act = |act: &Option<Act>| act.clone().map(|it| (it.by, offset(it.at))).unzip();
        let (acknowledged_by, acknowledged_at) = act(&handling.acknowledged);
        let (closed_by, closed_at) = act(&handling.closed);
        let shelf = handling.shelved.as_ref().filter(|shelf| offset(shelf.until) > now);
        Self {
            state: handling.state(now.into()),
            assignee: handling.assignee.clone(),
            acknowledged_by,
            acknowledged_at,
            shelved_by: shelf.map(|it| it.by.clone()),
            shelved_until: shelf.map(|it| offset(it.until)),
            shelve_reason: shelf.map(|it| it.reason.clone()),
            closed_by,
            closed_at,
        }
    }
}

/// What a user, or the service itself, did with an alarm.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub(crate) struct AlarmActionView {
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    /// The user; the service itself where it acted alone.
    pub(crate) user: String,
    pub(crate) action: OperatorAction,
    /// What the user wrote about it.
    pub(crate) text: Option<String>,
    /// The user it was assigned to; absent for nobody, and for other actions.
    pub(crate) to: Option<String>,
    /// The time until which it was shelved.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) until: Option<OffsetDateTime>,
    /// The number of the incident it was attached to.
    pub(crate) incident_no: Option<i64>,
}

impl AlarmActionView {
    pub(crate) fn new(record: ActionRecord, numbers: &BTreeMap<IncidentId, i64>) -> Self {
        let ActionRecord { at, user, action, detail } = record;
        let text = |field: &str| detail[field].as_str();
        Self {
            at,
            user,
            action,
            text: text("text").map(str::to_owned),
            to: text("to").map(str::to_owned),
            until: text("until").and_then(|until| OffsetDateTime::parse(until, &Rfc3339).ok()),
            incident_no: attached_to(&detail).and_then(|id| numbers.get(&id).copied()),
        }
    }
}

/// The incident that an action attached an alarm to.
pub(crate) fn attached_to(detail: &serde_json::Value) -> Option<IncidentId> {
    let id: Uuid = detail["incident"].as_str()?.parse().ok()?;
    Some(IncidentId::from_uuid(id))
}
