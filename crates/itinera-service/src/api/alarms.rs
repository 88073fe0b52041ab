//! Alarms: lists of them, and what users do with them.

use super::numbers::resolve;
use super::view::alarm::AlarmItem;
use super::view::alarm_history::{merged, times_raised};
use super::view::handling::{AlarmActionView, HandlingView, attached_to};
use super::view::impact::{EarlierView, holders_of};
use super::view::path::{offset, ratio};
use super::{During, MAX_PAGE, Page, ValidQuery, checked_text, checked_time};
use crate::context::Shared;
use crate::problem::{ApiError, Problem, ProblemCode};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use itinera_analysis::Limits;
use itinera_model::alarm::{AlarmClass, AlarmState, Severity};
use itinera_model::id::{IncidentId, PathId};
use itinera_model::triage::{Act, HandlingChange, OperatorState};
use itinera_store::{
    AlarmChange, AlarmOutcome, AlarmQuery, AlarmRefused, AlarmRequest, AlarmRows, AssigneeFilter,
    EventRecord, Numbered,
};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::Arc;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// The author of what the service does by itself.
pub(super) const ITSELF: &str = "Itinera";
/// An alarm is shelved for so long at most.
const LONGEST_SHELVE: Duration = Duration::days(90);

/// The alarms of some rows.
async fn items_of(shared: &Shared, rows: Vec<AlarmRows>) -> Result<Vec<AlarmItem>, ApiError> {
    let paths: BTreeSet<PathId> = rows
        .iter()
        .flat_map(|rows| match rows {
            AlarmRows::Paths(record) => record.alarm.paths.as_slice(),
            AlarmRows::Events(_) => &[],
        })
        .copied()
        .collect();
    let ends = shared.store.path_ends(&paths.into_iter().collect::<Vec<_>>()).await?;
    let mut maps = shared.owner_maps().await?;
    let mut items = Vec::with_capacity(rows.len());
    for rows in &rows {
        match rows {
            AlarmRows::Paths(record) => {
                let map = maps.at(offset(record.alarm.raised_at)).await?;
                items.push(AlarmItem::of_paths(record, &ends, &map));
            }
            AlarmRows::Events(events) => {
                let Some(first) = events.first() else { continue };
                let map = maps.at(offset(first.event.raised_at)).await?;
                let events: Vec<&EventRecord> = events.iter().collect();
                items.extend(AlarmItem::of_events(&events, &map));
            }
        }
    }
    complete(shared, &mut items).await?;
    Ok(items)
}

/// Gives alarms the short numbers of their incidents, the history of their states and of what operators
/// did, and those without data the reason.
pub(super) async fn complete(shared: &Shared, items: &mut [AlarmItem]) -> Result<(), ApiError> {
    if items.iter().any(|item| item.state == AlarmState::NoData) {
        let silent = shared.store.silent_sites().await?;
        for item in items.iter_mut().filter(|item| item.state == AlarmState::NoData) {
            item.silent_sites = item.sites.clone();
            item.silent_sites.retain(|site| silent.contains(site));
        }
    }
    let rows = items.iter().flat_map(|item| item.rows.iter().copied()).collect();
    let roots: Vec<Uuid> = items.iter().map(|item| item.id).collect();
    let (states, handlings, mut actions, contracts) = tokio::try_join!(
        shared.store.alarm_states(rows),
        shared.store.handlings(roots.clone()),
        shared.store.alarm_actions(roots),
        shared.store.contracts(),
    )?;
    let belongs_to = items.iter().filter_map(|item| item.incident).map(IncidentId::from_uuid);
    let attached = actions.values().flatten().filter_map(|action| attached_to(&action.detail));
    let numbers = shared.store.incident_numbers(belongs_to.chain(attached)).await?;
    let now = shared.clock.now();
    for item in items {
        let members = item.rows.iter().filter_map(|row| states.get(row).map(Vec::as_slice));
        item.history = merged(&members.collect::<Vec<_>>());
        item.times_raised = times_raised(&item.history);
        item.contract_holders = holders_of(&contracts, &item.sites);
        let Limits { loss_ppm, added_delay_us, .. } = shared.limits;
        if item.limit_loss_ratio.is_none() {
            item.limit_loss_ratio = item.loss.as_ref().map(|_| ratio(loss_ppm));
        }
        if item.limit_added_delay_us.is_none() {
            item.limit_added_delay_us = item.added_delay_us.map(|_| added_delay_us);
        }
        let incident = item.incident.map(IncidentId::from_uuid);
        item.incident_no = incident.and_then(|id| numbers.get(&id).copied());
        if let Some(handling) = handlings.get(&item.id) {
            item.handling = HandlingView::new(handling, now);
        }
        let actions = actions.remove(&item.id).unwrap_or_default().into_iter();
        item.actions = actions.map(|record| AlarmActionView::new(record, &numbers)).collect();
    }
    Ok(())
}

