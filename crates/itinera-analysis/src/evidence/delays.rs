//! Delays of packets, counted so that windows can be merged in any order.

use itinera_model::quantile::quantile;
use std::collections::BTreeMap;

/// A window keeps so many delays as they are. Further ones turn them into counts by class.
const MOST_EXACT: usize = 32;
/// Classes in which a delay grows e-fold: each is 0.2 % wide.
const CLASSES: f64 = 500.0;

/// A multiset of delays in microseconds: exact while they are few, then counts by class. Its content
/// does not depend on the order of additions.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Delays {
    /// Sorted.
    exact: Vec<u32>,
    classes: BTreeMap<u16, u32>,
}

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "the logarithm of 32 bits is below 23: classes are below 12,000"
)]
fn class_of(us: u32) -> u16 {
    libm::round(libm::log(f64::from(us.max(1))) * CLASSES) as u16
}

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "within the bounds of the type, to which it saturates"
)]
fn middle_of(class: u16) -> u32 {
    libm::round(libm::exp(f64::from(class) / CLASSES)) as u32
}

impl Delays {
    /// Adds a delay.
    pub(crate) fn add(&mut self, us: u32) {
        if self.classes.is_empty() && self.exact.len() < MOST_EXACT {
            let at = self.exact.partition_point(|known| *known <= us);
            self.exact.insert(at, us);
        } else {
            self.count_exact();
            *self.classes.entry(class_of(us)).or_default() += 1;
        }
    }

    fn count_exact(&mut self) {
        for us in self.exact.drain(..) {
            *self.classes.entry(class_of(us)).or_default() += 1;
        }
    }

    /// All delays of several windows, and single ones; exact where all of them are.
    pub(crate) fn merged<'a>(
        windows: impl IntoIterator<Item = &'a Self, IntoIter: Clone>,
        single: impl IntoIterator<Item = u32>,
    ) -> Self {
        let windows = windows.into_iter();
        let exact = windows.clone().map(|window| window.exact.len()).sum();
        let mut all = Self { exact: Vec::with_capacity(exact), classes: BTreeMap::new() };
        for window in windows {
            all.exact.extend(&window.exact);
            for (class, count) in &window.classes {
                *all.classes.entry(*class).or_default() += count;
            }
        }
        all.exact.extend(single);
        if all.classes.is_empty() {
            all.exact.sort_unstable();
        } else {
            all.count_exact();
        }
        all
    }

    /// The delays themselves, in order, or counts by class in order of class.
    pub(super) fn parts(&self) -> (&[u32], &BTreeMap<u16, u32>) {
        (&self.exact, &self.classes)
    }

    /// The same again from its parts; absent where they cannot be those of any.
    pub(super) fn from_parts(exact: Vec<u32>, classes: BTreeMap<u16, u32>) -> Option<Self> {
        let known = class_of(u32::MAX);
        let fits = exact.is_empty() || (classes.is_empty() && exact.is_sorted());
        let fits = fits && classes.keys().all(|class| *class <= known);
        fits.then_some(Self { exact, classes })
    }

    /// Each delay, or the middle of its class, with how often it occurs.
    pub(super) fn counted(&self) -> impl Iterator<Item = (u32, u32)> + '_ {
        let exact = self.exact.iter().map(|us| (*us, 1));
        exact.chain(self.classes.iter().map(|(class, count)| (middle_of(*class), *count)))
    }

    /// How many there are.
    pub(crate) fn count(&self) -> usize {
        let counted: u64 = self.classes.values().copied().map(u64::from).sum();
        self.exact.len() + usize::try_from(counted).unwrap_or(usize::MAX)
    }

    /// The quantile `numerator / denominator` by nearest rank, within 0.1 %; absent without delays.
    pub(crate) fn quantile(&self, numerator: usize, denominator: usize) -> Option<u32> {
        if self.classes.is_empty() {
            return quantile(&self.exact, numerator, denominator);
        }
        let rank = (self.count() - 1) * numerator / denominator;
        let mut before = 0;
        let class = self.classes.iter().find(|(_, count)| {
            before += usize::try_from(**count).unwrap_or(usize::MAX);
            rank < before
        });
        class.map(|(class, _)| middle_of(*class))
    }
}

impl FromIterator<u32> for Delays {
    fn from_iter<I: IntoIterator<Item = u32>>(delays: I) -> Self {
        let mut all = Self::default();
        delays.into_iter().for_each(|us| all.add(us));
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn is_near(near: u32, exact: u32) -> bool {
        f64::from(near.abs_diff(exact)) <= f64::from(exact) * 0.001_1 + 1.0
    }

    #[test]
    fn few_delays_are_exact_and_none_has_no_quantile() {
        let few: Delays = [30, 10, 20].into_iter().collect();
        assert_eq!([0, 1, 2].map(|it| few.quantile(it, 2)), [Some(10), Some(20), Some(30)]);
        assert_eq!(Delays::default().quantile(1, 2), None);
    }

    #[test]
    fn the_largest_of_many_delays_count_as_much_as_the_smallest() {
        let many: Delays = (0..100).map(|n| if n < 40 { 10_000 } else { 50_000 }).collect();
        assert_eq!(many.count(), 100);
        assert!(is_near(many.quantile(1, 2).unwrap(), 50_000));
        assert!(is_near(many.quantile(1, 4).unwrap(), 10_000));
    }

    proptest! {
        #[test]
        fn order_and_division_do_not_matter_and_quantiles_are_within_a_thousandth(
            samples in prop::collection::vec(1u32..5_000_000, 1..200),
            cut in 0usize..200,
        ) {
            let whole: Delays = samples.iter().copied().collect();
            let reversed: Delays = samples.iter().rev().copied().collect();
            prop_assert_eq!(&whole, &reversed);
            let (a, b) = samples.split_at(cut.min(samples.len()));
            let parts: [Delays; 2] = [a, b].map(|part| part.iter().copied().collect());
            let merged = Delays::merged(&parts, []);
            prop_assert_eq!(merged.count(), samples.len());
            let mut sorted = samples;
            sorted.sort_unstable();
            for numerator in 0..=4 {
                let exact = quantile(&sorted, numerator, 4).unwrap();
                for counted in [&whole, &merged] {
                    let near = counted.quantile(numerator, 4).unwrap();
                    prop_assert!(is_near(near, exact), "{} for {}", near, exact);
                }
            }
        }
    }
}
