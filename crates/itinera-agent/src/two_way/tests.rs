//! Both directions between two agents at the ends of a row of Linux routers.

use crate::link::{Link, RawSockets};
use crate::measurement::Measurement;
use crate::probing::tests::follow_in;
use crate::testbed::{Row, TARGETS};
use crate::ticket::tests::{Signer, agent, ticket};
use itinera_model::protocol::Schedule;
use itinera_model::round::StampSource;
use itinera_model::two_way::{Direction, OneWay, PairRoute, Role, Ticket, TwoWayRound};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;

/// The row's beginning, over IPv4 and IPv6.
const BEGINNING: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(198, 18, 200, 1)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1)),
];

fn raw() -> Link {
    Link::raw(RawSockets::open(None).unwrap()).unwrap()
}

fn plain() -> Link {
    crate::drop_capabilities().unwrap();
    Link::plain().unwrap()
}

/// What the agent at the row's beginning finds of the one at its end, which is told that its
/// peer stands at `sender`, and that it is hidden itself where `hidden`.
fn between(
    row: &Row,
    link: fn() -> Link,
    ends: (IpAddr, IpAddr),
    hidden: bool,
) -> Vec<TwoWayRound> {
    let (sending, reflecting) = exchanged(row, link, ends, hidden, (ticket(), 7));
    let (rounds, _) = apart(sending);
    let (of_reflector, _) = apart(reflecting);
    assert_eq!(of_reflector, [], "a reflector measures no round");
    rounds
}

/// The same for so many seconds with another ticket: what the sender and the reflector measured.
fn exchanged(
    row: &Row,
    link: fn() -> Link,
    (sender, reflector): (IpAddr, IpAddr),
    hidden: bool,
    (ticket, seconds): (Ticket, u64),
) -> (Vec<Measurement>, Vec<Measurement>) {
    let signer = Signer::new();
    let schedule =
        |ticket: Ticket| Schedule { tickets: vec![signer.sign(&ticket)], ..Schedule::default() };
    let mine =
        Ticket { holder: agent(0), peer: agent(4), peer_address: reflector, ..ticket.clone() };
    let theirs = Ticket {
        holder: agent(4),
        role: Role::Reflector,
        peer: agent(0),
        peer_address: sender,
        is_hidden: hidden,
        ..ticket
    };
    let reflecting = follow_in(row, 4, link, schedule(theirs), &signer, seconds + 3);
    std::thread::sleep(Duration::from_millis(1_000));
    let sending = follow_in(row, 0, link, schedule(mine), &signer, seconds);
    (sending.join().unwrap(), reflecting.join().unwrap())
}

/// The rounds and the routes of pairs among what an agent measured, which is nothing else.
fn apart(found: Vec<Measurement>) -> (Vec<TwoWayRound>, Vec<PairRoute>) {
    let (mut rounds, mut routes) = (Vec::new(), Vec::new());
    for found in found {
        match found {
            Measurement::TwoWay(round) => rounds.push(*round),
            Measurement::PairRoute(route) => routes.push(*route),
            other => panic!("not asked for: {other:?}"),
        }
    }
    (rounds, routes)
}

/// The rounds in the midst: neighbours are known, and the end cuts nothing short.
fn midst(rounds: &[TwoWayRound]) -> &[TwoWayRound] {
    assert!(rounds.len() >= 8, "{} rounds", rounds.len());
    &rounds[2..rounds.len() - 2]
}

fn share(rounds: &[TwoWayRound], direction: fn(&TwoWayRound) -> &OneWay) -> f64 {
    let (lost, all) = rounds.iter().map(direction).fold((0, 0), |(lost, all), direction| {
        (
            lost + u32::from(direction.lost),
            all + u32::from(direction.lost) + u32::from(direction.arrived),
        )
    });
    f64::from(lost) / f64::from(all)
}

fn forward(round: &TwoWayRound) -> &OneWay {
    &round.forward
}

fn back(round: &TwoWayRound) -> &OneWay {
    &round.return_
}

fn check_clean(rounds: &[TwoWayRound], stamps: StampSource) {
    for round in midst(rounds) {
        // A little less than asked for: 50 a second is also what one target is granted.
        let sent = round.sent;
        assert!(sent >= 8 && round.undetermined == 0, "{round:?}");
        for direction in [&round.forward, &round.return_] {
            assert_eq!(
                (direction.arrived, direction.lost, direction.duplicated),
                (sent, 0, 0),
                "{round:?}"
            );
            assert_eq!(
                (direction.hop_limit, &direction.dscp),
                (Some(252), &vec![(0, sent)]),
                "{round:?}"
            );
        }
        assert_eq!(round.stamps, stamps);
        let [least, ..] = round.round_trip_us.unwrap();
        assert!(least < 20_000, "{round:?}");
        // Both are on one machine: its clock is the same for both, to the precision of starting.
        let clock = round.clock.unwrap();
        let off = clock.offset_us.unsigned_abs();
        assert!(off <= u64::from(clock.offset_error_us) + 1_000, "{clock:?}");
    }
}

