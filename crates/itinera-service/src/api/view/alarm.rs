//! Alarms as the API shows them.

use super::alarm_history::AlarmStateChange;
use super::handling::{AlarmActionView, HandlingView};
use super::impact::{ContractHolder, EarlierView};
use super::message::{MessageView, PlaceView};
use super::path::{offset, ratio};
use itinera_analysis::catalogue::Context;
use itinera_analysis::{event, messages};
use itinera_model::alarm::{AlarmClass, AlarmState, Severity};
use itinera_model::diagnosis::Part;
use itinera_model::finding::Cause;
use itinera_model::id::{CheckId, EventId, IncidentId};
use itinera_model::message::{LossEstimate, Message};
use itinera_model::owner::OwnerMap;
use itinera_store::{AlarmRecord, EventRecord, PathEnds};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// An alarm.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct AlarmItem {
    pub(crate) id: Uuid,
    /// Its short number, of one series with events.
    pub(crate) no: i64,
    /// What it is about: paths, an event, or the service itself.
    pub(crate) class: AlarmClass,
    pub(crate) message: MessageView,
    /// Part at fault.
    pub(crate) part: Part,
    pub(crate) perceived_severity: Severity,
    /// Class of fault; absent for what no path shows.
    pub(crate) cause: Option<Cause>,
    /// Absent for what no path shows.
    pub(crate) place: Option<PlaceView>,
    /// Absent for what no path shows.
    pub(crate) confidence: Option<f64>,
    /// The sites that see it, or have seen it.
    pub(crate) sites: Vec<String>,
    /// The services that it touches.
    pub(crate) services: Vec<String>,
    /// The check that sees it.
    pub(crate) check: Option<Uuid>,
    /// Carried loss now; absent for another cause.
    pub(crate) loss: Option<LossEstimate>,
    /// Added delay now; absent for another cause.
    pub(crate) added_delay_us: Option<u32>,
    /// The loss ratio from which an alarm is raised; absent for another cause.
    pub(crate) limit_loss_ratio: Option<f64>,
    /// The added delay from which an alarm is raised; absent for another cause.
    pub(crate) limit_added_delay_us: Option<u32>,
    /// The rule with the limit; absent where it is as configured.
    pub(crate) limits_by: Option<String>,
    /// The rule that gives it another severity than its figures; absent where none does.
    pub(crate) severity_by: Option<String>,
    /// The severity by its figures, where a rule gives it another.
    pub(crate) severity_by_figures: Option<Severity>,
    /// The providers that its sites pay.
    pub(crate) contract_holders: Vec<ContractHolder>,
    /// Earlier alarms of the same cause at the same place; absent in lists.
    pub(crate) earlier: Option<EarlierView>,
    /// Start of the first window over the limit.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) raised_at: OffsetDateTime,
    pub(crate) state: AlarmState,
    /// The end of the newest measurements of its paths, where none of them reports any more.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) no_data_since: Option<OffsetDateTime>,
    /// Its sites with an agent that reports nothing now: why it has no data.
    pub(crate) silent_sites: Vec<String>,
    /// When late measurements showed it, where it was never open.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) recorded_at: Option<OffsetDateTime>,
    /// Absent while the alarm is open.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) cleared_at: Option<OffsetDateTime>,
    /// The highest loss ratio so far; absent for another cause.
    pub(crate) worst_loss_ratio: Option<f64>,
    /// The highest added delay so far; absent for another cause.
    pub(crate) worst_added_delay_us: Option<u32>,
    /// The incident that it belongs to.
    pub(crate) incident: Option<Uuid>,
    /// The incident's short number.
    pub(crate) incident_no: Option<i64>,
    /// Paths that show it now.
    pub(crate) showing: Vec<Uuid>,
    /// Paths that have shown it.
    pub(crate) paths: Vec<Uuid>,
    /// How often it was raised: what shows again within half an hour of clearing is the same alarm.
    pub(crate) times_raised: usize,
    /// Its states and severities, the oldest first.
    pub(crate) history: Vec<AlarmStateChange>,
    pub(crate) handling: HandlingView,
    /// What operators did with it, the oldest first.
    pub(crate) actions: Vec<AlarmActionView>,
    /// The rows that it is made of.
    #[serde(skip)]
    pub(crate) rows: Vec<Uuid>,
}

/// Distinct names in order.
pub(crate) fn distinct<'a>(names: impl Iterator<Item = &'a String>) -> Vec<String> {
    names.collect::<BTreeSet<_>>().into_iter().cloned().collect()
}

