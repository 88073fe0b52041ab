//! `itinera simulate`: the simulated internet in real time behind a loopback socket.
//!
//! One thread waits for datagrams, another for the simulation's next deadline: threads wake
//! within tens of microseconds, where the async timer would round to a millisecond.

use crate::args::SimulateArgs;
use crate::exit::{Code, Failure};
use crate::output::Output;
use crate::signals::stop_requested;
use itinera_model::Tick;
use itinera_simnet::{Scenario, Simnet};

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, sync_channel};
use std::time::{Duration, Instant};

/// Packets waiting to enter; further ones are dropped, as any network would.
const BACKLOG: usize = 16_384;
/// How often the loops look whether they are to stop.
const GLANCE: Duration = Duration::from_millis(200);

pub(crate) fn read(file: &Path) -> Result<Scenario, Failure> {
    let name = file.display().to_string();
    let text = std::fs::read_to_string(file).map_err(|error| {
        Failure::new(Code::BadFile, error).context(format!("cannot read {name}"))
    })?;
    Scenario::parse(&text).map_err(|error| Failure::say(Code::BadFile, format!("{name}, {error}")))
}

/// A seed for people to read out: nine digits at most.
pub(crate) fn drawn_seed() -> u64 {
    let (high, _) = uuid::Uuid::new_v4().as_u64_pair();
    high % 1_000_000_000
}

pub(crate) async fn run(args: &SimulateArgs) -> Result<(), Failure> {
    let scenario = read(&args.scenario)?;
    let output = Output::new(crate::args::Format::Table);
    if args.check {
        return output.line(&format!("{} is valid: {}.", args.scenario.display(), scenario.name));
    }
    if !args.listen.ip().is_loopback() {
        let text = format!("--listen {}: the simulation listens on loopback only", args.listen);
        return Err(Failure::say(Code::Failed, text));
    }
    let seed = args.seed.unwrap_or_else(drawn_seed);
    let net = Simnet::new(&scenario, seed);
    let socket = UdpSocket::bind(args.listen).map_err(|error| {
        Failure::new(Code::Failed, error).context(format!("cannot listen on {}", args.listen))
    })?;
    socket.set_read_timeout(Some(GLANCE))?;
    output.line(&format!(
        "{}: {} sites, {} targets, seed {seed}, at {}",
        scenario.name,
        net.sites().len(),
        net.targets().len(),
        socket.local_addr()?
    ))?;
    let stop = Arc::new(AtomicBool::new(false));
    let (packets, inbox) = sync_channel(BACKLOG);
    let receiving = {
        let (socket, stop) = (socket.try_clone()?, Arc::clone(&stop));
        std::thread::spawn(move || receive(&socket, &packets, &stop))
    };
    let forwarding = {
        let stop = Arc::clone(&stop);
        std::thread::spawn(move || forward(net, &socket, &inbox, &stop))
    };
    stop_requested(args.stop_with_parent).await?;
    stop.store(true, Ordering::Relaxed);
    let ended =
        tokio::task::spawn_blocking(move || receiving.join().and_then(|()| forwarding.join()));
    match ended.await {
        Ok(Ok(())) => Ok(()),
        _ => Err(Failure::say(Code::Failed, "the simulation has failed")),
    }
}

type Arrived = (Instant, SocketAddr, Vec<u8>);

fn receive(socket: &UdpSocket, packets: &SyncSender<Arrived>, stop: &AtomicBool) {
    let mut buffer = vec![0; 65_535];
    while !stop.load(Ordering::Relaxed) {
        let Ok((length, from)) = socket.recv_from(&mut buffer) else {
            continue;
        };
        match packets.try_send((Instant::now(), from, buffer[..length].to_vec())) {
            Ok(()) | Err(TrySendError::Full(_)) => {}
            Err(TrySendError::Disconnected(_)) => return,
        }
    }
}

fn forward(mut net: Simnet, socket: &UdpSocket, inbox: &Receiver<Arrived>, stop: &AtomicBool) {
    let start = Instant::now();
    let tick = |at: Instant| {
        let nanos = at.saturating_duration_since(start).as_nanos();
        Tick::from_nanos(u64::try_from(nanos).unwrap_or(u64::MAX))
    };
    // Which agent stands for which site: whoever sent from its address last.
    let mut agents: BTreeMap<IpAddr, SocketAddr> = BTreeMap::new();
    let mut overflowed = 0;
    while !stop.load(Ordering::Relaxed) {
        let due = net.poll_deadline().map(|due| start + Duration::from_nanos(due.as_nanos()));
        let wait =
            due.map_or(GLANCE, |due| due.saturating_duration_since(Instant::now()).min(GLANCE));
        match inbox.recv_timeout(wait) {
            Ok((at, from, packet)) => {
                let now = tick(at);
                net.advance(now);
                match net.inject(now, &packet) {
                    Ok(source) => {
                        agents.insert(source, from);
                    }
                    Err(error) => tracing::debug!(%from, %error, "packet refused"),
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return,
        }
        net.advance(tick(Instant::now()));
        if net.overflowed() > overflowed {
            overflowed = net.overflowed();
            tracing::warn!(overflowed, "packets dropped: too many are under way");
        }
        while let Some(delivery) = net.poll_delivery() {
            if let Some(agent) = agents.get(&delivery.to) {
                // An agent that is gone loses its answers, like any host.
                let _gone = socket.send_to(&delivery.packet, agent);
            }
        }
    }
}
