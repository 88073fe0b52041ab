//! The service's clock: the machine's, but not at once where that is set; or one that is moved by hand,
//! where a past is made.
//!
//! The clock orders receipt and is what rounds are dated by. A clock that is set a day ahead and
//! back again must not date a day of rounds to the future. So a step against the monotonic clock is
//! followed only when it lasts.

use itinera_model::unit::WallTime;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};
use time::OffsetDateTime;

/// A difference that slewing and suspending do not explain.
const STEP: time::Duration = time::Duration::seconds(5);
/// A step is followed when it has lasted this long.
const LASTS: Duration = Duration::from_secs(600);

#[derive(Debug)]
struct State {
    /// The reading that is believed: both clocks at one moment.
    base: (Instant, OffsetDateTime),
    /// Since when, and from where to where, the machine's clock says otherwise.
    stepped: Option<(Instant, time::Duration)>,
}

/// The clock. All of one service share it.
#[derive(Debug)]
pub(crate) struct ServiceClock(Source);

#[derive(Debug)]
enum Source {
    Machine(Mutex<State>),
    Set(Mutex<OffsetDateTime>),
}

impl ServiceClock {
    /// Begins with what the machine says.
    pub(crate) fn new() -> Self {
        Self::at(Instant::now(), OffsetDateTime::now_utc())
    }

    /// Stands still until it is set.
    pub(crate) const fn standing(at: OffsetDateTime) -> Self {
        Self(Source::Set(Mutex::new(at)))
    }

    const fn at(now: Instant, wall: OffsetDateTime) -> Self {
        Self(Source::Machine(Mutex::new(State { base: (now, wall), stepped: None })))
    }

    /// Sets a clock that stands still; another stays as it is.
    pub(crate) fn set(&self, at: OffsetDateTime) {
        if let Source::Set(time) = &self.0 {
            *time.lock().unwrap_or_else(PoisonError::into_inner) = at;
        }
    }

    /// The time.
    pub(crate) fn now(&self) -> OffsetDateTime {
        self.read(Instant::now(), OffsetDateTime::now_utc())
    }

    /// The time, as rounds have it.
    pub(crate) fn wall_now(&self) -> WallTime {
        self.now().into()
    }

    fn read(&self, now: Instant, wall: OffsetDateTime) -> OffsetDateTime {
        let state = match &self.0 {
            Source::Set(time) => return *time.lock().unwrap_or_else(PoisonError::into_inner),
            Source::Machine(state) => state,
        };
        let mut state = state.lock().unwrap_or_else(PoisonError::into_inner);
        let (base, believed) = state.base;
        let expected = believed + now.saturating_duration_since(base);
        let step = wall - expected;
        if step.abs() < STEP {
            state.base = (now, wall);
            state.stepped = None;
            return wall;
        }
        match state.stepped {
            Some((since, known)) if (step - known).abs() < STEP => {
                if now.saturating_duration_since(since) < LASTS {
                    return expected;
                }
                tracing::warn!(by_s = step.whole_seconds(), "the machine's clock is followed");
                state.base = (now, wall);
                state.stepped = None;
                wall
            }
            _ => {
                tracing::warn!(
                    by_s = step.whole_seconds(),
                    "the machine's clock was set; it is followed when that has lasted {} s",
                    LASTS.as_secs()
                );
                state.stepped = Some((now, step));
                expected
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_forward_and_back_moves_nothing_and_one_that_lasts_is_followed() {
        let (start, begin) = (Instant::now(), OffsetDateTime::UNIX_EPOCH);
        let clock = ServiceClock::at(start, begin);
        let day = 86_400;
        // Seconds since the start; by how much the machine's clock is set then; what is said.
        let readings = [
            (60, 0, 60),
            (70, day, 70),
            (300, day, 300),
            (310, 0, 310),
            (400, -day, 400),
            (900, -day, 900),
            (1_001, -day, 1_001 - day),
            (1_010, -day, 1_010 - day),
            (1_020, -day + 3, 1_023 - day),
        ];
        for (second, set, said) in readings {
            let now = start + Duration::from_secs(second);
            let wall = begin + Duration::from_secs(second) + time::Duration::seconds(set);
            let read = clock.read(now, wall);
            assert_eq!((read - begin).whole_seconds(), said, "after {second} s");
        }
    }

    #[test]
    fn a_standing_clock_says_what_it_was_set_to() {
        let clock = ServiceClock::standing(OffsetDateTime::UNIX_EPOCH);
        assert_eq!(clock.now(), OffsetDateTime::UNIX_EPOCH);
        let later = OffsetDateTime::UNIX_EPOCH + Duration::from_secs(90);
        clock.set(later);
        assert_eq!(clock.now(), later);
    }
}
