//! Enumeration of the member routes behind load balancers, with a stated chance of missing one.
//!
//! Hop by hop, for each router found: flows that pass it are probed one hop further until it is
//! improbable that a further next hop has been missed; where more flows are needed, new ones are
//! tried until enough pass it.
//!
//! Source: D. Veitch, B. Augustin, R. Teixeira, T. Friedman, Failure Control in Multipath Route
//! Tracing, INFOCOM 2009, for the number of probes; RFC 9198 for what a route ensemble is.
//!
//! Limits: assumes that a router shares flows evenly and that routes do not change meanwhile.

mod knowledge;

use crate::budget::{Admission, Asked, Budget};
use crate::flight::{Flight, Landed, token};
use crate::packet::{self, AnswerKind, ProbeSpec, ProbeSpecError};
use crate::{Engine, Input, Token};
use itinera_model::ensemble::RouteEnsemble;
use itinera_model::unit::{HopLimit, Micros, Tick};
use knowledge::{Knowledge, Observation};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::VecDeque;
use std::net::IpAddr;

pub use knowledge::probes_needed;

/// Hops in a row without any answer after which the search ends.
const SILENT_HOPS: u8 = 5;
/// A probe without an answer is sent so often in all.
const TRIES: u8 = 3;
/// Flows with a route that is completed at the end, at most.
const MAX_MEMBERS: usize = 16;

/// Settings of one enumeration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BranchesConfig {
    /// What its probes look like.
    pub probe: ProbeSpec,
    /// The flow known already; others take the ports after it.
    pub first_port: u16,
    /// Flows tried at most, up to 512.
    pub max_flows: u16,
    /// Chance to miss a further next hop behind a router, in parts per million, over 0.
    pub error_ppm: u32,
    /// Wait for an answer.
    pub timeout: Micros,
    /// The least gap between two probes.
    pub gap: Micros,
    /// The last hop limit tried.
    pub last_hop: HopLimit,
    /// Where chance begins.
    pub seed: u64,
}

/// Why an enumeration cannot be driven.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BranchesConfigError {
    /// About its probes.
    #[error(transparent)]
    Probe(#[from] ProbeSpecError),
    /// A chance of zero or of certainty.
    #[error("a chance of {0} ppm to miss a route is outside 1..=500000")]
    Chance(u32),
    /// Too many flows, or none.
    #[error("{0} flows are outside 1..=512")]
    Flows(u16),
}

/// What a probe asks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Question {
    port: u16,
    ttl: u8,
    tries: u8,
    /// Whether this flow keeps its route, which is known.
    again: bool,
}

/// The engine. Gives one [`RouteEnsemble`].
#[derive(Debug)]
pub struct Branches {
    config: BranchesConfig,
    rng: ChaCha8Rng,
    flight: Flight<Question>,
    queue: VecDeque<Question>,
    next_send: Option<Tick>,
    known: Knowledge,
    hop: u8,
    silent_in_a_row: u8,
    filling: bool,
    probes: u32,
    done: bool,
    found: Option<RouteEnsemble>,
}

impl Branches {
    /// An engine that begins at once.
    ///
    /// # Errors
    /// [`BranchesConfigError`] when a setting is out of bounds.
    pub fn new(config: BranchesConfig, now: Tick) -> Result<Self, BranchesConfigError> {
        config.probe.check()?;
        if !(1..=500_000).contains(&config.error_ppm) {
            return Err(BranchesConfigError::Chance(config.error_ppm));
        }
        if !(1..=512).contains(&config.max_flows) {
            return Err(BranchesConfigError::Flows(config.max_flows));
        }
        let mut rng = ChaCha8Rng::seed_from_u64(config.seed);
        let mut engine = Self {
            flight: Flight::new(rng.random_range(1..=0xfffe), config.timeout),
            rng,
            queue: VecDeque::new(),
            next_send: Some(now),
            known: Knowledge::new(config.first_port, config.max_flows, config.error_ppm),
            hop: 1,
            silent_in_a_row: 0,
            filling: false,
            probes: 0,
            done: false,
            found: None,
            config,
        };
        engine.plan(now);
        Ok(engine)
    }

    /// The result, once.
    pub fn poll_event(&mut self) -> Option<RouteEnsemble> {
        self.found.take()
    }

    /// The hop in question and the probes sent so far, for progress reports.
    pub const fn progress(&self) -> (u8, u32) {
        (self.hop, self.probes)
    }

    fn ask(&mut self, port: u16, ttl: u8, again: bool) {
        self.queue.push_back(Question { port, ttl, tries: 0, again });
    }

