//! Probing on kernel raw sockets through three Linux routers, in namespaces of our own.

use super::*;
use itinera_model::id::{BootId, PathId};
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use std::fs::File;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::fd::AsFd;
use std::process::Command;
use std::sync::atomic::{AtomicU32, Ordering};
use uuid::Uuid;

/// Five namespaces in a row: prober, three routers, target. Removed when dropped.
struct Row {
    names: Vec<String>,
}

fn ip(arguments: &str) {
    let status = Command::new("ip").args(arguments.split(' ')).status();
    let status = status.expect("iproute2 is installed");
    assert!(status.success(), "ip {arguments}: {status}; namespaces need root");
}

impl Row {
    fn new() -> Self {
        static ROWS: AtomicU32 = AtomicU32::new(0);
        let (pid, nth) = (std::process::id(), ROWS.fetch_add(1, Ordering::Relaxed));
        let names: Vec<String> = (0..5).map(|n| format!("itinera-{pid}-{nth}-{n}")).collect();
        let row = Self { names };
        for name in &row.names {
            ip(&format!("netns add {name}"));
            ip(&format!("-n {name} link set lo up"));
            let exec = format!("netns exec {name} sysctl -q -w");
            ip(&format!("{exec} net.ipv4.ip_forward=1"));
            // The routers' answers are what is tested here, not their limits.
            ip(&format!("{exec} net.ipv4.icmp_ratelimit=0"));
            ip(&format!("{exec} net.ipv4.icmp_msgs_per_sec=100000"));
            ip(&format!("{exec} net.ipv6.conf.all.forwarding=1"));
            ip(&format!("{exec} net.ipv6.conf.default.accept_dad=0"));
            ip(&format!("{exec} net.ipv6.icmp.ratelimit=0"));
        }
        for (n, pair) in row.names.windows(2).enumerate() {
            let (left, right) = (&pair[0], &pair[1]);
            ip(&format!("link add east{n} netns {left} type veth peer name west{n} netns {right}"));
            ip(&format!("-n {left} addr add 198.18.20{n}.1/24 dev east{n}"));
            ip(&format!("-n {right} addr add 198.18.20{n}.2/24 dev west{n}"));
            ip(&format!("-n {left} addr add 2001:db8:{n}::1/64 dev east{n} nodad"));
            ip(&format!("-n {right} addr add 2001:db8:{n}::2/64 dev west{n} nodad"));
            ip(&format!("-n {left} link set east{n} up"));
            ip(&format!("-n {right} link set west{n} up"));
        }
        for (n, name) in row.names.iter().enumerate() {
            for net in 0..4 {
                if net > n {
                    ip(&format!("-n {name} route add 198.18.20{net}.0/24 via 198.18.20{n}.2"));
                    ip(&format!("-n {name} route add 2001:db8:{net}::/64 via 2001:db8:{n}::2"));
                } else if net + 1 < n {
                    let west = n - 1;
                    ip(&format!("-n {name} route add 198.18.20{net}.0/24 via 198.18.20{west}.1"));
                    ip(&format!("-n {name} route add 2001:db8:{net}::/64 via 2001:db8:{west}::1"));
                }
            }
        }
        row
    }
}

impl Drop for Row {
    fn drop(&mut self) {
        for name in &self.names {
            let _best_effort = Command::new("ip").args(["netns", "del", name]).status();
        }
    }
}

const TARGETS: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(198, 18, 203, 2)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 3, 0, 0, 0, 0, 2)),
];

fn task(number: u128, address: IpAddr, method: Method) -> Task {
    Task {
        path: PathId::from_uuid(Uuid::from_u128(number)),
        address,
        method,
        dscp: 0,
        size_bytes: 64,
        interval_ms: 500,
        probes_per_hop: 3,
        timeout_ms: 400,
        last_hop: 30,
    }
}

/// Follows a schedule inside a namespace for some seconds; gives every settled round.
fn measure_in(name: &str, tasks: Vec<Task>, seconds: u64) -> Vec<Measured> {
    let namespace = File::open(format!("/run/netns/{name}")).unwrap();
    // A thread of its own: it stays in the namespace until it ends.
    let probing = std::thread::spawn(move || {
        move_into_link_name_space(namespace.as_fd(), Some(LinkNameSpaceType::Network)).unwrap();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let link = Link::kernel().unwrap();
            let clock = Arc::new(AgentClock::new(BootId::from_uuid(Uuid::from_u128(1))));
            let (_schedule, schedule) = watch::channel(Schedule { version: 1, tasks });
            let (rounds, mut measured) = mpsc::channel(1_000);
            let (stop, stopped) = watch::channel(false);
            let following = tokio::spawn(follow(link, clock, schedule, rounds, stopped));
            tokio::time::sleep(std::time::Duration::from_secs(seconds)).await;
            stop.send_replace(true);
            let mut all = Vec::new();
            while let Some(one) = measured.recv().await {
                all.push(one);
            }
            following.await.unwrap();
            all
        })
    });
    probing.join().unwrap()
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
    ];
    let measured = measure_in(&row.names[0], tasks.clone(), 8);
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
            assert_eq!(flow.source, source);
            for hop in &round.hops {
                assert_eq!((hop.sent, hop.answers()), (3, 3), "{task:?} {round:?}");
                assert!(hop.rtt.iter().all(|rtt| *rtt < Micros::from_millis(100)), "{hop:?}");
            }
        }
    }
}

#[test]
fn silence_behind_a_router_is_told_apart_from_its_refusal() {
    let row = Row::new();
    // The second router no longer knows the target's network and says so.
    ip(&format!("-n {} route del 198.18.203.0/24", row.names[2]));
    ip(&format!("-n {} route del 2001:db8:3::/64", row.names[2]));
    let [four, six] = TARGETS;
    let tasks = vec![task(1, four, Method::IcmpEcho), task(2, six, Method::Udp)];
    let measured = measure_in(&row.names[0], tasks.clone(), 4);
    for task in tasks {
        let rounds: Vec<&Round> =
            measured.iter().map(|m| &m.round).filter(|round| round.path == task.path).collect();
        let round = rounds[rounds.len() / 2];
        assert_eq!(round.reached_at, None);
        assert_eq!(round.hops[0].answers(), 3);
        // "Net unreachable" and "no route to destination" are code 0 in both versions.
        let refused: Vec<(u8, u8)> =
            round.hops.iter().flat_map(|hop| hop.unreachable.clone()).collect();
        assert!(refused.iter().all(|(code, _)| *code == 0) && !refused.is_empty(), "{refused:?}");
        assert!(round.hops[2..].iter().all(|hop| hop.answers() == 0));
    }
}
