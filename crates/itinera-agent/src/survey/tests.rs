//! What measurements on the real kernel must show, and what they must not.

use super::*;
use crate::link::RawSockets;
use crate::testbed::{Limits, Row, TARGETS, ip};
use itinera_model::path_mtu::MtuLimit;
use itinera_model::protocol::Turn;
use itinera_model::reading::AnswerForm;
use itinera_model::round::HopCounts;
use itinera_wire::extension::{self, Label, Object};
use itinera_wire::icmp::Quote;
use itinera_wire::{Addresses, Icmp, IpHeader};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::collections::VecDeque;
use std::io::Read;
use std::net::{SocketAddr, TcpListener};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

#[derive(Debug, Default)]
struct Measurement {
    rounds: Vec<SurveyRound>,
    ensemble: Option<RouteEnsemble>,
    mtu: Option<PathMtu>,
    captured: Vec<Captured>,
}

fn plan(address: IpAddr, method: Method) -> SurveyPlan {
    let hop = |limit| HopLimit::try_new(limit).unwrap();
    SurveyPlan {
        name: None,
        address,
        source: None,
        method,
        port: (method == Method::TcpSyn).then_some(9),
        dscp: 0,
        size_bytes: 64,
        dont_fragment: false,
        hops: (hop(1), hop(12)),
        probes_per_hop: 10,
        interval: Micros::from_millis(300),
        timeout: Micros::from_millis(400),
        rounds: Some(12),
        branches_error_ppm: None,
        mtu_up_to: None,
        pacing: Pacing {
            agent_per_s: 10_000,
            target_per_s: 10_000,
            hop_per_1000_s: 10_000_000,
            ..Pacing::default()
        },
        capture: false,
        chance: Uuid::new_v4().as_u128(),
    }
}

/// Surveys at the row's beginning on a thread of their own, all at once.
fn survey_all(row: &Row, plans: Vec<SurveyPlan>) -> Vec<Measurement> {
    let surveying = row.within(0, move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let mut running = Vec::new();
            for plan in plans {
                running.push(tokio::spawn(async move { one(&plan).await }));
            }
            let mut found = Vec::new();
            for one in running {
                found.push(one.await.unwrap());
            }
            found
        })
    });
    surveying.join().unwrap()
}

async fn one(plan: &SurveyPlan) -> Measurement {
    on(Link::raw(RawSockets::open(None).unwrap()).unwrap(), plan).await.unwrap()
}

async fn on(link: Link, plan: &SurveyPlan) -> Result<Measurement, SurveyError> {
    let (news, mut heard) = mpsc::channel(1_000);
    let (_stop, stopped) = watch::channel(false);
    let mut found = Measurement {
        captured: survey(link, plan, news, stopped).await?.packets,
        ..Measurement::default()
    };
    while let Some(news) = heard.recv().await {
        match news {
            SurveyProgress::Branches(ensemble) => found.ensemble = Some(ensemble),
            SurveyProgress::Mtu(mtu) => found.mtu = Some(mtu),
            SurveyProgress::Round(round) => found.rounds.push(*round),
            SurveyProgress::Branching(..) | SurveyProgress::Sizing(..) => {}
        }
    }
    Ok(found)
}

/// The same without any privilege, on a thread that has given it up.
fn survey_plainly(row: &Row, plans: Vec<SurveyPlan>) -> Vec<Result<Measurement, SurveyError>> {
    row.allow_echo(0);
    let surveying = row.within(0, move || {
        crate::drop_capabilities().unwrap();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let mut all = Vec::new();
            for plan in &plans {
                all.push(on(Link::plain().unwrap(), plan).await);
            }
            all
        })
    });
    surveying.join().unwrap()
}

fn survey_one(row: &Row, plan: SurveyPlan) -> Measurement {
    survey_all(row, vec![plan]).remove(0)
}

