//! What a directed link does to a packet: loses, delays, queues, doubles or reorders it.

use crate::flow::FlowKey;
use crate::scenario::Burst;
use crate::world::{Arc, ArcState, Line};
use itinera_model::unit::Tick;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;

/// Size of a packet of background traffic, in bytes.
const OTHERS_OCTETS: f64 = 1_200.0;
/// Arrivals of other traffic followed one by one at most; before that the queue is taken to have
/// been seen in its steady state.
const MAX_ARRIVALS: usize = 2_000;
/// Streams remembered before those that are over are forgotten.
const MAX_STREAMS: usize = 4_096;
/// How much later a reordered packet comes.
const REORDERED_NANOS: f64 = 3_000_000.0;

/// How a packet leaves a link: not at all, once, or twice, after these delays.
pub(crate) type Passed = [Option<u64>; 2];

/// Independent chance for each purpose, so that a fault changes nothing but what it touches.
#[derive(Debug, Clone)]
pub(crate) struct LineChance {
    loss: ChaCha8Rng,
    jitter: ChaCha8Rng,
    burst: ChaCha8Rng,
    order: ChaCha8Rng,
    others: ChaCha8Rng,
    /// By node and arc: what the link remembers from packet to packet.
    memory: BTreeMap<(usize, usize), Memory>,
    /// By node, arc and flow: when the last packet of a stream comes out.
    streams: BTreeMap<(usize, usize, FlowKey), Tick>,
}

#[derive(Debug, Clone, Copy, Default)]
struct Memory {
    bad: bool,
    /// Work waiting in the queue, in nanoseconds of the line, at a time.
    waiting: f64,
    at: Tick,
}

fn stream(seed: u64, number: u64) -> ChaCha8Rng {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    rng.set_stream(number);
    rng
}

/// An exponential time of this mean.
pub(crate) fn exponential(rng: &mut ChaCha8Rng, mean: f64) -> f64 {
    -(1.0 - rng.random::<f64>()).ln() * mean
}

impl LineChance {
    pub(crate) fn new(seed: u64) -> Self {
        Self {
            loss: stream(seed, 2),
            jitter: stream(seed, 3),
            burst: stream(seed, 5),
            order: stream(seed, 6),
            others: stream(seed, 7),
            memory: BTreeMap::new(),
            streams: BTreeMap::new(),
        }
    }

    /// Lets a packet of so many bytes enter a link.
    pub(crate) fn pass(
        &mut self,
        place: (usize, usize),
        arc: &Arc,
        state: ArcState,
        octets: usize,
        at: Tick,
    ) -> Passed {
        if state.loss > 0.0 && self.loss.random::<f64>() < state.loss {
            return [None, None];
        }
        if let Some(burst) = arc.burst
            && self.is_lost_in_burst(place, burst)
        {
            return [None, None];
        }
        let queued = match arc.line {
            Some(line) => match self.queue(place, line, octets, at) {
                Some(nanos) => nanos,
                None => return [None, None],
            },
            None => 0.0,
        };
        // Queueing noise: exponential, as many small waits and few long ones.
        let wait = exponential(&mut self.jitter, arc.jitter_nanos);
        let varied = match state.jitter_nanos {
            mean if mean > 0.0 => exponential(&mut self.jitter, mean),
            _ => 0.0,
        };
        let later = if arc.reorders > 0.0 && self.order.random::<f64>() < arc.reorders {
            exponential(&mut self.order, REORDERED_NANOS)
        } else {
            0.0
        };
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "not negative; float to integer casts saturate"
        )]
        let nanos = state.delay_nanos + (wait + varied) as u64 + (queued + later) as u64;
        let doubled = arc.duplicates > 0.0 && self.order.random::<f64>() < arc.duplicates;
        [Some(nanos), doubled.then_some(nanos + 50_000)]
    }

    /// When a packet of a stream comes out: not before the one in front of it. Lines keep packets
    /// in order; jitter that overtook would be a habit of its own.
    pub(crate) fn behind(
        &mut self,
        (node, arc): (usize, usize),
        flow: FlowKey,
        now: Tick,
        arrives: Tick,
    ) -> Tick {
        if self.streams.len() >= MAX_STREAMS {
            self.streams.retain(|_, last| *last > now);
        }
        let last = self.streams.entry((node, arc, flow)).or_insert(arrives);
        *last = arrives.max(*last);
        *last
    }

    fn is_lost_in_burst(&mut self, place: (usize, usize), burst: Burst) -> bool {
        let memory = self.memory.entry(place).or_default();
        let turn = if memory.bad { burst.leave } else { burst.enter };
        if self.burst.random::<f64>() < turn {
            memory.bad = !memory.bad;
        }
        memory.bad && self.burst.random::<f64>() < burst.loss
    }

    /// The wait and the time on the line; nothing when the queue is full.
    fn queue(&mut self, place: (usize, usize), line: Line, octets: usize, at: Tick) -> Option<f64> {
        let Memory { mut waiting, at: mut clock, .. } =
            self.memory.get(&place).copied().unwrap_or_default();
        let others = OTHERS_OCTETS * line.nanos_per_octet;
        #[allow(clippy::cast_precision_loss, reason = "spans stay far below 2^52 ns")]
        let gap = |from: Tick| at.as_nanos().saturating_sub(from.as_nanos()) as f64;
        let mut left = gap(clock);
        if line.load > 0.0 {
            let between = others / line.load;
            for _ in 0..MAX_ARRIVALS {
                let next = exponential(&mut self.others, between);
                if next >= left {
                    break;
                }
                left -= next;
                waiting = (waiting - next).max(0.0);
                if waiting + others <= line.longest_nanos {
                    waiting += others;
                }
            }
        }
        waiting = (waiting - left).max(0.0);
        clock = clock.max(at);
        #[allow(clippy::cast_precision_loss, reason = "a packet's length")]
        let own = octets as f64 * line.nanos_per_octet;
        let fits = waiting + own <= line.longest_nanos.max(own);
        let through = waiting + own;
        let memory = self.memory.entry(place).or_default();
        (memory.waiting, memory.at) = (if fits { through } else { waiting }, clock);
        fits.then_some(through)
    }
}
