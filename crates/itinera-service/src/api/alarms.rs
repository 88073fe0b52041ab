//! Alarms.

use super::numbers::resolve;
use super::view::alarm::AlarmItem;
use super::view::alarm_history::{merged, times_raised};
use super::view::path::offset;
use super::{During, Page, ValidQuery};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_model::alarm::AlarmState;
use itinera_model::id::{AlarmId, EventId, IncidentId, PathId};
use itinera_store::{EventQuery, EventRecord, Lasting, Numbered};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::Arc;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

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

/// Gives alarms the short numbers of their incidents and the history of their states, and those
/// without data the reason.
pub(super) async fn complete(shared: &Shared, items: &mut [AlarmItem]) -> Result<(), ApiError> {
    if items.iter().any(|item| item.state == AlarmState::NoData) {
        let silent = shared.store.silent_sites().await?;
        for item in items.iter_mut().filter(|item| item.state == AlarmState::NoData) {
            item.silent_sites = item.sites.clone();
            item.silent_sites.retain(|site| silent.contains(site));
        }
    }
    let incidents = items.iter().filter_map(|item| item.incident).map(IncidentId::from_uuid);
    let numbers = shared.store.incident_numbers(incidents).await?;
    let rows = items.iter().flat_map(|item| item.rows.iter().copied()).collect();
    let states = shared.store.alarm_states(rows).await?;
    for item in items {
        let members = item.rows.iter().filter_map(|row| states.get(row).map(Vec::as_slice));
        item.history = merged(&members.collect::<Vec<_>>());
        item.times_raised = times_raised(&item.history);
        let incident = item.incident.map(IncidentId::from_uuid);
        item.incident_no = incident.and_then(|id| numbers.get(&id).copied());
    }
    Ok(())
}

/// The newest alarms of paths and of events together, newest first, at most `limit`, those before
/// `before`.
pub(super) async fn alarm_items(
    shared: &Shared,
    which: Lasting,
    before: Option<(OffsetDateTime, Uuid)>,
    limit: u64,
) -> Result<Vec<AlarmItem>, ApiError> {
    let alarm_before = before.map(|(at, id)| (at, AlarmId::from_uuid(id)));
    let records = shared.store.alarms(which, alarm_before, limit).await?;
    let paths: BTreeSet<PathId> =
        records.iter().flat_map(|record| record.alarm.paths.iter().copied()).collect();
    let ends = shared.store.path_ends(&paths.into_iter().collect::<Vec<_>>()).await?;
    let mut items = Vec::new();
    for record in records {
        let (map, _) = shared.owner_map_at(offset(record.alarm.raised_at)).await?;
        items.push(AlarmItem::of_paths(&record, &ends, &map));
    }
    let of_events =
        EventQuery { faults: true, lasting: which, first_of_group: true, ..EventQuery::default() };
    let event_before = before.map(|(at, id)| (at, EventId::from_uuid(id)));
    for first in shared.store.events(of_events, event_before, limit).await? {
        items.extend(of_event(shared, first).await?);
    }
    items.sort_by_key(|item| std::cmp::Reverse((item.raised_at, item.id)));
    items.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
    complete(shared, &mut items).await?;
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
    let which = during.lasting(which.open)?;
    let mut items = alarm_items(&shared, which, before, u64::from(limit) + 1).await?;
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
    complete(&shared, std::slice::from_mut(&mut item)).await?;
    Ok(Json(item))
}
