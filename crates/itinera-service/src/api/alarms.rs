//! Alarms.

use super::message::{MessageView, PlaceView};
use super::numbers::resolve;
use super::view::{offset, ratio};
use super::{Page, ValidQuery};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_analysis::catalogue::Context;
use itinera_analysis::{event, messages};
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::finding::Cause;
use itinera_model::id::{AlarmId, CheckId, EventId, IncidentId, PathId};
use itinera_model::message::LossEstimate;
use itinera_model::owner::OwnerMap;
use itinera_store::{AlarmRecord, EventQuery, EventRecord, Numbered, PathEnds};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// An alarm.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct AlarmItem {
    pub(super) id: Uuid,
    /// Its short number, of one series with events.
    no: i64,
    message: MessageView,
    /// Part at fault.
    part: Part,
    perceived_severity: Severity,
    /// Class of fault; absent for what no path shows.
    cause: Option<Cause>,
    /// Absent for what no path shows.
    place: Option<PlaceView>,
    /// Absent for what no path shows.
    confidence: Option<f64>,
    /// The sites that see it, or have seen it.
    sites: Vec<String>,
    /// The services that it touches.
    services: Vec<String>,
    /// The check that sees it.
    check: Option<Uuid>,
    /// Carried loss now; absent for another cause.
    loss: Option<LossEstimate>,
    /// Added delay now; absent for another cause.
    added_delay_us: Option<u32>,
    /// Start of the first window over the limit.
    #[serde(with = "time::serde::rfc3339")]
    pub(super) since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(super) raised_at: OffsetDateTime,
    /// Absent while the alarm is open.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) cleared_at: Option<OffsetDateTime>,
    /// The highest loss ratio so far; absent for another cause.
    worst_loss_ratio: Option<f64>,
    /// The highest added delay so far; absent for another cause.
    worst_added_delay_us: Option<u32>,
    /// The incident that it belongs to.
    incident: Option<Uuid>,
    /// The incident's short number.
    incident_no: Option<i64>,
    /// Paths that show it now.
    showing: Vec<Uuid>,
    /// Paths that have shown it.
    paths: Vec<Uuid>,
}

/// Distinct names in order.
pub(super) fn distinct<'a>(names: impl Iterator<Item = &'a String>) -> Vec<String> {
    names.collect::<BTreeSet<_>>().into_iter().cloned().collect()
}

impl AlarmItem {
    /// An alarm of paths, with the ends of at least its paths.
    pub(super) fn of_paths(record: &AlarmRecord, ends: &[PathEnds], map: &OwnerMap) -> Self {
        let alarm = &record.alarm;
        let cause = alarm.key.cause;
        let cleared = record.cleared_at.is_some();
        let ends: Vec<&PathEnds> =
            ends.iter().filter(|end| alarm.paths.contains(&end.path)).collect();
        let sites = distinct(ends.iter().map(|end| &end.site));
        let context = Context { map, cleared, sites: &sites };
        let is_loss = matches!(cause, Cause::Loss | Cause::Break);
        let is_delay = cause == Cause::Delay;
        Self {
            id: record.id.as_uuid(),
            no: record.no,
            message: MessageView::new(messages::of_alarm(alarm, cleared, false), &context),
            part: Part::Network,
            perceived_severity: alarm.severity,
            cause: Some(cause),
            place: Some(PlaceView::new(&alarm.key.place, map)),
            confidence: Some(ratio(alarm.confidence_ppm)),
            services: distinct(ends.iter().map(|end| &end.service)),
            check: None,
            loss: is_loss.then(|| messages::loss_estimate(alarm.loss_ppm, alarm.loss_counts)),
            added_delay_us: is_delay.then(|| alarm.added_delay_us.as_micros()),
            since: offset(alarm.since),
            raised_at: offset(alarm.raised_at),
            cleared_at: record.cleared_at,
            worst_loss_ratio: is_loss.then(|| ratio(alarm.worst_loss_ppm)),
            worst_added_delay_us: is_delay.then(|| alarm.worst_added_delay_us.as_micros()),
            incident: record.incident.map(IncidentId::as_uuid),
            incident_no: None,
            showing: alarm.showing.iter().map(|path| path.as_uuid()).collect(),
            paths: alarm.paths.iter().map(|path| path.as_uuid()).collect(),
            sites,
        }
    }

    /// The alarm of events that no path shows: what several sites see of one cause is one alarm.
    /// Absent without an event.
    pub(super) fn of_events(group: &[&EventRecord], map: &OwnerMap) -> Option<Self> {
        let record = group.first()?;
        let event = &record.event;
        let seen: Vec<_> =
            group.iter().map(|it| (&it.event, it.site.as_str(), it.ended_at.is_some())).collect();
        let cleared = group.iter().all(|it| it.ended_at.is_some());
        let sites = distinct(group.iter().map(|it| &it.site));
        let context = Context { map, cleared, sites: &sites };
        let principal = event::principal(&seen)?;
        Some(Self {
            id: record.id.as_uuid(),
            no: record.no,
            message: MessageView::new(principal.event.message.clone(), &context),
            part: event.part,
            perceived_severity: event.severity.unwrap_or(Severity::Minor),
            cause: None,
            place: None,
            confidence: None,
            services: distinct(group.iter().filter_map(|it| it.event.service.as_ref())),
            check: event.check.map(CheckId::as_uuid),
            loss: None,
            added_delay_us: None,
            since: offset(event.since),
            raised_at: offset(event.raised_at),
            cleared_at: group.iter().filter_map(|it| it.ended_at).max().filter(|_| cleared),
            worst_loss_ratio: None,
            worst_added_delay_us: None,
            incident: record.incident.map(IncidentId::as_uuid),
            incident_no: None,
            showing: Vec::new(),
            paths: Vec::new(),
            sites,
        })
    }

