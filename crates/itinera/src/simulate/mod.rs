//! `itinera simulate`: the simulated internet in real time behind a loopback socket.
//!
//! One thread waits for datagrams, another for the simulation's next deadline: threads wake
//! within tens of microseconds, where the async timer would round to a millisecond.

mod hosts;
mod listeners;
mod receivers;

use crate::args::SimulateArgs;
use crate::exit::{Code, Failure};
use crate::output::Output;
use crate::signals::stop_requested;
use hosts::Hosts;
use itinera_agent::{CLOSED, FRAME, Frame, unix_nanos_now};
use itinera_model::Tick;
use itinera_model::codec::{decode, encode};
use itinera_simnet::{Refused, Scenario, Simnet};
use itinera_testserver::Authority;
use listeners::Listeners;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, sync_channel};
use std::time::{Duration, Instant};

/// Packets waiting to enter; further ones are dropped, as any network would.
const BACKLOG: usize = 16_384;
/// A packet that says it left longer ago than this left then: no program is later than that.
const LONGEST_AGO: Duration = Duration::from_secs(2);
/// The least time from one turn of the forwarder to the next. Packets carry their times, so this
/// reaches no delay that is measured between agents; it saves most of the wake-ups.
const TURN: Duration = Duration::from_millis(1);
/// How often the loops look whether they are to stop.
const GLANCE: Duration = Duration::from_millis(200);

pub(crate) fn read(file: &Path) -> Result<Scenario, Failure> {
    let name = file.display().to_string();
    let text = std::fs::read_to_string(file).map_err(|error| {
        Failure::new(Code::BadFile, error).context(format!("cannot read {name}"))
    })?;
    Scenario::parse(&text).map_err(|error| Failure::say(Code::BadFile, format!("{name}, {error}")))
}

/// A seed that is easy to read out: nine digits at most.
pub(crate) fn drawn_seed() -> u64 {
    let (high, _) = uuid::Uuid::new_v4().as_u64_pair();
    high % 1_000_000_000
}