/// Changes an alarm in the name of the service.
pub(super) async fn act_as_itself(
    shared: &Shared,
    alarm: Uuid,
    change: HandlingChange,
    now: OffsetDateTime,
) -> Result<(), ApiError> {
    let request = AlarmRequest {
        change: AlarmChange::Handling(change),
        text: String::new(),
        act: Act { by: ITSELF.to_owned(), at: now.into() },
    };
    shared.store.change_alarms(&BTreeSet::from([alarm]), &request).await?;
    Ok(())
}

/// A page of alarms, newest first, at most `limit`, those before `before`.
pub(super) async fn alarm_items(
    shared: &Shared,
    which: &AlarmQuery,
    before: Option<(OffsetDateTime, Uuid)>,
    limit: u64,
) -> Result<Vec<AlarmItem>, ApiError> {
    let rows = shared.store.alarm_page(which, shared.clock.now(), before, limit).await?;
    items_of(shared, rows).await
}

/// A page of alarms.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Alarms {
    items: Vec<AlarmItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which alarms.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AlarmFilter {
    /// Only alarms that are open.
    #[serde(default)]
    open: bool,
    /// Only those in these operator states: none, ack, shelved, closed, separated by commas.
    operator_state: Option<String>,
    /// Only those of these severities: critical, major, minor, separated by commas.
    severity: Option<String>,
    /// Only those of these classes: path, event, service, separated by commas.
    class: Option<String>,
    /// Only those assigned to the user of this name.
    assignee: Option<String>,
    /// Only those that are not assigned.
    #[serde(default)]
    unassigned: bool,
}

/// Values of a field that are separated by commas.
fn several<T: DeserializeOwned>(
    field: &str,
    text: Option<&str>,
) -> Result<Option<Vec<T>>, ApiError> {
    let value = |name: &str| {
        serde_json::from_value(serde_json::json!(name.trim()))
            .map_err(|error| ApiError::BadInput(format!("{field}: {error}")))
    };
    text.map(|text| text.split(',').map(value).collect()).transpose()
}

impl AlarmFilter {
    fn query(self, during: During) -> Result<AlarmQuery, ApiError> {
        let states: Option<Vec<OperatorState>> =
            several("operator_state", self.operator_state.as_deref())?;
        let severities: Option<Vec<Severity>> = several("severity", self.severity.as_deref())?;
        let classes: Option<Vec<AlarmClass>> = several("class", self.class.as_deref())?;
        let assignee = match (self.unassigned, self.assignee) {
            (true, Some(_)) => {
                let reason = "assignee: not together with `unassigned`";
                return Err(ApiError::BadInput(reason.to_owned()));
            }
            (true, None) => Some(AssigneeFilter::Unassigned),
            (false, assignee) => assignee.map(AssigneeFilter::User),
        };
        let lasting = during.lasting(self.open)?;
        Ok(AlarmQuery { lasting, states, assignee, severities, classes })
    }
}

