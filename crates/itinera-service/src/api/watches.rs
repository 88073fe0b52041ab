//! Watches, which measure a path more often for a limited time, and suppressions, which measure
//! nothing for a limited time.

use super::numbers::resolve;
use super::view::watch::{SuppressionItem, WatchFoundView, WatchItem, WatchState};
use super::{Page, ValidQuery, checked_text, checked_time};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use crate::watches::{self, WatchFound};
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_model::id::{IncidentId, PathId};
use itinera_store::{NewSuppression, NewWatch, Numbered, WatchChange, WatchRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// A watch lasts between these.
const SHORTEST: Duration = Duration::seconds(10);
const LONGEST: Duration = Duration::days(7);
/// A suppression lasts at most.
const LONGEST_SUPPRESSION: Duration = Duration::days(90);
/// Denser than this no path is watched, in milliseconds.
const DENSEST_MS: u32 = 500;

/// A watch with its summary, or with what it found until now where that is given.
async fn item(
    shared: &Shared,
    watch: WatchRecord,
    until_now: Option<WatchFound>,
) -> Result<WatchItem, ApiError> {
    let corrupt = |error: serde_json::Error| ApiError::Internal(Box::new(error));
    let path = shared.store.path(watch.asked.path).await?;
    let kept = watch.summary.clone().map(serde_json::from_value).transpose().map_err(corrupt)?;
    let (map, _) = shared.owner_map_at(watch.asked.ends_at.min(OffsetDateTime::now_utc())).await?;
    let found = kept.or(until_now).map(|found| WatchFoundView::new(found, &map));
    let state = if watch.asked.ends_at <= OffsetDateTime::now_utc() {
        WatchState::Over
    } else if watch.is_paused() {
        WatchState::Paused
    } else {
        WatchState::Running
    };
    let (family, method) = path.as_ref().map(|path| (path.family, path.method)).unzip();
    let (site, target) = path.map(|path| (path.site, path.target)).unwrap_or_default();
    Ok(WatchItem {
        id: watch.id,
        no: watch.no,
        path: watch.asked.path.as_uuid(),
        site,
        target,
        family,
        method,
        interval_ms: watch.asked.interval_ms,
        begins_at: watch.asked.begins_at,
        ends_at: watch.asked.ends_at,
        state,
        reason: watch.asked.reason,
        user: watch.asked.user,
        incident: watch.incident.map(|(id, _)| id.as_uuid()),
        incident_no: watch.incident.map(|(_, no)| no),
        found,
    })
}

/// The watches of one incident.
pub(super) async fn of_incident(
    shared: &Shared,
    incident: IncidentId,
) -> Result<Vec<WatchItem>, ApiError> {
    let mut items = Vec::new();
    let which = itinera_store::WatchQuery { incident: Some(incident), path: None };
    for watch in shared.store.watches(which, None, 100).await? {
        items.push(item(shared, watch, None).await?);
    }
    Ok(items)
}

/// Watches that are not over, without what they found.
pub(super) async fn running(shared: &Shared) -> Result<Vec<WatchItem>, ApiError> {
    let mut items = Vec::new();
    for watch in shared.store.watches(itinera_store::WatchQuery::default(), None, 100).await? {
        if watch.asked.ends_at > OffsetDateTime::now_utc() {
            items.push(item(shared, watch, None).await?);
        }
    }
    Ok(items)
}

async fn detail(shared: &Shared, id: Uuid) -> Result<Json<WatchItem>, ApiError> {
    let unknown = || ApiError::unknown_id(&id.to_string());
    let watch = shared.store.watch(id).await?.ok_or_else(unknown)?;
    let until_now = match watch.summary {
        Some(_) => None,
        None => Some(watches::found(shared, &watch).await?),
    };
    Ok(Json(item(shared, watch, until_now).await?))
}

/// A page of watches.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Watches {
    items: Vec<WatchItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which watches.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct WatchFilter {
    /// Only those of this incident.
    incident: Option<Uuid>,
    /// Only those of this path.
    path: Option<Uuid>,
}

/// Watches, the newest first.
#[utoipa::path(get, path = "/watches", operation_id = "getWatches", params(Page, WatchFilter),
    responses(
    (status = 200, body = Watches),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn watches(
    State(shared): State<Arc<Shared>>,
    ValidQuery(page): ValidQuery<Page>,
    ValidQuery(which): ValidQuery<WatchFilter>,
) -> Result<Json<Watches>, ApiError> {
    let limit = page.limit()?;
    let bad = |_| ApiError::BadInput("after: not the `next` of an earlier page".to_owned());
    let before = page.after.as_deref().map(str::parse::<i64>).transpose().map_err(bad)?;
    let which = itinera_store::WatchQuery {
        incident: which.incident.map(IncidentId::from_uuid),
        path: which.path.map(PathId::from_uuid),
    };
    let records = shared.store.watches(which, before, i64::from(limit) + 1).await?;
    let more = records.len() > usize::from(limit);
    let mut items = Vec::new();
    for record in records.into_iter().take(limit.into()) {
        items.push(item(&shared, record, None).await?);
    }
    let next = items.last().filter(|_| more).map(|last| last.no.to_string());
    Ok(Json(Watches { items, next }))
}

/// What is to be watched.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct WatchRequest {
    /// The path.
    path: Uuid,
    /// From round to round, 500 to 60,000.
    interval_ms: u32,
    /// When it ends: at most seven days from now.
    #[serde(with = "time::serde::rfc3339")]
    ends_at: OffsetDateTime,
    /// Why.
    #[serde(default)]
    reason: String,
}

/// Measures a path more often for a limited time.
#[utoipa::path(post, path = "/watches", operation_id = "startWatch", request_body = WatchRequest,
    responses(
    (status = 201, body = WatchItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn start(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<WatchRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<WatchItem>), ApiError> {
    let Json(wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let now = OffsetDateTime::now_utc();
    let ends_at = checked_time("ends_at", wanted.ends_at)?;
    if !(now + SHORTEST..=now + LONGEST + SHORTEST).contains(&ends_at) {
        let reason = "ends_at: between ten seconds and seven days from now is needed";
        return Err(ApiError::BadInput(reason.to_owned()));
    }
    if !(DENSEST_MS..=60_000).contains(&wanted.interval_ms) {
        let text = format!("interval_ms: {} is outside {DENSEST_MS} to 60,000", wanted.interval_ms);
        return Err(ApiError::BadInput(text));
    }
    let new = NewWatch {
        path: PathId::from_uuid(wanted.path),
        interval_ms: wanted.interval_ms,
        begins_at: now,
        ends_at,
        reason: checked_text("reason", &wanted.reason, 0)?,
        user: by.name,
    };
    let (id, version) = shared.store.start_watch(&new).await?;
    shared.tell_agents(version);
    Ok((StatusCode::CREATED, detail(&shared, id).await?))
}

/// One watch, with what it has found until now.
#[utoipa::path(get, path = "/watches/{id}", operation_id = "getWatch",
    params(("id" = String, Path, description = "The watch's id or short number")), responses(
    (status = 200, body = WatchItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn watch(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<WatchItem>, ApiError> {
    detail(&shared, resolve(&shared.store, Numbered::Watch, &id).await?).await
}

/// What is to be done with a watch.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(tag = "do", rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) enum WatchChangeRequest {
    /// Let it rest: the path is measured as usual.
    Pause,
    /// Let it go on.
    Resume,
    /// End it now.
    End,
    /// Make it part of an incident.
    Attach {
        /// The incident's id.
        incident: Uuid,
    },
}

/// Pauses, resumes or ends a watch, or makes it part of an incident.
#[utoipa::path(post, path = "/watches/{id}", operation_id = "changeWatch",
    params(("id" = String, Path, description = "The watch's id or short number")),
    request_body = WatchChangeRequest, responses(
    (status = 200, body = WatchItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
    body: Result<Json<WatchChangeRequest>, JsonRejection>,
) -> Result<Json<WatchItem>, ApiError> {
    let Json(wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let id = resolve(&shared.store, Numbered::Watch, &id).await?;
    let change = match wanted {
        WatchChangeRequest::Pause => WatchChange::Pause,
        WatchChangeRequest::Resume => WatchChange::Resume,
        WatchChangeRequest::End => WatchChange::End,
        WatchChangeRequest::Attach { incident } => {
            WatchChange::Attach(IncidentId::from_uuid(incident))
        }
    };
    let version = shared.store.change_watch(id, change, &by.name).await?;
    shared.tell_agents(version);
    shared.change_added.notify_one();
    detail(&shared, id).await
}

/// All suppressions that last or are to come.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Suppressions {
    items: Vec<SuppressionItem>,
}

/// Suppressions that last or are to come.
#[utoipa::path(get, path = "/suppressions", operation_id = "getSuppressions", responses(
    (status = 200, body = Suppressions),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn suppressions(
    State(shared): State<Arc<Shared>>,
) -> Result<Json<Suppressions>, ApiError> {
    let records = shared.store.suppressions().await?;
    Ok(Json(Suppressions { items: records.into_iter().map(SuppressionItem::from).collect() }))
}

/// What is to be suppressed.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SuppressionRequest {
    /// From this site only, by name.
    site: Option<String>,
    /// To this target only, by name.
    target: Option<String>,
    /// From when; now where absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// Until when.
    #[serde(with = "time::serde::rfc3339")]
    until: OffsetDateTime,
    /// Why.
    reason: String,
}

/// Plans a pause of measurement: everywhere, for one site, or for one target.
#[utoipa::path(post, path = "/suppressions", operation_id = "suppress",
    request_body = SuppressionRequest, responses(
    (status = 201, body = SuppressionItem),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn suppress(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<SuppressionRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<SuppressionItem>), ApiError> {
    let Json(wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let now = OffsetDateTime::now_utc();
    let from = checked_time("from", wanted.from.unwrap_or(now))?;
    let until = checked_time("until", wanted.until)?;
    if until <= from.max(now) || until - from > LONGEST_SUPPRESSION {
        let reason = "until: after its beginning and after now, and 90 days later at most";
        return Err(ApiError::BadInput(reason.to_owned()));
    }
    let paths = shared.store.paths(None, 10_000).await?;
    for (field, wanted, known) in [
        ("site", &wanted.site, paths.iter().map(|path| &path.site).collect::<Vec<_>>()),
        ("target", &wanted.target, paths.iter().map(|path| &path.target).collect()),
    ] {
        if let Some(name) = wanted.as_ref().filter(|name| !known.contains(name)) {
            return Err(ApiError::BadInput(format!(
                "{field}: nothing measured is called {name:?}"
            )));
        }
    }
    let new = NewSuppression {
        site: wanted.site,
        target: wanted.target,
        from,
        until,
        reason: checked_text("reason", &wanted.reason, 1)?,
        user: by.name,
    };
    let (id, version) = shared.store.suppress(&new).await?;
    shared.tell_agents(version);
    let made = shared.store.suppressions().await?.into_iter().find(|record| record.id == id);
    let made = made.ok_or_else(|| ApiError::unknown_id(&id.to_string()))?;
    Ok((StatusCode::CREATED, Json(made.into())))
}

/// Ends a suppression now, or before it begins.
#[utoipa::path(delete, path = "/suppressions/{id}", operation_id = "liftSuppression",
    params(("id" = String, Path, description = "The suppression's id or short number")), responses(
    (status = 204, description = "Lifted"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn lift(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let id = resolve(&shared.store, Numbered::Suppression, &id).await?;
    let version = shared.store.lift_suppression(id, &by.name).await?;
    shared.tell_agents(version);
    Ok(StatusCode::NO_CONTENT)
}
