//! Agents as the API shows them.

use itinera_model::id::{PairId, PathId};
use itinera_store::AgentRecord;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// A task that an agent does not do.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RefusedView {
    /// Its path, where it is about one.
    pub(crate) path: Option<Uuid>,
    /// The pair, for two-way measurements.
    pub(crate) pair: Option<Uuid>,
    /// Why not.
    pub(crate) reason: String,
}

/// An agent.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AgentItem {
    pub(crate) id: Uuid,
    pub(crate) site: String,
    pub(crate) version: String,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) joined_at: OffsetDateTime,
    /// Absent before the first batch.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) last_batch_at: Option<OffsetDateTime>,
    /// Service clock minus agent clock; absent before the agent has estimated it.
    pub(crate) clock_offset_us: Option<i64>,
    /// Bound of the estimate's error.
    pub(crate) clock_error_us: Option<i64>,
    /// Rounds dropped since the agent's start, because its spool was full.
    pub(crate) dropped_rounds: i64,
    /// Tasks that it does not do, with the reason: its site does not allow them, or a name does
    /// not resolve.
    pub(crate) refused: Vec<RefusedView>,
}

impl From<AgentRecord> for AgentItem {
    fn from(record: AgentRecord) -> Self {
        Self {
            id: record.id.as_uuid(),
            site: record.site,
            version: record.version,
            joined_at: record.joined_at,
            last_batch_at: record.last_batch_at,
            clock_offset_us: record.clock_offset_us,
            clock_error_us: record.clock_error_us,
            dropped_rounds: record.dropped_rounds,
            refused: record
                .refused
                .iter()
                .map(|refused| RefusedView {
                    path: refused.path.map(PathId::as_uuid),
                    pair: refused.pair.map(PairId::as_uuid),
                    reason: refused.reason.clone(),
                })
                .collect(),
        }
    }
}
