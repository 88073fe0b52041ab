//! Which alarms have one cause, and which of them stands for an incident.

use crate::messages;
use crate::responsible::Responsible;
use itinera_model::alarm::Alarm;
use itinera_model::event::{Event, EventKind, Fault};
use itinera_model::message::Message;
use itinera_model::owner::OwnerMap;
use itinera_model::path::Family;

/// Alarms that began within this of each other may have one cause: two minutes.
const TOGETHER_US: i64 = 120_000_000;

/// True when two alarms have one cause: they name the same place; or, at about the same time, the
/// links on both sides of one device, places that silent hops do not tell apart, or the same
/// fault in the other version of IP, which mostly shares the line, of an owner who may have both.
pub fn is_one_cause(a: &Alarm, b: &Alarm, map: &OwnerMap) -> bool {
    let (place, other) = (a.key.place, b.key.place);
    if place == other || (place.ends().is_some() && place.ends() == other.ends()) {
        return true;
    }
    let together = a.since.micros_since(b.since).abs() <= TOGETHER_US;
    if !together || a.key.cause != b.key.cause {
        return false;
    }
    if place.family() != other.family() {
        let (own, others) = (Responsible::of(&place, map), Responsible::of(&other, map));
        return own.may_share_a_fault(&others);
    }
    let Some(((from, to), (other_from, other_to))) = place.ends().zip(other.ends()) else {
        return false;
    };
    let blurred = place.silent_between() > 0 || other.silent_between() > 0;
    let share_an_end = from == other_from || to == other_to;
    // Two links on both sides of one device: the fault may be the device.
    to == other_from || from == other_to || (blurred && share_an_end)
}

/// True when fault has one cause: alarms by their places, events by their group, and an event of
/// a machine with alarms on that machine's first link.
fn is_one_fault(a: &Fault, b: &Fault, map: &OwnerMap) -> bool {
    match (a, b) {
        (Fault::Alarm(a), Fault::Alarm(b)) => is_one_cause(a, b, map),
        (Fault::Event(a), Fault::Event(b)) => a.group == b.group || fell_silent_together(a, b),
        (Fault::Alarm(alarm), Fault::Event(event)) | (Fault::Event(event), Fault::Alarm(alarm)) => {
            let ends = alarm.key.place.ends();
            ends.is_some_and(|(from, to)| {
                event.own_addresses.iter().any(|own| *own == from || *own == to)
            })
        }
    }
}

/// True for agents that stopped reporting at about the same time: what they share has failed.
fn fell_silent_together(a: &Event, b: &Event) -> bool {
    let both = a.key.kind == EventKind::AgentSilent && b.key.kind == EventKind::AgentSilent;
    both && a.since.micros_since(b.since).abs() <= TOGETHER_US
}

/// The incident of a fault: the first with a fault of the same cause.
pub fn fold<I: Copy>(fault: &Fault, open: &[(I, Vec<Fault>)], map: &OwnerMap) -> Option<I> {
    let belongs = |known: &Vec<Fault>| known.iter().any(|known| is_one_fault(fault, known, map));
    open.iter().find(|(_, known)| belongs(known)).map(|(id, _)| *id)
}

