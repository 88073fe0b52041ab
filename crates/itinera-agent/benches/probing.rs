//! What a probe and its answer cost: the sweep engine on simulated answers, and the whole agent on
//! raw sockets beside a bare loop that sends and receives the same packets on the same sockets;
//! how exactly probes leave when they should; what a path takes of memory.
//!
//! Run with `cargo bench --package itinera-agent`; the kernel's part needs root, and probes
//! loopback only. Ratios within one run are what counts: machines differ and are busy.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a bench may fail loudly and prints")]

use itinera_agent::{Link, RawSockets, SurveyPlan, SurveyProgress, survey, trial};
use itinera_model::id::PathId;
use itinera_model::path::Method;
use itinera_model::protocol::{Pacing, Schedule, Task};
use itinera_model::quantile::quantile;
use itinera_model::unit::{HopLimit, Micros, Tick};
use itinera_probe::{Budget, Engine, HopSweep, Input, ProbeSpec, SweepConfig};
use itinera_wire::{Addresses, Icmp, IpHeader};
use nix::sys::socket::{MsgFlags, SockaddrStorage, TimestampingFlag, recvmsg, setsockopt, sockopt};
use std::net::Ipv4Addr;
use std::time::{Duration, Instant};
use tokio::sync::{mpsc, watch};

const PROBES: u32 = 40_000;
const PATHS: usize = 500;

fn hop(limit: u8) -> HopLimit {
    HopLimit::try_new(limit).unwrap()
}

fn config(addresses: Addresses, seed: u64) -> SweepConfig {
    SweepConfig {
        probe: ProbeSpec {
            addresses,
            method: Method::IcmpEcho,
            destination_port: 4_711,
            port_answers: false,
            dscp: 0,
            size_bytes: 64,
            dont_fragment: false,
            secret: 7,
        },
        source_ports: vec![40_000],
        interval: Micros::from_millis(1_000),
        probes_per_hop: 16,
        timeout: Micros::from_millis(1_000),
        first_hop: hop(1),
        last_hop: hop(30),
        full_every: 1,
        rounds: None,
        seed,
    }
}

/// CPU time of this process, user and system.
fn cpu() -> Duration {
    let usage = nix::sys::resource::getrusage(nix::sys::resource::UsageWho::RUSAGE_SELF).unwrap();
    let time = |value: nix::sys::time::TimeVal| {
        Duration::from_micros(u64::try_from(value.tv_sec() * 1_000_000 + value.tv_usec()).unwrap())
    };
    time(usage.user_time()) + time(usage.system_time())
}

fn resident_bytes() -> f64 {
    let pages = std::fs::read_to_string("/proc/self/statm").unwrap();
    pages.split(' ').nth(1).unwrap().parse::<f64>().unwrap() * 4_096.0
}

/// The engine alone: each probe is answered at once by the router at its hop limit.
fn engine() -> Duration {
    let (source, destination) = (Ipv4Addr::new(10, 0, 0, 2), Ipv4Addr::new(198, 18, 0, 9));
    let addresses = Addresses::V4 { source, destination };
    let mut engine = HopSweep::new(config(addresses, 1), Tick::ZERO).unwrap();
    let (mut budget, mut packet, mut answer) = (Budget::unbounded(), Vec::new(), Vec::new());
    let mut sent = 0;
    let began = Instant::now();
    while sent < PROBES {
        let now = engine.poll_deadline().unwrap();
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, &mut budget, &mut packet) {
            engine.handle(now, Input::Sent { token, stamp: now });
            answer_to(&packet, &mut answer);
            engine.handle(now, Input::Datagram { stamp: now, packet: &answer });
            sent += 1;
        }
        while engine.poll_event().is_some() {}
    }
    began.elapsed() / PROBES
}

