//! The hop sweep: in each round a few probes to every hop limit up to the target's, in one
//! flow, at jittered gaps.

mod config;
mod round;
#[cfg(test)]
mod tests;

use crate::budget::{Admission, Asked, Budget};
use crate::packet::{self, Answer, AnswerKind, Witness};
use crate::patience::Patience;
use crate::timer::{Timer, TimerTable};
use crate::{Engine, Input, Token};
use itinera_model::reading::Reading;
use itinera_model::round::HopCounts;
use itinera_model::route::{Flow, Route};
use itinera_model::unit::{Micros, Tick};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use round::{OpenRound, Slot};
use std::collections::{BTreeMap, VecDeque};
use std::net::IpAddr;

pub use config::{MAX_FLOWS, SweepConfig, SweepConfigError};

/// Rounds that may be open at once; the next waits for the oldest to settle.
const MAX_OPEN: usize = 8;
/// Hop limits tried beyond the deepest answer while the target has never answered.
const BEYOND_DEEPEST: u8 = 5;
/// Hop limits tried beyond the deepest answer in a first round where each probe waits for the one
/// before: silence costs a whole wait at every hop.
const BEYOND_ALONE: u8 = 8;
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
    /// The flow that all its probes belonged to.
    pub flow: Flow,
    /// The flow's route as known after it.
    pub route: Route,
    /// What answers on that route have said.
    pub reading: Reading,
    /// An answer after this was late.
    pub patience: Micros,
    /// Hop limit at which the target answered.
    pub reached_at: Option<u8>,
    /// By hop limit from 1.
    pub hops: Vec<HopCounts>,
}

/// What is known of one flow's route.
#[derive(Debug, Default)]
struct Member {
    route: Route,
    /// The last answering address, by hop limit.
    latest: BTreeMap<u8, IpAddr>,
    reading: Reading,
    target_at: Option<u8>,
    /// A round has been sent on it.
    tried: bool,
    /// The deepest hop limit that was answered.
    deepest: u8,
    /// The deepest hop limit that a router on the route answered: the target lies behind it.
    passed: u8,
}