#[test]
fn a_clean_row_is_clean_in_both_directions_over_both_versions() {
    let row = Row::new();
    for (sender, reflector) in BEGINNING.into_iter().zip(TARGETS) {
        check_clean(&between(&row, raw, (sender, reflector), false), StampSource::Kernel);
    }
}

#[test]
fn the_route_of_each_direction_is_measured_with_and_without_privilege() {
    let row = Row::new();
    row.allow_echo(0);
    row.allow_echo(4);
    let hops = |addresses: [&str; 3]| addresses.map(|it| Some(it.parse().unwrap())).to_vec();
    // Few packets of the session: a target is granted 50 a second of all kinds.
    let slow = Ticket { interval_ms: 200, ..ticket() };
    for (link, version, [forward, back]) in [
        (
            raw as fn() -> Link,
            0,
            [
                hops(["198.18.200.2", "198.18.201.2", "198.18.202.2"]),
                hops(["198.18.203.1", "198.18.202.1", "198.18.201.1"]),
            ],
        ),
        (
            plain,
            1,
            [
                hops(["2001:db8:0::2", "2001:db8:1::2", "2001:db8:2::2"]),
                hops(["2001:db8:3::1", "2001:db8:2::1", "2001:db8:1::1"]),
            ],
        ),
    ] {
        let ends = (BEGINNING[version], TARGETS[version]);
        let (sending, reflecting) = exchanged(&row, link, ends, false, (slow.clone(), 12));
        let (rounds, mut routes) = apart(sending);
        assert!(rounds.iter().all(|round| round.forward.lost == 0), "{rounds:?}");
        routes.extend(apart(reflecting).1);
        let found = |route: &PairRoute| (route.direction, route.hops.clone());
        let found: Vec<_> = routes.iter().map(found).collect();
        assert_eq!(found, [(Direction::Forward, forward), (Direction::Return, back)]);
    }
}

#[test]
fn without_privilege_both_directions_are_measured_as_well() {
    let row = Row::new();
    row.allow_echo(0);
    row.allow_echo(4);
    for (sender, reflector) in BEGINNING.into_iter().zip(TARGETS) {
        check_clean(&between(&row, plain, (sender, reflector), false), StampSource::Program);
    }
}

#[test]
fn what_looks_the_same_from_one_side_differs_from_both() {
    let (sender, reflector) = (BEGINNING[0], TARGETS[0]);
    for (interface, loses_forward) in [("west1", true), ("east2", false)] {
        let row = Row::new();
        let rule = format!("iifname \"{interface}\" numgen random mod 100 < 40 drop");
        row.filter(2, "forward", &[&rule]);
        let rounds = between(&row, raw, (sender, reflector), false);
        let rounds = midst(&rounds);
        let (forward, back) = (share(rounds, forward), share(rounds, back));
        let (lossy, clean) = if loses_forward { (forward, back) } else { (back, forward) };
        assert!((lossy - 0.4).abs() < 0.24 && clean == 0.0, "{interface}: {forward} {back}");
    }
}

#[test]
fn a_dscp_rewritten_in_one_direction_is_seen_in_that_direction_only() {
    let row = Row::new();
    row.filter(2, "forward", &["iifname \"west1\" ip dscp set cs1"]);
    let rounds = between(&row, raw, (BEGINNING[0], TARGETS[0]), false);
    for round in midst(&rounds) {
        assert_eq!((round.forward.dscp[0].0, round.return_.dscp[0].0), (8, 0), "{round:?}");
    }
}

#[test]
fn agents_behind_translation_reach_each_other_by_sending_first() {
    let row = Row::new();
    // The sender is seen at the first router's outer address, the reflector at the third's: the
    // networks behind them are not to be reached, and unsolicited packets are dropped.
    row.filter(1, "postrouting", &["oifname \"east1\" masquerade"]);
    row.filter(1, "forward", &["iifname \"east1\" ct state new drop"]);
    row.filter(1, "input", &["iifname \"east1\" udp dport 59862 drop"]);
    let (sender, outer) = ([198, 18, 201, 1].into(), TARGETS[0]);
    let rounds = between(&row, raw, (sender, outer), false);
    check_clean(&rounds, StampSource::Kernel);
    row.filter(3, "postrouting", &["oifname \"west2\" masquerade"]);
    row.filter(3, "forward", &["iifname \"west2\" ct state new drop"]);
    row.filter(3, "input", &["iifname \"west2\" udp dport 59862 drop"]);
    let both = between(&row, raw, (sender, [198, 18, 202, 2].into()), true);
    let rounds = midst(&both);
    assert_eq!((share(rounds, forward), share(rounds, back)), (0.0, 0.0), "{rounds:?}");
}

#[test]
fn a_pair_that_cannot_reach_each_other_says_so_and_hardly_tries() {
    let row = Row::new();
    row.filter(2, "forward", &["udp dport 59862 drop"]);
    let rounds = between(&row, raw, (BEGINNING[0], TARGETS[0]), false);
    let sent: u16 = rounds.iter().map(|round| round.sent).sum();
    assert!((20..200).contains(&sent), "{sent}: three seconds of trying, then hardly any");
    assert!(rounds.iter().all(|round| round.undetermined == round.sent && round.clock.is_none()));
}
