//! The part of the first broken step, and that silence alone breaks nothing.

use super::*;
use itinera_model::check::{Ask, AskWeb, CheckDetails, CheckResult, Phase, Resolved, Step as Asks};
use itinera_model::diagnosis::FromSource;
use itinera_model::diagnosis_message::EchoCounts;
use itinera_model::finding::{Cause, Finding, HopVerdict, HopView, Place};
use itinera_model::host_facts::Echoes;
use itinera_model::host_facts::{Counters, HostFacts, Interface, RouteEntry};
use itinera_model::id::{BootId, PathId};
use itinera_model::message::Message;
use itinera_model::path::Method;
use itinera_model::reading::Reading;
use itinera_model::round::{Clocks, HopCounts, Round, StampSource};
use itinera_model::round_set::RoundSet;
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{Micros, Tick, WallTime};
use std::net::IpAddr;
use uuid::Uuid;

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn host_facts() -> HostFacts {
    let route = RouteEntry {
        to: "0.0.0.0/0".parse().unwrap(),
        gateway: Some(ip("10.3.0.1")),
        interface: "port0".to_owned(),
        metric: 100,
    };
    let port = Interface {
        name: "port0".to_owned(),
        up: true,
        carrier: true,
        speed_mbit_s: Some(1_000),
        addresses: vec!["10.3.0.10/24".parse().unwrap()],
        counters: Counters { rx_packets: 1_000, ..Counters::default() },
        ..Interface::default()
    };
    HostFacts {
        interfaces: vec![port],
        routes: vec![route],
        resolvers: vec![ip("198.18.48.53")],
        ..HostFacts::default()
    }
}

fn resolved(why: Option<Why>, addresses: &[&str]) -> Resolved {
    Resolved {
        resolver: ip("198.18.48.53"),
        why,
        addresses: addresses.iter().map(|address| ip(address)).collect(),
        ttl_s: Some(60),
        authoritative: false,
        truncated: false,
        took_us: Micros::from_millis(4),
    }
}

fn names(outcome: Outcome, resolved: Resolved) -> CheckResult {
    let seen = CheckDetails { resolved: vec![resolved], ..CheckDetails::default() };
    CheckResult { outcome, spoke_to: None, phases: Vec::new(), seen }
}

fn got_to(outcome: Outcome, steps: &[Asks]) -> CheckResult {
    let phase = |step: &Asks| Phase { step: *step, took_us: Micros::from_millis(20) };
    CheckResult {
        outcome,
        spoke_to: Some((ip("198.18.144.10"), 80).into()),
        phases: steps.iter().map(phase).collect(),
        seen: CheckDetails::default(),
    }
}

fn web(result: CheckResult) -> AskResult {
    let ask = Ask::Web(AskWeb {
        tls: false,
        host: Some("booking.corriven.example".to_owned()),
        port: 80,
        path: "/".to_owned(),
        content: false,
        resources: false,
        status: None,
        words: None,
        most_bytes: 1_000,
    });
    AskResult { ask, result }
}

/// Everything is as it should be; hops could not be looked at.
fn all_well() -> Observations {
    let all = [Asks::Connect, Asks::FirstByte];
    Observations {
        target: "booking.corriven.example".to_owned(),
        name: Some("booking.corriven.example".to_owned()),
        address: Some(ip("198.18.144.10")),
        began: WallTime::from_unix_seconds(0),
        took_us: Micros::from_millis(12_000),
        own_stack: Some(true),
        before: Some(host_facts()),
        after: Some(host_facts()),
        gateway: Some(Echoes {
            address: ip("10.3.0.1"),
            sent: 8,
            answered: 8,
            median_us: Some(Micros::from_millis(1)),
        }),
        resolvers: vec![resolved(Some(Why::NoSuchName), &[])],
        names: Some(names(Outcome::Good, resolved(None, &["198.18.144.10"]))),
        sweep: None,
        not_swept: Some("not permitted".to_owned()),
        asked: vec![web(got_to(Outcome::Good, &all))],
        sources: Vec::new(),
    }
}

fn judged(change: impl FnOnce(&mut Observations)) -> Diagnosis {
    let mut observed = all_well();
    change(&mut observed);
    judge(&observed, &OwnerMap::default(), &Context::default())
}

fn found(check: &Diagnosis, kind: StepKind) -> StepResult {
    check.steps.iter().find(|step| step.kind == kind).unwrap().found
}