/// Share of probes without an answer by hop, over the rounds after the first.
fn loss(found: &Measurement) -> Vec<f64> {
    loss_of(&found.rounds.iter().skip(1).collect::<Vec<_>>())
}

fn loss_of(rounds: &[&SurveyRound]) -> Vec<f64> {
    let hops = rounds.iter().map(|round| round.round.hops.len()).max().unwrap_or(0);
    let share = |hop: usize| {
        let counts: Vec<&HopCounts> =
            rounds.iter().filter_map(|round| round.round.hops.get(hop)).collect();
        let sent: u32 = counts.iter().map(|hop| u32::from(hop.sent)).sum();
        let heard: u32 =
            counts.iter().map(|hop| u32::from(hop.answers()) + u32::from(hop.late)).sum();
        1.0 - f64::from(heard) / f64::from(sent.max(1))
    };
    (0..hops).map(share).collect()
}

/// Five standard errors of a share counted over the 110 probes of a plan: chance alone misses
/// it less often than once in a million.
fn is_about(share: f64, expected: f64) -> bool {
    (share - expected).abs() < 0.24
}

fn refusals(found: &Measurement) -> usize {
    found.rounds.iter().flat_map(|r| &r.round.hops).map(|hop| hop.unreachable.len()).sum()
}

/// The second router loses half of the packets toward the target.
const FORWARD_LOSS: &str = "iifname \"west1\" numgen random mod 100 < 40 drop";

#[test]
fn a_lost_link_loses_at_every_hop_behind_and_at_none_before() {
    let row = Row::new();
    row.filter(2, "forward", &[FORWARD_LOSS]);
    for method in [Method::Udp, Method::IcmpEcho] {
        let shares = loss(&survey_one(&row, plan(TARGETS[0], method)));
        assert_eq!(&shares[..2], [0.0, 0.0], "{method}: {shares:?}");
        assert!(shares[2..].iter().all(|share| is_about(*share, 0.4)), "{method}: {shares:?}");
        assert_eq!(shares.len(), 4, "the target is reached all the same");
    }
}

#[test]
fn loss_on_the_return_route_looks_the_same_from_one_side() {
    let row = Row::new();
    row.filter(2, "forward", &["iifname \"east2\" numgen random mod 100 < 40 drop"]);
    let shares = loss(&survey_one(&row, plan(TARGETS[0], Method::Udp)));
    assert_eq!(&shares[..2], [0.0, 0.0], "{shares:?}");
    assert!(shares[2..].iter().all(|share| is_about(*share, 0.4)), "{shares:?}");
}

#[test]
fn a_router_that_polices_its_answers_loses_nothing_of_others() {
    let row = Row::new();
    row.filter(2, "output", &["icmp type time-exceeded numgen random mod 100 < 50 drop"]);
    let shares = loss(&survey_one(&row, plan(TARGETS[0], Method::IcmpEcho)));
    assert!(is_about(shares[1], 0.5), "{shares:?}");
    assert_eq!((shares[0], shares[2], shares[3]), (0.0, 0.0, 0.0), "{shares:?}");
}

#[test]
fn a_silent_hop_is_silent_and_a_black_hole_has_no_answer_behind_it() {
    let row = Row::new();
    row.filter(2, "output", &["icmp type time-exceeded drop"]);
    let silent = survey_one(&row, plan(TARGETS[0], Method::IcmpEcho));
    assert_eq!(loss(&silent), [0.0, 1.0, 0.0, 0.0]);
    assert_eq!(silent.rounds[2].route.hops[1], None);
    row.filter(2, "forward", &["ip daddr 198.18.203.2 drop"]);
    let hole = survey_one(&row, plan(TARGETS[0], Method::IcmpEcho));
    let shares = loss(&hole);
    assert!(shares[0] == 0.0 && shares[1..].iter().all(|share| *share == 1.0), "{shares:?}");
    assert_eq!(refusals(&hole), 0, "no hop answers");
    assert!(hole.rounds.iter().all(|round| round.round.reached_at.is_none()));
}

