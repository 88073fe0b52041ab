//! What facts in a row say.

use super::intended::{Intended, RouteState, deviations};
use super::*;
use crate::log_clock::LogClock;
use itinera_model::check::{AskName, CheckDetails, Outcome, Phase, Resolved, Step, WebSeen, Why};
use itinera_model::finding::{HopVerdict, HopView};
use itinera_model::host_facts::{
    ActionOutcome, Counters, HostLateness, Interface, LocalAction, RouteEntry,
};
use itinera_model::id::PathId;
use itinera_model::message::{HostChange, HostFact, TrafficDirection};
use itinera_model::owner::{Owner, OwnerEntry, OwnerMap};
use itinera_model::unit::Micros;
use uuid::Uuid;

const OLD: [u8; 4] = [198, 18, 128, 10];
const NEW: [u8; 4] = [198, 18, 144, 10];

fn agent(number: u128) -> AgentId {
    AgentId::from_uuid(Uuid::from_u128(number))
}

fn facts(number: u128, ask: Ask) -> CheckFacts {
    CheckFacts {
        id: CheckId::from_uuid(Uuid::from_u128(number)),
        agent: agent(number % 10),
        site: format!("Site {}", number % 10),
        target: "Seat Booking".to_owned(),
        service: "Seat Booking".to_owned(),
        host: Some("booking.corriven.example".to_owned()),
        ask,
        raise_after: 3,
    }
}

fn second(second: i64) -> WallTime {
    WallTime::from_unix_seconds(second)
}

fn good(address: [u8; 4], rate: Option<u64>) -> CheckResult {
    CheckResult {
        outcome: Outcome::Good,
        spoke_to: Some((address, 443).into()),
        phases: vec![
            Phase { step: Step::Connect, took_us: Micros::new(20_000) },
            Phase { step: Step::FirstByte, took_us: Micros::new(40_000) },
        ],
        seen: CheckDetails {
            web: Some(WebSeen { rate_bytes_per_s: rate, ..WebSeen::default() }),
            ..CheckDetails::default()
        },
    }
}

fn broke(at: Step, why: Why) -> CheckResult {
    CheckResult { spoke_to: Some((OLD, 443).into()), ..CheckResult::broke(at, why) }
}

fn assessment(sent: u32, lost: u32) -> Assessment {
    Assessment {
        path: PathId::from_uuid(Uuid::nil()),
        until: second(0),
        span_s: 60,
        rounds: 30,
        end_sent: sent,
        end_lost: lost,
        engine: 1,
        mapping: 0,
        hops: Vec::new(),
        finding: None,
    }
}

/// Feeds results ten seconds apart; gives what was said.
fn feed(
    watcher: &mut Watcher,
    check: &CheckFacts,
    path: &Assessment,
    results: &[CheckResult],
    from: i64,
) -> Vec<EventEffect> {
    feed_late(watcher, check, path, results, (from, 0))
}

/// Feeds results of an agent with this usual lateness in microseconds.
fn feed_late(
    watcher: &mut Watcher,
    check: &CheckFacts,
    path: &Assessment,
    results: &[CheckResult],
    (from, late_us): (i64, u32),
) -> Vec<EventEffect> {
    let step = |(nth, result): (usize, &CheckResult)| {
        let at = second(from + 10 * i64::try_from(nth).unwrap());
        watcher.step(Fact::Checked { check, at, result, late_us }, &|_, _| Some(path), at)
    };
    results.iter().enumerate().flat_map(step).collect()
}

fn began(effects: &[EventEffect]) -> Vec<&Event> {
    let began = effects.iter().filter_map(|effect| match effect {
        EventEffect::Began(event) => Some(event),
        _ => None,
    });
    began.collect()
}

fn ended(effects: &[EventEffect]) -> usize {
    effects.iter().filter(|effect| matches!(effect, EventEffect::Ended { .. })).count()
}

