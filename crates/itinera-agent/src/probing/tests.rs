//! Probing on kernel raw sockets through three Linux routers, in namespaces of our own.

use super::*;
use crate::link::RawSockets;
use crate::testbed::{Row, TARGETS, ip};
use crate::ticket::tests::{Signer, agent};
use itinera_model::id::{BootId, PathId};
use itinera_model::protocol::{Denser, Pacing};
use itinera_model::round::StampSource;
use itinera_model::unit::WallTime;
use std::net::{IpAddr, Ipv6Addr};
use uuid::Uuid;

fn task(number: u128, address: IpAddr, method: Method) -> Task {
    Task {
        path: PathId::from_uuid(Uuid::from_u128(number)),
        address,
        method,
        port: (method == Method::TcpSyn).then_some(9),
        dscp: 0,
        size_bytes: 64,
        interval_ms: 500,
        probes_per_hop: 3,
        timeout_ms: 400,
        last_hop: 30,
        full_every: 1,
        name: None,
        denser: None,
    }
}

/// Follows a schedule at the row's beginning for some seconds; gives every settled round.
fn measure_in(row: &Row, tasks: Vec<Task>, seconds: u64) -> Vec<Measured> {
    let pacing = Pacing { hop_per_1000_s: 1_000_000, target_per_s: 1_000, ..Pacing::default() };
    let schedule = Schedule { tasks, pacing, enumerate_every_s: 3_600, ..Schedule::default() };
    let link = || Link::raw(RawSockets::open(None).unwrap()).unwrap();
    let found = follow_in(row, 0, link, schedule, &Signer::new(), seconds).join().unwrap();
    let sweeps = found.into_iter().map(|found| match found {
        Measurement::Sweep(measured) => *measured,
        other => panic!("nobody asked for {other:?}"),
    });
    sweeps.collect()
}

/// Follows a schedule in one namespace for some seconds, as agent `n`; gives what was measured.
pub(crate) fn follow_in(
    row: &Row,
    n: usize,
    link: impl FnOnce() -> Link + Send + 'static,
    schedule: Schedule,
    signer: &Signer,
    seconds: u64,
) -> std::thread::JoinHandle<Vec<Measurement>> {
    let leave = Permission {
        limits: LocalLimits::default(),
        agent: agent(n as u128),
        authority: signer.certificate.clone(),
    };
    row.within(n, move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let boot = BootId::from_uuid(Uuid::from_u128(n as u128));
            let clock = Arc::new(AgentClock::new(boot));
            let (_schedule, schedule) = watch::channel(schedule);
            let (rounds, mut measured) = mpsc::channel(10_000);
            let (stop, stopped) = watch::channel(false);
            let told = Listeners::default();
            let following = tokio::spawn(follow(
                Arc::new(link()),
                clock,
                leave,
                schedule,
                rounds,
                told,
                stopped,
            ));
            tokio::time::sleep(Duration::from_secs(seconds)).await;
            stop.send_replace(true);
            let mut all = Vec::new();
            while let Some(one) = measured.recv().await {
                all.push(one);
            }
            following.await.unwrap();
            all
        })
    })
}

#[test]
fn three_linux_routers_and_the_target_answer_on_raw_sockets() {
    let row = Row::new();
    let [four, six] = TARGETS;
    let tasks = vec![
        task(1, four, Method::IcmpEcho),
        task(2, four, Method::Udp),
        task(3, six, Method::IcmpEcho),
        task(4, six, Method::Udp),
        task(5, four, Method::TcpSyn),
        task(6, six, Method::TcpSyn),
    ];
    let measured = measure_in(&row, tasks.clone(), 8);
    for task in tasks {
        let row: [String; 4] = std::array::from_fn(|net| match task.address {
            IpAddr::V4(_) => format!("198.18.20{net}.2"),
            IpAddr::V6(_) => format!("2001:db8:{net}::2"),
        });
        let expected = row.map(|address| address.parse().ok()).to_vec();
        let source: IpAddr = match task.address {
            IpAddr::V4(_) => [198, 18, 200, 1].into(),
            IpAddr::V6(_) => Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1).into(),
        };
        let rounds: Vec<&Measured> =
            measured.iter().filter(|measured| measured.round.path == task.path).collect();
        let numbers: Vec<u64> = rounds.iter().map(|measured| measured.round.number).collect();
        assert_eq!(numbers, (0..rounds.len() as u64).collect::<Vec<_>>(), "{:?}", task.method);
        assert!(rounds.len() >= 10, "{:?}: {} rounds", task.method, rounds.len());
        // The last rounds may have been cut short by the end; in the first two seconds IPv6 finds
        // its neighbours, and what waited for them is answered in one burst, for which the
        // kernel limits its answers of both versions together.
        for Measured { round, route, flow, .. } in &rounds[4..rounds.len() - 3] {
            assert_eq!(route.hops, expected, "{task:?} {round:?}");
            assert_eq!(round.reached_at, Some(4));
            assert_eq!(round.stamps, StampSource::Kernel, "{round:?}");
            assert_eq!(flow.source, source);
            for hop in &round.hops {
                assert_eq!((hop.sent, hop.answers()), (3, 3), "{task:?} {round:?}");
                assert!(hop.rtt.iter().all(|rtt| *rtt < Micros::from_millis(100)), "{hop:?}");
            }
        }
    }
}