fn answer_to(probe: &[u8], answer: &mut Vec<u8>) {
    let (header, transport) = IpHeader::parse(probe).unwrap();
    let hops = header.hop_limit();
    let own = header.addresses();
    let quote = itinera_wire::icmp::Quote::plain(&probe[..28]);
    let mut message = Vec::new();
    let from = if hops >= 12 { own.destination() } else { Ipv4Addr::new(198, 18, 1, hops).into() };
    let back = Addresses::try_new(from, own.source()).unwrap();
    match Icmp::parse(own, transport).unwrap() {
        Icmp::EchoRequest { id, seq, data } if hops >= 12 => {
            Icmp::EchoReply { id, seq, data }.emit(back, &mut message);
        }
        _ => Icmp::TimeExceeded { code: 0, quote }.emit(back, &mut message),
    }
    answer.clear();
    IpHeader::new(back, 1, 60, 0, 0, 0).emit(&message, answer);
}

/// The barest loop there is on such a socket: send, receive what comes back.
fn bare() -> Duration {
    let socket = socket2::Socket::new(
        socket2::Domain::IPV4,
        socket2::Type::RAW,
        Some(socket2::Protocol::ICMPV4),
    )
    .unwrap();
    socket.set_header_included_v4(true).unwrap();
    let target = Ipv4Addr::new(127, 0, 0, 1);
    let addresses = Addresses::V4 { source: target, destination: target };
    let to = socket2::SockAddr::from(std::net::SocketAddr::from((target, 0)));
    let (mut message, mut packet, mut buffer) = (Vec::new(), Vec::new(), [0u8; 2_048]);
    Icmp::EchoRequest { id: 50_001, seq: 1, data: &[0; 36] }.emit(addresses, &mut message);
    IpHeader::new(addresses, 1, 64, 0, 0, 7).emit(&message, &mut packet);
    let before = cpu();
    for _ in 0..PROBES {
        socket.send_to(&packet, &to).unwrap();
        // Over loopback the request comes in as well as its answer.
        for _ in 0..2 {
            std::io::Read::read(&mut &socket, &mut buffer).unwrap();
        }
    }
    (cpu() - before) / PROBES
}

/// One of our own addresses on loopback.
fn own_address(n: u16) -> Ipv4Addr {
    let [high, low] = (n + 1).to_be_bytes();
    Ipv4Addr::new(127, 1, high, low)
}

/// The same with the kernel's stamps in both directions, as the agent's sockets have them, to as many
/// targets as the agent has.
fn bare_stamped() -> Duration {
    let kind = Some(socket2::Protocol::ICMPV4);
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::RAW, kind).unwrap();
    socket.set_header_included_v4(true).unwrap();
    let wanted = TimestampingFlag::SOF_TIMESTAMPING_SOFTWARE
        | TimestampingFlag::SOF_TIMESTAMPING_RX_SOFTWARE
        | TimestampingFlag::SOF_TIMESTAMPING_TX_SOFTWARE
        | TimestampingFlag::SOF_TIMESTAMPING_OPT_ID
        | TimestampingFlag::SOF_TIMESTAMPING_OPT_TSONLY;
    setsockopt(&socket, sockopt::Timestamping, &wanted).unwrap();
    let ready = |n: u16| {
        let target = own_address(n);
        let addresses = Addresses::V4 { source: Ipv4Addr::LOCALHOST, destination: target };
        let (mut message, mut packet) = (Vec::new(), Vec::new());
        Icmp::EchoRequest { id: 50_001, seq: 1, data: &[0; 36] }.emit(addresses, &mut message);
        IpHeader::new(addresses, 1, 64, 0, 0, 7).emit(&message, &mut packet);
        (socket2::SockAddr::from(std::net::SocketAddr::from((target, 0))), packet)
    };
    let all: Vec<_> = (0..500).map(ready).collect();
    let take = |flags: MsgFlags| {
        let (mut buffer, mut control) = ([0u8; 2_048], [0u8; 512]);
        let mut parts = [std::io::IoSliceMut::new(&mut buffer)];
        let fd = std::os::fd::AsRawFd::as_raw_fd(&socket);
        let taken = recvmsg::<SockaddrStorage>(fd, &mut parts, Some(&mut control), flags);
        taken.map_or(0, |message| message.cmsgs().into_iter().flatten().count())
    };
    let (before, mut stamps) = (cpu(), 0);
    for (to, packet) in all.iter().cycle().take(usize::try_from(PROBES).unwrap()) {
        socket.send_to(packet, to).unwrap();
        stamps += take(MsgFlags::MSG_ERRQUEUE | MsgFlags::MSG_DONTWAIT);
        stamps += take(MsgFlags::empty()) + take(MsgFlags::empty());
    }
    assert!(stamps > 2 * usize::try_from(PROBES).unwrap(), "the kernel stamps");
    (cpu() - before) / PROBES
}

