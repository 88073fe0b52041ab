//! Estimators and log likelihoods, as pure functions over slices.

/// Natural logarithm of the beta function.
pub fn ln_beta(a: f64, b: f64) -> f64 {
    libm::lgamma(a) + libm::lgamma(b) - libm::lgamma(a + b)
}

/// Log likelihood of `lost` of `sent` under a beta-binomial with this mean and concentration
/// `kappa` (a + b), without the binomial coefficient, which is the same for all hypotheses.
///
/// Source: N. L. Johnson, A. W. Kemp, S. Kotz, Univariate Discrete Distributions, 3rd ed., 6.9.
pub fn ln_beta_binomial(lost: u32, sent: u32, mean: f64, kappa: f64) -> f64 {
    let mean = mean.clamp(1e-6, 1.0 - 1e-6);
    let (a, b) = (mean * kappa, (1.0 - mean) * kappa);
    let (lost, kept) = (f64::from(lost), f64::from(sent) - f64::from(lost));
    ln_beta(lost + a, kept + b) - ln_beta(a, b)
}

/// Density of Student's t with four degrees of freedom at `x`, scaled.
pub fn student_t4(x: f64, scale: f64) -> f64 {
    let y = x / scale;
    let q = 1.0 + y * y / 4.0;
    0.375 / (scale * q * q * q.sqrt())
}

/// Log of a share of a sum that is below its rounding error.
const NOTHING: f64 = -37.0;

/// log(sum(exp(values))), in order; minus infinity for none.
pub fn ln_sum_exp(values: &[f64]) -> f64 {
    let max = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    if max == f64::NEG_INFINITY {
        return max;
    }
    // Added to 1, a smaller one is lost in rounding.
    let share = |value: f64| if value - max < NOTHING { 0.0 } else { libm::exp(value - max) };
    max + libm::log(values.iter().map(|value| share(*value)).sum())
}

/// A weight between two accounts, with the logs that mixing by it needs.
#[derive(Debug, Clone, Copy)]
pub struct MixWeight {
    ln: f64,
    ln_rest: f64,
}

impl MixWeight {
    /// From 0 to below 1.
    pub fn new(weight: f64) -> Self {
        Self { ln: libm::log(weight), ln_rest: libm::log1p(-weight) }
    }

    /// log(weight exp(a) + (1 - weight) exp(b)).
    pub fn ln_mix(self, a: f64, b: f64) -> f64 {
        if self.ln == f64::NEG_INFINITY {
            return b;
        }
        let (a, b) = (self.ln + a, self.ln_rest + b);
        let (low, high) = if a < b { (a, b) } else { (b, a) };
        if high == f64::NEG_INFINITY || low - high < NOTHING {
            return high;
        }
        high + libm::log(1.0 + libm::exp(low - high))
    }
}

/// Interval that holds a share with 95 % confidence, after `lost` of `sent`; absent for nothing sent.
///
/// Source: E. B. Wilson, Probable inference, the law of succession, and statistical inference,
/// Journal of the American Statistical Association 22 (1927).
pub fn wilson_interval(lost: u32, sent: u32) -> Option<(f64, f64)> {
    const Z: f64 = 1.959_964;
    if sent == 0 {
        return None;
    }
    let (n, share) = (f64::from(sent), f64::from(lost.min(sent)) / f64::from(sent));
    let centre = share + Z * Z / (2.0 * n);
    let spread = Z * libm::sqrt(share * (1.0 - share) / n + Z * Z / (4.0 * n * n));
    let scale = 1.0 + Z * Z / n;
    Some((((centre - spread) / scale).max(0.0), ((centre + spread) / scale).min(1.0)))
}