/// The engine. See the crate's first page for how to drive it.
#[derive(Debug)]
pub struct HopSweep {
    config: SweepConfig,
    rng: ChaCha8Rng,
    timers: TimerTable,
    patience: Patience,
    next_number: u64,
    next_seq: u16,
    /// What the present round has still to send: (hop limit, index).
    queue: VecDeque<(u8, u8)>,
    /// The last hop limit of the present round.
    reach: u8,
    gap_nanos: u64,
    open: VecDeque<OpenRound>,
    probes: BTreeMap<u16, Slot>,
    settled: VecDeque<Sweep>,
    /// By source port.
    members: BTreeMap<u16, Member>,
    /// Rounds since the last whole one.
    since_whole: u8,
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
            patience: Patience::new(config.timeout),
            members: BTreeMap::new(),
            config,
            // Engines begin at different identities, so that no answer fits two by chance.
            next_seq: rng.random_range(1..=0xfffe),
            rng,
            timers,
            next_number: 0,
            queue: VecDeque::new(),
            reach: 0,
            gap_nanos: 0,
            open: VecDeque::new(),
            probes: BTreeMap::new(),
            settled: VecDeque::new(),
            since_whole: 0,
            strays: 0,
        })
    }

    /// Numbers rounds from here on, for an engine that takes over from another.
    #[must_use]
    pub const fn numbered_from(mut self, number: u64) -> Self {
        self.next_number = number;
        self
    }

    /// The number of the next round to begin.
    pub const fn next_number(&self) -> u64 {
        self.next_number
    }

    /// Begins the first round at once, for a waiting user.
    #[must_use]
    pub fn at_once(mut self, now: Tick) -> Self {
        self.timers.set(Timer::Round, Some(now));
        self
    }

    /// The settings it runs with.
    pub const fn config(&self) -> &SweepConfig {
        &self.config
    }

    /// Answers to this flow that came after their round was settled, since the start.
    pub const fn strays(&self) -> u64 {
        self.strays
    }

    /// The next settled round.
    pub fn poll_event(&mut self) -> Option<Sweep> {
        self.settled.pop_front()
    }

    /// Takes other flows in turn from the next round on, as long as there are 1 to 16; what is
    /// known of a flow that stays is kept.
    pub fn set_flows(&mut self, source_ports: &[u16]) {
        if (1..=MAX_FLOWS).contains(&source_ports.len()) {
            self.config.source_ports = source_ports.to_vec();
            let open: Vec<u16> = self.open.iter().map(|round| round.flow).collect();
            self.members.retain(|port, _| source_ports.contains(port) || open.contains(port));
        }
    }

    fn after_sending(&mut self, now: Tick, gap_nanos: u64) {
        if self.queue.is_empty() {
            self.end_sending(now);
        } else {
            let jitter = self.rng.random_range(0.5..1.5);
            self.timers.set(Timer::Probe, Some(now.plus_nanos(scaled(gap_nanos, jitter))));
        }
    }

    /// Whether a probe may get as far as the target: it dies earlier only where routers are
    /// known to be.
    fn may_arrive(&self, flow: u16, ttl: u8) -> bool {
        let Some(member) = self.members.get(&flow) else { return true };
        member.target_at.map_or(ttl > member.passed, |at| ttl >= at)
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
        if self.config.rounds.is_some_and(|rounds| self.next_number >= rounds) {
            self.timers.set(Timer::Round, None);
            return;
        }
        let flows = &self.config.source_ports;
        #[allow(clippy::cast_possible_truncation, reason = "a remainder of at most 16")]
        let flow = flows[(self.next_number % flows.len() as u64) as usize];
        let member = self.members.entry(flow).or_default();
        let (target_at, deepest, tried) = (member.target_at, member.deepest, member.tried);
        member.tried = true;
        let last = target_at.unwrap_or_else(|| self.blind_reach(deepest, tried));
        self.reach = last;
        let whole = target_at.is_none() || self.since_whole == 0;
        let first = if whole { self.config.first_hop.as_u8().min(last) } else { last };
        for index in 0..self.config.probes_per_hop {
            self.queue.extend((first..=last).map(|ttl| (ttl, index)));
        }
        self.since_whole = (self.since_whole + 1) % self.config.full_every;
        let hops = u32::from(last - first + 1).min(TYPICAL_HOPS);
        let expected = hops * u32::from(self.config.probes_per_hop);
        let interval_nanos = self.config.interval.as_nanos();
        self.gap_nanos = scaled(interval_nanos, SPREAD / f64::from(expected.max(1)));
        let patience = self.patience.wait();
        self.open.push_back(OpenRound::new(self.next_number, now, flow, whole, patience));
        self.next_number += 1;
        self.timers.set(Timer::Probe, Some(now));
        let jitter = self.rng.random_range(0.9..1.1);
        self.timers.set(Timer::Round, Some(now.plus_nanos(scaled(interval_nanos, jitter))));
    }

    /// How far to try while the target has not answered: to the limit at first, then a little
    /// beyond the deepest answer, so that a path to a silent target stays polite.
    fn blind_reach(&self, deepest: u8, tried: bool) -> u8 {
        let last = self.config.last_hop.as_u8();
        match (tried, self.config.probe.arrives_alone()) {
            (true, _) => last.min(deepest.saturating_add(BEYOND_DEEPEST)),
            (false, true) => last.min(deepest.saturating_add(BEYOND_ALONE)),
            (false, false) => last,
        }
    }

    /// The next probe to send. Where one that gets to the target must be alone there, those that
    /// cannot get there go first while it is in flight, and then the rest wait for it.
    fn next_in_queue(&mut self, now: Tick) -> Option<(u8, u8)> {
        if self.queue.is_empty() {
            self.timers.set(Timer::Probe, None);
            return None;
        }
        let Some(until) = self.occupied_until(now) else {
            return self.queue.pop_front();
        };
        let flow = self.open.back()?.flow;
        let safe = self.queue.iter().position(|(ttl, _)| !self.may_arrive(flow, *ttl));
        match safe {
            Some(index) => self.queue.remove(index),
            None => {
                self.timers.set(Timer::Probe, Some(until));
                None
            }
        }
    }

    /// Until when a probe in flight keeps others from the target; absent when none does.
    fn occupied_until(&self, now: Tick) -> Option<Tick> {
        if !self.config.probe.arrives_alone() {
            return None;
        }
        let in_flight = self.probes.values().filter(|slot| slot.may_arrive && !slot.heard);
        let until = in_flight.map(|slot| slot.sent_at + self.patience.wait()).max()?;
        (until > now).then_some(until)
    }

    fn fresh_seq(&mut self) -> Option<u16> {
        (0..=u16::MAX).find_map(|_| {
            let seq = self.next_seq;
            self.next_seq = if seq >= 0xfffe { 1 } else { seq + 1 };
            (!self.probes.contains_key(&seq)).then_some(seq)
        })
    }

    /// A round settles two waits after its last probe: one to be in time, one to be late.
    fn end_sending(&mut self, now: Tick) {
        self.timers.set(Timer::Probe, None);
        if let Some(round) = self.open.back_mut()
            && !round.all_sent
        {
            round.all_sent = true;
            round.settle_at = now + round.patience + round.patience;
        }
        let done = self.config.rounds.is_some_and(|rounds| self.next_number >= rounds);
        if !self.timers.is_set(Timer::Round) && !done {
            self.timers.set(Timer::Round, Some(now));
        }
        self.set_settle_timer();
    }

    fn set_settle_timer(&mut self) {
        let oldest = self.open.front().filter(|round| round.all_sent);
        self.timers.set(Timer::Settle, oldest.map(|round| round.settle_at));
    }

    /// Enters an answer; false when it belongs to another engine.
    fn on_answer(&mut self, stamp: Tick, answer: Answer) -> bool {
        let flow = answer.port;
        if !self.members.contains_key(&flow) {
            return false;
        }
        let Some(seq) = self.resolve(flow, answer.witness) else {
            return true;
        };
        let Some(slot) = self.probes.get_mut(&seq) else {
            return true;
        };
        let first = !std::mem::replace(&mut slot.heard, true);
        let slot = *slot;
        let Some(round) = self.open.iter_mut().find(|round| round.number == slot.round) else {
            return true;
        };
        if !first {
            round.on_duplicate(slot.ttl);
            return true;
        }
        let (kind, responder) = (answer.kind, answer.responder);
        round.on_answer(slot, answer, stamp.since(slot.sent_at));
        let is_present = self.open.back().is_some_and(|present| present.number == slot.round);
        let Some(member) = self.members.get_mut(&flow) else {
            return true;
        };
        member.deepest = member.deepest.max(slot.ttl);
        member.latest.insert(slot.ttl, responder);
        match kind {
            AnswerKind::Arrived if member.target_at.is_none_or(|at| slot.ttl < at) => {
                member.target_at = Some(slot.ttl);
                if is_present {
                    self.queue.retain(|(ttl, _)| *ttl <= slot.ttl);
                    if self.queue.is_empty() {
                        self.end_sending(stamp);
                    }
                }
            }
            AnswerKind::Transit => {
                member.passed = member.passed.max(slot.ttl);
                // A router where the target was: the route has become longer.
                member.target_at = member.target_at.filter(|at| slot.ttl < *at);
                if is_present && member.target_at.is_none() {
                    self.reach_beyond(slot.ttl);
                }
            }
            AnswerKind::Arrived | AnswerKind::Refused { .. } => {}
        }
        if slot.may_arrive && self.config.probe.arrives_alone() && !self.queue.is_empty() {
            // Probes to the target may be sent again.
            let jitter = self.rng.random_range(0.5..1.5);
            let next = stamp.plus_nanos(scaled(self.gap_nanos, jitter));
            self.timers.set(Timer::Probe, Some(next));
        }
        true
    }

    /// Continues behind a router that answered, where the present round was not to go far into
    /// silence.
    fn reach_beyond(&mut self, ttl: u8) {
        let last = self.config.last_hop.as_u8().min(ttl.saturating_add(BEYOND_ALONE));
        if self.config.probe.arrives_alone() && !self.queue.is_empty() && last > self.reach {
            for index in 0..self.config.probes_per_hop {
                self.queue.extend((self.reach + 1..=last).map(|ttl| (ttl, index)));
            }
            self.reach = last;
        }
    }

    /// Which probe an answer on a flow belongs to. Where that is unknown it is counted as
    /// ambiguous with each probe it may belong to, and guessed for none.
    fn resolve(&mut self, flow: u16, witness: Witness) -> Option<u16> {
        let candidates: Vec<u16> = match witness {
            Witness::One(seq) => vec![seq],
            Witness::Either(a, b) => vec![a, b],
            Witness::Arrival => {
                let in_flight = |slot: &Slot| slot.may_arrive && !slot.heard;
                self.probes
                    .iter()
                    .filter(|(_, slot)| in_flight(slot))
                    .map(|(seq, _)| *seq)
                    .collect()
            }
        };
        let of_flow = |slot: &Slot| {
            self.open.iter().any(|round| round.number == slot.round && round.flow == flow)
        };
        let known: Vec<(u16, Slot)> = candidates
            .into_iter()
            .filter_map(|seq| self.probes.get(&seq).map(|slot| (seq, *slot)))
            .filter(|(_, slot)| of_flow(slot))
            .collect();
        match known.as_slice() {
            [] => {
                self.strays = self.strays.saturating_add(1);
                None
            }
            [(seq, _)] => Some(*seq),
            several => {
                for (_, slot) in several {
                    let mut rounds = self.open.iter_mut();
                    if let Some(round) = rounds.find(|round| round.number == slot.round) {
                        round.on_ambiguous(slot.ttl);
                    }
                }
                None
            }
        }
    }

    fn settle_oldest(&mut self) {
        let Some(round) = self.open.pop_front() else {
            return;
        };
        self.probes.retain(|_, slot| slot.round != round.number);
        self.patience.on_round(round.slowest);
        if !round.whole && round.has_loss() {
            self.since_whole = 0;
        }
        let OpenRound { number, started, reached_at, flow, patience, .. } = round;
        let (hops, responders, readings) = round.close();
        let member = self.members.entry(flow).or_default();
        member.route = member.route.observed(&responders, reached_at.is_some());
        member.reading = member.reading.observed(readings);
        let sweep = Sweep {
            number,
            started,
            flow: self.config.probe.flow(flow),
            route: member.route.clone(),
            reading: member.reading.clone(),
            patience,
            reached_at,
            hops,
        };
        self.settled.push_back(sweep);
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

impl Engine for HopSweep {
    fn handle(&mut self, now: Tick, input: Input<'_>) -> bool {
        let spec = &self.config.probe;
        let (stamp, answer) = match input {
            Input::Datagram { stamp, packet } => (stamp, packet::read_packet(spec, packet)),
            Input::Payload { stamp, protocol, from, hop_limit, payload, .. } => {
                (stamp, packet::read_payload(spec, protocol, from, hop_limit, payload))
            }
            Input::Report { stamp, .. } => (stamp, packet::read_report(spec, &input)),
            Input::Sent { token, stamp } => {
                if let Some(slot) = self.probes.get_mut(&token.0) {
                    slot.sent_at = stamp;
                }
                return false;
            }
            Input::NotSent { token } => {
                if let Some(slot) = self.probes.remove(&token.0)
                    && let Some(round) = self.open.iter_mut().find(|r| r.number == slot.round)
                {
                    round.on_not_sent(slot.ttl);
                }
                return false;
            }
            Input::Deadline => {
                self.on_deadline(now);
                return false;
            }
            Input::Stop => {
                self.on_stop();
                return false;
            }
        };
        answer.is_some_and(|answer| self.on_answer(stamp, answer))
    }

    fn poll_transmit(
        &mut self,
        now: Tick,
        budget: &mut Budget,
        out: &mut Vec<u8>,
    ) -> Option<Token> {
        loop {
            if !self.timers.is_due(Timer::Probe, now) {
                return None;
            }
            let (ttl, index) = self.next_in_queue(now)?;
            let flow = self.open.back()?.flow;
            let may_arrive = self.may_arrive(flow, ttl);
            let target = self.destination();
            let latest =
                self.members.get(&flow).and_then(|member| member.latest.get(&ttl).copied());
            let asked = match latest {
                // Hosts limit "port unreachable" as routers do, and other answers not.
                Some(address) if address == target && !self.config.probe.asks_for_errors() => None,
                address => Some(Asked { hop_limit: ttl, address }),
            };
            match budget.admit(now, may_arrive.then_some(target), asked) {
                Admission::Now => {}
                Admission::Later(at) => {
                    self.queue.push_front((ttl, index));
                    self.timers.set(Timer::Probe, Some(at));
                    return None;
                }
                Admission::Spare => {
                    self.after_sending(now, 0);
                    continue;
                }
            }
            let seq = self.fresh_seq()?;
            let round = self.open.back_mut()?;
            round.on_sent(ttl);
            let number = round.number;
            let slot = Slot { round: number, ttl, index, sent_at: now, heard: false, may_arrive };
            self.probes.insert(seq, slot);
            out.clear();
            let spec = &self.config.probe;
            packet::emit(spec, flow, ttl, seq, spec.size_bytes, out);
            self.after_sending(now, self.gap_nanos);
            return Some(Token(seq));
        }
    }

    fn poll_deadline(&self) -> Option<Tick> {
        self.timers.next()
    }

    fn destination(&self) -> IpAddr {
        self.config.probe.addresses.destination()
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
