//! Which faults have one cause: they are reviewed together, as one incident.

use crate::responsible::Responsible;
use itinera_model::alarm::Severity;
use itinera_model::event::{Event, EventKind, Fault};
use itinera_model::finding::{Cause, Place};
use itinera_model::message::Message;
use itinera_model::owner::OwnerMap;
use itinera_model::unit::WallTime;
use std::collections::BTreeSet;
use std::net::IpAddr;

/// Faults that began within this of each other may have one cause: two minutes.
const TOGETHER_US: i64 = 120_000_000;
/// Faults that began within this of each other began at once, as far as windows of ten seconds tell.
const AT_ONCE_US: i64 = 20_000_000;
/// So many places do not fail at once by chance.
const MANY_PLACES: usize = 10;
/// A fault that is over for longer belongs to another incident than what comes then: half an hour.
const OVER_US: i64 = 1_800_000_000;

/// What is compared of a fault.
#[derive(Debug, Clone)]
struct Traits {
    since: WallTime,
    subject: Subject,
}

#[derive(Debug, Clone)]
enum Subject {
    Alarm {
        place: Place,
        cause: Cause,
        responsible: Responsible,
        is_critical: bool,
    },
    Event {
        kind: EventKind,
        group: String,
        own: Vec<IpAddr>,
        route: BTreeSet<IpAddr>,
        pair: Option<OfPair>,
    },
}

/// Site that loses what it sends, and site that does not receive it.
#[derive(Debug, Clone)]
struct OfPair([String; 2]);

impl OfPair {
    fn of(event: &Event) -> Option<Self> {
        let (from, to) = match &event.message {
            Message::PairLoss(loss) => (&loss.from, &loss.to),
            Message::PairUnreachable(pair) => (&pair.near, &pair.far),
            _ => return None,
        };
        Some(Self([from.clone(), to.clone()]))
    }

    /// True for pairs with the same sender's or receiver's site.
    fn shares_a_site(&self, other: &Self) -> bool {
        self.0.iter().zip(&other.0).any(|(one, another)| one == another)
    }
}

impl Traits {
    fn of(fault: &Fault, map: &OwnerMap) -> Self {
        match fault {
            Fault::Alarm(alarm) => Self {
                since: alarm.since,
                subject: Subject::Alarm {
                    place: alarm.key.place,
                    cause: alarm.key.cause,
                    responsible: Responsible::of(&alarm.key.place, map),
                    is_critical: alarm.severity == Severity::Critical,
                },
            },
            Fault::Event(event) => Self {
                since: event.since,
                subject: Subject::Event {
                    kind: event.key.kind,
                    group: event.group.clone(),
                    own: event.own_addresses.clone(),
                    route: event.route.iter().copied().collect(),
                    pair: OfPair::of(event),
                },
            },
        }
    }

    const fn began_within(&self, other: &Self, us: i64) -> bool {
        self.since.micros_since(other.since).abs() <= us
    }

    /// True for two faults with one cause.
    fn is_one_cause(&self, other: &Self) -> bool {
        match (&self.subject, &other.subject) {
            (Subject::Alarm { .. }, Subject::Alarm { .. }) => self.is_one_place(other),
            (
                Subject::Event { kind, group, pair, .. },
                Subject::Event { kind: other_kind, group: other_group, pair: other_pair, .. },
            ) => {
                // What agents that fall silent together share has failed.
                let both_silent = *kind == EventKind::AgentSilent && kind == other_kind;
                let mut pairs = pair.iter().zip(other_pair);
                let shares_a_part = both_silent
                    || pairs.any(|(pair, other)| pair.shares_a_site(other))
                    || self.ends_at_machine_of(other)
                    || other.ends_at_machine_of(self);
                group == other_group || (shares_a_part && self.began_within(other, TOGETHER_US))
            }
            (Subject::Alarm { .. }, Subject::Event { .. }) => other.follows_from(self),
            (Subject::Event { .. }, Subject::Alarm { .. }) => self.follows_from(other),
        }
    }

