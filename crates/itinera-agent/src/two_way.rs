//! Both directions between this agent and others, as the service allows.

#[cfg(test)]
mod tests;

use crate::driver::{Driver, EngineKey};
use crate::link::Link;
use itinera_model::batch::RefusedTask;
use itinera_model::id::{ContentId, PairId};
use itinera_model::two_way::{PORT, Role, Ticket, TwoWayRound, VOICE_INTERVAL_MS};
use itinera_model::unit::Micros;
use itinera_probe::two_way::{OwnClock, Reflector, Sender, SenderConfig, Session, TwoWay};
use itinera_probe::{Engine, Input};
use itinera_wire::Addresses;
use std::collections::BTreeMap;
use std::net::SocketAddr;

/// Wait for an answer: longer than any path on earth takes, queues included.
const TIMEOUT: Micros = Micros::from_millis(2_000);

struct Sending {
    key: EngineKey,
    ticket: Ticket,
    engine: Sender,
}

/// The sessions of this agent.
pub(crate) struct Sessions {
    reflector_key: EngineKey,
    reflector: Reflector,
    senders: Vec<Sending>,
    clock: OwnClock,
    /// Next round numbers of pairs with an ended engine.
    numbers: BTreeMap<PairId, u64>,
}

impl Sessions {
    pub(crate) fn new(reflector_key: EngineKey, clock: OwnClock) -> Self {
        Self {
            reflector_key,
            reflector: Reflector::new(PORT, clock),
            senders: Vec::new(),
            clock,
            numbers: BTreeMap::new(),
        }
    }

    pub(crate) fn engines(&mut self) -> impl Iterator<Item = (EngineKey, &mut dyn Engine)> {
        let reflector: &mut dyn Engine = &mut self.reflector;
        let senders = self.senders.iter_mut().map(|sending| {
            let engine: &mut dyn Engine = &mut sending.engine;
            (sending.key, engine)
        });
        senders.chain([(self.reflector_key, reflector)])
    }

    pub(crate) fn deadlines(&self) -> impl Iterator<Item = itinera_model::Tick> {
        let senders = self.senders.iter().filter_map(|sending| sending.engine.poll_deadline());
        senders.chain(self.reflector.poll_deadline())
    }

    /// Changes to other tickets; sessions that stay the same, and leave from where they did, go
    /// on undisturbed. Gives the rounds that were settled by it, and what cannot be done.
    pub(crate) fn replan(
        &mut self,
        tickets: &[Ticket],
        next_key: &mut EngineKey,
        driver: &mut Driver,
    ) -> (Vec<TwoWayRound>, Vec<RefusedTask>) {
        let mut settled = Vec::new();
        let heard = if tickets.is_empty() { Ok(()) } else { driver.link().listen(PORT) };
        if let Err(error) = heard {
            settled.extend(self.stop(driver));
            let reason = format!("UDP port {PORT} cannot be had for two-way measurement: {error}");
            let refused = |ticket: &Ticket| RefusedTask::of_pair(ticket.pair, reason.clone());
            return (settled, tickets.iter().map(refused).collect());
        }
        let stays = |sending: &Sending, driver: &Driver| {
            let source = driver.link().source_for(sending.ticket.peer_address);
            tickets.contains(&sending.ticket)
                && source.is_ok_and(|now| now == sending.engine.config().addresses.source())
        };
        for mut sending in std::mem::take(&mut self.senders) {
            if stays(&sending, driver) {
                self.senders.push(sending);
            } else {
                settled.extend(end(&mut sending, driver));
                self.numbers.insert(sending.ticket.pair, sending.engine.next_number());
            }
        }
        let (mut refused, mut sessions) = (Vec::new(), Vec::new());
        for ticket in tickets {
            if self.senders.iter().any(|sending| sending.ticket == *ticket) {
                continue;
            }
            match self.begin(ticket, *next_key, driver) {
                Ok(Some(session)) => sessions.push(session),
                Ok(None) => *next_key += 1,
                Err(reason) => refused.push(RefusedTask::of_pair(ticket.pair, reason)),
            }
        }
        self.reflector.set_sessions(sessions, driver.clock().now());
        (settled, refused)
    }

