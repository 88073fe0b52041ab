//! Chance by counting, and what changes by itself with time: loads by the hour of the week,
//! spells of loss, habits of routers.
//!
//! Everything is a function of seed, thing and time, never of what was asked before. So a world
//! with a fault differs from the same world without it in nothing but the fault, and packet by
//! packet and the closed form go through the same life.

use itinera_model::unit::Tick;
use serde::Deserialize;

/// States hold for so long at least; spells and habits last for several of these.
const EPOCH_NANOS: u64 = 2_000_000_000;
const HOUR_NANOS: f64 = 3.6e12;
/// Load wanders between knots so far apart.
const KNOT_HOURS: f64 = 1.0 / 12.0;
const HOURS_A_WEEK: f64 = 168.0;
const WEEKEND_FROM_HOUR: f64 = 120.0;
/// Load of a weekend day against a working day's.
const WEEKEND: f64 = 0.6;
const SPREAD_BY_DAY: f64 = 0.3;
const SPREAD_BY_KNOT: f64 = 0.15;
/// How long spells last, in epochs: 2 to 32 seconds.
const SPELL_EPOCHS: [u64; 5] = [1, 2, 4, 8, 16];
/// A router keeps or leaves its habits for so long, in epochs: 5 to 30 minutes.
const HABIT_EPOCHS: std::ops::Range<u64> = 150..900;
/// A rate-limiting router draws its share again this often, in epochs: a minute.
const RATE_LIMIT_EPOCHS: u64 = 30;

/// A stream of random words that is a function of what names it.
///
/// Source: G. L. Steele, D. Lea, C. H. Flood, Fast splittable pseudorandom number generators
/// (2014), SplitMix64.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Draws(u64);