    /// True when two alarms have one cause: they name the same place; or, at about the same time, the
    /// links on both sides of one device, places that silent hops do not tell apart, or the same fault in
    /// the other version of IP, which mostly shares the line, of an owner who may have both; or, at once,
    /// places of one owner.
    fn is_one_place(&self, other: &Self) -> bool {
        let (
            Subject::Alarm { place: a, cause, responsible, .. },
            Subject::Alarm { place: b, cause: other_cause, responsible: other_responsible, .. },
        ) = (&self.subject, &other.subject)
        else {
            return false;
        };
        if a == b || (a.ends().is_some() && a.ends() == b.ends()) {
            return true;
        }
        if self.began_within(other, AT_ONCE_US) && responsible.shares_owner(other_responsible) {
            return true;
        }
        if !self.began_within(other, TOGETHER_US) || cause != other_cause {
            return false;
        }
        if a.family() != b.family() {
            return responsible.may_share_a_fault(other_responsible);
        }
        let Some(((from, to), (other_from, other_to))) = a.ends().zip(b.ends()) else {
            return false;
        };
        let blurred = a.silent_between() > 0 || b.silent_between() > 0;
        let share_an_end = from == other_from || to == other_to;
        // Two links on both sides of one device: the fault may be the device.
        to == other_from || from == other_to || (blurred && share_an_end)
    }

    /// True for an event that follows from a path's alarm, or the other way round: the alarm is on the
    /// machine's first link, or on the route that the event depends on and began with it. An agent is cut
    /// off by what loses half of all packets or more, and a pair loses nothing by delay.
    fn follows_from(&self, alarm: &Self) -> bool {
        let Subject::Event { kind, own, route, .. } = &self.subject else { return false };
        let Subject::Alarm { place, cause, is_critical, .. } = &alarm.subject else { return false };
        let on_machine =
            place.ends().is_some_and(|(from, to)| own.contains(&from) || own.contains(&to));
        let on_route = match place.ends() {
            Some((from, to)) => route.contains(&from) && route.contains(&to),
            None => place.first_with_fault().is_some_and(|address| route.contains(&address)),
        };
        let is_enough = match kind {
            EventKind::AgentSilent => *is_critical,
            // Delay loses nothing.
            kind if kind.is_of_pair() => *cause != Cause::Delay,
            _ => true,
        };
        on_machine || (on_route && is_enough && self.began_within(alarm, TOGETHER_US))
    }

    /// True for a pair with an end at the machine that another event is about.
    fn ends_at_machine_of(&self, other: &Self) -> bool {
        let Subject::Event { pair: Some(_), route, .. } = &self.subject else { return false };
        let Subject::Event { own, .. } = &other.subject else { return false };
        own.iter().any(|address| route.contains(address))
    }

    /// What it counts as where many fail at once: its place, or an agent that is silent.
    fn place_that_failed(&self) -> Option<Failed<'_>> {
        match &self.subject {
            Subject::Alarm { place, .. } => Some(Failed::Place(*place)),
            Subject::Event { kind: EventKind::AgentSilent, group, .. } => {
                Some(Failed::Agent(group))
            }
            Subject::Event { .. } => None,
        }
    }
}

#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Failed<'a> {
    Place(Place),
    Agent(&'a str),
}

/// A fault of an incident.
#[derive(Debug, Clone, Copy)]
pub struct Known<'a, I> {
    /// The incident.
    pub incident: I,
    /// The fault.
    pub fault: &'a Fault,
    /// When the incident was closed; absent while open.
    pub closed_at: Option<WallTime>,
    /// When the fault was over; absent while it lasts.
    pub cleared_at: Option<WallTime>,
}

#[derive(Debug, Clone)]
struct Remembered<I> {
    incident: I,
    traits: Traits,
    closed_at: Option<WallTime>,
    cleared_at: Option<WallTime>,
}

/// The incidents that a fault belongs to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Belongs<I> {
    /// The first of them; absent where a new one is to be opened.
    pub incident: Option<I>,
    /// Others that began with the fault, which shows that they have the same cause.
    pub same: Vec<I>,
}

