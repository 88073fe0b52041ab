//! Search for the largest packet that a path carries whole.
//!
//! Packets that may not be cut are sent to the target: what arrives raises the floor, what a
//! router calls too big, or what vanishes several times, lowers the ceiling. Where larger ones
//! vanish without a word, the last hop that they still reach is found by their hop limit.
//!
//! Source: RFC 1191 and RFC 8201 for the routers' word; RFC 8899 and RFC 4821 for searching
//! without it; RFC 2923 for what a black hole is.

use crate::budget::{Admission, Budget};
use crate::flight::{Flight, Landed, token};
use crate::packet::{self, Answer, AnswerKind, LARGEST, ProbeSpec, ProbeSpecError};
use crate::{Engine, Input, Token};
use itinera_model::path_mtu::{MtuLimit, PathMtu};
use itinera_model::reading::AnswerForm;
use itinera_model::unit::{HopLimit, Micros, Tick};
use std::collections::VecDeque;
use std::net::IpAddr;
use std::ops::RangeInclusive;

/// Probes of the floor's size that tell how lossy the path is.
const CONTROLS: u8 = 5;
/// A size is tried so often at least, and so often at most, before it is called too big: often
/// enough that chance alone would lose them all once in a thousand sizes.
const TRIES: RangeInclusive<u8> = 3..=20;
const BY_CHANCE: f64 = 0.001;
/// Silent hops in a row behind which a trace is over.
const SILENT_HOPS: u8 = 3;
/// Sizes of links in use, tried before the range between is halved (RFC 1191 section 7.1 has the
/// older ones; tunnels over Ethernet the others).
const PLATEAUS: [u16; 14] = [
    9_000, 4_352, 1_500, 1_492, 1_480, 1_472, 1_460, 1_450, 1_440, 1_420, 1_400, 1_380, 1_280, 576,
];

/// Settings of one search.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MtuConfig {
    /// What its probes look like; its size is the floor, which every path should carry.
    pub probe: ProbeSpec,
    /// Source port or identifier.
    pub source_port: u16,
    /// The largest size tried, in octets with the IP header.
    pub largest_bytes: u16,
    /// Wait for an answer.
    pub timeout: Micros,
    /// The last hop limit tried.
    pub last_hop: HopLimit,
}

/// Why a search cannot be driven.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum MtuConfigError {
    /// About its probes.
    #[error(transparent)]
    Probe(#[from] ProbeSpecError),
    /// The ceiling is not over the floor, or longer than probes are.
    #[error("largest size {0} is outside {1}..={LARGEST} octets")]
    Largest(u16, u16),
}

/// What a probe asks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Question {
    size: u16,
    hop_limit: u8,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    /// Does the floor arrive at all?
    Floor,
    /// Between what arrives and what does not.
    Searching,
    /// Up to where do packets come that are too big?
    Tracing,
    Done,
}

/// The engine. Gives one [`PathMtu`].
#[derive(Debug)]
pub struct MtuSearch {
    config: MtuConfig,
    flight: Flight<Question>,
    queue: VecDeque<Question>,
    next_send: Option<Tick>,
    phase: Phase,
    /// The largest size that arrived.
    floor: Option<u16>,
    /// The smallest size that did not.
    ceiling: Option<u16>,
    tries: u8,
    controls: u8,
    /// Probes of the floor's size that were not answered.
    controls_lost: u8,
    limit: MtuLimit,
    deepest: Option<(u8, IpAddr)>,
    probes: u32,
    found: Option<PathMtu>,
}

impl MtuSearch {
    /// An engine that begins at once.
    ///
    /// # Errors
    /// [`MtuConfigError`] when a setting is out of bounds.
    pub fn new(mut config: MtuConfig, now: Tick) -> Result<Self, MtuConfigError> {
        config.probe.dont_fragment = true;
        config.probe.check()?;
        let floor = config.probe.size_bytes;
        if !(floor..=LARGEST).contains(&config.largest_bytes) {
            return Err(MtuConfigError::Largest(config.largest_bytes, floor));
        }
        let mut engine = Self {
            flight: Flight::new(1, config.timeout),
            queue: VecDeque::new(),
            next_send: Some(now),
            phase: Phase::Floor,
            floor: None,
            ceiling: None,
            tries: 0,
            controls: 0,
            controls_lost: 0,
            limit: MtuLimit::NotReached,
            deepest: None,
            probes: 0,
            found: None,
            config,
        };
        engine.ask(floor);
        Ok(engine)
    }

