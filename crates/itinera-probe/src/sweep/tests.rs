//! The sweep against an imaginary path in virtual time, with bounded steps.

use super::*;
use crate::packet::ProbeSpec;
use itinera_model::path::Method;
use itinera_model::reading::AnswerForm;
use itinera_model::unit::HopLimit;
use itinera_wire::extension::{self, Label, Object};
use itinera_wire::icmp::Quote;
use itinera_wire::tcp::{Role, TcpHeader};
use itinera_wire::{Addresses, Icmp, IpHeader, icmp, ip};
use proptest::prelude::*;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

const FOUR: Addresses =
    Addresses::V4 { source: Ipv4Addr::new(10, 1, 0, 2), destination: Ipv4Addr::new(198, 18, 9, 9) };
const SIX: Addresses = Addresses::V6 {
    source: Ipv6Addr::new(0xfd00, 1, 0, 0, 0, 0, 0, 2),
    destination: Ipv6Addr::new(0x2001, 0xdb8, 9, 0, 0, 0, 0, 9),
};

/// Every method of probing.
const FLOWS: [(Addresses, Method); 6] = [
    (FOUR, Method::IcmpEcho),
    (FOUR, Method::Udp),
    (FOUR, Method::TcpSyn),
    (SIX, Method::IcmpEcho),
    (SIX, Method::Udp),
    (SIX, Method::TcpSyn),
];

fn config(method: Method) -> SweepConfig {
    config_of(FOUR, method)
}

