//! Loss in one direction between two agents, and agents that do not get packets from each other.
//!
//! Sealed windows come in, in order of time. Loss raises an event when it lasts for the configured time,
//! the probability that the loss ratio is over the limit is high enough, and this does not rest on a single
//! window. It ends when that probability is low. The prior is Beta(1, 1/limit), which expects a loss
//! ratio near the limit: a few packets prove nothing.

use super::Watcher;
use crate::alarm::severity_of_loss;
use crate::evidence::{DirectionCounts, PairCounts, WINDOW_US};
use crate::limits::Limits;
use crate::log_clock::LogClock;
use crate::stat::probability_over;
use itinera_model::alarm::Severity;
use itinera_model::diagnosis::Part;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::finding::LossCounts;
use itinera_model::id::{AgentId, PairId};
use itinera_model::message::{Message, OneWayLoss, UnansweredPair};
use itinera_model::two_way::Direction;
use itinera_model::unit::{Ratio, WallTime};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// Below this probability of loss over the limit, a stretch of loss is forgotten unless it is an event.
const FORGOTTEN: f64 = 0.2;
/// Least probability without the window that lost most: a single burst is no lasting loss.
const WITHOUT_BURST: f64 = 0.7;
/// From this probability on, packets are no sign that the loss is over.
const LASTS: f64 = 0.5;
/// Up to this probability, the loss is over.
const OVER: f64 = 0.02;
/// Windows without any answer until agents do not get packets from each other: two minutes, longer than
/// an agent needs to be known as silent.
const UNANSWERED_WINDOWS: i64 = 12;
/// Windows that are known so much later raise nothing.
const TOO_LATE_US: i64 = 180_000_000;

/// The agents of a pair.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct PairEnds {
    /// The sender.
    pub sender: AgentId,
    /// The reflector.
    pub reflector: AgentId,
}

/// One sealed window of a pair.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Exchanged<'a> {
    /// The pair.
    pub(crate) pair: PairId,
    /// Its agents.
    pub(crate) ends: PairEnds,
    /// Their sites, the sender's first.
    pub(crate) sites: [&'a str; 2],
    /// Beginning of the window.
    pub(crate) at: WallTime,
    /// What it has.
    pub(crate) counts: &'a PairCounts,
    /// Limits of loss in each direction.
    pub(crate) limits: &'a Limits,
}

/// Packets of consecutive windows in one direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
struct Stretch {
    since: WallTime,
    counts: LossCounts,
    opposite: LossCounts,
    /// Those of the window that lost most.
    worst: LossCounts,
}

impl Stretch {
    /// One without any window.
    const fn new(since: WallTime) -> Self {
        const NONE: LossCounts = LossCounts { sent: 0, lost: 0 };
        Self { since, counts: NONE, opposite: NONE, worst: NONE }
    }

    fn add(&mut self, counts: LossCounts, opposite: LossCounts) {
        for (sum, more) in [(&mut self.counts, counts), (&mut self.opposite, opposite)] {
            sum.sent = sum.sent.saturating_add(more.sent);
            sum.lost = sum.lost.saturating_add(more.lost);
        }
        if counts.lost > self.worst.lost {
            self.worst = counts;
        }
    }

    fn probability_over(&self, limit: Ratio) -> f64 {
        probability_over(self.counts.lost, self.counts.sent, limit.as_f64())
    }

    fn probability_without_burst(&self, limit: Ratio) -> f64 {
        let (lost, sent) = (self.counts.lost - self.worst.lost, self.counts.sent - self.worst.sent);
        probability_over(lost, sent, limit.as_f64())
    }

    /// True when it has so many windows with that which began at `at`.
    fn lasts(&self, at: WallTime, windows: u32) -> bool {
        at.micros_since(self.since) >= WINDOW_US * (i64::from(windows) - 1)
    }
}

/// What is known of one direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
struct OneDirection {
    /// Loss that may be an event, from its first lost packet.
    lossy: Option<Stretch>,
    /// While it is an event: what has come since the last sign of it.
    calm: Option<Stretch>,
}

/// What is known of one pair.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct Memory {
    newest: WallTime,
    /// Packets have been answered.
    worked: bool,
    /// Since when no packet was answered, and how many were sent.
    unanswered: Option<(WallTime, u32)>,
    forward: OneDirection,
    #[serde(rename = "return")]
    return_: OneDirection,
}

/// What a window says about the loss of one direction.
enum Verdict {
    /// It is as it was.
    Same,
    /// Loss over the limit has lasted long enough.
    Began(Stretch),
    /// It is over.
    Ended,
}

