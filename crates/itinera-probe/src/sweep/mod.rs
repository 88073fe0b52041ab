//! The hop sweep: in each round a few probes to every hop limit up to the target's, in one
//! flow, at jittered gaps.

mod config;
mod round;
#[cfg(test)]
mod tests;

use crate::packet::{self, Answer, AnswerKind};
use crate::timer::{Timer, TimerTable};
use crate::{Input, Token};
use itinera_model::round::HopCounts;
use itinera_model::route::Route;
use itinera_model::unit::{Micros, Tick};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use round::{OpenRound, Slot};
use std::collections::{BTreeMap, VecDeque};

pub use config::{SweepConfig, SweepConfigError};

/// Rounds that may be open at once; the next waits for the oldest to settle.
const MAX_OPEN: usize = 8;
/// Hop limits tried beyond the deepest answer while the target has never answered.
const BEYOND_DEEPEST: u8 = 5;
/// Share of the interval over which a round's probes are spread.
const SPREAD: f64 = 0.8;
/// Hop limits a round may hold before the target is found, for pacing the first round.
const TYPICAL_HOPS: u32 = 16;

/// A settled round, complete but for the wall clock, which only the driver has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sweep {
    /// Consecutive number from 0; every number begun is given exactly once.
    pub number: u64,
    /// When its first probe was due.
    pub started: Tick,
    /// The route as known after it.
    pub route: Route,
    /// Hop limit at which the target answered.
    pub reached_at: Option<u8>,
    /// By hop limit from 1.
    pub hops: Vec<HopCounts>,
}

/// The engine. See the crate's first page for how to drive it.
#[derive(Debug)]
pub struct HopSweep {
    config: SweepConfig,
    rng: ChaCha8Rng,
    timers: TimerTable,
    next_number: u64,
    next_seq: u16,
    /// What the present round has still to send: (hop limit, index).
    queue: VecDeque<(u8, u8)>,
    gap_nanos: u64,
    open: VecDeque<OpenRound>,
    probes: BTreeMap<u16, Slot>,
    settled: VecDeque<Sweep>,
    route: Route,
    target_at: Option<u8>,
    deepest: u8,
    strays: u64,
}

impl HopSweep {
    /// An engine whose first round begins within one interval of `now`, at a moment drawn by
    /// the seed so that many paths do not begin at once.
    ///
    /// # Errors
    /// [`SweepConfigError`] when a setting is out of bounds.
    pub fn new(config: SweepConfig, now: Tick) -> Result<Self, SweepConfigError> {
        config.check()?;
        let mut rng = ChaCha8Rng::seed_from_u64(config.seed);
        let wait = f64::from(config.interval.as_micros()) * rng.random::<f64>();
        let mut timers = TimerTable::default();
        timers.set(Timer::Round, Some(now + micros(wait)));
        Ok(Self {
            config,
            rng,
            timers,
            next_number: 0,
            next_seq: 1,
            queue: VecDeque::new(),
            gap_nanos: 0,
            open: VecDeque::new(),
            probes: BTreeMap::new(),
            settled: VecDeque::new(),
            route: Route::default(),
            target_at: None,
            deepest: 0,
            strays: 0,
        })
    }

    /// The settings it runs with.
    pub const fn config(&self) -> &SweepConfig {
        &self.config
    }

    /// Answers to this flow that came after their round was settled, since the start.
    pub const fn strays(&self) -> u64 {
        self.strays
    }

    /// Takes one fact. Packets that are no answer to this flow are passed over.
    pub fn handle(&mut self, now: Tick, input: Input<'_>) {
        match input {
            Input::Datagram { stamp, packet } => {
                if let Some(answer) = packet::read_answer(&self.config, packet) {
                    self.on_answer(stamp, answer);
                }
            }
            Input::Message { stamp, from, message } => {
                if let Some(answer) = packet::read_message(&self.config, from, message) {
                    self.on_answer(stamp, answer);
                }
            }
            Input::Sent { token, stamp } => {
                if let Some(slot) = self.probes.get_mut(&token.0) {
                    slot.sent_at = stamp;
                }
            }
            Input::NotSent { token } => {
                if let Some(slot) = self.probes.remove(&token.0)
                    && let Some(round) = self.open.iter_mut().find(|r| r.number == slot.round)
                {
                    round.on_not_sent(slot.ttl);
                }
            }
            Input::Deadline => self.on_deadline(now),
            Input::Stop => self.on_stop(),
        }
    }

    /// The next packet to send now, written to `out` (cleared first).
    pub fn poll_transmit(&mut self, now: Tick, out: &mut Vec<u8>) -> Option<Token> {
        if !self.timers.is_due(Timer::Probe, now) {
            return None;
        }
        let (ttl, index) = self.next_in_queue()?;
        let seq = self.fresh_seq()?;
        let round = self.open.back_mut()?;
        round.on_sent(ttl);
        let slot = Slot { round: round.number, ttl, index, sent_at: now, heard: false };
        self.probes.insert(seq, slot);
        out.clear();
        packet::emit(&self.config, ttl, seq, out);
        if self.queue.is_empty() {
            self.end_sending(now);
        } else {
            let jitter = self.rng.random_range(0.5..1.5);
            self.timers.set(Timer::Probe, Some(now.plus_nanos(scaled(self.gap_nanos, jitter))));
        }
        Some(Token(seq))
    }

    /// The next settled round.
    pub fn poll_event(&mut self) -> Option<Sweep> {
        self.settled.pop_front()
    }

    /// When it wants to be called again; absent once it has stopped.
    pub fn poll_deadline(&self) -> Option<Tick> {
        self.timers.next()
    }