/// Puts faults into incidents.
#[derive(Debug, Clone)]
pub struct Correlator<'a, I> {
    map: &'a OwnerMap,
    known: Vec<Remembered<I>>,
}

impl<'a, I: Copy + Ord> Correlator<'a, I> {
    /// A correlator without incidents. Owners are those of a map.
    pub const fn new(map: &'a OwnerMap) -> Self {
        Self { map, known: Vec::new() }
    }

    /// Takes note of a fault of an incident.
    pub fn add(&mut self, known: Known<'_, I>) {
        let Known { incident, fault, closed_at, cleared_at } = known;
        let traits = Traits::of(fault, self.map);
        self.known.push(Remembered { incident, traits, closed_at, cleared_at });
    }

    /// Takes note that the faults of one incident belong to another now.
    pub fn merge(&mut self, from: I, into: I) {
        for known in self.known.iter_mut().filter(|known| known.incident == from) {
            known.incident = into;
        }
    }

    /// Forgets everything.
    pub fn clear(&mut self) {
        self.known.clear();
    }

    /// The incidents of a fault, the first by its id: those that were open when it began and have a
    /// fault of the same cause that was not over for half an hour; and where many places fail at once, all of these.
    pub fn choose(&self, fault: &Fault) -> Belongs<I> {
        let new = Traits::of(fault, self.map);
        let raised_at = match fault {
            Fault::Alarm(alarm) => alarm.raised_at,
            Fault::Event(event) => event.raised_at,
        };
        let takes = |known: &&Remembered<I>| {
            known.closed_at.is_none_or(|at| at > new.since)
                && known.cleared_at.is_none_or(|at| raised_at.micros_since(at) < OVER_US)
        };
        let mut incidents: BTreeSet<I> = BTreeSet::new();
        let mut at_once: BTreeSet<I> = BTreeSet::new();
        let mut failed: BTreeSet<Failed<'_>> = new.place_that_failed().into_iter().collect();
        let counts = !failed.is_empty();
        for known in self.known.iter().filter(takes) {
            if new.is_one_cause(&known.traits) {
                incidents.insert(known.incident);
            }
            if counts
                && new.began_within(&known.traits, AT_ONCE_US)
                && let Some(place) = known.traits.place_that_failed()
            {
                failed.insert(place);
                at_once.insert(known.incident);
            }
        }
        if failed.len() >= MANY_PLACES {
            incidents.append(&mut at_once);
        }
        let first = incidents.pop_first();
        let began_with = |incident: &I| {
            let mut faults = self.known.iter().filter(|known| known.incident == *incident);
            faults.all(|known| known.traits.began_within(&new, TOGETHER_US))
        };
        Belongs { incident: first, same: incidents.into_iter().filter(began_with).collect() }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use itinera_model::alarm::{Alarm, AlarmKey, AlarmKind};
    use itinera_model::diagnosis::Part;
    use itinera_model::event::EventKey;
    use itinera_model::finding::{FaultDirection, LossCounts};
    use itinera_model::id::{AgentId, PathId};
    use itinera_model::message::{OneWayLoss, UnansweredPair};
    use itinera_model::owner::{Owner, OwnerEntry};
    use itinera_model::unit::{Micros, Ratio};
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

    pub(crate) fn alarm(from: &str, to: &str, silent_between: u8, since_s: i64) -> Alarm {
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
            applied: None,
            showing: vec![PathId::from_uuid(Uuid::nil())],
            paths: vec![PathId::from_uuid(Uuid::nil())],
        }
    }

    fn event(kind: EventKind, group: &str, since_s: i64) -> Event {
        Event {
            key: EventKey {
                kind,
                agent: AgentId::from_uuid(Uuid::nil()),
                subject: "eth0".to_owned(),
            },
            part: Part::Machine,
            severity: Some(Severity::Major),
            since: WallTime::from_unix_seconds(since_s),
            raised_at: WallTime::from_unix_seconds(since_s),
            group: group.to_owned(),
            message: Message::NothingAttached,
            service: None,
            check: None,
            own_addresses: Vec::new(),
            route: Vec::new(),
        }
    }

