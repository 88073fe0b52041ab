//! An agent's own host_facts: what its machine is connected by and knows of its neighbourhood.
//! Many faults of "the network" are found right there.

use crate::round::Clocks;
use crate::unit::{Micros, WallTime};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// What a machine is connected by.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct HostFacts {
    /// Its own name.
    pub host_name: String,
    /// Its interfaces, in the kernel's order.
    pub interfaces: Vec<Interface>,
    /// Its routes of the main table, as far as kept.
    pub routes: Vec<RouteEntry>,
    /// How it sends to the targets, by its own choice among all tables: a route to each address.
    #[serde(rename = "ways")]
    pub routes_used: Vec<RouteEntry>,
    /// Its neighbours on its links.
    pub neighbours: Vec<Neighbour>,
    /// Its resolvers, in order.
    pub resolvers: Vec<IpAddr>,
    /// Where its addresses come from, where that is known.
    pub leases: Vec<Lease>,
    /// What switches announce of themselves (IEEE 802.1AB).
    pub announced: Vec<Announced>,
    /// Sockets that listen or are connected; absent where the site does not let them be listed.
    pub sockets: Option<Vec<OpenSocket>>,
    /// How late the agent's own program was since the report before; absent before the first
    /// timer, and from agents that do not report it.
    pub lateness: Option<HostLateness>,
    /// The last action that the agent took by its site's limits file while it was cut off.
    pub action: Option<LocalAction>,
}

/// An action that a cut-off agent took, as its site's limits file permits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LocalAction {
    /// Name of the program, without its directory.
    pub program: String,
    /// When it began, by the agent's clock, in microseconds since 1970.
    #[cfg_attr(feature = "openapi", schema(value_type = i64))]
    pub began_at: WallTime,
    /// How long the agent had been cut off then, in seconds.
    pub cut_off_s: u32,
    /// How long it took, in milliseconds.
    pub took_ms: u32,
    /// What came of it.
    pub outcome: ActionOutcome,
    /// Which action of the last 24 hours it was, from 1.
    pub number: u32,
}

/// What came of an action.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum ActionOutcome {
    /// The program ended with exit code 0.
    Succeeded,
    /// It ended with another exit code, or by a signal.
    Failed {
        /// Exit code; absent where a signal ended it.
        code: Option<i32>,
    },
    /// It took too long and was ended.
    TimedOut,
    /// The agent ended before the program did.
    Interrupted,
    /// It could not be started.
    NotStarted {
        /// Why.
        reason: String,
    },
}

/// How late an agent's program is on its machine: from the time at which a timer is due to the time
/// at which it is served, and from the arrival of a packet to the time at which it is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostLateness {
    /// 95th percentile in microseconds, at most a quarter too large.
    pub p95_us: u32,
    /// Timers and packets counted.
    pub count: u64,
}

/// How a machine is connected by an interface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Medium {
    /// A cable, or a link that appears as one.
    #[default]
    Wired,
    /// Radio: measurements over it carry its own loss and delay.
    Wireless,
    /// A tunnel: its packets go over another interface.
    Tunnel,
    /// To itself.
    Loopback,
}

/// How an interface talks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Duplex {
    /// Both directions at once.
    Full,
    /// One direction at a time.
    Half,
}

/// One interface.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Interface {
    /// Its name.
    pub name: String,
    /// What it is.
    pub medium: Medium,
    /// It is administratively up.
    pub up: bool,
    /// The other end is there.
    pub carrier: bool,
    /// The largest packet in bytes.
    pub mtu_bytes: u32,
    /// Its hardware address.
    pub hardware_address: Option<String>,
    /// Its addresses with their prefixes.
    pub addresses: Vec<IpNet>,
    /// Speed as negotiated, in megabits a second.
    pub speed_mbit_s: Option<u32>,
    /// As negotiated.
    pub duplex: Option<Duplex>,
    /// Since it was made.
    pub counters: Counters,
}

/// What an interface has counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Counters {
    /// Bytes received.
    pub rx_bytes: u64,
    /// Bytes sent.
    pub tx_bytes: u64,
    /// Packets received.
    pub rx_packets: u64,
    /// Packets sent.
    pub tx_packets: u64,
    /// Frames received damaged.
    pub rx_errors: u64,
    /// Frames that could not be sent.
    pub tx_errors: u64,
    /// Good packets received and thrown away.
    pub rx_discards: u64,
    /// Packets to be sent and thrown away.
    pub tx_discards: u64,
}

/// One route.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RouteEntry {
    /// To where.
    pub to: IpNet,
    /// The gateway; absent on the link itself.
    pub gateway: Option<IpAddr>,
    /// By which interface.
    pub interface: String,
    /// The smaller is preferred.
    pub metric: u32,
}

/// A neighbour on a link.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Neighbour {
    /// Its address.
    pub address: IpAddr,
    /// Its hardware address; absent where it does not answer.
    pub hardware_address: Option<String>,
    /// On which interface.
    pub interface: String,
}

/// Where an address comes from (RFC 2131).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lease {
    /// For which interface.
    pub interface: String,
    /// The server that gave it, where that is known.
    pub server: Option<IpAddr>,
    /// For how long in all, in seconds.
    pub lifetime_s: Option<u32>,
}

/// What a neighbour announces of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Announced {
    /// Heard on which interface.
    pub interface: String,
    /// Its name, or its identity where it does not say; foreign text.
    pub system: String,
    /// The port at its end; foreign text.
    pub port: String,
}

/// An open socket.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OpenSocket {
    /// `tcp` or `udp`.
    pub protocol: String,
    /// Our end.
    pub local: std::net::SocketAddr,
    /// The other end; absent while it listens.
    pub peer: Option<std::net::SocketAddr>,
}

