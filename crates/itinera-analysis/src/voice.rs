//! How a conversation sounds over both directions between two agents: the E-model of ITU-T G.107
//! (06/2015), with every parameter at its default (table 3 there) but those that are measured.
//!
//! The codec is G.711 with packet loss concealment (`Ie` 0, `Bpl` 25.1: ITU-T G.113, appendix I)
//! in packets of 20 ms. The delay from mouth to ear is one packet, half of the round trip, and a
//! buffer as long as the delay varies.

use itinera_model::note::{Note, VoiceRating};
use itinera_model::quantile::median;
use itinera_model::two_way::{Fitness, TwoWayRound};

/// Milliseconds of speech in a packet.
const PACKET_MS: f64 = 20.0;
/// Impairment of the codec, and how well it bears loss.
const IE: f64 = 0.0;
const BPL: f64 = 25.1;
/// From this rating factor on users are satisfied, and from this on only some complain (ITU-T
/// G.109, table 1).
const FIT: f64 = 80.0;
const STRAINED: f64 = 70.0;

/// How one direction sounds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VoiceQuality {
    /// Rating factor R, 0 to 93.2.
    pub r: f64,
    /// Mean opinion score, 1 to 4.5 (G.107 annex B).
    pub mos: f64,
    /// In a word.
    pub fitness: Fitness,
    /// Milliseconds from mouth to ear that it was computed with.
    pub delay_ms: f64,
    /// Share of packets lost or too late for the buffer.
    pub loss_ratio: f64,
    /// Mean length of bursts of loss over that of as much random loss.
    pub burst_ratio: f64,
}

/// The impairments that do not depend on what is measured: Ro - Is at the defaults.
const RO_LESS_IS: f64 = 94.77 - 1.41;

/// The impairment by delay `Id` (G.107 clause 7.4) at the default echo losses, for `ta` milliseconds
/// one direction.
fn impairment_by_delay(ta: f64) -> f64 {
    let (telr, wepl, no, rlr, ro) = (65.0, 110.0, -61.18, 2.0, 94.77);
    // Echo of the talker.
    let tervs = telr - 40.0 * libm::log10((1.0 + ta / 10.0) / (1.0 + ta / 150.0))
        + 6.0 * libm::exp(-0.3 * ta * ta);
    let (roe, re) = (-1.5 * (no - rlr), 80.0 + 2.5 * (tervs - 14.0));
    let half = (roe - re) / 2.0;
    let talker = (half + libm::sqrt(half * half + 100.0) - 1.0) * (1.0 - libm::exp(-ta));
    // Echo of the listener; the round trip is twice the one-way delay.
    let rle = 10.5 * (wepl + 7.0) * libm::pow(2.0 * ta + 1.0, -0.25);
    let half = (ro - rle) / 2.0;
    let listener = half + libm::sqrt(half * half + 169.0);
    // Delay by itself.
    let long = if ta <= 100.0 {
        0.0
    } else {
        let x = libm::log2(ta / 100.0);
        let root = |v: f64| libm::pow(1.0 + libm::pow(v, 6.0), 1.0 / 6.0);
        25.0 * (root(x) - 3.0 * root(x / 3.0) + 2.0)
    };
    talker + listener + long
}

/// How it sounds with so much delay, loss and burstiness.
pub fn heard(delay_ms: f64, loss_ratio: f64, burst_ratio: f64) -> VoiceQuality {
    let lost = (loss_ratio * 100.0).clamp(0.0, 100.0);
    let burst_ratio = burst_ratio.max(1.0);
    // Effective equipment impairment (clause 7.5).
    let by_loss = IE + (95.0 - IE) * lost / (lost / burst_ratio + BPL);
    let r = (RO_LESS_IS - impairment_by_delay(delay_ms.max(0.0)) - by_loss).clamp(0.0, 100.0);
    let mos = if r <= 0.0 {
        1.0
    } else {
        (1.0 + 0.035 * r + r * (r - 60.0) * (100.0 - r) * 7e-6).clamp(1.0, 4.5)
    };
    let fitness = match r {
        r if r >= FIT => Fitness::Fit,
        r if r >= STRAINED => Fitness::Strained,
        _ => Fitness::Unfit,
    };
    VoiceQuality { r, mos, fitness, delay_ms, loss_ratio, burst_ratio }
}

