//! Answers damaged in every form that a bounded search finds: no panic, nothing taken for what it is
//! not, no growth. On stable Rust, in CI; `fuzz/` has the same doors for a coverage-guided fuzzer.
#![allow(clippy::unwrap_used, reason = "tests may fail loudly")]

use itinera_model::path::Method;
use itinera_model::unit::{HopLimit, Micros, Tick};
use itinera_probe::two_way::{OwnClock, Reflector, Sender, SenderConfig, Session};
use itinera_probe::{Budget, Engine, HopSweep, Input, ProbeSpec, SweepConfig};
use itinera_wire::extension::{self, Interface, InterfaceRole, Label, Object};
use itinera_wire::icmp::Quote;
use itinera_wire::{Addresses, Icmp, IpHeader};
use std::net::{Ipv4Addr, Ipv6Addr};

const FOUR: Addresses =
    Addresses::V4 { source: Ipv4Addr::new(10, 1, 0, 2), destination: Ipv4Addr::new(198, 18, 9, 9) };
const SIX: Addresses = Addresses::V6 {
    source: Ipv6Addr::new(0xfd00, 1, 0, 0, 0, 0, 0, 2),
    destination: Ipv6Addr::new(0x2001, 0xdb8, 9, 0, 0, 0, 0, 9),
};
const ROUTER: Ipv6Addr = Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1);

/// An engine with its first probe in flight, and that probe.
fn probed(addresses: Addresses, method: Method) -> (HopSweep, Vec<u8>) {
    let config = SweepConfig {
        probe: ProbeSpec {
            addresses,
            method,
            destination_port: 443,
            port_answers: false,
            dscp: 0,
            size_bytes: 64,
            dont_fragment: false,
            secret: 5,
        },
        source_ports: vec![40_001],
        interval: Micros::from_millis(1_000),
        probes_per_hop: 1,
        timeout: Micros::from_millis(300),
        first_hop: HopLimit::try_new(1).unwrap(),
        last_hop: HopLimit::try_new(8).unwrap(),
        full_every: 1,
        rounds: Some(1),
        seed: 7,
    };
    let mut engine = HopSweep::new(config, Tick::ZERO).unwrap().at_once(Tick::ZERO);
    let mut probe = Vec::new();
    engine.handle(Tick::ZERO, Input::Deadline);
    let token = engine.poll_transmit(Tick::ZERO, &mut Budget::unbounded(), &mut probe).unwrap();
    engine.handle(Tick::ZERO, Input::Sent { token, stamp: Tick::ZERO });
    (engine, probe)
}

/// A router's answer to a probe, with everything a router may add.
fn answer(addresses: Addresses, probe: &[u8]) -> Vec<u8> {
    let router = match addresses {
        Addresses::V4 { .. } => Ipv4Addr::new(198, 18, 0, 1).into(),
        Addresses::V6 { .. } => ROUTER.into(),
    };
    let back = Addresses::try_new(router, addresses.source()).unwrap();
    let label = Label { label: 9, traffic_class: 1, bottom: true, ttl: 2 };
    let interface = Interface {
        role: InterfaceRole::Incoming,
        index: Some(3),
        address: Some(router),
        name: Some(b"xe-0/0/1".to_vec()),
        mtu: Some(1_500),
    };
    let mut extensions = Vec::new();
    extension::emit(&[Object::Labels(vec![label]), Object::Interface(interface)], &mut extensions);
    let quote = Quote { datagram: probe, extensions: &extensions };
    let (mut message, mut packet) = (Vec::new(), Vec::new());
    Icmp::TimeExceeded { code: 0, quote }.emit(back, &mut message);
    IpHeader::new(back, back.icmp(), 60, 0, 0, 0).emit(&message, &mut packet);
    packet
}