#[test]
fn a_filter_that_says_so_is_a_refusal_and_no_arrival() {
    let row = Row::new();
    let reject = "ip daddr 198.18.203.2 reject with icmp type admin-prohibited";
    row.filter(2, "forward", &[reject]);
    let found = survey_one(&row, plan(TARGETS[0], Method::Udp));
    assert!(refusals(&found) > 0);
    let codes: Vec<u8> = found
        .rounds
        .iter()
        .flat_map(|r| &r.round.hops)
        .flat_map(|hop| hop.unreachable.iter().map(|(code, _)| *code))
        .collect();
    assert!(codes.iter().all(|code| *code == 13), "{codes:?}");
    assert!(found.rounds.iter().all(|round| round.round.reached_at.is_none()));
}

#[test]
fn the_bad_one_of_two_members_is_found_by_udp_and_by_tcp() {
    let mut row = Row::new();
    row.add_second_route();
    row.filter(5, "forward", &["iifname \"west4\" numgen random mod 100 < 50 drop"]);
    for method in [Method::Udp, Method::TcpSyn] {
        let mut plan = plan(TARGETS[0], method);
        // Far below what chance may spoil here, unlike the 1 % of usual requests.
        plan.branches_error_ppm = Some(1);
        plan.probes_per_hop = 4;
        plan.rounds = Some(16);
        let found = survey_one(&row, plan);
        let ensemble = found.ensemble.as_ref().unwrap();
        let next: Vec<String> =
            ensemble.balancers[0].next.iter().map(ToString::to_string).collect();
        assert_eq!(
            (ensemble.balancers[0].hop, next),
            (2, vec!["198.18.201.2".into(), "198.18.204.2".into()])
        );
        let ports: Vec<u16> = ensemble.one_flow_each(16);
        assert_eq!(ports.len(), 2, "{method}: {ensemble:?}");
        for port in ports {
            let of_flow = |r: &&SurveyRound| r.flow.source_port == port && r.round.number > 1;
            let rounds: Vec<&SurveyRound> = found.rounds.iter().filter(of_flow).collect();
            let by_other = rounds[1].route.hops[1] == Some([198, 18, 204, 2].into());
            let shares = loss_of(&rounds);
            let (first, last) = (shares[1], shares[3]);
            assert_eq!(first, 0.0, "{method} {shares:?}");
            assert!(
                if by_other { last > 0.1 } else { last == 0.0 },
                "{method} {by_other} {shares:?}"
            );
        }
    }
}

#[test]
fn the_path_mtu_is_found_reported_or_hidden_over_both_versions() {
    let row = Row::new();
    ip(&format!("-n {} link set east2 mtu 1400", row.names[2]));
    ip(&format!("-n {} link set west2 mtu 1400", row.names[3]));
    let sizing = |address| SurveyPlan {
        mtu_up_to: Some(1_500),
        rounds: Some(1),
        ..plan(address, Method::IcmpEcho)
    };
    for (address, by) in TARGETS.into_iter().zip(["198.18.201.2", "2001:db8:1::2"]) {
        let found = survey_one(&row, sizing(address)).mtu.unwrap();
        assert_eq!(found.mtu_bytes, Some(1_400), "{found:?}");
        let said = MtuLimit::Reported { by: by.parse().unwrap(), stated_bytes: 1_400 };
        assert_eq!(found.limit, said);
    }
    row.filter(
        2,
        "output",
        &["icmp type destination-unreachable drop", "icmpv6 type packet-too-big drop"],
    );
    for (address, by) in TARGETS.into_iter().zip(["198.18.201.2", "2001:db8:1::2"]) {
        let found = survey_one(&row, sizing(address)).mtu.unwrap();
        assert_eq!(found.mtu_bytes, Some(1_400), "{found:?}");
        let hole = MtuLimit::Silent { after_hop: 2, after: Some(by.to_owned()) };
        assert_eq!(found.limit, hole);
    }
    // Our own interface is named when it is the narrowest.
    let mut jumbo = sizing(TARGETS[0]);
    jumbo.address = [198, 18, 200, 2].into();
    jumbo.mtu_up_to = Some(9_000);
    let found = survey_one(&row, jumbo).mtu.unwrap();
    assert_eq!((found.mtu_bytes, found.limit), (Some(1_500), MtuLimit::OwnInterface));
}