    fn of_machine(group: &str, own: &str) -> Fault {
        let event = event(EventKind::ReceiveErrors, group, 0);
        Fault::Event(Event { own_addresses: vec![own.parse().unwrap()], ..event })
    }

    fn on_route(kind: EventKind, since_s: i64, route: &[&str]) -> Fault {
        let route = route.iter().map(|it| it.parse().unwrap()).collect();
        Fault::Event(Event { route, ..event(kind, "of its own", since_s) })
    }

    /// The incidents of a fault among some with one fault each, numbered from 1.
    fn chosen(new: &Fault, open: &[Fault]) -> (Option<usize>, Vec<usize>) {
        let map = map();
        let mut correlator = Correlator::new(&map);
        for (incident, fault) in (1..).zip(open) {
            correlator.add(Known { incident, fault, closed_at: None, cleared_at: None });
        }
        let Belongs { incident, same } = correlator.choose(new);
        (incident, same)
    }

    #[test]
    fn one_cause_is_known_by_place_by_silence_and_by_owner() {
        let first = Fault::Alarm(alarm("198.18.64.3", "198.18.64.4", 0, 1_000));
        for (other, one) in [
            (alarm("198.18.64.3", "198.18.64.4", 0, 900_000), true),
            (alarm("198.18.64.3", "198.18.64.5", 1, 1_030), true),
            (alarm("198.18.64.3", "198.18.64.5", 1, 9_000), false),
            (alarm("198.18.64.3", "198.18.64.5", 0, 1_030), false),
            (alarm("198.18.64.4", "198.18.64.5", 0, 1_030), true),
            (alarm("198.18.64.4", "198.18.64.5", 0, 9_000), false),
            (alarm("198.18.64.7", "198.18.64.8", 0, 1_030), false),
            // One owner at once.
            (alarm("198.18.64.7", "198.18.64.8", 0, 1_020), true),
            (alarm("198.18.64.7", "198.18.128.8", 0, 1_010), true),
            (alarm("198.18.128.7", "198.18.128.8", 0, 1_000), false),
            (alarm("2001:db8:64::3", "2001:db8:64::4", 0, 1_030), true),
            (alarm("2001:db8:64::3", "2001:db8:64::4", 0, 9_000), false),
            (alarm("2001:db8:99::3", "2001:db8:99::4", 0, 1_030), false),
            (alarm("2001:db8:64::4", "2001:db8:128::1", 1, 1_030), true),
            (alarm("2001:db8:64::4", "2001:db8:128::1", 1, 9_000), false),
            (alarm("2001:db8:128::1", "2001:db8:128::2", 0, 1_030), false),
        ] {
            let other = Fault::Alarm(other);
            let expected = (one.then_some(1), vec![]);
            assert_eq!(chosen(&first, std::slice::from_ref(&other)), expected, "{other:?}");
            assert_eq!(
                chosen(&other, std::slice::from_ref(&first)),
                expected,
                "in the other order"
            );
        }
    }

    #[test]
    fn a_fault_joins_the_incident_of_its_cause_or_opens_one() {
        let alarm = |from, to, since| Fault::Alarm(alarm(from, to, 0, since));
        let open = [
            alarm("198.18.128.1", "198.18.128.2", 0),
            alarm("198.18.64.3", "198.18.64.4", 0),
            of_machine("machine:carrock", "10.3.0.2"),
            alarm("10.9.0.2", "10.9.0.1", 0),
        ];
        for (new, belongs) in [
            (alarm("198.18.64.3", "198.18.64.4", 50), Some(2)),
            (alarm("10.1.0.1", "198.18.64.1", 50), None),
            (alarm("10.3.0.2", "10.3.0.1", 50), Some(3)),
            (of_machine("machine:carrock", "10.3.0.2"), Some(3)),
            (of_machine("machine:gannet", "10.9.0.2"), Some(4)),
            (of_machine("service:mail", "10.7.0.2"), None),
        ] {
            assert_eq!(chosen(&new, &open).0, belongs, "{new:?}");
        }
    }

