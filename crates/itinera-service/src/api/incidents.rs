//! Incidents: alarms of one cause, or a complaint, reviewed together.

use super::view::{AlarmItem, OwnerView, offset};
use super::{MAX_PAGE, Page, ValidQuery, checked_time, evidence};
use crate::problem::{ApiError, Problem};
use crate::server::Shared;
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use evidence::Evidence;
use itinera_analysis::{incident, sentence};
use itinera_model::diagnosis::Part;
use itinera_model::id::{IncidentId, PathId};
use itinera_store::{Complaint, IncidentEvent, IncidentRecord, PathEnds};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::Arc;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Longest note.
const LONGEST_TEXT: usize = 10_000;

/// An incident in short.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct IncidentItem {
    id: Uuid,
    /// Its short number.
    no: i64,
    /// What it is, in words.
    sentence: String,
    /// `open`; `over` when every alarm has cleared; `closed`.
    state: &'static str,
    /// `alarms` or `complaint`.
    origin: &'static str,
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

fn distinct<'a>(names: impl Iterator<Item = &'a String>) -> Vec<String> {
    names.collect::<BTreeSet<_>>().into_iter().cloned().collect()
}

fn paths_of(record: &IncidentRecord) -> BTreeSet<PathId> {
    record.alarms.iter().flat_map(|alarm| alarm.alarm.paths.iter().copied()).collect()
}

