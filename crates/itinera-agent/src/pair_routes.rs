//! Routes of pairs: hop sweeps of each pair's own flow, from the agent that sends in that direction.
//!
//! One sweep runs at a time, so that many pairs do not ask the same hops at once. A route is reported
//! when it has changed, and every hour.

use crate::clock::AgentClock;
use crate::driver::{Driver, EngineKey};
use crate::link::Link;
use itinera_model::id::{ContentId, PairId};
use itinera_model::path::Method;
use itinera_model::two_way::{Direction, PORT, PairRoute, Role, Ticket};
use itinera_model::unit::{HopLimit, Micros, Tick};
use itinera_probe::{Budget, Engine, HopSweep, Input, ProbeSpec, Sweep, SweepConfig, Token};
use itinera_wire::{Addresses, IpHeader, ip};
use std::net::IpAddr;

/// A route that has not changed is reported again after this.
const REPORTED_AGAIN: Micros = Micros::from_millis(3_600_000);
/// A sweep begins within this, and sends its probes within most of it.
const SWEEP: Micros = Micros::from_millis(2_000);
/// An answer after this is late.
const TIMEOUT: Micros = Micros::from_millis(2_000);
/// Probes for each hop: one answer is enough.
const PROBES_PER_HOP: u8 = 2;
/// The last hop limit tried.
const LAST_HOP: u8 = 30;
/// Length of the whole IP packet in bytes.
const SIZE_BYTES: u16 = 64;
/// Bytes that one sweep sends at most.
pub(crate) const BYTES_A_SWEEP: u64 = LAST_HOP as u64 * PROBES_PER_HOP as u64 * SIZE_BYTES as u64;

/// A route that was reported.
struct Reported {
    at: Tick,
    hops: Vec<Option<IpAddr>>,
}

/// A pair with a route to be measured.
struct Wanted {
    ticket: Ticket,
    /// When it is measured next.
    due: Tick,
    reported: Option<Reported>,
}

impl Wanted {
    const fn direction(&self) -> Direction {
        match self.ticket.role {
            Role::Sender => Direction::Forward,
            Role::Reflector => Direction::Return,
        }
    }

    /// True for a ticket of the same flow.
    fn is_for(&self, ticket: &Ticket) -> bool {
        let of = |it: &Ticket| (it.pair, it.role, it.peer_address, it.peer_port);
        of(&self.ticket) == of(ticket)
    }

    /// The hops of the route, where they have changed or were not reported for long.
    fn reported_at(&mut self, sweep: &Sweep, now: Tick) -> Option<Vec<Option<IpAddr>>> {
        let before = self.reported.as_ref().map(|it| it.hops.as_slice()).unwrap_or_default();
        // The peer itself answers only while its program does not run.
        let peer = Some(self.ticket.peer_address);
        let now_known = sweep.route.hops.split(|hop| *hop == peer).next().unwrap_or_default();
        let hops = completed(before, now_known);
        let is_known = self
            .reported
            .as_ref()
            .is_some_and(|it| it.hops == hops && now.since(it.at) < REPORTED_AGAIN);
        if is_known || hops.is_empty() {
            return None;
        }
        self.reported = Some(Reported { at: now, hops: hops.clone() });
        Some(hops)
    }
}

/// A sweep of a flow that the peer answers with packets of the pair's session, which answer no probe.
struct FlowSweep(HopSweep);

impl Engine for FlowSweep {
    fn handle(&mut self, now: Tick, input: Input<'_>) -> bool {
        let is_of_session = match input {
            Input::Datagram { packet, .. } => {
                IpHeader::parse(packet).is_ok_and(|(header, _)| header.protocol() == ip::UDP)
            }
            Input::Payload { protocol, .. } => protocol == ip::UDP,
            _ => false,
        };
        !is_of_session && self.0.handle(now, input)
    }

    fn poll_transmit(
        &mut self,
        now: Tick,
        budget: &mut Budget,
        out: &mut Vec<u8>,
    ) -> Option<Token> {
        self.0.poll_transmit(now, budget, out)
    }

    fn poll_deadline(&self) -> Option<Tick> {
        self.0.poll_deadline()
    }

    fn destination(&self) -> IpAddr {
        self.0.destination()
    }
}

/// The sweep that runs.
struct Running {
    key: EngineKey,
    pair: PairId,
    engine: FlowSweep,
}

/// Routes of the pairs of this agent.
#[derive(Default)]
pub(crate) struct PairRoutes {
    wanted: Vec<Wanted>,
    /// From one sweep of a pair to the next, in seconds.
    every_s: u32,
    running: Option<Running>,
}

impl PairRoutes {
    /// The engine that runs.
    pub(crate) fn engine(&mut self) -> Option<(EngineKey, &mut dyn Engine)> {
        self.running.as_mut().map(|Running { key, engine, .. }| {
            let engine: &mut dyn Engine = engine;
            (*key, engine)
        })
    }

    pub(crate) fn deadline(&self) -> Option<Tick> {
        self.running.as_ref().and_then(|running| running.engine.poll_deadline())
    }

