//! Which alarm stands for an incident.

use crate::messages;
use itinera_model::alarm::Alarm;
use itinera_model::message::Message;
use itinera_model::path::Family;

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
    use crate::correlation::tests::alarm;

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
