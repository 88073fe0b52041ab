//! The HTTP API for users and programs: JSON under `/api/v1`, described by OpenAPI 3.1.
#![allow(unused_qualifications, reason = "the macro that describes a call repeats its paths")]

mod agents;
mod alarms;
mod checks;
mod compose;
mod counts;
mod diagnoses;
mod events;
mod evidence;
mod hand_over;
mod history;
mod host_facts;
mod incidents;
mod join_codes;
mod notices;
mod numbers;
mod owners;
mod pairs;
mod paths;
mod planned_work;
mod quiet_hours;
mod rules;
mod saved_views;
mod session;
mod set_aside;
mod shelving;
mod status;
mod storage;
mod throughput;
mod users;
mod view;
mod watches;
mod weave;

pub(crate) use compose::compose_notices;
pub(crate) use planned_work::refresh_calendars;
pub(crate) use shelving::shelve_alarms;
pub use view::message::{MessageView, NoteView};

use crate::console;
use crate::context::Shared;
use crate::disk::Room;
use crate::duty::Duty;
use crate::live;
use crate::metrics::{self, SHOWN_PATHS};
use crate::problem::{ApiError, Problem, name_requests, only_known_hosts};
use crate::sign_in;
use axum::extract::{DefaultBodyLimit, FromRequestParts, Query, State};
use axum::http::request::Parts;
use axum::http::{StatusCode, Uri, header};
use axum::middleware::{from_fn, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use itinera_store::Lasting;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::str::FromStr;
use std::sync::Arc;
use std::time::Instant;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};
use utoipa::openapi::OpenApi;
use utoipa::{IntoParams, OpenApi as _};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// Longest note.
const LONGEST_TEXT: usize = 10_000;
/// Bytes of a request.
const MAX_BODY: usize = 1 << 20;
/// Bytes of an owner map.
const MAX_OWNER_MAP: usize = 64 << 20;
const MAX_PAGE: u16 = 500;

#[derive(utoipa::OpenApi)]
#[openapi(
    info(
        title = "Itinera",
        description = "Locates loss and delay on network paths: the link, its owner and the start time.",
        license(name = "Apache-2.0", identifier = "Apache-2.0")
    ),
    components(schemas(Problem, live::LiveTopic))
)]
struct Description;

fn described() -> OpenApiRouter<Arc<Shared>> {
    let owner_maps = OpenApiRouter::new()
        .routes(routes!(owners::import_owners))
        .layer(DefaultBodyLimit::max(MAX_OWNER_MAP));
    let api = OpenApiRouter::new()
        .routes(routes!(status::status))
        .routes(routes!(agents::agents))
        .routes(routes!(set_aside::set_aside))
        .routes(routes!(set_aside::retry))
        .routes(routes!(storage::storage))
        .routes(routes!(history::history))
        .routes(routes!(history::pair_history))
        .routes(routes!(counts::counts))
        .routes(routes!(counts::pair_counts))
        .routes(routes!(host_facts::host_facts))
        .routes(routes!(checks::checks))
        .routes(routes!(checks::check))
        .routes(routes!(checks::ask_now))
        .routes(routes!(events::events))
        .routes(routes!(events::event))
        .routes(routes!(diagnoses::diagnoses, diagnoses::start_diagnosis))
        .routes(routes!(diagnoses::diagnosis))
        .routes(routes!(paths::paths))
        .routes(routes!(paths::path))
        .routes(routes!(alarms::alarms))
        .routes(routes!(alarms::alarm))
        .routes(routes!(alarms::act))
        .merge(owner_maps)
        .routes(routes!(join_codes::make_join_code))
        .routes(routes!(weave::weave))
        .routes(routes!(weave::then))
        .routes(routes!(pairs::pairs))
        .routes(routes!(pairs::pair))
        .routes(routes!(pairs::make_voice))
        .routes(routes!(throughput::throughput, throughput::measure))
        .routes(routes!(watches::watches, watches::start))
        .routes(routes!(watches::watch, watches::change))
        .routes(routes!(watches::suppressions, watches::suppress))
        .routes(routes!(watches::lift))
        .routes(routes!(incidents::incidents, incidents::open))
        .routes(routes!(incidents::incident))
        .routes(routes!(incidents::add_note))
        .routes(routes!(incidents::close))
        .routes(routes!(incidents::reopen))
        .routes(routes!(hand_over::hand_over))
        .routes(routes!(planned_work::calendars))
        .routes(routes!(planned_work::save_calendar, planned_work::remove_calendar))
        .routes(routes!(planned_work::planned_work))
        .routes(routes!(rules::rules, rules::save))
        .routes(routes!(rules::versions))
        .routes(routes!(rules::trial))
        .routes(routes!(saved_views::views))
        .routes(routes!(saved_views::save_view, saved_views::remove_view))
        .routes(routes!(notices::receivers, notices::add_receiver))
        .routes(routes!(notices::change_receiver, notices::remove_receiver))
        .routes(routes!(notices::test_receiver))
        .routes(routes!(notices::request_notice))
        .routes(routes!(notices::notices))
        .routes(routes!(notices::retry))
        .routes(routes!(session::sign_in, session::session, session::sign_out))
        .routes(routes!(session::change_password))
        .routes(routes!(users::users, users::add_user))
        .routes(routes!(users::assignees))
        .routes(routes!(users::change_user))
        .routes(routes!(users::tokens, users::make_token))
        .routes(routes!(users::revoke_token))
        .routes(routes!(users::audit));
    OpenApiRouter::with_openapi(Description::openapi()).nest("/api/v1", api)
}

