//! Paths, and one path with its hops.

use super::view::path::{PathDetail, PathItem};
use super::{Page, ValidQuery};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_model::id::PathId;
use serde::Serialize;
use std::sync::Arc;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A page of paths.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Paths {
    items: Vec<PathItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Paths with their latest judgement, in the order in which they were made.
#[utoipa::path(get, path = "/paths", operation_id = "getPaths", params(Page), responses(
    (status = 200, body = Paths),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn paths(
    State(shared): State<Arc<Shared>>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Paths>, ApiError> {
    let limit = page.limit()?;
    let bad = |_| ApiError::BadInput("after: not the `next` of an earlier page".to_owned());
    let after = page.after.as_deref().map(str::parse::<PathId>).transpose().map_err(bad)?;
    let records = shared.store.paths(after, i64::from(limit) + 1).await?;
    let (map, _) = shared.owner_map_at(OffsetDateTime::now_utc()).await?;
    let more = records.len() > usize::from(limit);
    let items: Vec<_> =
        records.iter().take(limit.into()).map(|record| PathItem::new(record, &map)).collect();
    let next = items.last().filter(|_| more).map(|last| last.id.to_string());
    Ok(Json(Paths { items, next }))
}

/// One path with its hops and its finding.
#[utoipa::path(get, path = "/paths/{id}", operation_id = "getPath",
    params(("id" = String, Path, description = "The path's id")), responses(
    (status = 200, body = PathDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn path(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<PathDetail>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let path: PathId = id.parse().map_err(|_| unknown())?;
    // At once: each waits for the database alone.
    let (record, (map, _), read) = tokio::try_join!(
        shared.store.path(path),
        shared.owner_map_at(OffsetDateTime::now_utc()),
        shared.store.latest_read(path, shared.clock.now()),
    )?;
    let record = record.ok_or_else(unknown)?;
    Ok(Json(PathDetail::new(&record, read.as_ref(), &map)))
}
