//! Incidents: alarms of one cause, or a complaint, reviewed together.

use super::alarms::{AlarmItem, distinct};
use super::message::{MessageView, OwnerView};
use super::numbers::resolve;
use super::view::offset;
use super::{MAX_PAGE, Page, ValidQuery, checked_text, checked_time, evidence};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_analysis::catalogue::Context;
use itinera_analysis::responsible::Responsible;
use itinera_analysis::{event as events, incident, messages};
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::id::{IncidentId, PathId};
use itinera_model::message::{Message, RecordedWords};
use itinera_model::owner::OwnerMap;
use itinera_store::{Complaint, IncidentEvent, IncidentRecord, Numbered, PathEnds};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::Arc;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// State of an incident.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum IncidentState {
    /// An alarm is open, or a complaint is not closed.
    Open,
    /// Every alarm has cleared.
    Cleared,
    /// A user closed it.
    Closed,
}

/// What opened an incident.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum IncidentOrigin {
    /// Alarms of one cause.
    Alarms,
    /// A complaint.
    Complaint,
}

/// An incident in short.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct IncidentItem {
    id: Uuid,
    /// Its short number.
    no: i64,
    message: MessageView,
    /// The highest of its alarms; absent for a complaint without one.
    perceived_severity: Option<Severity>,
    state: IncidentState,
    origin: IncidentOrigin,
    /// Start of the first fault, or the time complained of.
    #[serde(with = "time::serde::rfc3339")]
    since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    opened_at: OffsetDateTime,
    /// Absent while open.
    #[serde(with = "time::serde::rfc3339::option")]
    closed_at: Option<OffsetDateTime>,
    /// Sites that show it, or have shown it.
    sites: Vec<String>,
    /// Services that it touches.
    services: Vec<String>,
    /// Owners of the places at fault.
    owners: Vec<OwnerView>,
    alarms: usize,
    open_alarms: usize,
}

/// A page of incidents.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Incidents {
    items: Vec<IncidentItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which incidents.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct IncidentFilter {
    /// Only incidents that are not closed.
    #[serde(default)]
    open: bool,
}

fn ends_of<'a>(ends: &'a [PathEnds], paths: &BTreeSet<PathId>) -> Vec<&'a PathEnds> {
    ends.iter().filter(|end| paths.contains(&end.path)).collect()
}

fn paths_of(record: &IncidentRecord) -> BTreeSet<PathId> {
    record.alarms.iter().flat_map(|alarm| alarm.alarm.paths.iter().copied()).collect()
}

/// The message that stands for an incident, with whether it is over.
fn principal(record: &IncidentRecord) -> Result<(Message, bool), ApiError> {
    if let Some(complaint) = &record.complaint {
        let unjudged = || {
            let (site, service) = (&complaint.site, &complaint.service);
            let words = format!("Complaint about {service} from {site}");
            Message::Recorded(RecordedWords { words })
        };
        let evidence = evidence::frozen(record)?;
        return Ok((evidence.map_or_else(unjudged, |it| it.message), false));
    }
    let alarms: Vec<_> = record.alarms.iter().map(|a| (&a.alarm, a.cleared_at.is_some())).collect();
    let faults: Vec<_> = record
        .faults
        .iter()
        .map(|it| (&it.event, it.site.as_str(), it.ended_at.is_some()))
        .collect();
    let of_events = events::principal(&faults).map(|it| (it.event.message.clone(), it.cleared));
    // What a host reports of itself explains what its first link shows.
    let of_host = faults.iter().any(|(event, ..)| event.part == Part::Machine);
    let found = match (incident::principal(&alarms), of_events) {
        (Some(_), Some(event)) if of_host => Some(event),
        (Some(alarm), _) => Some(alarm),
        (None, event) => event,
    };
    Ok(found.unwrap_or((Message::NothingAttached, false)))
}

/// Causes among the events of an incident: what several sites see of one cause counts once.
fn causes(record: &IncidentRecord, lasting: bool) -> usize {
    let wanted = record.faults.iter().filter(|it| !(lasting && it.ended_at.is_some()));
    wanted.map(|it| it.event.group.as_str()).collect::<BTreeSet<_>>().len()
}

fn since(record: &IncidentRecord) -> OffsetDateTime {
    if let Some(complaint) = &record.complaint {
        return complaint.about;
    }
    let of_alarms = record.alarms.iter().map(|it| offset(it.alarm.since));
    let of_events = record.faults.iter().map(|it| offset(it.event.since));
    of_alarms.chain(of_events).min().unwrap_or(record.opened_at)
}

