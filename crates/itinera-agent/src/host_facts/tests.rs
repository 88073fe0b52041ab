//! What the real kernel tells, in namespaces of our own.

use super::*;
use crate::diagnosis::{DiagnosisPlan, Place, diagnose};
use crate::testbed::{Row, TARGETS, ip};
use itinera_check::{Destination, Roots};
use itinera_model::check::Ask;
use itinera_wire::lldp::{ETHERTYPE, GROUPS};
use nix::ifaddrs::getifaddrs;
use nix::sys::socket::{MsgFlags, sendto};
use socket2::{Domain, Socket, Type};
use std::os::fd::AsRawFd;
use std::sync::Arc;
use tokio::sync::mpsc;

fn block<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(future)
}

/// Sends one frame to neighbours by an interface of the namespace that the thread is in.
fn announce(interface: &str, lifetime_s: u8, name: &str) {
    let mut frame = [&GROUPS[0][..], &[2, 0, 0, 0, 0, 0x2a], &ETHERTYPE.to_be_bytes()].concat();
    frame.extend(b"\x02\x07\x04\x02\x00\x00\x00\x00\x2a\x04\x07\x05port-7\x06\x02\x00");
    frame.extend([lifetime_s, 5 << 1, u8::try_from(name.len()).unwrap()]);
    frame.extend(name.as_bytes());
    frame.extend([0; 40]);
    let socket = Socket::new(Domain::PACKET, Type::RAW, None).unwrap();
    let own = getifaddrs().unwrap().find_map(|one| {
        let link = one.address?.as_link_addr().copied()?;
        (one.interface_name == interface).then_some(link)
    });
    sendto(socket.as_raw_fd(), &frame, &own.unwrap(), MsgFlags::empty()).unwrap();
}

#[test]
fn what_a_switch_announces_is_heard_on_the_link_it_comes_by() {
    let row = Row::new();
    let (tell, told) = std::sync::mpsc::channel::<(u8, &str)>();
    let switch = row.within(1, move || {
        told.iter().for_each(|(lifetime_s, name)| announce("west0", lifetime_s, name));
    });
    let agent = row.within(0, move || {
        let announced = Announcements::open().unwrap();
        let host_facts = HostFactsSource::Kernel { sockets: false, announced: Some(announced) };
        let read = || block(host_facts.read()).unwrap().announced;
        let until = |count: usize| {
            (0..50)
                .map(|_| (std::thread::sleep(Duration::from_millis(20)), read()).1)
                .find(|all| all.len() == count)
        };
        assert_eq!(read(), []);
        tell.send((120, "edge\x1b[31mswitch")).unwrap();
        let heard = until(1).expect("it is heard").remove(0);
        tell.send((0, "edge\x1b[31mswitch")).unwrap();
        until(0).expect("it says that it leaves");
        drop(tell);
        heard
    });
    let heard = agent.join().unwrap();
    switch.join().unwrap();
    assert_eq!((heard.interface.as_str(), heard.port.as_str()), ("east0", "port-7"));
    assert_eq!(
        heard.system, "edge\x1b[31mswitch",
        "foreign text, kept as it is, made harmless where shown"
    );
}

#[test]
fn what_comes_to_a_port_for_somebody_before_is_no_answer_of_the_simulation() {
    let simulation = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let there = simulation.local_addr().unwrap();
    let telling = std::thread::spawn(move || {
        let (_, from) = simulation.recv_from(&mut [0; 100]).unwrap();
        let told = HostFacts { host_name: "agent-s".to_owned(), ..HostFacts::default() };
        for datagram in [vec![0x45, 0, 0, 20], Vec::new(), encode(&Some(told))] {
            simulation.send_to(&datagram, from).unwrap();
        }
    });
    let seen = block(HostFactsSource::Simulated(there, [10, 0, 0, 2].into()).read());
    assert_eq!(seen.unwrap().host_name, "agent-s");
    telling.join().unwrap();
}

#[test]
fn routes_by_rules_through_a_tunnel_are_read_from_the_kernel() {
    let host_facts = || HostFactsSource::Kernel { sockets: false, announced: None };
    let row = Row::new();
    let here = &row.names[0];
    let set = |words: &str| ip(&format!("-n {here} {words}"));
    set("tuntap add dev tun9 mode tun");
    set("link set tun9 up");
    set("route add default dev tun9 table 77");
    let looking = row.within(0, move || {
        let host_facts = host_facts();
        let nowhere: IpAddr = [192, 0, 2, 9].into();
        let addresses = [TARGETS[0], TARGETS[1], nowhere];
        block(async {
            let mut seen = host_facts.read().await.unwrap();
            seen.routes_used = host_facts.routes_to(&addresses).await;
            seen
        })
    });
    let before = looking.join().unwrap();
    let by = |seen: &HostFacts, to: usize| seen.route_to(TARGETS[to]).unwrap().interface.clone();
    assert_eq!((by(&before, 0), by(&before, 1)), ("east0".to_owned(), "east0".to_owned()));
    assert_eq!(
        before.routes_used.len(),
        2,
        "to the third there is no route: {:?}",
        before.routes_used
    );
    assert_eq!(before.routes_used[0].gateway, Some([198, 18, 200, 2].into()));
    assert!(before.routes.iter().all(|route| route.interface != "tun9"), "another table's");
    let hears = row.within(0, move || block(async move { host_facts().changed().await }));
    for priority in 100.. {
        assert!(priority < 300, "the kernel tells of rules");
        set(&format!("rule add priority {priority} to 198.18.203.0/24 lookup 77"));
        std::thread::sleep(Duration::from_millis(50));
        if hears.is_finished() {
            break;
        }
    }
    hears.join().unwrap();
    let looking =
        row.within(0, move || block(async move { host_facts().routes_to(&TARGETS).await }));
    let after = HostFacts { routes_used: looking.join().unwrap(), ..before };
    assert_eq!((by(&after, 0), by(&after, 1)), ("tun9".to_owned(), "east0".to_owned()));
    let tunnel = after.interface("tun9").map(|interface| interface.medium);
    assert_eq!(tunnel, Some(itinera_model::host_facts::Medium::Tunnel));
}

#[test]
fn an_address_without_a_return_route_differs_from_one_that_works() {
    let row = Row::new();
    ip(&format!("-n {} addr add 198.18.210.1/32 dev east0", row.names[0]));
    let looking = row.within(0, || {
        let plan = DiagnosisPlan {
            target: TARGETS[0].to_string(),
            destination: Destination::Address(TARGETS[0]),
            asks: vec![Ask::Connect { port: 9 }],
            roots: Arc::new(Roots::of(Vec::new())),
            within: None,
        };
        let place = Place::Kernel { interface: None, announced: None };
        let (news, mut heard) = mpsc::channel(64);
        block(async {
            let draining = async { while heard.recv().await.is_some() {} };
            tokio::join!(diagnose(&place, &plan, news), draining).0.unwrap()
        })
    });
    let observed = looking.join().unwrap();
    let of = |source: &str| {
        let source = source.parse::<IpAddr>().unwrap();
        observed.sources.iter().find(|one| one.source == source).copied().unwrap()
    };
    let (known, unknown) = (of("198.18.200.1"), of("198.18.210.1"));
    assert_eq!(known.answered, known.sent, "{observed:?}");
    assert!(unknown.sent > 0 && unknown.answered == 0, "{unknown:?}");
    assert_eq!(observed.own_stack, Some(true));
    assert_eq!(observed.gateway.map(|gateway| gateway.answered > 0), Some(true));
    assert!(observed.took_us.as_micros() < 30_000_000, "{:?}", observed.took_us);
}
