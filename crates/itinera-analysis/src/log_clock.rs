//! The clock of the log of commits: each entry has a time.

use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};

/// A log that is silent for longer was not written at that time: a minute. Agents and paths were
/// perhaps not silent.
const GAP_US: i64 = 60_000_000;
/// A clock that goes back by more than this was set: ten minutes.
const SET_BACK_US: i64 = 600_000_000;

/// The time of the log's newest entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(crate) struct LogClock {
    pub(crate) now: WallTime,
    /// Since when the log has been written without a gap.
    pub(crate) listening_since: WallTime,
}

impl LogClock {
    /// Takes the time of the next entry; true when the clock was set back. Else it never goes back:
    /// an entry that was set aside and judged later is judged at the present time.
    pub(crate) fn on_entry(&mut self, at: WallTime) -> bool {
        let forward_us = at.micros_since(self.now);
        if forward_us < -SET_BACK_US {
            (self.now, self.listening_since) = (at, at);
            return true;
        }
        if forward_us > GAP_US {
            self.listening_since = at;
        }
        self.now = self.now.max(at);
        false
    }

    /// How long something has been silent that was heard last at `heard`, in microseconds. Time in
    /// which the log was not written does not count.
    pub(crate) fn silence_us(&self, heard: WallTime) -> i64 {
        self.now.micros_since(heard.max(self.listening_since))
    }
}