/// Probability that a loss ratio is over a limit, after `lost` of `sent`, with the prior Beta(1, 1/limit).
///
/// The tail of a beta distribution with whole parameters is a sum of binomial probabilities.
/// Source: NIST Digital Library of Mathematical Functions, 8.17.5.
pub fn probability_over(lost: u32, sent: u32, limit: f64) -> f64 {
    if limit <= 0.0 {
        return if lost > 0 { 1.0 } else { 0.0 };
    }
    if limit >= 1.0 {
        return 0.0;
    }
    let n = f64::from(sent) + (1.0 / limit).round();
    let (odds, mut ln_term) = (libm::log(limit / (1.0 - limit)), n * libm::log(1.0 - limit));
    let mut sum = 0.0;
    for k in 0..=lost.min(sent) {
        sum += libm::exp(ln_term);
        let k = f64::from(k);
        ln_term += libm::log((n - k) / (k + 1.0)) + odds;
    }
    sum.min(1.0)
}

/// Probability that a standard normal variable exceeds `z`.
pub fn normal_tail(z: f64) -> f64 {
    0.5 * libm::erfc(z / std::f64::consts::SQRT_2)
}

/// Median of real numbers in any order, the mean of the two in the middle; absent for none.
pub fn median(values: &[f64]) -> Option<f64> {
    median_of(&mut values.to_vec())
}

/// The same, of numbers that it may put in another order.
pub fn median_of(values: &mut [f64]) -> Option<f64> {
    if values.is_empty() {
        return None;
    }
    let middle = values.len() / 2;
    let even = values.len().is_multiple_of(2);
    let (below, upper, _) = values.select_nth_unstable_by(middle, f64::total_cmp);
    let lower = below.iter().copied().max_by(f64::total_cmp).filter(|_| even).unwrap_or(*upper);
    Some(f64::midpoint(lower, *upper))
}

/// Median, and median absolute deviation from it as a standard deviation of a normal distribution (times
/// 1.4826), of numbers that are not needed any more; absent for none.
pub fn median_and_mad(mut values: Vec<f64>) -> Option<(f64, f64)> {
    let centre = median_of(&mut values)?;
    for value in &mut values {
        *value = (*value - centre).abs();
    }
    Some((centre, median_of(&mut values)? * 1.4826))
}