    /// Alarms of the events of an incident, each cause once.
    pub(super) fn of_faults(records: &[EventRecord], map: &OwnerMap) -> Vec<Self> {
        let mut groups: BTreeMap<&str, Vec<&EventRecord>> = BTreeMap::new();
        for record in records {
            groups.entry(&record.event.group).or_default().push(record);
        }
        groups.values().filter_map(|group| Self::of_events(group, map)).collect()
    }
}

/// Events of one incident regarded.
const MOST_OF_INCIDENT: u64 = 1_000;

/// The alarm that an event is the first of, with all events of the same cause in its incident;
/// absent for an event that is no fault.
async fn of_event(shared: &Shared, first: EventRecord) -> Result<Option<AlarmItem>, ApiError> {
    if first.event.severity.is_none() {
        return Ok(None);
    }
    let of_incident =
        EventQuery { faults: true, incident: first.incident, ..EventQuery::default() };
    let mut group = shared.store.events(of_incident, None, MOST_OF_INCIDENT).await?;
    group.retain(|it| it.event.group == first.event.group && it.id >= first.id);
    group.sort_by_key(|it| it.id);
    let (map, _) = shared.owner_map_at(offset(first.event.raised_at)).await?;
    Ok(AlarmItem::of_events(&group.iter().collect::<Vec<_>>(), &map))
}

/// Gives alarms the short numbers of their incidents.
async fn number_incidents(shared: &Shared, items: &mut [AlarmItem]) -> Result<(), ApiError> {
    let incidents = items.iter().filter_map(|item| item.incident).map(IncidentId::from_uuid);
    let numbers = shared.store.incident_numbers(incidents).await?;
    for item in items {
        let incident = item.incident.map(IncidentId::from_uuid);
        item.incident_no = incident.and_then(|id| numbers.get(&id).copied());
    }
    Ok(())
}

/// The newest alarms of paths and of events together, newest first, at most `limit`, those before
/// `before`.
pub(super) async fn alarm_items(
    shared: &Shared,
    open: bool,
    before: Option<(OffsetDateTime, Uuid)>,
    limit: u64,
) -> Result<Vec<AlarmItem>, ApiError> {
    let alarm_before = before.map(|(at, id)| (at, AlarmId::from_uuid(id)));
    let records = shared.store.alarms(open, alarm_before, limit).await?;
    let paths: BTreeSet<PathId> =
        records.iter().flat_map(|record| record.alarm.paths.iter().copied()).collect();
    let ends = shared.store.path_ends(&paths.into_iter().collect::<Vec<_>>()).await?;
    let mut items = Vec::new();
    for record in records {
        let (map, _) = shared.owner_map_at(offset(record.alarm.raised_at)).await?;
        items.push(AlarmItem::of_paths(&record, &ends, &map));
    }
    let which =
        EventQuery { faults: true, lasting: open, first_of_group: true, ..EventQuery::default() };
    let event_before = before.map(|(at, id)| (at, EventId::from_uuid(id)));
    for first in shared.store.events(which, event_before, limit).await? {
        items.extend(of_event(shared, first).await?);
    }
    items.sort_by_key(|item| std::cmp::Reverse((item.raised_at, item.id)));
    items.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
    number_incidents(shared, &mut items).await?;
    Ok(items)
}

/// A page of alarms.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Alarms {
    items: Vec<AlarmItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which alarms.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AlarmFilter {
    /// Only alarms that are open.
    #[serde(default)]
    open: bool,
}

/// Alarms of paths, and faults that no path shows, newest first. Owners are those of the time at which each was raised.
#[utoipa::path(get, path = "/alarms", operation_id = "getAlarms", params(AlarmFilter, Page), responses(
    (status = 200, body = Alarms),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn alarms(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<AlarmFilter>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Alarms>, ApiError> {
    let limit = page.limit()?;
    let before = page.before()?;
    let mut items = alarm_items(&shared, which.open, before, u64::from(limit) + 1).await?;
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
    let of_paths = match resolve(&shared.store, Numbered::Alarm, &id).await {
        Ok(alarm) => shared.store.alarm(AlarmId::from_uuid(alarm)).await?,
        Err(ApiError::UnknownId(_)) => None,
        Err(error) => return Err(error),
    };
    let mut item = match of_paths {
        Some(record) => {
            let (map, _) = shared.owner_map_at(offset(record.alarm.raised_at)).await?;
            let ends = shared.store.path_ends(&record.alarm.paths).await?;
            AlarmItem::of_paths(&record, &ends, &map)
        }
        None => {
            let event = EventId::from_uuid(resolve(&shared.store, Numbered::Event, &id).await?);
            let record = shared.store.event(event).await?.ok_or_else(unknown)?;
            of_event(&shared, record).await?.ok_or_else(unknown)?
        }
    };
    number_incidents(&shared, std::slice::from_mut(&mut item)).await?;
    Ok(Json(item))
}