fn config_of(addresses: Addresses, method: Method) -> SweepConfig {
    SweepConfig {
        probe: ProbeSpec {
            addresses,
            method,
            destination_port: 33_500,
            port_answers: false,
            dscp: 46,
            size_bytes: 64,
            dont_fragment: false,
            secret: 0x1234,
        },
        source_ports: vec![40_001],
        interval: Micros::from_millis(1_000),
        probes_per_hop: 2,
        timeout: Micros::from_millis(300),
        first_hop: HopLimit::try_new(1).unwrap(),
        last_hop: HopLimit::try_new(30).unwrap(),
        full_every: 1,
        rounds: None,
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
    let quote = Quote::plain(&probe[..addresses.header_len() + 8]);
    let back = Addresses::try_new(router(addresses, number), addresses.source()).unwrap();
    let mut message = Vec::new();
    let mut protocol = back.icmp();
    match reply {
        Reply::Exceeded => Icmp::TimeExceeded { code: 0, quote }.emit(back, &mut message),
        Reply::Refused(code) => Icmp::Unreachable { code, quote }.emit(back, &mut message),
        Reply::FromTarget => match header.protocol() {
            ip::UDP => {
                let code = icmp::port_unreachable(addresses);
                Icmp::Unreachable { code, quote }.emit(back, &mut message);
            }
            ip::TCP => {
                protocol = ip::TCP;
                let (syn, _) = TcpHeader::parse(transport).unwrap();
                assert_eq!(syn.role, Role::Syn);
                let accepted = TcpHeader {
                    source_port: syn.destination_port,
                    destination_port: syn.source_port,
                    sequence: 99,
                    // Some take the data, some do not.
                    acknowledgment: syn.sequence.wrapping_add(if number == 0 { 21 } else { 1 }),
                    role: Role::SynAck,
                };
                accepted.emit(back, true, &[], &mut message);
            }
            _ => {
                let Icmp::EchoRequest { id, seq, data } =
                    Icmp::parse(addresses, transport).unwrap()
                else {
                    panic!("a probe that is no echo request");
                };
                Icmp::EchoReply { id, seq, data }.emit(back, &mut message);
            }
        },
    }
    wrap(back, protocol, &message)
}

fn wrap(addresses: Addresses, protocol: u8, message: &[u8]) -> Vec<u8> {
    let mut packet = Vec::new();
    IpHeader::new(addresses, protocol, 60, 0, 0, 0).emit(message, &mut packet);
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
    let mut budget = Budget::unbounded();
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
        while let Some(token) = engine.poll_transmit(now, &mut budget, &mut buffer) {
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
        assert!(sent.iter().all(|packet| packet.len() == 64));
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
        if engine.poll_transmit(now, &mut Budget::unbounded(), &mut buffer).is_some() {
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
        let token = engine.poll_transmit(now, &mut Budget::unbounded(), &mut probe).unwrap();
        engine.handle(now, Input::Sent { token, stamp: now });
        let packet = answer(&probe, 1, Reply::Exceeded);
        let message = &packet[addresses.header_len()..];
        let stamp = now.plus_nanos(3_000_000);
        let from = router(addresses, 1);
        let (protocol, hop_limit) = (58, Some(61));
        let payload = message;
        engine.handle(
            stamp,
            Input::Payload { stamp, protocol, from, hop_limit, traffic_class: None, payload },
        );
        engine.handle(stamp, Input::Stop);
        let round = engine.poll_event().unwrap();
        assert_eq!(round.hops[0].answers(), heard, "{addresses:?} {method:?}");
        let left = round.reading.hops[0].reply_hop_limit;
        assert_eq!(left, (heard > 0).then_some(61));
    }
}

#[test]
fn a_packet_that_never_left_is_not_lost() {
    let mut engine = HopSweep::new(config(Method::Udp), Tick::ZERO).unwrap();
    let mut buffer = Vec::new();
    for _ in 0..200 {
        let now = engine.poll_deadline().unwrap();
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, &mut Budget::unbounded(), &mut buffer) {
            engine.handle(now, Input::NotSent { token });
        }
    }
    engine.handle(Tick::from_millis(9_999), Input::Stop);
    let round = engine.poll_event().unwrap();
    assert!(round.hops.iter().all(|hop| hop.sent == 0 && hop.answers() == 0));
}

#[test]
fn a_longer_route_is_followed() {
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

/// Sends one round's probes at once into the void; gives the engine and the probes.
fn sent_at_once(config: SweepConfig) -> (HopSweep, Vec<Vec<u8>>) {
    let mut engine = HopSweep::new(config, Tick::ZERO).unwrap().at_once(Tick::ZERO);
    let mut sent = Vec::new();
    let mut buffer = Vec::new();
    for _ in 0..1_000 {
        let now = engine.poll_deadline().unwrap();
        if engine.poll_event().is_some() || sent.len() == 60 {
            break;
        }
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, &mut Budget::unbounded(), &mut buffer) {
            engine.handle(now, Input::Sent { token, stamp: now });
            sent.push(buffer.clone());
        }
    }
    (engine, sent)
}

#[test]
fn an_answer_is_read_fully() {
    let (mut engine, sent) = sent_at_once(config(Method::Udp));
    let mut quoted = sent[2].clone();
    // Translated, re-marked, through a tunnel that does not count the hop limit.
    quoted[12..16].copy_from_slice(&[100, 64, 0, 7]);
    ip::rewrite_dscp(&mut quoted, 0).unwrap();
    quoted[8] = 4;
    let mut extensions = Vec::new();
    let label = Label { label: 24_001, traffic_class: 5, bottom: true, ttl: 1 };
    extension::emit(&[Object::Labels(vec![label])], &mut extensions);
    let back = Addresses::try_new(router(FOUR, 3), FOUR.source()).unwrap();
    let quote = Quote { datagram: &quoted, extensions: &extensions };
    let mut message = Vec::new();
    Icmp::TimeExceeded { code: 0, quote }.emit(back, &mut message);
    let packet = wrap(back, 1, &message);
    let now = Tick::from_millis(200);
    engine.handle(now, Input::Datagram { stamp: now, packet: &packet });
    engine.handle(now, Input::Stop);
    let round = engine.poll_event().unwrap();
    assert_eq!(round.hops[2].answers(), 1);
    let read = &round.reading.hops[2];
    assert_eq!(read.form, Some(AnswerForm::TimeExceeded));
    assert_eq!((read.quoted_dscp, read.quoted_ecn), (Some(0), Some(0)));
    assert_eq!(read.translated_source, Some([100, 64, 0, 7].into()));
    assert_eq!((read.reply_hop_limit, read.hops_back()), (Some(60), Some(4)));
    assert_eq!((read.hidden_before(), read.labels[0].label), (3, 24_001));
    assert!(!read.rewritten);
}

/// The quote of a probe whose UDP checksum a translator has renewed.
fn with_checksum(probe: &[u8], checksum: u16) -> Vec<u8> {
    let mut rewritten = probe.to_vec();
    rewritten[26..28].copy_from_slice(&checksum.to_be_bytes());
    answer(&rewritten, 1, Reply::Exceeded)
}

#[test]
fn a_renewed_checksum_is_found_by_the_identification_and_never_guessed() {
    let identity = |probe: &[u8]| u16::from_be_bytes([probe[4], probe[5]]);
    for (other, heard, ambiguous) in [(None, 1, 0), (Some(1), 0, 1)] {
        let (mut engine, sent) = sent_at_once(config(Method::Udp));
        // Either no probe in flight has that checksum, or another one has.
        let checksum = other
            .map_or_else(|| identity(&sent[0]).wrapping_add(500), |n: usize| identity(&sent[n]));
        let packet = with_checksum(&sent[0], checksum);
        let now = Tick::from_millis(100);
        engine.handle(now, Input::Datagram { stamp: now, packet: &packet });
        engine.handle(now, Input::Stop);
        let round = engine.poll_event().unwrap();
        assert_eq!((round.hops[0].answers(), round.hops[0].ambiguous), (heard, ambiguous));
        let candidates: u8 = round.hops.iter().map(|hop| hop.ambiguous).sum();
        assert_eq!(candidates, ambiguous * 2, "with each probe it may belong to");
    }
}

#[test]
fn one_syn_at_a_time_gets_to_the_target() {
    let mut in_flight = 0i32;
    let mut path = |ttl: u8, _: u64| clean(ttl, 0);
    let (rounds, sent) = drive(config(Method::TcpSyn), 10, &mut path);
    assert!(rounds.len() >= 8);
    assert!(rounds[2].hops.iter().all(|hop| hop.answers() == 2));
    assert_eq!(rounds[2].reading.hops[3].form, Some(AnswerForm::SynAck));
    assert!(sent.len() < 110, "{} probes", sent.len());
    // Against a target that never answers each waits for the one before.
    let mut engine = HopSweep::new(config(Method::TcpSyn), Tick::ZERO).unwrap().at_once(Tick::ZERO);
    let (mut buffer, mut now) = (Vec::new(), Tick::ZERO);
    let mut last = None;
    for _ in 0..40 {
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, &mut Budget::unbounded(), &mut buffer) {
            engine.handle(now, Input::Sent { token, stamp: now });
            if let Some(last) = last {
                assert!(now.since(last) >= Micros::from_millis(300), "two at once");
            }
            last = Some(now);
            in_flight += 1;
        }
        now = engine.poll_deadline().unwrap();
    }
    assert!(in_flight > 5);
    // Into silence it does not go far, behind routers it does.
    let mut far = |ttl: u8, _: u64| match ttl {
        1..=11 => vec![(5, ttl, Reply::Exceeded)],
        _ => vec![(20, 0, Reply::FromTarget)],
    };
    let (rounds, _) = drive(config(Method::TcpSyn), 12, &mut far);
    assert_eq!(rounds[1].reached_at, Some(12));
    let (rounds, _) = drive(config(Method::TcpSyn), 12, &mut |_, _| vec![]);
    assert_eq!(rounds[0].hops.len(), 8);
}