/// The agent as busy as that loop: paths to ourselves that want more than there is time for, with
/// all it does of budgets, stamps in both directions and full reading. CPU a probe, and probes a second.
fn busy() -> (Duration, f64) {
    const SPAN: Duration = Duration::from_secs(6);
    let task = |n: u16| Task {
        path: PathId::from_uuid(uuid::Uuid::from_u128(n.into())),
        address: own_address(n).into(),
        name: None,
        method: Method::IcmpEcho,
        port: None,
        dscp: 0,
        size_bytes: 64,
        interval_ms: 250,
        probes_per_hop: 16,
        timeout_ms: 1_000,
        last_hop: 1,
        full_every: 1,
        denser: None,
    };
    let pacing = Pacing {
        agent_per_s: 10_000_000,
        target_per_s: 1_000_000,
        hop_per_1000_s: u32::MAX,
        ..Pacing::default()
    };
    let tasks = (0..500).map(task).collect();
    let schedule = Schedule { tasks, pacing, ..Schedule::default() };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let before = cpu();
    let rounds = runtime.block_on(async {
        let link = Link::raw(RawSockets::open(None).unwrap()).unwrap();
        trial(link, schedule, SPAN).await
    });
    let used = cpu() - before;
    let hops = rounds.iter().flat_map(|round| &round.hops);
    let answered: u32 = hops.map(|hop| u32::from(hop.answers())).sum();
    (used / answered.max(1), f64::from(answered) / SPAN.as_secs_f64())
}

/// Sixteen probes to ourselves each 100 ms.
fn loopback() -> SurveyPlan {
    SurveyPlan {
        name: None,
        address: Ipv4Addr::LOCALHOST.into(),
        source: Some(Ipv4Addr::LOCALHOST.into()),
        method: Method::IcmpEcho,
        port: None,
        dscp: 0,
        size_bytes: 64,
        dont_fragment: false,
        hops: (hop(1), hop(1)),
        probes_per_hop: 16,
        interval: Micros::from_millis(100),
        timeout: Micros::from_millis(1_000),
        rounds: Some(60),
        branches_error_ppm: None,
        mtu_up_to: None,
        pacing: Pacing { agent_per_s: 1_000_000, target_per_s: 1_000_000, ..Pacing::default() },
        capture: false,
        chance: 5,
    }
}

/// The agent's own loop with all it does: budgets, stamps in both directions, reading fully.
fn agent() -> (Duration, u32, Duration) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let plan = loopback();
    let before = cpu();
    let mut answered = 0;
    let mut fastest = Micros::new(u32::MAX);
    runtime.block_on(async {
        let link = Link::raw(RawSockets::open(None).unwrap()).unwrap();
        let (news, mut heard) = mpsc::channel(1_000);
        let (_stop, stopped) = watch::channel(false);
        survey(link, &plan, news, stopped).await.unwrap();
        while let Some(news) = heard.recv().await {
            if let SurveyProgress::Round(round) = news {
                let hop = &round.round.hops[0];
                answered += u32::from(hop.answers());
                fastest = hop.rtt.iter().copied().fold(fastest, Micros::min);
            }
        }
    });
    let each = (cpu() - before) / answered.max(1);
    (each, answered, Duration::from_micros(u64::from(fastest.as_micros())))
}

/// How late probes leave at about 2,000 a second: median and 99th percentile in microseconds, from
/// thirteen paths of 160 probes a second.
fn lateness() -> (u32, u32, usize) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let mut late: Vec<u32> = runtime.block_on(async {
        let mut running = Vec::new();
        for chance in 0..13 {
            running.push(tokio::spawn(async move {
                let link = Link::raw(RawSockets::open(None).unwrap()).unwrap();
                let (news, _heard) = mpsc::channel(1_000);
                let (_stop, stopped) = watch::channel(false);
                let plan = SurveyPlan { capture: true, chance: chance * 977 + 5, ..loopback() };
                survey(link, &plan, news, stopped).await.unwrap().lateness_us
            }));
        }
        let mut late = Vec::new();
        for one in running {
            late.extend(one.await.unwrap());
        }
        late
    });
    late.sort_unstable();
    let [median, p99] = [50, 99].map(|percent| quantile(&late, percent, 100).unwrap());
    (median, p99, late.len())
}