    /// The result, once.
    pub fn poll_event(&mut self) -> Option<PathMtu> {
        self.found.take()
    }

    /// Floor and ceiling so far, for progress reports.
    pub const fn progress(&self) -> (Option<u16>, Option<u16>) {
        (self.floor, self.ceiling)
    }

    fn ask(&mut self, size: u16) {
        let hop_limit = self.config.last_hop.as_u8();
        self.queue.push_back(Question { size, hop_limit });
    }

    /// How often a size may vanish before it is called too big.
    fn patience(&self) -> u8 {
        let lost = (f64::from(self.controls_lost) + 0.5) / (f64::from(self.controls) + 1.0);
        let tries = libm::ceil(libm::log(BY_CHANCE) / libm::log(lost.min(0.95)));
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "positive; float to integer casts saturate"
        )]
        let tries = tries as u8;
        tries.clamp(*TRIES.start(), *TRIES.end())
    }

    /// One more probe of the floor's size has come to its end.
    fn on_control(&mut self, size: u16, arrived: bool) {
        self.controls += 1;
        self.controls_lost += u8::from(!arrived);
        if arrived {
            self.floor = Some(size);
        }
        if self.controls < CONTROLS || (self.floor.is_none() && self.controls < *TRIES.end()) {
            self.ask(size);
        } else {
            self.search();
        }
    }

    fn on_arrived(&mut self, size: u16) {
        self.tries = 0;
        self.floor = Some(self.floor.map_or(size, |floor| floor.max(size)));
        self.search();
    }

    fn on_too_big(&mut self, size: u16, limit: MtuLimit, next: Option<u16>) {
        self.tries = 0;
        self.ceiling = Some(self.ceiling.map_or(size, |ceiling| ceiling.min(size)));
        self.limit = limit;
        match next.filter(|next| *next < size && self.floor.is_some_and(|floor| *next > floor)) {
            Some(next) => self.ask(next),
            None => self.search(),
        }
    }

    /// Asks for the next size, or continues with the next step.
    fn search(&mut self) {
        let Some(floor) = self.floor else {
            self.finish();
            return;
        };
        self.phase = Phase::Searching;
        let Some(ceiling) = self.ceiling else {
            if floor < self.config.largest_bytes {
                self.ask(self.config.largest_bytes);
            } else {
                self.finish();
            }
            return;
        };
        // A router's word that has proved true needs no further search.
        let proved = matches!(self.limit, MtuLimit::Reported { stated_bytes, .. }
            if stated_bytes == u32::from(floor));
        if ceiling - floor <= 1 || proved {
            match self.limit {
                MtuLimit::Silent { .. } => self.trace(ceiling),
                MtuLimit::NotReached | MtuLimit::OwnInterface | MtuLimit::Reported { .. } => {
                    self.finish();
                }
            }
            return;
        }
        let between = |size: &u16| *size > floor && *size < ceiling;
        // A size in use just below what failed, one octet more than that, or the middle.
        let plateau = PLATEAUS.into_iter().find(between);
        let above = PLATEAUS.contains(&floor).then(|| floor + 1).filter(between);
        self.ask(above.or(plateau).unwrap_or(floor + (ceiling - floor) / 2));
    }

    /// Sends what is too big to each hop in turn.
    fn trace(&mut self, size: u16) {
        self.phase = Phase::Tracing;
        for hop_limit in 1..=self.config.last_hop.as_u8() {
            self.queue.push_back(Question { size, hop_limit });
        }
    }

    fn finish(&mut self) {
        self.queue.clear();
        self.flight.clear();
        if self.phase == Phase::Tracing {
            self.limit = MtuLimit::Silent {
                after_hop: self.deepest.map_or(0, |(hop, _)| hop),
                after: self.deepest.map(|(_, address)| address.to_string()),
            };
        }
        self.phase = Phase::Done;
        let mtu_bytes = self.floor;
        self.found = Some(PathMtu { mtu_bytes, limit: self.limit.clone(), probes: self.probes });
    }

    fn on_answer(&mut self, question: Question, answer: &Answer) {
        match (self.phase, answer.kind) {
            (Phase::Done, _) => {}
            // It arrives after all: what was taken for too big was lost by chance.
            (Phase::Tracing, AnswerKind::Arrived) => {
                self.queue.clear();
                self.flight.clear();
                (self.ceiling, self.limit) = (None, MtuLimit::NotReached);
                self.on_arrived(question.size);
            }
            (Phase::Floor, AnswerKind::Arrived) => self.on_control(question.size, true),
            (Phase::Tracing, _) => {
                self.deepest = Some((question.hop_limit, answer.responder));
                self.tries = 0;
            }
            (Phase::Searching, AnswerKind::Arrived) => self.on_arrived(question.size),
            (Phase::Floor | Phase::Searching, AnswerKind::Refused { .. })
                if answer.reading.form == Some(AnswerForm::TooBig) =>
            {
                let stated = answer.reading.next_mtu_bytes.unwrap_or(0);
                let by = MtuLimit::Reported { by: answer.responder, stated_bytes: stated };
                self.on_too_big(question.size, by, u16::try_from(stated).ok());
            }
            // Refused for another reason, or a loop: nothing is learned about the size.
            (Phase::Floor | Phase::Searching, AnswerKind::Refused { .. } | AnswerKind::Transit) => {
                self.on_silence(question);
            }
        }
    }

    fn on_silence(&mut self, question: Question) {
        self.tries += 1;
        match self.phase {
            Phase::Done => {}
            // Some silent hops in a row: the packets come no further.
            Phase::Tracing if self.tries >= SILENT_HOPS => self.finish(),
            Phase::Tracing => {}
            Phase::Floor => self.on_control(question.size, false),
            Phase::Searching if self.tries < self.patience() => self.queue.push_back(question),
            Phase::Searching => {
                self.on_too_big(
                    question.size,
                    MtuLimit::Silent { after_hop: 0, after: None },
                    None,
                );
            }
        }
    }
}

