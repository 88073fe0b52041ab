//! Alarms.

use super::view::{AlarmItem, alarm_items};
use super::{Page, ValidQuery};
use crate::problem::{ApiError, Problem};
use crate::server::Shared;
use axum::Json;
use axum::extract::State;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::format_description::well_known::Rfc3339;
use utoipa::{IntoParams, ToSchema};

/// A page of alarms.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Alarms {
    items: Vec<AlarmItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which alarms.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AlarmFilter {
    /// Only alarms that are open.
    #[serde(default)]
    open: bool,
}

/// Alarms of paths, and faults that no path shows, newest first. Owners are those of the time at which each was raised.
#[utoipa::path(get, path = "/alarms", operation_id = "getAlarms", params(AlarmFilter, Page), responses(
    (status = 200, body = Alarms),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn alarms(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<AlarmFilter>,
    ValidQuery(page): ValidQuery<Page>,
) -> Result<Json<Alarms>, ApiError> {
    let limit = page.limit()?;
    let before = page.before()?;
    let mut items = alarm_items(&shared, which.open, before, u64::from(limit) + 1).await?;
    let more = items.len() > usize::from(limit);
    items.truncate(limit.into());
    let next = match items.last().filter(|_| more) {
        Some(last) => {
            let at = last.raised_at.format(&Rfc3339);
            let at = at.map_err(|error| ApiError::Internal(Box::new(error)))?;
            Some(format!("{at}_{}", last.id))
        }
        None => None,
    };
    Ok(Json(Alarms { items, next }))
}
