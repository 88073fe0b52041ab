//! Chance by counting, and what changes by itself with time: loads by the hour of the week,
//! spells of loss, moods of routers.
//!
//! Everything is a function of seed, thing and time, never of what was asked before. So a world
//! with a fault differs from the same world without it in nothing but the fault, and packet by
//! packet and the closed form go through the same life.

use itinera_model::unit::Tick;
use serde::Deserialize;

/// Spells and moods hold for so long.
pub const EPOCH_NANOS: u64 = 10_000_000_000;
const HOUR_NANOS: f64 = 3.6e12;
/// Load wanders between knots so far apart.
const KNOT_HOURS: f64 = 1.0 / 12.0;
const HOURS_A_WEEK: f64 = 168.0;
const WEEKEND_FROM_HOUR: f64 = 120.0;
/// Load of a weekend day against a working day's.
const WEEKEND: f64 = 0.6;
const SPREAD_BY_DAY: f64 = 0.3;
const SPREAD_BY_KNOT: f64 = 0.15;
/// A router in the mood for its habits keeps it for so long, in epochs.
const MOOD_EPOCHS: u64 = 90;

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
    pub(crate) const MOOD: u64 = 4;
    pub(crate) const FAULT_SPELL: u64 = 5;
    pub(crate) const MEMBER: u64 = 6;
    pub(crate) const ROUND: u64 = 7;
    pub(crate) const PAIR: u64 = 8;
    pub(crate) const PACKET: u64 = 9;
    pub(crate) const POLICY: u64 = 10;
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

/// Loss by spells of ten seconds.
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

/// Whether something that holds for a share of all spells does so now.
pub(crate) fn in_spell(of: Draws, share: f64, at: Tick) -> bool {
    of.under(epoch_of(at)).unit() < share
}

/// Whether a router follows its habits now; they come and go by quarters of an hour.
pub(crate) fn in_the_mood(of: Draws, share: f64, at: Tick) -> bool {
    share >= 1.0 || of.under(purpose::MOOD).under(epoch_of(at) / MOOD_EPOCHS).unit() < share
}

#[cfg(test)]
mod tests {
    use super::*;

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
        let spells = (0..20_000u64).filter(|epoch| {
            in_spell(Draws::of([1, purpose::SPELL]), 0.1, Tick::from_nanos(epoch * EPOCH_NANOS))
        });
        assert!((1_850..2_150).contains(&spells.count()));
        let within = |nanos| in_spell(Draws::of([1]), 0.5, Tick::from_nanos(nanos));
        assert_eq!(within(0), within(EPOCH_NANOS - 1));
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
