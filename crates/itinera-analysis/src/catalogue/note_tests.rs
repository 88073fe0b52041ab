//! The words of every note, as one snapshot.

use super::*;
use itinera_model::ensemble::Balancing;
use itinera_model::finding::{FaultDirection, LossCounts, Place};
use itinera_model::message::{LocatedFault, LossEstimate, RecordedWords};
use itinera_model::note::*;
use itinera_model::path::Family;
use itinera_model::path_mtu::MtuLimit;
use itinera_model::self_alarm::DiskSpace;
use itinera_model::throughput::By;
use itinera_model::two_way::Fitness;
use itinera_model::unit::Ratio;
use std::net::IpAddr;

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn hop(hop: u16) -> HopAt {
    HopAt { hop, address: (hop != 2).then(|| IpAddr::from([198, 18, 0, hop.to_be_bytes()[1]])) }
}

fn route_notes() -> Vec<Note> {
    let rewritten = |after| RewrittenDscp { seen_at: hop(3), after, before: 46, now: 0 };
    let labels = |labels: &[u32]| LabelStack { seen_at: hop(4), labels: labels.to_vec() };
    let refused = |by, count| Refusals { by, family: Family::Ipv4, icmp_code: 13, count };
    let enumerated = |members| Enumeration { members, missed: Ratio::from_ppm(50_000), probes: 96 };
    let balancer = |address, balancing| LoadBalancer {
        hop: 3,
        address,
        balancing,
        next: vec![ip("198.18.0.3"), ip("198.18.0.4")],
    };
    let mtu = |limit| Note::PathMtu(FoundMtu { mtu_bytes: 1_400, limit });
    let behind = |after_hop, after: Option<&str>| {
        mtu(MtuLimit::Silent { after_hop, after: after.map(str::to_owned) })
    };
    vec![
        Note::DscpRewritten(rewritten(None)),
        Note::DscpRewritten(rewritten(Some(hop(2)))),
        Note::SourceTranslated(TranslatedSource { seen_at: hop(1), source: ip("100.64.0.7") }),
        Note::HopsHidden(HiddenHops { seen_at: hop(2), hidden: 1 }),
        Note::HopsHidden(HiddenHops { seen_at: hop(3), hidden: 2 }),
        Note::MplsLabels(labels(&[24_001])),
        Note::MplsLabels(labels(&[24_001, 17])),
        Note::PortOpen(hop(4)),
        Note::PortRefused(hop(4)),
        Note::PortAnswers(hop(4)),
        Note::ProbesRefused(refused(Some(ip("198.18.0.1")), 4)),
        Note::ProbesRefused(refused(None, 1)),
        Note::SingleRoute(enumerated(1)),
        Note::MemberRoutes(enumerated(4)),
        Note::FlowsInTurn(FlowCount { flows: 8 }),
        Note::TrafficBalanced(balancer(Some(ip("198.18.0.2")), Balancing::PerFlow)),
        Note::TrafficBalanced(balancer(None, Balancing::PerPacket)),
        Note::FlowLimitReached,
        Note::PathMtuUnknown,
        mtu(MtuLimit::NotReached),
        mtu(MtuLimit::OwnInterface),
        mtu(MtuLimit::Reported { by: ip("198.18.0.3"), stated_bytes: 1_400 }),
        behind(0, None),
        behind(3, None),
        behind(3, Some("198.18.0.3")),
        Note::LargerUnanswered(SizePair { small_bytes: 64, large_bytes: 1_500 }),
        Note::LargerSlower(SizeDelay { small_bytes: 64, large_bytes: 1_500, longer_us: 1_230 }),
    ]
}

fn watch_notes() -> Vec<Note> {
    let worst = Message::LossLocated(LocatedFault {
        place: Place::Link { from: ip("198.18.0.1"), to: ip("198.18.0.2"), silent_between: 0 },
        direction: FaultDirection::Undetermined,
        loss: Some(LossEstimate { ratio: Ratio::from_ppm(130_000), low: None, high: None }),
        added_delay_us: None,
        confidence: Ratio::from_ppm(980_000),
        paths: 1,
        both_versions: false,
        indistinguishable: Vec::new(),
        reasons: Vec::new(),
    });
    vec![
        Note::NothingMeasured,
        Note::TargetLoss(TargetLoss { rounds: 180, sent: 900, lost: 120 }),
        Note::TargetDelay(DelayQuantiles { min_us: 900, median_us: 2_100, p95_us: 1_200_000 }),
        Note::NothingAnswered,
        Note::RoutesUsed(RouteCount { routes: 2 }),
        Note::WorstFinding(Box::new(worst)),
        Note::NoFaultLocated,
    ]
}