fn memory(paths: usize) -> f64 {
    let before = resident_bytes();
    let mut engines = Vec::new();
    let mut buffer = Vec::new();
    for n in 0..paths {
        let last = u8::try_from(n % 250).unwrap();
        let addresses = Addresses::V4 {
            source: Ipv4Addr::new(10, 0, 0, 2),
            destination: Ipv4Addr::new(198, 18, 0, last),
        };
        let sparse = SweepConfig { probes_per_hop: 3, ..config(addresses, n as u64) };
        let mut engine = HopSweep::new(sparse, Tick::ZERO).unwrap();
        let mut answer = Vec::new();
        // Some rounds each, so that everything a path keeps is there.
        for _ in 0..400 {
            let now = engine.poll_deadline().unwrap();
            engine.handle(now, Input::Deadline);
            while let Some(token) = engine.poll_transmit(now, &mut Budget::unbounded(), &mut buffer)
            {
                engine.handle(now, Input::Sent { token, stamp: now });
                answer_to(&buffer, &mut answer);
                engine.handle(now, Input::Datagram { stamp: now, packet: &answer });
            }
            while engine.poll_event().is_some() {}
        }
        engines.push(engine);
    }
    (resident_bytes() - before) / engines.len() as f64
}

fn main() {
    if std::env::args().any(|word| word == "busy") {
        let (busy, per_s) = busy();
        println!("{:.2} µs of CPU a probe, {per_s:.0} a second", busy.as_secs_f64() * 1e6);
        return;
    }
    if std::env::args().any(|word| word == "--smoke") {
        println!("memory of a path {:.0} bytes, {} paths of 12 hops", memory(20), 20);
        if rustix::process::geteuid().is_root() {
            let (median, worst, count) = lateness();
            println!("served late {median} µs median, {worst} µs p99 of {count}");
        }
        return;
    }
    let engine = engine();
    println!("engine, probe and answer      {:>8.2} µs", engine.as_secs_f64() * 1e6);
    println!("engine                        {:>8.0} probes/s", 1.0 / engine.as_secs_f64());
    println!(
        "memory of a path              {:>8.0} octets, {PATHS} paths of 12 hops",
        memory(PATHS)
    );
    if !rustix::process::geteuid().is_root() {
        println!("raw sockets: not measured without root");
        return;
    }
    let bare = bare();
    println!("bare loop on a raw socket     {:>8.2} µs of CPU a probe", bare.as_secs_f64() * 1e6);
    let added = (engine + bare).as_secs_f64() / bare.as_secs_f64();
    println!("bare loop and engine          {added:>8.2} of the bare loop's CPU");
    let stamped = bare_stamped();
    println!(
        "bare loop with stamps         {:>8.2} µs of CPU a probe",
        stamped.as_secs_f64() * 1e6
    );
    let (busy, per_s) = busy();
    println!(
        "agent as busy as that         {:>8.2} µs of CPU a probe, {per_s:.0} a second on 500 paths",
        busy.as_secs_f64() * 1e6
    );
    println!(
        "agent to bare loop            {:>8.2} of its CPU, stamps in both",
        busy.as_secs_f64() / stamped.as_secs_f64()
    );
    println!(
        "resident, bench and all       {:>8.1} MB after 500 paths at that rate",
        resident_bytes() / 1e6
    );
    let (agent, answered, fastest) = agent();
    println!(
        "agent, paced, {answered} answers     {:>8.2} µs of CPU a probe, woken for each one",
        agent.as_secs_f64() * 1e6
    );
    let (median, worst, count) = lateness();
    println!("served late at 2,000 a second  {median:>7} µs median, {worst} µs p99 of {count}");
    println!("fastest answer, kernel stamps {:>8} µs", fastest.as_micros());
}
