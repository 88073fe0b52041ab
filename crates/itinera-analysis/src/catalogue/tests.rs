//! The words of every code, as one snapshot.

use super::*;
use itinera_model::check::{AskKind, Step, Why};
use itinera_model::finding::{Cause, FaultDirection, LossCounts, Place, Reason};
use itinera_model::host_facts::{ActionOutcome, LocalAction};
use itinera_model::id::AgentId;
use itinera_model::message::*;
use itinera_model::owner::{Owner, OwnerEntry};
use itinera_model::path::Method;
use itinera_model::self_alarm::{
    Backlog, DiskSpace, FailingDuty, FailingReceiver, LateAgents, SetAsideCommits,
};
use itinera_model::unit::{Ratio, WallTime};
use std::net::IpAddr;
use uuid::Uuid;

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn map() -> OwnerMap {
    let entry = |prefix: &str, as_number, name: &str, contact: &str| OwnerEntry {
        prefix: prefix.parse().unwrap(),
        owner: Owner { as_number, name: name.into(), contact: contact.into() },
    };
    OwnerMap::new(vec![
        entry("198.18.64.0/20", 64500, "Northmere Carriage", "noc@northmere.example"),
        entry("198.18.16.0/20", 64496, "Brackwater Broadband", "+44 1632 960001"),
        entry("198.18.128.0/20", 64510, "Corriven Hosting", ""),
    ])
}

fn link(from: &str, to: &str) -> Place {
    Place::Link { from: ip(from), to: ip(to), silent_between: 0 }
}

fn fault(place: Place) -> LocatedFault {
    let ppm = Ratio::from_ppm;
    LocatedFault {
        place,
        direction: FaultDirection::Undetermined,
        loss: Some(LossEstimate {
            ratio: ppm(131_000),
            low: Some(ppm(112_000)),
            high: Some(ppm(152_000)),
        }),
        added_delay_us: None,
        confidence: ppm(982_000),
        paths: 14,
        both_versions: false,
        indistinguishable: Vec::new(),
        reasons: Vec::new(),
    }
}

fn places() -> Vec<Message> {
    let inside = ("198.18.64.3", "198.18.64.4");
    let mut rich = fault(Place::Link { from: ip(inside.0), to: ip(inside.1), silent_between: 2 });
    rich.both_versions = true;
    rich.indistinguishable = vec![Place::ReturnRoute { from: ip(inside.1) }];
    rich.reasons = vec![
        Reason::HopsBeforeAreClean { hops: 4 },
        Reason::HopsBehindCarry { hops: 1 },
        Reason::SilentHops { hops: 2 },
        Reason::CloseAlternative { probability_ppm: 121_000 },
    ];
    let last = LocatedFault {
        reasons: vec![Reason::OnlyTheLastHop],
        confidence: Ratio::from_ppm(999_000),
        paths: 1,
        ..fault(link("198.18.16.1", "198.18.64.1"))
    };
    let address = ip("198.18.64.4");
    let returning = LocatedFault {
        direction: FaultDirection::Return,
        ..fault(Place::ReturnRoute { from: address })
    };
    let (from, to) = (ip("10.1.0.1"), ip("198.18.16.1"));
    let six = fault(link("2001:db8:64::3", "2001:db8:64::4"));
    vec![
        Message::LossLocated(rich),
        Message::LossLocated(last),
        Message::LossLocated(returning),
        Message::LossLocated(fault(link("10.1.0.1", "198.18.16.1"))),
        Message::LossLocated(fault(link("10.1.0.2", "10.1.0.1"))),
        Message::LossLocated(fault(link("192.0.2.1", "192.0.2.2"))),
        Message::LossLocated(fault(Place::Member { from: ip(inside.0), to: address })),
        Message::LossLocated(fault(Place::Node { address })),
        Message::LossLocated(fault(Place::Boundary { from, to })),
        Message::LossLocated(fault(Place::Owner { as_number: 64500 })),
        Message::LossLocated(fault(Place::AgentSite { agent: AgentId::from_uuid(Uuid::nil()) })),
        Message::LossLocated(fault(Place::TargetEnd { address: ip("198.18.128.10") })),
        Message::LossLocated(fault(Place::OneProtocol { address, method: Method::Udp })),
        Message::LossLocated(fault(Place::Unknown)),
        Message::LossLocated(six),
        Message::DelayLocated(LocatedFault {
            loss: None,
            added_delay_us: Some(42_300),
            direction: FaultDirection::Forward,
            ..fault(link(inside.0, inside.1))
        }),
        Message::BreakLocated(fault(link(inside.0, inside.1))),
        Message::MisroutingLocated(LocatedFault { loss: None, ..fault(link(inside.0, inside.1)) }),
    ]
}