#[test]
fn who_rewrites_the_dscp_stands_between_two_hops() {
    let row = Row::new();
    row.filter(2, "forward", &["ip dscp set cs1", "ip6 dscp set cs1"]);
    for address in TARGETS {
        let found = survey_one(&row, SurveyPlan { dscp: 46, ..plan(address, Method::Udp) });
        let read = &found.rounds.last().unwrap().reading.hops;
        let seen: Vec<Option<u8>> = read.iter().map(|hop| hop.quoted_dscp).collect();
        assert_eq!(seen, [Some(46), Some(46), Some(8), Some(8)], "{address}");
        assert!(read.iter().all(|hop| hop.translated_source.is_none() && !hop.rewritten));
        let back: Vec<Option<u8>> = read.iter().map(|hop| hop.hops_back()).collect();
        assert_eq!(back, [Some(0), Some(1), Some(2), Some(3)], "{address}");
    }
}

#[test]
fn a_target_that_drops_echo_is_reached_by_tcp() {
    let row = Row::new();
    row.filter(4, "input", &["icmp type echo-request drop"]);
    let open = Arc::new(AtomicBool::new(true));
    let listening = Arc::clone(&open);
    let server = row.within(4, move || {
        let listener = TcpListener::bind("0.0.0.0:443").unwrap();
        listener.set_nonblocking(true).unwrap();
        let mut accepted = 0;
        while listening.load(Ordering::Relaxed) {
            accepted += usize::from(listener.accept().is_ok());
            std::thread::sleep(Duration::from_millis(10));
        }
        accepted
    });
    let echo = survey_one(&row, plan(TARGETS[0], Method::IcmpEcho));
    assert!(echo.rounds.iter().all(|round| round.round.reached_at.is_none()));
    let tcp = SurveyPlan { port: Some(443), ..plan(TARGETS[0], Method::TcpSyn) };
    let tcp = survey_one(&row, SurveyPlan { probes_per_hop: 3, ..tcp });
    open.store(false, Ordering::Relaxed);
    assert_eq!(
        server.join().unwrap(),
        0,
        "our own stack resets what it did not ask for: none is completed"
    );
    let last = tcp.rounds.last().unwrap();
    assert_eq!((last.round.reached_at, loss(&tcp)), (Some(4), vec![0.0; 4]));
    assert_eq!(last.reading.hops[3].form, Some(AnswerForm::SynAck));
}

#[test]
fn ten_agents_do_not_make_routers_with_default_limits_look_lossy() {
    let row = Row::with(Limits::Default);
    for n in 10..20 {
        ip(&format!("-n {} addr add 198.18.200.{n}/24 dev east0", row.names[0]));
    }
    let politely = |source: Option<IpAddr>, hop_turn: Turn| SurveyPlan {
        source,
        probes_per_hop: 2,
        interval: Micros::from_millis(1_000),
        rounds: Some(20),
        pacing: Pacing { hop_turn, ..Pacing::default() },
        ..plan(TARGETS[0], Method::IcmpEcho)
    };
    let answered = |found: &[Measurement]| {
        let hops = found.iter().flat_map(|f| &f.rounds).flat_map(|r| r.round.hops.iter().take(3));
        let (sent, heard) = hops.fold((0u32, 0u32), |(sent, heard), hop| {
            (sent + u32::from(hop.sent), heard + u32::from(hop.answers()) + u32::from(hop.late))
        });
        (sent, f64::from(heard) / f64::from(sent))
    };
    let own: Vec<SurveyPlan> =
        (10..20).map(|n| politely(Some([198, 18, 200, n].into()), Turn::default())).collect();
    let (sent, share) = answered(&survey_all(&row, own));
    assert!(sent > 500 && share >= 0.99, "{share} of {sent}");
    // Behind one address they take turns at what is granted to one.
    std::thread::sleep(Duration::from_secs(7));
    let shared: Vec<SurveyPlan> =
        (0..10).map(|index| politely(None, Turn { index, of: 10 })).collect();
    let (sent, share) = answered(&survey_all(&row, shared));
    assert!(sent > 40 && share >= 0.99, "{share} of {sent}");
}