    #[test]
    fn a_silent_agent_and_a_failing_check_follow_from_a_fault_on_their_route() {
        let route = ["10.1.0.2", "198.18.64.3", "198.18.64.4", "198.18.128.9"];
        let mut broken = alarm("198.18.64.3", "198.18.64.4", 0, 1_000);
        broken.severity = Severity::Critical;
        let lossy = Fault::Alarm(alarm("198.18.64.3", "198.18.64.4", 0, 1_000));
        let broken = Fault::Alarm(broken);
        for (alarm, kind, since, one) in [
            (&broken, EventKind::AgentSilent, 995, true),
            (&lossy, EventKind::AgentSilent, 995, false),
            (&lossy, EventKind::ServiceFailed, 1_030, true),
            (&broken, EventKind::AgentSilent, 800, false),
            (&broken, EventKind::ServiceFailed, 1_200, false),
        ] {
            let event = on_route(kind, since, &route);
            let expected = (one.then_some(1), vec![]);
            assert_eq!(chosen(&event, std::slice::from_ref(alarm)), expected, "{event:?}");
            assert_eq!(chosen(alarm, std::slice::from_ref(&event)), expected, "{event:?}");
            let elsewhere = on_route(kind, since, &["198.18.64.3", "198.18.64.9"]);
            assert_eq!(chosen(&elsewhere, std::slice::from_ref(alarm)), (None, vec![]));
        }
    }

    #[test]
    fn a_fault_that_ties_incidents_shows_that_they_are_one() {
        let alarm = |from, to, since| Fault::Alarm(alarm(from, to, 0, since));
        let open = [
            alarm("198.18.64.3", "198.18.64.4", 1_000),
            alarm("198.18.128.3", "198.18.128.4", 1_000),
            alarm("198.18.128.3", "198.18.128.4", 100),
        ];
        let boundary = alarm("198.18.64.9", "198.18.128.9", 1_010);
        assert_eq!(chosen(&boundary, &open[..2]), (Some(1), vec![2]));
        // One that began long before is another, though it names the same place.
        let again = alarm("198.18.128.3", "198.18.128.4", 1_000);
        assert_eq!(chosen(&again, &open), (Some(2), vec![]));
    }

    #[test]
    fn many_places_that_fail_at_once_are_one_incident() {
        let site = |number: usize, since| {
            let (from, to) = (format!("10.{number}.0.2"), format!("10.{number}.0.1"));
            Fault::Alarm(alarm(&from, &to, 0, since))
        };
        let nine: Vec<Fault> = (1..=9).map(|number| site(number, 1_000)).collect();
        assert_eq!(chosen(&site(9, 1_005), &nine[..8]), (None, vec![]));
        assert_eq!(chosen(&site(10, 1_005), &nine), (Some(1), (2..=9).collect()));
        assert_eq!(chosen(&site(10, 1_030), &nine), (None, vec![]), "not at once");
        let silent = on_route(EventKind::AgentSilent, 995, &[]);
        assert_eq!(chosen(&silent, &nine).0, Some(1));
        let check = on_route(EventKind::ServiceFailed, 1_000, &[]);
        assert_eq!(chosen(&check, &nine).0, None);
    }

    fn of_pair(from: &str, to: &str, since_s: i64) -> Fault {
        let loss = OneWayLoss {
            from: from.to_owned(),
            to: to.to_owned(),
            lossy: LossCounts { sent: 40, lost: 6 },
            opposite: LossCounts { sent: 34, lost: 0 },
            limit: Ratio::from_ppm(30_000),
            seconds: 40,
        };
        let event = event(EventKind::PairLoss, &format!("{from} {to}"), since_s);
        Fault::Event(Event { message: Message::PairLoss(loss), ..event })
    }