#[test]
fn what_gets_through_is_missed_only_so_often_in_a_row() {
    let mut watcher = Watcher::default();
    let mut carry = |nth: i64, got_bit_s| {
        let at = second(nth * 600);
        let carried = Carried {
            agent: agent(1),
            from: "Brannock Quay",
            to: "Dunverra",
            by: By::Tcp,
            at,
            got_bit_s,
            least_bit_s: 20_000_000,
            raise_after: 3,
        };
        watcher.step(Fact::Carried(carried), &|_, _| None, at)
    };
    let (much, little) = (Some(21_000_000), Some(3_400_000));
    for (nth, got) in [(0, little), (1, little), (2, much), (3, little), (4, None)] {
        assert_eq!(began(&carry(nth, got)).len(), 0, "{nth}");
    }
    let effects = carry(5, little);
    let event = began(&effects)[0];
    assert_eq!((event.key.kind, event.since), (EventKind::ThroughputLow, second(1_800)));
    let Message::ThroughputLow(low) = &event.message else { panic!("{event:?}") };
    assert_eq!((low.bits_per_s, low.limit_bits_per_s, low.times), (little, 20_000_000, 3));
    let after: usize = (6..10).map(|nth| ended(&carry(nth, much))).sum();
    assert_eq!(after, 1, "and it ends once");
}

