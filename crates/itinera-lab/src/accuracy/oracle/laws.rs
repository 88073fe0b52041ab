//! Laws of delays, with and without a fault, and what observations tell by them.

use super::told::Told;
use crate::accuracy::cases::{Effect, JITTER};
use itinera_simnet::closed_form::Sampler;
use std::collections::BTreeMap;
use std::rc::Rc;

const BIN_NANOS: u64 = 100_000;
const BINS: usize = 5_000;
/// Mass that every bin has at least: for what rounding moves over an edge.
const FLOOR: f64 = 1e-9;
/// An observation crosses a fault twice at most.
pub(super) const CROSSED: usize = 2;
const CERTAIN: f64 = 1e-12;

/// What a law of delays depends on: site, slow answers, jitters; bits of floats.
pub(super) type LawKey = (usize, u64, u64, Vec<u64>);
/// Log masses, by bin.
type LogMasses = Rc<Vec<f64>>;

/// Sizes that are weighed together, in steps of so many milliseconds.
const STEP_MS: f64 = 0.3;
const MOST_STEPS: usize = 8;

/// What an observation is weighed by.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Tested {
    /// This share is lost.
    Loss(f64),
    /// Delays of these milliseconds are added, from one to the other, each packet by itself.
    DelayMs(f64, f64),
}

impl From<Effect> for Tested {
    fn from(effect: Effect) -> Self {
        match effect {
            Effect::Loss(share) => Self::Loss(share),
            Effect::DelayMs(ms) => Self::DelayMs(ms, ms),
        }
    }
}

/// Laws that were needed.
#[derive(Debug, Clone, Default)]
pub(super) struct Laws {
    keys: Vec<LawKey>,
    numbers: BTreeMap<LawKey, usize>,
    /// By number: masses and their logs without any fault.
    usual: Vec<Option<(Rc<Vec<f64>>, LogMasses)>>,
    /// By number and milliseconds added, from and to (bits): crossing the fault once and twice.
    added: BTreeMap<(usize, [u64; 2]), [LogMasses; CROSSED]>,
}

impl Laws {
    /// The number of a law.
    pub(super) fn number(&mut self, key: LawKey) -> usize {
        if let Some(number) = self.numbers.get(&key) {
            return *number;
        }
        let number = self.keys.len();
        self.keys.push(key.clone());
        self.numbers.insert(key, number);
        self.usual.push(None);
        number
    }

    /// Masses of a law without any fault, by bin.
    pub(super) fn masses(&mut self, calm: &Sampler, number: usize) -> Rc<Vec<f64>> {
        self.usual(calm, number).0
    }

    fn usual(&mut self, calm: &Sampler, number: usize) -> (Rc<Vec<f64>>, LogMasses) {
        if let Some(known) = &self.usual[number] {
            return known.clone();
        }
        let (site, share, mean, jitters) = &self.keys[number];
        let bin = BIN_NANOS as f64;
        let mut usual = match calm.noise(*site) {
            Some(noise) => noise.masses(BIN_NANOS, BINS),
            None => std::iter::once(1.0).chain(std::iter::repeat_n(0.0, BINS - 1)).collect(),
        };
        let share = f64::from_bits(*share);
        if share > 0.0 {
            let mut slow = usual.clone();
            vary(&mut slow, f64::from_bits(*mean) / bin);
            for (usual, slow) in usual.iter_mut().zip(slow) {
                *usual = (1.0 - share) * *usual + share * slow;
            }
        }
        for jitter in jitters {
            vary(&mut usual, f64::from_bits(*jitter) / bin);
        }
        let logs = logs(&usual);
        let made = (Rc::new(usual), logs);
        self.usual[number] = Some(made.clone());
        made
    }

