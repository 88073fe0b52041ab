//! The sending and measuring end of one session.

use super::clocks::{Bound, PeerClocks};
use super::ledger::{Answer, Ledger, Packet, Round};
use super::{OwnClock, ReceivedDatagram, datagram, packet};
use crate::budget::{Admission, Budget};
use crate::{Engine, Input, Token};
use itinera_model::two_way::{MAX_PACKETS, OneWay, OneWayDelay, PeerClock};
use itinera_model::unit::{Micros, Tick};
use itinera_wire::Addresses;
use itinera_wire::stamp::{self, ClassOfService, ErrorEstimate, Reflected, Timestamp};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::net::{IpAddr, SocketAddr};

/// Rounds that may be open at once; the oldest is settled before another begins.
const MAX_OPEN: usize = 16;
/// A peer without an answer for so long, or in the first seconds, may be absent or another one: it is
/// tried at this gap only.
const CAUTIOUS_AFTER: Micros = Micros::from_millis(30_000);
const FIRST_ANSWER: Micros = Micros::from_millis(3_000);
const CAUTIOUS_GAP: Micros = Micros::from_millis(5_000);

/// Settings of one session.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SenderConfig {
    /// Our address and the peer's.
    pub addresses: Addresses,
    /// Our port and the peer's.
    pub ports: (u16, u16),
    /// The session's number.
    pub session: u16,
    /// Its key.
    pub key: [u8; stamp::KEY_LEN],
    /// Code point of both directions.
    pub dscp: u8,
    /// Length of the whole IP packet in octets.
    pub size_bytes: u16,
    /// From packet to packet, before a jitter of a half in either direction.
    pub interval: Micros,
    /// Packets of a round.
    pub packets: u16,
    /// Without jitter, as a codec sends.
    pub regular: bool,
    /// An answer after this is late: its packet counts as lost (RFC 7680 section 2.8.2).
    pub timeout: Micros,
    /// The clock of our stamps.
    pub clock: OwnClock,
    /// Seed of the jitter.
    pub seed: u64,
}

/// Why a session cannot be driven.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SenderConfigError {
    /// Rounds of no packet, or of too many.
    #[error("{0} packets a round are outside 1..={MAX_PACKETS}")]
    Packets(u16),
    /// No pause between packets.
    #[error("an interval of {0} is shorter than 5 ms")]
    Interval(Micros),
}

/// A settled round, without the names that its driver knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TwoWay {
    /// Consecutive number from 0.
    pub number: u64,
    /// When its first packet left.
    pub started: Tick,
    /// Packets that left.
    pub sent: u16,
    /// Runs of packets without an answer.
    pub bursts: u16,
    /// The longest of them.
    pub longest_burst: u16,
    /// Packets without an answer, lost in an unknown direction.
    pub undetermined: u16,
    /// From here to the peer.
    pub forward: OneWay,
    /// From the peer to here.
    pub return_: OneWay,
    /// Round-trip delay without the peer's own time: smallest, median, 95th percentile, in
    /// microseconds.
    pub round_trip_us: Option<[u32; 3]>,
    /// The peer's clock.
    pub clock: Option<PeerClock>,
    /// How far apart both clocks may be, where each says it is synchronised.
    pub synchronised_us: Option<u32>,
}

/// The engine of one session. Gives [`TwoWay`] rounds.
#[derive(Debug)]
pub struct Sender {
    config: SenderConfig,
    rng: ChaCha8Rng,
    rounds: VecDeque<Round>,
    next_send: Option<Tick>,
    next_sequence: u32,
    next_number: u64,
    next_place: u64,
    /// The last that counts for the caution: the start, or an answer.
    heard: Tick,
    ledger: Ledger,
    clocks: PeerClocks,
    synchronised_us: Option<u32>,
    settled: VecDeque<TwoWay>,
    strays: u64,
}

impl Sender {
    /// An engine that begins within one interval.
    ///
    /// # Errors
    /// [`SenderConfigError`] when a setting is out of bounds.
    pub fn new(config: SenderConfig, now: Tick) -> Result<Self, SenderConfigError> {
        if !(1..=MAX_PACKETS).contains(&config.packets) {
            return Err(SenderConfigError::Packets(config.packets));
        }
        if config.interval < Micros::from_millis(5) {
            return Err(SenderConfigError::Interval(config.interval));
        }
        let mut rng = ChaCha8Rng::seed_from_u64(config.seed);
        let wait = rng.random_range(0..=config.interval.as_nanos());
        Ok(Self {
            rng,
            rounds: VecDeque::new(),
            next_send: Some(now.plus_nanos(wait)),
            next_sequence: 0,
            next_number: 0,
            next_place: 0,
            heard: now,
            ledger: Ledger::default(),
            clocks: PeerClocks::default(),
            synchronised_us: None,
            settled: VecDeque::new(),
            strays: 0,
            config,
        })
    }