#[test]
fn a_fault_of_ipv6_alone_does_not_show_over_ipv4() {
    let row = Row::new();
    row.filter(2, "forward", &["ip6 daddr 2001:db8:3::2 numgen random mod 100 < 40 drop"]);
    let four = loss(&survey_one(&row, plan(TARGETS[0], Method::Udp)));
    assert_eq!(four, vec![0.0; 4]);
    let six = loss(&survey_one(&row, plan(TARGETS[1], Method::Udp)));
    assert!(six[..2].iter().all(|share| *share == 0.0), "{six:?}");
    assert!(six[2..].iter().all(|share| is_about(*share, 0.4)), "{six:?}");
}

#[test]
fn an_agent_behind_translated_addresses_measures_as_well() {
    let row = Row::new();
    row.filter(1, "postrouting", &["oifname \"east1\" masquerade"]);
    // Without the route to the agent's own network, only translated packets come back.
    for n in [3, 4] {
        ip(&format!("-n {} route del 198.18.200.0/24", row.names[n]));
    }
    for method in [Method::IcmpEcho, Method::Udp, Method::TcpSyn] {
        let found = survey_one(&row, SurveyPlan { probes_per_hop: 3, ..plan(TARGETS[0], method) });
        assert_eq!(loss(&found), vec![0.0; 4], "{method}");
        assert!(found.rounds.iter().flat_map(|r| &r.round.hops).all(|hop| hop.ambiguous == 0));
    }
}

#[test]
fn what_is_kept_of_packets_is_what_went_over_the_wire() {
    let row = Row::new();
    for address in TARGETS {
        let kept = SurveyPlan { capture: true, rounds: Some(3), ..plan(address, Method::TcpSyn) };
        let found = survey_one(&row, kept);
        let (sent, answers): (Vec<_>, Vec<_>) = found.captured.iter().partition(|p| p.outgoing);
        let counted: usize =
            found.rounds.iter().flat_map(|r| &r.round.hops).map(|hop| usize::from(hop.sent)).sum();
        assert!(sent.len() >= counted && counted >= 40, "{} {counted}", sent.len());
        assert!(answers.len() >= 40, "{}", answers.len());
        let stamps =
            found.captured.windows(2).filter(|pair| pair[0].unix_nanos > pair[1].unix_nanos);
        assert!(stamps.count() < found.captured.len() / 4);
        for packet in &found.captured {
            let (header, _) = IpHeader::parse(&packet.packet).unwrap();
            let addresses = header.addresses();
            let ours = if packet.outgoing { addresses.destination() } else { addresses.source() };
            assert_eq!(ours.is_ipv6(), address.is_ipv6());
        }
    }
}