    fn added(&mut self, calm: &Sampler, number: usize, ms: [f64; 2]) -> [LogMasses; CROSSED] {
        let key = (number, ms.map(f64::to_bits));
        if let Some(known) = self.added.get(&key) {
            return known.clone();
        }
        let (usual, _) = self.usual(calm, number);
        let made = delayed(&usual, ms).map(|masses| logs(&masses));
        self.added.insert(key, made.clone());
        made
    }

    /// Forgets the laws of added delays that are looked at once.
    pub(super) fn forget(&mut self, is_kept: impl Fn([f64; 2]) -> bool) {
        self.added.retain(|(_, ms), _| is_kept(ms.map(f64::from_bits)));
    }

    /// Log of how much likelier an observation is with an effect than without, crossing it once and twice.
    pub(super) fn ratios(&mut self, calm: &Sampler, told: &Told, tested: Tested) -> [f64; CROSSED] {
        match tested {
            Tested::Loss(share) => ratios_of(told.lost, told.kept, told.usual_loss, share),
            Tested::DelayMs(..) if told.over_us.is_empty() => [0.0; CROSSED],
            Tested::DelayMs(from, to) => {
                let (_, usual) = self.usual(calm, told.law);
                let with = self.added(calm, told.law, [from, to]);
                let mut ratios = [0.0; CROSSED];
                for us in &told.over_us {
                    let bin = bin_of(*us);
                    for (ratio, with) in ratios.iter_mut().zip(&with) {
                        *ratio += with[bin] - usual[bin];
                    }
                }
                ratios
            }
        }
    }

    /// Divergence between an observed packet with an effect, crossing it so many times, and one without, in nats.
    pub(super) fn divergence(
        &mut self,
        calm: &Sampler,
        (law, usual_loss): (usize, f64),
        effect: Effect,
        times: usize,
    ) -> f64 {
        match effect {
            Effect::Loss(share) => {
                let stays = libm::pow(1.0 - share, times as f64);
                divergence(1.0 - (1.0 - usual_loss) * stays, usual_loss)
            }
            Effect::DelayMs(ms) => {
                let (_, usual) = self.usual(calm, law);
                let with = &self.added(calm, law, [ms; 2])[times - 1];
                let terms = with.iter().zip(usual.iter());
                let sum: f64 = terms.map(|(with, usual)| libm::exp(*with) * (with - usual)).sum();
                (1.0 - usual_loss) * sum
            }
        }
    }
}

fn logs(masses: &[f64]) -> LogMasses {
    let least = libm::log(FLOOR);
    let log = |mass: &f64| if *mass > 0.0 { libm::log(mass + FLOOR) } else { least };
    Rc::new(masses.iter().map(log).collect())
}

/// The bin of a delay in microseconds.
pub(super) fn bin_of(us: i64) -> usize {
    let bin = usize::try_from(us.max(0) * 1_000).unwrap_or(usize::MAX) / 100_000;
    bin.min(BINS - 1)
}

/// Masses of delays that are longer by milliseconds from one to the other, crossing the fault once and twice.
pub(super) fn delayed(usual: &[f64], ms: [f64; 2]) -> [Vec<f64>; CROSSED] {
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a few steps")]
    let steps = (((ms[1] - ms[0]) / STEP_MS).ceil() as usize).clamp(1, MOST_STEPS);
    let mut sums = [vec![0.0; BINS], vec![0.0; BINS]];
    for step in 0..steps {
        let share = (step as f64 + 0.5) / steps as f64;
        let ms = libm::exp(libm::log(ms[0]) * (1.0 - share) + libm::log(ms[1]) * share);
        let once = later(usual, ms);
        let twice = later(&once, ms);
        for (sum, masses) in sums.iter_mut().zip([once, twice]) {
            sum.iter_mut().zip(masses).for_each(|(sum, mass)| *sum += mass / steps as f64);
        }
    }
    sums
}