impl AlarmItem {
    /// An alarm of paths, with the ends of at least its paths.
    pub(crate) fn of_paths(record: &AlarmRecord, ends: &[PathEnds], map: &OwnerMap) -> Self {
        let alarm = &record.alarm;
        let cause = alarm.key.cause;
        let cleared = record.cleared_at.is_some();
        let ends: Vec<&PathEnds> =
            ends.iter().filter(|end| alarm.paths.contains(&end.path)).collect();
        let sites = distinct(ends.iter().map(|end| &end.site));
        let state = alarm.state(cleared);
        let context = Context { map, state, sites: &sites };
        let is_loss = matches!(cause, Cause::Loss | Cause::Break);
        let is_delay = cause == Cause::Delay;
        let applied = alarm.applied.as_ref();
        let changed = applied.filter(|it| it.by_figures != Some(alarm.severity));
        Self {
            id: record.id.as_uuid(),
            no: record.no,
            class: AlarmClass::Path,
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
            limit_loss_ratio: applied.filter(|_| is_loss).map(|it| ratio(it.loss_ppm)),
            limit_added_delay_us: applied
                .filter(|_| is_delay)
                .map(|it| it.added_delay_us.as_micros()),
            limits_by: applied.and_then(|it| it.limits_by.clone()),
            severity_by: changed.and_then(|it| it.severity_by.clone()),
            severity_by_figures: changed.and_then(|it| it.by_figures),
            contract_holders: Vec::new(),
            earlier: None,
            since: offset(alarm.since),
            raised_at: offset(alarm.raised_at),
            state,
            no_data_since: alarm.no_data_since.map(offset),
            silent_sites: Vec::new(),
            recorded_at: alarm.recorded_at.map(offset),
            cleared_at: record.cleared_at,
            worst_loss_ratio: is_loss.then(|| ratio(alarm.worst_loss_ppm)),
            worst_added_delay_us: is_delay.then(|| alarm.worst_added_delay_us.as_micros()),
            incident: record.incident.map(IncidentId::as_uuid),
            incident_no: None,
            showing: alarm.showing.iter().map(|path| path.as_uuid()).collect(),
            paths: alarm.paths.iter().map(|path| path.as_uuid()).collect(),
            times_raised: 1,
            history: Vec::new(),
            handling: HandlingView::default(),
            actions: Vec::new(),
            rows: vec![record.id.as_uuid()],
            sites,
        }
    }

    /// The alarm of events that no path shows: what several sites see of one cause is one alarm, by the
    /// id and number of the one that came first. Absent without an event.
    pub(crate) fn of_events(group: &[&EventRecord], map: &OwnerMap) -> Option<Self> {
        let record = group.iter().find(|it| it.id == it.root).or_else(|| group.first())?;
        let event = &record.event;
        let seen: Vec<_> = group.iter().map(|it| it.standing()).collect();
        let cleared = group.iter().all(|it| it.ended_at.is_some());
        let sites = distinct(group.iter().filter_map(|it| it.site.as_ref()));
        let state = AlarmState::of_cleared(cleared);
        let context = Context { map, state, sites: &sites };
        let principal = event::principal(&seen)?;
        let present = group.iter().filter(|it| cleared || it.ended_at.is_none());
        let severities = present.filter_map(|it| it.event.severity);
        Some(Self {
            id: record.id.as_uuid(),
            no: record.no,
            class: event.key.kind.class(),
            message: MessageView::new(principal.event.message.clone(), &context),
            part: event.part,
            perceived_severity: severities.min().unwrap_or(Severity::Minor),
            cause: None,
            place: None,
            confidence: None,
            services: distinct(group.iter().filter_map(|it| it.event.service.as_ref())),
            check: event.check.map(CheckId::as_uuid),
            loss: None,
            added_delay_us: None,
            limit_loss_ratio: None,
            limit_added_delay_us: None,
            limits_by: None,
            severity_by: None,
            severity_by_figures: None,
            contract_holders: Vec::new(),
            earlier: None,
            since: offset(event.since),
            raised_at: offset(event.raised_at),
            state,
            no_data_since: None,
            silent_sites: Vec::new(),
            recorded_at: None,
            cleared_at: group.iter().filter_map(|it| it.ended_at).max().filter(|_| cleared),
            worst_loss_ratio: None,
            worst_added_delay_us: None,
            incident: record.incident.map(IncidentId::as_uuid),
            incident_no: None,
            showing: Vec::new(),
            paths: Vec::new(),
            times_raised: 1,
            history: Vec::new(),
            handling: HandlingView::default(),
            actions: Vec::new(),
            rows: group.iter().map(|it| it.id.as_uuid()).collect(),
            sites,
        })
    }

    /// The alarms with a place in the incident of a pair's alarm, among `all`. A pair has no place of its own, so
    /// what holds for all of them holds for it. Empty for an alarm of anything else.
    pub(crate) fn located_with<'a>(&self, all: &'a [Self]) -> Vec<&'a Self> {
        let is_of_pair =
            matches!(self.message.message(), Message::PairLoss(_) | Message::PairUnreachable(_));
        let Some(incident) = self.incident.filter(|_| is_of_pair) else { return Vec::new() };
        all.iter().filter(|it| it.incident == Some(incident) && it.place.is_some()).collect()
    }

    /// Alarms of the events of an incident, each cause once.
    pub(crate) fn of_faults(records: &[EventRecord], map: &OwnerMap) -> Vec<Self> {
        let mut groups: BTreeMap<EventId, Vec<&EventRecord>> = BTreeMap::new();
        for record in records {
            groups.entry(record.root).or_default().push(record);
        }
        groups.values().filter_map(|group| Self::of_events(group, map)).collect()
    }
}
