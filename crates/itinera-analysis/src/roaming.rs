//! What is worth a word about an agent's host facts, and which of the gateways that it used is the
//! better one: a user sent around the world by a badly chosen gateway is a frequent find.

use itinera_model::finding::Assessment;
use itinera_model::host_facts::Echoes;
use itinera_model::host_facts::{Duplex, HostFacts, Medium};
use itinera_model::note::{
    Attachment, GatewayPair, InterfaceName, InterfaceSpeed, NetworkName, Note, TunnelUse,
};
use itinera_model::owner::OwnerMap;
use itinera_model::quantile::median;
use itinera_model::unit::{Micros, WallTime};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// A gateway is named the better one when its median is smaller by this share, and by this much.
const BETTER_PER_CENT: u32 = 70;
const BETTER_US: u32 = 2_000;

/// One look around.
#[derive(Debug, Clone, Copy)]
pub struct Report<'a> {
    /// When.
    pub at: WallTime,
    /// What was seen.
    pub host_facts: &'a HostFacts,
    /// Echo to the gateway in use, where it was asked.
    pub gateway: Option<&'a Echoes>,
}

/// A gateway that was used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Used {
    /// Its address.
    pub address: IpAddr,
    /// By which interface.
    pub interface: String,
    /// Seen first and last.
    pub first_at: WallTime,
    /// Seen last.
    pub last_at: WallTime,
    /// It is the one in use.
    pub in_use: bool,
    /// Median over the reports of the median round trip to it.
    pub delay: Option<Micros>,
}

/// The gateways of IPv4 and IPv6 that were in use in some reports, in order of time, each with its
/// delay; and, where another than the one in use would be better, a note on that.
pub fn gateways(reports: &[Report<'_>]) -> (Vec<Used>, Option<Note>) {
    let mut used: Vec<(Used, Vec<u32>)> = Vec::new();
    for report in reports {
        for six in [false, true] {
            let Some(address) = report.host_facts.gateway(six) else { continue };
            let route =
                report.host_facts.routes.iter().find(|route| route.gateway == Some(address));
            let interface = route.map(|route| route.interface.clone()).unwrap_or_default();
            let known = used
                .iter_mut()
                .find(|(used, _)| used.address == address && used.interface == interface);
            let delay =
                report.gateway.filter(|it| it.address == address).and_then(|it| it.median_us);
            let delay = delay.map(|delay| delay.as_micros());
            match known {
                Some((used, delays)) => {
                    used.last_at = report.at;
                    delays.extend(delay);
                }
                None => {
                    let (first_at, last_at) = (report.at, report.at);
                    let new =
                        Used { address, interface, first_at, last_at, in_use: false, delay: None };
                    used.push((new, delay.into_iter().collect()));
                }
            }
        }
    }
    let newest = reports.last().map(|report| report.host_facts);
    let mut all: Vec<Used> = used
        .into_iter()
        .map(|(mut used, delays)| {
            used.delay = median(delays).map(Micros::new);
            let now = newest.and_then(|host_facts| host_facts.gateway(used.address.is_ipv6()));
            used.in_use = now == Some(used.address);
            used
        })
        .collect();
    all.sort_by_key(|used| (used.first_at, used.address));
    let better = better(&all);
    (all, better)
}

fn better(all: &[Used]) -> Option<Note> {
    let now = all.iter().find(|used| used.in_use && used.delay.is_some())?;
    let now_delay = now.delay?.as_micros();
    let same_version = |used: &&Used| used.address.is_ipv6() == now.address.is_ipv6();
    let others = all.iter().filter(|used| !used.in_use).filter(same_version);
    let best = others.filter(|used| used.delay.is_some()).min_by_key(|used| used.delay)?;
    let delay = best.delay?.as_micros();
    let better = u64::from(delay) * 100 < u64::from(now_delay) * u64::from(BETTER_PER_CENT)
        && now_delay.saturating_sub(delay) >= BETTER_US;
    better.then(|| {
        Note::BetterGateway(GatewayPair {
            better: best.address,
            interface: best.interface.clone(),
            better_us: delay,
            in_use: now.address,
            in_use_us: now_delay,
        })
    })
}

/// The access networks of an agent, with the number of paths by each, from the newest judgements
/// of its paths: the owner of the first hop with one. A silent hop before it may have any owner,
/// and such a path says nothing. A machine that roams changes it.
pub fn access_providers<'a>(
    paths: impl IntoIterator<Item = &'a Assessment>,
    map: &OwnerMap,
) -> BTreeMap<(u32, &str), usize> {
    let mut routes_used = BTreeMap::new();
    for path in paths {
        let answered = path.hops.iter().map_while(|hop| hop.address);
        if let Some(first) = answered.filter_map(|address| map.owner_of(address)).next() {
            *routes_used.entry((first.as_number, first.name.as_str())).or_default() += 1;
        }
    }
    routes_used
}