    /// Its settings.
    pub const fn config(&self) -> &SenderConfig {
        &self.config
    }

    /// The number of the next round.
    pub const fn next_number(&self) -> u64 {
        self.next_number
    }

    /// Continues numbering where another engine of the same pair has ended.
    #[must_use]
    pub const fn numbered_from(mut self, number: u64) -> Self {
        self.next_number = number;
        self
    }

    /// How far our clock may be off UTC, where that is known.
    pub const fn set_synchronised(&mut self, error_us: Option<u32>) {
        self.synchronised_us = error_us;
    }

    /// The next settled round.
    pub fn poll_event(&mut self) -> Option<TwoWay> {
        self.settled.pop_front()
    }

    /// Answers that came after their round was settled.
    pub const fn strays(&self) -> u64 {
        self.strays
    }

    fn on_came(&mut self, came: ReceivedDatagram<'_>) -> bool {
        let config = &self.config;
        if came.port != config.ports.0 || stamp::session_of(came.payload) != Ok(config.session) {
            return false;
        }
        let Ok(reflected) = Reflected::parse(came.payload, &config.key) else {
            return false;
        };
        // A packet that opens the translation for the peer is no answer and repeats nothing.
        if reflected.sender_stamp == Timestamp::default() {
            return false;
        }
        let here = config.clock.at(came.stamp);
        let place = self.next_place;
        let of_number = |packet: &&mut Packet| packet.sequence == reflected.sender_sequence;
        let packet = self.rounds.iter_mut().flat_map(|round| &mut round.packets).find(of_number);
        let Some(packet) = packet else {
            self.strays = self.strays.saturating_add(1);
            return true;
        };
        if packet.stamp != reflected.sender_stamp {
            return false;
        }
        self.heard = came.stamp;
        self.next_place += 1;
        if packet.answer.is_some() {
            if packet.copies.len() < usize::from(u8::MAX) {
                packet.copies.push(reflected.sequence);
            }
            return true;
        }
        packet.answer = Some(Answer {
            number: reflected.sequence,
            place,
            there: reflected.received.unix_nanos(here),
            left: reflected.stamp.unix_nanos(here),
            here,
            class: reflected.class,
            traffic_class: came.traffic_class,
            hop_limit_there: reflected.sender_hop_limit,
            hop_limit: came.hop_limit,
            error: reflected.error,
        });
        true
    }

    fn on_deadline(&mut self, now: Tick) {
        let until = self.round_until();
        if let Some(last) = self.rounds.back_mut()
            && until.is_some_and(|until| until <= now)
        {
            last.closed = true;
        }
        while let Some(at) = self.settles_at()
            && at <= now
        {
            self.settle();
        }
    }

    /// When the round that is being sent ends though it is not full.
    fn round_until(&self) -> Option<Tick> {
        let last = self.rounds.back().filter(|round| !round.closed)?;
        let whole = self.config.interval.as_nanos() * u64::from(self.config.packets);
        Some(last.started.plus_nanos(whole.saturating_mul(2)))
    }

    /// When the oldest round takes no more answers. One whose last packets are unanswered waits
    /// once more as long for an answer after them, which shows the direction in which they were lost.
    fn settles_at(&self) -> Option<Tick> {
        let first = self.rounds.front().filter(|round| round.closed)?;
        let is_settled =
            |round: &Round| round.packets.last().is_some_and(|last| last.answer.is_some());
        let later =
            self.rounds.iter().skip(1).any(|round| round.unanswered() < round.packets.len());
        let at = first.last_sent + self.config.timeout;
        Some(if is_settled(first) || later { at } else { at + self.config.timeout })
    }

    fn settle(&mut self) {
        let Some(round) = self.rounds.pop_front() else {
            return;
        };
        if round.packets.is_empty() {
            return;
        }
        let next = self.next_answer();
        let lost = self.ledger.attribute(&round, next);
        let settled = self.summarised(&round, lost);
        self.settled.push_back(settled);
    }

    /// The number of the first answer after the settled rounds, and the unanswered packets before.
    fn next_answer(&self) -> Option<(i64, usize)> {
        let packets = self.rounds.iter().flat_map(|round| &round.packets);
        let at = packets.clone().position(|packet| packet.answer.is_some())?;
        let answer = packets.clone().nth(at)?.answer?;
        Some((i64::from(answer.number), at))
    }