impl OneDirection {
    /// Takes the packets of the window that began at `at`, and those of the opposite direction.
    fn step(
        &mut self,
        at: WallTime,
        (counts, opposite): (LossCounts, LossCounts),
        limits: &Limits,
        is_event: bool,
    ) -> Verdict {
        let limit = Ratio::from_ppm(limits.loss_ppm);
        if is_event {
            let calm = self.calm.get_or_insert_with(|| Stretch::new(at));
            calm.add(counts, opposite);
            let probability = calm.probability_over(limit);
            if probability >= LASTS && counts.lost > 0 {
                self.calm = None;
            } else if probability <= OVER && calm.lasts(at, limits.clear_windows) {
                *self = Self::default();
                return Verdict::Ended;
            }
            return Verdict::Same;
        }
        if self.lossy.is_none() && counts.lost == 0 {
            return Verdict::Same;
        }
        let lossy = self.lossy.get_or_insert_with(|| Stretch::new(at));
        lossy.add(counts, opposite);
        let probability = lossy.probability_over(limit);
        let is_sure = probability >= Ratio::from_ppm(limits.confidence_ppm).as_f64()
            && lossy.probability_without_burst(limit) >= WITHOUT_BURST;
        if is_sure && counts.lost > 0 && lossy.lasts(at, limits.hold_windows) {
            let lossy = *lossy;
            *self = Self::default();
            return Verdict::Began(lossy);
        }
        if probability < FORGOTTEN {
            self.lossy = None;
        }
        Verdict::Same
    }
}

fn counts_of(direction: &DirectionCounts) -> LossCounts {
    let sent = direction.arrived.saturating_add(direction.lost);
    LossCounts { sent, lost: direction.lost }
}

fn loss_key(pair: PairId, ends: PairEnds, direction: Direction) -> EventKey {
    let agent = match direction {
        Direction::Forward => ends.sender,
        Direction::Return => ends.reflector,
    };
    EventKey { kind: EventKind::PairLoss, agent, subject: format!("{pair} {direction}") }
}

fn unreachable_key(pair: PairId, ends: PairEnds) -> EventKey {
    EventKey { kind: EventKind::PairUnreachable, agent: ends.sender, subject: pair.to_string() }
}

/// All events that a pair may have.
fn keys_of(pair: PairId, ends: PairEnds) -> [EventKey; 3] {
    [
        loss_key(pair, ends, Direction::Forward),
        loss_key(pair, ends, Direction::Return),
        unreachable_key(pair, ends),
    ]
}

fn seconds_from(since: WallTime, at: WallTime) -> u32 {
    let us = at.plus_micros(WINDOW_US).micros_since(since);
    u32::try_from(us / 1_000_000).unwrap_or(u32::MAX)
}

/// The event of loss in one direction, known at `now`, that has lasted through the window.
fn loss_event(
    exchanged: &Exchanged<'_>,
    (direction, lossy): (Direction, Stretch),
    route: Vec<IpAddr>,
    now: WallTime,
) -> Event {
    let Exchanged { pair, ends, sites: [near, far], at, limits, .. } = *exchanged;
    let (from, to) = match direction {
        Direction::Forward => (near, far),
        Direction::Return => (far, near),
    };
    let Stretch { since, counts, opposite, .. } = lossy;
    let ratio = Ratio::of(counts.lost, counts.sent).unwrap_or_default();
    Event {
        key: loss_key(pair, ends, direction),
        part: Part::Network,
        severity: Some(severity_of_loss(ratio.as_ppm())),
        since,
        raised_at: now,
        group: format!("pair-loss:{from}:{to}"),
        message: Message::PairLoss(OneWayLoss {
            from: from.to_owned(),
            to: to.to_owned(),
            lossy: counts,
            opposite,
            limit: Ratio::from_ppm(limits.loss_ppm),
            seconds: seconds_from(since, at),
        }),
        service: None,
        check: None,
        own_addresses: Vec::new(),
        route,
    }
}

