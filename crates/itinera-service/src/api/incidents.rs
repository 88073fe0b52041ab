//! Incidents: alarms of one cause, or a complaint, reviewed together.

use super::numbers::resolve;
use super::view::alarm::{AlarmItem, distinct};
use super::view::evidence::frozen;
use super::view::handling::{AlarmActionView, attached_to};
use super::view::impact::holders_of;
use super::view::incident::{
    ComplaintView, IncidentDetail, IncidentItem, IncidentOrigin, IncidentState, TimelineEntry,
    causes, ends_of, handled_by, is_set_aside, owners, paths_of, principal, roots_of, since,
};
use super::view::message::MessageView;
use super::view::notice::delivered;
use super::view::path::offset;
use super::view::status::Unclosed;
use super::{During, MAX_PAGE, Page, ValidQuery, checked_text, checked_time, evidence};
use crate::context::{OwnerMaps, Shared};
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_analysis::catalogue::Context;
use itinera_analysis::messages;
use itinera_model::alarm::AlarmState;
use itinera_model::id::{IncidentId, PathId};
use itinera_model::incident::TimelineKind;
use itinera_model::triage::{Handling, OperatorAction};
use itinera_store::{
    ActionRecord, AlarmRecord, Complaint, Contract, EventRecord, IncidentEvent, IncidentRecord,
    Lasting, Numbered, PathEnds,
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

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

/// The incident in short, with owners of the time it was opened.
pub(super) async fn item(
    maps: &mut OwnerMaps<'_>,
    record: &IncidentRecord,
    parts: &ItemParts,
) -> Result<IncidentItem, ApiError> {
    let map = maps.at(record.opened_at).await?;
    let ends = ends_of(&parts.ends, &paths_of(record));
    let faults = &record.faults;
    let (sites, services) = match &record.complaint {
        Some(complaint) => (vec![complaint.site.clone()], vec![complaint.service.clone()]),
        None => {
            // A pair says which sites exchange packets; what else there is says at which the fault is.
            let of_pair = |fault: &&EventRecord| fault.event.key.kind.is_of_pair();
            let only_pairs = ends.is_empty() && faults.iter().all(|fault| of_pair(&fault));
            let seen_at = faults.iter().filter(|fault| only_pairs || !of_pair(fault));
            let seen_at = seen_at.filter_map(|fault| fault.site.as_ref());
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
    let expired = |it: &AlarmRecord| it.alarm.state(it.cleared_at.is_some()) == AlarmState::Expired;
    let of_fault = match !record.alarms.is_empty() && record.alarms.iter().all(expired) {
        true => AlarmState::Expired,
        false => AlarmState::of_cleared(cleared),
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
        message: MessageView::new(message, &Context { map: &map, state: of_fault, sites: &sites }),
        perceived_severity: of_alarms.chain(of_events).min(),
        state,
        origin,
        since: since(record),
        opened_at: record.opened_at,
        closed_at: record.closed_at,
        contract_holders: holders_of(&parts.contracts, &sites),
        sites,
        services,
        owners: owners(record, &map),
        alarms: record.alarms.len() + causes(record, false),
        open_alarms,
        handled_by: handled_by(record, &parts.handlings),
        is_set_aside: is_set_aside(record, &parts.handlings, OffsetDateTime::now_utc()),
    })
}

/// What some incidents are shown with, looked up at once.
#[derive(Default)]
pub(super) struct ItemParts {
    /// The ends of their paths.
    pub(super) ends: Vec<PathEnds>,
    /// How their alarms are handled.
    handlings: BTreeMap<Uuid, Handling>,
    /// The contracts of all sites.
    contracts: Vec<Contract>,
}

impl ItemParts {
    pub(super) async fn of(shared: &Shared, records: &[IncidentRecord]) -> Result<Self, ApiError> {
        let paths: BTreeSet<PathId> = records.iter().flat_map(paths_of).collect();
        let paths: Vec<PathId> = paths.into_iter().collect();
        let roots: BTreeSet<Uuid> = records.iter().flat_map(roots_of).collect();
        let (ends, handlings, contracts) = tokio::try_join!(
            shared.store.path_ends(&paths),
            shared.store.handlings(roots.into_iter().collect()),
            shared.store.contracts(),
        )?;
        Ok(Self { ends, handlings, contracts })
    }
}

/// Incidents, newest first. Owners are those of the time at which each was opened.
#[utoipa::path(get, path = "/incidents", operation_id = "getIncidents",
    params(IncidentFilter, During, Page), responses(
    (status = 200, body = Incidents),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn incidents(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<IncidentFilter>,
    ValidQuery(during): ValidQuery<During>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Incidents>, ApiError> {
    let limit = page.limit()?;
    let before = page.before()?;
    let records =
        shared.store.incidents(during.lasting(which.open)?, before, u64::from(limit) + 1).await?;
    let more = records.len() > usize::from(limit);
    let records = &records[..records.len().min(limit.into())];
    let parts = ItemParts::of(&shared, records).await?;
    let mut items = Vec::new();
    let mut maps = shared.owner_maps().await?;
    for record in records {
        items.push(item(&mut maps, record, &parts).await?);
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
pub(super) async fn unclosed(shared: &Shared) -> Result<Unclosed, ApiError> {
    let records = shared.store.incidents(Lasting::OPEN, None, MAX_PAGE.into()).await?;
    let mut all = Unclosed::default();
    let mut maps = shared.owner_maps().await?;
    for record in records {
        let item = item(&mut maps, &record, &ItemParts::default()).await?;
        match item.state {
            IncidentState::Open => all.open.push(item.message.headline().to_owned()),
            IncidentState::Cleared => all.cleared += 1,
            IncidentState::Closed => {}
        }
    }
    Ok(all)
}

async fn event(
    maps: &mut OwnerMaps<'_>,
    event: IncidentEvent,
    of: &IncidentRecord,
    numbers: &BTreeMap<IncidentId, i64>,
) -> Result<TimelineEntry, ApiError> {
    let named = |field: &str| event.body[field].as_str().and_then(|id| id.parse::<Uuid>().ok());
    let alarm = named("alarm");
    let record = of.alarms.iter().find(|record| Some(record.id.as_uuid()) == alarm);
    let occurred = named("event");
    let occurred = of.faults.iter().find(|it| Some(it.id.as_uuid()) == occurred);
    let map = maps.at(event.at).await?;
    let render = |message| MessageView::of_one(message, &map).headline().to_owned();
    let text = match (record, occurred) {
        (Some(record), _) => {
            let cleared = event.kind == TimelineKind::AlarmCleared;
            Some(render(messages::of_alarm(&record.alarm, cleared, false)))
        }
        (None, Some(occurred)) => Some(render(occurred.event.message.clone())),
        (None, None)
            if matches!(event.kind, TimelineKind::NoticeSent | TimelineKind::NoticeFailed) =>
        {
            Some(delivered(event.kind, &event.body))
        }
        (None, None) => {
            let words = event.body["text"].as_str().or_else(|| event.body["words"].as_str());
            words.filter(|words| !words.is_empty()).map(str::to_owned)
        }
    };
    let alarm_no = event.body["alarm_no"].as_i64();
    let action = OperatorAction::of_timeline(event.kind);
    let IncidentEvent { id, at, user, kind, body } = event;
    let action = action.map(|action| {
        let record = ActionRecord { at, user: user.clone(), action, detail: body };
        AlarmActionView::new(record, numbers)
    });
    Ok(TimelineEntry { id, at, user, kind, text, alarm, alarm_no, action })
}

/// Entries of the timeline of an incident.
pub(super) async fn entries_of(
    shared: &Shared,
    maps: &mut OwnerMaps<'_>,
    timeline: Vec<IncidentEvent>,
    of: &IncidentRecord,
) -> Result<Vec<TimelineEntry>, ApiError> {
    let attached: Vec<IncidentId> =
        timeline.iter().filter_map(|entry| attached_to(&entry.body)).collect();
    let numbers = match attached.is_empty() {
        true => BTreeMap::new(),
        false => shared.store.incident_numbers(attached).await?,
    };
    let mut entries = Vec::with_capacity(timeline.len());
    for entry in timeline {
        entries.push(event(maps, entry, of, &numbers).await?);
    }
    Ok(entries)
}

async fn detail(shared: &Shared, id: IncidentId) -> Result<Json<IncidentDetail>, ApiError> {
    let unknown = || ApiError::unknown_id(&id.to_string());
    let record = shared.store.incident(id).await?.ok_or_else(unknown)?;
    let parts = ItemParts::of(shared, std::slice::from_ref(&record)).await?;
    let mut maps = shared.owner_maps().await?;
    let item = item(&mut maps, &record, &parts).await?;
    let mut alarm_items = Vec::new();
    for alarm in &record.alarms {
        let map = maps.at(offset(alarm.alarm.raised_at)).await?;
        alarm_items.push(AlarmItem::of_paths(alarm, &parts.ends, &map));
    }
    let map = maps.at(record.opened_at).await?;
    alarm_items.extend(AlarmItem::of_faults(&record.faults, &map));
    super::alarms::complete(shared, &mut alarm_items).await?;
    let timeline = shared.store.incident_events(id).await?;
    let events = entries_of(shared, &mut maps, timeline, &record).await?;
    let evidence = frozen(&record)?.map(|it| it.view(&map));
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