/// Masses of delays to which exponential times are added, of any of these means in milliseconds.
pub(super) fn slower(usual: &[f64], means_ms: &[f64]) -> Vec<f64> {
    let mut sum = vec![0.0; usual.len()];
    for mean in means_ms {
        let mut masses = usual.to_vec();
        vary(&mut masses, mean * 1e6 / BIN_NANOS as f64);
        sum.iter_mut().zip(masses).for_each(|(sum, mass)| *sum += mass / means_ms.len() as f64);
    }
    sum
}

/// The law of delays that are so many milliseconds longer, with jitter. Delays are spread evenly within each bin.
fn later(before: &[f64], ms: f64) -> Vec<f64> {
    let bins = ms * 1e6 / BIN_NANOS as f64;
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a fifth of a second in bins"
    )]
    let shift = bins as usize;
    let over = bins - bins.floor();
    let mut later = vec![0.0; BINS];
    for (shift, share) in [(shift, 1.0 - over), (shift + 1, over)] {
        let (inside, beyond) = before.split_at(BINS.saturating_sub(shift));
        let moved = later.iter_mut().skip(shift).zip(inside);
        moved.for_each(|(later, mass)| *later += mass * share);
        later[BINS - 1] += share * beyond.iter().sum::<f64>();
    }
    vary(&mut later, ms * JITTER * 1e6 / BIN_NANOS as f64);
    later
}

/// Adds an exponential time of this mean, in bins, to delays that are spread evenly within their bins.
fn vary(masses: &mut [f64], mean: f64) {
    if mean <= 0.0 {
        return;
    }
    let stay = libm::exp(-1.0 / mean);
    let (same, next) = (1.0 - mean * (1.0 - stay), mean * (1.0 - stay) * (1.0 - stay));
    let (mut before, mut moved) = (0.0, 0.0);
    for mass in masses.iter_mut() {
        moved = stay * moved + next * before;
        before = *mass;
        *mass = same * before + moved;
    }
    if let Some(last) = masses.last_mut() {
        *last += (next * before + stay * moved) / (1.0 - stay);
    }
}

/// Divergence between losing with these probabilities, in nats a packet.
fn divergence(with: f64, usual: f64) -> f64 {
    let (with, usual) = (with.clamp(CERTAIN, 1.0 - CERTAIN), usual.clamp(CERTAIN, 1.0 - CERTAIN));
    with * libm::log(with / usual) + (1.0 - with) * libm::log((1.0 - with) / (1.0 - usual))
}

fn ratios_of(lost: f64, kept: f64, usual: f64, share: f64) -> [f64; CROSSED] {
    let usual = usual.clamp(CERTAIN, 1.0 - CERTAIN);
    let stays = (1.0 - share).max(CERTAIN);
    [stays, stays * stays].map(|stays| {
        let of_lost =
            if lost > 0.0 { lost * libm::log((1.0 - (1.0 - usual) * stays) / usual) } else { 0.0 };
        of_lost + kept * libm::log(stays)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Mean, in bins, of delays that are spread evenly within their bins.
    fn mean(masses: &[f64]) -> f64 {
        masses.iter().enumerate().map(|(bin, mass)| (bin as f64 + 0.5) * mass).sum()
    }

    #[test]
    fn added_delay_and_jitter_move_the_mean_by_themselves() {
        let mut before = vec![0.0; BINS];
        (before[3], before[7]) = (0.75, 0.25);
        for ms in [3.0, 3.33, 17.08] {
            let after = later(&before, ms);
            assert!((after.iter().sum::<f64>() - 1.0).abs() < 1e-9);
            let moved = mean(&after) - mean(&before);
            assert!((moved - ms * 10.0 * (1.0 + JITTER)).abs() < 1e-6, "{ms}: {moved}");
        }
        let mut long = vec![0.0; 40];
        long[30] = 1.0;
        vary(&mut long, 50.0);
        assert!((long.iter().sum::<f64>() - 1.0).abs() < 1e-9, "what is longer stays in the last");
    }
}