fn owners(record: &IncidentRecord, map: &OwnerMap) -> Vec<OwnerView> {
    let mut owners: Vec<OwnerView> = Vec::new();
    for alarm in &record.alarms {
        for owner in Responsible::of(&alarm.alarm.key.place, map).owners() {
            if !owners.iter().any(|known| known.is(owner)) {
                owners.push(owner.into());
            }
        }
    }
    owners
}

/// The incident in short, with owners of the time it was opened.
async fn item(
    shared: &Shared,
    record: &IncidentRecord,
    ends: &[PathEnds],
) -> Result<IncidentItem, ApiError> {
    let (map, _) = shared.owner_map_at(record.opened_at).await?;
    let ends = ends_of(ends, &paths_of(record));
    let faults = &record.faults;
    let (sites, services) = match &record.complaint {
        Some(complaint) => (vec![complaint.site.clone()], vec![complaint.service.clone()]),
        None => {
            let seen_at = faults.iter().map(|fault| &fault.site);
            let touched = faults.iter().filter_map(|fault| fault.event.service.as_ref());
            (
                distinct(ends.iter().map(|end| &end.site).chain(seen_at)),
                distinct(ends.iter().map(|end| &end.service).chain(touched)),
            )
        }
    };
    let (message, cleared) = principal(record)?;
    let open_alarms =
        record.alarms.iter().filter(|it| it.cleared_at.is_none()).count() + causes(record, true);
    let state = match (record.closed_at, open_alarms, &record.complaint) {
        (Some(_), ..) => IncidentState::Closed,
        (None, 0, None) => IncidentState::Cleared,
        _ => IncidentState::Open,
    };
    let of_alarms = record.alarms.iter().map(|it| it.alarm.severity);
    let of_events = faults.iter().filter_map(|it| it.event.severity);
    let origin = match record.complaint {
        Some(_) => IncidentOrigin::Complaint,
        None => IncidentOrigin::Alarms,
    };
    Ok(IncidentItem {
        id: record.id.as_uuid(),
        no: record.no,
        message: MessageView::new(message, &Context { map: &map, cleared, sites: &sites }),
        perceived_severity: of_alarms.chain(of_events).min(),
        state,
        origin,
        since: since(record),
        opened_at: record.opened_at,
        closed_at: record.closed_at,
        sites,
        services,
        owners: owners(record, &map),
        alarms: record.alarms.len() + causes(record, false),
        open_alarms,
    })
}

/// Incidents, newest first. Owners are those of the time at which each was opened.
#[utoipa::path(get, path = "/incidents", operation_id = "getIncidents",
    params(IncidentFilter, Page), responses(
    (status = 200, body = Incidents),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn incidents(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<IncidentFilter>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Incidents>, ApiError> {
    let limit = page.limit()?;
    let before = page.before()?;
    let records = shared.store.incidents(which.open, before, u64::from(limit) + 1).await?;
    let more = records.len() > usize::from(limit);
    let records = &records[..records.len().min(limit.into())];
    let paths: BTreeSet<PathId> = records.iter().flat_map(paths_of).collect();
    let ends = shared.store.path_ends(&paths.into_iter().collect::<Vec<_>>()).await?;
    let mut items = Vec::new();
    for record in records {
        items.push(item(&shared, record, &ends).await?);
    }
    let next = match records.last().filter(|_| more) {
        Some(last) => {
            let at = last.opened_at.format(&Rfc3339);
            let at = at.map_err(|error| ApiError::Internal(Box::new(error)))?;
            Some(format!("{at}_{}", last.id))
        }
        None => None,
    };
    Ok(Json(Incidents { items, next }))
}

/// Incidents that are not closed.
#[derive(Debug, Default)]
pub(super) struct Unclosed {
    /// Headlines of the open ones, newest first.
    pub(super) open: Vec<String>,
    /// How many have cleared and are not closed.
    pub(super) cleared: usize,
}

/// Incidents that are not closed.
pub(super) async fn unclosed(shared: &Shared) -> Result<Unclosed, ApiError> {
    let records = shared.store.incidents(true, None, MAX_PAGE.into()).await?;
    let mut all = Unclosed::default();
    for record in records {
        let item = item(shared, &record, &[]).await?;
        match item.state {
            IncidentState::Open => all.open.push(item.message.headline().to_owned()),
            IncidentState::Cleared => all.cleared += 1,
            IncidentState::Closed => {}
        }
    }
    Ok(all)
}

/// Kind of an entry in the timeline of an incident.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum TimelineKind {
    /// The incident was opened.
    Opened,
    /// An alarm was raised.
    AlarmRaised,
    /// An alarm cleared.
    AlarmCleared,
    /// An event began.
    EventBegan,
    /// An event ended.
    EventEnded,
    /// A diagnosis was started.
    DiagnosisStarted,
    /// A user wrote a note.
    Note,
    /// A user closed it.
    Closed,
    /// It was opened again.
    Reopened,
}

/// An entry in the timeline of an incident.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TimelineEntry {
    id: Uuid,
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    user: String,
    kind: TimelineKind,
    /// A note's or a closing's words; the headline of an alarm or event.
    text: Option<String>,
    /// The alarm that it is about.
    alarm: Option<Uuid>,
}