/// The first broken step and its part.
fn first_broken(check: &Diagnosis) -> (Option<StepKind>, Part) {
    let first = check.steps.iter().find(|step| step.found == StepResult::Broken);
    (first.map(|step| step.kind), check.part)
}

#[test]
fn nothing_is_broken_where_all_is_well() {
    let check = judged(|_| {});
    assert_eq!(first_broken(&check), (None, Part::Nothing));
    assert_eq!((check.conclusion.broken, check.conclusion.advice), (None, Advice::ReportProblem));
    let nearest_first = check.steps.windows(2).all(|two| two[0].kind <= two[1].kind);
    assert!(nearest_first, "{:?}", check.steps);
}

#[test]
fn each_broken_step_is_its_own_part() {
    let mail = Outcome::Broke { at: Asks::FirstByte, why: Why::NoAnswer };
    let refused = Outcome::Broke { at: Asks::Connect, why: Why::Refused };
    let nobody = Outcome::Broke { at: Asks::Name, why: Why::NoAnswer };
    type Change = Box<dyn FnOnce(&mut Observations)>;
    let cases: [(Change, StepKind, Part); 8] = [
        (Box::new(|it| it.own_stack = Some(false)), StepKind::OwnStack, Part::Machine),
        (
            Box::new(|it| it.before.as_mut().unwrap().interfaces[0].carrier = false),
            StepKind::OwnLink,
            Part::Machine,
        ),
        (
            Box::new(|it| {
                let after = &mut it.after.as_mut().unwrap().interfaces[0].counters;
                (after.rx_errors, after.rx_packets) = (9, 1_300);
            }),
            StepKind::OwnLink,
            Part::Machine,
        ),
        (
            Box::new(|it| {
                let own = "169.254.7.7/16".parse().unwrap();
                it.before.as_mut().unwrap().interfaces[0].addresses = vec![own];
            }),
            StepKind::OwnAddress,
            Part::Machine,
        ),
        (
            Box::new(|it| it.before.as_mut().unwrap().routes.clear()),
            StepKind::OwnAddress,
            Part::Machine,
        ),
        (
            Box::new(move |it| {
                it.resolvers = vec![resolved(Some(Why::NoAnswer), &[])];
                it.names = Some(names(nobody, resolved(Some(Why::NoAnswer), &[])));
            }),
            StepKind::Resolvers,
            Part::Names,
        ),
        (
            Box::new(move |it| it.asked = vec![web(got_to(refused, &[]))]),
            StepKind::TargetConnect,
            Part::Service,
        ),
        (
            Box::new(move |it| it.asked = vec![web(got_to(mail, &[Asks::Connect]))]),
            StepKind::Application,
            Part::Service,
        ),
    ];
    for (change, kind, part) in cases {
        let check = judged(change);
        assert_eq!(first_broken(&check), (Some(kind), part), "{check:#?}");
        assert_eq!(check.conclusion.broken, Some(kind));
    }
}

#[test]
fn a_gateway_that_ignores_echo_is_not_broken_while_something_behind_it_answers() {
    let silent = |it: &mut Observations| it.gateway.as_mut().unwrap().answered = 0;
    assert_eq!(first_broken(&judged(silent)), (None, Part::Nothing));
    let all_silent = judged(|it| {
        silent(it);
        let why = Outcome::Broke { at: Asks::Connect, why: Why::NoAnswer };
        it.asked = vec![web(got_to(why, &[]))];
    });
    assert_eq!(first_broken(&all_silent), (Some(StepKind::Gateway), Part::Site));
}

#[test]
fn silence_to_echo_alone_breaks_nothing() {
    let hop = |hop: u8, address: Option<&str>, lost| HopView {
        hop,
        address: address.map(ip),
        sent: 12,
        lost,
        got_here_ppm: None,
        delay_us: None,
        delay_quartiles_us: None,
        usual_delay_us: None,
        verdict: HopVerdict::Clean,
    };
    let path = Assessment {
        path: PathId::from_uuid(Uuid::nil()),
        until: WallTime::from_unix_seconds(0),
        span_s: 60,
        rounds: 6,
        end_sent: 12,
        end_lost: 12,
        engine: 1,
        mapping: 0,
        hops: vec![hop(1, Some("10.3.0.1"), 0), hop(2, Some("198.18.16.1"), 0), hop(3, None, 12)],
        finding: None,
    };
    let with = |asked: Vec<AskResult>, back| {
        let observed = Observations { asked, ..all_well() };
        judge(&observed, &OwnerMap::default(), &Context { path: Some(path.clone()), back })
    };
    assert_eq!(with(Vec::new(), None).part, Part::Nothing, "it may ignore echo");
    let arrives = ReturnCounts { arrived: 600, lost: 0 };
    let check = with(Vec::new(), Some(arrives));
    assert_eq!(
        (check.part, found(&check, StepKind::ReturnRoute)),
        (Part::Nothing, StepResult::Clean)
    );
    let none = Outcome::Broke { at: Asks::Connect, why: Why::NoAnswer };
    assert_eq!(with(vec![web(got_to(none, &[]))], None).part, Part::Network);
}