/// The API's description, without a running service.
pub fn description() -> OpenApi {
    described().into_openapi()
}

/// All routes for users and programs.
pub(crate) fn router(shared: Arc<Shared>) -> Router {
    let (api, description) = described().split_for_parts();
    let description = Arc::new(description);
    let public_host = shared.public_host();
    api.route(
        "/api/v1/openapi.json",
        get(move || async move { Json(description.as_ref().clone()) }),
    )
    .route("/api/v1/live", get(live::live))
    .route("/api/{*rest}", get(nowhere).post(nowhere))
    .route("/healthz", get(|| async { "alive\n" }))
    .route("/readyz", get(ready))
    .route("/metrics", get(health_metrics))
    .route("/metrics/measurements", get(measurements))
    .fallback_service(get(console::serve))
    .layer(DefaultBodyLimit::max(MAX_BODY))
    .layer(from_fn_with_state(Arc::clone(&shared), sign_in::guard))
    .layer(from_fn_with_state(public_host, only_known_hosts))
    .layer(from_fn(name_requests))
    .with_state(shared)
}

async fn nowhere(uri: Uri) -> ApiError {
    ApiError::UnknownPlace(uri.path().to_owned())
}

/// Whether everything is done that has to be; names what is not.
async fn ready(State(shared): State<Arc<Shared>>) -> Response {
    let mut not_done: Vec<&str> =
        shared.duties.not_done(Instant::now()).into_iter().map(Duty::word).collect();
    if shared.store.is_alive().await.is_err() {
        not_done.insert(0, "database");
    }
    if shared.disk.borrow().room == Room::Full {
        not_done.insert(0, "disk full");
    }
    if not_done.is_empty() {
        return "ready\n".into_response();
    }
    let text = format!("not ready: {}\n", not_done.join(", "));
    (StatusCode::SERVICE_UNAVAILABLE, text).into_response()
}

async fn health_metrics(State(shared): State<Arc<Shared>>) -> Result<Response, ApiError> {
    let counts = shared.store.status_counts().await?;
    let storage = shared.storage().await?;
    let room = shared.disk.borrow().room;
    open_metrics(shared.metrics.text(&counts, &storage, room, &shared.duties))
}

/// What was measured, for the reader's own metrics stack; its cardinality is bounded.
async fn measurements(State(shared): State<Arc<Shared>>) -> Result<Response, ApiError> {
    let limit = i64::try_from(SHOWN_PATHS + 1).unwrap_or(i64::MAX);
    let paths = shared.store.paths(None, limit).await?;
    open_metrics(metrics::measurements(&paths, shared.clock.wall_now()))
}

fn open_metrics(text: Result<String, std::fmt::Error>) -> Result<Response, ApiError> {
    let text = text.map_err(|error| ApiError::Internal(Box::new(error)))?;
    let media = "application/openmetrics-text; version=1.0.0; charset=utf-8";
    Ok(([(header::CONTENT_TYPE, media)], text).into_response())
}