#[test]
fn without_privilege_echo_and_udp_are_measured_and_no_probe_vanishes() {
    let row = Row::new();
    // Every probe but the target's is answered by an error, each of which would fail the next
    // send, had it not been taken from the queue before.
    let mut plans = Vec::new();
    for address in TARGETS {
        plans.push(plan(address, Method::IcmpEcho));
        plans.push(plan(address, Method::Udp));
    }
    plans.push(SurveyPlan { size_bytes: 200, ..plan(TARGETS[0], Method::Udp) });
    for (found, plan) in survey_plainly(&row, plans.clone()).into_iter().zip(&plans) {
        let found = found.unwrap();
        let what = (plan.address, plan.method);
        assert_eq!(loss(&found), vec![0.0; 4], "{what:?}");
        let round = found.rounds.last().unwrap();
        assert!(round.round.hops.iter().all(|hop| hop.sent == 10), "{what:?} {:?}", round.round);
        let hops: Vec<Option<u8>> = round.reading.hops.iter().map(|hop| hop.hops_back()).collect();
        assert_eq!(hops[..3], [Some(0), Some(1), Some(2)], "{what:?}");
        assert!(
            round.reading.hops.iter().all(|hop| hop.quoted_dscp.is_none()),
            "not known, not made up"
        );
    }
    let tcp = survey_plainly(&row, vec![plan(TARGETS[0], Method::TcpSyn)]).remove(0);
    assert!(tcp.unwrap_err().to_string().contains("tcp-syn needs raw sockets"));
}

/// A router and the target behind it, played by a thread that sees every packet that comes to
/// the second namespace: the kernel's own routers neither wait nor add label stacks.
fn play_router(row: &Row, stop: Arc<AtomicBool>) -> std::thread::JoinHandle<()> {
    const IPV4_FRAMES: u16 = 0x0800;
    const LATE: [Duration; 2] = [Duration::from_millis(30), Duration::from_millis(50)];
    ip(&format!("netns exec {} sysctl -q -w net.ipv4.ip_forward=0", row.names[1]));
    row.within(1, move || {
        let frames = Protocol::from(i32::from(IPV4_FRAMES.to_be()));
        let hears = Socket::new(Domain::PACKET, Type::DGRAM, Some(frames)).unwrap();
        hears.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
        let says = Socket::new(Domain::IPV4, Type::RAW, Some(Protocol::from(255))).unwrap();
        let mut waiting: VecDeque<(Instant, Vec<u8>)> = VecDeque::new();
        while !stop.load(Ordering::Relaxed) {
            let mut buffer = [0; 2_000];
            let length = (&hears).read(&mut buffer).unwrap_or(0);
            let packet = &buffer[..length];
            if let Ok((header, transport)) = IpHeader::parse(packet)
                && header.addresses().destination() == TARGETS[0]
                && let Ok(Icmp::EchoRequest { id, seq, data }) =
                    Icmp::parse(header.addresses(), transport)
            {
                let expired = header.hop_limit() == 1;
                let from = if expired { [198, 18, 200, 2].into() } else { TARGETS[0] };
                let back = Addresses::try_new(from, header.addresses().source()).unwrap();
                let mut quoted = packet.to_vec();
                quoted.resize(128, 0);
                let mut extensions = Vec::new();
                let label = |label, bottom| Label { label, traffic_class: 0, bottom, ttl: 1 };
                let stack = Object::Labels(vec![label(16_001, false), label(24, true)]);
                extension::emit(&[stack], &mut extensions);
                let answer = if expired {
                    Icmp::TimeExceeded {
                        code: 0,
                        quote: Quote { datagram: &quoted, extensions: &extensions },
                    }
                } else {
                    Icmp::EchoReply { id, seq, data }
                };
                let (mut said, mut whole) = (Vec::new(), Vec::new());
                answer.emit(back, &mut said);
                IpHeader::new(back, 1, 64, 0, 0, 0).emit(&said, &mut whole);
                let late = LATE[usize::from(!expired)];
                waiting.push_back((Instant::now() + late, whole));
            }
            waiting.retain(|(at, packet)| {
                let due = *at <= Instant::now();
                if due {
                    let to = SockAddr::from(SocketAddr::from(([198, 18, 200, 1], 0)));
                    says.send_to(packet, &to).unwrap();
                }
                !due
            });
        }
    })
}