/// The access network that most paths use.
pub fn access_provider(paths: &[&Assessment], map: &OwnerMap) -> Option<Note> {
    let routes_used = access_providers(paths.iter().copied(), map);
    let ((as_number, name), _) = routes_used.into_iter().max_by_key(|(_, paths)| *paths)?;
    Some(Note::AccessNetwork(NetworkName { as_number, name: name.to_owned() }))
}

/// Notes on host facts, and on which of the targets, by name and address, are routed through
/// tunnels.
pub fn notes(host_facts: &HostFacts, targets: &[(&str, IpAddr)]) -> Vec<Note> {
    let mut notes = Vec::new();
    for one in &host_facts.interfaces {
        let interface = one.name.clone();
        let name = || InterfaceName { interface: one.name.clone() };
        if one.medium == Medium::Loopback || !one.up {
            continue;
        }
        if !one.carrier {
            notes.push(Note::NoCarrier(name()));
        }
        if one.medium == Medium::Wireless {
            notes.push(Note::WirelessInterface(name()));
        }
        if one.duplex == Some(Duplex::Half) {
            notes.push(Note::HalfDuplex(name()));
        }
        if let Some(mbit_s) = one.speed_mbit_s.filter(|mbit_s| *mbit_s < 1_000)
            && one.medium == Medium::Wired
        {
            notes.push(Note::LowSpeed(InterfaceSpeed { interface: interface.clone(), mbit_s }));
        }
        if one.medium == Medium::Tunnel {
            let routes = host_facts.routes.iter().filter(|route| route.interface == interface);
            let prefixes = routes.take(5).map(|route| route.to.to_string()).collect();
            let through = targets.iter().filter(|(_, address)| {
                host_facts.route_to(*address).is_some_and(|route| route.interface == interface)
            });
            let mut targets: Vec<String> = through.map(|(name, _)| (*name).to_owned()).collect();
            targets.dedup();
            notes.push(Note::TunnelInterface(TunnelUse { interface, prefixes, targets }));
        }
    }
    if host_facts.resolvers.is_empty() {
        notes.push(Note::NoResolver);
    }
    if host_facts.gateway(false).is_none() && host_facts.gateway(true).is_none() {
        notes.push(Note::NoGateway);
    }
    let attached = host_facts.announced.iter().map(|one| {
        Note::AttachedTo(Attachment {
            interface: one.interface.clone(),
            system: one.system.clone(),
            port: one.port.clone(),
        })
    });
    notes.extend(attached);
    notes
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::finding::{HopVerdict, HopView};
    use itinera_model::host_facts::{Interface, RouteEntry};
    use itinera_model::id::PathId;
    use itinera_model::owner::{Owner, OwnerEntry};
    use uuid::Uuid;

    fn by(gateway: &str, interface: &str) -> HostFacts {
        let route = RouteEntry {
            to: "0.0.0.0/0".parse().unwrap(),
            gateway: gateway.parse().ok(),
            interface: interface.to_owned(),
            metric: 100,
        };
        HostFacts { routes: vec![route], ..HostFacts::default() }
    }

    fn echoes(address: &str, ms: u32) -> Echoes {
        let (address, median_us) = (address.parse().unwrap(), Some(Micros::from_millis(ms)));
        Echoes { address, sent: 3, answered: 3, median_us }
    }

    #[test]
    fn the_better_gateway_of_those_used_is_named() {
        let (cable, radio) = (by("10.0.0.1", "eth0"), by("10.8.0.1", "wlan0"));
        let (fast, slow) = (echoes("10.0.0.1", 2), echoes("10.8.0.1", 45));
        let report = |second, host_facts, gateway| Report {
            at: WallTime::from_unix_seconds(second),
            host_facts,
            gateway: Some(gateway),
        };
        let reports =
            [report(0, &cable, &fast), report(60, &cable, &fast), report(120, &radio, &slow)];
        let (used, better) = gateways(&reports);
        assert_eq!(used.len(), 2);
        assert_eq!((used[0].in_use, used[1].in_use), (false, true));
        assert_eq!(used[0].last_at, WallTime::from_unix_seconds(60));
        let expected = GatewayPair {
            better: "10.0.0.1".parse().unwrap(),
            interface: "eth0".to_owned(),
            better_us: 2_000,
            in_use: "10.8.0.1".parse().unwrap(),
            in_use_us: 45_000,
        };
        assert_eq!(better, Some(Note::BetterGateway(expected)));
        assert_eq!(gateways(&reports[..2]).1, None, "the better one is in use");
        assert_eq!(gateways(&[]), (Vec::new(), None));
    }

    #[test]
    fn the_first_hop_with_an_owner_says_who_carries_out() {
        let hop = |hop: u8, address: &str| HopView {
            hop,
            address: address.parse().ok(),
            sent: 10,
            lost: 0,
            got_here_ppm: None,
            delay_us: None,
            delay_quartiles_us: None,
            usual_delay_us: None,
            verdict: HopVerdict::Clean,
        };
        let path = |second: &str| Assessment {
            path: PathId::from_uuid(Uuid::nil()),
            until: WallTime::from_unix_seconds(0),
            span_s: 60,
            rounds: 6,
            end_sent: 10,
            end_lost: 0,
            engine: 1,
            mapping: 0,
            hops: vec![hop(1, "10.0.0.1"), hop(2, second), hop(3, "198.18.64.1")],
            finding: None,
        };
        let entry = |net: &str, as_number, name: &str| OwnerEntry {
            prefix: net.parse().unwrap(),
            owner: Owner { as_number, name: name.to_owned(), contact: String::new() },
        };
        let map = OwnerMap::new(vec![
            entry("198.18.32.0/24", 64501, "Fennel Fibre"),
            entry("198.18.48.0/24", 64502, "Lowtide Mobile"),
            entry("198.18.64.0/24", 64500, "Northmere Carriage"),
        ]);
        let paths = [path("198.18.48.1"), path("198.18.32.1"), path("198.18.48.7")];
        let note = access_provider(&paths.iter().collect::<Vec<_>>(), &map);
        let lowtide = NetworkName { as_number: 64502, name: "Lowtide Mobile".to_owned() };
        assert_eq!(note, Some(Note::AccessNetwork(lowtide)));
        assert_eq!(access_provider(&[], &map), None);
        let mut behind_silence = path("198.18.48.1");
        behind_silence.hops[0].address = None;
        assert_eq!(
            access_provider(&[&behind_silence], &map),
            None,
            "the owner of the silent hop is unknown"
        );
    }

    #[test]
    fn notes_on_a_machine_are_complete() {
        let interface = |name: &str, medium, speed_mbit_s| Interface {
            name: name.to_owned(),
            medium,
            up: true,
            carrier: true,
            speed_mbit_s,
            ..Interface::default()
        };
        let mut host_facts = by("10.0.0.1", "eth0");
        host_facts.interfaces = vec![
            interface("eth0", Medium::Wired, Some(100)),
            interface("wlan0", Medium::Wireless, None),
            interface("tun0", Medium::Tunnel, None),
        ];
        let targets = [("Crew Mail", "10.50.0.9".parse().unwrap())];
        let name = |interface: &str| InterfaceName { interface: interface.to_owned() };
        let tunnel = |prefixes: &[&str], targets: &[&str]| {
            let [prefixes, targets] =
                [prefixes, targets].map(|all| all.iter().map(|one| (*one).to_owned()).collect());
            Note::TunnelInterface(TunnelUse { interface: "tun0".to_owned(), prefixes, targets })
        };
        let low = InterfaceSpeed { interface: "eth0".to_owned(), mbit_s: 100 };
        assert_eq!(
            notes(&host_facts, &targets),
            [
                Note::LowSpeed(low),
                Note::WirelessInterface(name("wlan0")),
                tunnel(&[], &[]),
                Note::NoResolver,
            ]
        );
        let by_rule = |interface: &str| RouteEntry {
            to: "10.50.0.9/32".parse().unwrap(),
            gateway: None,
            interface: interface.to_owned(),
            metric: 0,
        };
        host_facts.routes_used = vec![by_rule("tun0")];
        assert!(notes(&host_facts, &targets).contains(&tunnel(&[], &["Crew Mail"])));
        host_facts.routes_used.clear();
        let to = "10.50.0.0/16".parse().unwrap();
        host_facts.routes.push(RouteEntry {
            to,
            gateway: None,
            interface: "tun0".to_owned(),
            metric: 0,
        });
        let routed = tunnel(&["10.50.0.0/16"], &["Crew Mail"]);
        assert!(notes(&host_facts, &targets).contains(&routed));
        host_facts.routes_used = vec![by_rule("eth0")];
        assert!(notes(&host_facts, &targets).contains(&tunnel(&["10.50.0.0/16"], &[])));
    }
}
