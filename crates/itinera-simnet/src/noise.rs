//! What a host adds to every delay it measures: the spread of its own stamps and of its line.

use crate::scenario::NoiseEntry;

/// Cells of equal probability that a law is kept in.
const CELLS: usize = 4_096;
/// Width of the grid on which laws are put together, in milliseconds.
const GRID_MS: f64 = 0.02;
/// Longest noise, in milliseconds: what is longer is taken to be this.
const LONGEST_MS: f64 = 400.0;
const NANOS_PER_MS: f64 = 1e6;

/// A law of non-negative delays as its inverse distribution in cells of equal probability.
///
/// Both directions through a world draw from these cells, so that their laws are one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Noise {
    /// Quantiles in nanoseconds, one more than there are cells.
    cells: Vec<u64>,
}

impl Noise {
    /// A log-normal time; a share of packets instead waits a Pareto time, a share goes a second
    /// route that is longer; jitter adds an exponential time to all.
    pub(crate) fn new(entry: &NoiseEntry) -> Self {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a small constant"
        )]
        let bins = (LONGEST_MS / GRID_MS) as usize;
        #[allow(clippy::cast_precision_loss, reason = "twenty thousand bins")]
        let edge = |bin: usize| bin as f64 * GRID_MS;
        let below = |ms: f64| {
            let usual = if ms > 0.0 && entry.median_ms > 0.0 {
                let z = libm::log(ms / entry.median_ms) / entry.sigma.max(1e-6);
                0.5 * libm::erfc(-z * std::f64::consts::FRAC_1_SQRT_2)
            } else {
                f64::from(u8::from(ms > 0.0))
            };
            let spike = if ms > entry.spike_ms && entry.spike_ms > 0.0 {
                1.0 - libm::pow(entry.spike_ms / ms, entry.tail)
            } else {
                0.0
            };
            (1.0 - entry.spike_share) * usual + entry.spike_share * spike
        };
        let mut mass: Vec<f64> =
            (0..bins).map(|bin| below(edge(bin + 1)) - below(edge(bin))).collect();
        if let Some([share, ms]) = entry.second {
            #[allow(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "checked to be within the grid"
            )]
            let shift = (ms / GRID_MS) as usize;
            let first = mass.clone();
            for (bin, value) in mass.iter_mut().enumerate() {
                let moved = bin.checked_sub(shift).map_or(0.0, |from| first[from]);
                *value = (1.0 - share) * *value + share * moved;
            }
        }
        spread_exponentially(&mut mass, entry.jitter_ms / GRID_MS);
        Self { cells: quantiles(&mass, NANOS_PER_MS * GRID_MS) }
    }

    /// The delay in nanoseconds for 32 random bits.
    pub(crate) fn at(&self, bits: u32) -> u64 {
        let cell = (bits >> 20) as usize;
        let within = u64::from(bits & 0x000f_ffff);
        let (low, high) = (self.cells[cell], self.cells[cell + 1]);
        low + (((high - low) * within) >> 20)
    }

    /// Probabilities of bins of so many nanoseconds from zero; the last one holds the rest.
    pub fn masses(&self, bin_nanos: u64, bins: usize) -> Vec<f64> {
        let mut masses = vec![0.0; bins];
        #[allow(clippy::cast_precision_loss, reason = "far below 2^52")]
        for pair in self.cells.windows(2) {
            let (low, high) = (pair[0], pair[1].max(pair[0] + 1));
            let first = usize::try_from(low / bin_nanos).unwrap_or(bins).min(bins - 1);
            let last = usize::try_from((high - 1) / bin_nanos).unwrap_or(bins).min(bins - 1);
            for (bin, mass) in masses.iter_mut().enumerate().take(last + 1).skip(first) {
                let from = (bin as u64 * bin_nanos).max(low);
                let to =
                    if bin == bins - 1 { high } else { ((bin as u64 + 1) * bin_nanos).min(high) };
                *mass += (to - from) as f64 / (high - low) as f64 / CELLS as f64;
            }
        }
        masses
    }
}