fn pair_notes() -> Vec<Note> {
    let (near, far) = ("Eskerry".to_owned(), "Dunverra".to_owned());
    let (from, to) = (near.clone(), far.clone());
    let loss = |forward_lost: u32, return_lost: u32| PairLoss {
        near: near.clone(),
        far: far.clone(),
        forward: LossCounts { sent: 300, lost: forward_lost },
        return_: LossCounts { sent: 288, lost: return_lost },
    };
    let rating = |fitness| VoiceRating {
        from: from.clone(),
        to: to.clone(),
        fitness,
        r: 84.2,
        mos: 4.2,
        delay_ms: 61.4,
        loss_ratio: 0.012,
        burst_ratio: 1.4,
    };
    vec![
        Note::DiskLow(DiskSpace { free_mb: 1_900, needed_mb: 2_560 }),
        Note::DiskFull(DiskSpace { free_mb: 500, needed_mb: 640 }),
        Note::NothingExchanged,
        Note::PairUnreachable(PairCounts { near: near.clone(), far: far.clone(), sent: 100 }),
        Note::PairLossNone(loss(0, 0)),
        Note::PairLossForward(loss(12, 0)),
        Note::PairLossReturn(loss(0, 12)),
        Note::PairLossBoth(loss(12, 12)),
        Note::DirectionUnknown(PacketCount { packets: 1 }),
        Note::DirectionUnknown(PacketCount { packets: 100 }),
        Note::PairDscpRewritten(PairDscp {
            from: from.clone(),
            to: to.clone(),
            sent: 46,
            arrived: 0,
        }),
        Note::PacketsDisordered(Disorder {
            from: from.clone(),
            to: to.clone(),
            duplicated: 3,
            reordered: 7,
            arrived: 300,
        }),
        Note::ClockSet,
        Note::ClocksNotSynchronised,
        Note::VoiceRated(rating(Fitness::Fit)),
        Note::VoiceRated(rating(Fitness::Strained)),
        Note::VoiceRated(rating(Fitness::Unfit)),
    ]
}

fn throughput_notes() -> Vec<Note> {
    let (from, to) = ("Eskerry".to_owned(), "Dunverra".to_owned());
    let measured = |by, rate_bit_s, least_bit_s, packets, lost| {
        let (from, to) = (from.clone(), to.clone());
        let all = MeasuredThroughput { from, to, by, rate_bit_s, least_bit_s, packets, lost };
        Note::ThroughputMeasured(all)
    };
    vec![
        Note::ThroughputLate,
        Note::ThroughputWaiting,
        Note::ThroughputFailed(FailedThroughput {
            from: from.clone(),
            to: to.clone(),
            by: By::Tcp,
            cause: "connection refused".to_owned(),
        }),
        measured(By::Tcp, None, None, 0, 0),
        measured(By::Udp, Some(8_400_000), None, 700, 12),
        measured(By::Tcp, Some(8_400_000), Some(10_000_000), 0, 0),
        measured(By::Tcp, Some(12_000_000), Some(10_000_000), 0, 0),
    ]
}

fn host_notes() -> Vec<Note> {
    let name = || InterfaceName { interface: "eth0".to_owned() };
    let tunnel = |prefixes: &[&str], targets: &[&str]| {
        let [prefixes, targets] =
            [prefixes, targets].map(|all| all.iter().map(|one| (*one).to_owned()).collect());
        Note::TunnelInterface(TunnelUse { interface: "tun0".to_owned(), prefixes, targets })
    };
    vec![
        Note::NoHostFacts,
        Note::NoCarrier(name()),
        Note::WirelessInterface(name()),
        Note::HalfDuplex(name()),
        Note::LowSpeed(InterfaceSpeed { interface: "eth0".to_owned(), mbit_s: 100 }),
        tunnel(&[], &[]),
        tunnel(&[], &["Crew Mail"]),
        tunnel(&["10.50.0.0/16"], &[]),
        tunnel(&["10.50.0.0/16"], &["Crew Mail"]),
        Note::NoResolver,
        Note::NoGateway,
        Note::AttachedTo(Attachment {
            interface: "eth0".to_owned(),
            system: "switch-3".to_owned(),
            port: "port 17".to_owned(),
        }),
        Note::AccessNetwork(NetworkName { as_number: 64502, name: "Lowtide Mobile".to_owned() }),
        Note::BetterGateway(GatewayPair {
            better: ip("10.0.0.1"),
            interface: "eth0".to_owned(),
            better_us: 2_000,
            in_use: ip("10.8.0.1"),
            in_use_us: 45_000,
        }),
        Note::Recorded(RecordedWords { words: "No fault was located.".to_owned() }),
    ]
}

fn samples() -> Vec<Note> {
    [route_notes(), watch_notes(), pair_notes(), throughput_notes(), host_notes()].concat()
}

#[test]
fn the_words_of_every_note() {
    let map = OwnerMap::default();
    let context = Context { map: &map, state: AlarmState::Open, sites: &[] };
    let mut text = String::new();
    for sample in samples() {
        let json = serde_json::to_value(&sample).unwrap();
        let code = json["code"].as_str().unwrap();
        text.push_str(&format!("{code}\n  {}\n", note(&sample, &context)));
        assert_eq!(serde_json::from_value::<Note>(json.clone()).unwrap(), sample);
    }
    insta::assert_snapshot!(text);
}
