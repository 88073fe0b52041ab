//! A line of two routers, and what can be changed about it.

use super::*;
use itinera_wire::Icmp;
use std::net::{Ipv4Addr, Ipv6Addr};

const LINE: &str = r#"name = "line"
site = [{ id = "s", name = "S", address = "198.18.0.1", address6 = "2001:db8::1" }]
target = [{ id = "t", name = "T", address = "198.18.0.9", address6 = "2001:db8::9" }]
[[router]]
id = "a"
address = "198.18.0.2"
address6 = "2001:db8::2"
[[router]]
id = "b"
address = "198.18.0.3"
address6 = "2001:db8::3"
[[link]]
between = ["s", "a"]
delay_ms = 1.0
[[link]]
between = ["a", "b"]
delay_ms = 2.0
[[link]]
between = ["b", "t"]
delay_ms = 3.0
"#;

const FOUR: Addresses = Addresses::V4 {
    source: Ipv4Addr::new(198, 18, 0, 1),
    destination: Ipv4Addr::new(198, 18, 0, 9),
};
const SIX: Addresses = Addresses::V6 {
    source: Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1),
    destination: Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 9),
};

fn probe(addresses: Addresses, ttl: u8) -> Vec<u8> {
    let mut message = Vec::new();
    Icmp::EchoRequest { id: 1, seq: 2, data: b"xy" }.emit(addresses, &mut message);
    let mut packet = Vec::new();
    IpHeader::new(addresses, addresses.icmp(), ttl, 0, 0, 5).emit(&message, &mut packet);
    packet
}

fn answers_of(text: &str, addresses: Addresses, ttl: u8, count: u32) -> Vec<(IpAddr, u64)> {
    let mut net = Simnet::new(&Scenario::parse(text).unwrap(), 3);
    for n in 0..count {
        net.inject(Tick::from_millis(u64::from(n) * 100), &probe(addresses, ttl)).unwrap();
    }
    net.advance(Tick::from_millis(1_000_000));
    assert_eq!(net.poll_deadline(), None);
    std::iter::from_fn(|| net.poll_delivery())
        .map(|d| {
            let (header, payload) = IpHeader::parse(&d.packet).unwrap();
            assert!(Icmp::parse(header.addresses(), payload).is_ok());
            (header.addresses().source(), d.at.as_nanos() / 1_000_000 % 100)
        })
        .collect()
}

fn answers(text: &str, ttl: u8, count: u32) -> Vec<(IpAddr, u64)> {
    answers_of(text, FOUR, ttl, count)
}

#[test]
fn each_hop_limit_is_answered_by_its_node_after_its_delay() {
    let at = |last| IpAddr::from([198, 18, 0, last]);
    assert_eq!(answers(LINE, 1, 1), [(at(2), 2)]);
    assert_eq!(answers(LINE, 2, 1), [(at(3), 6)]);
    assert_eq!(answers(LINE, 3, 1), [(at(9), 12)]);
    assert_eq!(answers(LINE, 64, 1), [(at(9), 12)]);
}

#[test]
fn both_versions_take_the_same_route_where_both_exist() {
    for ttl in [1, 2, 3, 64] {
        let (four, six) = (answers_of(LINE, FOUR, ttl, 1), answers_of(LINE, SIX, ttl, 1));
        assert_eq!(four[0].1, six[0].1, "hop limit {ttl}");
        let IpAddr::V6(responder) = six[0].0 else { panic!("{six:?}") };
        assert_eq!(responder.segments()[7], [2, 3, 9][usize::from(ttl.min(3)) - 1]);
    }
    // A router without an IPv6 address carries none.
    let text = LINE.replace("address6 = \"2001:db8::3\"\n", "");
    assert_eq!(answers_of(&text, FOUR, 3, 1).len(), 1);
    assert_eq!(answers_of(&text, SIX, 3, 1).len(), 0);
}

#[test]
fn silent_and_policing_routers_still_forward() {
    let silent =
        LINE.replace("address = \"198.18.0.2\"", "address = \"198.18.0.2\"\nsilent = true");
    assert!(answers(&silent, 1, 5).is_empty());
    assert_eq!(answers(&silent, 2, 5).len(), 5);
    let rate_limits = LINE
        .replace("address = \"198.18.0.2\"", "address = \"198.18.0.2\"\nrate_limits = [0.4, 0.6]");
    let heard = answers(&rate_limits, 1, 1_000).len();
    assert!((400..=600).contains(&heard), "{heard} of 1000");
    assert_eq!(answers(&rate_limits, 3, 1_000).len(), 1_000);
}