#[test]
fn label_stacks_and_delays_of_a_path_are_read_on_raw_sockets() {
    let row = Row::new();
    let stop = Arc::new(AtomicBool::new(false));
    let playing = play_router(&row, Arc::clone(&stop));
    let found = survey_one(&row, plan(TARGETS[0], Method::IcmpEcho));
    stop.store(true, Ordering::Relaxed);
    playing.join().unwrap();
    let last = found.rounds.last().unwrap();
    assert_eq!(last.route.hops, [Some([198, 18, 200, 2].into()), Some(TARGETS[0])]);
    let labels: Vec<u32> = last.reading.hops[0].labels.iter().map(|label| label.label).collect();
    assert_eq!((labels, last.reading.hops[1].labels.len()), (vec![16_001, 24], 0));
    for (hop, ms) in last.round.hops.iter().zip([30, 50]) {
        let [late, soon] = [ms, ms + 20].map(Micros::from_millis);
        assert_eq!(hop.answers(), 10);
        assert!(hop.rtt.iter().all(|rtt| *rtt >= late), "{hop:?}");
        let soon = hop.rtt.iter().filter(|rtt| **rtt < soon).count();
        assert!(soon >= 8, "no more is added: {hop:?}");
    }
}

/// Identifiers of the datagram sockets for echo in this thread's namespace, as the kernel lists
/// them: the second word of a line is the address and, behind a colon, the identifier.
fn given_echo_ids() -> Vec<u16> {
    let listed = std::fs::read_to_string("/proc/thread-self/net/icmp").unwrap();
    let id = |line: &str| {
        let (_, id) = line.split_whitespace().nth(1)?.rsplit_once(':')?;
        u16::from_str_radix(id, 16).ok()
    };
    listed.lines().skip(1).map(|line| id(line).unwrap()).collect()
}

#[test]
fn agents_and_programs_on_one_machine_do_not_take_each_others_answers() {
    let row = Row::new();
    row.allow_echo(0);
    let echo = || SurveyPlan { probes_per_hop: 3, ..plan(TARGETS[0], Method::IcmpEcho) };
    std::thread::scope(|scope| {
        let raw = scope.spawn(|| survey_all(&row, vec![echo(), echo()]));
        let plain = scope.spawn(|| survey_plainly(&row, vec![echo(), echo()]));
        // Another program's echo, by all identifiers that ours are chosen from. Those that the kernel
        // has given away are left: any program may bind them again and takes answers then.
        let other = row.within(0, || {
            let kind = Some(Protocol::ICMPV4);
            let bind = |id: u16| {
                let socket = Socket::new(Domain::IPV4, Type::DGRAM, kind).unwrap();
                socket.bind(&SockAddr::from(SocketAddr::from(([0, 0, 0, 0], id)))).map(|()| socket)
            };
            std::thread::sleep(Duration::from_millis(1_500));
            let (mut had, ids) = (0, PORTS.collect::<Vec<u16>>());
            for some in ids.chunks(500) {
                let given = given_echo_ids();
                let some = some.iter().filter(|id| !given.contains(id));
                let held: Vec<Socket> = some.filter_map(|id| bind(*id).ok()).collect();
                std::thread::sleep(Duration::from_millis(25));
                had += held.len();
            }
            had
        });
        let found = raw.join().unwrap();
        let found = found.into_iter().chain(plain.join().unwrap().into_iter().map(Result::unwrap));
        for found in found {
            assert_eq!(loss(&found), vec![0.0; 4]);
            let hops = found.rounds.iter().flat_map(|round| &round.round.hops);
            assert!(hops.clone().all(|hop| hop.duplicate == 0 && hop.ambiguous == 0));
        }
        let (had, all) = (other.join().unwrap(), PORTS.len());
        assert!(had > all * 9 / 10, "{had} of {all}: another program had our identifiers");
    });
}
