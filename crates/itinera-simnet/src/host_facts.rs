//! The host facts of an agent, from the same world that its packets cross.

use crate::world::World;
use ipnet::IpNet;
use itinera_model::host_facts::{
    Announced, Duplex, HostFacts, Interface, Lease, Medium, Neighbour, RouteEntry,
};
use std::net::IpAddr;

/// The one interface of every simulated machine.
const NAME: &str = "eth0";
/// How many bits of its address all on the same link share.
const PREFIX: [u8; 2] = [24, 64];

impl World {
    /// The host facts of a site, without its counters.
    pub(crate) fn host_facts(&self, node: usize) -> Option<HostFacts> {
        let here = &self.nodes[node];
        let host_facts = here.host.host_facts.clone().unwrap_or_default();
        // A site hangs on one router.
        let gateway = &self.nodes[self.arcs[node].first()?.to];
        let of = |address: &IpAddr| PREFIX[usize::from(address.is_ipv6())];
        let own = |address: &IpAddr| IpNet::new(*address, of(address)).ok();
        let medium = if host_facts.wireless { Medium::Wireless } else { Medium::Wired };
        let duplex = if host_facts.half_duplex { Duplex::Half } else { Duplex::Full };
        let interface = Interface {
            name: NAME.to_owned(),
            medium,
            up: true,
            carrier: true,
            mtu_bytes: 1_500,
            hardware_address: Some(hardware(node)),
            addresses: here.addresses.iter().filter_map(own).collect(),
            speed_mbit_s: host_facts.speed_mbit_s,
            duplex: host_facts.speed_mbit_s.map(|_| duplex),
            ..Interface::default()
        };
        let mut routes = Vec::new();
        for address in &here.addresses {
            let by = gateway.addresses.iter().find(|by| by.is_ipv6() == address.is_ipv6());
            let all = if address.is_ipv6() { "::/0" } else { "0.0.0.0/0" };
            let route = |to: IpNet, gateway: Option<IpAddr>| RouteEntry {
                to,
                gateway,
                interface: NAME.to_owned(),
                metric: 100,
            };
            routes.extend(own(address).map(|link| route(link.trunc(), None)));
            routes.extend(all.parse().ok().map(|all| route(all, by.copied())));
        }
        let met = gateway.addresses.iter().map(|address| Neighbour {
            address: *address,
            hardware_address: Some(hardware(usize::MAX - node)),
            interface: NAME.to_owned(),
        });
        Some(HostFacts {
            host_name: format!("agent-{}", here.host.name),
            interfaces: vec![interface],
            routes,
            routes_used: Vec::new(),
            neighbours: met.collect(),
            resolvers: host_facts.resolvers,
            leases: vec![Lease {
                interface: NAME.to_owned(),
                server: gateway.addresses.iter().copied().find(IpAddr::is_ipv4),
                lifetime_s: Some(86_400),
            }],
            announced: host_facts
                .attached_to
                .into_iter()
                .map(|[system, port]| Announced { interface: NAME.to_owned(), system, port })
                .collect(),
            sockets: None,
            lateness: None,
            action: None,
        })
    }
}

/// A hardware address of those that are given locally (IEEE 802).
fn hardware(number: usize) -> String {
    let [.., a, b, c] = number.to_be_bytes();
    format!("02:00:00:{a:02x}:{b:02x}:{c:02x}")
}