impl Watcher {
    /// Takes a sealed window of a pair. `shared` gives addresses that are on the routes of its agents to
    /// other targets, and so on those between them; the measured ones are known.
    pub(crate) fn on_exchanged(
        &mut self,
        exchanged: &Exchanged<'_>,
        shared: &dyn Fn() -> Vec<IpAddr>,
        now: WallTime,
    ) -> Vec<EventEffect> {
        let Exchanged { pair, ends, at, counts, limits, .. } = *exchanged;
        let mut effects = Vec::new();
        // Answers may have come that the sender's program did not read.
        if now.micros_since(at) > TOO_LATE_US || counts.sent == 0 || counts.inexact > 0 {
            return effects;
        }
        let memory = self.pairs.entry(pair).or_default();
        memory.newest = memory.newest.max(at);
        let known = [counts_of(&counts.forward), counts_of(&counts.return_)];
        if known.iter().all(|it| it.sent == it.lost) {
            effects.extend(self.on_unanswered(exchanged, shared, now));
            return effects;
        }
        (memory.worked, memory.unanswered) = (true, None);
        effects.extend(self.end(&unreachable_key(pair, ends), now));
        for (direction, counts, opposite) in
            [(Direction::Forward, known[0], known[1]), (Direction::Return, known[1], known[0])]
        {
            if counts.sent == 0 {
                continue;
            }
            let key = loss_key(pair, ends, direction);
            let is_event = self.lasting.iter().any(|event| event.key == key);
            let memory = self.pairs.entry(pair).or_default();
            let one = match direction {
                Direction::Forward => &mut memory.forward,
                Direction::Return => &mut memory.return_,
            };
            match one.step(at, (counts, opposite), limits, is_event) {
                Verdict::Same => {}
                Verdict::Ended => effects.extend(self.end(&key, now)),
                Verdict::Began(lossy) => {
                    let mut route = shared();
                    self.pair_routes.add(pair, direction, now, &mut route);
                    let event = loss_event(exchanged, (direction, lossy), route, now);
                    self.lasting.push(event.clone());
                    effects.push(EventEffect::Began(event));
                }
            }
        }
        effects
    }

    /// No packet of a window was answered.
    fn on_unanswered(
        &mut self,
        exchanged: &Exchanged<'_>,
        shared: &dyn Fn() -> Vec<IpAddr>,
        now: WallTime,
    ) -> Option<EventEffect> {
        let Exchanged { pair, ends, sites: [near, far], at, counts, .. } = *exchanged;
        let is_silent = |event: &Event| {
            event.key.kind == EventKind::AgentSilent
                && [ends.sender, ends.reflector].contains(&event.key.agent)
        };
        let key = unreachable_key(pair, ends);
        let explained = self.lasting.iter().any(|event| event.key == key || is_silent(event));
        let memory = self.pairs.entry(pair).or_default();
        let (since, sent) = memory.unanswered.get_or_insert((at, 0));
        *sent = sent.saturating_add(counts.sent);
        let (since, sent) = (*since, *sent);
        let lasts = at.micros_since(since) >= WINDOW_US * (UNANSWERED_WINDOWS - 1);
        // Agents that never reached each other are no fault that began.
        if explained || !memory.worked || !lasts {
            return None;
        }
        let mut route = shared();
        for direction in [Direction::Forward, Direction::Return] {
            self.pair_routes.add(pair, direction, now, &mut route);
        }
        let event = Event {
            key,
            part: Part::Network,
            severity: Some(Severity::Major),
            since,
            raised_at: now,
            group: format!("pair-unreachable:{near}:{far}"),
            message: Message::PairUnreachable(UnansweredPair {
                near: near.to_owned(),
                far: far.to_owned(),
                sent,
                seconds: seconds_from(since, at),
            }),
            service: None,
            check: None,
            own_addresses: Vec::new(),
            route,
        };
        self.lasting.push(event.clone());
        Some(EventEffect::Began(event))
    }

    /// Forgets pairs that are not measured any more, and ends their events.
    pub(crate) fn keep_to_pairs(
        &mut self,
        known: &BTreeMap<PairId, PairEnds>,
        now: WallTime,
    ) -> Vec<EventEffect> {
        self.pairs.retain(|pair, _| known.contains_key(pair));
        self.pair_routes.keep_to(known);
        let keys: BTreeSet<EventKey> =
            known.iter().flat_map(|(pair, ends)| keys_of(*pair, *ends)).collect();
        let lasting = self.lasting.iter().map(|event| &event.key);
        let gone = lasting.filter(|key| key.kind.is_of_pair() && !keys.contains(key));
        let gone: Vec<EventKey> = gone.cloned().collect();
        gone.iter().flat_map(|key| self.end(key, now)).collect()
    }

    /// Ends the events of pairs that have not been measured for so long.
    pub(super) fn expire_pairs(
        &mut self,
        known: &BTreeMap<PairId, PairEnds>,
        clock: &LogClock,
        after_us: i64,
    ) -> Vec<EventEffect> {
        let mut effects = Vec::new();
        if !self.lasting.iter().any(|event| event.key.kind.is_of_pair()) {
            return effects;
        }
        for (pair, ends) in known {
            let newest = self.pairs.get(pair).map_or_else(WallTime::default, |it| it.newest);
            if clock.silence_us(newest) >= after_us {
                self.pairs.remove(pair);
                let keys = keys_of(*pair, *ends);
                effects.extend(keys.iter().flat_map(|key| self.end(key, clock.now)));
            }
        }
        effects
    }
}
