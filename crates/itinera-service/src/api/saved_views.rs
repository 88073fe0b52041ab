//! Views of alarms that a user saves under a name.

use super::users::checked_name;
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_store::{MAX_VIEWS, SavedView};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;

/// Characters of a view's name, and of its parameters.
const LONGEST_NAME: usize = 40;
const LONGEST_QUERY: usize = 1_000;

/// A saved view.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SavedViewItem {
    name: String,
    /// What it shows: parameters of the address of *Alarms*, such as `show=mine&severity=critical`.
    query: String,
}

/// The views of the user, by name.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SavedViews {
    items: Vec<SavedViewItem>,
}

/// The user's saved views of alarms, by name.
#[utoipa::path(get, path = "/alarm-views", operation_id = "getAlarmViews", responses(
    (status = 200, body = SavedViews),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn views(
    State(shared): State<Arc<Shared>>,
    by: Actor,
) -> Result<Json<SavedViews>, ApiError> {
    let views = shared.store.saved_views(by.user).await?.into_iter();
    let items = views.map(|SavedView { name, query }| SavedViewItem { name, query }).collect();
    Ok(Json(SavedViews { items }))
}

/// What a view shows.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SavedViewRequest {
    /// Parameters of the address of *Alarms*.
    query: String,
}

/// Saves a view of alarms under a name, in place of an earlier one of this user.
#[utoipa::path(put, path = "/alarm-views/{name}", operation_id = "saveAlarmView",
    params(("name" = String, Path, description = "Name of the view")),
    request_body = SavedViewRequest, responses(
    (status = 200, body = SavedViewItem),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn save_view(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(name): Path<String>,
    body: Result<Json<SavedViewRequest>, JsonRejection>,
) -> Result<Json<SavedViewItem>, ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let name = checked_name(&name, LONGEST_NAME)?.to_owned();
    let query = asked.query;
    if query.len() > LONGEST_QUERY || query.chars().any(char::is_control) {
        let reason = format!("query: {LONGEST_QUERY} visible characters at most");
        return Err(ApiError::BadInput(reason));
    }
    let view = SavedView { name, query };
    if !shared.store.save_view(by.user, &view).await? {
        let reason = format!("{MAX_VIEWS} views at most: remove one first");
        return Err(ApiError::BadInput(reason));
    }
    let SavedView { name, query } = view;
    Ok(Json(SavedViewItem { name, query }))
}

/// Removes a saved view of the user.
#[utoipa::path(delete, path = "/alarm-views/{name}", operation_id = "removeAlarmView",
    params(("name" = String, Path, description = "Name of the view")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove_view(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    if shared.store.remove_view(by.user, &name).await? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(ApiError::unknown_id(&name))
    }
}
