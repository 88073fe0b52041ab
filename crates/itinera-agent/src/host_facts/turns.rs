//! When host facts are read: in turn, soon after something has changed, and again soon where they could not be read.

use std::time::Duration;
use tokio::time::Instant;

/// After the kernel has said that something changed, more of it follows.
const SETTLES: Duration = Duration::from_millis(500);
/// A kernel that says so without end is not asked more often than this.
const LEAST: Duration = Duration::from_secs(5);
/// What could not be read is read again after this time, so that a change is not reported a whole turn late.
const AGAIN: Duration = Duration::from_secs(15);
/// During a reading nothing is due before this time.
const DURING: Duration = Duration::from_secs(5);

/// The turns in which host facts are read.
#[derive(Debug)]
pub(crate) struct Turns {
    next: Instant,
    is_reading: bool,
    /// When they were read last.
    read: Option<Instant>,
}

impl Turns {
    /// The first reading is due at once.
    pub(crate) const fn new(now: Instant) -> Self {
        Self { next: now, is_reading: false, read: None }
    }

    /// When it is to be looked again whether a reading is due.
    pub(crate) fn next(&self, now: Instant) -> Instant {
        if self.is_reading { now + DURING } else { self.next }
    }

    /// Whether they have been read at all.
    pub(crate) const fn is_read(&self) -> bool {
        self.read.is_some()
    }

    /// Something has changed.
    pub(crate) fn on_change(&mut self, now: Instant) {
        let since = self.read.map_or(LEAST, |at| now.duration_since(at));
        self.next = self.next.min(now + SETTLES.max(LEAST.saturating_sub(since)));
    }

    /// Begins a reading where one is due; the next follows after so much time.
    pub(crate) fn begin(&mut self, now: Instant, every: Duration) -> bool {
        let begins = !self.is_reading && now >= self.next;
        if begins {
            self.is_reading = true;
            self.next = now + every;
        }
        begins
    }

    /// A reading has ended, with or without a result.
    pub(crate) fn end(&mut self, now: Instant, succeeded: bool) {
        self.is_reading = false;
        if succeeded {
            self.read = Some(now);
        } else {
            self.next = self.next.min(now + AGAIN);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const EVERY: Duration = Duration::from_secs(300);

    #[test]
    fn what_could_not_be_read_is_read_again_soon() {
        let now = Instant::now();
        let after = |s: f64| now + Duration::from_secs_f64(s);
        let mut turns = Turns::new(now);
        assert!(turns.begin(now, EVERY));
        turns.end(now, false);
        assert!(!turns.is_read());
        assert!(!turns.begin(after(14.9), EVERY));
        assert!(turns.begin(after(15.0), EVERY));
        turns.end(after(15.0), true);
        assert!(turns.is_read());
        assert_eq!(turns.next(after(15.0)), after(315.0));
    }

    #[test]
    fn a_change_is_read_soon_but_not_without_end() {
        let now = Instant::now();
        let after = |s: f64| now + Duration::from_secs_f64(s);
        let mut turns = Turns::new(now);
        assert!(turns.begin(now, EVERY));
        assert!(!turns.begin(now, EVERY), "one at a time");
        turns.end(now, true);
        turns.on_change(after(1.0));
        assert_eq!(turns.next(after(1.0)), after(5.0));
        turns.on_change(after(4.9));
        assert_eq!(turns.next(after(4.9)), after(5.0), "a later change does not put it off");
        assert!(turns.begin(after(5.0), EVERY));
        // A change during a reading is read after it, also where the reading fails.
        turns.on_change(after(5.2));
        turns.end(after(5.3), false);
        assert_eq!(turns.next(after(5.3)), after(5.7));
    }
}