    fn summarised(&mut self, round: &Round, lost: (usize, usize, usize)) -> TwoWay {
        let count = |count: usize| u16::try_from(count).unwrap_or(u16::MAX);
        let answered: Vec<(&Packet, Answer)> =
            round.packets.iter().filter_map(|p| p.answer.map(|answer| (p, answer))).collect();
        let (forward_lost, back_lost, undetermined) = lost;
        let mut copies = [0usize; 2];
        for (packet, answer) in &answered {
            let mut seen = BTreeSet::from([answer.number]);
            for number in &packet.copies {
                // Another number: it came there twice. The same one: its answer came here twice.
                copies[usize::from(!seen.insert(*number))] += 1;
            }
        }
        let mut by_number = answered.clone();
        by_number.sort_by_key(|(_, answer)| answer.number);
        let there = reordered(by_number.iter().map(|(packet, _)| packet.sequence));
        let mut by_place = answered.clone();
        by_place.sort_by_key(|(_, answer)| answer.place);
        let here = reordered(by_place.iter().map(|(_, answer)| answer.number));
        let class = |answer: &Answer| answer.class;
        let forward = OneWay {
            arrived: count(answered.len() + back_lost),
            lost: count(forward_lost),
            duplicated: count(copies[0]),
            reordered: count(there),
            delay: OneWayDelay::of(micros(answered.iter().map(|(p, a)| a.there - p.left))),
            dscp: counted(
                answered.iter().filter_map(|(_, a)| class(a).map(|class| class.received_dscp)),
            ),
            congested: count(
                answered
                    .iter()
                    .filter(|(_, a)| class(a).is_some_and(|c| c.received_ecn == 3))
                    .count(),
            ),
            hop_limit: answered.last().map(|(_, a)| a.hop_limit_there).filter(|limit| *limit > 0),
        };
        let back = OneWay {
            arrived: count(answered.len()),
            lost: count(back_lost),
            duplicated: count(copies[1]),
            reordered: count(here),
            delay: OneWayDelay::of(micros(answered.iter().map(|(_, a)| a.here - a.left))),
            dscp: counted(answered.iter().filter_map(|(_, a)| a.traffic_class.map(|c| c >> 2))),
            congested: count(
                answered
                    .iter()
                    .filter(|(_, a)| a.traffic_class.is_some_and(|c| c & 3 == 3))
                    .count(),
            ),
            hop_limit: answered.last().and_then(|(_, a)| a.hop_limit),
        };
        let trips = micros(answered.iter().map(|(p, a)| (a.here - p.left) - (a.left - a.there)));
        let round_trip_us = OneWayDelay::of(trips).map(|trip| {
            let least = u32::try_from(trip.min_us.max(0)).unwrap_or(u32::MAX);
            [least, least.saturating_add(trip.p50_us), least.saturating_add(trip.p95_us)]
        });
        let unanswered =
            |run: &&[Packet]| run.first().is_some_and(|packet| packet.answer.is_none());
        let same = |a: &Packet, b: &Packet| a.answer.is_none() == b.answer.is_none();
        let runs: Vec<usize> =
            round.packets.chunk_by(same).filter(unanswered).map(<[Packet]>::len).collect();
        let peers = answered.last().and_then(|(_, answer)| answer.error.error_us());
        TwoWay {
            number: round.number,
            started: round.started,
            sent: count(round.packets.len()),
            bursts: count(runs.len()),
            longest_burst: count(runs.iter().copied().max().unwrap_or(0)),
            undetermined: count(undetermined),
            forward,
            return_: back,
            round_trip_us,
            clock: self.regard_clock(&answered),
            synchronised_us: self
                .synchronised_us
                .zip(peers)
                .map(|(own, peers)| own.saturating_add(peers)),
        }
    }

    fn regard_clock(&mut self, answered: &[(&Packet, Answer)]) -> Option<PeerClock> {
        let high = answered
            .iter()
            .map(|(p, a)| Bound { at: p.left, nanos: a.there - p.left })
            .min_by_key(|bound| bound.nanos)?;
        let low = answered
            .iter()
            .map(|(_, a)| Bound { at: a.here, nanos: a.left - a.here })
            .max_by_key(|bound| bound.nanos)?;
        Some(self.clocks.regard(low, high))
    }