#[test]
fn one_failure_says_nothing_three_do_and_two_good_ones_end_it() {
    let (mut watcher, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    let (fine, bad) = (good(OLD, None), broke(Step::Connect, Why::Refused));
    let path = assessment(60, 0);
    let start = [fine.clone(), bad.clone(), fine.clone(), bad.clone(), bad.clone()];
    assert_eq!(feed(&mut watcher, &check, &path, &start, 0), []);
    let effects = feed(&mut watcher, &check, &path, std::slice::from_ref(&bad), 50);
    let event = began(&effects)[0];
    assert_eq!((event.key.kind, event.part), (EventKind::ServiceFailed, Part::Service));
    assert_eq!((event.severity, event.since), (Some(Severity::Major), second(30)));
    let Message::ServiceFailed(failure) = &event.message else { panic!("{event:?}") };
    assert_eq!((failure.step, failure.why), (Step::Connect, Why::Refused));
    assert_eq!(failure.path, PathState::Clean { sent: 60, lost: 0 });
    assert_eq!(feed(&mut watcher, &check, &path, &[bad, fine.clone()], 60), []);
    assert_eq!(ended(&feed(&mut watcher, &check, &path, &[fine], 80)), 1);
    assert!(watcher.lasting().is_empty());
}

#[test]
fn what_never_worked_is_a_misfit_and_no_alarm() {
    let (mut watcher, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    let bad = vec![broke(Step::FirstByte, Why::ExpectsTls); 5];
    let effects = feed(&mut watcher, &check, &assessment(60, 0), &bad, 0);
    let events = began(&effects);
    assert_eq!(events.len(), 1);
    assert_eq!((events[0].key.kind, events[0].severity), (EventKind::CheckMismatch, None));
    let Message::CheckMismatch(failure) = &events[0].message else { panic!("{events:?}") };
    assert_eq!(failure.why, Why::ExpectsTls);
}

#[test]
fn what_follows_from_the_path_raises_nothing_until_the_path_is_clean() {
    let (mut watcher, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    feed(&mut watcher, &check, &assessment(60, 0), &[good(OLD, None)], 0);
    let bad = vec![broke(Step::Connect, Why::NoAnswer); 3];
    let effects = feed(&mut watcher, &check, &assessment(60, 12), &bad, 10);
    let event = began(&effects)[0];
    assert_eq!((event.part, event.severity), (Part::Network, None), "{event:?}");
    let Message::ServiceFailed(failure) = &event.message else { panic!("{event:?}") };
    assert_eq!(failure.path, PathState::Faulty { sent: 60, lost: 12, explains: true });
    let effects = feed(&mut watcher, &check, &assessment(60, 0), &bad, 40);
    let worse = effects.iter().find_map(|effect| match effect {
        EventEffect::Changed { event, .. } => Some(event),
        _ => None,
    });
    assert_eq!(worse.unwrap().severity, Some(Severity::Major), "it is not the path after all");
}

#[test]
fn what_a_starved_agent_does_not_get_to_the_end_of_says_nothing() {
    let (mut watcher, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    let path = assessment(60, 0);
    feed(&mut watcher, &check, &path, &vec![good(OLD, None); 3], 0);
    let bad = vec![broke(Step::Connect, Why::NoAnswer); 4];
    assert_eq!(feed_late(&mut watcher, &check, &path, &bad, (30, 110_000)), []);
    let effects = feed_late(&mut watcher, &check, &path, &bad, (70, 30_000));
    assert_eq!(began(&effects)[0].key.kind, EventKind::ServiceFailed);
    // Neither does it end what lasts.
    let starved = feed_late(&mut watcher, &check, &path, &bad, (110, 900_000));
    assert_eq!(ended(&starved), 0);
    let calm = feed(&mut watcher, &check, &path, &vec![good(OLD, None); 3], 150);
    assert_eq!(ended(&calm), 1);
}

#[test]
fn content_is_not_slow_by_what_the_agents_own_lateness_explains() {
    let (mut watcher, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    let path = assessment(60, 0);
    feed(&mut watcher, &check, &path, &vec![good(OLD, Some(900_000)); 6], 0);
    let slow = |rate| vec![good(OLD, Some(rate)); 4];
    let busy = feed_late(&mut watcher, &check, &path, &slow(141_000), (60, 14_000));
    assert_eq!(busy, [], "a busy machine");
    let fault = feed_late(&mut watcher, &check, &path, &slow(24_000), (100, 14_000));
    assert_eq!(
        began(&fault)[0].key.kind,
        EventKind::TransferSlow,
        "a busy machine and a slow server"
    );
    let (mut calm, path) = (Watcher::default(), assessment(60, 0));
    feed(&mut calm, &check, &path, &vec![good(OLD, Some(900_000)); 6], 0);
    let effects = feed(&mut calm, &check, &path, &slow(141_000), 60);
    assert_eq!(began(&effects)[0].key.kind, EventKind::TransferSlow, "a calm machine");
}

#[test]
fn slow_content_on_a_clean_path_is_the_servers() {
    let (mut watcher, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    let path = assessment(60, 0);
    feed(&mut watcher, &check, &path, &vec![good(OLD, Some(800_000)); 6], 0);
    assert_eq!(feed(&mut watcher, &check, &path, &vec![good(OLD, Some(300_000)); 5], 60), []);
    let effects = feed(&mut watcher, &check, &path, &vec![good(OLD, Some(24_000)); 3], 120);
    let event = began(&effects)[0];
    assert_eq!(event.key.kind, EventKind::TransferSlow);
    let Message::TransferSlow(slow) = &event.message else { panic!("{event:?}") };
    assert_eq!((slow.bytes_per_s, slow.usual_bytes_per_s), (24_000, Some(800_000)));
    assert_eq!(slow.path, PathState::Clean { sent: 60, lost: 0 });
    let many = vec![good(OLD, Some(24_000)); 40];
    assert_eq!(feed(&mut watcher, &check, &path, &many, 150), [], "not learned as usual");
}

fn resolved(last: u8, addresses: [u8; 4], authoritative: bool) -> Resolved {
    Resolved {
        resolver: [198, 18, last, 53].into(),
        why: None,
        addresses: vec![addresses.into()],
        ttl_s: Some(30),
        authoritative,
        truncated: false,
        took_us: Micros::new(9_000),
    }
}

#[test]
fn a_resolver_behind_is_named_and_what_it_leads_to_is_not_blamed() {
    let name = Ask::Name(AskName::of("booking.corriven.example".to_owned(), false));
    let (of_name, web) = (facts(11, name), facts(21, Ask::Connect { port: 443 }));
    let mut watcher = Watcher::default();
    let path = assessment(60, 0);
    feed(&mut watcher, &web, &path, &[good(OLD, None)], 0);
    let at_odds = CheckResult {
        seen: CheckDetails {
            resolved: vec![resolved(48, OLD, false), resolved(128, NEW, true)],
            ..CheckDetails::default()
        },
        ..CheckResult::broke(Step::Name, Why::Disagree)
    };
    let gone = broke(Step::Connect, Why::Refused);
    let mut said = Vec::new();
    for turn in 0..6 {
        said.extend(feed(&mut watcher, &of_name, &path, std::slice::from_ref(&at_odds), turn * 10));
        said.extend(feed(&mut watcher, &web, &path, std::slice::from_ref(&gone), turn * 10 + 1));
    }
    let faults: Vec<&Event> =
        began(&said).into_iter().filter(|event| event.severity.is_some()).collect();
    assert_eq!(faults.len(), 1, "{said:?}");
    let stale = faults[0];
    assert_eq!((stale.key.kind, stale.part), (EventKind::DnsStale, Part::Names));
    assert_eq!(stale.group, "stale:booking.corriven.example:198.18.48.53");
    assert!(
        stale.raised_at.micros_since(second(0)) >= 30_000_000,
        "not before answers may be kept"
    );
    let Message::DnsStale(answer) = &stale.message else { panic!("{stale:?}") };
    assert_eq!(answer.resolver, IpAddr::from([198, 18, 48, 53]));
    assert_eq!((&answer.returned, &answer.current), (&vec![OLD.into()], &vec![NEW.into()]));
}

#[test]
fn resolvers_without_authority_only_disagree() {
    let name = Ask::Name(AskName::of("booking.corriven.example".to_owned(), false));
    let (mut watcher, check) = (Watcher::default(), facts(11, name));
    let result = CheckResult {
        seen: CheckDetails {
            resolved: vec![resolved(48, OLD, false), resolved(128, NEW, false)],
            ..CheckDetails::default()
        },
        ..CheckResult::broke(Step::Name, Why::Disagree)
    };
    let effects = feed(&mut watcher, &check, &assessment(60, 0), &vec![result; 8], 0);
    assert_eq!(began(&effects)[0].key.kind, EventKind::DnsDisagree);
}

fn host_facts(damaged: u64, packets: u64, bytes_out: u64, speed_mbit_s: u32) -> HostFacts {
    let counters = Counters {
        rx_errors: damaged,
        rx_packets: packets,
        tx_packets: packets,
        tx_bytes: bytes_out,
        ..Counters::default()
    };
    let interface = Interface {
        name: "eth0".to_owned(),
        up: true,
        carrier: true,
        addresses: vec!["10.3.0.2/24".parse().unwrap()],
        speed_mbit_s: Some(speed_mbit_s),
        counters,
        ..Interface::default()
    };
    HostFacts { interfaces: vec![interface], ..HostFacts::default() }
}

fn report(watcher: &mut Watcher, at: i64, host_facts: &HostFacts) -> Vec<EventEffect> {
    let at = second(at);
    let fact = Fact::HostFactsSource { agent: agent(3), site: "Carrock Pier", at, host_facts };
    watcher.step(fact, &|_, _| None, at)
}

#[test]
fn an_action_of_a_cut_off_agent_is_an_event_once() {
    let mut watcher = Watcher::default();
    let action = |number| LocalAction {
        program: "restart-uplink".to_owned(),
        began_at: second(5),
        cut_off_s: 300,
        took_ms: 2_000,
        outcome: ActionOutcome::Succeeded,
        number,
    };
    let after = |action: Option<LocalAction>| HostFacts { action, ..host_facts(0, 0, 0, 100) };
    report(&mut watcher, 0, &after(None));
    let effects = report(&mut watcher, 10, &after(Some(action(1))));
    let [EventEffect::Occurred(event)] = &effects[..] else { panic!("{effects:?}") };
    assert_eq!((event.key.kind, event.severity), (EventKind::LocalAction, None));
    assert!(matches!(&event.message, Message::LocalActionTaken(it) if it.action == action(1)));
    assert_eq!(report(&mut watcher, 20, &after(Some(action(1)))), [], "known");
    assert_eq!(report(&mut watcher, 30, &after(Some(action(2)))).len(), 1);
}

#[test]
fn damaged_frames_and_a_full_line_are_the_machines_own() {
    let mut watcher = Watcher::default();
    report(&mut watcher, 0, &host_facts(0, 0, 0, 100));
    assert_eq!(report(&mut watcher, 10, &host_facts(2, 900, 1_000, 100)), [], "two are chance");
    assert_eq!(report(&mut watcher, 20, &host_facts(32, 1_800, 2_000, 100)), [], "once is chance");
    let effects = report(&mut watcher, 30, &host_facts(62, 2_700, 3_000, 100));
    let event = began(&effects)[0];
    assert_eq!((event.key.kind, event.part), (EventKind::ReceiveErrors, Part::Machine));
    assert_eq!(event.own_addresses, [IpAddr::from([10, 3, 0, 2])]);
    let Message::ReceiveErrors(counts) = &event.message else { panic!("{event:?}") };
    assert_eq!((counts.errors, counts.frames, counts.seconds), (30, 930, 10));
    assert_eq!(ended(&report(&mut watcher, 40, &host_facts(62, 3_600, 4_000, 100))), 0);
    assert_eq!(ended(&report(&mut watcher, 50, &host_facts(62, 4_500, 5_000, 100))), 1);
    // 95 Mb/s out over ten seconds, twice.
    report(&mut watcher, 60, &host_facts(62, 5_400, 118_755_000, 100));
    let effects = report(&mut watcher, 70, &host_facts(62, 6_300, 237_505_000, 100));
    assert_eq!(began(&effects)[0].key.kind, EventKind::LinkSaturated, "{effects:?}");
    let Message::LinkSaturated(used) = &began(&effects)[0].message else { panic!("{effects:?}") };
    assert_eq!((used.direction, used.used.as_ppm()), (TrafficDirection::Outbound, 950_000));
}

#[test]
fn a_busy_host_is_an_event_without_an_alarm() {
    let mut watcher = Watcher::default();
    let mut late = |at, p95_us, count| {
        let lateness = Some(HostLateness { p95_us, count });
        report(&mut watcher, at, &HostFacts { lateness, ..host_facts(0, 0, 0, 100) })
    };
    late(0, 0, 900);
    assert_eq!(late(60, 18_000, 900), [], "once is chance");
    let effects = late(120, 18_400, 900);
    let event = began(&effects)[0];
    assert_eq!((event.key.kind, event.part), (EventKind::HostBusy, Part::Machine));
    assert_eq!(event.severity, None);
    let Message::HostBusy(late_by) = &event.message else { panic!("{event:?}") };
    assert_eq!((late_by.p95_us, late_by.samples), (18_400, 900));
    assert_eq!(late(180, 30_000, 7), [], "seven packets say nothing");
    assert_eq!(ended(&late(240, 300, 900)), 0);
    assert_eq!(ended(&late(300, 300, 900)), 1);
}

/// Fact, subject, value before and value now of a changed host fact.
fn change_of(event: &Event) -> (HostFact, Option<&str>, Option<&str>, Option<&str>) {
    let Message::HostFactsChanged(change) = &event.message else { panic!("{event:?}") };
    let HostChange { fact, subject, before, after, .. } = change;
    (*fact, subject.as_deref(), before.as_deref(), after.as_deref())
}

#[test]
fn changes_are_events_once_and_counters_are_none() {
    let mut watcher = Watcher::default();
    report(&mut watcher, 0, &host_facts(0, 0, 0, 1_000));
    assert_eq!(report(&mut watcher, 60, &host_facts(0, 500, 9_000, 1_000)), []);
    let effects = report(&mut watcher, 120, &host_facts(0, 900, 9_900, 100));
    let [EventEffect::Occurred(event)] = effects.as_slice() else { panic!("{effects:?}") };
    let expected = (HostFact::Speed, Some("eth0"), Some("1000 Mb/s"), Some("100 Mb/s"));
    assert_eq!(change_of(event), expected);
    assert_eq!(report(&mut watcher, 180, &host_facts(0, 990, 9_990, 100)), []);
    let none = HostFacts { host_name: "x".to_owned(), ..HostFacts::default() };
    let effects = report(&mut watcher, 240, &none);
    assert_eq!(effects.len(), 2, "a name, and an interface that is gone: {effects:?}");
    assert_eq!(
        report(&mut watcher, 100, &host_facts(0, 0, 0, 10)),
        [],
        "what comes late is no news"
    );
}

#[test]
fn a_changed_access_network_is_an_event_once_it_lasts() {
    let mut watcher = Watcher::default();
    let (fennel, lowtide) = ((64501, "Fennel Fibre"), (64502, "Lowtide Mobile"));
    let mut access = |at: i64, by: &[(u32, &str)]| {
        let at = second(at);
        let fact = Fact::Access { agent: agent(3), site: "Carrock Pier", at, by };
        watcher.step(fact, &|_, _| None, at)
    };
    for (at, by) in [(0, vec![fennel]), (30, vec![lowtide]), (60, vec![fennel, lowtide])] {
        assert_eq!(access(at, &by), [], "{at}: first, for a moment, in part");
    }
    assert_eq!(access(90, &[fennel]), [], "still by one of both");
    assert_eq!(access(120, &[lowtide]), []);
    assert_eq!(access(150, &[]), [], "not known for a time");
    let effects = access(180, &[lowtide]);
    let [EventEffect::Occurred(event)] = effects.as_slice() else { panic!("{effects:?}") };
    let (before, after) = ("Fennel Fibre (AS 64501)", "Lowtide Mobile (AS 64502)");
    assert_eq!(change_of(event), (HostFact::AccessNetwork, None, Some(before), Some(after)));
    assert_eq!(event.since, second(120));
    assert_eq!(access(210, &[lowtide]), [], "once");
}

#[test]
fn targets_that_leave_by_another_interface_are_one_event() {
    let by = |interface: &str| HostFacts {
        routes_used: (1..=5)
            .map(|last| RouteEntry {
                to: format!("198.18.64.{last}/32").parse().unwrap(),
                gateway: None,
                interface: if last == 5 { "eth0" } else { interface }.to_owned(),
                metric: 0,
            })
            .collect(),
        ..host_facts(0, 0, 0, 1_000)
    };
    let mut watcher = Watcher::default();
    report(&mut watcher, 0, &host_facts(0, 0, 0, 1_000));
    assert_eq!(report(&mut watcher, 60, &by("eth0")), [], "targets that are new are no change");
    let effects = report(&mut watcher, 120, &by("tun9"));
    let [EventEffect::Occurred(event)] = effects.as_slice() else { panic!("{effects:?}") };
    let targets = "198.18.64.1, 198.18.64.2, 198.18.64.3 and 1 more";
    assert_eq!(change_of(event), (HostFact::Route, Some(targets), Some("eth0"), Some("tun9")));
    assert_eq!(report(&mut watcher, 180, &by("tun9")), []);
}

fn route_by(last: &[u8]) -> Assessment {
    let hop = |(nth, net): (usize, &u8)| HopView {
        hop: u8::try_from(nth).unwrap() + 1,
        address: Some([198, 18, *net, 1].into()),
        sent: 10,
        lost: 0,
        got_here_ppm: None,
        delay_us: None,
        delay_quartiles_us: None,
        usual_delay_us: None,
        verdict: HopVerdict::Clean,
    };
    Assessment { hops: last.iter().enumerate().map(hop).collect(), ..assessment(10, 0) }
}

#[test]
fn a_route_is_as_intended_or_its_deviations_are_listed() {
    let entry = |net: u8, as_number| OwnerEntry {
        prefix: format!("198.18.{net}.0/24").parse().unwrap(),
        owner: Owner { as_number, name: format!("N{as_number}"), contact: String::new() },
    };
    let map = OwnerMap::new(vec![
        entry(16, 64496),
        entry(64, 64500),
        entry(80, 64501),
        entry(128, 64510),
    ]);
    let intended =
        Intended { owners: vec![64496, 64500, 64510], tunnel: Some(false), dscp_kept: true };
    let seen = |owners: &[u8], tunnel, dscp| {
        deviations(&intended, RouteState { assessment: &route_by(owners), tunnel, dscp }, &map)
    };
    assert_eq!(seen(&[16, 64, 128], Some(false), Some((46, 46))), []);
    assert_eq!(seen(&[16, 16, 128], None, None), [], "silent owners may be on the route");
    let other = seen(&[16, 80, 128], None, None);
    let [RouteDeviation::Owners { taken, .. }] = other.as_slice() else { panic!("{other:?}") };
    assert_eq!(taken, &["N64496", "N64501", "N64510"]);
    assert_eq!(
        seen(&[16, 64, 128], Some(true), Some((46, 0))),
        [RouteDeviation::TunnelTaken, RouteDeviation::DscpRewritten { sent: 46, arrived: 0 }]
    );
    // It has to be seen more than once.
    let mut watcher = Watcher::default();
    let mut step = |at, by, deviations| {
        let (site, target, service) = ("Eskerry", "Seat Booking", "Seat Booking");
        let agent = agent(5);
        let (at, addresses) = (second(at), &[]);
        let fact = Fact::Route { agent, site, target, service, by, at, deviations, addresses };
        watcher.step(fact, &|_, _| None, at)
    };
    for at in [0, 10] {
        assert_eq!(step(at, "udp over IPv4", &other), vec![]);
        assert_eq!(step(at, "udp over IPv6", &[]), vec![], "has a route of its own");
    }
    let effects = step(20, "udp over IPv4", &other);
    let Message::RouteNotIntended(route) = &began(&effects)[0].message else {
        panic!("{effects:?}")
    };
    assert_eq!(route.deviations, other);
    assert_eq!(began(&effects)[0].since, second(0));
}

#[test]
fn checks_that_are_not_asked_any_more_are_forgotten() {
    let (mut watcher, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    let path = assessment(60, 0);
    feed(&mut watcher, &check, &path, &[good(OLD, None)], 0);
    feed(&mut watcher, &check, &path, &vec![broke(Step::Connect, Why::Refused); 3], 10);
    assert_eq!(watcher.keep_to(&|_| true, second(50)), []);
    assert_eq!(ended(&watcher.keep_to(&|_| false, second(60))), 1);
    let bytes = itinera_model::codec::encode(&watcher);
    assert_eq!(itinera_model::codec::decode::<Watcher>(&bytes).unwrap(), watcher);
}

#[test]
fn events_of_another_version_are_taken_over_and_end_as_usual() {
    let (mut before, check) = (Watcher::default(), facts(1, Ask::Connect { port: 443 }));
    let path = assessment(60, 0);
    let fine = good(OLD, None);
    feed(&mut before, &check, &path, std::slice::from_ref(&fine), 0);
    feed(&mut before, &check, &path, &vec![broke(Step::Connect, Why::Refused); 3], 10);
    let mut watcher = Watcher::resumed(before.lasting().to_vec());
    assert_eq!(watcher.lasting().len(), 1);
    let bad = broke(Step::Connect, Why::Refused);
    assert_eq!(feed(&mut watcher, &check, &path, &[bad, fine.clone()], 40), [], "it lasts");
    assert_eq!(ended(&feed(&mut watcher, &check, &path, &[fine], 60)), 1);
}

#[test]
fn an_agent_that_reports_nothing_is_an_alarm_until_it_reports() {
    let (mut watcher, mut clock) = (Watcher::default(), LogClock::default());
    let sites =
        BTreeMap::from([(agent(3), "Carrock Pier".to_owned()), (agent(4), "Eskerry".to_owned())]);
    let mut wait = |watcher: &mut Watcher, seconds: std::ops::RangeInclusive<i64>, all: bool| {
        let mut effects = Vec::new();
        for now in seconds.step_by(5) {
            if all {
                effects.extend(watcher.on_report(agent(3), second(now)));
            }
            effects.extend(watcher.on_report(agent(4), second(now)));
            clock.on_entry(second(now));
            effects.extend(watcher.on_clock((&sites, &BTreeMap::new()), &|_| Vec::new(), &clock));
        }
        effects
    };
    assert_eq!(wait(&mut watcher, 0..=100, true), []);
    assert_eq!(wait(&mut watcher, 105..=185, false), []);
    let effects = wait(&mut watcher, 190..=300, false);
    let [event] = began(&effects)[..] else { panic!("{effects:?}") };
    assert_eq!((event.key.kind, event.key.agent), (EventKind::AgentSilent, agent(3)));
    assert_eq!((event.severity, event.since), (Some(Severity::Major), second(100)));
    assert_eq!(ended(&wait(&mut watcher, 305..=310, true)), 1);
    // The log was not written for an hour: who reported then is not known.
    assert_eq!(wait(&mut watcher, 3_910..=3_995, false), []);
    assert_eq!(began(&wait(&mut watcher, 4_000..=4_000, false)).len(), 1);
    // The agent is removed.
    let sites = BTreeMap::from([(agent(4), "Eskerry".to_owned())]);
    clock.on_entry(second(4_005));
    assert_eq!(ended(&watcher.on_clock((&sites, &BTreeMap::new()), &|_| Vec::new(), &clock)), 1);
}

#[test]
fn what_lasts_at_an_agent_expires_when_it_has_been_silent_for_half_an_hour() {
    let mut watcher = Watcher::default();
    report(&mut watcher, 0, &host_facts(0, 0, 0, 100));
    report(&mut watcher, 10, &host_facts(30, 900, 1_000, 100));
    assert_eq!(began(&report(&mut watcher, 20, &host_facts(60, 1_800, 2_000, 100))).len(), 1);
    let sites = BTreeMap::from([(agent(3), "Carrock Pier".to_owned())]);
    watcher.on_report(agent(3), second(20));
    let mut clock = LogClock::default();
    clock.on_entry(second(20));
    let mut wait = |seconds: std::ops::RangeInclusive<i64>| {
        let ticks = seconds.step_by(5);
        let tick = |now| {
            clock.on_entry(second(now));
            watcher.on_clock((&sites, &BTreeMap::new()), &|_| Vec::new(), &clock)
        };
        ticks.flat_map(tick).collect::<Vec<_>>()
    };
    let effects = wait(25..=1_815);
    assert_eq!((began(&effects).len(), ended(&effects)), (1, 0), "the silence alone");
    assert_eq!(ended(&wait(1_820..=1_825)), 1);
    let kinds: Vec<EventKind> = watcher.lasting().iter().map(|event| event.key.kind).collect();
    assert_eq!(kinds, [EventKind::AgentSilent]);
}
