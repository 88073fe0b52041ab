//! A path over time: each window beside each hop, and one earlier moment whole.

use super::view::path::{PathDetail, offset};
use super::view::weave::{Weave, columns, row_of, row_of_span};
use super::{ValidQuery, checked_time};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::{evidence, past};
use axum::Json;
use axum::extract::{Path, State};
use itinera_analysis::MinuteSummary;
use itinera_analysis::locate::views_of_spans;
use itinera_model::finding::{Assessment, HopView};
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use serde::Deserialize;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::IntoParams;

/// Rows shown at most.
const MOST_ROWS: u32 = 90;
/// The longest range, as that of the history.
const LONGEST_S: u32 = 400 * 86_400;
/// Up to this range windows are judged again from their rounds, and of those of a row the worst is
/// shown. Of longer ones a row is the sum of its evidence.
const JUDGED_S: u32 = 6 * 3_600;
const MINUTE_S: u32 = 60;

/// Which time.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Span {
    /// The end (RFC 3339); now where absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    until: Option<OffsetDateTime>,
    /// How long, in seconds, 60 to 34,560,000. Up to six hours each row is the worst of its windows, and
    /// usual is what was so before each. Of longer ranges a row is the sum of its time, usual is the
    /// median of all rows, and the newest minutes are missing until they are sealed.
    #[serde(default = "quarter")]
    span_s: u32,
}

const fn quarter() -> u32 {
    900
}

/// A path over time: in which part of it, and when, it departed from its own usual.
#[utoipa::path(get, path = "/paths/{id}/weave", operation_id = "getWeave",
    params(("id" = String, Path, description = "The path's id"), Span), responses(
    (status = 200, body = Weave),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn weave(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(span): ValidQuery<Span>,
) -> Result<Json<Weave>, ApiError> {
    if !(60..=LONGEST_S).contains(&span.span_s) {
        let text = format!("span_s: {} is outside 60 to {LONGEST_S}", span.span_s);
        return Err(ApiError::BadInput(text));
    }
    let path: PathId = id.parse().map_err(|_| ApiError::unknown_id(&id))?;
    shared.store.path(path).await?.ok_or_else(|| ApiError::unknown_id(&id))?;
    let until = checked_time("until", span.until.unwrap_or_else(|| shared.clock.now()))?;
    let from = until - Duration::seconds(span.span_s.into());
    let (map, _) = shared.owner_map_at(until).await?;
    if span.span_s > JUDGED_S {
        return Ok(Json(summed(&shared, path, (from, until), &map).await?));
    }
    let mut assessed = past::assessments(&shared.store, &[path], from, until).await?;
    let windows = assessed.remove(&path).unwrap_or_default();
    let hops = windows.last().map(|newest| columns(&newest.hops, &map)).unwrap_or_default();
    let window_s = u32::try_from(itinera_analysis::WINDOW_US / 1_000_000).unwrap_or(10);
    let per_row = (span.span_s / window_s).div_ceil(MOST_ROWS).max(1);
    let row_s = per_row * window_s;
    // Rows begin at the same times whenever they are asked for, so that they do not flicker.
    let slot =
        |window: &Assessment| (window.until.as_unix_micros() - 1) / 1_000_000 / i64::from(row_s);
    let rows = windows.chunk_by(|a, b| slot(a) == slot(b));
    let rows = rows.filter_map(|windows| row_of(windows, hops.len())).collect();
    Ok(Json(Weave { from, until, row_s, summed: false, hops, rows }))
}

/// The rows of a long range: from evidence.
async fn summed(
    shared: &Shared,
    path: PathId,
    (from, until): (OffsetDateTime, OffsetDateTime),
    map: &OwnerMap,
) -> Result<Weave, ApiError> {
    let span_s = u32::try_from((until - from).whole_seconds()).unwrap_or(LONGEST_S);
    let row_s = span_s.div_ceil(MOST_ROWS).next_multiple_of(MINUTE_S);
    let spans = evidence::spans(&shared.store, path, (from, until), row_s.into()).await?;
    let (begins, sums): (Vec<OffsetDateTime>, Vec<MinuteSummary>) = spans.into_iter().unzip();
    let views = views_of_spans(&sums);
    let hops = views.last().map(|newest| columns(newest, map)).unwrap_or_default();
    let row = |(begin, views): (OffsetDateTime, &Vec<HopView>)| {
        let end = begin + Duration::seconds(row_s.into());
        row_of_span(end.min(until), views, hops.len())
    };
    let rows = begins.into_iter().zip(&views).map(row).collect();
    Ok(Weave { from, until, row_s, summed: true, hops, rows })
}

/// Which moment.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Moment {
    /// The moment (RFC 3339).
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
}

/// One path as it was judged in the minute before a moment, computed again from the stored rounds.
#[utoipa::path(get, path = "/paths/{id}/then", operation_id = "getPathThen",
    params(("id" = String, Path, description = "The path's id"), Moment), responses(
    (status = 200, body = PathDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn then(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(moment): ValidQuery<Moment>,
) -> Result<Json<PathDetail>, ApiError> {
    let path: PathId = id.parse().map_err(|_| ApiError::unknown_id(&id))?;
    let record = shared.store.path(path).await?.ok_or_else(|| ApiError::unknown_id(&id))?;
    let at = checked_time("at", moment.at)?;
    let (from, to) = (at - Duration::minutes(1), at + Duration::seconds(10));
    let mut assessed = past::assessments(&shared.store, &[path], from, to).await?;
    let windows = assessed.remove(&path).unwrap_or_default();
    let nearest = windows
        .into_iter()
        .min_by_key(|window| (offset(window.until) - at).whole_microseconds().unsigned_abs());
    let record = itinera_store::PathRecord { latest: nearest, ..record };
    let (map, _) = shared.owner_map_at(at).await?;
    Ok(Json(PathDetail::new(&record, None, &map)))
}
