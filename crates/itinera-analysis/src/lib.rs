//! Judgement: from rounds to assessments, findings and alarms.
//!
//! This crate promises no sockets, no clock, no files and no chance: the same observations in
//! the same order with the same times give the same bytes, on every machine. Transcendental
//! functions come from `libm`, sums run in a fixed order, and every score is quantised before it
//! leaves. It never sees a simulation's truth.

mod alarm;
pub mod catalogue;
pub mod complaint;
pub mod correlation;
pub mod diagnosis;
pub mod event;
mod evidence;
pub mod incident;
pub mod inventory;
mod judge;
mod limits;
pub mod locate;
mod log_clock;
pub mod messages;
pub mod notes;
pub mod partners;
pub mod past;
pub mod responsible;
pub mod roaming;
pub mod rules;
pub mod self_alarm;
pub mod stat;
pub mod trial;
pub mod two_way;
pub mod voice;
pub mod watch;
pub mod weave;

pub use alarm::AlarmBook;
pub use evidence::{
    DirectionCounts, EvidenceError, HopSummary, HourBlock, MinuteSummary, PairCounts, PairEvidence,
    PublishedMinute, RouteSummary, WINDOW_US,
};
pub use judge::{
    AgentReport, Effect, Judge, JudgeInput, Observation, PairObservation, RebuildProgress,
    RebuildSources, Stage, UnreadableStage, minutes_to_rebuild, rounds_to_rebuild,
};
pub use limits::Limits;
pub use locate::ENGINE;
