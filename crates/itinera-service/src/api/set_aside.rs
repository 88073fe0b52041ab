//! Commits that could not be judged.

use super::view::set_aside::SetAsideItem;
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::Serialize;
use std::sync::Arc;
use utoipa::ToSchema;

/// Commits that could not be judged, the newest first; at most 500.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SetAside {
    items: Vec<SetAsideItem>,
}

/// Commits that could not be judged, the newest first.
#[utoipa::path(get, path = "/set-aside", operation_id = "getSetAside", responses(
    (status = 200, body = SetAside),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set_aside(
    State(shared): State<Arc<Shared>>,
) -> Result<Json<SetAside>, ApiError> {
    let records = shared.store.commits_set_aside().await?;
    Ok(Json(SetAside { items: records.into_iter().map(SetAsideItem::from).collect() }))
}

/// Has a commit judged again that was set aside.
#[utoipa::path(post, path = "/set-aside/{commit_no}/retry", operation_id = "retryCommit",
    params(("commit_no" = i64, Path, description = "Its number in the log")), responses(
    (status = 202, description = "It is judged within a few seconds"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn retry(
    State(shared): State<Arc<Shared>>,
    actor: Actor,
    Path(commit_no): Path<String>,
) -> Result<StatusCode, ApiError> {
    let unknown = || ApiError::unknown_id(&commit_no);
    let number: i64 = commit_no.parse().map_err(|_| unknown())?;
    if !shared.store.retry_commit(number, &actor.name, shared.clock.now()).await? {
        return Err(unknown());
    }
    shared.committed.notify_one();
    Ok(StatusCode::ACCEPTED)
}