/// Intra-class correlation of losses over windows of (lost, sent) by moments, in 0..=0.5.
pub fn overdispersion(windows: &[(u32, u32)]) -> f64 {
    let lost: f64 = windows.iter().map(|(lost, _)| f64::from(*lost)).sum();
    let sent: f64 = windows.iter().map(|(_, sent)| f64::from(*sent)).sum();
    let p = lost / sent.max(1.0);
    let spread = p * (1.0 - p);
    let pairs: f64 = windows.iter().map(|(_, n)| f64::from(*n) * (f64::from(*n) - 1.0)).sum();
    if spread <= 0.0 || pairs <= 0.0 {
        return 0.0;
    }
    let squares: f64 = windows
        .iter()
        .map(|(lost, sent)| {
            let off = f64::from(*lost) - f64::from(*sent) * p;
            off * off
        })
        .sum();
    ((squares / spread - sent) / pairs).clamp(0.0, 0.5)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn beta_binomial_sums_to_one_with_its_coefficient() {
        let choose = |n: f64, k: f64| -libm::log(n + 1.0) - ln_beta(n - k + 1.0, k + 1.0);
        for (mean, kappa) in [(0.01, 400.0), (0.3, 20.0), (0.99, 120.0)] {
            let total: f64 = (0..=30u32)
                .map(|k| {
                    libm::exp(choose(30.0, f64::from(k)) + ln_beta_binomial(k, 30, mean, kappa))
                })
                .sum();
            assert!((total - 1.0).abs() < 1e-9, "{total}");
        }
    }

    #[test]
    fn probability_over_a_limit_is_that_of_the_integrated_density() {
        for (lost, sent, limit) in [(0, 0, 0.03), (4, 40, 0.03), (2, 60, 0.01), (30, 40, 0.5)] {
            let limit: f64 = limit;
            let (a, b) = (f64::from(lost) + 1.0, f64::from(sent - lost) + (1.0 / limit).round());
            let steps = 200_000;
            let width = (1.0 - limit) / f64::from(steps);
            let tail: f64 = (0..steps)
                .map(|step| {
                    let x = limit + (f64::from(step) + 0.5) * width;
                    let ln =
                        (a - 1.0) * libm::log(x) + (b - 1.0) * libm::log(1.0 - x) - ln_beta(a, b);
                    libm::exp(ln) * width
                })
                .sum();
            let probability = probability_over(lost, sent, limit);
            assert!((tail - probability).abs() < 1e-4, "{lost} of {sent}: {tail} {probability}");
        }
        let edges = [(0, 9, 0.0), (1, 9, 0.0), (9, 9, 1.0), (50_000, 100_000, 0.03)];
        let edges = edges.map(|(lost, sent, limit)| probability_over(lost, sent, limit).round());
        assert_eq!(edges.map(|it| it > 0.5), [false, true, false, true]);
    }

    #[test]
    fn student_t4_integrates_to_one() {
        let total: f64 =
            (-40_000..40_000).map(|i| student_t4(f64::from(i) * 0.01, 2.0) * 0.01).sum();
        assert!((total - 1.0).abs() < 1e-3, "{total}");
    }

    #[test]
    fn intervals_and_tails_are_those_of_the_tables() {
        let (low, high) = wilson_interval(10, 100).unwrap();
        assert!((low - 0.0552).abs() < 1e-4 && (high - 0.1744).abs() < 1e-4, "{low} {high}");
        let (low, high) = wilson_interval(0, 60).unwrap();
        assert!(low.abs() < f64::EPSILON && (high - 0.0602).abs() < 1e-4, "{high}");
        assert_eq!(wilson_interval(0, 0), None);
        assert!((normal_tail(1.959_964) - 0.025).abs() < 1e-6);
    }

    #[test]
    fn steady_losses_show_no_overdispersion_and_bursts_do() {
        assert!(overdispersion(&[(2, 20); 40]) < 0.01);
        let bursts: Vec<_> = (0..40).map(|i| (if i % 8 == 0 { 16 } else { 0 }, 20)).collect();
        assert!(overdispersion(&bursts) > 0.3);
        assert!(overdispersion(&[]).abs() < f64::EPSILON);
    }

    #[test]
    fn a_mixture_of_the_impossible_is_impossible_and_no_weight_leaves_the_other() {
        let never = f64::NEG_INFINITY;
        assert_eq!(MixWeight::new(0.3).ln_mix(never, never), never);
        assert_eq!(MixWeight::new(0.0).ln_mix(never, -2.5), -2.5);
    }

    #[test]
    fn one_outlier_moves_neither_median_nor_deviation_far() {
        assert_eq!(median_and_mad(vec![]), None);
        let (centre, spread) = median_and_mad(vec![9.0, 10.0, 500.0, 11.0, 10.0]).unwrap();
        assert!((centre - 10.0).abs() < 1e-12 && (spread - 1.4826).abs() < 1e-12);
    }

    proptest! {
        #[test]
        fn likelihood_peaks_near_the_observed_share(lost in 5u32..=45, off in 0.1f64..0.4) {
            let observed = f64::from(lost) / 50.0;
            let at = |mean: f64| ln_beta_binomial(lost, 50, mean, 400.0);
            for other in [observed - off, observed + off] {
                prop_assert!(at(observed) > at(other));
            }
        }

        #[test]
        fn mixing_is_the_log_of_the_weighted_sum(
            weight in 0.0f64..0.9, a in -50.0f64..0.0, b in -50.0f64..0.0,
        ) {
            let sum = weight * libm::exp(a) + (1.0 - weight) * libm::exp(b);
            prop_assert!((MixWeight::new(weight).ln_mix(a, b) - libm::log(sum)).abs() < 1e-9);
        }

        #[test]
        fn median_lies_between_the_extremes(values in prop::collection::vec(-1e6f64..1e6, 1..30)) {
            let m = median(&values).unwrap();
            prop_assert!(values.iter().any(|v| *v <= m) && values.iter().any(|v| *v >= m));
        }
    }
}