pub(crate) async fn run(args: &SimulateArgs) -> Result<(), Failure> {
    let scenario = read(&args.scenario)?;
    let output = Output::new(crate::output::Format::Table);
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
    let begun = Instant::now();
    let authority = Authority::new().map_err(|error| Failure::new(Code::Failed, error))?;
    if let Some(file) = &args.authority {
        std::fs::write(file, authority.certificate_pem()).map_err(|error| {
            let text = format!("cannot write the authority's certificate to {}", file.display());
            Failure::new(Code::Failed, error).context(text)
        })?;
    }
    receivers::start(args).await?;
    let hosts = Hosts::start(&net, &authority, begun, seed, &packets)?;
    let receiving = {
        let (socket, stop) = (socket.try_clone()?, Arc::clone(&stop));
        std::thread::spawn(move || receive(&socket, &packets, &stop))
    };
    let forwarding = {
        let stop = Arc::clone(&stop);
        std::thread::spawn(move || Forwarder::new(net, hosts, socket, begun).run(&inbox, &stop))
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

/// What is to enter.
enum Arrived {
    /// From an agent's socket.
    FromAgent(SocketAddr, Vec<u8>),
    /// From a host that serves.
    FromHost(Vec<u8>),
}

fn receive(socket: &UdpSocket, packets: &SyncSender<Arrived>, stop: &AtomicBool) {
    let mut buffer = vec![0; 65_535];
    while !stop.load(Ordering::Relaxed) {
        let Ok((length, from)) = socket.recv_from(&mut buffer) else {
            continue;
        };
        let datagram = buffer[..length].to_vec();
        match packets.try_send(Arrived::FromAgent(from, datagram)) {
            Ok(()) | Err(TrySendError::Full(_)) => {}
            Err(TrySendError::Disconnected(_)) => return,
        }
    }
}

struct Forwarder {
    net: Simnet,
    hosts: Hosts,
    socket: UdpSocket,
    begun: Instant,
    listeners: Listeners,
}

impl Forwarder {
    const fn new(net: Simnet, hosts: Hosts, socket: UdpSocket, begun: Instant) -> Self {
        Self { net, hosts, socket, begun, listeners: Listeners::new() }
    }

    fn tick(&self, at: Instant) -> Tick {
        let nanos = at.saturating_duration_since(self.begun).as_nanos();
        Tick::from_nanos(u64::try_from(nanos).unwrap_or(u64::MAX))
    }

    fn run(mut self, inbox: &Receiver<Arrived>, stop: &AtomicBool) {
        let mut overflowed = 0;
        while !stop.load(Ordering::Relaxed) {
            let due = self.net.poll_deadline();
            let due = due.map(|due| self.begun + Duration::from_nanos(due.as_nanos()));
            let wait =
                due.map_or(GLANCE, |due| due.saturating_duration_since(Instant::now()).min(GLANCE));
            match inbox.recv_timeout(wait) {
                Ok(arrived) => self.take(arrived),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return,
            }
            while let Ok(arrived) = inbox.try_recv() {
                self.take(arrived);
            }
            self.net.advance(self.tick(Instant::now()));
            if self.net.overflowed() > overflowed {
                overflowed = self.net.overflowed();
                tracing::warn!(overflowed, "packets dropped: too many are in flight");
            }
            while let Some(delivery) = self.net.poll_delivery() {
                let Some(delivery) = self.hosts.deliver(delivery) else { continue };
                let late_us = self.tick(Instant::now()).since(delivery.at).as_micros();
                let unix_nanos = unix_nanos_now().saturating_sub(i64::from(late_us) * 1_000);
                let datagram = Frame { unix_nanos, late_us, packet: &delivery.packet }.emit();
                for listener in self.listeners.of(delivery.to) {
                    // An agent that is gone loses its answers, like any host.
                    let _gone = self.socket.send_to(&datagram, listener);
                }
            }
            std::thread::sleep(TURN);
        }
    }

    fn take(&mut self, arrived: Arrived) {
        let now = Instant::now();
        match arrived {
            Arrived::FromHost(packet) => {
                if let Err(error) = self.inject(now, &packet) {
                    tracing::debug!(%error, "packet refused");
                }
            }
            Arrived::FromAgent(from, datagram) if datagram.first() == Some(&FRAME) => {
                let Some(frame) = Frame::parse(&datagram) else { return };
                let ago = unix_nanos_now().saturating_sub(frame.unix_nanos);
                let ago = Duration::from_nanos(u64::try_from(ago).unwrap_or(0)).min(LONGEST_AGO);
                match self.inject(now.checked_sub(ago).unwrap_or(now), frame.packet) {
                    Ok(source) => self.listeners.add(source, from),
                    Err(error) => tracing::debug!(%error, "packet refused"),
                }
            }
            Arrived::FromAgent(from, datagram) if datagram == [CLOSED] => {
                self.listeners.remove(from);
            }
            Arrived::FromAgent(from, question) => self.tell(&question, from),
        }
    }

    /// Lets a packet enter at the time at which it left its sender.
    fn inject(&mut self, at: Instant, packet: &[u8]) -> Result<IpAddr, Refused> {
        let at = self.tick(at);
        self.net.advance(at);
        self.net.inject(at, packet)
    }

    /// Tells an agent what is around it.
    fn tell(&mut self, question: &[u8], to: SocketAddr) {
        // A host that may only be going to listen says so.
        if let Ok((address, true)) = decode::<(IpAddr, bool)>(question) {
            return self.listeners.add(address, to);
        }
        match decode::<IpAddr>(question) {
            Ok(address) => {
                let host_facts = self.net.host_facts(address);
                let _gone = self.socket.send_to(&encode(&host_facts), to);
            }
            Err(error) => tracing::debug!(%error, "question not understood"),
        }
    }
}
