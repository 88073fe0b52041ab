//! The reflecting end of all sessions of one agent.

use super::{OwnClock, ReceivedDatagram, datagram, packet};
use crate::budget::{Admission, Budget};
use crate::{Engine, Input, Token};
use itinera_model::unit::{Micros, Tick};
use itinera_wire::Addresses;
use itinera_wire::stamp::{self, ClassOfService, ErrorEstimate, Reflected, Timestamp};
use std::collections::{BTreeMap, VecDeque};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

/// Sessions at most.
pub const MAX_SESSIONS: usize = 256;
/// Answers that may wait to leave.
const MAX_WAITING: usize = 1_024;
/// A session is answered up to so many times its agreed rate, so that copies are answered and a key
/// that has come into wrong hands is no use for floods.
const ABOVE_RATE: u64 = 4;
const BURST: u64 = 32;
/// How often an outbound address translation is kept open. Translations of UDP last two
/// minutes and more (RFC 4787 section 4.3), many in use 30 s.
const OPENING: Micros = Micros::from_millis(15_000);

/// One session to answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// Its number.
    pub session: u16,
    /// Its key.
    pub key: [u8; stamp::KEY_LEN],
    /// From packet to packet as agreed.
    pub interval: Micros,
    /// Where the sender is to be let in from, through address translation on our side: packets are
    /// sent there now and then.
    pub opens_to: Option<SocketAddr>,
    /// Our own address toward the sender.
    pub source: IpAddr,
    /// Code point of both directions.
    pub dscp: u8,
    /// Length of the whole IP packet in octets.
    pub size_bytes: u16,
}

#[derive(Debug)]
struct Open {
    session: Session,
    next_sequence: u32,
    /// When the session's allowance is full again.
    full_at: Tick,
    opens_at: Option<Tick>,
}

#[derive(Debug)]
struct Waiting {
    addresses: Addresses,
    to_port: u16,
    received: Tick,
    sent: stamp::Sent,
    hop_limit: Option<u8>,
    class: Option<ClassOfService>,
}

/// The engine: answers only holders of a session's key.
#[derive(Debug)]
pub struct Reflector {
    port: u16,
    pub(super) clock: OwnClock,
    synchronised_us: Option<u32>,
    sessions: BTreeMap<u16, Open>,
    waiting: VecDeque<Waiting>,
    /// The budget lets nothing leave before.
    held_until: Option<Tick>,
    destination: IpAddr,
    refused: u64,
}

impl Reflector {
    /// An engine that answers at a port.
    pub const fn new(port: u16, clock: OwnClock) -> Self {
        Self {
            port,
            clock,
            synchronised_us: None,
            sessions: BTreeMap::new(),
            waiting: VecDeque::new(),
            held_until: None,
            destination: IpAddr::V4(Ipv4Addr::UNSPECIFIED),
            refused: 0,
        }
    }

    /// Answers these sessions from now on, at most [`MAX_SESSIONS`]; those known go on counting.
    pub fn set_sessions(&mut self, sessions: Vec<Session>, now: Tick) {
        let mut before = std::mem::take(&mut self.sessions);
        for session in sessions.into_iter().take(MAX_SESSIONS) {
            let known = before.remove(&session.session).filter(|known| known.session == session);
            let opens_at = session.opens_to.map(|_| now);
            let open = known.unwrap_or(Open { session, next_sequence: 0, full_at: now, opens_at });
            self.sessions.insert(open.session.session, open);
        }
    }

    /// How far the clock may be off UTC, where that is known.
    pub const fn set_synchronised(&mut self, error_us: Option<u32>) {
        self.synchronised_us = error_us;
    }

    /// Packets to our port without a valid session, or too many of one session.
    pub const fn refused(&self) -> u64 {
        self.refused
    }