/// The incident in short, with owners of the time it was opened.
async fn item(
    shared: &Shared,
    record: &IncidentRecord,
    ends: &[PathEnds],
) -> Result<IncidentItem, ApiError> {
    let (map, _) = shared.owner_map_at(record.opened_at).await?;
    let alarms: Vec<_> = record.alarms.iter().map(|a| (&a.alarm, a.cleared_at.is_some())).collect();
    let open_alarms = alarms.iter().filter(|(_, cleared)| !cleared).count();
    let ends = ends_of(ends, &paths_of(record));
    let faults = &record.faults;
    let seen_at = faults.iter().map(|fault| &fault.site);
    let touched = faults.iter().filter_map(|fault| fault.event.service.as_ref());
    let mut sites = distinct(ends.iter().map(|end| &end.site).chain(seen_at));
    let mut services = distinct(ends.iter().map(|end| &end.service).chain(touched));
    let events: Vec<_> =
        faults.iter().map(|it| (&it.event, it.site.as_str(), it.ended_at.is_some())).collect();
    // What several sites see of one cause is one alarm.
    let causes = |lasting: bool| {
        let wanted = events.iter().filter(|(.., over)| !(lasting && *over));
        wanted.map(|(event, ..)| event.group.as_str()).collect::<BTreeSet<_>>().len()
    };
    let lasting = causes(true);
    // What a machine says of itself explains what its first link shows.
    let of_machine = events.iter().any(|(event, ..)| event.part == Part::Machine);
    let headline =
        match (incident::headline(&alarms, &map), itinera_analysis::event::headline(&events)) {
            (Some(_), Some(said)) if of_machine => Some(said),
            (Some(said), _) => Some(said),
            (None, said) => said,
        };
    let mut owners: Vec<OwnerView> = Vec::new();
    for (alarm, _) in &alarms {
        for owner in sentence::whose(&alarm.key.place, &map).owners() {
            if !owners.iter().any(|known| known.is(owner)) {
                owners.push(owner.into());
            }
        }
    }
    let sentence = match (&record.complaint, headline) {
        (Some(complaint), _) => {
            sites = vec![complaint.site.clone()];
            services = vec![complaint.service.clone()];
            let verdict = evidence::frozen(record)?.map(Evidence::first_sentence);
            let said = format!("Complaint about {} from {}.", complaint.service, complaint.site);
            match verdict {
                Some(verdict) => format!("{said} {verdict}"),
                None => said,
            }
        }
        (None, Some(headline)) => headline,
        (None, None) => "Nothing belongs to this incident.".to_owned(),
    };
    let open_alarms = open_alarms + lasting;
    let state = match (record.closed_at, open_alarms, &record.complaint) {
        (Some(_), ..) => "closed",
        (None, 0, None) => "over",
        _ => "open",
    };
    let since = match &record.complaint {
        Some(complaint) => complaint.about,
        None => {
            let of_alarms = alarms.iter().map(|(alarm, _)| offset(alarm.since));
            let of_events = events.iter().map(|(event, ..)| offset(event.since));
            of_alarms.chain(of_events).min().unwrap_or(record.opened_at)
        }
    };
    Ok(IncidentItem {
        id: record.id.as_uuid(),
        no: record.no,
        sentence,
        state,
        origin: if record.complaint.is_some() { "complaint" } else { "alarms" },
        since,
        opened_at: record.opened_at,
        closed_at: record.closed_at,
        sites,
        services,
        owners,
        alarms: alarms.len() + causes(false),
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

/// What the open incidents say, newest first.
pub(super) async fn open_sentences(shared: &Shared) -> Result<Vec<String>, ApiError> {
    let records = shared.store.incidents(true, None, MAX_PAGE.into()).await?;
    let mut said = Vec::new();
    for record in records {
        said.push(item(shared, &record, &[]).await?.sentence);
    }
    Ok(said)
}

/// An entry in the timeline of an incident.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TimelineEntry {
    id: Uuid,
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    user: String,
    /// `opened`, `alarm-raised`, `alarm-cleared`, `event-began`, `event-ended`, `diagnosis-started`,
    /// `note`, `closed` or `reopened`.
    kind: String,
    /// A note's or a closing's words; what an alarm said.
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
    evidence: Option<Evidence>,
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
    let text = match record {
        None if occurred.is_some() => occurred.map(|it| it.event.words.clone()),
        Some(record) => {
            let (map, _) = shared.owner_map_at(offset(record.alarm.raised_at)).await?;
            Some(sentence::of_alarm(&record.alarm, event.kind == "alarm-cleared", &map))
        }
        None => {
            let words = event.body["text"].as_str().or_else(|| event.body["words"].as_str());
            words.filter(|words| !words.is_empty()).map(str::to_owned)
        }
    };
    let IncidentEvent { id, at, user, kind, .. } = event;
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
        alarm_items.push(AlarmItem::new(alarm, &map));
    }
    alarm_items.extend(AlarmItem::of_faults(&record.faults));
    let mut events = Vec::new();
    for occurred in shared.store.incident_events(id).await? {
        events.push(event(shared, occurred, &record).await?);
    }
    let evidence = evidence::frozen(&record)?;
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

fn id_of(text: &str) -> Result<IncidentId, ApiError> {
    text.parse().map_err(|_| ApiError::unknown_id(text))
}

/// One incident with its alarms, its evidence and what occurred.
#[utoipa::path(get, path = "/incidents/{id}", operation_id = "getIncident",
    params(("id" = String, Path, description = "The incident's id")), responses(
    (status = 200, body = IncidentDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn incident(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<IncidentDetail>, ApiError> {
    detail(&shared, id_of(&id)?).await
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

pub(super) fn checked_text(field: &str, text: &str, least: usize) -> Result<String, ApiError> {
    let text = text.trim();
    let length = text.chars().count();
    let odd = |c: char| c.is_control() && c != '\n' && c != '\t';
    if (least..=LONGEST_TEXT).contains(&length) && !text.chars().any(odd) {
        return Ok(text.to_owned());
    }
    let reason = format!("{field}: {least} to {LONGEST_TEXT} visible characters are needed");
    Err(ApiError::BadInput(reason))
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
    params(("id" = String, Path, description = "The incident's id")),
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
    let id = id_of(&id)?;
    let text = checked_text("text", &words.text, 1)?;
    shared.store.add_note(id, &text, &by.name).await?;
    shared.change_added.notify_one();
    Ok((StatusCode::CREATED, detail(&shared, id).await?))
}

/// Closes an incident; its alarms stay as they are.
#[utoipa::path(post, path = "/incidents/{id}/close", operation_id = "closeIncident",
    params(("id" = String, Path, description = "The incident's id")),
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
    let id = id_of(&id)?;
    let text = checked_text("text", &words.text, 0)?;
    shared.store.close_incident(id, &text, &by.name).await?;
    shared.change_added.notify_one();
    detail(&shared, id).await
}

/// Opens a closed incident again.
#[utoipa::path(post, path = "/incidents/{id}/reopen", operation_id = "reopenIncident",
    params(("id" = String, Path, description = "The incident's id")), responses(
    (status = 200, body = IncidentDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn reopen(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
) -> Result<Json<IncidentDetail>, ApiError> {
    let id = id_of(&id)?;
    shared.store.reopen_incident(id, &by.name).await?;
    shared.change_added.notify_one();
    detail(&shared, id).await
}
