//! Events as the API shows them.

use super::message::MessageView;
use super::path::offset;
use itinera_analysis::catalogue::Context;
use itinera_model::alarm::{AlarmClass, AlarmState, Severity};
use itinera_model::diagnosis::Part;
use itinera_model::event::EventKind;
use itinera_model::id::IncidentId;
use itinera_model::owner::OwnerMap;
use itinera_store::EventRecord;
use serde::Serialize;
use std::collections::BTreeMap;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// An event.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EventItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    pub(crate) kind: EventKind,
    pub(crate) message: MessageView,
    /// Part at fault.
    pub(crate) part: Part,
    /// Absent for what is only to be known.
    pub(crate) perceived_severity: Option<Severity>,
    /// Absent for what is about the service itself, like the agent.
    pub(crate) site: Option<String>,
    pub(crate) agent: Option<Uuid>,
    /// The service that it touches, where it is about one.
    pub(crate) service: Option<String>,
    /// The check that saw it.
    pub(crate) check: Option<Uuid>,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) raised_at: OffsetDateTime,
    /// Absent while it lasts.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) ended_at: Option<OffsetDateTime>,
    /// The incident that it belongs to.
    pub(crate) incident: Option<Uuid>,
    /// The incident's short number.
    pub(crate) incident_no: Option<i64>,
}

impl EventItem {
    pub(crate) fn new(
        record: EventRecord,
        map: &OwnerMap,
        numbers: &BTreeMap<IncidentId, i64>,
    ) -> Self {
        let EventRecord { id, no, event, site, ended_at, incident, root: _ } = record;
        Self {
            id: id.as_uuid(),
            no,
            kind: event.key.kind,
            message: MessageView::new(
                event.message,
                &Context {
                    map,
                    state: AlarmState::of_cleared(event.severity.is_some() && ended_at.is_some()),
                    sites: site.as_slice(),
                },
            ),
            part: event.part,
            perceived_severity: event.severity,
            site,
            agent: (event.key.kind.class() == AlarmClass::Event).then(|| event.key.agent.as_uuid()),
            service: event.service,
            check: event.check.map(itinera_model::id::CheckId::as_uuid),
            since: offset(event.since),
            raised_at: offset(event.raised_at),
            ended_at,
            incident: incident.map(IncidentId::as_uuid),
            incident_no: incident.and_then(|id| numbers.get(&id).copied()),
        }
    }
}