    fn on_came(&mut self, came: ReceivedDatagram<'_>) -> bool {
        if came.port != self.port {
            return false;
        }
        let open = stamp::session_of(came.payload).ok().and_then(|id| self.sessions.get_mut(&id));
        let Some(open) = open else {
            return false;
        };
        let (Ok(sent), Some(to)) = (
            stamp::Sent::parse(came.payload, &open.session.key),
            Addresses::try_new(came.to.unwrap_or(open.session.source), came.from.ip()),
        ) else {
            self.refused = self.refused.saturating_add(1);
            return false;
        };
        let cost = open.session.interval.as_nanos() / ABOVE_RATE;
        let earliest = open.full_at.as_nanos().saturating_sub(cost.saturating_mul(BURST));
        if earliest > came.stamp.as_nanos() || self.waiting.len() >= MAX_WAITING {
            self.refused = self.refused.saturating_add(1);
            return false;
        }
        open.full_at = open.full_at.max(came.stamp).plus_nanos(cost);
        let class = sent.class.map(|class| ClassOfService {
            received_dscp: came.traffic_class.map_or(class.wanted_dscp, |octet| octet >> 2),
            received_ecn: came.traffic_class.map_or(0, |octet| octet & 3),
            ..class
        });
        self.waiting.push_back(Waiting {
            addresses: to,
            to_port: came.from.port(),
            received: came.stamp,
            sent,
            hop_limit: came.hop_limit,
            class,
        });
        true
    }

    fn own_error(&self) -> ErrorEstimate {
        self.synchronised_us.map_or(ErrorEstimate::UNKNOWN, ErrorEstimate::synchronised)
    }

    /// The packet that keeps the outbound address translation of a session open, when due.
    fn opening(&mut self, now: Tick, out: &mut Vec<u8>) -> Option<Token> {
        let error = self.own_error();
        let due = |open: &&mut Open| open.opens_at.is_some_and(|at| at <= now);
        let open = self.sessions.values_mut().find(due)?;
        open.opens_at = Some(now + OPENING);
        let Session { session, key, dscp, size_bytes, .. } = open.session;
        let to = open.session.opens_to?;
        let addresses = Addresses::try_new(open.session.source, to.ip())?;
        let stamp = Timestamp::from_unix_nanos(self.clock.at(now));
        // It gets no answer: the peer is this session's sender, not its reflector.
        let opening = stamp::Sent { sequence: 0, stamp, error, session, class: None };
        let content = |len| opening.emit(&key, len);
        packet(addresses, (self.port, to.port()), dscp, size_bytes, content, out);
        self.destination = to.ip();
        Some(Token(0))
    }
}

impl Engine for Reflector {
    fn handle(&mut self, _now: Tick, input: Input<'_>) -> bool {
        match input {
            Input::Stop => {
                self.sessions.clear();
                self.waiting.clear();
                false
            }
            input => datagram(&input).is_some_and(|came| self.on_came(came)),
        }
    }

    fn poll_transmit(
        &mut self,
        now: Tick,
        budget: &mut Budget,
        out: &mut Vec<u8>,
    ) -> Option<Token> {
        self.held_until = None;
        let Some(first) = self.waiting.front() else {
            return self.opening(now, out);
        };
        let destination = first.addresses.destination();
        if let Admission::Later(at) = budget.admit(now, Some(destination), None) {
            self.held_until = Some(at);
            return None;
        }
        let Waiting { addresses, to_port, received, sent, hop_limit, class } =
            self.waiting.pop_front()?;
        let error = self.own_error();
        let open = self.sessions.get_mut(&sent.session)?;
        let reflected = Reflected {
            sequence: open.next_sequence,
            stamp: Timestamp::from_unix_nanos(self.clock.at(now)),
            error,
            session: sent.session,
            received: Timestamp::from_unix_nanos(self.clock.at(received)),
            sender_sequence: sent.sequence,
            sender_stamp: sent.stamp,
            sender_error: sent.error,
            sender_hop_limit: hop_limit.unwrap_or(0),
            class,
        };
        open.next_sequence = open.next_sequence.wrapping_add(1);
        let (key, size_bytes) = (open.session.key, open.session.size_bytes);
        let dscp = class.map_or(open.session.dscp, |class| class.wanted_dscp);
        let content = |len| reflected.emit(&key, len);
        packet(addresses, (self.port, to_port), dscp, size_bytes, content, out);
        self.destination = destination;
        Some(Token(0))
    }

    fn poll_deadline(&self) -> Option<Tick> {
        let held = self.held_until.or_else(|| self.waiting.front().map(|first| first.received));
        let opening = self.sessions.values().filter_map(|open| open.opens_at).min();
        held.into_iter().chain(opening).min()
    }

    fn destination(&self) -> IpAddr {
        self.destination
    }
}
