//! Drives the hop sweeps of a schedule on one link.

#[cfg(test)]
mod tests;

use crate::clock::AgentClock;
use crate::link::{Incoming, Link};
use itinera_model::id::ContentId;
use itinera_model::path::Method;
use itinera_model::protocol::{Schedule, Task};
use itinera_model::round::{Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{HopLimit, Micros, Tick};
use itinera_probe::{HopSweep, Input, Sweep, SweepConfig};
use itinera_wire::Addresses;
use std::sync::Arc;
use tokio::sync::{mpsc, watch};

/// A settled round with what it refers to.
#[derive(Debug, Clone)]
pub(crate) struct Measured {
    pub(crate) round: Round,
    pub(crate) flow: Flow,
    pub(crate) resolution: Resolution,
    pub(crate) route: Route,
}

struct Prober {
    task: Task,
    engine: HopSweep,
}

/// First port of the range from which each path takes its own.
const FIRST_PORT: u16 = 40_000;
/// UDP port probed: unlikely to be served, so that the target says "port unreachable".
const UDP_PORT: u16 = 33_434;
const LONGEST_PACKET: usize = 65_535;

/// Follows the schedule until told to stop; every round begun is sent to `rounds`.
pub(crate) async fn follow(
    link: Link,
    clock: Arc<AgentClock>,
    mut schedule: watch::Receiver<Schedule>,
    rounds: mpsc::Sender<Measured>,
    mut stop: watch::Receiver<bool>,
) {
    let mut probers: Vec<Prober> = Vec::new();
    let tasks = schedule.borrow_and_update().tasks.clone();
    let mut settled = replan(&mut probers, tasks, &link, &clock);
    let mut incoming = vec![0; LONGEST_PACKET];
    let mut outgoing = Vec::new();
    loop {
        for measured in settled.drain(..) {
            if rounds.send(measured).await.is_err() {
                return;
            }
        }
        let deadline = probers.iter().filter_map(|prober| prober.engine.poll_deadline()).min();
        let wait = async {
            match deadline {
                Some(tick) => tokio::time::sleep_until(clock.instant(tick).into()).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            received = link.receive(&mut incoming) => {
                let stamp = clock.now();
                match received {
                    Ok(came) => {
                        let input = match came {
                            Incoming::Packet(length) => {
                                Input::Datagram { stamp, packet: &incoming[..length] }
                            }
                            Incoming::Message(length, from) => {
                                Input::Message { stamp, from, message: &incoming[..length] }
                            }
                        };
                        for prober in &mut probers {
                            prober.engine.handle(stamp, input);
                        }
                    }
                    // A simulation that is not there yet answers with an ICMP error of its own.
                    Err(error) => {
                        tracing::debug!(%error, "nothing received");
                        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
                    }
                }
            }
            () = wait => {}
            Ok(()) = schedule.changed() => {
                let tasks = schedule.borrow_and_update().tasks.clone();
                settled.extend(replan(&mut probers, tasks, &link, &clock));
            }
            () = stopped(&mut stop) => {
                for prober in &mut probers {
                    settled.extend(end(prober, &clock));
                }
                for measured in settled.drain(..) {
                    let _closed = rounds.send(measured).await;
                }
                return;
            }
        }
        for prober in &mut probers {
            serve(prober, &link, &clock, &mut outgoing, &mut settled);
        }
    }
}

/// Waits for the word to stop; a sender that is gone has no more use for us either.
async fn stopped(stop: &mut watch::Receiver<bool>) {
    let _said = stop.wait_for(|stop| *stop).await.map(drop);
}

/// Lets one engine do what is due.
fn serve(
    prober: &mut Prober,
    link: &Link,
    clock: &AgentClock,
    outgoing: &mut Vec<u8>,
    settled: &mut Vec<Measured>,
) {
    let now = clock.now();
    if prober.engine.poll_deadline().is_some_and(|due| due <= now) {
        prober.engine.handle(now, Input::Deadline);
    }
    let destination = prober.engine.config().addresses.destination();
    while let Some(token) = prober.engine.poll_transmit(clock.now(), outgoing) {
        let stamp = clock.now();
        let outcome = match link.send(outgoing, destination) {
            Ok(()) => Input::Sent { token, stamp },
            Err(error) => {
                tracing::debug!(%error, %destination, "a probe could not leave");
                Input::NotSent { token }
            }
        };
        prober.engine.handle(stamp, outcome);
    }
    while let Some(sweep) = prober.engine.poll_event() {
        settled.push(measured(prober, sweep, clock));
    }
}

/// Ends an engine; gives the rounds it had begun.
fn end(prober: &mut Prober, clock: &AgentClock) -> Vec<Measured> {
    prober.engine.handle(clock.now(), Input::Stop);
    let strays = prober.engine.strays();
    if strays > 0 {
        tracing::info!(path = %prober.task.path, strays, "answers came after their round was settled");
    }
    std::iter::from_fn(|| prober.engine.poll_event())
        .collect::<Vec<_>>()
        .into_iter()
        .map(|sweep| measured(prober, sweep, clock))
        .collect()
}

/// Changes to another set of tasks. Tasks that stay the same go on undisturbed.
fn replan(
    probers: &mut Vec<Prober>,
    tasks: Vec<Task>,
    link: &Link,
    clock: &AgentClock,
) -> Vec<Measured> {
    let mut settled = Vec::new();
    probers.retain_mut(|prober| {
        let stays = tasks.contains(&prober.task);
        if !stays {
            settled.extend(end(prober, clock));
        }
        stays
    });
    for task in tasks {
        if probers.iter().any(|prober| prober.task == task) {
            continue;
        }
        match engine_for(&task, link, clock) {
            Ok(engine) => probers.push(Prober { task, engine }),
            Err(reason) => {
                tracing::warn!(path = %task.path, address = %task.address, reason, "task refused");
            }
        }
    }
    tracing::info!(tasks = probers.len(), "following the schedule");
    settled
}

fn engine_for(task: &Task, link: &Link, clock: &AgentClock) -> Result<HopSweep, String> {
    let source = link.source_for(task.address).map_err(|error| format!("no way there: {error}"))?;
    let addresses = Addresses::try_new(source, task.address)
        .ok_or_else(|| format!("{source} cannot speak with {}", task.address))?;
    let config = config_for(task, addresses, clock)?;
    HopSweep::new(config, clock.now()).map_err(|error| error.to_string())
}

fn config_for(
    task: &Task,
    addresses: Addresses,
    clock: &AgentClock,
) -> Result<SweepConfig, String> {
    // Flow fields follow from the path alone, so that its flow is the same after a restart.
    let id = ContentId::of(task.path.as_uuid().as_bytes());
    let [a, b, c, d, ..] = *id.as_bytes();
    let own = u16::from_be_bytes([a, b]) % 20_000;
    let constant = u16::from_be_bytes([c, d]).clamp(1, 0xfffe);
    let boot = clock.boot().as_uuid().as_u128();
    let mut seed = [0; 8];
    seed.copy_from_slice(
        &ContentId::of(&[id.as_bytes(), &boot.to_be_bytes()[..]].concat()).as_bytes()[..8],
    );
    Ok(SweepConfig {
        addresses,
        method: task.method,
        source_port: FIRST_PORT + own,
        destination_port: if task.method == Method::Udp { UDP_PORT } else { constant },
        dscp: task.dscp,
        size_bytes: task.size_bytes,
        interval: Micros::from_millis(task.interval_ms),
        probes_per_hop: task.probes_per_hop,
        timeout: Micros::from_millis(task.timeout_ms),
        last_hop: HopLimit::try_new(task.last_hop)
            .ok_or_else(|| format!("last hop {} is outside 1..=64", task.last_hop))?,
        seed: u64::from_be_bytes(seed),
    })
}

fn measured(prober: &Prober, sweep: Sweep, clock: &AgentClock) -> Measured {
    let flow = prober.engine.config().flow();
    let resolution = Resolution { name: None, address: prober.task.address };
    let started: Tick = sweep.started;
    let round = Round {
        path: prober.task.path,
        number: sweep.number,
        clocks: clock.clocks_at(started),
        flow: flow.id(),
        resolution: resolution.id(),
        route: sweep.route.id(),
        reached_at: sweep.reached_at,
        stamps: StampSource::Program,
        hops: sweep.hops,
    };
    Measured { round, flow, resolution, route: sweep.route }
}
