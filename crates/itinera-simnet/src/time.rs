//! Times of scenario files as ticks.

use itinera_model::unit::Tick;

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "checked as finite and not negative when the scenario was read; casts saturate"
)]
pub(crate) fn nanos(ms: f64) -> u64 {
    (ms * 1e6) as u64
}

/// A time in seconds after the start.
pub(crate) fn ticks(s: f64) -> Tick {
    Tick::from_nanos(nanos(s * 1e3))
}