/// Alarms of paths, and faults that no path shows, newest first. Owners are those of the time at which each was raised.
#[utoipa::path(get, path = "/alarms", operation_id = "getAlarms", params(AlarmFilter, During, Page), responses(
    (status = 200, body = Alarms),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn alarms(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<AlarmFilter>,
    ValidQuery(during): ValidQuery<During>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Alarms>, ApiError> {
    let limit = page.limit()?;
    let before = page.before()?;
    let which = which.query(during)?;
    let mut items = alarm_items(&shared, &which, before, u64::from(limit) + 1).await?;
    let more = items.len() > usize::from(limit);
    items.truncate(limit.into());
    let next = match items.last().filter(|_| more) {
        Some(last) => {
            let at = last.raised_at.format(&Rfc3339);
            let at = at.map_err(|error| ApiError::Internal(Box::new(error)))?;
            Some(format!("{at}_{}", last.id))
        }
        None => None,
    };
    Ok(Json(Alarms { items, next }))
}

/// One alarm, of paths or of events.
#[utoipa::path(get, path = "/alarms/{id}", operation_id = "getAlarm",
    params(("id" = String, Path, description = "The alarm's id or short number")), responses(
    (status = 200, body = AlarmItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn alarm(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<AlarmItem>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let named = resolve(&shared.store, Numbered::Alarm, &id).await?;
    let rows = shared.store.alarm(named).await?.ok_or_else(unknown)?;
    let mut item = items_of(&shared, vec![rows]).await?.pop().ok_or_else(unknown)?;
    let earlier = shared.store.earlier_alarms(vec![item.id]).await?.remove(&item.id);
    item.earlier = Some(earlier.map(EarlierView::from).unwrap_or_default());
    Ok(Json(item))
}

/// What to do with alarms.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum RequestedAction {
    /// Acknowledge them.
    Acknowledge,
    /// Withdraw the acknowledgement.
    Unacknowledge,
    /// Assign them to the user `to`; without `to`, take the assignment back.
    Assign,
    /// Shelve them until `until`, with `text` as the reason.
    Shelve,
    /// Unshelve them before that time.
    Unshelve,
    /// Close them.
    Close,
    /// Reopen them.
    Reopen,
    /// Attach them to the incident `incident`.
    Attach,
}

/// A change of alarms.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AlarmActionRequest {
    /// Ids or short numbers, 1 to 500.
    alarms: Vec<String>,
    action: RequestedAction,
    /// The name of a user.
    to: Option<String>,
    /// RFC 3339, at most 90 days from now.
    #[serde(default, with = "time::serde::rfc3339::option")]
    until: Option<OffsetDateTime>,
    /// Id or short number.
    incident: Option<String>,
    /// About this action; the reason of a shelving.
    #[serde(default)]
    text: String,
}

impl AlarmActionRequest {
    /// A field that only one action takes is not lost with another.
    fn check_fields(&self) -> Result<(), ApiError> {
        let given = [
            ("to", self.to.is_some(), RequestedAction::Assign),
            ("until", self.until.is_some(), RequestedAction::Shelve),
            ("incident", self.incident.is_some(), RequestedAction::Attach),
        ];
        let stray = given.into_iter().find(|(_, given, of)| *given && *of != self.action);
        if let Some((field, ..)) = stray {
            return Err(ApiError::BadInput(format!("{field}: this action does not take it")));
        }
        let count = self.alarms.len();
        if !(1..=usize::from(MAX_PAGE)).contains(&count) {
            let reason = format!("alarms: {count} is outside 1 to {MAX_PAGE}");
            return Err(ApiError::BadInput(reason));
        }
        Ok(())
    }

    async fn change(&self, shared: &Shared, now: OffsetDateTime) -> Result<AlarmChange, ApiError> {
        let missing = |field: &str| ApiError::BadInput(format!("{field}: this action needs it"));
        Ok(AlarmChange::Handling(match self.action {
            RequestedAction::Acknowledge => HandlingChange::Acknowledge,
            RequestedAction::Unacknowledge => HandlingChange::Unacknowledge,
            RequestedAction::Assign => HandlingChange::Assign(self.to.clone()),
            RequestedAction::Shelve => {
                let until = self.until.ok_or_else(|| missing("until"))?;
                let until = checked_time("until", until)?;
                if until <= now || until > now + LONGEST_SHELVE {
                    let reason = "until: not within the next 90 days";
                    return Err(ApiError::BadInput(reason.to_owned()));
                }
                let reason = checked_text("text", &self.text, 1)?;
                HandlingChange::Shelve { until: until.into(), reason }
            }
            RequestedAction::Unshelve => HandlingChange::Unshelve,
            RequestedAction::Close => HandlingChange::Close,
            RequestedAction::Reopen => HandlingChange::Reopen,
            RequestedAction::Attach => {
                let named = self.incident.as_deref().ok_or_else(|| missing("incident"))?;
                let incident = resolve(&shared.store, Numbered::Incident, named).await?;
                return Ok(AlarmChange::Attach(IncidentId::from_uuid(incident)));
            }
        }))
    }
}

/// What became of the change of an alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum OutcomeKind {
    /// It is done.
    Done,
    /// The alarm was so before.
    Unchanged,
    /// It is not done.
    Refused,
}

/// The outcome for one alarm.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AlarmActionOutcome {
    /// The alarm as it was named.
    alarm: String,
    outcome: OutcomeKind,
    /// Why it was refused.
    code: Option<ProblemCode>,
    /// The same in words.
    detail: Option<String>,
}

