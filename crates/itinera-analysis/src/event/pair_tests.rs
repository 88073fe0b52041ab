//! What windows of pairs in a row say.

use super::*;
use crate::evidence::{DirectionCounts, PairCounts};
use crate::limits::Limits;
use crate::log_clock::LogClock;
use itinera_model::event::EventEffect;
use itinera_model::message::{OneWayLoss, UnansweredPair};
use uuid::Uuid;

fn agent(number: u128) -> AgentId {
    AgentId::from_uuid(Uuid::from_u128(number))
}

fn pair() -> PairId {
    PairId::from_uuid(Uuid::from_u128(9))
}

fn ends() -> PairEnds {
    PairEnds { sender: agent(1), reflector: agent(2) }
}

fn second(second: i64) -> WallTime {
    WallTime::from_unix_seconds(second)
}

/// A window of twenty packets with loss of both directions; absent where nothing was answered.
fn counts(lost: Option<(u32, u32)>) -> PairCounts {
    let direction = |sent: u32, lost: u32| {
        let mut direction = DirectionCounts::default();
        (direction.arrived, direction.lost) = (sent - lost, lost);
        direction
    };
    let mut counts = PairCounts { rounds: 1, sent: 20, undetermined: 20, ..PairCounts::default() };
    if let Some((forward, back)) = lost {
        counts.undetermined = 0;
        counts.forward = direction(20, forward);
        counts.return_ = direction(20 - forward, back);
    }
    counts
}

/// A watcher with windows of a pair every twenty seconds.
#[derive(Default)]
struct Watched {
    watcher: Watcher,
    limits: Limits,
    windows: i64,
}

impl Watched {
    fn exchange(&mut self, counts: &PairCounts) -> Vec<EventEffect> {
        let at = second(20 * self.windows);
        self.windows += 1;
        self.exchange_at(counts, at, at.plus_micros(25_000_000))
    }

    fn exchange_at(
        &mut self,
        counts: &PairCounts,
        at: WallTime,
        now: WallTime,
    ) -> Vec<EventEffect> {
        let exchanged = Exchanged {
            pair: pair(),
            ends: ends(),
            sites: ["Eskerry", "Dunverra"],
            at,
            counts,
            limits: &self.limits,
        };
        let route = || vec![[10, 0, 0, 1].into()];
        self.watcher.on_exchanged(&exchanged, &route, now)
    }

    /// The number of windows after which something is said, and what; nothing after fifty.
    fn until(&mut self, counts: &PairCounts) -> Option<(usize, Vec<EventEffect>)> {
        (1..=50).find_map(|times| {
            let effects = self.exchange(counts);
            (!effects.is_empty()).then_some((times, effects))
        })
    }
}

fn began(effects: &[EventEffect]) -> &Event {
    let [EventEffect::Began(event)] = effects else { panic!("{effects:?}") };
    event
}

#[test]
fn loss_over_the_limit_is_an_event_of_its_direction_until_it_is_over() {
    let mut watched = Watched::default();
    assert_eq!(watched.until(&counts(Some((0, 0)))), None);
    let onset = second(20 * watched.windows);
    let (times, effects) = watched.until(&counts(Some((0, 3)))).unwrap();
    let event = began(&effects);
    assert_eq!((times, event.since, event.severity), (2, onset, Some(Severity::Major)));
    let subject = format!("{} return", pair());
    assert_eq!(event.key, EventKey { kind: EventKind::PairLoss, agent: agent(2), subject });
    assert_eq!(event.route, [IpAddr::from([10, 0, 0, 1])]);
    let Message::PairLoss(loss) = &event.message else { panic!("{event:?}") };
    let OneWayLoss { from, to, lossy, opposite, seconds, .. } = loss;
    assert_eq!((from.as_str(), to.as_str(), *seconds), ("Dunverra", "Eskerry", 30));
    assert_eq!((lossy.sent, lossy.lost, opposite.sent, opposite.lost), (40, 6, 40, 0));

    assert_eq!(watched.until(&counts(Some((0, 2)))), None, "it lasts");
    let (times, effects) = watched.until(&counts(Some((0, 0)))).unwrap();
    let over =
        [EventEffect::Ended { key: event.key.clone(), at: second(20 * watched.windows + 5) }];
    assert_eq!((times, effects), (5, over.to_vec()));
    assert_eq!(watched.watcher.lasting(), []);
}

#[test]
fn loss_below_the_limit_and_single_bursts_are_no_event() {
    let mut watched = Watched::default();
    for window in 0..400 {
        // 1 % in both directions, and a burst of eight packets now and then.
        let lost = if window % 50 == 49 { 8 } else { u32::from(window % 5 == 0) };
        assert_eq!(watched.exchange(&counts(Some((lost, 0)))), [], "{window}");
    }
    let limits = Limits { loss_ppm: 200_000, hold_windows: 6, ..Limits::default() };
    let mut watched = Watched { limits, ..Watched::default() };
    assert_eq!(watched.until(&counts(Some((3, 0)))), None, "15 % of 20 %");
    let (times, _) = watched.until(&counts(Some((9, 0)))).unwrap();
    assert_eq!(times, 4, "held over a minute");
}

