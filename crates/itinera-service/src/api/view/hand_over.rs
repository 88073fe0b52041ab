//! What one shift hands over to the next, as the API shows it.

use super::alarm::AlarmItem;
use super::handling::minute;
use super::incident::{IncidentItem, IncidentState, TimelineEntry};
use super::path::offset;
use super::planned_work::PlannedWorkItem;
use super::watch::{SuppressionItem, WatchItem};
use itinera_model::incident::TimelineKind;
use itinera_store::IncidentRecord;
use serde::Serialize;
use std::collections::BTreeMap;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// An incident that is open, or was at some time since the shift began.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct IncidentHandOver {
    #[serde(flatten)]
    pub(crate) item: IncidentItem,
    /// True where it was opened since.
    pub(crate) is_new: bool,
    /// Alarms of it that were raised since.
    pub(crate) raised: usize,
    /// Alarms of it that cleared since and are not open again.
    pub(crate) cleared: usize,
    /// What else occurred since, oldest first.
    pub(crate) entries: Vec<TimelineEntry>,
}

/// How many alarms of an incident were raised since a time, and how many have cleared since.
fn moved_since(record: &IncidentRecord, since: OffsetDateTime) -> (usize, usize) {
    let of_paths =
        record.alarms.iter().map(|it| (it.id.as_uuid(), offset(it.alarm.raised_at), it.cleared_at));
    let of_events =
        record.faults.iter().map(|it| (it.root.as_uuid(), offset(it.event.raised_at), it.ended_at));
    // By alarm: when it was raised last, and when it cleared.
    let mut alarms: BTreeMap<Uuid, (OffsetDateTime, Option<OffsetDateTime>)> = BTreeMap::new();
    for (root, raised_at, cleared_at) in of_paths.chain(of_events) {
        let alarm = alarms.entry(root).or_insert((raised_at, cleared_at));
        let ended = alarm.1.zip(cleared_at).map(|(one, other)| one.max(other));
        *alarm = (alarm.0.max(raised_at), ended);
    }
    let raised = alarms.values().filter(|(raised_at, _)| *raised_at >= since);
    let cleared = alarms.values().filter(|(_, at)| at.is_some_and(|at| at >= since));
    (raised.count(), cleared.count())
}

impl IncidentHandOver {
    /// An incident with its timeline since a time.
    pub(crate) fn new(
        item: IncidentItem,
        record: &IncidentRecord,
        since: OffsetDateTime,
        mut entries: Vec<TimelineEntry>,
    ) -> Self {
        use TimelineKind::{AlarmCleared, AlarmRaised, EventBegan, EventEnded, NoticeSent, Opened};
        let left_out = [AlarmRaised, EventBegan, AlarmCleared, EventEnded, Opened, NoticeSent];
        entries.retain(|entry| !left_out.contains(&entry.kind));
        let (raised, cleared) = moved_since(record, since);
        Self { is_new: item.opened_at >= since, item, raised, cleared, entries }
    }
}

/// What is open, who has it, what changed since a time, and what to watch.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HandOver {
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    /// Incidents that are open, then those with all alarms cleared, then those closed since; each by severity.
    pub(crate) incidents: Vec<IncidentHandOver>,
    /// Open alarms that are shelved: each returns at its time.
    pub(crate) shelved: Vec<AlarmItem>,
    /// Watches that are not over.
    pub(crate) watches: Vec<WatchItem>,
    /// Planned pauses of measurement that last or are to come.
    pub(crate) suppressions: Vec<SuppressionItem>,
    /// Planned work that lasts or begins within a day.
    pub(crate) planned: Vec<PlannedWorkItem>,
    /// All of it as plain text, with times in UTC.
    pub(crate) text: String,
}

fn lasting(since: OffsetDateTime, until: OffsetDateTime) -> String {
    let minutes = (until - since).whole_minutes().max(0);
    match minutes {
        0..120 => format!("{minutes} min"),
        120..2_880 => format!("{} h", minutes / 60),
        _ => format!("{} days", minutes / 1_440),
    }
}

fn of_state(incidents: &[IncidentHandOver], state: IncidentState) -> Vec<&IncidentHandOver> {
    incidents.iter().filter(|it| it.item.state == state).collect()
}

