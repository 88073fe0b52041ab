//! The accuracy bench: worlds by seed, faults with their truth, candidates with the view of
//! agents, and scores.
//!
//! A [`Stage`] is a world with its agents; [`run_world`] runs it; a [`WorldRecord`] is the result,
//! and records of any number of worlds add up to a
//! [`Report`]. Worlds are independent of each other, so they can be run in any order, on any
//! number of threads, in slices, with the same result on every machine (transcendental functions
//! come from `libm`). docs/accuracy.md describes the method.

#[cfg(test)]
mod adversaries;
mod atlas;
mod cases;
mod explain;
mod interval;
mod oracle;
mod phantoms;
mod picture;
mod report;
mod run;
mod setup;
mod stage;
mod suite;
mod table;
mod verdict;

pub use atlas::Edge;
pub use cases::{Case, Effect, Kind};
pub use explain::{Explained, explain};
pub use phantoms::PhantomRecord;
pub use report::{Interval, Report, report};
pub use run::{
    CaseRecord, Extent, Moment, ORACLE, RECORD_VERSION, Warm, WorldRecord, draw, run_world,
};
pub use setup::{Setup, WINDOW_S};
pub use stage::Stage;
pub use suite::{Job, Suite};
pub use table::table;
pub use verdict::{CaseScore, Traffic, Truth};
