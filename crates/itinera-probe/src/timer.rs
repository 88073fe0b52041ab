//! All timers of an engine in one small table.

use itinera_model::Tick;

/// What a timer is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Timer {
    /// The next round begins.
    Round,
    /// The next probe of the present round leaves.
    Probe,
    /// The oldest open round takes no more answers.
    Settle,
}

/// At most one deadline by timer.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct TimerTable([Option<Tick>; 3]);

impl TimerTable {
    pub(crate) const fn set(&mut self, timer: Timer, at: Option<Tick>) {
        self.0[timer as usize] = at;
    }

    pub(crate) fn is_due(&self, timer: Timer, now: Tick) -> bool {
        self.0[timer as usize].is_some_and(|at| at <= now)
    }

    pub(crate) const fn is_set(&self, timer: Timer) -> bool {
        self.0[timer as usize].is_some()
    }

    pub(crate) fn next(&self) -> Option<Tick> {
        self.0.iter().flatten().min().copied()
    }
}
