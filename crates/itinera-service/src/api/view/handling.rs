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

/// A time to the minute in UTC.
pub(crate) fn minute(at: OffsetDateTime) -> String {
    let at = at.to_offset(time::UtcOffset::UTC);
    format!("{} {:02}:{:02}Z", at.date(), at.hour(), at.minute())
}

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
    /// The user it was assigned to; absent where an assignment was taken back, and for other actions.
    pub(crate) to: Option<String>,
    /// The time until which it was shelved.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) until: Option<OffsetDateTime>,
    /// The number of the incident it was attached to.
    pub(crate) incident_no: Option<i64>,
    /// All of this in words, with times in UTC: "acknowledged by ailsa: looking".
    pub(crate) words: String,
}

impl AlarmActionView {
    pub(crate) fn new(record: ActionRecord, numbers: &BTreeMap<IncidentId, i64>) -> Self {
        let ActionRecord { at, user, action, detail } = record;
        let text = |field: &str| detail[field].as_str().map(str::to_owned);
        let until = detail["until"].as_str();
        let mut view = Self {
            at,
            user,
            action,
            text: text("text"),
            to: text("to"),
            until: until.and_then(|until| OffsetDateTime::parse(until, &Rfc3339).ok()),
            incident_no: attached_to(&detail).and_then(|id| numbers.get(&id).copied()),
            words: String::new(),
        };
        view.words = view.in_words();
        view
    }

    fn in_words(&self) -> String {
        let action = match self.action {
            OperatorAction::Acknowledged => "acknowledged".to_owned(),
            OperatorAction::Unacknowledged => "acknowledgement withdrawn".to_owned(),
            OperatorAction::Assigned => match &self.to {
                Some(user) => format!("assigned to {user}"),
                None => "unassigned".to_owned(),
            },
            OperatorAction::Shelved => {
                let until = self.until.map_or_else(String::new, minute);
                format!("shelved until {until}")
            }
            OperatorAction::Unshelved => "unshelved".to_owned(),
            OperatorAction::Closed => "closed".to_owned(),
            OperatorAction::Reopened => "reopened".to_owned(),
            OperatorAction::Attached => {
                let no = self.incident_no.map_or_else(String::new, |no| format!(" {no}"));
                format!("attached to incident{no}")
            }
            OperatorAction::Unknown => "changed by an action unknown to this version".to_owned(),
        };
        let text = self.text.as_ref().map_or_else(String::new, |text| format!(": {text}"));
        format!("{action} by {}{text}", self.user)
    }
}

/// The incident that an action attached an alarm to.
pub(crate) fn attached_to(detail: &serde_json::Value) -> Option<IncidentId> {
    let id: Uuid = detail["incident"].as_str()?.parse().ok()?;
    Some(IncidentId::from_uuid(id))
}