/// Every truncation, and at every octet a few values.
fn mutants(whole: &[u8]) -> Vec<Vec<u8>> {
    let mut mutants: Vec<Vec<u8>> = (0..=whole.len()).map(|end| whole[..end].to_vec()).collect();
    for at in 0..whole.len() {
        for value in [0, 1, 0x7f, 0x80, 0xff, whole[at] ^ 1, whole[at].wrapping_add(4)] {
            let mut mutant = whole.to_vec();
            mutant[at] = value;
            mutants.push(mutant);
        }
    }
    mutants
}

#[test]
fn no_damage_to_an_answer_does_harm() {
    let mut understood = 0;
    for (addresses, method) in [
        (FOUR, Method::IcmpEcho),
        (FOUR, Method::Udp),
        (FOUR, Method::TcpSyn),
        (SIX, Method::Udp),
        (SIX, Method::TcpSyn),
    ] {
        let (_, probe) = probed(addresses, method);
        for mutant in mutants(&answer(addresses, &probe)) {
            let (mut engine, _) = probed(addresses, method);
            let now = Tick::from_millis(5);
            engine.handle(now, Input::Datagram { stamp: now, packet: &mutant });
            // Past the checksums, as raw sockets give it.
            if let (Addresses::V6 { .. }, Some(payload)) =
                (addresses, mutant.get(addresses.header_len()..))
            {
                let (protocol, from, hop_limit) = (58, ROUTER.into(), None);
                let input = Input::Payload {
                    stamp: now,
                    protocol,
                    from,
                    hop_limit,
                    traffic_class: None,
                    payload,
                };
                engine.handle(now, input);
            }
            engine.handle(now, Input::Stop);
            let round = engine.poll_event().unwrap();
            let answers: u32 = round.hops.iter().map(|hop| u32::from(hop.answers())).sum();
            assert!(answers <= 1 && round.hops.len() <= 8, "{round:?}");
            assert!(round.reading.is_bounded());
            understood += answers;
        }
    }
    assert!(understood > 100, "damage that does not matter is borne: {understood}");
}

#[test]
fn no_damage_to_a_packet_between_agents_does_harm() {
    let clock = OwnClock::default();
    let config = SenderConfig {
        addresses: FOUR,
        ports: (59_862, 59_862),
        session: 3,
        key: [5; 32],
        dscp: 46,
        size_bytes: 180,
        interval: Micros::from_millis(20),
        packets: 5,
        regular: false,
        timeout: Micros::from_millis(300),
        clock,
        seed: 1,
    };
    let session = Session {
        session: 3,
        key: [5; 32],
        interval: Micros::from_millis(20),
        opens_to: None,
        source: FOUR.destination(),
        dscp: 46,
        size_bytes: 180,
    };
    let now = Tick::from_millis(40);
    let mut budget = Budget::unbounded();
    let sent = |budget: &mut Budget| {
        let mut sender = Sender::new(config.clone(), Tick::ZERO).unwrap();
        let mut packet = Vec::new();
        sender.poll_transmit(now, budget, &mut packet).unwrap();
        (sender, packet)
    };
    let answer = |packet: &[u8], budget: &mut Budget| {
        let mut reflector = Reflector::new(59_862, clock);
        reflector.set_sessions(vec![session.clone()], Tick::ZERO);
        let known = reflector.handle(now, Input::Datagram { stamp: now, packet });
        let mut answer = Vec::new();
        reflector.poll_transmit(now, budget, &mut answer).map(|_| answer).filter(|_| known)
    };
    let (_, whole) = sent(&mut budget);
    let answered = answer(&whole, &mut budget).unwrap();
    let mut taken = [0, 0];
    for mutant in mutants(&whole) {
        taken[0] += usize::from(answer(&mutant, &mut budget).is_some());
    }
    for mutant in mutants(&answered) {
        let (mut sender, _) = sent(&mut budget);
        taken[1] +=
            usize::from(sender.handle(now, Input::Datagram { stamp: now, packet: &mutant }));
    }
    // Of some 1,500 each: the packet itself, which some values leave as it was, and damage to what
    // no code covers: IP and UDP headers that still name the session's ports, flags and padding.
    for taken in taken {
        assert!((1..900).contains(&taken), "{taken}");
    }
}
