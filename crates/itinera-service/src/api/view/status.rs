//! The overall state as the API shows it.

use super::alarm::AlarmItem;
use super::message::{MessageView, NoteView};
use itinera_analysis::RebuildProgress;
use itinera_model::overall::{Overall, OverallState};
use itinera_store::StateCounts;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// Incidents that are not closed.
#[derive(Debug, Default)]
pub(crate) struct Unclosed {
    /// Headlines of the open ones, newest first.
    pub(crate) open: Vec<String>,
    /// How many have cleared and are not closed.
    pub(crate) cleared: usize,
}

/// The owner map in force.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct OwnerMapView {
    pub(crate) source: String,
    pub(crate) entries: i32,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) imported_at: OffsetDateTime,
}

/// A finding that is no alarm yet.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SuspectedView {
    pub(crate) path: Uuid,
    pub(crate) site: String,
    pub(crate) target: String,
    pub(crate) message: MessageView,
}

/// How far a stage of judgement is rebuilt, as of the last minute.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RebuildingView {
    /// The stage.
    pub(crate) stage: &'static str,
    /// Paths that are done.
    pub(crate) done: usize,
    /// All paths.
    pub(crate) paths: usize,
}

impl From<RebuildProgress> for RebuildingView {
    fn from(RebuildProgress { stage, done, paths }: RebuildProgress) -> Self {
        Self { stage: stage.name(), done, paths }
    }
}

/// The status of the installation.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StatusView {
    pub(crate) state: OverallState,
    /// The state in one line.
    pub(crate) sentence: String,
    /// When this was so.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    pub(crate) agents: i64,
    /// Agents without a batch in the last minute.
    pub(crate) agents_late: i64,
    pub(crate) paths: i64,
    /// Paths without a judgement in the last two minutes.
    pub(crate) paths_without_rounds: i64,
    pub(crate) rounds: i64,
    pub(crate) commits: i64,
    /// Commits that judgement has not reached.
    pub(crate) unjudged_commits: i64,
    /// Commits that could not be judged and are left out.
    pub(crate) set_aside_commits: i64,
    /// Deliveries of notices that failed within a day, or wait after three attempts.
    pub(crate) late_deliveries: i64,
    /// How far a new version has come with judging again what an older one found; absent where there is
    /// nothing to be judged again.
    pub(crate) rebuilding: Option<RebuildingView>,
    /// What waits because the disk has little room; absent where it has enough.
    pub(crate) disk: Option<NoteView>,
    pub(crate) open_alarms: i64,
    pub(crate) open_incidents: usize,
    /// Incidents that are not closed although all their alarms have cleared.
    pub(crate) cleared_incidents: usize,
    /// Paths with a finding in the last two minutes that no open alarm has.
    pub(crate) suspected_paths: i64,
    /// The surest of these findings; absent without one.
    pub(crate) surest_suspected: Option<SuspectedView>,
    /// The newest open alarms.
    pub(crate) alarms: Vec<AlarmItem>,
    /// Absent before the first import.
    pub(crate) owner_map: Option<OwnerMapView>,
}

/// The counts that the overall state follows from.
pub(crate) fn overall(counts: &StateCounts, incidents: &Unclosed) -> Overall {
    let whole = |count: i64| u64::try_from(count).unwrap_or(0);
    Overall {
        agents: whole(counts.agents),
        agents_late: whole(counts.agents_late),
        paths: whole(counts.paths),
        rounds: whole(counts.rounds),
        suspected_paths: whole(counts.suspected_paths),
        open_incidents: incidents.open.len() as u64,
        cleared_incidents: incidents.cleared as u64,
    }
}