/// The reported problem.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ComplaintView {
    site: String,
    service: String,
    #[serde(with = "time::serde::rfc3339")]
    about: OffsetDateTime,
    words: String,
    /// Who entered it.
    user: String,
}

/// An incident with everything that belongs to it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct IncidentDetail {
    #[serde(flatten)]
    item: IncidentItem,
    /// Absent where alarms opened it.
    complaint: Option<ComplaintView>,
    /// What was measured around the time complained of, as it was when the complaint came.
    evidence: Option<evidence::EvidenceView>,
    /// Its alarms, oldest first.
    alarm_items: Vec<AlarmItem>,
    /// Its diagnoses, newest first.
    diagnoses: Vec<super::diagnoses::DiagnosisItem>,
    /// Watches that belong to it, the newest first.
    watches: Vec<super::watches::WatchItem>,
    /// What occurred, oldest first.
    events: Vec<TimelineEntry>,
}

async fn event(
    shared: &Shared,
    event: IncidentEvent,
    of: &IncidentRecord,
) -> Result<TimelineEntry, ApiError> {
    let named = |field: &str| event.body[field].as_str().and_then(|id| id.parse::<Uuid>().ok());
    let alarm = named("alarm");
    let record = of.alarms.iter().find(|record| Some(record.id.as_uuid()) == alarm);
    let occurred = named("event");
    let occurred = of.faults.iter().find(|it| Some(it.id.as_uuid()) == occurred);
    let kind = serde_json::from_value(serde_json::Value::String(event.kind.clone()));
    let kind: TimelineKind = kind.map_err(|error| ApiError::Internal(Box::new(error)))?;
    let (map, _) = shared.owner_map_at(event.at).await?;
    let render = |message| MessageView::of_one(message, &map).headline().to_owned();
    let text = match (record, occurred) {
        (Some(record), _) => {
            let cleared = kind == TimelineKind::AlarmCleared;
            Some(render(messages::of_alarm(&record.alarm, cleared, false)))
        }
        (None, Some(occurred)) => Some(render(occurred.event.message.clone())),
        (None, None) => {
            let words = event.body["text"].as_str().or_else(|| event.body["words"].as_str());
            words.filter(|words| !words.is_empty()).map(str::to_owned)
        }
    };
    let IncidentEvent { id, at, user, .. } = event;
    Ok(TimelineEntry { id, at, user, kind, text, alarm })
}

async fn detail(shared: &Shared, id: IncidentId) -> Result<Json<IncidentDetail>, ApiError> {
    let unknown = || ApiError::unknown_id(&id.to_string());
    let record = shared.store.incident(id).await?.ok_or_else(unknown)?;
    let paths: Vec<PathId> = paths_of(&record).into_iter().collect();
    let ends = shared.store.path_ends(&paths).await?;
    let item = item(shared, &record, &ends).await?;
    let mut alarm_items = Vec::new();
    for alarm in &record.alarms {
        let (map, _) = shared.owner_map_at(offset(alarm.alarm.raised_at)).await?;
        alarm_items.push(AlarmItem::of_paths(alarm, &ends, &map));
    }
    let (map, _) = shared.owner_map_at(record.opened_at).await?;
    alarm_items.extend(AlarmItem::of_faults(&record.faults, &map));
    let mut events = Vec::new();
    for occurred in shared.store.incident_events(id).await? {
        events.push(event(shared, occurred, &record).await?);
    }
    let evidence = evidence::frozen(&record)?.map(|it| it.view(&map));
    let complaint = record.complaint.map(|complaint| ComplaintView {
        site: complaint.site,
        service: complaint.service,
        about: complaint.about,
        words: complaint.words,
        user: complaint.user,
    });
    let watches = super::watches::of_incident(shared, id).await?;
    let diagnoses = super::diagnoses::of_incident(shared, id).await?;
    Ok(Json(IncidentDetail { item, complaint, evidence, alarm_items, diagnoses, watches, events }))
}