/// Echo to one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Echoes {
    /// The destination.
    pub address: IpAddr,
    /// Sent.
    pub sent: u32,
    /// Answered.
    pub answered: u32,
    /// Median round trip.
    pub median_us: Option<Micros>,
}

/// Host facts as an agent reports them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostFactsRound {
    /// When, by the agent's clocks.
    pub clocks: Clocks,
    /// The facts. The name in the protocol is older than the word.
    #[serde(rename = "around")]
    pub host_facts: HostFacts,
    /// Echo to the gateway in use.
    #[serde(default)]
    pub gateway: Option<Echoes>,
}

/// Items of any list that are kept at most.
pub const MAX_ITEMS: usize = 256;
/// Bytes of any text.
pub const MAX_TEXT: usize = 256;

impl HostFacts {
    /// The same without what changes all the time.
    pub fn lasting(&self) -> Self {
        let mut lasting = self.clone();
        for interface in &mut lasting.interfaces {
            interface.counters = Counters::default();
        }
        lasting.lateness = None;
        lasting
    }

    /// The route to an address: the machine's own choice where that is known; else the longest
    /// prefix, and of these the smallest metric.
    pub fn route_to(&self, address: IpAddr) -> Option<&RouteEntry> {
        if let Some(route) = self.routes_used.iter().find(|route| route.to.addr() == address) {
            return Some(route);
        }
        let fits = self.routes.iter().filter(|route| route.to.contains(&address));
        fits.max_by_key(|route| (route.to.prefix_len(), std::cmp::Reverse(route.metric)))
    }

    /// True for an address of the machine itself.
    pub fn is_own(&self, address: IpAddr) -> bool {
        let mut own = self.interfaces.iter().flat_map(|interface| &interface.addresses);
        address.is_loopback() || own.any(|net| net.addr() == address)
    }

    /// The machine's addresses that packets to there may leave from: those of its interfaces but
    /// the loopback, and none that is good on one link alone.
    pub fn sources_for(&self, there: IpAddr) -> Vec<IpAddr> {
        let outside = self.interfaces.iter().filter(|one| one.medium != Medium::Loopback && one.up);
        let all = outside.flat_map(|one| &one.addresses).map(IpNet::addr);
        let fits = |address: &IpAddr| match (address, there) {
            (IpAddr::V4(four), IpAddr::V4(_)) => !four.is_link_local(),
            (IpAddr::V6(six), IpAddr::V6(_)) => !six.is_unicast_link_local(),
            _ => false,
        };
        all.filter(fits).collect()
    }

    /// The gateway of everything that has no route of its own, of one version of IP.
    pub fn gateway(&self, ipv6: bool) -> Option<IpAddr> {
        let default =
            |route: &&RouteEntry| route.to.prefix_len() == 0 && route.to.addr().is_ipv6() == ipv6;
        let defaults = self.routes.iter().filter(default);
        defaults.min_by_key(|route| route.metric).and_then(|route| route.gateway)
    }

    /// An interface by name.
    pub fn interface(&self, name: &str) -> Option<&Interface> {
        self.interfaces.iter().find(|interface| interface.name == name)
    }

    /// True while no list and no text is longer than any agent makes it.
    pub fn is_bounded(&self) -> bool {
        let short = |text: &str| text.len() <= MAX_TEXT;
        let interfaces = self.interfaces.iter().all(|one| {
            short(&one.name)
                && one.addresses.len() <= MAX_ITEMS
                && one.hardware_address.as_deref().is_none_or(short)
        });
        let lists = [
            self.interfaces.len(),
            self.routes.len(),
            self.routes_used.len(),
            self.neighbours.len(),
            self.resolvers.len(),
            self.leases.len(),
            self.announced.len(),
            self.sockets.as_ref().map_or(0, Vec::len),
        ];
        short(&self.host_name)
            && interfaces
            && lists.into_iter().all(|length| length <= MAX_ITEMS)
            && self.routes.iter().chain(&self.routes_used).all(|route| short(&route.interface))
            && self.neighbours.iter().all(|one| {
                short(&one.interface) && one.hardware_address.as_deref().is_none_or(short)
            })
            && self.leases.iter().all(|lease| short(&lease.interface))
            && self
                .announced
                .iter()
                .all(|one| short(&one.interface) && short(&one.system) && short(&one.port))
            && self.sockets.iter().flatten().all(|socket| short(&socket.protocol))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn route(to: &str, gateway: &str, metric: u32) -> RouteEntry {
        RouteEntry {
            to: to.parse().unwrap(),
            gateway: Some(gateway.parse().unwrap()),
            interface: "eth0".to_owned(),
            metric,
        }
    }

    #[test]
    fn the_longest_prefix_and_then_the_smallest_metric_leads() {
        let routes = vec![
            route("0.0.0.0/0", "10.0.0.9", 200),
            route("0.0.0.0/0", "10.0.0.1", 100),
            route("198.18.0.0/15", "10.0.0.2", 900),
            route("::/0", "fd00::1", 100),
        ];
        let host_facts = HostFacts { routes, ..HostFacts::default() };
        let by = |to: &str| {
            host_facts.route_to(to.parse().unwrap()).unwrap().gateway.unwrap().to_string()
        };
        assert_eq!(by("198.19.1.1"), "10.0.0.2");
        assert_eq!(by("192.0.2.1"), "10.0.0.1");
        assert_eq!(by("2001:db8::1"), "fd00::1");
        assert_eq!(host_facts.gateway(false).unwrap().to_string(), "10.0.0.1");
        assert!(host_facts.is_bounded());
        let long = HostFacts { host_name: "x".repeat(MAX_TEXT + 1), ..host_facts };
        assert!(!long.is_bounded());
    }
}