#[test]
fn a_fault_works_in_its_direction_and_time_only() {
    let fault =
        "[[fault]]\nfrom = \"a\"\nto = \"b\"\nat_s = [0, 0]\nfor_s = 50\nloss = [0.2, 0.2]\n";
    let text = format!("{LINE}{fault}");
    assert_eq!(answers(&text, 1, 500).len(), 500);
    let heard = answers(&text, 2, 1_000).len();
    assert!((870..=930).contains(&heard), "500 at 20 % and 500 clean, {heard} heard");
    let back = text.replace("from = \"a\"\nto = \"b\"", "from = \"b\"\nto = \"a\"");
    assert!(answers(&back, 2, 1_000).len() < 950, "answers cross the link backwards");
    let truth = Simnet::new(&Scenario::parse(&text).unwrap(), 3).truth().to_vec();
    assert_eq!(truth[0].from[0], IpAddr::from([198, 18, 0, 2]));
}

#[test]
fn an_added_delay_reaches_every_hop_behind_it() {
    let fault = "[[fault]]\nfrom = \"a\"\nto = \"b\"\nat_s = [0, 0]\nadded_delay_ms = [20, 20]\n";
    let text = format!("{LINE}{fault}");
    assert_eq!(answers(&text, 1, 1)[0].1, 2);
    assert_eq!(answers(&text, 2, 1)[0].1, 26);
    assert_eq!(answers(&text, 3, 1)[0].1, 32);
}

/// Answers to probes with these changes to the line: (sender, time of arrival in ms, packet).
fn heard(text: &str, probes: &[(u64, Vec<u8>)]) -> Vec<Delivery> {
    let mut net = Simnet::new(&Scenario::parse(text).unwrap(), 3);
    for (at, packet) in probes {
        net.advance(Tick::from_millis(*at));
        net.inject(Tick::from_millis(*at), packet).unwrap();
    }
    net.advance(Tick::from_millis(1_000_000));
    std::iter::from_fn(|| net.poll_delivery()).collect()
}

fn udp(ttl: u8, port: u16, size: u16, unfragmented: bool) -> Vec<u8> {
    let mut datagram = Vec::new();
    itinera_wire::udp::emit_steered(FOUR, (port, 33_434), size - 28, 77, &mut datagram);
    let header = IpHeader::new(FOUR, ip::UDP, ttl, 46 << 2, 0, 5);
    let header = if unfragmented { header.unfragmented() } else { header };
    let mut packet = Vec::new();
    header.emit(&datagram, &mut packet);
    packet
}

fn message(packet: &[u8]) -> (IpHeader, Icmp<'_>) {
    let (header, payload) = IpHeader::parse(packet).unwrap();
    (header, Icmp::parse(header.addresses(), payload).unwrap())
}

fn router_a(change: &str) -> String {
    LINE.replace("address = \"198.18.0.2\"", &format!("address = \"198.18.0.2\"\n{change}"))
}

#[test]
fn a_limit_of_answers_grants_a_burst_and_then_its_rate() {
    let text = router_a("answers_per_s = 1.0");
    let probes: Vec<_> = (0..600).map(|n| (n * 100, probe(FOUR, 1))).collect();
    let count = heard(&text, &probes).len();
    assert!((64..=66).contains(&count), "{count} answers in a minute");
}

#[test]
fn a_tunnel_hides_hops_and_labels_and_dscp_are_read() {
    let hidden = router_a("hidden = true");
    assert_eq!(answers(&hidden, 1, 1)[0].0, IpAddr::from([198, 18, 0, 3]));
    let told = router_a("labels = [24001, 7]\nquotes_hop_limit = 3");
    let deliveries = heard(&told, &[(0, udp(1, 4_000, 60, false))]);
    let (_, Icmp::TimeExceeded { quote, .. }) = message(&deliveries[0].packet) else {
        panic!("{deliveries:?}");
    };
    let objects = itinera_wire::extension::parse(quote.extensions).unwrap();
    assert!(format!("{objects:?}").contains("label: 24001"), "{objects:?}");
    assert_eq!(IpHeader::parse_quoted(quote.datagram).unwrap().0.hop_limit(), 3);
    let marks = router_a("marks_dscp = 8");
    let deliveries = heard(&marks, &[(0, udp(2, 4_000, 60, false))]);
    let (_, Icmp::TimeExceeded { quote, .. }) = message(&deliveries[0].packet) else {
        panic!("{deliveries:?}");
    };
    assert_eq!(IpHeader::parse_quoted(quote.datagram).unwrap().0.traffic_class(), 8 << 2);
}