const fn mixed(word: u64) -> u64 {
    let word = (word ^ (word >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let word = (word ^ (word >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    word ^ (word >> 31)
}

impl Draws {
    const STEP: u64 = 0x9e37_79b9_7f4a_7c15;

    pub(crate) fn of<const N: usize>(names: [u64; N]) -> Self {
        let fold = |state: u64, name: u64| mixed(state.wrapping_add(Self::STEP) ^ mixed(name));
        Self(names.into_iter().fold(0, fold))
    }

    /// The stream that this one names together with another number.
    pub(crate) const fn under(self, name: u64) -> Self {
        Self(mixed(self.0 ^ name.wrapping_mul(Self::STEP)))
    }

    pub(crate) const fn word(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(Self::STEP);
        mixed(self.0)
    }

    /// 32 random bits.
    #[allow(clippy::cast_possible_truncation, reason = "the upper half of a word")]
    pub(crate) const fn bits(&mut self) -> u32 {
        (self.word() >> 32) as u32
    }

    /// Uniform in 0..1.
    #[allow(clippy::cast_precision_loss, reason = "53 bits")]
    pub(crate) fn unit(&mut self) -> f64 {
        (self.word() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Exponential of this mean.
    pub(crate) fn exponential(&mut self, mean: f64) -> f64 {
        -libm::log1p(-self.unit()) * mean
    }

    /// Standard normal, by the sum of twelve uniforms.
    fn normal(&mut self) -> f64 {
        (0..12).map(|_| self.unit()).sum::<f64>() - 6.0
    }
}

/// Which purpose a stream serves, so that no two share one.
pub(crate) mod purpose {
    pub(crate) const DAY: u64 = 1;
    pub(crate) const KNOT: u64 = 2;
    pub(crate) const SPELL: u64 = 3;
    pub(crate) const HABIT: u64 = 4;
    pub(crate) const FAULT_SPELL: u64 = 5;
    pub(crate) const MEMBER: u64 = 6;
    pub(crate) const ROUND: u64 = 7;
    pub(crate) const PAIR: u64 = 8;
    pub(crate) const PACKET: u64 = 9;
    pub(crate) const POLICY: u64 = 10;
    pub(crate) const RATE_LIMIT: u64 = 11;
    pub(crate) const TURN: u64 = 12;
    pub(crate) const BRANCH: u64 = 13;
}

/// A queue that fills by the hour of the day.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Daily {
    /// What it adds at the busiest hour of a usual working day.
    pub(crate) peak_ms: f64,
    /// What it loses then.
    #[serde(default)]
    pub(crate) loss: f64,
    /// The busiest hour, 0 to 24.
    pub(crate) peak_hour: f64,
}

/// Loss by spells: of 2, 4, 8, 16 or 32 seconds, by link.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Spells {
    /// Share of spells that lose.
    pub(crate) share: f64,
    /// Share of packets lost in these.
    pub(crate) loss: f64,
}

/// Hour of the week at a tick, when tick zero is at `start`.
#[allow(clippy::cast_precision_loss, reason = "weeks of nanoseconds stay below 2^52 milliseconds")]
pub(crate) fn hours(start: f64, at: Tick) -> f64 {
    start + at.as_nanos() as f64 / HOUR_NANOS
}

impl Daily {
    /// Share of a usual working day's peak, at an hour counted from a Monday.
    pub(crate) fn load(&self, of: Draws, hour: f64) -> f64 {
        let turn = (hour - self.peak_hour) / 24.0 * std::f64::consts::TAU;
        let shape = libm::pow(0.5 + 0.5 * libm::cos(turn), 3.0);
        let weekend = hour.rem_euclid(HOURS_A_WEEK) >= WEEKEND_FROM_HOUR;
        let by_day = of.under(purpose::DAY).under(number((hour / 24.0).floor())).normal();
        let (knot, within) = ((hour / KNOT_HOURS).floor(), (hour / KNOT_HOURS).fract());
        let at_knot = |knot: f64| of.under(purpose::KNOT).under(number(knot)).normal();
        let by_knot = at_knot(knot) * (1.0 - within) + at_knot(knot + 1.0) * within;
        let factor = libm::exp(SPREAD_BY_DAY * by_day + SPREAD_BY_KNOT * by_knot);
        shape * factor * if weekend { WEEKEND } else { 1.0 }
    }
}

#[allow(clippy::cast_possible_truncation, reason = "days and knots")]
const fn number(whole: f64) -> u64 {
    (whole as i64).cast_unsigned()
}

pub(crate) const fn epoch_of(at: Tick) -> u64 {
    at.as_nanos() / EPOCH_NANOS
}

/// When the epoch of a time began.
pub(crate) const fn epoch_begin(at: Tick) -> Tick {
    Tick::from_nanos(epoch_of(at) * EPOCH_NANOS)
}

/// The number of a turn of so many epochs. Each stream takes its turns at moments of its own, so that the time
/// alone tells nothing of any of them.
const fn turn_of(of: Draws, epochs: u64, at: Tick) -> u64 {
    let mut own = of.under(purpose::TURN);
    (epoch_of(at) + own.word() % epochs) / epochs
}

/// The number of the spell of a stream at a time; its spells are equally long.
const fn spell_of(of: Draws, at: Tick) -> u64 {
    let mut own = of.under(purpose::SPELL);
    let [one, two, three, four, five] = SPELL_EPOCHS;
    let epochs = match own.word() % 5 {
        0 => one,
        1 => two,
        2 => three,
        3 => four,
        _ => five,
    };
    turn_of(of, epochs, at)
}

/// Whether something that holds for a share of all spells does so now.
pub(crate) fn in_spell(of: Draws, share: f64, at: Tick) -> bool {
    share >= 1.0 || of.under(spell_of(of, at)).unit() < share
}

/// The spells of faults that begin together: these come and go together.
pub(crate) fn fault_spells(seed: u64, begins: Tick) -> Draws {
    Draws::of([seed, begins.as_nanos()]).under(purpose::FAULT_SPELL)
}

/// The number of the spell, at a time, of faults that begin together.
pub fn fault_spell(seed: u64, begins: Tick, at: Tick) -> u64 {
    spell_of(fault_spells(seed, begins), at)
}

/// Whether a router follows its habits now. Each router changes between both at moments of its own.
pub(crate) fn follows_habits(of: Draws, share: f64, at: Tick) -> bool {
    let of = of.under(purpose::HABIT);
    let (mut own, range) = (of, HABIT_EPOCHS);
    let epochs = range.start + own.word() % (range.end - range.start);
    share >= 1.0 || of.under(turn_of(of, epochs, at)).unit() < share
}

/// The share of answers, between bounds, that a router refuses at a time.
pub(crate) fn rate_limiting_share(of: Draws, bounds: [f64; 2], at: Tick) -> f64 {
    let of = of.under(purpose::RATE_LIMIT);
    let share = of.under(turn_of(of, RATE_LIMIT_EPOCHS, at)).unit();
    bounds[0] + (bounds[1] - bounds[0]) * share
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    const LINE: Daily = Daily { peak_ms: 10.0, loss: 0.0, peak_hour: 20.0 };

    fn mean_load(hours: impl Iterator<Item = f64>) -> f64 {
        let loads: Vec<f64> = hours
            .flat_map(|hour| (0..40).map(move |line| LINE.load(Draws::of([line]), hour)))
            .collect();
        loads.iter().sum::<f64>() / loads.len() as f64
    }

    #[test]
    fn load_peaks_at_its_hour_and_rests_at_weekends() {
        let at = |hour: f64| mean_load((0..5).map(|day| f64::from(day) * 24.0 + hour));
        assert!(at(20.0) > 0.9 && at(8.0) < 0.05 && at(17.0) < at(19.0));
        let weekend = mean_load([140.0, 164.0].into_iter());
        assert!((0.5..0.75).contains(&(weekend / at(20.0))), "{weekend}");
    }

    #[test]
    fn load_is_a_function_of_its_time_and_wanders_slowly() {
        let of = Draws::of([7, 3]);
        let apart = |minutes: f64| LINE.load(of, 20.0 + minutes / 60.0) - LINE.load(of, 20.0);
        assert!(apart(0.0).abs() < f64::EPSILON && apart(0.1).abs() < 0.05);
        assert!(apart(0.1).abs() > 0.0);
    }

    #[test]
    fn spells_come_as_often_as_they_should() {
        let at = |epoch: u64| Tick::from_nanos(epoch * EPOCH_NANOS);
        let of_link =
            |link| (0..4_000).filter(move |epoch| in_spell(Draws::of([link]), 0.1, at(*epoch)));
        let spells: usize = (0..40).map(|link| of_link(link).count()).sum();
        assert!((14_500..17_500).contains(&spells), "{spells} of 160,000");
        let within = |nanos| in_spell(Draws::of([1]), 0.5, Tick::from_nanos(nanos));
        assert_eq!(within(0), within(EPOCH_NANOS - 1));
    }

    /// The times at which something changes within some hours, in epochs.
    fn changes<T: PartialEq>(hours: u64, of: impl Fn(Tick) -> T) -> Vec<u64> {
        let epochs = 1..hours * 1_800;
        let at = |epoch: u64| of(Tick::from_nanos(epoch * EPOCH_NANOS));
        epochs.filter(|epoch| at(*epoch) != at(*epoch - 1)).collect()
    }

    #[test]
    fn no_two_streams_change_at_the_same_moments() {
        let habits = |node| changes(30, |at| follows_habits(Draws::of([1, node]), 0.5, at));
        let shares =
            |node| changes(1, |at| rate_limiting_share(Draws::of([1, node]), [0.1, 0.9], at));
        let mut moments = [BTreeSet::new(), BTreeSet::new()];
        for node in 0..20 {
            let (habits, shares) = (habits(node), shares(node));
            assert!((10..200).contains(&habits.len()), "5 to 30 minutes each: {}", habits.len());
            assert!(shares.len() >= 58, "a minute each: {}", shares.len());
            moments[0].insert(habits[0] % 150);
            moments[1].insert(shares[0] % 30);
        }
        assert!(moments.iter().all(|own| own.len() > 9), "{moments:?}");
    }

    #[test]
    fn spells_are_shorter_and_longer_than_a_window_and_those_of_one_fault_are_one() {
        let lengths = |of: Draws| {
            let ends = changes(1, |at| spell_of(of, at));
            ends[1] - ends[0]
        };
        let known: BTreeSet<u64> = (0..60).map(|link| lengths(Draws::of([link]))).collect();
        assert_eq!(known, BTreeSet::from(SPELL_EPOCHS));
        let of = |begins| changes(1, |at| fault_spell(3, Tick::from_millis(begins), at));
        assert_eq!(of(5), of(5));
        assert!((0..8).any(|begins| of(begins) != of(5)));
    }

    #[test]
    fn streams_are_uniform_and_their_own() {
        let mean = |mut draws: Draws| (0..10_000).map(|_| draws.unit()).sum::<f64>() / 10_000.0;
        for name in 0..20 {
            assert!((mean(Draws::of([name, 5])) - 0.5).abs() < 0.015);
        }
        assert_ne!(Draws::of([1, 2]).word(), Draws::of([2, 1]).word());
        assert_ne!(Draws::of([1]).under(2).word(), Draws::of([1]).under(3).word());
    }
}
