//! The state of all paths together, and the counts that it follows from.

use serde::{Deserialize, Serialize};

/// State of all paths together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum OverallState {
    /// No agent has joined.
    NoAgents,
    /// Agents have joined, and nothing is measured yet.
    NoRounds,
    /// No incident is open and no path has a finding.
    NoFindings,
    /// Paths have findings that are no alarms yet.
    Suspected,
    /// Incidents are open.
    Incidents,
}

/// Counts of an installation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Overall {
    /// Agents that have joined.
    pub agents: u64,
    /// Of those, without a batch in the last minute.
    pub agents_late: u64,
    /// Paths.
    pub paths: u64,
    /// Rounds recorded.
    pub rounds: u64,
    /// Paths with a finding that no open alarm has.
    pub suspected_paths: u64,
    /// Open incidents.
    pub open_incidents: u64,
    /// Incidents that have cleared and are not closed.
    pub cleared_incidents: u64,
}

impl Overall {
    /// The state of these counts.
    pub const fn state(&self) -> OverallState {
        match self {
            Self { agents: 0, .. } => OverallState::NoAgents,
            Self { rounds: 0, .. } => OverallState::NoRounds,
            Self { open_incidents: 1.., .. } => OverallState::Incidents,
            Self { suspected_paths: 1.., .. } => OverallState::Suspected,
            _ => OverallState::NoFindings,
        }
    }
}