/// Adds an exponential time of this mean, in bins, to a law given by its bins.
fn spread_exponentially(mass: &mut [f64], mean_bins: f64) {
    if mean_bins <= 0.0 {
        return;
    }
    let stay = libm::exp(-1.0 / mean_bins);
    let mut waiting = 0.0;
    for value in mass.iter_mut() {
        waiting = stay * waiting + *value;
        *value = (1.0 - stay) * waiting;
    }
    if let Some(last) = mass.last_mut() {
        *last += stay * waiting;
    }
}

/// Quantiles at equal steps of probability, in units of `bin` each; the mass need not be whole.
fn quantiles(mass: &[f64], bin: f64) -> Vec<u64> {
    let total: f64 = mass.iter().sum();
    let mut cells = Vec::with_capacity(CELLS + 1);
    let (mut index, mut before) = (0, 0.0);
    #[allow(
        clippy::cast_precision_loss,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "nanoseconds of less than a second"
    )]
    for step in 0..CELLS {
        let wanted = total * step as f64 / CELLS as f64;
        while index + 1 < mass.len() && before + mass[index] <= wanted {
            before += mass[index];
            index += 1;
        }
        let within = if mass[index] > 0.0 { (wanted - before) / mass[index] } else { 0.0 };
        cells.push(((index as f64 + within.clamp(0.0, 1.0)) * bin) as u64);
    }
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a constant")]
    cells.push((LONGEST_MS * NANOS_PER_MS) as u64);
    cells
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry() -> NoiseEntry {
        NoiseEntry {
            median_ms: 0.15,
            sigma: 1.0,
            spike_share: 0.02,
            spike_ms: 5.0,
            tail: 1.5,
            jitter_ms: 0.0,
            second: None,
        }
    }

    /// Share of draws above so many milliseconds.
    fn over(noise: &Noise, ms: f64) -> f64 {
        let draws = (0..1u32 << 16).map(|step| noise.at(step << 16));
        draws.filter(|nanos| *nanos as f64 > ms * 1e6).count() as f64 / f64::from(1 << 16)
    }

    #[test]
    fn quantiles_are_those_of_the_laws_that_were_mixed() {
        let noise = Noise::new(&entry());
        assert!((over(&noise, 0.15) - (0.98 * 0.5 + 0.02)).abs() < 0.01);
        // Twice the smallest spike: a 2^1.5th of the spikes are longer.
        assert!((over(&noise, 10.0) - 0.02 / 2f64.powf(1.5)).abs() < 0.002);
        let jittered = Noise::new(&NoiseEntry { jitter_ms: 8.0, ..entry() });
        let mean = |n: &Noise| {
            (0..1u32 << 16).map(|step| n.at(step << 16) as f64 / 1e6).sum::<f64>() / 65_536.0
        };
        assert!((mean(&jittered) - mean(&noise) - 8.0).abs() < 0.3);
        let two = Noise::new(&NoiseEntry { second: Some([0.25, 3.0]), ..entry() });
        assert!((over(&two, 2.5) - over(&noise, 2.5) - 0.24).abs() < 0.01);
    }

    #[test]
    fn masses_are_whole_and_agree_with_draws() {
        let noise = Noise::new(&entry());
        let masses = noise.masses(100_000, 4_096);
        assert!((masses.iter().sum::<f64>() - 1.0).abs() < 1e-9);
        let below: f64 = masses.iter().take(5).sum();
        assert!((1.0 - below - over(&noise, 0.5)).abs() < 2e-3, "{below}");
    }

    #[test]
    fn spreading_keeps_the_mass_and_moves_the_mean() {
        let mut mass = vec![0.0; 5_000];
        mass[10] = 1.0;
        spread_exponentially(&mut mass, 50.0);
        let mean: f64 = mass.iter().enumerate().map(|(bin, m)| bin as f64 * m).sum();
        assert!((mass.iter().sum::<f64>() - 1.0).abs() < 1e-9 && (mean - 59.5).abs() < 1.0);
    }
}
