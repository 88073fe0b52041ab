//! The accuracy bench: worlds by seed, faults with their truth, candidates with the view of
//! agents, and scores.
//!
//! A [`Stage`] is a world with its agents, a [`Stretch`] one of its times; [`run_world`] runs it; a [`WorldRecord`]
//! is the result,
//! and records of any number of worlds add up to a
//! [`Report`]. Worlds are independent of each other, so they can be run in any order, on any
//! number of threads, in slices, with the same result on every machine (transcendental functions
//! come from `libm`). docs/accuracy.md describes the method.

#[cfg(test)]
mod adversaries;
mod archive;
mod atlas;
mod calibration;
mod cases;
mod cast;
mod chance;
mod cost;
mod coverage;
mod explain;
mod figures;
mod groups;
mod interval;
mod job;
mod memory;
mod oracle;
mod phantoms;
mod picture;
mod records;
mod report;
mod run;
mod setup;
mod stage;
mod stretch;
mod suite;
mod table;
mod verdict;
mod window;

pub use atlas::Edge;
pub use calibration::{Calibration, CalibrationError};
pub use cases::{Case, Effect, Kind, draw};
pub use cost::{Cost, Meter, costs};
pub use coverage::CoverageRecord;
pub use explain::{Explained, explain};
pub use itinera_candidates::roster;
pub use job::{Extent, Job};
pub use oracle::{LEARNED, ORACLE, SIZE_UNKNOWN};
pub use phantoms::PhantomRecord;
pub use records::CandidateRecord;
pub use report::{Interval, Report, report};
pub use run::{CaseRecord, Moment, Parts, RECORD_VERSION, Warm, WorldRecord, run_world};
pub use setup::{Setup, WINDOW_S};
pub use stage::Stage;
pub use stretch::Stretch;
pub use suite::Suite;
pub use table::table;
pub use verdict::{CaseScore, Traffic, Truth};
