//! Alarms of a class of their own: faults of the service itself, from how it stands every few seconds.
//!
//! Judgement does not know of them, so they are not part of a recomputation.

use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::id::AgentId;
use itinera_model::message::Message;
use itinera_model::self_alarm::{
    Backlog, DiskSpace, FailingDuty, FailingReceiver, LateAgents, SetAsideCommits,
};
use itinera_model::unit::WallTime;
use std::collections::BTreeMap;
use uuid::Uuid;

/// Looks in a row at which a fault is seen before it is an alarm, and not seen before it is over.
const HOLD: u32 = 3;
/// Judgement is behind when the oldest commit has waited for so long, and critically so: a minute, ten minutes.
const BEHIND_S: u32 = 60;
const FAR_BEHIND_S: u32 = 600;
/// One late agent is an alarm of its own. Together they are one from this number and share on.
const LATE_AGENTS: u32 = 3;
const LATE_SHARE: u32 = 5;

/// How the service stands.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Health {
    /// What is not judged yet.
    pub backlog: Option<Backlog>,
    /// Commits that judgement fails on.
    pub set_aside: Option<SetAsideCommits>,
    /// Duties that are not done.
    pub duties: Vec<String>,
    /// Room on the disk where it is low.
    pub disk_low: Option<DiskSpace>,
    /// Room on the disk where it is full.
    pub disk_full: Option<DiskSpace>,
    /// Agents that report late.
    pub agents: Option<LateAgents>,
    /// Receivers that do not get their notices.
    pub receivers: Vec<FailingReceiver>,
}

struct Fault {
    kind: EventKind,
    subject: String,
    severity: Severity,
    message: Message,
}

impl Health {
    fn faults(&self) -> Vec<Fault> {
        let of =
            |kind, severity, message| Fault { kind, subject: String::new(), severity, message };
        let mut faults = Vec::new();
        if let Some(backlog) = self.backlog.as_ref().filter(|it| it.seconds >= BEHIND_S) {
            let far = backlog.seconds >= FAR_BEHIND_S;
            let severity = if far { Severity::Critical } else { Severity::Major };
            let message = Message::JudgementBehind(backlog.clone());
            faults.push(of(EventKind::JudgementBehind, severity, message));
        }
        if let Some(set_aside) = self.set_aside.as_ref().filter(|it| it.commits > 0) {
            let message = Message::CommitsSetAside(set_aside.clone());
            faults.push(of(EventKind::CommitsSetAside, Severity::Major, message));
        }
        if let Some(space) = self.disk_full {
            let message = Message::DiskFull(space);
            faults.push(of(EventKind::DiskLow, Severity::Critical, message));
        } else if let Some(space) = self.disk_low {
            faults.push(of(EventKind::DiskLow, Severity::Minor, Message::DiskLow(space)));
        }
        let is_many = |it: &&LateAgents| {
            it.late >= LATE_AGENTS && it.late.saturating_mul(LATE_SHARE) >= it.agents
        };
        if let Some(agents) = self.agents.as_ref().filter(is_many) {
            let message = Message::AgentsLate(agents.clone());
            faults.push(of(EventKind::AgentsLate, Severity::Major, message));
        }
        for duty in &self.duties {
            let message = Message::DutyFailing(FailingDuty { duty: duty.clone() });
            let fault = of(EventKind::DutyFailing, Severity::Major, message);
            faults.push(Fault { subject: duty.clone(), ..fault });
        }
        for receiver in &self.receivers {
            let message = Message::DeliveriesFailing(receiver.clone());
            let fault = of(EventKind::DeliveriesFailing, Severity::Major, message);
            faults.push(Fault { subject: receiver.receiver.clone(), ..fault });
        }
        faults
    }
}

/// Looks in a row of one kind.
#[derive(Debug, Clone, Copy)]
struct Run {
    looks: u32,
    since: WallTime,
}

/// What was seen and not seen lately. It may be lost: the count begins again.
#[derive(Debug, Clone, Default)]
pub struct SelfWatch {
    seen: BTreeMap<EventKey, Run>,
    unseen: BTreeMap<EventKey, u32>,
}