#[test]
fn too_big_packets_are_reported_or_hidden() {
    let text = LINE.replace("delay_ms = 2.0", "delay_ms = 2.0\nmtu = 1400");
    let deliveries =
        heard(&text, &[(0, udp(64, 4_000, 1_400, true)), (100, udp(64, 4_000, 1_401, true))]);
    assert!(matches!(message(&deliveries[0].packet).1, Icmp::Unreachable { code: 3, .. }));
    let (header, said) = message(&deliveries[1].packet);
    assert!(matches!(said, Icmp::TooBig { mtu: 1_400, .. }), "{said:?}");
    assert_eq!(header.addresses().source(), IpAddr::from([198, 18, 0, 2]));
    let hiding =
        text.replace("[[router]]\nid = \"a\"", "[[router]]\nid = \"a\"\nhides_too_big = true");
    assert!(heard(&hiding, &[(0, udp(64, 4_000, 1_401, true))]).is_empty());
}

#[test]
fn hosts_answer_by_their_services() {
    let text =
        LINE.replace("name = \"T\"", "name = \"T\", ignores = [\"echo\"], udp_open = [33434]");
    assert!(answers(&text, 9, 3).is_empty());
    let deliveries = heard(&text, &[(0, udp(64, 4_000, 60, false))]);
    let (header, payload) = IpHeader::parse(&deliveries[0].packet).unwrap();
    assert_eq!((header.protocol(), payload.len()), (ip::UDP, 40));
}

#[test]
fn a_site_answers_echo_and_leaves_the_rest_to_whoever_listens_there() {
    let text = LINE
        .replace("site = [{", "site = [{ id = \"u\", name = \"U\", address = \"198.18.0.7\" }, {")
        + "[[link]]\nbetween = [\"b\", \"u\"]\ndelay_ms = 4.0\n";
    let [site, other] = [1, 7].map(|last| Ipv4Addr::new(198, 18, 0, last));
    let there = Addresses::V4 { source: site, destination: other };
    let mut net = Simnet::new(&Scenario::parse(&text).unwrap(), 3);
    let mut datagram = Vec::new();
    IpHeader::new(there, ip::UDP, 64, 0, 0, 5).emit(&[0x12; 20], &mut datagram);
    for packet in [probe(there, 64), datagram] {
        net.inject(Tick::from_millis(0), &packet).unwrap();
    }
    net.advance(Tick::from_millis(1_000));
    let heard: Vec<(IpAddr, u64)> = std::iter::from_fn(|| net.poll_delivery())
        .map(|d| (d.to, d.at.as_nanos() / 1_000_000))
        .collect();
    // Both come there after 1 + 2 + 4 ms; of echo alone something comes back.
    assert_eq!(heard, [(other.into(), 7), (other.into(), 7), (site.into(), 14)]);
}

/// Two routes of equal length from a to t.
fn diamond(balances: &str) -> String {
    let more = "[[router]]\nid = \"c\"\naddress = \"198.18.0.4\"\n\
             [[link]]\nbetween = [\"a\", \"c\"]\ndelay_ms = 2.0\n\
             [[link]]\nbetween = [\"c\", \"t\"]\ndelay_ms = 3.0\n";
    format!("{}{more}", router_a(&format!("balances = \"{balances}\"")))
}

#[test]
fn flows_keep_their_route_and_packets_do_not() {
    for (balances, per_flow) in [("flow", 1), ("packet", 2)] {
        let text = diamond(balances);
        let routes = |port: u16| {
            let probes: Vec<_> = (0..20).map(|n| (n * 10, udp(2, port, 60, false))).collect();
            let from = heard(&text, &probes).into_iter().map(|d| d.packet[15]);
            from.collect::<std::collections::BTreeSet<u8>>()
        };
        assert_eq!(routes(4_000).len(), per_flow, "{balances}");
        let all = (4_000..4_020).flat_map(routes).collect::<std::collections::BTreeSet<u8>>();
        assert_eq!(all, [3, 4].into());
    }
}

