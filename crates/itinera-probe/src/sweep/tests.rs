//! The sweep against an imaginary path in virtual time, with bounded steps.

use super::*;
use itinera_model::path::Method;
use itinera_model::unit::HopLimit;
use itinera_wire::{Icmpv4, Ipv4Header, icmpv4, ipv4};
use proptest::prelude::*;
use std::net::Ipv4Addr;

const SOURCE: Ipv4Addr = Ipv4Addr::new(10, 1, 0, 2);
const TARGET: Ipv4Addr = Ipv4Addr::new(198, 18, 9, 9);

fn config(method: Method) -> SweepConfig {
    SweepConfig {
        source: SOURCE,
        destination: TARGET,
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

/// What the imaginary path does with a probe: answers as (delay, responder, message kind).
type Behaviour<'a> = dyn FnMut(u8, u64) -> Vec<(u64, Ipv4Addr, Reply)> + 'a;

#[derive(Clone, Copy)]
enum Reply {
    Exceeded,
    Refused(u8),
    FromTarget,
}

fn router(ttl: u8) -> Ipv4Addr {
    Ipv4Addr::new(198, 18, 0, ttl)
}

fn answer(probe: &[u8], responder: Ipv4Addr, reply: Reply) -> Vec<u8> {
    let (header, transport) = Ipv4Header::parse(probe).unwrap();
    let quote = &probe[..28];
    let mut message = Vec::new();
    match (reply, header.protocol) {
        (Reply::Exceeded, _) => Icmpv4::TimeExceeded { code: 0, quote }.emit(&mut message),
        (Reply::Refused(code), _) => Icmpv4::Unreachable { code, quote }.emit(&mut message),
        (Reply::FromTarget, ipv4::ICMP) => {
            let Icmpv4::EchoRequest { id, seq, data } = Icmpv4::parse(transport).unwrap() else {
                panic!("a probe that is no echo request");
            };
            Icmpv4::EchoReply { id, seq, data }.emit(&mut message);
        }
        (Reply::FromTarget, _) => {
            let code = icmpv4::PORT_UNREACHABLE;
            Icmpv4::Unreachable { code, quote }.emit(&mut message);
        }
    }
    let mut packet = Vec::new();
    let header = Ipv4Header {
        source: responder,
        destination: SOURCE,
        protocol: ipv4::ICMP,
        ttl: 60,
        traffic_class: 0,
        identification: 0,
        dont_fragment: false,
    };
    header.emit(&message, &mut packet);
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
            let (header, _) = Ipv4Header::parse(&buffer).unwrap();
            for (n, (delay_ms, responder, reply)) in
                path(header.ttl, sent.len() as u64).into_iter().enumerate()
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

fn clean(ttl: u8, _: u64) -> Vec<(u64, Ipv4Addr, Reply)> {
    match ttl {
        1..=3 => vec![(u64::from(ttl) * 5, router(ttl), Reply::Exceeded)],
        _ => vec![(20, TARGET, Reply::FromTarget)],
    }
}

#[test]
fn a_clean_path_is_swept_up_to_the_target_by_both_methods() {
    for method in [Method::IcmpEcho, Method::Udp] {
        let (rounds, sent) = drive(config(method), 10, &mut clean);
        assert!((9..=11).contains(&rounds.len()), "{} rounds", rounds.len());
        for (number, round) in rounds.iter().enumerate().take(rounds.len() - 1) {
            assert_eq!(round.number, number as u64);
            assert_eq!(round.reached_at, Some(4));
            assert_eq!(round.hops.len(), 4);
            assert!(round.hops.iter().all(|hop| hop.answers() == 2 && hop.sent == 2));
            assert_eq!(round.hops[2].rtt, vec![Micros::from_millis(15); 2]);
        }
        let beyond = sent.iter().skip(40).filter(|p| Ipv4Header::parse(p).unwrap().0.ttl > 4);
        assert_eq!(beyond.count(), 0, "probes go beyond a target that was found");
    }
}

#[test]
fn every_probe_of_a_path_is_one_flow() {
    for method in [Method::IcmpEcho, Method::Udp] {
        let (_, sent) = drive(config(method), 5, &mut clean);
        let flow = |packet: &[u8]| {
            let (header, transport) = Ipv4Header::parse(packet).unwrap();
            let ports: [u8; 4] = transport[..4].try_into().unwrap();
            (
                header.source,
                header.destination,
                header.protocol,
                header.traffic_class,
                ports,
                packet.len(),
            )
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
        1 => vec![(400, router(1), Reply::Exceeded)],
        2 => vec![(5, router(2), Reply::Exceeded), (6, router(2), Reply::Exceeded)],
        3 => vec![(5, router(3), Reply::Refused(13))],
        _ => vec![(20, TARGET, Reply::FromTarget)],
    };
    let (rounds, _) = drive(config(Method::IcmpEcho), 6, &mut path);
    let hops = &rounds[1].hops;
    assert_eq!((hops[0].answers(), hops[0].late), (0, 2));
    assert_eq!((hops[1].answers(), hops[1].duplicate), (2, 2));
    assert_eq!((hops[2].answers(), hops[2].unreachable.as_slice()), (0, &[(13, 2)][..]));
    assert!(hops.iter().all(|hop| hop.sent == 2), "every probe is in exactly one of these counts");
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
        (1..=3, _) => vec![(5, router(ttl), Reply::Exceeded)],
        (4..=5, true) => vec![(8, router(ttl), Reply::Exceeded)],
        _ => vec![(20, TARGET, Reply::FromTarget)],
    };
    let (rounds, _) = drive(config(Method::IcmpEcho), 20, &mut path);
    let last = &rounds[rounds.len() - 2];
    assert_eq!(last.reached_at, Some(6));
    assert_eq!(last.route.hops[4], Some(IpAddr::V4(router(5))));
}

#[test]
fn a_target_that_never_answers_is_swept_a_little_beyond_the_deepest_answer() {
    let mut path = |ttl: u8, _: u64| match ttl {
        1..=3 => vec![(5, router(ttl), Reply::Exceeded)],
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