    /// Decides what to ask next when all that was asked has been settled.
    fn plan(&mut self, now: Tick) {
        while !self.done && self.queue.is_empty() && self.flight.is_empty() {
            if self.filling {
                self.finish();
                return;
            }
            for (port, ttl) in self.known.wanted_at(self.hop) {
                self.ask(port, ttl, false);
            }
            if self.queue.is_empty() {
                for (port, times) in self.known.repeats_at(self.hop) {
                    (0..times).for_each(|_| self.ask(port, self.hop, true));
                }
            }
            if self.queue.is_empty() {
                self.advance();
            }
        }
        if !self.queue.is_empty() && self.next_send.is_none() {
            self.next_send = Some(now);
        }
    }

    fn advance(&mut self) {
        let silent = self.known.is_silent_at(self.hop);
        self.silent_in_a_row = if silent { self.silent_in_a_row + 1 } else { 0 };
        let over = self.known.all_arrived(self.hop)
            || self.silent_in_a_row >= SILENT_HOPS
            || self.hop >= self.config.last_hop.as_u8();
        if !over {
            self.hop += 1;
            return;
        }
        // The routes of some flows that together show every router found are completed.
        self.filling = true;
        for (port, ttl) in self.known.gaps_of_members(self.hop, MAX_MEMBERS) {
            self.ask(port, ttl, false);
        }
    }

    fn finish(&mut self) {
        self.done = true;
        self.next_send = None;
        let last = self.hop - if self.silent_in_a_row >= SILENT_HOPS { SILENT_HOPS } else { 0 };
        let target = self.destination();
        self.found = Some(self.known.ensemble(last, self.probes, target));
    }

    fn settle(&mut self, question: Question, seen: Observation) {
        if question.again {
            self.known.on_again(question.port, question.ttl, seen);
        } else {
            self.known.on_seen(question.port, question.ttl, seen);
        }
    }

    fn on_silence(&mut self, question: Question) {
        let tries = question.tries + 1;
        if tries < TRIES && !question.again {
            self.queue.push_front(Question { tries, ..question });
        } else {
            self.settle(question, Observation::NoAnswer);
        }
    }
}

impl Engine for Branches {
    fn handle(&mut self, now: Tick, input: Input<'_>) -> bool {
        let (landed, is_ours) = self.flight.regard(&self.config.probe, input);
        match landed {
            Some(Landed::Answered(question, answer)) => {
                let seen = match answer.kind {
                    AnswerKind::Arrived => Observation::Target,
                    AnswerKind::Transit => Observation::Router(answer.responder),
                    AnswerKind::Refused { .. } => Observation::Refused(answer.responder),
                };
                self.settle(question, seen);
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
            Input::Stop if !self.done => {
                self.queue.clear();
                self.flight.clear();
                self.known.is_complete = false;
                self.finish();
            }
            _ => {}
        }
        self.plan(now);
        is_ours
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
        // A flow has one probe in flight at most.
        let Some(index) = self.queue.iter().position(|q| !self.flight.holds(q.port)) else {
            self.next_send = None;
            return None;
        };
        let question = self.queue[index];
        let target = self.destination();
        let far = self.known.may_arrive(question.port, question.ttl).then_some(target);
        let address = self.known.address_at(question.port, question.ttl);
        let asked = Asked { hop_limit: question.ttl, address };
        match budget.admit(now, far, Some(asked)) {
            Admission::Now => {}
            Admission::Later(at) => {
                self.next_send = Some(at);
                return None;
            }
            Admission::Spare => {
                self.next_send = Some(now.plus_nanos(self.config.gap.as_nanos().max(10_000_000)));
                return None;
            }
        }
        self.queue.remove(index);
        let seq = self.flight.launch(now, question.port, question);
        self.probes += 1;
        out.clear();
        let spec = &self.config.probe;
        packet::emit(spec, question.port, question.ttl, seq, spec.size_bytes, out);
        let jitter = self.rng.random_range(0.5..1.5);
        let gap = f64::from(self.config.gap.as_micros()) * jitter;
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a gap of some milliseconds"
        )]
        let gap = Micros::new(gap as u32);
        self.next_send = (!self.queue.is_empty()).then(|| now + gap);
        Some(token(seq))
    }

    fn poll_deadline(&self) -> Option<Tick> {
        if self.done {
            return None;
        }
        self.next_send.into_iter().chain(self.flight.deadline()).min()
    }

    fn destination(&self) -> IpAddr {
        self.config.probe.addresses.destination()
    }
}
