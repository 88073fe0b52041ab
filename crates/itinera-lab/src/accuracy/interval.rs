//! Intervals around figures: by resampling whole worlds, and for counts of rare events.

use serde::{Deserialize, Serialize};

/// Resamples behind an interval.
const RESAMPLES: usize = 400;

/// A figure with its 95 % interval.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Interval {
    /// The figure; absent where there is nothing to make it from.
    pub value: Option<f64>,
    /// Lower end.
    pub low: Option<f64>,
    /// Upper end.
    pub high: Option<f64>,
    /// How many cases it is made from.
    pub cases: usize,
}

/// Indices for resampling, the same for every figure of as many worlds.
///
/// Source: G. Marsaglia, Xorshift RNGs (2003), in its 64-bit form.
fn resample(worlds: usize, state: &mut u64) -> Vec<usize> {
    let mut next = || {
        *state ^= *state << 13;
        *state ^= *state >> 7;
        *state ^= *state << 17;
        usize::try_from(*state % worlds.max(1) as u64).unwrap_or(0)
    };
    (0..worlds).map(|_| next()).collect()
}

/// A figure of worlds with its interval by resampling worlds.
///
/// Source: B. Efron, Bootstrap methods: another look at the jackknife (1979); percentile
/// intervals, whole worlds because cases of one world share it.
pub(super) fn of_worlds<W>(
    worlds: &[W],
    cases: usize,
    figure: impl Fn(&[&W]) -> Option<f64>,
) -> Interval {
    let all: Vec<&W> = worlds.iter().collect();
    let value = figure(&all);
    let mut state = 0x2545_f491_4f6c_dd1d;
    let mut figures: Vec<f64> = (0..RESAMPLES)
        .filter_map(|_| {
            let drawn = resample(worlds.len(), &mut state);
            let drawn: Vec<&W> = drawn.into_iter().map(|index| &worlds[index]).collect();
            figure(&drawn)
        })
        .collect();
    figures.sort_by(f64::total_cmp);
    let at = |share: f64| {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "an index of a few hundred"
        )]
        let index = (share * figures.len().saturating_sub(1) as f64).round() as usize;
        figures.get(index).copied().filter(|_| value.is_some())
    };
    Interval { value, low: at(0.025), high: at(0.975), cases }
}

/// A rate of rare events with its interval: so many in so much.
///
/// Source: F. Garwood, Fiducial limits for the Poisson distribution, Biometrika 28 (1936).
pub(super) fn of_rate(events: u64, exposure: f64) -> Interval {
    if exposure <= 0.0 {
        return Interval::default();
    }
    let count = events as f64;
    let below = |mean: f64, most: u64| -> f64 {
        let (mut term, mut sum) = (libm::exp(-mean), 0.0);
        for k in 0..=most {
            sum += term;
            term *= mean / (k + 1) as f64;
        }
        sum
    };
    let solve = |wanted: &dyn Fn(f64) -> bool| {
        let (mut low, mut high) = (0.0, 2.0 * count + 20.0);
        for _ in 0..80 {
            let middle = f64::midpoint(low, high);
            if wanted(middle) { high = middle } else { low = middle }
        }
        f64::midpoint(low, high)
    };
    let (low, high) = if events > 500 {
        let spread = 1.96 * count.sqrt();
        (count - spread, count + spread)
    } else {
        let low = match events {
            0 => 0.0,
            _ => solve(&|mean| 1.0 - below(mean, events - 1) >= 0.025),
        };
        (low, solve(&|mean| below(mean, events) <= 0.025))
    };
    Interval {
        value: Some(count / exposure),
        low: Some(low / exposure),
        high: Some(high / exposure),
        cases: usize::try_from(events).unwrap_or(usize::MAX),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_have_the_intervals_of_the_tables() {
        let none = of_rate(0, 1.0);
        assert!((none.high.unwrap() - 3.689).abs() < 1e-3 && none.low == Some(0.0));
        let ten = of_rate(10, 1.0);
        assert!((ten.low.unwrap() - 4.795).abs() < 1e-3, "{ten:?}");
        assert!((ten.high.unwrap() - 18.390).abs() < 1e-3, "{ten:?}");
        let many = of_rate(2_000, 2.0);
        assert!((many.low.unwrap() - 956.2).abs() < 0.5, "{many:?}");
        assert_eq!(of_rate(3, 0.0), Interval::default());
    }

    #[test]
    fn intervals_hold_the_figure_and_shrink_with_worlds() {
        let width = |worlds: usize| {
            let values: Vec<f64> = (0..worlds).map(|w| f64::from(u8::from(w % 3 == 0))).collect();
            let mean =
                |drawn: &[&f64]| Some(drawn.iter().copied().sum::<f64>() / drawn.len() as f64);
            let interval = of_worlds(&values, worlds, mean);
            let value = interval.value.unwrap();
            assert!(interval.low.unwrap() <= value && value <= interval.high.unwrap());
            interval.high.unwrap() - interval.low.unwrap()
        };
        assert!((0.3..0.42).contains(&width(24)), "{}", width(24));
        assert!(width(240) < width(24) / 2.5);
        let nothing = of_worlds(&[1.0], 0, |_| None);
        assert_eq!((nothing.value, nothing.low), (None, None));
    }
}
