//! The status of the installation, and the agents.

use super::alarms::alarm_items;
use super::incidents::unclosed;
use super::view::message::{MessageView, NoteView};
use super::view::status::{OwnerMapView, StatusView, SuspectedView, overall};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::State;
use itinera_analysis::{Judge, Stage, catalogue, messages};
use itinera_model::owner::OwnerMap;
use itinera_store::{AlarmQuery, Lasting, StateCounts};
use std::sync::Arc;
use time::OffsetDateTime;

/// Open alarms shown with the status; the rest is counted.
const SHOWN: u64 = 20;

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
    let surest = suspected.as_ref().map(|it| it.message.headline());
    let newest = incidents.open.first().map(String::as_str);
    let overall = overall(&counts, &incidents);
    let disk = shared.watermarks.note(*shared.disk.borrow());
    let open = AlarmQuery { lasting: Lasting::OPEN, ..AlarmQuery::default() };
    let alarms = alarm_items(&shared, &open, None, SHOWN).await?;
    let findings = shared.store.stored_stage(Stage::Findings.name()).await?;
    let rebuilding = Judge::stored_progress(&findings).map(Into::into);
    Ok(Json(StatusView {
        state: overall.state(),
        sentence: catalogue::overall(&overall, newest, surest),
        at,
        agents: counts.agents,
        agents_late: counts.agents_late,
        paths: counts.paths,
        paths_without_rounds: counts.paths_without_rounds,
        rounds: counts.rounds,
        commits: counts.commits,
        unjudged_commits: counts.unjudged_commits,
        set_aside_commits: counts.set_aside_commits,
        late_deliveries: counts.late_deliveries,
        rebuilding,
        disk: disk.map(|note| NoteView::new(note, &map)),
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
