//! The words of every step of a diagnosis and of conclusions, as one snapshot.

use super::*;
use itinera_model::check::{AskKind, Step, Why};
use itinera_model::diagnosis::{Conclusion, Step as DiagnosisStep, StepKind, StepResult};
use itinera_model::diagnosis_message::*;
use itinera_model::finding::{Cause, Finding, Place};
use itinera_model::path::Family;
use std::net::IpAddr;

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn link() -> LinkSeen {
    LinkSeen {
        interface: "eth0".to_owned(),
        speed_mbit_s: Some(1_000),
        half_duplex: Some(false),
        errors: 9,
        discards: 2,
        packets: 1_300,
    }
}

fn near() -> Vec<StepMessage> {
    let interface = || "eth0".to_owned();
    vec![
        StepMessage::LoopbackAnswers,
        StepMessage::LoopbackSilent,
        StepMessage::LoopbackNotTried,
        StepMessage::HostFactsUnreadable,
        StepMessage::NoInterface,
        StepMessage::InterfaceDown { interface: interface() },
        StepMessage::NoCarrier { interface: interface() },
        StepMessage::LinkErrors(link()),
        StepMessage::LinkHalfDuplex(LinkSeen { half_duplex: Some(true), ..link() }),
        StepMessage::LinkWireless(LinkSeen { speed_mbit_s: None, half_duplex: None, ..link() }),
        StepMessage::LinkTunnel(link()),
        StepMessage::LinkSlow(LinkSeen { speed_mbit_s: Some(100), ..link() }),
        StepMessage::LinkFewErrors(link()),
        StepMessage::LinkClean(link()),
        StepMessage::SelfAssignedAddress {
            interface: interface(),
            address: ip("169.254.7.7"),
            family: Family::Ipv4,
        },
        StepMessage::NoAddress { interface: interface(), family: Family::Ipv6 },
        StepMessage::NoRoute { family: Family::Ipv4 },
        StepMessage::AddressAndRoute {
            address: "10.3.0.10/24".to_owned(),
            gateway: Some(ip("10.3.0.1")),
        },
        StepMessage::AddressAndRoute { address: "10.3.0.10/24".to_owned(), gateway: None },
    ]
}

fn on_route() -> Vec<StepMessage> {
    let gateway = ip("10.3.0.1");
    let echoes = |answered| EchoCounts { sent: 8, answered, median_us: Some(1_100) };
    let resolver = |took_us| ResolverSeen { resolver: ip("198.18.48.53"), took_us };
    let answer = NameAnswer {
        resolver: ip("198.18.48.53"),
        addresses: vec![ip("198.18.144.10")],
        ttl_s: Some(30),
        authoritative: true,
        why: None,
    };
    let none = NameAnswer { addresses: Vec::new(), why: Some(Why::NoSuchName), ..answer.clone() };
    let name = || "booking.corriven.example".to_owned();
    let hops = || HopSpan { first: 1, last: 4, owners: vec!["Brackwater".to_owned()], site: true };
    let one = HopSpan { first: 5, last: 5, owners: Vec::new(), site: false };
    let place = Place::Link { from: gateway, to: ip("198.18.16.1"), silent_between: 0 };
    let finding = Finding { loss_ppm: 220_000, ..Finding::new(Cause::Loss, place, 980_000) };
    let fault = Box::new(crate::messages::of_finding(&finding));
    let ends = |last, tried| StepMessage::RouteEnds { hops: hops(), last, tried };
    vec![
        StepMessage::GatewayNotNeeded,
        StepMessage::GatewayNotProbed,
        StepMessage::GatewayAnswers { gateway, echoes: echoes(8), target_loses: false },
        StepMessage::GatewayAnswers { gateway, echoes: echoes(5), target_loses: true },
        StepMessage::GatewayAnswers { gateway, echoes: echoes(5), target_loses: false },
        StepMessage::GatewayForwardsOnly { gateway },
        StepMessage::GatewaySilent { gateway, sent: 8, on_link: true },
        StepMessage::GatewaySilent { gateway, sent: 8, on_link: false },
        StepMessage::NoResolver,
        StepMessage::Resolvers { resolvers: vec![resolver(Some(9_000))] },
        StepMessage::Resolvers { resolvers: vec![resolver(None), resolver(Some(9_000))] },
        StepMessage::NameAnswers { name: name(), answers: vec![answer], host_file: None },
        StepMessage::NameAnswers { name: name(), answers: vec![none], host_file: Some(gateway) },
        StepMessage::NameAnswers { name: name(), answers: Vec::new(), host_file: None },
        StepMessage::HopsNotProbed { reason: Some("not permitted".to_owned()) },
        StepMessage::HopsNotProbed { reason: None },
        StepMessage::FaultBegins { hops: hops(), fault, by_schedule: true },
        ends(None, true),
        ends(Some(3), true),
        ends(Some(3), false),
        StepMessage::HopsSilent(one.clone()),
        StepMessage::HopsCarryFault(one),
        StepMessage::HopsClean(hops()),
    ]
}