#[test]
fn agents_that_report_but_exchange_nothing_are_an_event() {
    let mut watched = Watched::default();
    assert_eq!(watched.until(&counts(None)), None, "they never reached each other");
    watched.exchange(&counts(Some((0, 0))));
    let onset = second(20 * watched.windows);
    let (times, effects) = watched.until(&counts(None)).unwrap();
    let event = began(&effects);
    assert_eq!((times, event.since), (7, onset));
    assert_eq!((event.key.kind, event.key.agent), (EventKind::PairUnreachable, agent(1)));
    let Message::PairUnreachable(silent) = &event.message else { panic!("{event:?}") };
    let UnansweredPair { sent, seconds, .. } = silent;
    assert_eq!((*sent, *seconds), (140, 130));
    let (times, effects) = watched.until(&counts(Some((0, 0)))).unwrap();
    assert!(matches!(effects[..], [EventEffect::Ended { .. }]) && times == 1, "{effects:?}");
}

#[test]
fn a_silent_agent_explains_that_its_pairs_exchange_nothing() {
    let mut watched = Watched::default();
    watched.exchange(&counts(Some((0, 0))));
    let mut clock = LogClock::default();
    watched.watcher.on_report(agent(2), second(0));
    for at in 1..=100 {
        clock.on_entry(second(at));
    }
    let sites = BTreeMap::from([(agent(2), "Dunverra".to_owned())]);
    let known = BTreeMap::from([(pair(), ends())]);
    let silent = watched.watcher.on_clock((&sites, &known), &|_| Vec::new(), &clock);
    assert_eq!(began(&silent).key.kind, EventKind::AgentSilent);
    assert_eq!(watched.until(&counts(None)), None);
}

#[test]
fn an_event_with_a_place_stands_for_an_incident_with_pairs() {
    let (_, effects) = Watched::default().until(&counts(Some((5, 0)))).unwrap();
    let pair = began(&effects);
    let key = EventKey { kind: EventKind::ReceiveErrors, ..pair.key.clone() };
    let (severity, since) = (Some(Severity::Minor), pair.since.plus_micros(1));
    let errors = Event { key, severity, since, ..pair.clone() };
    let kind = |events: &[(&Event, &str, bool)]| principal(events).unwrap().event.key.kind;
    let [of_pair, of_host] = [(pair, "Eskerry", false), (&errors, "Dunverra", false)];
    assert_eq!(kind(&[of_pair, of_host]), EventKind::ReceiveErrors);
    assert_eq!(kind(&[of_pair]), EventKind::PairLoss);
}

#[test]
fn late_and_inexact_windows_raise_nothing() {
    let mut watched = Watched::default();
    let lossy = counts(Some((5, 0)));
    for window in 0..50 {
        let at = second(20 * window);
        let late = watched.exchange_at(&lossy, at, at.plus_micros(181_000_000));
        assert_eq!(late, []);
    }
    let inexact = PairCounts { inexact: 1, ..lossy };
    assert_eq!(watched.until(&inexact), None);
}

#[test]
fn events_end_with_their_pair() {
    let known = BTreeMap::from([(pair(), ends())]);
    let lossy = || {
        let mut watched = Watched::default();
        watched.until(&counts(Some((5, 0)))).unwrap();
        watched
    };
    let mut watched = lossy();
    assert_eq!(watched.watcher.keep_to_pairs(&known, second(100)), []);
    let ended = watched.watcher.keep_to_pairs(&BTreeMap::new(), second(101));
    assert!(matches!(ended[..], [EventEffect::Ended { .. }]), "{ended:?}");

    let mut watched = lossy();
    let mut clock = LogClock::default();
    let mut ended = Vec::new();
    for at in 0..1_900 {
        clock.on_entry(second(at));
        let effects = watched.watcher.on_clock((&BTreeMap::new(), &known), &|_| vec![], &clock);
        ended.extend(effects);
    }
    // Half an hour after the newest window, that at 20 s.
    let [EventEffect::Ended { at, .. }] = ended[..] else { panic!("{ended:?}") };
    assert_eq!(at, second(1_820));

    let lasting = lossy().watcher.lasting().to_vec();
    let mut resumed = Watched { watcher: Watcher::resumed(lasting), windows: 9, ..lossy() };
    let (_, ended) = resumed.until(&counts(Some((0, 0)))).unwrap();
    assert!(matches!(ended[..], [EventEffect::Ended { .. }]), "{ended:?}");
}
