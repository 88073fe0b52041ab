//! Events, for a moment or lasting.

use super::view::offset;
use super::{Page, ValidQuery};
use crate::problem::{ApiError, Problem};
use crate::server::Shared;
use axum::Json;
use axum::extract::State;
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::id::{AgentId, IncidentId};
use itinera_store::{EventQuery, EventRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// The word for a perceived severity (RFC 8632).
pub(super) const fn severity_word(severity: Severity) -> &'static str {
    match severity {
        Severity::Critical => "critical",
        Severity::Major => "major",
        Severity::Minor => "minor",
    }
}

/// The word of a part at fault.
pub(super) const fn part_word(part: Part) -> &'static str {
    match part {
        Part::Nothing => "nothing",
        Part::Machine => "machine",
        Part::Site => "site",
        Part::Names => "names",
        Part::Network => "network",
        Part::Service => "service",
    }
}

/// An event.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EventItem {
    id: Uuid,
    /// Its short number.
    no: i64,
    /// Such as `service-fails`, `name-stale`, `frames-damaged`, `host-facts-changed`.
    kind: String,
    /// Part at fault: `machine`, `site`, `names`, `network` or `service`.
    part: &'static str,
    /// `critical`, `major` or `minor`; absent for what is only to be known.
    perceived_severity: Option<&'static str>,
    /// What occurred, in the words of the time.
    sentence: String,
    site: String,
    agent: Uuid,
    /// The service that it touches, where it is about one.
    service: Option<String>,
    /// The check that saw it.
    check: Option<Uuid>,
    #[serde(with = "time::serde::rfc3339")]
    since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    raised_at: OffsetDateTime,
    /// Absent while it lasts.
    #[serde(with = "time::serde::rfc3339::option")]
    ended_at: Option<OffsetDateTime>,
    /// The incident that it belongs to.
    incident: Option<Uuid>,
}

impl From<EventRecord> for EventItem {
    fn from(record: EventRecord) -> Self {
        let EventRecord { id, no, event, site, ended_at, incident } = record;
        Self {
            id: id.as_uuid(),
            no,
            kind: event.key.kind.to_string(),
            part: part_word(event.part),
            perceived_severity: event.severity.map(severity_word),
            sentence: event.words,
            site,
            agent: event.key.agent.as_uuid(),
            service: event.service,
            check: event.check.map(itinera_model::id::CheckId::as_uuid),
            since: offset(event.since),
            raised_at: offset(event.raised_at),
            ended_at,
            incident: incident.map(IncidentId::as_uuid),
        }
    }
}

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
    /// Only those that lasted at some time from then on.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
}

/// Events, newest first.
#[utoipa::path(get, path = "/events", operation_id = "getEvents", params(EventFilter, Page), responses(
    (status = 200, body = Events),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn events(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<EventFilter>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Events>, ApiError> {
    let limit = page.limit()?;
    let before = page.before()?;
    let which = EventQuery {
        lasting: which.lasting,
        faults: which.faults,
        agent: which.agent.map(AgentId::from_uuid),
        incident: which.incident.map(IncidentId::from_uuid),
        from: which.from,
        first_of_group: false,
    };
    let records = shared.store.events(which, before, u64::from(limit) + 1).await?;
    let more = records.len() > usize::from(limit);
    let items: Vec<EventItem> =
        records.into_iter().take(limit.into()).map(EventItem::from).collect();
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