impl SelfWatch {
    /// Compares how the service stands at `now` with the alarms that are `open`.
    pub fn look(&mut self, health: &Health, open: &[Event], now: WallTime) -> Vec<EventEffect> {
        let mut effects = Vec::new();
        let faults: BTreeMap<EventKey, Fault> = health
            .faults()
            .into_iter()
            .map(|fault| {
                let (kind, subject) = (fault.kind, fault.subject.clone());
                (EventKey { kind, agent: AgentId::from_uuid(Uuid::nil()), subject }, fault)
            })
            .collect();
        self.seen.retain(|key, _| faults.contains_key(key));
        for event in open.iter().filter(|event| !faults.contains_key(&event.key)) {
            let unseen = self.unseen.entry(event.key.clone()).or_default();
            *unseen += 1;
            if *unseen >= HOLD {
                effects.push(EventEffect::Ended { key: event.key.clone(), at: now });
            }
        }
        self.unseen.retain(|key, looks| *looks < HOLD && !faults.contains_key(key));
        for (key, Fault { severity, message, .. }) in faults {
            let run = self.seen.entry(key.clone()).or_insert(Run { looks: 0, since: now });
            run.looks = run.looks.saturating_add(1);
            let known = open.iter().find(|event| event.key == key);
            match known {
                // Figures change with every look; what is said of an alarm is what it was raised with.
                Some(known) if known.severity != Some(severity) => {
                    let event = Event { severity: Some(severity), message, ..known.clone() };
                    effects.push(EventEffect::Changed { event, at: now });
                }
                Some(_) => {}
                None if run.looks >= HOLD => effects.push(EventEffect::Began(Event {
                    part: Part::Itinera,
                    severity: Some(severity),
                    since: run.since,
                    raised_at: now,
                    group: format!("itinera:{}:{}", key.kind, key.subject),
                    message,
                    service: None,
                    check: None,
                    own_addresses: Vec::new(),
                    route: Vec::new(),
                    key,
                })),
                None => {}
            }
        }
        effects
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::alarm::AlarmClass;

    fn at(look: i64) -> WallTime {
        WallTime::from_unix_seconds(look * 10)
    }

    fn behind(seconds: u32) -> Health {
        Health { backlog: Some(Backlog { commits: 40, seconds }), ..Health::default() }
    }

    /// Looks at something several times, with the alarms that follow taken over; gives what follows.
    fn looks(
        watch: &mut SelfWatch,
        open: &mut Vec<Event>,
        (first, times): (i64, i64),
        health: &Health,
    ) -> Vec<EventEffect> {
        let mut all = Vec::new();
        for look in first..first + times {
            let effects = watch.look(health, open, at(look));
            for effect in &effects {
                match effect {
                    EventEffect::Began(event) => open.push(event.clone()),
                    EventEffect::Changed { event, .. } => {
                        open.retain(|known| known.key != event.key);
                        open.push(event.clone());
                    }
                    EventEffect::Ended { key, .. } => open.retain(|known| known.key != *key),
                    EventEffect::Occurred(_) => panic!("momentary"),
                }
            }
            all.extend(effects);
        }
        all
    }

    #[test]
    fn a_fault_is_held_over_and_ends_when_it_has_been_over_for_as_long() {
        let (mut watch, mut open) = (SelfWatch::default(), Vec::new());
        assert_eq!(looks(&mut watch, &mut open, (0, 2), &behind(70)), []);
        assert_eq!(looks(&mut watch, &mut open, (2, 1), &behind(59)), []);
        assert_eq!(looks(&mut watch, &mut open, (3, 2), &behind(70)), []);
        let effects = looks(&mut watch, &mut open, (5, 3), &behind(90));
        let [EventEffect::Began(event)] = &effects[..] else { panic!("{effects:?}") };
        assert_eq!(
            (event.key.kind, event.since, event.raised_at),
            (EventKind::JudgementBehind, at(3), at(5))
        );
        assert_eq!((event.severity, event.part), (Some(Severity::Major), Part::Itinera));
        assert_eq!(event.key.kind.class(), AlarmClass::Service);
        let effects = looks(&mut watch, &mut open, (8, 3), &behind(601));
        let [EventEffect::Changed { event, .. }] = &effects[..] else { panic!("{effects:?}") };
        assert_eq!(event.severity, Some(Severity::Critical));
        let calm = Health::default();
        assert_eq!(looks(&mut watch, &mut open, (11, 2), &calm), []);
        assert_eq!(looks(&mut watch, &mut open, (13, 1), &behind(700)), []);
        assert_eq!(looks(&mut watch, &mut open, (14, 2), &calm), []);
        let effects = looks(&mut watch, &mut open, (16, 3), &calm);
        assert!(matches!(&effects[..], [EventEffect::Ended { at: ended, .. }] if *ended == at(16)));
    }

    #[test]
    fn each_duty_and_each_receiver_has_an_alarm_of_its_own() {
        let (mut watch, mut open) = (SelfWatch::default(), Vec::new());
        let receiver = |name: &str| FailingReceiver {
            receiver: name.to_owned(),
            deliveries: 4,
            reason: "connection refused".to_owned(),
        };
        let health = Health {
            duties: vec!["partitions".to_owned(), "rollups".to_owned()],
            receivers: vec![receiver("desk"), receiver("partitions")],
            set_aside: Some(SetAsideCommits { commits: 1, error: "unreadable".to_owned() }),
            disk_full: Some(DiskSpace { free_mb: 9, needed_mb: 640 }),
            disk_low: Some(DiskSpace { free_mb: 9, needed_mb: 2_560 }),
            ..Health::default()
        };
        let effects = looks(&mut watch, &mut open, (0, 4), &health);
        assert_eq!(effects.len(), 6, "{effects:?}");
        let disk = open.iter().find(|event| event.key.kind == EventKind::DiskLow).unwrap();
        assert_eq!(disk.severity, Some(Severity::Critical));
        let fewer = Health { duties: vec!["rollups".to_owned()], ..health };
        let effects = looks(&mut watch, &mut open, (4, 4), &fewer);
        assert!(matches!(&effects[..], [EventEffect::Ended { key, .. }]
            if key.kind == EventKind::DutyFailing && key.subject == "partitions"));
    }

    #[test]
    fn late_agents_are_an_alarm_of_the_service_where_they_are_many() {
        for (late, agents, many) in [(2, 2, false), (3, 15, true), (3, 16, false), (40, 50, true)] {
            let agents = Some(LateAgents { late, agents });
            let health = Health { agents, ..Health::default() };
            let effects = looks(&mut SelfWatch::default(), &mut Vec::new(), (0, 3), &health);
            assert_eq!(effects.len(), usize::from(many), "{late}");
        }
    }
}