impl AlarmActionOutcome {
    fn new(alarm: String, outcome: AlarmOutcome) -> Self {
        let (outcome, refused) = match outcome {
            AlarmOutcome::Done => (OutcomeKind::Done, None),
            AlarmOutcome::Unchanged => (OutcomeKind::Unchanged, None),
            AlarmOutcome::Refused(refused) => (OutcomeKind::Refused, Some(refused)),
        };
        let code = refused.map(|refused| ApiError::Alarm(refused).code());
        Self { alarm, outcome, code, detail: refused.map(|refused| refused.to_string()) }
    }
}

/// The outcomes of an action.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AlarmActionOutcomes {
    /// One for each alarm, in the order of the request.
    items: Vec<AlarmActionOutcome>,
}

/// Acknowledges, assigns, shelves, closes, reopens or attaches alarms. Each alarm has an outcome of its own.
#[utoipa::path(post, path = "/alarms/actions", operation_id = "actOnAlarms",
    request_body = AlarmActionRequest, responses(
    (status = 200, body = AlarmActionOutcomes),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn act(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<AlarmActionRequest>, JsonRejection>,
) -> Result<Json<AlarmActionOutcomes>, ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    asked.check_fields()?;
    let now = shared.clock.now();
    let change = asked.change(&shared, now).await?;
    let text = checked_text("text", &asked.text, 0)?;
    let numbers = asked.alarms.iter().filter_map(|named| named.parse().ok()).collect();
    let ids = asked.alarms.iter().filter_map(|named| named.parse().ok()).collect();
    let (by_id, by_number) = shared.store.alarms_named(ids, numbers).await?;
    let root = |named: &String| match named.parse::<i64>() {
        Ok(number) => by_number.get(&number).copied(),
        Err(_) => named.parse().ok().and_then(|id: Uuid| by_id.get(&id).copied()),
    };
    let roots: BTreeSet<Uuid> = asked.alarms.iter().filter_map(root).collect();
    let act = Act { by: by.name, at: now.into() };
    let outcomes = shared.store.change_alarms(&roots, &AlarmRequest { change, text, act }).await?;
    shared.change_added.notify_one();
    let unknown = AlarmOutcome::Refused(AlarmRefused::Unknown);
    let outcome = |named: String| {
        let outcome = root(&named).and_then(|root| outcomes.get(&root).copied());
        AlarmActionOutcome::new(named, outcome.unwrap_or(unknown))
    };
    Ok(Json(AlarmActionOutcomes { items: asked.alarms.iter().cloned().map(outcome).collect() }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn filters_are_read_and_a_wrong_one_is_named() {
        let filter = |operator_state: Option<&str>, assignee: Option<&str>, unassigned| {
            let text = |text: Option<&str>| text.map(str::to_owned);
            let (operator_state, assignee) = (text(operator_state), text(assignee));
            let filter =
                AlarmFilter { operator_state, assignee, unassigned, ..AlarmFilter::default() };
            filter.query(During::default())
        };
        let query = filter(Some("none, ack"), Some("ailsa"), false).unwrap();
        assert_eq!(query.states, Some(vec![OperatorState::None, OperatorState::Ack]));
        assert_eq!(query.assignee, Some(AssigneeFilter::User("ailsa".to_owned())));
        assert_eq!(filter(None, None, true).unwrap().assignee, Some(AssigneeFilter::Unassigned));
        for (wrong, field) in [
            (filter(Some("none,painted"), None, false), "operator_state:"),
            (filter(Some(""), None, false), "operator_state:"),
            (filter(None, Some("ailsa"), true), "assignee:"),
        ] {
            let Err(ApiError::BadInput(reason)) = wrong else { panic!("{field}") };
            assert!(reason.starts_with(field), "{reason}");
        }
    }

    #[test]
    fn a_field_of_another_action_is_refused() {
        let request = |json: serde_json::Value| {
            serde_json::from_value::<AlarmActionRequest>(json).unwrap().check_fields()
        };
        let alarms = serde_json::json!(["1"]);
        for (field, action) in [("to", "shelve"), ("incident", "close")] {
            let asked = serde_json::json!({ "alarms": alarms, "action": action, field: "1" });
            let Err(ApiError::BadInput(reason)) = request(asked) else { panic!("{field}") };
            assert!(reason.starts_with(field), "{reason}");
        }
        assert!(request(serde_json::json!({ "alarms": [], "action": "close" })).is_err());
        let many: Vec<String> = (0..501).map(|n: u16| n.to_string()).collect();
        assert!(request(serde_json::json!({ "alarms": many, "action": "close" })).is_err());
        request(serde_json::json!({ "alarms": alarms, "action": "assign", "to": "a" })).unwrap();
    }
}
