//! The sweep against an imaginary path in virtual time, with bounded steps.

use super::*;
use itinera_model::path::Method;
use itinera_model::unit::HopLimit;
use itinera_wire::{Addresses, Icmp, IpHeader, icmp};
use proptest::prelude::*;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

const FOUR: Addresses =
    Addresses::V4 { source: Ipv4Addr::new(10, 1, 0, 2), destination: Ipv4Addr::new(198, 18, 9, 9) };
const SIX: Addresses = Addresses::V6 {
    source: Ipv6Addr::new(0xfd00, 1, 0, 0, 0, 0, 0, 2),
    destination: Ipv6Addr::new(0x2001, 0xdb8, 9, 0, 0, 0, 0, 9),
};

/// Every way of probing.
const FLOWS: [(Addresses, Method); 4] =
    [(FOUR, Method::IcmpEcho), (FOUR, Method::Udp), (SIX, Method::IcmpEcho), (SIX, Method::Udp)];

fn config(method: Method) -> SweepConfig {
    config_of(FOUR, method)
}

fn config_of(addresses: Addresses, method: Method) -> SweepConfig {
    SweepConfig {
        addresses,
        method,
        source_port: 40_001,
        destination_port: 33_500,
        dscp: 46,
        size_bytes: 64,
        interval: Micros::from_millis(1_000),
        probes_per_hop: 2,
        timeout: Micros::from_millis(300),
        last_hop: HopLimit::try_new(30).unwrap(),
        seed: 7,
    }
}

/// What the imaginary path does with a probe: answers as (delay, number of the router, message kind).
type Behaviour<'a> = dyn FnMut(u8, u64) -> Vec<(u64, u8, Reply)> + 'a;

#[derive(Clone, Copy)]
enum Reply {
    Exceeded,
    Refused(u8),
    FromTarget,
}

/// The address of a router by its number; 0 is the target itself.
fn router(addresses: Addresses, number: u8) -> IpAddr {
    match (addresses, number) {
        (_, 0) => addresses.destination(),
        (Addresses::V4 { .. }, number) => Ipv4Addr::new(198, 18, 0, number).into(),
        (Addresses::V6 { .. }, number) => {
            Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, number.into()).into()
        }
    }
}

fn answer(probe: &[u8], number: u8, reply: Reply) -> Vec<u8> {
    let (header, transport) = IpHeader::parse(probe).unwrap();
    let addresses = header.addresses();
    let quote = &probe[..addresses.header_len() + 8];
    let back = Addresses::try_new(router(addresses, number), addresses.source()).unwrap();
    let mut message = Vec::new();
    match (reply, header.is_icmp()) {
        (Reply::Exceeded, _) => Icmp::TimeExceeded { code: 0, quote }.emit(back, &mut message),
        (Reply::Refused(code), _) => Icmp::Unreachable { code, quote }.emit(back, &mut message),
        (Reply::FromTarget, true) => {
            let Icmp::EchoRequest { id, seq, data } = Icmp::parse(addresses, transport).unwrap()
            else {
                panic!("a probe that is no echo request");
            };
            Icmp::EchoReply { id, seq, data }.emit(back, &mut message);
        }
        (Reply::FromTarget, false) => {
            let code = icmp::port_unreachable(addresses);
            Icmp::Unreachable { code, quote }.emit(back, &mut message);
        }
    }
    let mut packet = Vec::new();
    IpHeader::new(back, back.icmp(), 60, 0, 0, 0).emit(&message, &mut packet);
    packet
}

