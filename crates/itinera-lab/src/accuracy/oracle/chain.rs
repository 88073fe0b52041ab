//! A hidden level that stays, moves to its neighbours, or jumps, from window to window.
//!
//! Source: L. R. Rabiner, A tutorial on hidden Markov models (1989), sections III.A and V.A (scaling).

/// What moves a level.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Moves<const K: usize> {
    /// By level: the probability to move to one of its neighbours.
    pub(super) steps: [f64; K],
    /// The probability to jump.
    pub(super) jump: f64,
    /// Where jumps lead: probabilities.
    pub(super) target: [f64; K],
}

impl<const K: usize> Moves<K> {
    /// Where a level is one window later.
    pub(super) fn later(&self, level: &[f64; K]) -> [f64; K] {
        let whole: f64 = level.iter().sum();
        let mut later = std::array::from_fn(|k| {
            level[k] * (1.0 - self.jump - self.steps[k]) + whole * self.jump * self.target[k]
        });
        for (k, mass) in level.iter().enumerate() {
            let half = mass * self.steps[k] / 2.0;
            later[k.saturating_sub(1)] += half;
            later[(k + 1).min(K - 1)] += half;
        }
        later
    }

    /// By level: the mean of something over where it is one window later.
    pub(super) fn ahead(&self, of: &[f64; K]) -> [f64; K] {
        let jumped: f64 = of.iter().zip(&self.target).map(|(of, target)| of * target).sum();
        std::array::from_fn(|k| {
            let beside = of[k.saturating_sub(1)] + of[(k + 1).min(K - 1)];
            of[k] * (1.0 - self.jump - self.steps[k])
                + beside * self.steps[k] / 2.0
                + self.jump * jumped
        })
    }
}

/// Makes a sum one; gives its logarithm.
fn scale<const K: usize>(of: &mut [f64; K]) -> f64 {
    let sum: f64 = of.iter().sum();
    if sum <= 0.0 {
        // Nothing is likely: rounding has lost all. It is as good as the least that a float holds.
        *of = [1.0 / K as f64; K];
        return libm::log(f64::MIN_POSITIVE);
    }
    of.iter_mut().for_each(|it| *it /= sum);
    libm::log(sum)
}

/// The likelihood of what was observed, by level: these numbers times the exponential of a logarithm.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Likely<const K: usize> {
    at: [f64; K],
    log: f64,
}

impl<const K: usize> Likely<K> {
    pub(super) fn new(mut at: [f64; K]) -> Self {
        let log = scale(&mut at);
        Self { at, log }
    }

    /// Of logarithms, by level.
    pub(super) fn of_logs(logs: [f64; K]) -> Self {
        let most = logs.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let one = Self::new(logs.map(|log| libm::exp(log - most)));
        Self { log: one.log + most, ..one }
    }

    /// The likelihood of this and of something else that was observed.
    pub(super) fn and(self, other: Self) -> Self {
        let both = Self::new(std::array::from_fn(|k| self.at[k] * other.at[k]));
        Self { log: both.log + self.log + other.log, ..both }
    }
}

/// What a window gave; absent where it gave nothing.
pub(super) type Told<const K: usize> = Option<Likely<K>>;

/// Takes what a window gave, and moves to the next window; gives the logarithm of how likely it was.
pub(super) fn pass<const K: usize>(level: &mut [f64; K], moves: &Moves<K>, told: &Told<K>) -> f64 {
    let mut log = 0.0;
    if let Some(told) = told {
        level.iter_mut().zip(told.at).for_each(|(level, told)| *level *= told);
        log = scale(level) + told.log;
    }
    *level = moves.later(level);
    log
}

/// Levels before each of some windows, as these tell them.
#[derive(Debug, Clone)]
pub(super) struct Course<const K: usize> {
    /// Before each window.
    levels: Vec<[f64; K]>,
    /// The logarithm of how likely everything before each window was, and everything at last.
    likely: Vec<f64>,
}

impl<const K: usize> Course<K> {
    /// Follows a level from where it begins.
    pub(super) fn new(begins: [f64; K], moves: &Moves<K>, told: &[Told<K>]) -> Self {
        let (mut level, mut sum) = (begins, 0.0);
        let mut course = Self { levels: Vec::new(), likely: Vec::new() };
        for told in told {
            course.levels.push(level);
            course.likely.push(sum);
            sum += pass(&mut level, moves, told);
        }
        course.likely.push(sum);
        course
    }

