//! Agents.

use super::view::agent::AgentItem;
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::State;
use serde::Serialize;
use std::sync::Arc;
use utoipa::ToSchema;

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