/// Drives an engine for `seconds` of virtual time; gives its rounds and every packet sent.
fn drive(
    config: SweepConfig,
    seconds: u64,
    path: &mut Behaviour<'_>,
) -> (Vec<Sweep>, Vec<Vec<u8>>) {
    let mut engine = HopSweep::new(config, Tick::ZERO).unwrap();
    let mut inbox: BTreeMap<(Tick, usize), Vec<u8>> = BTreeMap::new();
    let (mut rounds, mut sent, mut buffer) = (Vec::new(), Vec::new(), Vec::new());
    let end = Tick::from_millis(seconds * 1_000);
    for step in 0..100_000 {
        let due = inbox.keys().next().map(|(at, _)| *at);
        let now = [engine.poll_deadline(), due].into_iter().flatten().min().unwrap();
        if now > end {
            engine.handle(end, Input::Stop);
            rounds.extend(std::iter::from_fn(|| engine.poll_event()));
            return (rounds, sent);
        }
        while let Some(entry) = inbox.first_entry().filter(|entry| entry.key().0 <= now) {
            let packet = entry.remove();
            engine.handle(now, Input::Datagram { stamp: now, packet: &packet });
        }
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, &mut buffer) {
            engine.handle(now, Input::Sent { token, stamp: now });
            let (header, _) = IpHeader::parse(&buffer).unwrap();
            for (n, (delay_ms, responder, reply)) in
                path(header.hop_limit(), sent.len() as u64).into_iter().enumerate()
            {
                let at = now.plus_nanos(delay_ms * 1_000_000);
                inbox.insert((at, step * 8 + n), answer(&buffer, responder, reply));
            }
            sent.push(buffer.clone());
        }
        rounds.extend(std::iter::from_fn(|| engine.poll_event()));
    }
    panic!("the engine does not come to rest");
}

fn clean(ttl: u8, _: u64) -> Vec<(u64, u8, Reply)> {
    match ttl {
        1..=3 => vec![(u64::from(ttl) * 5, ttl, Reply::Exceeded)],
        _ => vec![(20, 0, Reply::FromTarget)],
    }
}

#[test]
fn a_clean_path_is_swept_up_to_the_target_by_every_method_and_version() {
    for (addresses, method) in FLOWS {
        let (rounds, sent) = drive(config_of(addresses, method), 10, &mut clean);
        assert!((9..=11).contains(&rounds.len()), "{} rounds", rounds.len());
        for (number, round) in rounds.iter().enumerate().take(rounds.len() - 1) {
            assert_eq!(round.number, number as u64);
            assert_eq!(round.reached_at, Some(4));
            assert_eq!(round.hops.len(), 4);
            assert!(round.hops.iter().all(|hop| hop.answers() == 2 && hop.sent == 2));
            assert_eq!(round.hops[2].rtt, vec![Micros::from_millis(15); 2]);
        }
        let beyond = sent.iter().skip(40).filter(|p| IpHeader::parse(p).unwrap().0.hop_limit() > 4);
        assert_eq!(beyond.count(), 0, "probes go beyond a target that was found");
    }
}

#[test]
fn every_probe_of_a_path_is_one_flow() {
    for (addresses, method) in FLOWS {
        let (_, sent) = drive(config_of(addresses, method), 5, &mut clean);
        let flow = |packet: &[u8]| {
            let (header, transport) = IpHeader::parse(packet).unwrap();
            let ports: [u8; 4] = transport[..4].try_into().unwrap();
            // The octets of version, traffic class and flow label.
            let first: [u8; 4] = match header.addresses() {
                Addresses::V4 { .. } => [packet[0], packet[1], 0, 0],
                Addresses::V6 { .. } => packet[..4].try_into().unwrap(),
            };
            (first, header.addresses(), header.protocol(), ports, packet.len())
        };
        // For ICMP these four octets are type, code and checksum: constant as well.
        assert!(sent.windows(2).all(|pair| flow(&pair[0]) == flow(&pair[1])));
    }
}

#[test]
fn gaps_are_jittered() {
    let mut at = Vec::new();
    let mut engine = HopSweep::new(config(Method::Udp), Tick::ZERO).unwrap();
    let mut buffer = Vec::new();
    for _ in 0..60 {
        let now = engine.poll_deadline().unwrap();
        engine.handle(now, Input::Deadline);
        if engine.poll_transmit(now, &mut buffer).is_some() {
            at.push(now);
        }
    }
    let gaps: std::collections::BTreeSet<u32> =
        at.windows(2).map(|pair| pair[1].since(pair[0]).as_micros()).collect();
    assert!(gaps.len() > 20, "only {} different gaps", gaps.len());
}

#[test]
fn late_duplicate_and_refusing_answers_are_kept_apart() {
    let mut path = |ttl: u8, _: u64| match ttl {
        1 => vec![(400, 1, Reply::Exceeded)],
        2 => vec![(5, 2, Reply::Exceeded), (6, 2, Reply::Exceeded)],
        3 => vec![(5, 3, Reply::Refused(13))],
        _ => vec![(20, 0, Reply::FromTarget)],
    };
    let (rounds, _) = drive(config(Method::IcmpEcho), 6, &mut path);
    let hops = &rounds[1].hops;
    assert_eq!((hops[0].answers(), hops[0].late), (0, 2));
    assert_eq!((hops[1].answers(), hops[1].duplicate), (2, 2));
    assert_eq!((hops[2].answers(), hops[2].unreachable.as_slice()), (0, &[(13, 2)][..]));
    assert!(hops.iter().all(|hop| hop.sent == 2), "every probe is in exactly one of these counts");
}

