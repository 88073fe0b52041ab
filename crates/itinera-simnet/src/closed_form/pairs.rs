//! Both directions between sites, in closed form.

use super::{Expected, Passage, Sampler, extra};
use crate::life::{Draws, purpose};
use crate::world::Endpoint;
use itinera_model::two_way::{OneWay, OneWayDelay};
use itinera_model::unit::Tick;
use std::sync::Arc;

/// A pair of sites that measure each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PairPlan {
    /// Number of the sending site.
    pub near: usize,
    /// Number of the reflecting site.
    pub far: usize,
}

/// Ports of measurement between sites, as one number.
pub(super) const PAIR_PORTS: u32 = 59_862 << 16 | 59_862;

/// What one round of a pair gave.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PairCounts {
    /// Packets that left.
    pub sent: u16,
    /// Packets lost in an unknown direction.
    pub undetermined: u16,
    /// From the sender to the reflector.
    pub forward: OneWay,
    /// From the reflector to the sender.
    pub return_: OneWay,
    /// Delays one by one as they really were, there and back, with the difference of both clocks:
    /// for scoring only.
    pub delays_us: [Vec<i64>; 2],
}

/// What happens to packets of one direction of a pair at one time.
#[derive(Debug, Clone, PartialEq)]
pub struct PairExpected {
    /// Probability that a packet is lost.
    pub loss: f64,
    /// One-way delay without noise.
    pub delay_nanos: u64,
    /// Means of additional exponential delays, in nanoseconds.
    pub jitters_nanos: Vec<f64>,
    /// The site with the added noise.
    pub receiver: usize,
    /// What the receiver's clock is ahead of the sender's.
    pub offset_us: i64,
}

impl Sampler {
    /// Draws a round of a pair: so many packets at a time.
    pub fn pair_round(
        &mut self,
        (pair, plan): (usize, PairPlan),
        number: u64,
        at: Tick,
        packets: u16,
        series: u64,
    ) -> PairCounts {
        let slot = self.slot(at);
        let routes = Arc::clone(&self.routes);
        let both = &routes.0[self.phase(at)].pairs[pair];
        let world = Arc::clone(&self.world);
        let of = Draws::of([world.seed, world.life, purpose::PAIR, series, pair as u64]);
        let of = of.under(number);
        let clocks = [plan.near, plan.far].map(|site| clock_us(&world.sites[site], at));
        let ahead = clocks[1] - clocks[0];
        let mut arrived = Vec::new();
        let mut delays = Vec::new();
        let mut counts = PairCounts { sent: packets, ..PairCounts::default() };
        let mut left = packets;
        for (route, (one_way, offset)) in both.iter().zip([ahead, -ahead]).enumerate() {
            let receiver = if route == 0 { plan.far } else { plan.near };
            let mut of = of.under(route as u64);
            let one = self.one_way(&one_way.passages, slot, at, (receiver, offset, left), &mut of);
            let came = u16::try_from(one.len()).unwrap_or(u16::MAX);
            arrived.push(OneWay {
                arrived: came,
                lost: left - came,
                delay: OneWayDelay::of(one.clone()),
                ..OneWay::default()
            });
            delays.push(one);
            left = came;
        }
        let nothing_came = left == 0;
        if let (Some(back), Some(forward)) = (arrived.pop(), arrived.pop()) {
            (counts.forward, counts.return_) = (forward, back);
        }
        if let (Some(back), Some(forward)) = (delays.pop(), delays.pop()) {
            counts.delays_us = [forward, back];
        }
        if nothing_came {
            // Only answers tell which direction lost packets.
            counts = PairCounts { sent: packets, undetermined: packets, ..PairCounts::default() };
        }
        counts
    }

    fn one_way(
        &mut self,
        passages: &[Passage],
        slot: u64,
        at: Tick,
        (receiver, offset_us, packets): (usize, i64, u16),
        of: &mut Draws,
    ) -> Vec<i64> {
        let (mut keep, mut delay) = (if passages.is_empty() { 0.0 } else { 1.0 }, 0);
        let mut jitters = Vec::new();
        for passage in passages {
            let state = self.link(*passage, slot, at);
            keep *= state.keep;
            delay += state.delay_nanos;
            jitters.extend(state.jitters_nanos.iter().copied().filter(|mean| *mean > 0.0));
        }
        let expected =
            Expected { loss: 1.0 - keep, delay_nanos: delay, jitters_nanos: jitters, slow: None };
        let world = Arc::clone(&self.world);
        let noise = world.nodes[receiver].noise.as_ref();
        let mut delays = Vec::with_capacity(usize::from(packets));
        for _ in 0..packets {
            if of.unit() < expected.loss {
                continue;
            }
            let nanos = delay + noise.map_or(0, |n| n.at(of.bits())) + extra(of, &expected);
            delays.push(i64::try_from(nanos / 1_000).unwrap_or(i64::MAX) + offset_us);
        }
        delays
    }

    /// What happens to packets of a pair at a time, in one direction: 0 there, 1 back.
    pub fn pair_expected(
        &mut self,
        (pair, plan): (usize, PairPlan),
        route: usize,
        at: Tick,
    ) -> PairExpected {
        let slot = self.slot(at);
        let routes = Arc::clone(&self.routes);
        let (mut keep, mut delay) = (1.0, 0);
        let mut jitters_nanos = Vec::new();
        for passage in &routes.0[self.phase(at)].pairs[pair][route].passages {
            let state = self.link(*passage, slot, at);
            keep *= state.keep;
            delay += state.delay_nanos;
            jitters_nanos.extend(state.jitters_nanos.iter().copied().filter(|mean| *mean > 0.0));
        }
        let [near, far] = [plan.near, plan.far].map(|site| clock_us(&self.world.sites[site], at));
        let (receiver, offset_us) =
            if route == 0 { (plan.far, far - near) } else { (plan.near, near - far) };
        PairExpected { loss: 1.0 - keep, delay_nanos: delay, jitters_nanos, receiver, offset_us }
    }
}

/// How much a site's clock is ahead at a time.
fn clock_us(site: &Endpoint, at: Tick) -> i64 {
    let us = i64::try_from(at.as_nanos() / 1_000).unwrap_or(i64::MAX);
    let drift = i128::from(us) * i128::from(site.clock_drift_ppb) / 1_000_000_000;
    let steps = site.clock_steps.iter().filter(|(from, _)| *from <= at).map(|(_, step)| step);
    site.clock_offset_us + i64::try_from(drift).unwrap_or(0) + steps.sum::<i64>()
}