    /// Changes to other tickets, each with a sweep in so many seconds; what is known of flows that stay
    /// is kept.
    pub(crate) fn replan(&mut self, tickets: &[Ticket], every_s: u32, driver: &mut Driver) {
        let now = driver.clock().now();
        self.every_s = every_s;
        let mut before = std::mem::take(&mut self.wanted);
        for ticket in tickets {
            let known = before.iter().position(|wanted| wanted.is_for(ticket));
            let known = known.map(|at| before.swap_remove(at));
            let (due, reported) = known.map_or((now, None), |it| (it.due, it.reported));
            self.wanted.push(Wanted { ticket: ticket.clone(), due, reported });
        }
        let gone = |running: &mut Running| {
            !self.wanted.iter().any(|wanted| wanted.ticket.pair == running.pair)
        };
        if let Some(mut running) = self.running.take_if(gone) {
            running.engine.handle(now, Input::Stop);
            driver.forget(running.key);
        }
    }

    /// Begins the sweep that is due, where none runs.
    pub(crate) fn begin_next(&mut self, next_key: &mut EngineKey, driver: &Driver) {
        if self.running.is_some() {
            return;
        }
        let now = driver.clock().now();
        for wanted in self.wanted.iter_mut().filter(|wanted| wanted.due <= now) {
            wanted.due = now.plus_nanos(u64::from(self.every_s) * 1_000_000_000);
            match engine_for(&wanted.ticket, driver.link(), driver.clock()) {
                Ok(engine) => {
                    let (key, pair) = (*next_key, wanted.ticket.pair);
                    *next_key += 1;
                    self.running = Some(Running { key, pair, engine });
                    return;
                }
                Err(reason) => {
                    tracing::debug!(pair = %wanted.ticket.pair, reason, "its route is not measured");
                }
            }
        }
    }

    /// The route that a sweep has found, where it is to be reported.
    pub(crate) fn settled(&mut self, driver: &mut Driver) -> Option<PairRoute> {
        let sweep = self.running.as_mut()?.engine.0.poll_event()?;
        let Running { key, pair, .. } = self.running.take()?;
        driver.forget(key);
        let wanted = self.wanted.iter_mut().find(|wanted| wanted.ticket.pair == pair)?;
        let (now, direction) = (driver.clock().now(), wanted.direction());
        let clocks = driver.clock().clocks_at(sweep.started);
        let hops = wanted.reported_at(&sweep, now)?;
        Some(PairRoute { pair, direction, clocks, hops })
    }
}

/// A route up to the last hop that answered. Hops that are silent this time are as before where no hop that
/// answered both times shows another route.
fn completed(before: &[Option<IpAddr>], now: &[Option<IpAddr>]) -> Vec<Option<IpAddr>> {
    let mut both = before.iter().zip(now).filter_map(|(old, new)| old.zip(*new));
    let is_same = both.all(|(old, new)| old == new);
    let length = if is_same { before.len().max(now.len()) } else { now.len() };
    let hop = |hops: &[Option<IpAddr>], at: usize| hops.get(at).copied().flatten();
    let earlier = |at| hop(before, at).filter(|_| is_same);
    let mut hops: Vec<_> = (0..length).map(|at| hop(now, at).or_else(|| earlier(at))).collect();
    let answered = hops.iter().rposition(Option::is_some).map_or(0, |last| last + 1);
    hops.truncate(answered);
    hops
}

fn engine_for(ticket: &Ticket, link: &Link, clock: &AgentClock) -> Result<FlowSweep, String> {
    let source = link.source_for(ticket.peer_address).map_err(|error| error.to_string())?;
    let addresses = Addresses::try_new(source, ticket.peer_address)
        .ok_or_else(|| format!("{source} cannot speak with {}", ticket.peer_address))?;
    let hop = |limit: u8| HopLimit::try_new(limit).ok_or_else(|| format!("hop limit {limit}"));
    let of = [ticket.pair.as_uuid(), clock.boot().as_uuid()].map(|id| *id.as_bytes()).concat();
    let mut seed = [0; 8];
    seed.copy_from_slice(&ContentId::of(&of).as_bytes()[..8]);
    let config = SweepConfig {
        probe: ProbeSpec {
            addresses,
            method: Method::Udp,
            destination_port: ticket.peer_port,
            // The peer answers packets of its sessions only.
            port_answers: false,
            dscp: ticket.dscp,
            size_bytes: SIZE_BYTES,
            dont_fragment: false,
            secret: 1,
        },
        source_ports: vec![PORT],
        interval: SWEEP,
        probes_per_hop: PROBES_PER_HOP,
        timeout: TIMEOUT,
        first_hop: hop(1)?,
        last_hop: hop(LAST_HOP)?,
        full_every: 1,
        rounds: Some(1),
        seed: u64::from_be_bytes(seed),
    };
    HopSweep::new(config, clock.now()).map(FlowSweep).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hop_that_is_silent_once_changes_no_route() {
        let hop = |last: u8| Some(IpAddr::from([198, 18, 0, last]));
        let known = [hop(1), hop(2), hop(3)];
        assert_eq!(completed(&[], &known), known);
        assert_eq!(completed(&known, &[hop(1), None, hop(3), None, None]), known);
        assert_eq!(completed(&known, &[hop(1)]), known, "what is behind it lost all probes");
        assert_eq!(completed(&known, &[hop(1), None, hop(4)]), [hop(1), None, hop(4)]);
        assert_eq!(completed(&known, &[hop(1), hop(5)]), [hop(1), hop(5)]);
        assert_eq!(completed(&[hop(1)], &known), known);
        assert_eq!(completed(&[], &[None, None]), []);
    }
}