#[test]
fn what_could_not_be_read_is_not_broken() {
    let check = judged(|it| {
        (it.before, it.after, it.gateway, it.resolvers) = (None, None, None, Vec::new());
        let nobody = Outcome::Broke { at: Asks::Name, why: Why::NoAddress };
        it.names = Some(CheckResult {
            outcome: nobody,
            spoke_to: None,
            phases: Vec::new(),
            seen: CheckDetails::default(),
        });
    });
    for kind in [StepKind::OwnLink, StepKind::OwnAddress, StepKind::Gateway, StepKind::Resolvers] {
        assert_eq!(found(&check, kind), StepResult::Unknown, "{kind}: {check:?}");
    }
    assert_eq!(first_broken(&check), (None, Part::Nothing));
}

#[test]
fn a_name_that_does_not_exist_is_the_names_part() {
    let check = judged(|it| {
        let why = Outcome::Broke { at: Asks::Name, why: Why::NoSuchName };
        it.names = Some(names(why, resolved(Some(Why::NoSuchName), &[])));
        it.address = None;
        it.asked = vec![web(CheckResult::broke(Asks::Name, Why::NoAddress))];
    });
    assert_eq!(first_broken(&check), (Some(StepKind::Name), Part::Names));
    assert_eq!(
        found(&check, StepKind::TargetConnect),
        StepResult::Unknown,
        "no resolver was there to ask"
    );
}

#[test]
fn the_conclusion_gives_the_state_of_the_route_whatever_else_is_broken() {
    let with = |back, broken: fn(&mut Observations)| {
        let mut observed = all_well();
        broken(&mut observed);
        judge(&observed, &OwnerMap::default(), &Context { path: None, back }).conclusion
    };
    let arrives = ReturnCounts { arrived: 600, lost: 0 };
    let lossy = ReturnCounts { arrived: 570, lost: 30 };
    let no_name = |it: &mut Observations| {
        let why = Outcome::Broke { at: Asks::Name, why: Why::NoSuchName };
        it.names = Some(names(why, resolved(Some(Why::NoSuchName), &[])));
        it.address = None;
        it.asked = vec![web(CheckResult::broke(Asks::Name, Why::NoAddress))];
    };
    let clean = with(Some(arrives), no_name);
    assert_eq!((clean.advice, clean.route), (Advice::ReportName, StepResult::Clean));
    let broken = with(Some(lossy), no_name);
    assert_eq!(broken.also_broken, [StepKind::ReturnRoute]);
    assert_eq!((broken.advice, broken.route), (Advice::ReportName, StepResult::Broken));
    assert_eq!(with(None, no_name).route, StepResult::Unknown);
    let refuses = |it: &mut Observations| {
        let refused = Outcome::Broke { at: Asks::Connect, why: Why::Refused };
        it.asked = vec![web(got_to(refused, &[]))];
    };
    let service = with(Some(arrives), refuses);
    assert_eq!((service.advice, service.route), (Advice::ReportService, StepResult::Clean));
    assert!(service.excluded.contains(&StepKind::Gateway), "{service:?}");
}