fn paths() -> Vec<Message> {
    let counts = PathCounts { sent: 60, answered: 60, span_s: 60 };
    vec![
        Message::PathClean(counts),
        Message::NoHopAnswers(PathCounts { answered: 0, ..counts }),
        Message::TargetSilent(PathCounts { answered: 0, ..counts }),
        Message::NotMeasured,
        Message::HopsRateLimited(HopList { hops: vec![4] }),
        Message::HopsRateLimited(HopList { hops: vec![4, 7] }),
        Message::HopsSilent(HopList { hops: vec![5] }),
        Message::HopsSilent(HopList { hops: vec![5, 6] }),
    ]
}

fn failure(step: Step, why: Why, path: PathState) -> CheckFailure {
    CheckFailure {
        target: "Seat Booking".to_owned(),
        site: "Eskerry".to_owned(),
        server: Some(([198, 18, 128, 10], 443).into()),
        check: AskKind::Web,
        step,
        why,
        status: (why == Why::Status).then_some(503),
        wrong_address: false,
        path,
        elsewhere: Elsewhere { sites: 3, working: 2 },
    }
}

fn checks() -> Vec<Message> {
    let clean = PathState::Clean { sent: 60, lost: 0 };
    let faulty = |explains| PathState::Faulty { sent: 60, lost: 12, explains };
    let refused = |path| failure(Step::Connect, Why::Refused, path);
    let (target, site) = ("Seat Booking".to_owned(), "Eskerry".to_owned());
    let name = "booking.corriven.example".to_owned();
    let (old, new) = (ip("198.18.128.10"), ip("198.18.144.10"));
    let resolver = ip("198.18.48.53");
    let elsewhere = Elsewhere { sites: 1, working: 1 };
    vec![
        Message::CheckSucceeded(CheckSuccess {
            target: target.clone(),
            took_us: 61_200,
            status: Some(200),
            bytes_per_s: Some(812_000),
            name: Some(name.clone()),
            addresses: vec![old],
            path: clean,
        }),
        Message::CheckFailed(refused(clean)),
        Message::CheckMismatch(failure(Step::FirstByte, Why::ExpectsTls, PathState::Unknown)),
        Message::ServiceFailed(failure(Step::FirstByte, Why::Status, clean)),
        Message::ServiceFailed(refused(faulty(true))),
        Message::ServiceFailed(refused(faulty(false))),
        Message::ServiceFailed(CheckFailure { wrong_address: true, ..refused(clean) }),
        Message::MtuBlackHole(LargePacketLoss {
            target: "Crew Mail".to_owned(),
            site: site.clone(),
            server: Some(([198, 18, 128, 25], 25).into()),
            path: clean,
            elsewhere,
        }),
        Message::NameUnresolved(NameFailure {
            name: name.clone(),
            site: site.clone(),
            resolver: Some(resolver),
            why: Why::ResolverFailed,
        }),
        Message::NameUnresolved(NameFailure {
            name: name.clone(),
            site: site.clone(),
            resolver: None,
            why: Why::NoAnswer,
        }),
        Message::DnsStale(StaleAnswer {
            name: name.clone(),
            site: site.clone(),
            resolver,
            returned: vec![old],
            authority: ip("198.18.128.53"),
            current: vec![new],
        }),
        Message::DnsDisagree(DifferentAnswers {
            name,
            site: site.clone(),
            answers: vec![
                ResolverAnswer { resolver, addresses: vec![old], why: None },
                ResolverAnswer { resolver: new, addresses: vec![], why: Some(Why::NoAnswer) },
            ],
        }),
        Message::ServiceSlow(LateAnswer {
            target: target.clone(),
            site: site.clone(),
            first_byte_us: 3_410_000,
            usual_us: Some(120_000),
            connect_us: Some(21_000),
            path: clean,
            elsewhere,
        }),
        Message::TransferSlow(SlowTransfer {
            target,
            site,
            bytes_per_s: 24_000,
            usual_bytes_per_s: Some(800_000),
            first_byte_us: Some(41_000),
            path: clean,
        }),
    ]
}

