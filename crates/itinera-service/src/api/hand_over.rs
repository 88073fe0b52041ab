//! The hand-over from one shift to the next.

use super::alarms::alarm_items;
use super::incidents::{ItemParts, entries_of, item};
use super::view::hand_over::{self, HandOver, IncidentHandOver};
use super::view::incident::IncidentState;
use super::view::planned_work::PlannedWorkItem;
use super::view::watch::SuppressionItem;
use super::{MAX_PAGE, ValidQuery, checked_time, watches};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::State;
use itinera_model::triage::OperatorState;
use itinera_store::{AlarmQuery, Lasting};
use serde::Deserialize;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::IntoParams;

/// A shift, where no other time is asked for.
const SHIFT: Duration = Duration::hours(8);
/// Planned work that is named.
const PLANNED: i64 = 50;
/// How far back changes are shown at most.
const LONGEST: Duration = Duration::days(31);

/// Since when changes are shown.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct HandOverFilter {
    /// RFC 3339, at most 31 days ago; eight hours ago where absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    since: Option<OffsetDateTime>,
}

impl HandOverFilter {
    fn since(&self, now: OffsetDateTime) -> Result<OffsetDateTime, ApiError> {
        let Some(since) = self.since else { return Ok(now - SHIFT) };
        let since = checked_time("since", since)?;
        if since > now || since < now - LONGEST {
            return Err(ApiError::BadInput("since: not within the last 31 days".to_owned()));
        }
        Ok(since)
    }
}

/// What is open, who has it, what changed since a time, and what to watch.
#[utoipa::path(get, path = "/hand-over", operation_id = "getHandOver", params(HandOverFilter),
    responses(
    (status = 200, body = HandOver),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn hand_over(
    State(shared): State<Arc<Shared>>,
    ValidQuery(asked): ValidQuery<HandOverFilter>,
) -> Result<Json<HandOver>, ApiError> {
    let at = shared.clock.now();
    let since = asked.since(at)?;
    let lasting = Lasting { open: false, from: Some(since), to: None };
    let records = shared.store.incidents(lasting, None, MAX_PAGE.into()).await?;
    let parts = ItemParts::of(&shared, &records).await?;
    let mut maps = shared.owner_maps().await?;
    let ids = records.iter().map(|record| record.id);
    let mut timelines = shared.store.timelines_since(ids, since).await?;
    let mut incidents = Vec::with_capacity(records.len());
    for record in &records {
        let timeline = timelines.remove(&record.id).unwrap_or_default();
        let entries = entries_of(&shared, &mut maps, timeline, record).await?;
        let item = item(&mut maps, record, &parts).await?;
        incidents.push(IncidentHandOver::new(item, record, since, entries));
    }
    let rank = |state: IncidentState| match state {
        IncidentState::Open => 0,
        IncidentState::Cleared => 1,
        IncidentState::Closed => 2,
    };
    incidents.sort_by_key(|it| {
        let severity = it.item.perceived_severity;
        (rank(it.item.state), severity.is_none(), severity, it.item.no)
    });
    let states = Some(vec![OperatorState::Shelved]);
    let shelved = AlarmQuery { lasting: Lasting::OPEN, states, ..AlarmQuery::default() };
    let shelved = alarm_items(&shared, &shelved, None, MAX_PAGE.into()).await?;
    let watches = watches::running(&shared).await?;
    let suppressions = shared.store.suppressions().await?;
    let suppressions = suppressions.into_iter().map(SuppressionItem::from).collect();
    let planned = shared.store.planned_work(at, at + Duration::days(1), PLANNED).await?;
    let planned = planned.into_iter().map(PlannedWorkItem::from).collect();
    let text = String::new();
    let mut hand_over =
        HandOver { since, at, incidents, shelved, watches, suppressions, planned, text };
    hand_over.text = hand_over::text(&hand_over);
    Ok(Json(hand_over))
}
