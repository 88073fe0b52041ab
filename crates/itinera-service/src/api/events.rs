//! Events, for a moment or lasting.

use super::numbers::resolve;
use super::view::event::EventItem;
use super::view::path::offset;
use super::{During, Page, ValidQuery};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_model::id::{AgentId, EventId, IncidentId};
use itinera_store::{EventQuery, Numbered};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::format_description::well_known::Rfc3339;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// A page of events.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Events {
    items: Vec<EventItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which events.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct EventFilter {
    /// Only those that last.
    #[serde(default)]
    lasting: bool,
    /// Only faults.
    #[serde(default)]
    faults: bool,
    /// Only those of this agent.
    agent: Option<Uuid>,
    /// Only those of this incident.
    incident: Option<Uuid>,
}

/// Events, newest first.
#[utoipa::path(get, path = "/events", operation_id = "getEvents", params(EventFilter, During, Page), responses(
    (status = 200, body = Events),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn events(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<EventFilter>,
    ValidQuery(during): ValidQuery<During>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Events>, ApiError> {
    let limit = page.limit()?;
    let before = page.before()?;
    let which = EventQuery {
        lasting: during.lasting(which.lasting)?,
        faults: which.faults,
        agent: which.agent.map(AgentId::from_uuid),
        incident: which.incident.map(IncidentId::from_uuid),
    };
    let records = shared.store.events(which, before, u64::from(limit) + 1).await?;
    let more = records.len() > usize::from(limit);
    let numbers = records.iter().filter_map(|record| record.incident);
    let numbers = shared.store.incident_numbers(numbers).await?;
    let mut items = Vec::new();
    let mut maps = shared.owner_maps().await?;
    for record in records.into_iter().take(limit.into()) {
        let map = maps.at(offset(record.event.raised_at)).await?;
        items.push(EventItem::new(record, &map, &numbers));
    }
    let next = match items.last().filter(|_| more) {
        Some(last) => {
            let at = last.raised_at.format(&Rfc3339);
            let at = at.map_err(|error| ApiError::Internal(Box::new(error)))?;
            Some(format!("{at}_{}", last.id))
        }
        None => None,
    };
    Ok(Json(Events { items, next }))
}

/// One event.
#[utoipa::path(get, path = "/events/{id}", operation_id = "getEvent",
    params(("id" = String, Path, description = "The event's id or short number")), responses(
    (status = 200, body = EventItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn event(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<EventItem>, ApiError> {
    let event = EventId::from_uuid(resolve(&shared.store, Numbered::Event, &id).await?);
    let record = shared.store.event(event).await?.ok_or_else(|| ApiError::unknown_id(&id))?;
    let numbers = shared.store.incident_numbers(record.incident).await?;
    let (map, _) = shared.owner_map_at(offset(record.event.raised_at)).await?;
    Ok(Json(EventItem::new(record, &map, &numbers)))
}