#[test]
fn answers_without_their_ip_header_are_read_in_ipv6_only() {
    for (addresses, method, heard) in
        [(SIX, Method::IcmpEcho, 1), (SIX, Method::Udp, 1), (FOUR, Method::Udp, 0)]
    {
        let mut engine = HopSweep::new(config_of(addresses, method), Tick::ZERO).unwrap();
        let now = engine.poll_deadline().unwrap();
        engine.handle(now, Input::Deadline);
        let mut probe = Vec::new();
        let token = engine.poll_transmit(now, &mut probe).unwrap();
        engine.handle(now, Input::Sent { token, stamp: now });
        let packet = answer(&probe, 1, Reply::Exceeded);
        let message = &packet[addresses.header_len()..];
        let stamp = now.plus_nanos(3_000_000);
        let from = Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1);
        engine.handle(stamp, Input::Message { stamp, from, message });
        engine.handle(stamp, Input::Stop);
        let round = engine.poll_event().unwrap();
        assert_eq!(round.hops[0].answers(), heard, "{addresses:?} {method:?}");
    }
}

#[test]
fn a_packet_that_never_left_is_not_lost() {
    let mut engine = HopSweep::new(config(Method::Udp), Tick::ZERO).unwrap();
    let mut buffer = Vec::new();
    for _ in 0..200 {
        let now = engine.poll_deadline().unwrap();
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, &mut buffer) {
            engine.handle(now, Input::NotSent { token });
        }
    }
    engine.handle(Tick::from_millis(9_999), Input::Stop);
    let round = engine.poll_event().unwrap();
    assert!(round.hops.iter().all(|hop| hop.sent == 0 && hop.answers() == 0));
}

#[test]
fn a_longer_way_is_followed() {
    let mut path = |ttl: u8, nth: u64| match (ttl, nth > 60) {
        (1..=3, _) => vec![(5, ttl, Reply::Exceeded)],
        (4..=5, true) => vec![(8, ttl, Reply::Exceeded)],
        _ => vec![(20, 0, Reply::FromTarget)],
    };
    let (rounds, _) = drive(config(Method::IcmpEcho), 20, &mut path);
    let last = &rounds[rounds.len() - 2];
    assert_eq!(last.reached_at, Some(6));
    assert_eq!(last.route.hops[4], Some(router(FOUR, 5)));
}

#[test]
fn a_target_that_never_answers_is_swept_a_little_beyond_the_deepest_answer() {
    let mut path = |ttl: u8, _: u64| match ttl {
        1..=3 => vec![(5, ttl, Reply::Exceeded)],
        _ => vec![],
    };
    let (rounds, _) = drive(config(Method::IcmpEcho), 6, &mut path);
    assert_eq!(rounds[2].hops.len(), 8);
    assert_eq!(rounds[2].reached_at, None);
}

proptest! {
    #[test]
    fn hostile_octets_change_nothing(packets in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..80), 0..20)) {
        let mut engine = HopSweep::new(config(Method::Udp), Tick::ZERO).unwrap();
        for packet in &packets {
            engine.handle(Tick::ZERO, Input::Datagram { stamp: Tick::ZERO, packet });
        }
        prop_assert_eq!(engine.strays(), 0);
        prop_assert!(engine.poll_event().is_none());
    }

    #[test]
    fn every_number_begun_is_given_exactly_once(seed: u64, loss in 0u64..4, seconds in 1u64..8) {
        let mut path = |ttl: u8, nth: u64| if loss > 0 && nth.wrapping_mul(seed | 1) >> 61 < loss {
            vec![]
        } else {
            clean(ttl, nth)
        };
        let (rounds, _) = drive(SweepConfig { seed, ..config(Method::Udp) }, seconds, &mut path);
        let numbers: Vec<u64> = rounds.iter().map(|round| round.number).collect();
        prop_assert_eq!(numbers, (0..rounds.len() as u64).collect::<Vec<_>>());
    }
}