    /// By window: log of how much likelier the data are where they are as `with` says from this window on, than as the
    /// course took them.
    pub(super) fn changed_from(&self, moves: &Moves<K>, with: &[Told<K>]) -> Vec<f64> {
        let whole = self.likely.last().copied().unwrap_or(0.0);
        let (mut ahead, mut sum) = ([1.0; K], 0.0);
        let mut ratios = vec![0.0; with.len()];
        for (window, told) in with.iter().enumerate().rev() {
            ahead = moves.ahead(&ahead);
            if let Some(told) = told {
                ahead.iter_mut().zip(told.at).for_each(|(ahead, told)| *ahead *= told);
                sum += scale(&mut ahead) + told.log;
            }
            let level = &self.levels[window];
            let here: f64 = level.iter().zip(&ahead).map(|(level, ahead)| level * ahead).sum();
            ratios[window] = self.likely[window] + libm::log(here) + sum - whole;
        }
        ratios
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MOVES: Moves<3> = Moves { steps: [0.1, 0.2, 0.3], jump: 0.05, target: [0.5, 0.3, 0.2] };
    const BEGINS: [f64; 3] = [0.6, 0.3, 0.1];

    fn of(at: [f64; 3]) -> Told<3> {
        Some(Likely::new(at))
    }

    fn told() -> Vec<Told<3>> {
        let twice = Likely::new([0.2, 0.8, 0.6]).and(Likely::new([0.5, 0.5, 0.5]));
        vec![of([0.5, 0.2, 0.01]), None, Some(twice), of([0.02, 0.1, 0.9])]
    }

    fn with() -> Vec<Told<3>> {
        vec![of([0.1, 0.2, 0.3]), None, of([0.7, 0.1, 0.2]), of([0.3, 0.3, 0.1])]
    }

    /// The sum over every course that levels can take.
    fn by_hand(told: &[Told<3>]) -> f64 {
        let moved = |from: usize, to: usize| {
            let mut at = [0.0; 3];
            at[from] = 1.0;
            MOVES.later(&at)[to]
        };
        let mut sum = 0.0;
        for course in 0..81_usize {
            let levels = [1, 3, 9, 27].map(|place| course / place % 3);
            let mut likely = BEGINS[levels[0]];
            for (window, told) in told.iter().enumerate() {
                likely *= told.map_or(1.0, |it| it.at[levels[window]] * libm::exp(it.log));
                if window + 1 < 4 {
                    likely *= moved(levels[window], levels[window + 1]);
                }
            }
            sum += likely;
        }
        sum
    }

    #[test]
    fn likelihoods_of_logs_are_those_of_numbers_however_small() {
        let of_logs = Likely::of_logs([-2_000.0, -2_001.0, -2_000.5]);
        let numbers = Likely::new([1.0, libm::exp(-1.0), libm::exp(-0.5)]);
        for (a, b) in of_logs.at.iter().zip(numbers.at) {
            assert!((a - b).abs() < 1e-12);
        }
        assert!((of_logs.log - (numbers.log - 2_000.0)).abs() < 1e-9);
    }

    #[test]
    fn moves_keep_the_whole_and_both_ways_are_one() {
        assert!((MOVES.later(&BEGINS).iter().sum::<f64>() - 1.0).abs() < 1e-12);
        let of = [0.3, 0.9, 0.2];
        let later: f64 = MOVES.later(&BEGINS).iter().zip(&of).map(|(a, b)| a * b).sum();
        let ahead: f64 = BEGINS.iter().zip(&MOVES.ahead(&of)).map(|(a, b)| a * b).sum();
        assert!((later - ahead).abs() < 1e-12);
    }

    #[test]
    fn ratios_are_those_of_the_sum_over_all_courses() {
        let (told, with) = (told(), with());
        let ratios = Course::new(BEGINS, &MOVES, &told).changed_from(&MOVES, &with);
        for (from, ratio) in ratios.iter().enumerate() {
            let mixed: Vec<Told<3>> = told[..from].iter().chain(&with[from..]).copied().collect();
            let expected = libm::log(by_hand(&mixed) / by_hand(&told));
            assert!((ratio - expected).abs() < 1e-9, "{from}: {ratio}, not {expected}");
        }
        let same = Course::new(BEGINS, &MOVES, &told).changed_from(&MOVES, &told);
        assert!(same.iter().all(|ratio| ratio.abs() < 1e-9), "{same:?}");
    }
}
