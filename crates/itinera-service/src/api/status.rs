//! The status of the installation, and the agents.

use super::alarms::{AlarmItem, alarm_items};
use super::incidents::{Unclosed, unclosed};
use super::message::MessageView;
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::State;
use itinera_analysis::messages;
use itinera_model::id::{PairId, PathId};
use itinera_model::owner::OwnerMap;
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

/// State of all paths together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum OverallState {
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

/// A finding that is no alarm yet.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SuspectedView {
    path: Uuid,
    site: String,
    target: String,
    message: MessageView,
}

/// The status of the installation.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StatusView {
    state: OverallState,
    /// The state in one line.
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
    /// Incidents that are not closed although all their alarms have cleared.
    cleared_incidents: usize,
    /// Paths with a finding in the last two minutes that no open alarm has.
    suspected_paths: i64,
    /// The surest of these findings; absent without one.
    surest_suspected: Option<SuspectedView>,
    /// The newest open alarms.
    alarms: Vec<AlarmItem>,
    /// Absent before the first import.
    owner_map: Option<OwnerMapView>,
}

fn plural(count: i64, one: &str) -> String {
    format!("{count} {one}{}", if count == 1 { "" } else { "s" })
}

fn state(counts: &StateCounts, incidents: &Unclosed) -> OverallState {
    match (counts, incidents.open.as_slice()) {
        (StateCounts { agents: 0, .. }, _) => OverallState::NoAgents,
        (StateCounts { rounds: 0, .. }, _) => OverallState::NoRounds,
        (_, [_, ..]) => OverallState::Incidents,
        (StateCounts { suspected_paths: 1.., .. }, []) => OverallState::Suspected,
        (_, []) => OverallState::NoFindings,
    }
}

fn sentence(counts: &StateCounts, incidents: &Unclosed, suspected: Option<&str>) -> String {
    let paths = plural(counts.paths, "path");
    let mut line = match state(counts, incidents) {
        OverallState::NoAgents => "No agent has joined yet.".to_owned(),
        OverallState::NoRounds => {
            let verb = if counts.agents == 1 { "has" } else { "have" };
            let agents = plural(counts.agents, "agent");
            format!("{agents} {verb} joined; no measurement has arrived yet.")
        }
        OverallState::NoFindings => format!("No faults on {paths}."),
        OverallState::Suspected => {
            let surest = suspected.map_or_else(String::new, |it| format!("; the surest: {it}"));
            let verb = if counts.suspected_paths == 1 { "shows" } else { "show" };
            format!(
                "No open incident. {} of {paths} {verb} a suspected fault{surest}.",
                counts.suspected_paths
            )
        }
        OverallState::Incidents => {
            let open = i64::try_from(incidents.open.len()).unwrap_or(i64::MAX);
            let newest = incidents.open.first().map_or("", String::as_str);
            let which = if open == 1 { "" } else { "newest: " };
            format!("{}, {which}{newest}.", plural(open, "open incident"))
        }
    };
    if incidents.cleared > 0 {
        let cleared = i64::try_from(incidents.cleared).unwrap_or(i64::MAX);
        line.push_str(&format!(" {} to close.", plural(cleared, "cleared incident")));
    }
    if counts.agents_late > 0 && counts.rounds > 0 {
        let verb = if counts.agents_late == 1 { "has" } else { "have" };
        let agents = plural(counts.agents_late, "agent");
        line.push_str(&format!(" {agents} {verb} sent nothing for a minute."));
    }
    line
}

async fn surest_suspected(
    shared: &Shared,
    counts: &StateCounts,
    map: &OwnerMap,
) -> Result<Option<SuspectedView>, ApiError> {
    if counts.suspected_paths == 0 {
        return Ok(None);
    }
    let record = shared.store.surest_suspected().await?;
    Ok(record.and_then(|record| {
        let finding = record.latest?.finding?;
        Some(SuspectedView {
            path: record.id.as_uuid(),
            site: record.site,
            target: record.target,
            message: MessageView::of_one(messages::of_finding(&finding), map),
        })
    }))
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
    let (map, import) = shared.owner_map_at(at).await?;
    let incidents = unclosed(&shared).await?;
    let suspected = surest_suspected(&shared, &counts, &map).await?;
    let headline = suspected.as_ref().map(|it| it.message.headline());
    let alarms = alarm_items(&shared, true, None, SHOWN).await?;
    Ok(Json(StatusView {
        state: state(&counts, &incidents),
        sentence: sentence(&counts, &incidents, headline),
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
        open_incidents: incidents.open.len(),
        cleared_incidents: incidents.cleared,
        suspected_paths: counts.suspected_paths,
        surest_suspected: suspected,
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
    use super::*;

    fn counts() -> StateCounts {
        StateCounts {
            agents: 6,
            agents_late: 0,
            paths: 62,
            paths_without_rounds: 0,
            open_alarms: 0,
            suspected_paths: 0,
            rounds: 900,
            commits: 30,
            unjudged_commits: 0,
            set_aside_commits: 0,
        }
    }

    #[test]
    fn no_findings_suspected_faults_and_open_incidents_are_told_apart() {
        let none = Unclosed::default();
        let cleared = Unclosed { cleared: 2, ..Unclosed::default() };
        let open =
            Unclosed { open: vec!["13 % loss inside Northmere Carriage".to_owned()], cleared: 1 };
        let suspected = StateCounts { suspected_paths: 3, ..counts() };
        for (counts, incidents, state_of_all, line) in [
            (StateCounts { agents: 0, ..counts() }, &none, OverallState::NoAgents, None),
            (StateCounts { rounds: 0, ..counts() }, &none, OverallState::NoRounds, None),
            (counts(), &none, OverallState::NoFindings, Some("No faults on 62 paths.")),
            (
                counts(),
                &cleared,
                OverallState::NoFindings,
                Some("No faults on 62 paths. 2 cleared incidents to close."),
            ),
            (
                suspected,
                &none,
                OverallState::Suspected,
                Some("No open incident. 3 of 62 paths show a suspected fault; the surest: x."),
            ),
            (
                suspected,
                &open,
                OverallState::Incidents,
                Some(
                    "1 open incident, 13 % loss inside Northmere Carriage. 1 cleared incident to close.",
                ),
            ),
        ] {
            assert_eq!(state(&counts, incidents), state_of_all);
            let sentence = sentence(&counts, incidents, Some("x"));
            assert!(line.is_none_or(|line| line == sentence), "{sentence}");
        }
        let late = StateCounts { agents_late: 1, ..counts() };
        let line = sentence(&late, &none, None);
        assert_eq!(line, "No faults on 62 paths. 1 agent has sent nothing for a minute.");
    }
}