#[test]
fn silence_behind_a_router_differs_from_its_refusal() {
    let row = Row::new();
    // The second router no longer knows the target's network and says so.
    ip(&format!("-n {} route del 198.18.203.0/24", row.names[2]));
    ip(&format!("-n {} route del 2001:db8:3::/64", row.names[2]));
    let [four, six] = TARGETS;
    let tasks = vec![task(1, four, Method::IcmpEcho), task(2, six, Method::Udp)];
    let measured = measure_in(&row, tasks.clone(), 4);
    for task in tasks {
        let rounds: Vec<&Round> =
            measured.iter().map(|m| &m.round).filter(|round| round.path == task.path).collect();
        let round = rounds[rounds.len() / 2];
        assert_eq!(round.reached_at, None);
        assert_eq!(round.hops[0].answers(), 3);
        // "Net unreachable" and "no route to destination" are code 0 in both versions. Linux says
        // so once a second only (net.ipv4.route.error_cost), whatever its limit for ICMP.
        let hops = rounds.iter().flat_map(|round| &round.hops);
        let refused: Vec<(u8, u8)> = hops.flat_map(|hop| hop.unreachable.clone()).collect();
        assert!(refused.iter().all(|(code, _)| *code == 0) && !refused.is_empty(), "{refused:?}");
        assert!(round.hops[2..].iter().all(|hop| hop.answers() == 0));
    }
}

#[test]
fn probing_follows_the_machine_to_another_address_and_outlives_its_interface() {
    let row = Row::new();
    let name = row.names[0].clone();
    let moves = std::thread::spawn(move || {
        let second = |seconds| std::thread::sleep(Duration::from_secs(seconds));
        let reroute = || {
            for net in 1..4 {
                ip(&format!("-n {name} route replace 198.18.20{net}.0/24 via 198.18.200.2"));
            }
        };
        second(4);
        ip(&format!("-n {name} addr flush dev east0 scope global"));
        ip(&format!("-n {name} addr add 198.18.200.7/24 dev east0"));
        reroute();
        second(9);
        ip(&format!("-n {name} link set east0 down"));
        second(4);
        ip(&format!("-n {name} link set east0 up"));
        reroute();
    });
    let measured = measure_in(&row, vec![task(1, TARGETS[0], Method::IcmpEcho)], 28);
    moves.join().unwrap();
    let numbers: Vec<u64> = measured.iter().map(|m| m.round.number).collect();
    assert_eq!(numbers, (0..numbers.len() as u64).collect::<Vec<_>>(), "none twice, none left out");
    let whole =
        |m: &Measured| m.round.hops.len() == 4 && m.round.hops.iter().all(|h| h.answers() == 3);
    let from = |last: u8| {
        let source: IpAddr = [198, 18, 200, last].into();
        measured.iter().filter(move |m| m.flow.source == source && whole(m)).count()
    };
    assert!(from(1) >= 4 && from(7) >= 12, "{} {}", from(1), from(7));
    // Without an interface nothing leaves, so nothing can be lost.
    let unsent = measured.iter().filter(|m| m.round.hops.iter().all(|hop| hop.sent == 0));
    assert!(unsent.count() >= 3);
    assert!(whole(&measured[measured.len() - 3]), "it continues by itself");
}

#[test]
fn a_name_is_resolved_and_recorded_with_each_round() {
    let row = Row::new();
    let named = |number, name: &str, address: [u8; 4]| Task {
        name: Some(name.to_owned()),
        ..task(number, address.into(), Method::IcmpEcho)
    };
    // The machine's own resolver knows addresses written as names; the other one does not exist.
    let tasks =
        vec![named(1, "198.18.203.2", [0, 0, 0, 0]), named(2, "nobody.invalid", [0, 0, 0, 0])];
    let measured = measure_in(&row, tasks, 4);
    assert!(measured.len() >= 3);
    for Measured { round, resolution, flow, .. } in &measured {
        assert_eq!(round.path.as_uuid().as_u128(), 1, "what has no address is not measured");
        assert_eq!(resolution.name.as_deref(), Some("198.18.203.2"));
        assert_eq!((resolution.address, flow.destination), (TARGETS[0], TARGETS[0]));
        assert_eq!(round.resolution, resolution.id());
    }
}

#[test]
fn rounds_are_numbered_on_when_a_watch_ends() {
    let row = Row::new();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    let until = WallTime::from_unix_seconds(i64::try_from(now.as_secs()).unwrap() + 3);
    let denser = Some(Denser { interval_ms: 200, until });
    let watched = Task { denser, ..task(1, TARGETS[0], Method::IcmpEcho) };
    let measured = measure_in(&row, vec![watched], 12);
    let numbers: Vec<u64> = measured.iter().map(|m| m.round.number).collect();
    assert_eq!(numbers, (0..numbers.len() as u64).collect::<Vec<_>>(), "none twice, none left out");
    let between = |pair: &[Measured]| {
        pair[1].round.clocks.tick.since(pair[0].round.clocks.tick) < Micros::from_millis(350)
    };
    let dense = measured.windows(2).filter(|pair| between(pair)).count();
    assert!(dense >= 10 && dense + 8 <= numbers.len(), "{dense} of {}", numbers.len());
}