fn hosts() -> Vec<Message> {
    let site = "Carrock Pier".to_owned();
    let interface = "eth0".to_owned();
    let change = |fact, subject: Option<&str>, before: Option<&str>, after: Option<&str>| {
        let owned = |text: Option<&str>| text.map(str::to_owned);
        let (subject, before, after) = (owned(subject), owned(before), owned(after));
        let site = "Carrock Pier".to_owned();
        Message::HostFactsChanged(HostChange { site, fact, subject, before, after })
    };
    let acted = |outcome| {
        let action = LocalAction {
            program: "restart-uplink".to_owned(),
            began_at: WallTime::from_unix_seconds(1_700_000_000),
            cut_off_s: 300,
            took_ms: 2_100,
            outcome,
            number: 1,
        };
        Message::LocalActionTaken(TakenAction { site: "Carrock Pier".to_owned(), action })
    };
    let low = LowThroughput {
        from: "Brannock Quay".to_owned(),
        to: "Dunverra".to_owned(),
        protocol: "tcp".to_owned(),
        bits_per_s: Some(3_400_000),
        limit_bits_per_s: 20_000_000,
        times: 3,
    };
    let targets = "198.18.64.1, 198.18.64.2";
    vec![
        Message::ThroughputLow(low.clone()),
        Message::ThroughputLow(LowThroughput { bits_per_s: None, ..low }),
        Message::ReceiveErrors(ReceiveErrorCounts {
            site: site.clone(),
            interface: interface.clone(),
            errors: 30,
            frames: 930,
            seconds: 10,
        }),
        Message::LinkSaturated(LinkUse {
            site: site.clone(),
            interface,
            direction: TrafficDirection::Outbound,
            used: Ratio::from_ppm(950_000),
            speed_mbit_s: 100,
            seconds: 10,
        }),
        Message::HostBusy(HostLateness { site: site.clone(), p95_us: 18_400, samples: 900 }),
        Message::AgentSilent(SilentAgent { site: site.clone(), seconds: 95 }),
        change(HostFact::Speed, Some("eth0"), Some("1000 Mb/s"), Some("100 Mb/s")),
        change(HostFact::Ipv4Gateway, None, Some("10.3.0.1"), None),
        change(HostFact::Interface, Some("tun9"), None, Some("up")),
        change(HostFact::Interface, Some("tun9"), Some("up"), None),
        change(HostFact::Duplex, Some("eth0"), Some("full duplex"), None),
        change(HostFact::Route, Some(targets), Some("eth0"), Some("tun9")),
        change(HostFact::AccessNetwork, None, Some("Fennel (AS 64501)"), Some("Low (AS 64502)")),
        acted(ActionOutcome::Succeeded),
        acted(ActionOutcome::Failed { code: Some(3) }),
        acted(ActionOutcome::Failed { code: None }),
        acted(ActionOutcome::TimedOut),
        acted(ActionOutcome::Interrupted),
        acted(ActionOutcome::NotStarted { reason: "no such file".to_owned() }),
        Message::RouteNotIntended(RouteDeviations {
            site,
            target: "Seat Booking".to_owned(),
            packets: "udp over IPv4".to_owned(),
            deviations: vec![
                RouteDeviation::Owners { taken: vec!["Low".to_owned()], intended: vec![64501] },
                RouteDeviation::TunnelMissing,
                RouteDeviation::TunnelTaken,
                RouteDeviation::DscpRewritten { sent: 46, arrived: 0 },
            ],
        }),
    ]
}

fn pairs() -> Vec<Message> {
    vec![
        Message::PairLoss(OneWayLoss {
            from: "Eskerry".to_owned(),
            to: "Dunverra".to_owned(),
            lossy: LossCounts { sent: 80, lost: 11 },
            opposite: LossCounts { sent: 69, lost: 0 },
            limit: Ratio::from_ppm(30_000),
            seconds: 80,
        }),
        Message::PairUnreachable(UnansweredPair {
            near: "Eskerry".to_owned(),
            far: "Dunverra".to_owned(),
            sent: 120,
            seconds: 120,
        }),
    ]
}