fn at_target() -> Vec<StepMessage> {
    let echo = |answered, connected, carried| StepMessage::TargetEcho {
        echoes: EchoCounts { sent: 12, answered, median_us: None },
        connected,
        carried,
    };
    let closed = |why, answers_echo| StepMessage::PortClosed { port: Some(443), why, answers_echo };
    let certificate = || {
        Some(CertificateSeen {
            version: "TLS 1.3".to_owned(),
            name: Some("booking.corriven.example".to_owned()),
            expires: Some("2027-01-15".to_owned()),
        })
    };
    let seen = |check, status| ApplicationSeen {
        check,
        status,
        greeting_us: None,
        first_byte_us: Some(41_000),
        transfer_us: Some(220_000),
        bytes_per_s: Some(812_000),
    };
    let fails = |status, said: Option<&str>| StepMessage::ApplicationFails {
        step: Step::FirstByte,
        why: Why::Status,
        status,
        said: said.map(str::to_owned),
    };
    let echoes = EchoCounts { sent: 6, answered: 6, median_us: None };
    vec![
        echo(12, true, false),
        echo(0, true, false),
        echo(0, false, false),
        echo(9, true, true),
        echo(11, true, false),
        StepMessage::PortOpen { port: Some(443), took_us: 21_000 },
        closed(None, false),
        closed(Some(Why::Refused), true),
        closed(Some(Why::NoAnswer), true),
        closed(Some(Why::NoAnswer), false),
        closed(Some(Why::NoAddress), false),
        StepMessage::TlsFails { why: Why::CertificateExpired, certificate: certificate() },
        StepMessage::TlsWorks { certificate: certificate(), expires_soon: true },
        StepMessage::TlsWorks { certificate: None, expires_soon: false },
        fails(Some(503), None),
        fails(None, Some("421 too busy")),
        StepMessage::ApplicationLate(seen(AskKind::Web, Some(200))),
        StepMessage::ApplicationSlow(seen(AskKind::Web, Some(200))),
        StepMessage::ApplicationWorks(seen(AskKind::Mail, None)),
        StepMessage::ApplicationWorks(seen(AskKind::Greeting, None)),
        StepMessage::ReturnToOneSource { with: ip("10.3.0.10"), without: ip("10.99.0.1"), echoes },
        StepMessage::ReturnNotMeasured,
        StepMessage::ReturnCounted { sent: 600, lost: 30 },
    ]
}

#[test]
fn the_words_of_every_step() {
    let map = OwnerMap::default();
    let all = [near(), on_route(), at_target()].concat();
    let mut text = String::new();
    for message in &all {
        let code = serde_json::to_value(message).unwrap()["code"].clone();
        let words = step(message, &map);
        assert!(words.ends_with('.'), "{words}");
        text.push_str(&format!("{}: {words}\n", code.as_str().unwrap()));
        let bytes = itinera_model::codec::encode(message);
        assert_eq!(&itinera_model::codec::decode::<StepMessage>(&bytes).unwrap(), message);
    }
    insta::assert_snapshot!(text);
}

#[test]
fn the_words_of_conclusions() {
    let map = OwnerMap::default();
    let steps = [DiagnosisStep {
        kind: StepKind::Resolvers,
        found: StepResult::Broken,
        message: StepMessage::NoResolver,
    }];
    let mut text = String::new();
    for (broken, advice, route) in [
        (None, Advice::ReportProblem, StepResult::Clean),
        (Some(StepKind::OwnLink), Advice::CheckLink, StepResult::Unknown),
        (Some(StepKind::OwnAddress), Advice::CorrectHost, StepResult::Unknown),
        (Some(StepKind::Gateway), Advice::CheckSite, StepResult::Unknown),
        (Some(StepKind::Resolvers), Advice::ReplaceResolver, StepResult::Clean),
        (Some(StepKind::Name), Advice::ReportName, StepResult::Broken),
        (Some(StepKind::Application), Advice::AskForMtu, StepResult::Clean),
        (Some(StepKind::ProviderEdge), Advice::CallProvider, StepResult::Broken),
        (Some(StepKind::Tls), Advice::ReportService, StepResult::Clean),
        (Some(StepKind::TargetConnect), Advice::ReportService, StepResult::Broken),
    ] {
        let conclusion = Conclusion {
            target: "Seat Booking".to_owned(),
            broken,
            also_broken: broken.map(|_| StepKind::ReturnRoute).into_iter().collect(),
            excluded: broken.map(|_| StepKind::OwnStack).into_iter().collect(),
            route,
            advice,
        };
        let steps = if broken.is_some() { &steps[..] } else { &[] };
        let words = super::conclusion(&conclusion, steps, &map);
        assert!(words.headline.chars().count() <= MAX_HEADLINE);
        text.push_str(&format!("{}\n", words.sentences().join("\n  ")));
    }
    insta::assert_snapshot!(text);
}
