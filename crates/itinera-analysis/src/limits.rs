//! Configured limits of alarms.

use serde::{Deserialize, Serialize};

/// The fixed limits and how long they must be exceeded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Limits {
    /// Carried loss from which an alarm is due, in parts per million.
    pub loss_ppm: u32,
    /// Added delay from which an alarm is due, in microseconds.
    pub added_delay_us: u32,
    /// Confidence a finding needs, in parts per million.
    pub confidence_ppm: u32,
    /// Windows (of ten seconds) in a row over the limit before it is raised.
    pub hold_windows: u32,
    /// Windows in a row without it before it clears.
    pub clear_windows: u32,
    /// Seconds after which a window is judged for alarms although its path has not yet reported
    /// past it.
    pub seal_after_s: u32,
    /// Seconds without measurements of its paths after which an alarm expires.
    pub expire_after_s: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            loss_ppm: 30_000,
            added_delay_us: 15_000,
            confidence_ppm: 900_000,
            hold_windows: 3,
            clear_windows: 3,
            seal_after_s: 15,
            expire_after_s: 1_800,
        }
    }
}