fn of_the_service() -> Vec<Message> {
    let space = DiskSpace { free_mb: 300, needed_mb: 640 };
    vec![
        Message::JudgementBehind(Backlog { commits: 512, seconds: 75 }),
        Message::CommitsSetAside(SetAsideCommits {
            commits: 1,
            error: "hop 3 has more answers than probes".to_owned(),
        }),
        Message::DutyFailing(FailingDuty { duty: "partitions".to_owned() }),
        Message::DiskLow(space),
        Message::DiskFull(space),
        Message::AgentsLate(LateAgents { late: 12, agents: 40 }),
        Message::DeliveriesFailing(FailingReceiver {
            receiver: "duty desk".to_owned(),
            deliveries: 3,
            reason: "connection refused".to_owned(),
        }),
    ]
}

fn complaints() -> Vec<Message> {
    let paths = |measured, faulty| FaultyPaths { measured, faulty };
    let facts = ComplaintFacts {
        site: "Eskerry".to_owned(),
        service: "Seat Booking".to_owned(),
        own: paths(2, 2),
        same_site: paths(4, 1),
        same_service: paths(1, 0),
        common: Some(CommonPlace {
            place: link("198.18.64.3", "198.18.64.4"),
            cause: Cause::Loss,
            naming: 2,
            of: 3,
        }),
    };
    let none = ComplaintFacts { common: None, own: paths(0, 0), ..facts.clone() };
    let clean = ComplaintFacts { common: None, own: paths(3, 0), ..facts.clone() };
    let recorded = "Resolver 198.18.48.53 is behind. Names lead astray.".to_owned();
    vec![
        Message::ComplaintNotMeasured(none),
        Message::ComplaintNetworkClean(clean),
        Message::ComplaintSite(facts.clone()),
        Message::ComplaintService(facts.clone()),
        Message::ComplaintSharedPart(facts),
        Message::NothingAttached,
        Message::Recorded(RecordedWords { words: recorded }),
    ]
}

fn samples() -> Vec<Message> {
    [places(), paths(), checks(), hosts(), pairs(), of_the_service(), complaints()].concat()
}

fn code(message: &Message) -> String {
    serde_json::to_value(message).unwrap()["code"].as_str().unwrap().to_owned()
}

#[test]
fn the_words_of_every_code() {
    let map = map();
    let one = ["Eskerry".to_owned()];
    let mut text = String::new();
    for message in samples() {
        let words = render(&message, &Context { map: &map, state: AlarmState::Open, sites: &one });
        text.push_str(&format!("{}\n  {}\n", code(&message), words.headline));
        for line in words.contact.iter().map(|contact| format!("> {contact}")).chain(words.detail) {
            text.push_str(&format!("  {line}\n"));
        }
    }
    insta::assert_snapshot!(text);
}

#[test]
fn every_headline_fits_and_a_cleared_or_shared_fault_says_so() {
    let map = map();
    let sites: Vec<String> = ["Eskerry", "Carrock Pier", "Dunverra"].map(str::to_owned).into();
    for message in samples() {
        for state in [AlarmState::Open, AlarmState::Cleared, AlarmState::Expired] {
            let words = render(&message, &Context { map: &map, state, sites: &sites });
            let length = words.headline.chars().count();
            assert!((4..=MAX_HEADLINE).contains(&length), "{}", words.headline);
            let is = |prefix| words.headline.starts_with(prefix);
            assert_eq!(is("Cleared: "), state == AlarmState::Cleared);
            assert_eq!(is("Expired: "), state == AlarmState::Expired);
        }
    }
    let failed = Message::ServiceFailed(failure(Step::Connect, Why::Refused, PathState::Unknown));
    let words = render(&failed, &Context { map: &map, state: AlarmState::Open, sites: &sites });
    assert_eq!(words.headline, "Seat Booking: connection refused from 3 sites");
}

#[test]
fn long_names_are_clipped_and_a_message_survives_both_encodings() {
    let map = OwnerMap::default();
    let long = CheckFailure {
        target: "x".repeat(10_000),
        ..failure(Step::Connect, Why::Refused, PathState::Unknown)
    };
    let words = render(
        &Message::ServiceFailed(long),
        &Context { map: &map, state: AlarmState::Cleared, sites: &[] },
    );
    assert_eq!(words.headline.chars().count(), MAX_HEADLINE);
    assert!(words.headline.ends_with('…'));
    for message in samples() {
        let bytes = itinera_model::codec::encode(&message);
        assert_eq!(itinera_model::codec::decode::<Message>(&bytes).unwrap(), message);
        let json = serde_json::to_value(&message).unwrap();
        assert_eq!(serde_json::from_value::<Message>(json).unwrap(), message);
    }
}
