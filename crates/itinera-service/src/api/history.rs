//! The history of a path, from rollups.

use super::{ValidQuery, checked_time};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_model::id::PathId;
use itinera_model::rollup::RollupSpan;
use itinera_model::unit::Ratio;
use itinera_store::RollupRecord;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};

/// The range without a request for another.
const DEFAULT: Duration = Duration::days(1);

/// A range of time.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct HistoryRange {
    /// Begin (RFC 3339); a day before the end by default.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// End (RFC 3339); now by default.
    #[serde(default, with = "time::serde::rfc3339::option")]
    to: Option<OffsetDateTime>,
}

/// The history of a path.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PathHistory {
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// Seconds of each point: the longest of 300, 3600 and 86400 that gives 200 points.
    span_s: i32,
    /// In order of time; times without rounds have none.
    points: Vec<HistoryPoint>,
}

/// Measurements of a path over some time.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HistoryPoint {
    /// Its beginning.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    /// Rounds measured in it.
    rounds: u32,
    /// Probes sent to the target.
    sent: u32,
    /// Of those, unanswered.
    lost: u32,
    /// Round-trip loss; absent where nothing was sent.
    loss_ratio: Option<f64>,
    /// Round-trip delay, 5th percentile; absent without answers.
    delay_p5_us: Option<u32>,
    /// Median.
    delay_p50_us: Option<u32>,
    /// 95th percentile.
    delay_p95_us: Option<u32>,
}

impl From<RollupRecord> for HistoryPoint {
    fn from(RollupRecord { start_at, rollup }: RollupRecord) -> Self {
        Self {
            at: start_at,
            rounds: rollup.rounds,
            sent: rollup.sent,
            lost: rollup.lost,
            loss_ratio: Ratio::of(rollup.lost, rollup.sent).map(Ratio::as_f64),
            delay_p5_us: rollup.delay_us(5),
            delay_p50_us: rollup.delay_us(50),
            delay_p95_us: rollup.delay_us(95),
        }
    }
}

/// Loss and delay of a path to its target over time.
#[utoipa::path(get, path = "/paths/{id}/history", operation_id = "getPathHistory",
    params(("id" = String, Path, description = "The path's id"), HistoryRange), responses(
    (status = 200, body = PathHistory),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn history(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(range): ValidQuery<HistoryRange>,
) -> Result<Json<PathHistory>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let path: PathId = id.parse().map_err(|_| unknown())?;
    let to = checked_time("to", range.to.unwrap_or_else(|| shared.clock.now()))?;
    let from = checked_time("from", range.from.unwrap_or(to - DEFAULT))?;
    if from >= to {
        return Err(ApiError::BadInput("from: not before `to`".to_owned()));
    }
    shared.store.path(path).await?.ok_or_else(unknown)?;
    let span = RollupSpan::fit_for((to - from).whole_seconds());
    // The one that begins before the range reaches into it.
    let first = span.start_of(from.unix_timestamp());
    let first = OffsetDateTime::from_unix_timestamp(first).unwrap_or(from);
    let records = shared.store.rollups(path, span, first, to).await?;
    let points = records.into_iter().map(HistoryPoint::from).collect();
    Ok(Json(PathHistory { from, to, span_s: span.seconds(), points }))
}