fn incident(it: &IncidentHandOver, at: OffsetDateTime) -> String {
    let IncidentItem {
        no, message, since, closed_at, sites, services, alarms, open_alarms, ..
    } = &it.item;
    let mut text = format!("{no}. {}\n", message.headline());
    let mut facts =
        vec![format!("since {}, {}", minute(*since), lasting(*since, closed_at.unwrap_or(at)))];
    if it.item.state == IncidentState::Open {
        let users = &it.item.handled_by;
        facts.push(match (&users[..], it.item.is_set_aside) {
            (_, true) => "shelved".to_owned(),
            ([], false) => "not acknowledged".to_owned(),
            (users, false) => format!("with {}", users.join(", ")),
        });
        facts.push(format!("{open_alarms} of {alarms} alarms open"));
    }
    if !sites.is_empty() {
        facts.push(format!("at {}", sites.join(", ")));
    }
    if !services.is_empty() {
        facts.push(services.join(", "));
    }
    text.push_str(&format!("   {}\n", facts.join("; ")));
    let changes = match (it.raised, it.cleared) {
        (0, 0) if it.entries.is_empty() => Some("no change".to_owned()),
        (0, 0) => None,
        (raised, cleared) => Some(format!("alarms raised: {raised}, cleared: {cleared}")),
    };
    let new = it.is_new.then(|| "new".to_owned());
    let changes: Vec<String> = new.into_iter().chain(changes).collect();
    if !changes.is_empty() {
        text.push_str(&format!("   {}\n", changes.join("; ")));
    }
    for entry in &it.entries {
        let at = minute(entry.at);
        let words = match (&entry.action, &entry.text) {
            (Some(action), _) => format!("alarm {} {}", entry.alarm_no.unwrap_or(0), action.words),
            (None, Some(text)) => format!("{}, {}: {text}", entry.user, entry.kind.name()),
            (None, None) => format!("{}, {}", entry.user, entry.kind.name()),
        };
        text.push_str(&format!("   {at}  {}\n", words.replace('\n', "\n      ")));
    }
    text
}

fn to_watch(hand_over: &HandOver) -> Vec<String> {
    let everywhere = || "all".to_owned();
    let shelved = hand_over.shelved.iter().map(|alarm| {
        let until = alarm.handling.shelved_until.map_or_else(String::new, minute);
        let reason = alarm.handling.shelve_reason.as_deref().unwrap_or_default();
        let headline = alarm.message.headline();
        format!("Alarm {} is shelved until {until} ({reason}): {headline}", alarm.no)
    });
    let watches = hand_over.watches.iter().map(|watch| {
        let until = minute(watch.ends_at);
        format!("Watch {} until {until}: {} to {}", watch.no, watch.site, watch.target)
    });
    let pauses = hand_over.suppressions.iter().map(|pause| {
        let site = pause.site.clone().unwrap_or_else(everywhere);
        let target = pause.target.clone().unwrap_or_else(everywhere);
        let (from, until) = (minute(pause.from), minute(pause.until));
        let (no, reason) = (pause.no, &pause.reason);
        format!("Pause {no} from {from} until {until}, {site} to {target}: {reason}")
    });
    let planned = hand_over.planned.iter().map(PlannedWorkItem::words);
    shelved.chain(watches).chain(pauses).chain(planned).collect()
}

/// A hand-over as plain text, with times in UTC.
pub(crate) fn text(hand_over: &HandOver) -> String {
    let HandOver { since, at, incidents, .. } = hand_over;
    let mut text = format!("Hand-over at {}: changes since {}\n", minute(*at), minute(*since));
    let groups = [
        (IncidentState::Open, "Open incidents"),
        (IncidentState::Cleared, "Cleared, not closed"),
        (IncidentState::Closed, "Closed"),
    ];
    for (state, title) in groups {
        let some = of_state(incidents, state);
        text.push_str(&format!("\n{title}: {}\n", some.len()));
        some.into_iter().for_each(|it| text.push_str(&incident(it, *at)));
    }
    let watched = to_watch(hand_over);
    text.push_str(&format!("\nTo watch: {}\n", watched.len()));
    watched.iter().for_each(|line| text.push_str(&format!("   {line}\n")));
    text
}