#[test]
fn the_return_route_may_differ() {
    // Forward by b, back by c: seen by the hop limits left in answers of a router behind.
    let text = diamond("flow").replace("balances = \"flow\"\n", "").replace(
        "between = [\"b\", \"t\"]\ndelay_ms = 3.0",
        "between = [\"b\", \"t\"]\ndelay_ms = 30.0\nmetric = [1.0, 90.0]",
    );
    let deliveries = heard(&text, &[(0, udp(64, 4_000, 60, false))]);
    // 1 + 2 + 30 forward, 3 + 2 + 1 back.
    assert_eq!(deliveries[0].at.as_nanos() / 1_000_000, 39);
}

#[test]
fn a_translator_changes_senders_and_mends_quotes_or_not() {
    let inside = LINE.replace("198.18.0.1\"", "10.0.0.1\"");
    let own = Addresses::try_new([10, 0, 0, 1].into(), FOUR.destination()).unwrap();
    for leaves_quotes in [false, true] {
        let text = inside.replace(
                "address = \"198.18.0.2\"",
                &format!("address = \"198.18.0.2\"\ntranslates_to = \"100.64.0.1\"\nleaves_quotes = {leaves_quotes}"),
            );
        let mut datagram = Vec::new();
        itinera_wire::udp::emit_steered(own, (4_000, 9), 20, 77, &mut datagram);
        let mut packet = Vec::new();
        IpHeader::new(own, ip::UDP, 2, 0, 0, 5).emit(&datagram, &mut packet);
        let deliveries = heard(&text, &[(0, packet)]);
        let (_, Icmp::TimeExceeded { quote, .. }) = message(&deliveries[0].packet) else {
            panic!("{deliveries:?}");
        };
        let (inner, transport) = IpHeader::parse_quoted(quote.datagram).unwrap();
        let outside: IpAddr = [100, 64, 0, 1].into();
        let shown = inner.addresses().source();
        assert_eq!(shown, if leaves_quotes { outside } else { own.source() });
        let checksum = u16::from_be_bytes([transport[6], transport[7]]);
        assert_eq!(checksum == 77, !leaves_quotes);
    }
}

#[test]
fn bursts_queues_doubles_and_reordering_show() {
    let with = |line: &str| LINE.replace("delay_ms = 2.0", &format!("delay_ms = 2.0\n{line}"));
    let probes: Vec<_> = (0..2_000).map(|n| (n * 5, probe(FOUR, 1 + 1))).collect();
    let burst = with("burst = { enter = 0.01, leave = 0.1, loss = 1.0 }");
    let lost = 2_000 - heard(&burst, &probes).len();
    // A tenth of the time bad, in each direction.
    assert!((150..=600).contains(&lost), "{lost} lost");
    let doubled = heard(&with("duplicates = 0.1"), &probes).len();
    assert!((2_300..=2_600).contains(&doubled), "{doubled}");
    let times = |deliveries: Vec<Delivery>| -> Vec<u64> {
        deliveries.iter().map(|d| d.at.as_nanos()).collect()
    };
    let queued = |size: u16| {
        let text = with("queue = { mbit_per_s = 10.0, longest_ms = 50.0, load = 0.8 }");
        let probes: Vec<_> = (0..500).map(|n| (n * 100, udp(64, 4_000, size, false))).collect();
        let mut waits: Vec<u64> =
            times(heard(&text, &probes)).iter().map(|at| at % 100_000_000 / 1_000).collect();
        waits.sort_unstable();
        waits[waits.len() / 4]
    };
    let (small, large) = (queued(60), queued(1_400));
    assert!(small > 12_000 && large > small + 900, "{small} {large}");
}

#[test]
fn strangers_and_garbage_are_refused() {
    let mut net = Simnet::new(&Scenario::parse(LINE).unwrap(), 1);
    let mut packet = probe(FOUR, 3);
    packet[12] = 9;
    assert!(matches!(net.inject(Tick::ZERO, &packet), Err(Refused::Malformed(_))));
    let foreign = Addresses::V4 {
        source: Ipv4Addr::new(192, 0, 2, 1),
        destination: Ipv4Addr::new(198, 18, 0, 9),
    };
    let header = IpHeader::new(foreign, ip::UDP, 3, 0, 0, 0);
    let mut stranger = Vec::new();
    header.emit(&[], &mut stranger);
    assert!(matches!(net.inject(Tick::ZERO, &stranger), Err(Refused::UnknownSource(_))));
    assert_eq!(net.poll_deadline(), None);
}