/// A dozen rounds over three hops that all answer.
fn swept_clean() -> RoundSet {
    let boot = BootId::from_uuid(Uuid::nil());
    let (source, address) = (ip("10.3.0.10"), ip("198.18.144.10"));
    let method = Method::IcmpEcho;
    let flow = Flow {
        source,
        destination: address,
        method,
        source_port: 50_000,
        destination_port: 7,
        dscp: 0,
    };
    let resolution = Resolution { name: None, address };
    let route = Route { hops: HOPS.map(|hop| Some(ip(hop))).to_vec() };
    let hop =
        HopCounts { sent: 1, answered: 1, rtt: vec![Micros::new(900)], ..HopCounts::default() };
    let mut sweep = RoundSet::default();
    for number in 0..12 {
        let clocks = Clocks {
            boot,
            tick: Tick::from_millis(number * 1_000),
            wall: WallTime::from_unix_seconds(1_700_000_000 + number.cast_signed()),
            offset_us: None,
            offset_error_us: None,
        };
        let round = Round {
            path: PathId::from_uuid(Uuid::nil()),
            number,
            clocks,
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: None,
            reached_at: Some(3),
            stamps: StampSource::Virtual,
            lateness: None,
            hops: vec![hop.clone(); 3],
        };
        sweep.add(round, &flow, &resolution, &route, &Reading::default());
    }
    sweep
}

const HOPS: [&str; 3] = ["10.3.0.1", "198.18.16.1", "198.18.144.10"];

#[test]
fn what_the_schedule_finds_is_not_denied_by_a_few_probes() {
    let observed = Observations { sweep: Some(swept_clean()), not_swept: None, ..all_well() };
    let with = |path| judge(&observed, &OwnerMap::default(), &Context { path, back: None });
    let swept = with(None);
    assert_eq!(
        (first_broken(&swept), found(&swept, StepKind::FirstHops)),
        ((None, Part::Nothing), StepResult::Clean)
    );
    let mut schedule = route::assess(&observed).unwrap();
    assert_eq!(with(Some(schedule.clone())), swept, "both say the same");
    let place = Place::Link { from: ip(HOPS[1]), to: ip(HOPS[2]), silent_between: 0 };
    schedule.finding =
        Some(Finding { loss_ppm: 220_000, ..Finding::new(Cause::Loss, place, 980_000) });
    let check = with(Some(schedule));
    assert_eq!(first_broken(&check), (Some(StepKind::FirstHops), Part::Network));
    let step = check.steps.iter().find(|step| step.kind == StepKind::FirstHops).unwrap();
    let StepMessage::FaultBegins { fault, by_schedule: true, .. } = &step.message else {
        panic!("{step:?}")
    };
    let Message::LossLocated(fault) = fault.as_ref() else { panic!("{fault:?}") };
    assert_eq!((fault.place, fault.loss.unwrap().ratio.as_ppm()), (place, 220_000));
}

#[test]
fn one_address_answered_and_another_not_means_no_return_route_to_it() {
    let from = |source: &str, answered| FromSource { source: ip(source), sent: 6, answered };
    let return_route = |sources: Vec<FromSource>| {
        let check = judged(|it| it.sources = sources);
        let step = check.steps.into_iter().find(|step| step.kind == StepKind::ReturnRoute);
        step.map(|step| (step.found, step.message))
    };
    let (found, message) = return_route(vec![from("10.3.0.10", 6), from("10.99.0.1", 0)]).unwrap();
    assert_eq!(found, StepResult::Broken);
    let echoes = EchoCounts { sent: 6, answered: 6, median_us: None };
    let (with, without) = (ip("10.3.0.10"), ip("10.99.0.1"));
    assert_eq!(message, StepMessage::ReturnToOneSource { with, without, echoes });
    assert_eq!(return_route(vec![from("10.3.0.10", 6), from("10.99.0.1", 2)]), None);
    assert_eq!(return_route(vec![from("10.3.0.10", 0), from("10.99.0.1", 0)]), None, "all silent");
}

#[test]
fn the_other_ends_word_is_heard() {
    let with = |arrived, lost| {
        let back = Some(ReturnCounts { arrived, lost });
        judge(&all_well(), &OwnerMap::default(), &Context { path: None, back })
    };
    assert_eq!(first_broken(&with(570, 30)), (Some(StepKind::ReturnRoute), Part::Network));
    assert_eq!(found(&with(600, 1), StepKind::ReturnRoute), StepResult::Clean);
    assert_eq!(found(&with(0, 0), StepKind::ReturnRoute), StepResult::Unknown, "it said nothing");
}

#[test]
fn the_text_has_short_lines_for_a_mail() {
    let observed = all_well();
    let check = judge(&observed, &OwnerMap::default(), &Context::default());
    let text = text(&check, &observed, &OwnerMap::default());
    assert!(text.lines().all(|line| line.chars().count() <= 100), "{text}");
    assert!(text.contains("10.3.0.1: 8 of 8 probes answered"), "{text}");
}
