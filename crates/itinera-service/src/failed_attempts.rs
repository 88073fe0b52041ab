//! Limits how fast passwords can be guessed.

use crate::problem::ApiError;
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Wrong passwords for one name before it has to wait, and for how long.
const TRIES: usize = 8;
const TRIES_WITHIN: Duration = Duration::from_secs(300);
/// Names with remembered failed attempts.
const MAX_NAMES: usize = 10_000;

/// Wrong passwords by name, so that they cannot all be tried.
#[derive(Debug, Default)]
pub(crate) struct FailedAttempts(Mutex<BTreeMap<String, Vec<Instant>>>);

impl FailedAttempts {
    /// Refuses a name with too many wrong passwords.
    pub(crate) fn check(&self, name: &str, now: Instant) -> Result<(), ApiError> {
        let Ok(mut tries) = self.0.lock() else { return Ok(()) };
        let Some(recent) = tries.get_mut(name) else { return Ok(()) };
        recent.retain(|at| now.duration_since(*at) < TRIES_WITHIN);
        match recent.first() {
            Some(first) if recent.len() >= TRIES => {
                let left = TRIES_WITHIN.saturating_sub(now.duration_since(*first));
                Err(ApiError::TooManyAttempts(left.as_secs() + 1))
            }
            _ => Ok(()),
        }
    }

    /// Counts a wrong password.
    pub(crate) fn count(&self, name: &str, now: Instant) {
        let Ok(mut tries) = self.0.lock() else { return };
        if tries.len() >= MAX_NAMES {
            tries
                .retain(|_, at| at.last().is_some_and(|at| now.duration_since(*at) < TRIES_WITHIN));
        }
        if tries.len() < MAX_NAMES || tries.contains_key(name) {
            tries.entry(name.to_owned()).or_default().push(now);
        }
    }

    /// Forgets the failures of a name that signed in.
    pub(crate) fn forget(&self, name: &str) {
        if let Ok(mut tries) = self.0.lock() {
            tries.remove(name);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_locked_after_too_many_attempts_for_the_stated_time() {
        let (tries, start) = (FailedAttempts::default(), Instant::now());
        for _ in 0..TRIES {
            assert!(tries.check("ailsa", start).is_ok());
            tries.count("ailsa", start);
        }
        let refused = tries.check("ailsa", start + Duration::from_secs(100));
        assert!(matches!(refused, Err(ApiError::TooManyAttempts(201))), "{refused:?}");
        assert!(tries.check("bran", start).is_ok());
        assert!(tries.check("ailsa", start + TRIES_WITHIN).is_ok());
    }
}
