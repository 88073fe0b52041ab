//! The kernel's word: interfaces, addresses, routes and neighbours by rtnetlink(7), speed and
//! duplex from /sys, resolvers from resolv.conf(5), sockets from proc_net(5).

use super::announced::Announcements;
use super::leases;
use futures_util::{StreamExt, TryStreamExt};
use ipnet::IpNet;
use itinera_model::host_facts::{
    Counters, Duplex, HostFacts, Interface, MAX_ITEMS, MAX_TEXT, Medium, Neighbour, OpenSocket,
    RouteEntry,
};
use rtnetlink::packet_route::address::AddressAttribute;
use rtnetlink::packet_route::link::{InfoKind, LinkAttribute, LinkFlags, LinkInfo, LinkMessage};
use rtnetlink::packet_route::neighbour::{NeighbourAddress, NeighbourAttribute, NeighbourState};
use rtnetlink::packet_route::route::{RouteAddress, RouteAttribute, RouteHeader, RouteMessage};
use rtnetlink::{Handle, IpVersion, MulticastGroup, RouteMessageBuilder};
use std::collections::BTreeMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::Path;

/// Reads the host facts once.
pub(super) async fn read(
    sockets: bool,
    announced: Option<&Announcements>,
) -> io::Result<HostFacts> {
    let (connection, handle, _) = rtnetlink::new_connection()?;
    let driving = tokio::spawn(connection);
    let from_kernel = ask_kernel(&handle, announced).await;
    driving.abort();
    let mut host_facts = from_kernel.map_err(io::Error::other)?;
    host_facts.host_name = short(&rustix::system::uname().nodename().to_string_lossy());
    host_facts.resolvers = resolvers();
    host_facts.sockets = sockets.then(open_sockets);
    Ok(host_facts)
}

/// How packets to addresses leave now, by the kernel's own choice: routing rules
/// (RFC 3549 section 3.1.1) may send some by another table than the main one.
pub(super) async fn routes_to(addresses: &[IpAddr]) -> io::Result<Vec<RouteEntry>> {
    let (connection, handle, _) = rtnetlink::new_connection()?;
    let driving = tokio::spawn(connection);
    let mut names = BTreeMap::new();
    let mut links = handle.link().get().execute();
    while let Ok(Some(link)) = links.try_next().await {
        names.insert(link.header.index, name_of(&link));
    }
    let mut routes_used = Vec::new();
    for address in addresses.iter().take(MAX_ITEMS) {
        let prefix_len = IpNet::from(*address).prefix_len();
        let Ok(asked) =
            RouteMessageBuilder::<IpAddr>::new().destination_prefix(*address, prefix_len)
        else {
            continue;
        };
        let mut answers = Box::pin(handle.route().get(asked.build()).execute());
        // Where there is no route, the kernel says so: an error.
        if let Ok(Some(message)) = answers.try_next().await {
            routes_used.extend(route(&message, &names));
        }
    }
    driving.abort();
    Ok(routes_used)
}

/// Waits for the kernel to say that links, addresses, routes or rules for them have changed.
pub(super) async fn changed() {
    let groups = [
        MulticastGroup::Link,
        MulticastGroup::Ipv4Ifaddr,
        MulticastGroup::Ipv6Ifaddr,
        MulticastGroup::Ipv4Route,
        MulticastGroup::Ipv6Route,
        MulticastGroup::Ipv4Rule,
        MulticastGroup::Ipv6Rule,
    ];
    match rtnetlink::new_multicast_connection(&groups) {
        Ok((connection, _handle, mut messages)) => {
            let driving = tokio::spawn(connection);
            let _said = messages.next().await;
            driving.abort();
        }
        // Without it there is still the schedule.
        Err(_) => std::future::pending().await,
    }
}