async fn id_of(shared: &Shared, text: &str) -> Result<IncidentId, ApiError> {
    Ok(IncidentId::from_uuid(resolve(&shared.store, Numbered::Incident, text).await?))
}

/// One incident with its alarms, its evidence and what occurred.
#[utoipa::path(get, path = "/incidents/{id}", operation_id = "getIncident",
    params(("id" = String, Path, description = "The incident's id or short number")), responses(
    (status = 200, body = IncidentDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn incident(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<IncidentDetail>, ApiError> {
    detail(&shared, id_of(&shared, &id).await?).await
}

/// A report of a problem.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ComplaintRequest {
    /// The site it comes from, by name.
    site: String,
    /// The service it is about, by name.
    service: String,
    /// Since about when (RFC 3339); now where absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    about: Option<OffsetDateTime>,
    /// In their own words.
    #[serde(default)]
    words: String,
}

/// Opens an incident from a complaint, and gathers what was measured there and then.
#[utoipa::path(post, path = "/incidents", operation_id = "openIncident",
    request_body = ComplaintRequest, responses(
    (status = 201, body = IncidentDetail),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn open(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<ComplaintRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<IncidentDetail>), ApiError> {
    let Json(new) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let now = OffsetDateTime::now_utc();
    let about = checked_time("about", new.about.unwrap_or(now))?;
    if about > now + Duration::minutes(5) {
        return Err(ApiError::BadInput("about: this is in the future".to_owned()));
    }
    let words = checked_text("words", &new.words, 0)?;
    let (site, service) = (new.site, new.service);
    let evidence = evidence::gather(&shared, &site, &service, about).await?;
    let complaint = Complaint { site, service, about, words, user: by.name };
    let frozen = serde_json::to_value(&evidence);
    let frozen = frozen.map_err(|error| ApiError::Internal(Box::new(error)))?;
    let id = shared.store.open_complaint(&complaint, frozen).await?;
    shared.change_added.notify_one();
    Ok((StatusCode::CREATED, detail(&shared, id).await?))
}

/// Words.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct EntryText {
    text: String,
}

/// Writes a note into an incident.
#[utoipa::path(post, path = "/incidents/{id}/notes", operation_id = "addNote",
    params(("id" = String, Path, description = "The incident's id or short number")),
    request_body = EntryText, responses(
    (status = 201, body = IncidentDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn add_note(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
    body: Result<Json<EntryText>, JsonRejection>,
) -> Result<(StatusCode, Json<IncidentDetail>), ApiError> {
    let Json(words) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let id = id_of(&shared, &id).await?;
    let text = checked_text("text", &words.text, 1)?;
    shared.store.add_note(id, &text, &by.name).await?;
    shared.change_added.notify_one();
    Ok((StatusCode::CREATED, detail(&shared, id).await?))
}

/// Closes an incident; its alarms stay as they are.
#[utoipa::path(post, path = "/incidents/{id}/close", operation_id = "closeIncident",
    params(("id" = String, Path, description = "The incident's id or short number")),
    request_body = EntryText, responses(
    (status = 200, body = IncidentDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn close(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
    body: Result<Json<EntryText>, JsonRejection>,
) -> Result<Json<IncidentDetail>, ApiError> {
    let Json(words) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let id = id_of(&shared, &id).await?;
    let text = checked_text("text", &words.text, 0)?;
    shared.store.close_incident(id, &text, &by.name).await?;
    shared.change_added.notify_one();
    detail(&shared, id).await
}

/// Opens a closed incident again.
#[utoipa::path(post, path = "/incidents/{id}/reopen", operation_id = "reopenIncident",
    params(("id" = String, Path, description = "The incident's id or short number")), responses(
    (status = 200, body = IncidentDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn reopen(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
) -> Result<Json<IncidentDetail>, ApiError> {
    let id = id_of(&shared, &id).await?;
    shared.store.reopen_incident(id, &by.name).await?;
    shared.change_added.notify_one();
    detail(&shared, id).await
}