    /// Begins to send, or gives the session that is to be answered.
    fn begin(
        &mut self,
        ticket: &Ticket,
        key: EngineKey,
        driver: &Driver,
    ) -> Result<Option<Session>, String> {
        let source = driver.link().source_for(ticket.peer_address);
        let source = source.map_err(|error| format!("no route to the peer: {error}"))?;
        let interval = Micros::from_millis(ticket.interval_ms);
        let Ticket { session, key: secret, dscp, size_bytes, .. } = *ticket;
        if ticket.role == Role::Reflector {
            let peer = SocketAddr::new(ticket.peer_address, ticket.peer_port);
            let opens_to = ticket.is_hidden.then_some(peer);
            return Ok(Some(Session {
                session,
                key: secret,
                interval,
                opens_to,
                source,
                dscp,
                size_bytes,
            }));
        }
        let addresses = Addresses::try_new(source, ticket.peer_address)
            .ok_or_else(|| format!("{source} cannot speak with {}", ticket.peer_address))?;
        let boot = driver.clock().boot().as_uuid();
        let seed = [&boot.as_bytes()[..], ticket.pair.as_uuid().as_bytes()].concat();
        let mut octets = [0; 8];
        octets.copy_from_slice(&ContentId::of(&seed).as_bytes()[..8]);
        let config = SenderConfig {
            addresses,
            ports: (PORT, ticket.peer_port),
            session,
            key: secret,
            dscp,
            size_bytes,
            interval,
            packets: ticket.packets,
            regular: ticket.interval_ms <= VOICE_INTERVAL_MS,
            timeout: TIMEOUT,
            clock: self.clock,
            seed: u64::from_be_bytes(octets),
        };
        let engine = Sender::new(config, driver.clock().now()).map_err(|e| e.to_string())?;
        let number = self.numbers.remove(&ticket.pair).unwrap_or(0);
        let engine = engine.numbered_from(number);
        self.senders.push(Sending { key, ticket: ticket.clone(), engine });
        Ok(None)
    }

    /// Updates the error bound of the own clock.
    pub(crate) fn set_synchronised(&mut self, driver: &Driver) {
        let error_us = match driver.link() {
            Link::Simulated { .. } => None,
            Link::Raw(_) | Link::Plain(_) => driver.clock().synchronised_us(self.clock),
        };
        self.reflector.set_synchronised(error_us);
        for sending in &mut self.senders {
            sending.engine.set_synchronised(error_us);
        }
    }

    /// The rounds settled since the last call.
    pub(crate) fn settled(&mut self, driver: &mut Driver) -> Vec<TwoWayRound> {
        let mut settled = Vec::new();
        for sending in &mut self.senders {
            while let Some(found) = sending.engine.poll_event() {
                settled.push(round(sending, found, driver));
            }
        }
        settled
    }

    /// Ends every session; gives the rounds that had begun.
    pub(crate) fn stop(&mut self, driver: &mut Driver) -> Vec<TwoWayRound> {
        let mut settled = Vec::new();
        for mut sending in std::mem::take(&mut self.senders) {
            settled.extend(end(&mut sending, driver));
            self.numbers.insert(sending.ticket.pair, sending.engine.next_number());
        }
        self.reflector.set_sessions(Vec::new(), driver.clock().now());
        settled
    }
}

fn end(sending: &mut Sending, driver: &mut Driver) -> Vec<TwoWayRound> {
    sending.engine.handle(driver.clock().now(), Input::Stop);
    let found: Vec<TwoWay> = std::iter::from_fn(|| sending.engine.poll_event()).collect();
    let rounds = found.into_iter().map(|found| round(sending, found, driver)).collect();
    driver.forget(sending.key);
    rounds
}

fn round(sending: &Sending, found: TwoWay, driver: &mut Driver) -> TwoWayRound {
    let config = sending.engine.config();
    let stamps = driver.stamp_source(sending.key);
    TwoWayRound {
        pair: sending.ticket.pair,
        number: found.number,
        clocks: driver.clock().clocks_at(found.started),
        source: config.addresses.source(),
        destination: config.addresses.destination(),
        stamps,
        lateness: Some(driver.clock().lateness_since(found.started)),
        dscp: config.dscp,
        sent: found.sent,
        interval_ms: sending.ticket.interval_ms,
        bursts: found.bursts,
        longest_burst: found.longest_burst,
        undetermined: found.undetermined,
        forward: found.forward,
        return_: found.return_,
        round_trip_us: found.round_trip_us,
        clock: found.clock,
        synchronised_us: found.synchronised_us,
    }
}