#[test]
fn rounds_take_the_flows_in_turn_and_keep_their_routes_apart() {
    let ports = vec![40_001, 40_002];
    let config = SweepConfig { source_ports: ports.clone(), ..config(Method::Udp) };
    let (rounds, _) = drive(config, 10, &mut clean);
    for round in &rounds {
        let turn = usize::try_from(round.number % 2).unwrap();
        assert_eq!(round.flow.source_port, ports[turn]);
    }
    assert_eq!(rounds[1].reached_at, Some(4));
}

#[test]
fn between_whole_rounds_the_target_alone_is_probed_until_something_is_lost() {
    let config = SweepConfig { full_every: 5, ..config(Method::IcmpEcho) };
    let swept = |rounds: &[Sweep]| -> String {
        rounds.iter().map(|r| if r.hops[0].sent > 0 { 'w' } else { '.' }).collect()
    };
    let (rounds, _) = drive(config.clone(), 16, &mut clean);
    let pattern = swept(&rounds);
    assert!(pattern.starts_with("w....w....w"), "{pattern}");
    assert!(rounds.iter().all(|round| round.route == rounds[0].route && round.hops.len() == 4));
    let mut path = |ttl: u8, nth: u64| {
        // Two of the target's answers are missing early in the silence between two sweeps.
        if ttl == 4 && (12..14).contains(&nth) { vec![] } else { clean(ttl, nth) }
    };
    let (rounds, _) = drive(config, 16, &mut path);
    let lossy = rounds.iter().position(|round| round.hops[3].answers() < 2).unwrap();
    let whole = rounds[lossy + 1..].iter().position(|round| round.hops[0].sent > 0);
    assert!(whole <= Some(2), "{}", swept(&rounds));
}

#[test]
fn a_budget_leaves_probes_out_instead_of_losing_them() {
    let mut engine =
        HopSweep::new(config(Method::IcmpEcho), Tick::ZERO).unwrap().at_once(Tick::ZERO);
    let mut budget = Budget::default();
    let mut buffer = Vec::new();
    let mut rounds = Vec::new();
    let mut inbox = VecDeque::new();
    for _ in 0..3_000 {
        let now = engine.poll_deadline().unwrap();
        while let Some(packet) = inbox.pop_front() {
            let packet: Vec<u8> = packet;
            engine.handle(now, Input::Datagram { stamp: now, packet: &packet });
        }
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, &mut budget, &mut buffer) {
            engine.handle(now, Input::Sent { token, stamp: now });
            let ttl = IpHeader::parse(&buffer).unwrap().0.hop_limit();
            let (_, responder, reply) = clean(ttl, 0)[0];
            inbox.push_back(answer(&buffer, responder, reply));
        }
        rounds.extend(std::iter::from_fn(|| engine.poll_event()));
        if rounds.len() >= 40 {
            break;
        }
    }
    let sent: u32 = rounds[20..].iter().map(|round| u32::from(round.hops[0].sent)).sum();
    assert!((18..=23).contains(&sent), "one a second instead of two: {sent} in 20 s");
    assert!(
        rounds.iter().flat_map(|round| &round.hops).all(|hop| hop.answers() + hop.late == hop.sent)
    );
    assert!(budget.spared() > 0);
}