async fn ask_kernel(
    handle: &Handle,
    announced: Option<&Announcements>,
) -> Result<HostFacts, rtnetlink::Error> {
    let mut host_facts = HostFacts::default();
    let mut names = BTreeMap::new();
    let mut links = handle.link().get().execute();
    while let Some(link) = links.try_next().await? {
        let interface = interface(&link);
        names.insert(link.header.index, interface.name.clone());
        host_facts.leases.extend(leases::of(link.header.index, &interface.name));
        host_facts.interfaces.push(interface);
    }
    host_facts.announced = announced.map(|hearing| hearing.now(&names)).unwrap_or_default();
    let mut addresses = handle.address().get().execute();
    while let Some(address) = addresses.try_next().await? {
        let own = address.attributes.iter().find_map(|attribute| match attribute {
            AddressAttribute::Address(own) => Some(*own),
            _ => None,
        });
        let local = address.attributes.iter().find_map(|attribute| match attribute {
            AddressAttribute::Local(own) => Some(*own),
            _ => None,
        });
        let named = names.get(&address.header.index);
        let interface = host_facts.interfaces.iter_mut().find(|one| Some(&one.name) == named);
        if let (Some(interface), Some(own)) = (interface, local.or(own))
            && let Ok(net) = IpNet::new(own, address.header.prefix_len)
        {
            interface.addresses.push(net);
        }
    }
    for version in [IpVersion::V4, IpVersion::V6] {
        let asked = match version {
            IpVersion::V4 => RouteMessageBuilder::<Ipv4Addr>::new().build(),
            IpVersion::V6 => RouteMessageBuilder::<Ipv6Addr>::new().build(),
        };
        let mut routes = handle.route().get(asked).execute();
        while let Some(message) = routes.try_next().await? {
            let main = message.header.table == RouteHeader::RT_TABLE_MAIN;
            if main && host_facts.routes.len() < MAX_ITEMS {
                host_facts.routes.extend(route(&message, &names));
            }
        }
    }
    let mut neighbours = handle.neighbours().get().execute();
    while let Some(message) = neighbours.try_next().await? {
        let here = matches!(message.header.state, NeighbourState::Noarp | NeighbourState::None);
        if here || host_facts.neighbours.len() >= MAX_ITEMS {
            continue;
        }
        let mut neighbour = Neighbour {
            address: Ipv4Addr::UNSPECIFIED.into(),
            hardware_address: None,
            interface: names.get(&message.header.ifindex).cloned().unwrap_or_default(),
        };
        for attribute in &message.attributes {
            match attribute {
                NeighbourAttribute::Destination(NeighbourAddress::Inet(four)) => {
                    neighbour.address = (*four).into();
                }
                NeighbourAttribute::Destination(NeighbourAddress::Inet6(six)) => {
                    neighbour.address = (*six).into();
                }
                NeighbourAttribute::LinkLayerAddress(octets) => {
                    neighbour.hardware_address = hardware(octets);
                }
                _ => {}
            }
        }
        host_facts.neighbours.push(neighbour);
    }
    Ok(host_facts)
}

fn name_of(link: &LinkMessage) -> String {
    let name = link.attributes.iter().find_map(|attribute| match attribute {
        LinkAttribute::IfName(name) => Some(short(name)),
        _ => None,
    });
    name.unwrap_or_default()
}

fn interface(link: &LinkMessage) -> Interface {
    let flags = link.header.flags;
    let mut interface = Interface {
        name: name_of(link),
        up: flags.contains(LinkFlags::Up),
        carrier: flags.contains(LinkFlags::LowerUp),
        ..Interface::default()
    };
    let mut kind = None;
    for attribute in &link.attributes {
        match attribute {
            LinkAttribute::Mtu(mtu) => interface.mtu_bytes = *mtu,
            LinkAttribute::Address(octets) => interface.hardware_address = hardware(octets),
            LinkAttribute::Stats64(stats) => {
                interface.counters = Counters {
                    rx_bytes: stats.rx_bytes,
                    tx_bytes: stats.tx_bytes,
                    rx_packets: stats.rx_packets,
                    tx_packets: stats.tx_packets,
                    rx_errors: stats.rx_errors,
                    tx_errors: stats.tx_errors,
                    rx_discards: stats.rx_dropped,
                    tx_discards: stats.tx_dropped,
                };
            }
            LinkAttribute::LinkInfo(infos) => {
                kind = infos.iter().find_map(|info| match info {
                    LinkInfo::Kind(kind) => Some(kind.clone()),
                    _ => None,
                });
            }
            _ => {}
        }
    }
    let folder = Path::new("/sys/class/net").join(&interface.name);
    interface.medium = if flags.contains(LinkFlags::Loopback) {
        Medium::Loopback
    } else if kind.is_some_and(|kind| is_tunnel(&kind)) {
        Medium::Tunnel
    } else if folder.join("wireless").exists() || folder.join("phy80211").exists() {
        Medium::Wireless
    } else {
        Medium::Wired
    };
    if interface.medium == Medium::Wired {
        let said = |file: &str| std::fs::read_to_string(folder.join(file)).ok();
        let speed = said("speed").and_then(|text| text.trim().parse::<i64>().ok());
        // Interfaces that do not know say -1.
        interface.speed_mbit_s = speed.and_then(|speed| u32::try_from(speed).ok());
        interface.duplex = match said("duplex").as_deref().map(str::trim) {
            Some("full") => Some(Duplex::Full),
            Some("half") => Some(Duplex::Half),
            _ => None,
        };
    }
    interface
}

