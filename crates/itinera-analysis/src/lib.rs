//! Judgement: from rounds to assessments, findings and alarms.
//!
//! This crate promises no sockets, no clock, no files and no chance: the same observations in
//! the same order with the same times give the same octets, on every machine. Transcendental
//! functions come from `libm`, sums run in a fixed order, and every score is quantised before it
//! leaves. It never sees a simulation's truth.

mod alarm;
pub mod both_ways;
pub mod complaint;
pub mod event;
mod history;
pub mod incident;
mod judge;
pub mod locate;
pub mod outward;
pub mod partners;
pub mod past;
pub mod remark;
pub mod roaming;
pub mod sentence;
pub mod stat;
pub mod voice;
pub mod watch;
pub mod weave;

pub use alarm::{AlarmBook, Limits};
pub use history::{WINDOW_US, Window};
pub use judge::{Effect, Judge, Observation};
pub use locate::ENGINE;
