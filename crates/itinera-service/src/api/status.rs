//! The status of the installation, and the agents.

use super::view::{AlarmItem, alarm_items};
use crate::problem::{ApiError, Problem};
use crate::server::Shared;
use axum::Json;
use axum::extract::State;
use itinera_model::id::{PairId, PathId};
use itinera_store::{AgentRecord, StateCounts};
use serde::Serialize;
use std::sync::Arc;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// Open alarms shown with the status; the rest is counted.
const SHOWN: u64 = 20;

/// The owner map in force.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct OwnerMapView {
    source: String,
    entries: i32,
    #[serde(with = "time::serde::rfc3339")]
    imported_at: OffsetDateTime,
}

/// The status of the installation.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StatusView {
    /// The status in one sentence.
    sentence: String,
    /// When this was so.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    agents: i64,
    /// Agents without a batch in the last minute.
    agents_late: i64,
    paths: i64,
    /// Paths without a judgement in the last two minutes.
    paths_without_rounds: i64,
    rounds: i64,
    commits: i64,
    /// Commits that judgement has not reached.
    unjudged_commits: i64,
    /// Commits that could not be judged and are left out.
    set_aside_commits: i64,
    open_alarms: i64,
    open_incidents: usize,
    /// The newest open alarms.
    alarms: Vec<AlarmItem>,
    /// Absent before the first import.
    owner_map: Option<OwnerMapView>,
}

fn plural(count: i64, one: &str) -> String {
    format!("{count} {one}{}", if count == 1 { "" } else { "s" })
}

/// The first of several sentences: the rest stands with the incident.
fn first_sentence(words: &str) -> &str {
    let end = words
        .match_indices(". ")
        .find(|(at, _)| words[at + 2..].chars().next().is_some_and(char::is_uppercase));
    end.map_or(words, |(at, _)| &words[..=at])
}

fn sentence(counts: &StateCounts, incidents: &[String]) -> String {
    let mut said = match (counts, incidents) {
        (StateCounts { agents: 0, .. }, _) => {
            "Nothing is watched yet: no agent has joined.".to_owned()
        }
        (StateCounts { rounds: 0, .. }, _) => {
            format!(
                "{} joined; the first measurements are on their way.",
                plural(counts.agents, "agent")
            )
        }
        (_, []) => format!("Nothing is wrong on {}.", plural(counts.paths, "path")),
        (_, [incident]) => format!("One incident is open. {}", first_sentence(incident)),
        (_, [newest, ..]) => {
            let newest = first_sentence(newest);
            let open = i64::try_from(incidents.len()).unwrap_or(i64::MAX);
            format!("{} are open. The newest: {newest}", plural(open, "incident"))
        }
    };
    if counts.agents_late > 0 && counts.rounds > 0 {
        let verb = if counts.agents_late == 1 { "has" } else { "have" };
        said.push_str(&format!(
            " {} {verb} sent nothing for a minute.",
            plural(counts.agents_late, "agent")
        ));
    }
    said
}

/// The status of the installation.
#[utoipa::path(get, path = "/status", operation_id = "getStatus", responses(
    (status = 200, body = StatusView),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn status(
    State(shared): State<Arc<Shared>>,
) -> Result<Json<StatusView>, ApiError> {
    let at = OffsetDateTime::now_utc();
    let counts = shared.store.status_counts().await?;
    let (_, import) = shared.owner_map_at(at).await?;
    let incidents = super::incidents::open_sentences(&shared).await?;
    let alarms = alarm_items(&shared, true, None, SHOWN).await?;
    Ok(Json(StatusView {
        sentence: sentence(&counts, &incidents),
        at,
        agents: counts.agents,
        agents_late: counts.agents_late,
        paths: counts.paths,
        paths_without_rounds: counts.paths_without_rounds,
        rounds: counts.rounds,
        commits: counts.commits,
        unjudged_commits: counts.unjudged_commits,
        set_aside_commits: counts.set_aside_commits,
        open_alarms: counts.open_alarms,
        open_incidents: incidents.len(),
        alarms,
        owner_map: import.map(|import| OwnerMapView {
            source: import.source,
            entries: import.entries,
            imported_at: import.imported_at,
        }),
    }))
}

/// A task that an agent does not do.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RefusedView {
    /// Its path, where it is about one.
    path: Option<Uuid>,
    /// The pair, for two-way measurements.
    pair: Option<Uuid>,
    /// Why not.
    reason: String,
}

/// An agent.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AgentItem {
    id: Uuid,
    site: String,
    version: String,
    #[serde(with = "time::serde::rfc3339")]
    joined_at: OffsetDateTime,
    /// Absent before the first batch.
    #[serde(with = "time::serde::rfc3339::option")]
    last_batch_at: Option<OffsetDateTime>,
    /// Service clock minus agent clock; absent before the agent has estimated it.
    clock_offset_us: Option<i64>,
    /// Bound of the estimate's error.
    clock_error_us: Option<i64>,
    /// Rounds dropped since the agent's start, because its spool was full.
    dropped_rounds: i64,
    /// Tasks that it does not do, with the reason: its site does not allow them, or a name does
    /// not resolve.
    refused: Vec<RefusedView>,
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

/// All agents, by site.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Agents {
    items: Vec<AgentItem>,
}

/// All agents, by site.
#[utoipa::path(get, path = "/agents", operation_id = "getAgents", responses(
    (status = 200, body = Agents),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn agents(State(shared): State<Arc<Shared>>) -> Result<Json<Agents>, ApiError> {
    let items = shared.store.agents().await?.into_iter().map(AgentItem::from).collect();
    Ok(Json(Agents { items }))
}

#[cfg(test)]
mod tests {
    use super::first_sentence;

    #[test]
    fn a_full_stop_before_a_capital_ends_a_sentence() {
        let said = "Resolver 198.18.48.53 is behind. Names lead astray.";
        assert_eq!(first_sentence(said), "Resolver 198.18.48.53 is behind.");
        assert_eq!(
            first_sentence("20 % are lost (AS 64500); 98 % sure."),
            "20 % are lost (AS 64500); 98 % sure."
        );
    }
}
