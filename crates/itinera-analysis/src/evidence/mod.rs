//! Evidence: what paths showed, by window of time.
//!
//! Judgement adds rounds to windows of ten seconds. A minute is published when its windows are sealed;
//! after a day minutes are summed up in blocks of an hour. All that is judged is computed from
//! evidence.

mod delays;
mod encoding;
mod hour;
mod kept;
mod minute;
mod pair;
mod summary;
#[cfg(test)]
mod tests;
mod window;

pub(crate) use delays::Delays;
pub use hour::HourBlock;
pub(crate) use kept::{Kept, Windows, publish};
pub(crate) use minute::WINDOWS as WINDOWS_A_MINUTE;
pub use minute::{EvidenceError, PublishedMinute};
pub(crate) use pair::publish_pair;
pub use pair::{DirectionCounts, PairCounts, PairEvidence};
pub use summary::{HopSummary, MinuteSummary, RouteSummary};
pub use window::WINDOW_US;
pub(crate) use window::{
    Exactness, HopWindow, RoundCounts, RouteCounts, SeenRoute, Window, beginning_of, compatible,
    end_of, reaches_target, window_of,
};
