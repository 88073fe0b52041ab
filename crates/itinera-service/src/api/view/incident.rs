//! Incidents and their time lines as the API shows them.

use super::alarm::{AlarmItem, distinct};
use super::diagnosis::DiagnosisItem;
use super::evidence;
use super::evidence::EvidenceView;
use super::handling::AlarmActionView;
use super::impact::ContractHolder;
use super::message::{MessageView, OwnerView};
use super::path::offset;
use super::watch::WatchItem;
use crate::problem::ApiError;
use itinera_analysis::responsible::Responsible;
use itinera_analysis::{event as events, incident};
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::event::Event;
use itinera_model::id::PathId;
use itinera_model::incident::TimelineKind;
use itinera_model::message::{Message, RecordedWords};
use itinera_model::owner::OwnerMap;
use itinera_model::triage::{Handling, OperatorState};
use itinera_store::{EventRecord, IncidentRecord, PathEnds};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use time::OffsetDateTime;
use utoipa::ToSchema;
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
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    pub(crate) message: MessageView,
    /// The highest of its alarms; absent for a complaint without one.
    pub(crate) perceived_severity: Option<Severity>,
    pub(crate) state: IncidentState,
    pub(crate) origin: IncidentOrigin,
    /// Start of the first fault, or the time complained of.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) opened_at: OffsetDateTime,
    /// Absent while open.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) closed_at: Option<OffsetDateTime>,
    /// Sites that show it, or have shown it.
    pub(crate) sites: Vec<String>,
    /// Services that it touches.
    pub(crate) services: Vec<String>,
    /// Owners of the places at fault.
    pub(crate) owners: Vec<OwnerView>,
    /// The providers that its sites pay.
    pub(crate) contract_holders: Vec<ContractHolder>,
    pub(crate) alarms: usize,
    pub(crate) open_alarms: usize,
    /// The users who have its alarms: assigned to them, or acknowledged by them and not assigned.
    pub(crate) handled_by: Vec<String>,
    /// Operators, or planned work, have set each of its open alarms aside: shelved or closed it.
    pub(crate) is_set_aside: bool,
}

/// The alarms of an incident.
pub(crate) fn roots_of(record: &IncidentRecord) -> BTreeSet<Uuid> {
    let of_paths = record.alarms.iter().map(|it| it.id.as_uuid());
    of_paths.chain(record.faults.iter().map(|it| it.root.as_uuid())).collect()
}

/// The users who have alarms of an incident.
pub(crate) fn handled_by(
    record: &IncidentRecord,
    handlings: &BTreeMap<Uuid, Handling>,
) -> Vec<String> {
    let roots = roots_of(record);
    let handlings = roots.iter().filter_map(|root| handlings.get(root));
    let users = handlings.filter(|handling| handling.closed.is_none()).filter_map(|handling| {
        let acknowledged = handling.acknowledged.as_ref().map(|act| &act.by);
        handling.assignee.as_ref().or(acknowledged)
    });
    distinct(users)
}

/// Whether each open alarm of an incident is shelved or closed at a time; false where none is open.
pub(crate) fn is_set_aside(
    record: &IncidentRecord,
    handlings: &BTreeMap<Uuid, Handling>,
    now: OffsetDateTime,
) -> bool {
    let of_paths = record.alarms.iter().filter(|it| it.cleared_at.is_none());
    let of_events = record.faults.iter().filter(|it| it.ended_at.is_none());
    let open = of_paths.map(|it| it.id.as_uuid()).chain(of_events.map(|it| it.root.as_uuid()));
    let open: BTreeSet<Uuid> = open.collect();
    let is_aside = |root: &Uuid| {
        let state = handlings.get(root).map(|handling| handling.state(now.into()));
        matches!(state, Some(OperatorState::Shelved | OperatorState::Closed))
    };
    !open.is_empty() && open.iter().all(is_aside)
}

pub(crate) fn ends_of<'a>(ends: &'a [PathEnds], paths: &BTreeSet<PathId>) -> Vec<&'a PathEnds> {
    ends.iter().filter(|end| paths.contains(&end.path)).collect()
}

pub(crate) fn paths_of(record: &IncidentRecord) -> BTreeSet<PathId> {
    record.alarms.iter().flat_map(|alarm| alarm.alarm.paths.iter().copied()).collect()
}

/// The message that stands for an incident, with whether it is over.
pub(crate) fn principal(record: &IncidentRecord) -> Result<(Message, bool), ApiError> {
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
    let faults: Vec<_> = record.faults.iter().map(EventRecord::standing).collect();
    let of_hosts: Vec<_> =
        faults.iter().filter(|(event, ..)| event.part == Part::Machine).copied().collect();
    let of_events = |faults: &[(&Event, &str, bool)]| {
        events::principal(faults).map(|it| (it.event.message.clone(), it.cleared))
    };
    // What a host reports of itself explains what its first link shows.
    let found = match (incident::principal(&alarms), of_events(&of_hosts)) {
        (Some(_), Some(host)) => Some(host),
        (Some(alarm), None) => Some(alarm),
        (None, _) => of_events(&faults),
    };
    Ok(found.unwrap_or((Message::NothingAttached, false)))
}

/// Causes among the events of an incident: what several sites see of one cause counts once.
pub(crate) fn causes(record: &IncidentRecord, lasting: bool) -> usize {
    let wanted = record.faults.iter().filter(|it| !(lasting && it.ended_at.is_some()));
    wanted.map(|it| it.root).collect::<BTreeSet<_>>().len()
}

pub(crate) fn since(record: &IncidentRecord) -> OffsetDateTime {
    if let Some(complaint) = &record.complaint {
        return complaint.about;
    }
    let of_alarms = record.alarms.iter().map(|it| offset(it.alarm.since));
    let of_events = record.faults.iter().map(|it| offset(it.event.since));
    of_alarms.chain(of_events).min().unwrap_or(record.opened_at)
}

pub(crate) fn owners(record: &IncidentRecord, map: &OwnerMap) -> Vec<OwnerView> {
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

/// An entry in the timeline of an incident.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TimelineEntry {
    pub(crate) id: Uuid,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    pub(crate) user: String,
    pub(crate) kind: TimelineKind,
    /// A note's or a closing's words; the headline of an alarm or event.
    pub(crate) text: Option<String>,
    /// The alarm that it is about.
    pub(crate) alarm: Option<Uuid>,
    /// The short number of that, where it is about an action on it.
    pub(crate) alarm_no: Option<i64>,
    /// What a user, or the service itself, did with the alarm.
    pub(crate) action: Option<AlarmActionView>,
}

/// The reported problem.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ComplaintView {
    pub(crate) site: String,
    pub(crate) service: String,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) about: OffsetDateTime,
    pub(crate) words: String,
    /// The user.
    pub(crate) user: String,
}

/// An incident with everything that belongs to it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct IncidentDetail {
    #[serde(flatten)]
    pub(crate) item: IncidentItem,
    /// Absent where alarms opened it.
    pub(crate) complaint: Option<ComplaintView>,
    /// What was measured around the time complained of, as it was when the complaint came.
    pub(crate) evidence: Option<EvidenceView>,
    /// Its alarms, oldest first.
    pub(crate) alarm_items: Vec<AlarmItem>,
    /// Its diagnoses, newest first.
    pub(crate) diagnoses: Vec<DiagnosisItem>,
    /// Watches that belong to it, the newest first.
    pub(crate) watches: Vec<WatchItem>,
    /// What occurred, oldest first.
    pub(crate) events: Vec<TimelineEntry>,
}
