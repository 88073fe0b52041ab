//! Receivers of notices on the kernel's loopback: webhooks, mail and syslog. They keep what they receive,
//! and refuse, delay or redirect it where a test asks for that.

mod inbox;
mod mail;
mod syslog;
mod webhook;

pub use inbox::{Inbox, Received};
pub use mail::serve_mail;
pub use syslog::serve_syslog;
pub use webhook::{Secrets, serve_webhooks};

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// How a receiver treats what it is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Habit {
    /// It takes everything.
    Good,
    /// It refuses everything for good.
    Refusing,
    /// It refuses each notice once, for a moment.
    Greylisting,
    /// It takes everything after a pause.
    Slow(Duration),
    /// It sends the client elsewhere; a mail server has no such answer and refuses.
    Redirecting,
}

/// The habit of a receiver, which can be changed while it runs.
#[derive(Debug, Clone)]
pub struct HabitSwitch(Arc<Mutex<Habit>>);

impl From<Habit> for HabitSwitch {
    fn from(habit: Habit) -> Self {
        Self(Arc::new(Mutex::new(habit)))
    }
}

impl HabitSwitch {
    /// The habit now.
    pub fn now(&self) -> Habit {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes the habit.
    pub fn set(&self, habit: Habit) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = habit;
    }
}
