//! What two clocks can be to each other, by what passed between them.
//!
//! No packet arrives before it left: each one bounds the offset from one side. Over time the
//! bounds leave room for some straight lines only, and so bound the drift as well.
//!
//! Source: the convex bounds of Moon, Skelly and Towsley, "Estimation and removal of clock skew
//! from network delay measurements" (INFOCOM 1999), used from both directions.

use itinera_model::two_way::PeerClock;
use std::collections::VecDeque;

/// Rounds remembered; of older ones every second is forgotten when there are more.
const MAX_BOUNDS: usize = 64;
const RECENT: usize = 16;
/// For so long a clock's drift is taken to be one, in nanoseconds.
const STEADY: i64 = 3_600_000_000_000;
/// No clock in use drifts faster, in parts per unit (RFC 5905 section 7.1 assumes 15e-6).
const MOST_DRIFT: f64 = 500e-6;
/// A drift is reported once it is known to less than this.
const TELLING_DRIFT: f64 = 100e-6;

/// A bound of the offset (peer's clock minus ours) in nanoseconds, and when by our clock.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Bound {
    pub(super) at: i64,
    pub(super) nanos: i64,
}

/// The bounds of recent rounds.
#[derive(Debug, Clone, Default)]
pub(super) struct PeerClocks {
    rounds: VecDeque<(Bound, Bound)>,
}

impl PeerClocks {
    /// Regards one round: the offset is no less than `low`, and no more than `high`.
    pub(super) fn regard(&mut self, low: Bound, high: Bound) -> PeerClock {
        self.rounds.push_back((low, high));
        self.rounds.retain(|(before, _)| low.at.saturating_sub(before.at) < STEADY);
        if self.rounds.len() > MAX_BOUNDS {
            let mut nth = 0;
            self.rounds.retain(|_| {
                nth += 1;
                nth % 2 == 1 || nth > MAX_BOUNDS - RECENT
            });
        }
        let (mut slowest, mut fastest) = self.drift();
        // No straight line goes through: a clock was set.
        let stepped = slowest > fastest;
        if stepped {
            self.rounds.drain(..self.rounds.len() - 1);
            (slowest, fastest) = (-MOST_DRIFT, MOST_DRIFT);
        }
        let now = low.at.max(high.at);
        let lows = self.rounds.iter().map(|(low, _)| moved(*low, slowest, now));
        let highs = self.rounds.iter().map(|(_, high)| moved(*high, fastest, now));
        let low = lows.fold(f64::NEG_INFINITY, f64::max);
        let high = highs.fold(f64::INFINITY, f64::min).max(low);
        let is_known = fastest - slowest < TELLING_DRIFT;
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "bounded above; float to integer casts saturate"
        )]
        PeerClock {
            offset_us: libm::round((low + high) / 2e3) as i64,
            offset_error_us: libm::ceil((high - low) / 2e3) as u32,
            drift_ppb: is_known.then(|| libm::round((slowest + fastest) / 2.0 * 1e9) as i32),
            drift_error_ppb: is_known.then(|| libm::ceil((fastest - slowest) / 2.0 * 1e9) as u32),
            stepped,
        }
    }

    /// The slowest and the fastest drift that the bounds leave room for.
    fn drift(&self) -> (f64, f64) {
        let (mut slowest, mut fastest) = (-MOST_DRIFT, MOST_DRIFT);
        for (low, _) in &self.rounds {
            for (_, high) in &self.rounds {
                let (apart, rise) = (span(low.at, high.at), span(low.nanos, high.nanos));
                if apart > 0.0 {
                    slowest = slowest.max(rise / apart);
                } else if apart < 0.0 {
                    fastest = fastest.min(rise / apart);
                } else if rise > 0.0 {
                    (slowest, fastest) = (f64::INFINITY, f64::NEG_INFINITY);
                }
            }
        }
        (slowest, fastest)
    }
}

#[allow(clippy::cast_precision_loss, reason = "spans of minutes and milliseconds are small")]
fn span(later: i64, earlier: i64) -> f64 {
    later.saturating_sub(earlier) as f64
}

fn moved(bound: Bound, drift: f64, now: i64) -> f64 {
    span(bound.nanos, 0) + span(now, bound.at) * drift
}