#[cfg(test)]
mod tests {
    use super::super::incident::IncidentOrigin;
    use super::super::message::MessageView;
    use super::*;
    use itinera_model::alarm::Severity;
    use itinera_model::diagnosis::Part;
    use itinera_model::event::{Event, EventKey, EventKind};
    use itinera_model::id::{AgentId, EventId, IncidentId};
    use itinera_model::message::Message;
    use itinera_model::owner::OwnerMap;
    use itinera_store::EventRecord;

    fn at(minutes: i64) -> OffsetDateTime {
        OffsetDateTime::from_unix_timestamp(1_700_000_000 + minutes * 60).unwrap()
    }

    fn item(no: i64, state: IncidentState, opened: i64) -> IncidentItem {
        IncidentItem {
            id: Uuid::nil(),
            no,
            message: MessageView::of_one(Message::NothingAttached, &OwnerMap::default()),
            perceived_severity: None,
            state,
            origin: IncidentOrigin::Alarms,
            since: at(opened),
            opened_at: at(opened),
            closed_at: (state == IncidentState::Closed).then(|| at(200)),
            sites: vec!["Eskerry".to_owned()],
            services: Vec::new(),
            owners: Vec::new(),
            contract_holders: Vec::new(),
            alarms: 2,
            open_alarms: 1,
            handled_by: vec!["ailsa".to_owned()],
            is_set_aside: false,
        }
    }

    fn entry(kind: TimelineKind, text: Option<&str>) -> TimelineEntry {
        TimelineEntry {
            id: Uuid::nil(),
            at: at(150),
            user: "ailsa".to_owned(),
            kind,
            text: text.map(str::to_owned),
            alarm: None,
            alarm_no: None,
            action: None,
        }
    }

    /// An event of an agent, with the root of its alarm, when it was raised and when it ended.
    fn fault(root: u128, raised: i64, ended: Option<i64>) -> EventRecord {
        let at_us = at(raised).into();
        EventRecord {
            id: EventId::from_uuid(Uuid::from_u128(root)),
            no: 1,
            event: Event {
                key: EventKey {
                    kind: EventKind::ReceiveErrors,
                    agent: AgentId::from_uuid(Uuid::nil()),
                    subject: "eth0".to_owned(),
                },
                part: Part::Machine,
                severity: Some(Severity::Major),
                since: at_us,
                raised_at: at_us,
                group: "machine".to_owned(),
                message: Message::NothingAttached,
                service: None,
                check: None,
                own_addresses: Vec::new(),
                route: Vec::new(),
            },
            site: Some("Eskerry".to_owned()),
            ended_at: ended.map(at),
            incident: None,
            root: EventId::from_uuid(Uuid::from_u128(root)),
        }
    }

    fn record(faults: Vec<EventRecord>) -> IncidentRecord {
        IncidentRecord {
            id: IncidentId::from_uuid(Uuid::nil()),
            no: 5,
            opened_at: at(0),
            closed_at: None,
            complaint: None,
            evidence: None,
            alarms: Vec::new(),
            faults,
        }
    }

    #[test]
    fn alarms_are_counted_and_what_users_write_is_quoted() {
        use TimelineKind::{AlarmCleared, AlarmRaised, EventBegan, Note, Opened};
        let kinds = [Opened, AlarmRaised, EventBegan, AlarmCleared];
        let mut entries: Vec<_> = kinds.into_iter().map(|kind| entry(kind, None)).collect();
        entries.push(entry(Note, Some("called\nthe provider")));
        // Two events of one alarm, of which one lasts; one that cleared; one from before.
        let faults = vec![
            fault(1, 130, Some(140)),
            fault(1, 135, None),
            fault(2, 10, Some(150)),
            fault(3, 10, Some(20)),
        ];
        let open = item(5, IncidentState::Open, 130);
        let open = IncidentHandOver::new(open, &record(faults), at(120), entries);
        assert_eq!((open.is_new, open.raised, open.cleared, open.entries.len()), (true, 1, 1, 1));
        let closed = item(4, IncidentState::Closed, 20);
        let closed = IncidentHandOver::new(closed, &record(Vec::new()), at(120), Vec::new());
        assert!(!closed.is_new);
        let mut hand_over = HandOver {
            since: at(120),
            at: at(300),
            incidents: vec![open, closed],
            shelved: Vec::new(),
            watches: Vec::new(),
            suppressions: Vec::new(),
            planned: Vec::new(),
            text: String::new(),
        };
        hand_over.text = text(&hand_over);
        insta::assert_snapshot!(hand_over.text);
    }
}