impl Engine for MtuSearch {
    fn handle(&mut self, now: Tick, input: Input<'_>) -> bool {
        let (landed, is_ours) = self.flight.regard(&self.config.probe, input);
        match landed {
            Some(Landed::Answered(question, answer)) => self.on_answer(question, &answer),
            // Our own interface refuses what is longer than it carries.
            Some(Landed::NotSent(question)) if self.phase == Phase::Searching => {
                self.on_too_big(question.size, MtuLimit::OwnInterface, None);
            }
            Some(Landed::NotSent(question)) => self.on_silence(question),
            None => {}
        }
        match input {
            Input::Deadline => {
                for given_up in self.flight.give_up(now) {
                    self.on_silence(given_up.question);
                }
            }
            Input::Stop if self.phase != Phase::Done => self.finish(),
            _ => {}
        }
        if self.phase == Phase::Tracing && self.queue.is_empty() && self.flight.is_empty() {
            self.finish();
        }
        let idle = self.flight.is_empty() && !self.queue.is_empty();
        if idle && self.next_send.is_none() {
            self.next_send = Some(now);
        }
        is_ours
    }

    fn poll_transmit(
        &mut self,
        now: Tick,
        budget: &mut Budget,
        out: &mut Vec<u8>,
    ) -> Option<Token> {
        if self.next_send.is_none_or(|at| at > now) || !self.flight.is_empty() {
            return None;
        }
        let question = *self.queue.front()?;
        if let Admission::Later(at) = budget.admit(now, Some(self.destination()), None) {
            self.next_send = Some(at);
            return None;
        }
        self.queue.pop_front();
        self.next_send = None;
        let port = self.config.source_port;
        let seq = self.flight.launch(now, port, question);
        self.probes += 1;
        out.clear();
        packet::emit(&self.config.probe, port, question.hop_limit, seq, question.size, out);
        Some(token(seq))
    }

    fn poll_deadline(&self) -> Option<Tick> {
        if self.phase == Phase::Done {
            return None;
        }
        self.next_send.into_iter().chain(self.flight.deadline()).min()
    }

    fn destination(&self) -> IpAddr {
        self.config.probe.addresses.destination()
    }
}