const fn is_tunnel(kind: &InfoKind) -> bool {
    matches!(
        kind,
        InfoKind::Tun
            | InfoKind::IpIp
            | InfoKind::Ip6Tnl
            | InfoKind::SitTun
            | InfoKind::GreTun
            | InfoKind::GreTun6
            | InfoKind::GreTap
            | InfoKind::GreTap6
            | InfoKind::Vti
            | InfoKind::Vti6
            | InfoKind::Wireguard
            | InfoKind::Xfrm
    )
}

fn route(message: &RouteMessage, names: &BTreeMap<u32, String>) -> Option<RouteEntry> {
    let address = |address: &RouteAddress| match address {
        RouteAddress::Inet(four) => Some(IpAddr::from(*four)),
        RouteAddress::Inet6(six) => Some(IpAddr::from(*six)),
        _ => None,
    };
    let any: IpAddr = match message.header.address_family {
        rtnetlink::packet_route::AddressFamily::Inet6 => Ipv6Addr::UNSPECIFIED.into(),
        _ => Ipv4Addr::UNSPECIFIED.into(),
    };
    let (mut to, mut gateway, mut by, mut metric) = (any, None, None, 0);
    for attribute in &message.attributes {
        match attribute {
            RouteAttribute::Destination(there) => to = address(there)?,
            RouteAttribute::Gateway(there) => gateway = address(there),
            RouteAttribute::Oif(index) => by = names.get(index).cloned(),
            RouteAttribute::Priority(priority) => metric = *priority,
            _ => {}
        }
    }
    let to = IpNet::new(to, message.header.destination_prefix_length).ok()?;
    Some(RouteEntry { to, gateway, interface: by?, metric })
}

/// A hardware address in its usual form; nothing if there is none.
fn hardware(octets: &[u8]) -> Option<String> {
    let known = octets.len() == 6 && octets.iter().any(|octet| *octet > 0);
    let pairs: Vec<String> = octets.iter().map(|octet| format!("{octet:02x}")).collect();
    known.then(|| pairs.join(":"))
}

fn short(text: &str) -> String {
    text.chars().take(MAX_TEXT / 4).collect()
}

/// The machine's resolvers, in its order.
pub(crate) fn resolvers() -> Vec<IpAddr> {
    let text = std::fs::read("/etc/resolv.conf").unwrap_or_default();
    let parsed = resolv_conf::Config::parse(&text).unwrap_or_default();
    let own = parsed.nameservers.iter().map(|server| IpAddr::from(server.clone()));
    own.take(MAX_ITEMS).collect()
}

fn open_sockets() -> Vec<OpenSocket> {
    let mut found = Vec::new();
    let mut add = |protocol: &str, local, peer: std::net::SocketAddr| {
        if found.len() < MAX_ITEMS {
            let peer = (peer.port() > 0).then_some(peer);
            found.push(OpenSocket { protocol: protocol.to_owned(), local, peer });
        }
    };
    for entries in [procfs::net::tcp(), procfs::net::tcp6()] {
        let alive = entries.into_iter().flatten().filter(|entry| {
            matches!(
                entry.state,
                procfs::net::TcpState::Listen | procfs::net::TcpState::Established
            )
        });
        alive.for_each(|entry| add("tcp", entry.local_address, entry.remote_address));
    }
    for entries in [procfs::net::udp(), procfs::net::udp6()] {
        let all = entries.into_iter().flatten();
        all.for_each(|entry| add("udp", entry.local_address, entry.remote_address));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn this_machine_has_at_least_itself() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let host_facts = read(true, None).await.unwrap();
        let own = host_facts.interface("lo").unwrap();
        assert_eq!(own.medium, Medium::Loopback);
        assert!(own.addresses.iter().any(|net| net.addr().is_loopback()), "{own:?}");
        assert!(host_facts.is_bounded() && !host_facts.host_name.is_empty());
        let here = listener.local_addr().unwrap();
        let sockets = host_facts.sockets.unwrap();
        assert!(sockets.iter().any(|socket| socket.local == here && socket.peer.is_none()));
        assert!(read(false, None).await.unwrap().sockets.is_none(), "only where allowed");
    }
}
