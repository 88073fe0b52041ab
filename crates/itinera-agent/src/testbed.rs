//! Linux routers in namespaces of our own, for tests on the real kernel.

use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use std::fs::File;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::fd::AsFd;
use std::process::Command;
use std::sync::atomic::{AtomicU32, Ordering};

/// Where the row's target is, over IPv4 and IPv6.
pub(crate) const TARGETS: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(198, 18, 203, 2)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 3, 0, 0, 0, 0, 2)),
];

pub(crate) fn ip(arguments: &str) {
    let status = Command::new("ip").args(arguments.split(' ')).status();
    let status = status.expect("iproute2 is installed");
    assert!(status.success(), "ip {arguments}: {status}; namespaces need root");
}

/// Five namespaces in a row: prober, three routers, target. Removed when dropped.
///
/// Shape: hop k answers as 198.18.20(k-1).2 and 2001:db8:(k-1)::2; in each namespace the
/// interface toward the prober is west(k-1), the one away from it east(k).
pub(crate) struct Row {
    pub(crate) names: Vec<String>,
}

/// What routers grant of answers.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Limits {
    /// As many as are asked for.
    None,
    /// What the kernel grants by default.
    Default,
}

impl Row {
    pub(crate) fn new() -> Self {
        Self::with(Limits::None)
    }

    pub(crate) fn with(limits: Limits) -> Self {
        static ROWS: AtomicU32 = AtomicU32::new(0);
        let (pid, nth) = (std::process::id(), ROWS.fetch_add(1, Ordering::Relaxed));
        let names: Vec<String> = (0..5).map(|n| format!("itinera-{pid}-{nth}-{n}")).collect();
        let row = Self { names };
        row.names.iter().for_each(|name| Self::add_namespace(name, limits));
        for n in 0..4 {
            row.link(n, n + 1, n);
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

    fn add_namespace(name: &str, limits: Limits) {
        ip(&format!("netns add {name}"));
        ip(&format!("-n {name} link set lo up"));
        let mut settings = vec![
            "net.ipv4.ip_forward=1",
            "net.ipv6.conf.all.forwarding=1",
            "net.ipv6.conf.default.accept_dad=0",
            "net.ipv4.fib_multipath_hash_policy=1",
        ];
        if limits == Limits::None {
            settings.extend(["net.ipv4.icmp_ratelimit=0", "net.ipv6.icmp.ratelimit=0"]);
            settings.push("net.ipv4.icmp_msgs_per_sec=100000");
        }
        for setting in settings {
            ip(&format!("netns exec {name} sysctl -q -w {setting}"));
        }
    }

    /// Links two namespaces by network `net`.
    fn link(&self, left: usize, right: usize, net: usize) {
        let (left, right) = (&self.names[left], &self.names[right]);
        ip(&format!("link add east{net} netns {left} type veth peer name west{net} netns {right}"));
        ip(&format!("-n {left} addr add 198.18.20{net}.1/24 dev east{net}"));
        ip(&format!("-n {right} addr add 198.18.20{net}.2/24 dev west{net}"));
        ip(&format!("-n {left} addr add 2001:db8:{net}::1/64 dev east{net} nodad"));
        ip(&format!("-n {right} addr add 2001:db8:{net}::2/64 dev west{net} nodad"));
        ip(&format!("-n {left} link set east{net} up"));
        ip(&format!("-n {right} link set west{net} up"));
    }

    /// A second route from the first router to the third, by a namespace of its own, shared by flow.
    pub(crate) fn add_second_route(&mut self) {
        let name = format!("{}-x", self.names[0]);
        Self::add_namespace(&name, Limits::None);
        self.names.push(name);
        self.link(1, 5, 4);
        self.link(5, 3, 5);
        let [_, first, _, third, _, other] = self.names.as_slice() else {
            panic!("six namespaces");
        };
        ip(&format!("-n {other} route add 198.18.203.0/24 via 198.18.205.2"));
        ip(&format!("-n {other} route add 198.18.200.0/24 via 198.18.204.1"));
        ip(&format!(
            "-n {first} route replace 198.18.203.0/24 nexthop via 198.18.201.2 nexthop via 198.18.204.2"
        ));
        ip(&format!("-n {third} route add 198.18.204.0/24 via 198.18.205.1"));
    }

    /// Loads rules for packets into one namespace: a base chain at a hook with these rules.
    pub(crate) fn filter(&self, n: usize, hook: &str, rules: &[&str]) {
        let kind = if hook == "postrouting" { "nat" } else { "filter" };
        let text = format!(
            "table inet itinera_{hook} {{ chain c {{ type {kind} hook {hook} priority 0; {} ; }} ; }}",
            rules.join("; ")
        );
        let arguments = ["netns", "exec", &self.names[n], "nft", &text];
        let status = Command::new("ip").args(arguments).status();
        assert!(status.expect("iproute2").success(), "nft {text}: is nftables installed?");
    }

    /// Lets everybody have datagram sockets for echo in one namespace.
    pub(crate) fn allow_echo(&self, n: usize) {
        let everybody = "net.ipv4.ping_group_range=0\t2147483647";
        ip(&format!("netns exec {} sysctl -q -w {everybody}", self.names[n]));
    }

    /// Runs something on a thread that stays in one namespace until it ends.
    pub(crate) fn within<T: Send + 'static>(
        &self,
        n: usize,
        run: impl FnOnce() -> T + Send + 'static,
    ) -> std::thread::JoinHandle<T> {
        let namespace = File::open(format!("/run/netns/{}", self.names[n])).unwrap();
        std::thread::spawn(move || {
            let network = Some(LinkNameSpaceType::Network);
            move_into_link_name_space(namespace.as_fd(), network).unwrap();
            run()
        })
    }
}

impl Drop for Row {
    fn drop(&mut self) {
        for name in &self.names {
            let _best_effort = Command::new("ip").args(["netns", "del", name]).status();
        }
    }
}