    fn on_deadline(&mut self, now: Tick) {
        while let Some(round) = self.open.front()
            && round.all_sent
            && round.settle_at <= now
        {
            self.settle_oldest();
        }
        if self.timers.is_due(Timer::Round, now) {
            if !self.queue.is_empty() {
                // Overdue: it begins when the present round has been sent.
                self.timers.set(Timer::Round, None);
            } else if self.open.len() < MAX_OPEN {
                self.begin_round(now);
            } else {
                self.timers.set(Timer::Round, self.open.front().map(|r| r.settle_at));
            }
        }
    }

    fn begin_round(&mut self, now: Tick) {
        let last = self.target_at.unwrap_or_else(|| self.blind_reach());
        for index in 0..self.config.probes_per_hop {
            self.queue.extend((1..=last).map(|ttl| (ttl, index)));
        }
        let expected = u32::from(last).min(TYPICAL_HOPS) * u32::from(self.config.probes_per_hop);
        let interval_nanos = self.config.interval.as_nanos();
        self.gap_nanos = scaled(interval_nanos, SPREAD / f64::from(expected.max(1)));
        self.open.push_back(OpenRound::new(self.next_number, now, now));
        self.next_number += 1;
        self.timers.set(Timer::Probe, Some(now));
        let jitter = self.rng.random_range(0.9..1.1);
        self.timers.set(Timer::Round, Some(now.plus_nanos(scaled(interval_nanos, jitter))));
    }

    /// How far to try while the target has not answered: all the way at first, then a little
    /// beyond the deepest answer, so that a path to a silent target stays polite.
    fn blind_reach(&self) -> u8 {
        let last = self.config.last_hop.as_u8();
        if self.next_number == 0 { last } else { last.min(self.deepest + BEYOND_DEEPEST) }
    }

    fn next_in_queue(&mut self) -> Option<(u8, u8)> {
        let next = self.queue.pop_front();
        if next.is_none() {
            self.timers.set(Timer::Probe, None);
        }
        next
    }

    fn fresh_seq(&mut self) -> Option<u16> {
        (0..=u16::MAX).find_map(|_| {
            let seq = self.next_seq;
            self.next_seq = if seq >= 0xfffe { 1 } else { seq + 1 };
            (!self.probes.contains_key(&seq)).then_some(seq)
        })
    }

    /// A round settles two timeouts after its last probe: one to be in time, one to be late.
    fn end_sending(&mut self, now: Tick) {
        self.timers.set(Timer::Probe, None);
        if let Some(round) = self.open.back_mut()
            && !round.all_sent
        {
            round.all_sent = true;
            round.settle_at = now + self.config.timeout + self.config.timeout;
        }
        if !self.timers.is_set(Timer::Round) {
            self.timers.set(Timer::Round, Some(now));
        }
        self.set_settle_timer();
    }

    fn set_settle_timer(&mut self) {
        let oldest = self.open.front().filter(|round| round.all_sent);
        self.timers.set(Timer::Settle, oldest.map(|round| round.settle_at));
    }

    fn on_answer(&mut self, stamp: Tick, answer: Answer) {
        let Some(slot) = self.probes.get_mut(&answer.seq) else {
            self.strays = self.strays.saturating_add(1);
            return;
        };
        let first = !std::mem::replace(&mut slot.heard, true);
        let slot = *slot;
        let Some(round) = self.open.iter_mut().find(|round| round.number == slot.round) else {
            return;
        };
        if !first {
            round.on_duplicate(slot.ttl);
            return;
        }
        let rtt = stamp.since(slot.sent_at);
        round.on_answer(slot, answer.responder, answer.kind, rtt, self.config.timeout);
        self.deepest = self.deepest.max(slot.ttl);
        match answer.kind {
            AnswerKind::Arrived if self.target_at.is_none_or(|at| slot.ttl < at) => {
                self.target_at = Some(slot.ttl);
                self.queue.retain(|(ttl, _)| *ttl <= slot.ttl);
                if self.queue.is_empty() {
                    self.end_sending(stamp);
                }
            }
            // A router where the target was: the way has become longer.
            AnswerKind::Transit if self.target_at.is_some_and(|at| slot.ttl >= at) => {
                self.target_at = None;
            }
            AnswerKind::Arrived | AnswerKind::Transit | AnswerKind::Refused { .. } => {}
        }
    }

    fn settle_oldest(&mut self) {
        let Some(round) = self.open.pop_front() else {
            return;
        };
        self.probes.retain(|_, slot| slot.round != round.number);
        let (number, started, reached_at) = (round.number, round.started, round.reached_at);
        let (hops, responders) = round.close();
        self.route = self.route.observed(&responders, reached_at.is_some());
        let route = self.route.clone();
        self.settled.push_back(Sweep { number, started, route, reached_at, hops });
        self.set_settle_timer();
    }

    fn on_stop(&mut self) {
        self.queue.clear();
        while !self.open.is_empty() {
            self.settle_oldest();
        }
        self.timers = TimerTable::default();
    }
}

/// A span from a non-negative number of microseconds, stopping at the largest.
#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "float to integer casts saturate; inputs are non-negative"
)]
const fn micros(us: f64) -> Micros {
    Micros::new(us as u32)
}

/// `nanos` times a small non-negative factor.
#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_precision_loss,
    reason = "float to integer casts saturate; spans stay far below 2^52 ns"
)]
const fn scaled(nanos: u64, factor: f64) -> u64 {
    (nanos as f64 * factor) as u64
}