/// The message that stands for an incident of alarms, and whether it has cleared: its widest open
/// alarm, else its widest. `alarms` are given with whether each has cleared; absent for none.
pub fn principal(alarms: &[(&Alarm, bool)]) -> Option<(Message, bool)> {
    let six = |alarm: &Alarm| alarm.key.place.family() == Some(Family::Ipv6);
    let open = alarms.iter().filter(|(_, cleared)| !cleared);
    let (principal, cleared) = open
        .max_by_key(|(alarm, _)| (alarm.showing.len(), !six(alarm)))
        .or_else(|| alarms.iter().max_by_key(|(alarm, _)| (alarm.paths.len(), !six(alarm))))?;
    let both = alarms.iter().any(|(alarm, _)| six(alarm) != six(principal));
    Some((messages::of_alarm(principal, *cleared, both), *cleared))
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::alarm::{AlarmKey, AlarmKind, Severity};
    use itinera_model::diagnosis::Part;
    use itinera_model::event::EventKey;
    use itinera_model::finding::{Cause, FaultDirection, LossCounts, Place};
    use itinera_model::id::{AgentId, PathId};
    use itinera_model::owner::{Owner, OwnerEntry};
    use itinera_model::unit::{Micros, WallTime};
    use uuid::Uuid;

    fn map() -> OwnerMap {
        let entry = |prefix: &str, as_number| OwnerEntry {
            prefix: prefix.parse().unwrap(),
            owner: Owner { as_number, name: format!("N{as_number}"), contact: String::new() },
        };
        OwnerMap::new(vec![
            entry("198.18.64.0/20", 64500),
            entry("2001:db8:64::/48", 64500),
            entry("2001:db8:128::/48", 64510),
            entry("198.18.128.0/20", 64510),
        ])
    }

    fn alarm(from: &str, to: &str, silent_between: u8, since_s: i64) -> Alarm {
        let place =
            Place::Link { from: from.parse().unwrap(), to: to.parse().unwrap(), silent_between };
        let since = WallTime::from_unix_seconds(since_s);
        Alarm {
            key: AlarmKey { kind: AlarmKind::LimitHeldOver, cause: Cause::Loss, place },
            severity: Severity::Major,
            since,
            raised_at: since,
            confidence_ppm: 990_000,
            loss_ppm: 200_000,
            loss_counts: LossCounts::default(),
            added_delay_us: Micros::ZERO,
            direction: FaultDirection::Undetermined,
            indistinguishable: Vec::new(),
            reasons: Vec::new(),
            worst_loss_ppm: 250_000,
            worst_added_delay_us: Micros::ZERO,
            no_data_since: None,
            recorded_at: None,
            showing: vec![PathId::from_uuid(Uuid::nil())],
            paths: vec![PathId::from_uuid(Uuid::nil())],
        }
    }

    #[test]
    fn one_cause_is_known_by_place_by_silence_and_by_owner() {
        let first = alarm("198.18.64.3", "198.18.64.4", 0, 1_000);
        for (other, one) in [
            (alarm("198.18.64.3", "198.18.64.4", 0, 900_000), true),
            (alarm("198.18.64.3", "198.18.64.5", 1, 1_030), true),
            (alarm("198.18.64.3", "198.18.64.5", 1, 9_000), false),
            (alarm("198.18.64.3", "198.18.64.5", 0, 1_030), false),
            (alarm("198.18.64.4", "198.18.64.5", 0, 1_030), true),
            (alarm("198.18.64.4", "198.18.64.5", 0, 9_000), false),
            (alarm("198.18.64.7", "198.18.64.8", 0, 1_030), false),
            (alarm("2001:db8:64::3", "2001:db8:64::4", 0, 1_030), true),
            (alarm("2001:db8:64::3", "2001:db8:64::4", 0, 9_000), false),
            (alarm("2001:db8:99::3", "2001:db8:99::4", 0, 1_030), false),
            (alarm("2001:db8:64::4", "2001:db8:128::1", 1, 1_030), true),
            (alarm("2001:db8:64::4", "2001:db8:128::1", 1, 9_000), false),
            (alarm("2001:db8:128::1", "2001:db8:128::2", 0, 1_030), false),
        ] {
            assert_eq!(is_one_cause(&first, &other, &map()), one, "{:?}", other.key.place);
            assert_eq!(is_one_cause(&other, &first, &map()), one, "in the other order");
        }
    }

    #[test]
    fn a_fault_joins_the_incident_of_its_cause_or_opens_one() {
        let event = |group: &str, own: &str| {
            Fault::Event(Event {
                key: EventKey {
                    kind: EventKind::ReceiveErrors,
                    agent: AgentId::from_uuid(Uuid::nil()),
                    subject: "eth0".to_owned(),
                },
                part: Part::Machine,
                severity: Some(Severity::Major),
                since: WallTime::from_unix_seconds(0),
                raised_at: WallTime::from_unix_seconds(0),
                group: group.to_owned(),
                message: Message::NothingAttached,
                service: None,
                check: None,
                own_addresses: vec![own.parse().unwrap()],
            })
        };
        let alarm = |from, to, since| Fault::Alarm(alarm(from, to, 0, since));
        let open = [
            (1, vec![alarm("198.18.128.1", "198.18.128.2", 0)]),
            (2, vec![alarm("198.18.64.3", "198.18.64.4", 0)]),
            (3, vec![event("machine:carrock", "10.3.0.2")]),
            (4, vec![alarm("10.9.0.2", "10.9.0.1", 0)]),
        ];
        for (new, belongs) in [
            (alarm("198.18.64.3", "198.18.64.4", 50), Some(2)),
            (alarm("10.1.0.1", "198.18.64.1", 50), None),
            (alarm("10.3.0.2", "10.3.0.1", 50), Some(3)),
            (event("machine:carrock", "10.3.0.2"), Some(3)),
            (event("machine:gannet", "10.9.0.2"), Some(4)),
            (event("service:mail", "10.7.0.2"), None),
        ] {
            assert_eq!(fold(&new, &open, &map()), belongs, "{new:?}");
        }
    }

    #[test]
    fn the_widest_open_alarm_stands_for_the_incident_with_the_other_version() {
        let four = alarm("198.18.64.3", "198.18.64.4", 0, 0);
        let six = alarm("2001:db8:64::3", "2001:db8:64::4", 0, 0);
        let (message, cleared) = principal(&[(&four, false), (&six, false)]).unwrap();
        let Message::LossLocated(fault) = message else { panic!("{message:?}") };
        assert_eq!((fault.place, fault.both_versions, cleared), (four.key.place, true, false));
        assert_eq!(fault.loss.unwrap().ratio.as_ppm(), 200_000);
        let (message, cleared) = principal(&[(&four, true)]).unwrap();
        let Message::LossLocated(fault) = message else { panic!("{message:?}") };
        assert_eq!((fault.loss.unwrap().ratio.as_ppm(), cleared), (250_000, true));
        assert_eq!(principal(&[]), None);
    }
}