    fn send(&mut self, now: Tick, out: &mut Vec<u8>) -> Token {
        let full = usize::from(self.config.packets);
        if self.rounds.back().is_none_or(|round| round.closed) {
            if self.rounds.len() >= MAX_OPEN {
                self.settle();
            }
            self.rounds.push_back(Round {
                number: self.next_number,
                started: now,
                last_sent: now,
                packets: Vec::new(),
                closed: false,
            });
            self.next_number += 1;
        }
        let sequence = self.next_sequence;
        self.next_sequence = self.next_sequence.wrapping_add(1);
        let left = self.config.clock.at(now);
        let stamp = Timestamp::from_unix_nanos(left);
        if let Some(round) = self.rounds.back_mut() {
            round.packets.push(Packet { sequence, stamp, left, answer: None, copies: Vec::new() });
            round.last_sent = now;
            round.closed = round.packets.len() >= full;
        }
        let patience = if self.next_place == 0 { FIRST_ANSWER } else { CAUTIOUS_AFTER };
        let cautious = now.since(self.heard) > patience && sequence > 10;
        let gap =
            if cautious { CAUTIOUS_GAP.max(self.config.interval) } else { self.config.interval };
        let gap = gap.as_nanos();
        let gap = match self.config.regular && !cautious {
            true => gap,
            false => gap / 2 + self.rng.random_range(0..=gap),
        };
        self.next_send = Some(now.plus_nanos(gap));
        let class = ClassOfService { wanted_dscp: self.config.dscp, ..ClassOfService::default() };
        let sent = stamp::Sent {
            sequence,
            stamp,
            error: self.synchronised_us.map_or(ErrorEstimate::UNKNOWN, ErrorEstimate::synchronised),
            session: self.config.session,
            class: Some(class),
        };
        let SenderConfig { addresses, ports, dscp, size_bytes, key, .. } = self.config;
        packet(addresses, ports, dscp, size_bytes, |len| sent.emit(&key, len), out);
        token(sequence)
    }

    /// The packet that a token names: among the newest.
    fn find(&mut self, wanted: Token) -> Option<&mut Packet> {
        let newest = self.rounds.iter_mut().rev().flat_map(|round| round.packets.iter_mut().rev());
        newest.take(usize::from(MAX_PACKETS)).find(|packet| token(packet.sequence) == wanted)
    }
}

impl Engine for Sender {
    fn handle(&mut self, now: Tick, input: Input<'_>) -> bool {
        match input {
            Input::Sent { token, stamp } => {
                let left = self.config.clock.at(stamp);
                if let Some(packet) = self.find(token) {
                    packet.left = left;
                }
            }
            Input::NotSent { token: wanted } => {
                for round in &mut self.rounds {
                    round.packets.retain(|packet| token(packet.sequence) != wanted);
                }
            }
            Input::Deadline => self.on_deadline(now),
            Input::Stop => {
                self.next_send = None;
                while !self.rounds.is_empty() {
                    self.settle();
                }
            }
            input => return datagram(&input).is_some_and(|came| self.on_came(came)),
        }
        false
    }

    fn poll_transmit(
        &mut self,
        now: Tick,
        budget: &mut Budget,
        out: &mut Vec<u8>,
    ) -> Option<Token> {
        if self.next_send.is_none_or(|at| at > now) {
            return None;
        }
        if let Admission::Later(at) = budget.admit(now, Some(self.destination()), None) {
            self.next_send = Some(at);
            return None;
        }
        Some(self.send(now, out))
    }

    fn poll_deadline(&self) -> Option<Tick> {
        let settles = self.settles_at();
        self.next_send.into_iter().chain(settles).chain(self.round_until()).min()
    }

    fn destination(&self) -> IpAddr {
        self.config.addresses.destination()
    }
}

impl SenderConfig {
    /// Where packets go.
    pub const fn peer(&self) -> SocketAddr {
        SocketAddr::new(self.addresses.destination(), self.ports.1)
    }
}

#[allow(clippy::cast_possible_truncation, reason = "the newest packets differ in the low half")]
const fn token(sequence: u32) -> Token {
    Token(sequence as u16)
}

fn micros(nanos: impl Iterator<Item = i64>) -> Vec<i64> {
    nanos.map(|nanos| nanos.div_euclid(1_000)).collect()
}

/// Numbers that come after a larger one (RFC 4737 section 3.3).
fn reordered(numbers: impl Iterator<Item = u32>) -> usize {
    let mut most = None;
    numbers
        .filter(|number| {
            let late = most.is_some_and(|most| most > *number);
            most = most.max(Some(*number));
            late
        })
        .count()
}

fn counted(values: impl Iterator<Item = u8>) -> Vec<(u8, u16)> {
    let mut counts: BTreeMap<u8, u16> = BTreeMap::new();
    for value in values {
        let count = counts.entry(value).or_default();
        *count = count.saturating_add(1);
    }
    counts.into_iter().collect()
}