    #[test]
    fn loss_of_a_pair_belongs_to_the_fault_on_its_route() {
        let link = Fault::Alarm(alarm("198.18.64.3", "198.18.64.4", 0, 1_000));
        let at = |since, route: &[&str]| on_route(EventKind::PairLoss, since, route);
        let access = at(1_060, &["198.18.64.3", "198.18.64.4"]);
        assert_eq!(chosen(&access, std::slice::from_ref(&link)), (Some(1), vec![]));
        assert_eq!(chosen(&link, std::slice::from_ref(&access)), (Some(1), vec![]));
        let later = at(1_200, &["198.18.64.3", "198.18.64.4"]);
        assert_eq!(chosen(&later, std::slice::from_ref(&link)), (None, vec![]));
        let slow =
            AlarmKey { cause: Cause::Delay, ..alarm("198.18.64.3", "198.18.64.4", 0, 1_000).key };
        let slow = Alarm { key: slow, ..alarm("198.18.64.3", "198.18.64.4", 0, 1_000) };
        assert_eq!(chosen(&access, &[Fault::Alarm(slow)]), (None, vec![]), "delay loses nothing");
    }

    #[test]
    fn pairs_that_share_the_end_at_fault_are_one_incident() {
        let known = [of_pair("Eskerry", "Dunverra", 1_000)];
        let same_sender = of_pair("Eskerry", "Carrock Pier", 1_030);
        assert_eq!(chosen(&same_sender, &known).0, Some(1));
        let same_receiver = of_pair("Carrock Pier", "Dunverra", 1_030);
        assert_eq!(chosen(&same_receiver, &known).0, Some(1));
        let opposite = of_pair("Dunverra", "Eskerry", 1_030);
        assert_eq!(chosen(&opposite, &known).0, None);
        let later = of_pair("Eskerry", "Carrock Pier", 1_130);
        assert_eq!(chosen(&later, &known).0, None);
        let unreachable = UnansweredPair {
            near: "Eskerry".to_owned(),
            far: "Carrock Pier".to_owned(),
            sent: 120,
            seconds: 120,
        };
        let event = event(EventKind::PairUnreachable, "Eskerry Carrock Pier", 1_020);
        let message = Message::PairUnreachable(unreachable);
        assert_eq!(chosen(&Fault::Event(Event { message, ..event }), &known).0, Some(1));
    }

    #[test]
    fn a_pair_that_ends_at_a_faulty_machine_belongs_to_its_fault() {
        let machine = of_machine("machine:3", "10.3.0.2");
        let Fault::Event(pair) = of_pair("Eskerry", "Carrock Pier", 60) else { panic!() };
        let at = |route: &str| {
            Fault::Event(Event { route: vec![route.parse().unwrap()], ..pair.clone() })
        };
        assert_eq!(chosen(&at("10.3.0.2"), std::slice::from_ref(&machine)).0, Some(1));
        assert_eq!(chosen(&machine, &[at("10.3.0.2")]).0, Some(1));
        assert_eq!(chosen(&at("10.4.0.2"), std::slice::from_ref(&machine)).0, None);
    }

    #[test]
    fn an_incident_that_is_over_takes_no_more() {
        let (map, fault) = (map(), Fault::Alarm(alarm("10.1.0.2", "10.1.0.1", 0, 0)));
        let later = |since_s| Fault::Alarm(alarm("10.1.0.2", "10.1.0.1", 0, since_s));
        let at = |second| Some(WallTime::from_unix_seconds(second));
        for (closed_at, cleared_at, since_s, takes) in [
            (None, at(100), 1_899, true),
            (None, at(100), 1_900, false),
            (at(500), at(100), 499, true),
            (at(500), None, 500, false),
        ] {
            let mut correlator = Correlator::new(&map);
            correlator.add(Known { incident: 1, fault: &fault, closed_at, cleared_at });
            assert_eq!(correlator.choose(&later(since_s)).incident.is_some(), takes, "{since_s}");
        }
        let mut correlator = Correlator::new(&map);
        correlator.add(Known { incident: 2, fault: &fault, closed_at: None, cleared_at: None });
        correlator.merge(2, 1);
        assert_eq!(correlator.choose(&later(10)).incident, Some(1));
        correlator.clear();
        assert_eq!(correlator.choose(&later(10)).incident, None);
    }
}
