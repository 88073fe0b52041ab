//! Quantiles of samples, by nearest rank: the result is one of the samples.

/// The quantile `numerator / denominator` of sorted samples; absent without samples. Between two
/// ranks it is the lower one.
pub fn quantile<T: Copy>(sorted: &[T], numerator: usize, denominator: usize) -> Option<T> {
    let last = sorted.len().checked_sub(1)?;
    sorted.get(last * numerator / denominator).copied()
}

/// The median of samples in any order; absent without samples. Of an even number it is the lower
/// of the two in the middle.
pub fn median<T: Copy + Ord>(samples: impl IntoIterator<Item = T>) -> Option<T> {
    let mut sorted: Vec<T> = samples.into_iter().collect();
    sorted.sort_unstable();
    quantile(&sorted, 1, 2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn quantiles_are_samples_by_rank() {
        let sorted: Vec<u32> = (0..=100).collect();
        assert_eq!(
            [0, 50, 95, 100].map(|it| quantile(&sorted, it, 100).unwrap()),
            [0, 50, 95, 100]
        );
        assert_eq!(quantile::<u32>(&[], 1, 2), None);
        assert_eq!(median([3, 1, 2]), Some(2));
        assert_eq!(median([4, 1, 3, 2]), Some(2));
        assert_eq!(median(Vec::<u32>::new()), None);
    }

    proptest! {
        #[test]
        fn half_of_the_samples_lie_on_each_side_of_the_median(samples in prop::collection::vec(0u32..50, 1..40)) {
            let median = median(samples.iter().copied()).unwrap();
            let half = samples.len().div_ceil(2);
            prop_assert!(samples.iter().filter(|it| **it <= median).count() >= half);
            prop_assert!(samples.iter().filter(|it| **it >= median).count() >= half);
        }
    }
}