/// A query string, refused as a problem when it cannot be read.
struct ValidQuery<T>(T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for ValidQuery<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        match Query::from_request_parts(parts, state).await {
            Ok(Query(asked)) => Ok(Self(asked)),
            Err(rejection) => Err(ApiError::BadInput(rejection.body_text())),
        }
    }
}

/// Which page of a list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct Page {
    /// The `next` of the page before; absent for the first page.
    after: Option<String>,
    /// Items on a page, 1 to 500.
    #[serde(default = "default_limit")]
    limit: u16,
}

const fn default_limit() -> u16 {
    100
}

impl Page {
    fn limit(&self) -> Result<u16, ApiError> {
        checked_limit(self.limit)
    }

    /// The time and the id of the last item of the page before, of lists from the newest on.
    fn before<I: FromStr>(&self) -> Result<Option<(OffsetDateTime, I)>, ApiError> {
        let Some(text) = self.after.as_deref() else { return Ok(None) };
        let bad = || ApiError::BadInput("after: not the `next` of an earlier page".to_owned());
        let (at, id) = text.split_once('_').ok_or_else(bad)?;
        let at = OffsetDateTime::parse(at, &Rfc3339).map_err(|_| bad())?;
        Ok(Some((at, id.parse().map_err(|_| bad())?)))
    }
}

/// A range of time.
#[derive(Debug, Clone, Copy, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct During {
    /// Only those that were open at this time (RFC 3339) or later.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// Only those that were open at this time (RFC 3339) or before.
    #[serde(default, with = "time::serde::rfc3339::option")]
    to: Option<OffsetDateTime>,
}

impl During {
    /// What lasted in this range, and where asked for is still open.
    fn lasting(self, open: bool) -> Result<Lasting, ApiError> {
        let from = self.from.map(|at| checked_time("from", at)).transpose()?;
        let to = self.to.map(|at| checked_time("to", at)).transpose()?;
        from.zip(to).map_or(Ok(()), in_order)?;
        Ok(Lasting { open, from, to })
    }
}

/// A time that something is shown of.
#[derive(Debug, Clone, Copy, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct AsOf {
    /// What was so at this time (RFC 3339); now where it is absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    at: Option<OffsetDateTime>,
}

impl AsOf {
    /// The time, which is not later than `now`.
    fn at(self, now: OffsetDateTime) -> Result<OffsetDateTime, ApiError> {
        Ok(self.at.map_or(Ok(now), |at| checked_time("at", at))?.min(now))
    }
}

fn in_order((from, to): (OffsetDateTime, OffsetDateTime)) -> Result<(), ApiError> {
    if from < to { Ok(()) } else { Err(ApiError::BadInput("from: not before `to`".to_owned())) }
}

/// A range of measurements: up to now and as long as `default` where nothing else is asked for.
fn checked_range(
    (from, to): (Option<OffsetDateTime>, Option<OffsetDateTime>),
    default: Duration,
    now: OffsetDateTime,
) -> Result<(OffsetDateTime, OffsetDateTime), ApiError> {
    let to = checked_time("to", to.unwrap_or(now))?;
    let range = (checked_time("from", from.unwrap_or(to - default))?, to);
    in_order(range)?;
    Ok(range)
}

/// A time that measurements can be of; refused where arithmetic with it could leave the calendar.
fn checked_time(field: &str, at: OffsetDateTime) -> Result<OffsetDateTime, ApiError> {
    if (1970..=2200).contains(&at.year()) {
        Ok(at)
    } else {
        Err(ApiError::BadInput(format!("{field}: the year {} is outside 1970 to 2200", at.year())))
    }
}

/// Trimmed text of a user: `least` to [`LONGEST_TEXT`] characters without controls.
fn checked_text(field: &str, text: &str, least: usize) -> Result<String, ApiError> {
    let text = text.trim();
    let length = text.chars().count();
    let odd = |c: char| c.is_control() && c != '\n' && c != '\t';
    if (least..=LONGEST_TEXT).contains(&length) && !text.chars().any(odd) {
        return Ok(text.to_owned());
    }
    let reason = format!("{field}: {least} to {LONGEST_TEXT} visible characters are needed");
    Err(ApiError::BadInput(reason))
}

fn checked_limit(limit: u16) -> Result<u16, ApiError> {
    if (1..=MAX_PAGE).contains(&limit) {
        Ok(limit)
    } else {
        Err(ApiError::BadInput(format!("limit: {limit} is outside 1 to {MAX_PAGE}")))
    }
}