/// Ratings of both directions, forward and return, over rounds of a voice-like stream; absent without
/// an answered packet.
pub fn of_rounds(rounds: &[&TwoWayRound]) -> Option<[VoiceQuality; 2]> {
    let trips = rounds.iter().filter_map(|round| round.round_trip_us.map(|[_, middle, _]| middle));
    let trip = median(trips)?;
    let burst = burst_ratio(rounds);
    let direction = |back: bool| {
        let directions =
            rounds.iter().map(|round| if back { &round.return_ } else { &round.forward });
        let lost: u32 = directions.clone().map(|one| u32::from(one.lost)).sum();
        let arrived: u32 = directions.clone().map(|one| u32::from(one.arrived)).sum();
        let buffer = median(directions.filter_map(|one| Some(one.delay?.p95_us))).unwrap_or(0);
        let delay_ms = PACKET_MS + f64::from(trip) / 2e3 + f64::from(buffer) / 1e3;
        // The buffer holds 95 of a hundred; the rest comes too late to be heard.
        let late = f64::from(arrived) * if buffer > 0 { 0.05 } else { 0.0 };
        let late = if f64::from(buffer) < PACKET_MS * 1e3 { 0.0 } else { late };
        let all = f64::from(lost + arrived).max(1.0);
        heard(delay_ms, (f64::from(lost) + late) / all, burst)
    };
    Some([direction(false), direction(true)])
}

/// The mean length of runs of unanswered packets over that of as many lost at random.
fn burst_ratio(rounds: &[&TwoWayRound]) -> f64 {
    let sum = |of: fn(&TwoWayRound) -> u16| -> f64 {
        rounds.iter().map(|round| f64::from(of(round))).sum()
    };
    let (sent, bursts) = (sum(|round| round.sent), sum(|round| round.bursts));
    let unanswered = sum(|round| round.forward.lost + round.return_.lost + round.undetermined);
    if bursts < 1.0 || sent <= unanswered {
        return 1.0;
    }
    let share = unanswered / sent;
    (unanswered / bursts) * (1.0 - share)
}

/// The rating of the direction `from` one site `to` another.
pub fn note(from: &str, to: &str, heard: &VoiceQuality) -> Note {
    let VoiceQuality { r, mos, fitness, delay_ms, loss_ratio, burst_ratio } = *heard;
    let (from, to) = (from.to_owned(), to.to_owned());
    Note::VoiceRated(VoiceRating { from, to, fitness, r, mos, delay_ms, loss_ratio, burst_ratio })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_models_own_figures_come_out() {
        // G.107: R is 93.2 with every parameter at its default; annex B gives its MOS.
        let best = heard(0.0, 0.0, 1.0);
        assert!((best.r - 93.2).abs() < 0.05, "{best:?}");
        assert!((best.mos - 4.41).abs() < 0.01, "{best:?}");
        // G.113 appendix I: 2 % of random loss cost 95 * 2 / (2 + 25.1).
        let lossy = heard(0.0, 0.02, 1.0);
        assert!((best.r - lossy.r - 7.01).abs() < 0.01, "{lossy:?}");
        // Clause 7.4: delay by itself begins to count at 100 ms; 400 ms cost about 24 more.
        let gap = heard(100.0, 0.0, 1.0).r - heard(400.0, 0.0, 1.0).r;
        assert!((20.0..35.0).contains(&gap), "{gap}");
    }

    #[test]
    fn more_delay_loss_or_burstiness_never_sounds_better() {
        let mut last = f64::INFINITY;
        for ms in 0..80 {
            let r = heard(f64::from(ms) * 10.0, 0.01, 1.0).r;
            assert!(r <= last + 1e-9, "at {ms}0 ms: {r} after {last}");
            last = r;
        }
        for loss in 1..50 {
            let loss = f64::from(loss) / 100.0;
            assert!(heard(50.0, loss, 3.0).r < heard(50.0, loss, 1.0).r, "bursts at {loss}");
            assert!(heard(50.0, loss, 1.0).r < heard(50.0, loss - 0.01, 1.0).r);
        }
        assert_eq!(heard(3_000.0, 1.0, 9.0).mos, 1.0);
        assert_eq!(heard(60.0, 0.0, 1.0).fitness, Fitness::Fit);
        assert_eq!(heard(60.0, 0.05, 2.0).fitness, Fitness::Strained);
        assert_eq!(heard(60.0, 0.30, 2.0).fitness, Fitness::Unfit);
    }
}
