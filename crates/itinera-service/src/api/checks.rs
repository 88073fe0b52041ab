//! Checks of services with what they found.

use super::numbers::resolve;
use super::view::check::{CheckDetail, CheckItem, CheckState, detail, outcome, phases};
use super::view::message::MessageView;
use super::view::path::offset;
use super::{ValidQuery, checked_range};
use crate::context::Shared;
use crate::inventory::{MOST_PATHS, by_address, facts_of};
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_analysis::event;
use itinera_model::check::{Ask, CheckResult};
use itinera_model::finding::Assessment;
use itinera_model::id::{AgentId, CheckId, PathId};
use itinera_model::owner::OwnerMap;
use itinera_store::{CheckRecord, CheckedAt, EventQuery, Lasting, Numbered};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// A result older than this is not shown.
const FRESH: Duration = Duration::days(1);
const MOST_EVENTS: u64 = 5_000;
/// Results shown of one check.
const MOST_RESULTS: i64 = 200;

/// What results are shown beside.
struct CheckContext {
    paths: BTreeMap<(AgentId, IpAddr), PathId>,
    latest: BTreeMap<PathId, Assessment>,
    events: BTreeMap<CheckId, MessageView>,
    map: Arc<OwnerMap>,
}

impl CheckContext {
    async fn gather(shared: &Shared) -> Result<Self, ApiError> {
        let paths = shared.store.paths(None, MOST_PATHS).await?;
        let by_address = by_address(&paths);
        let latest = paths.into_iter().filter_map(|path| Some((path.id, path.latest?))).collect();
        let lasting = EventQuery { lasting: Lasting::OPEN, ..EventQuery::default() };
        let events = shared.store.events(lasting, None, MOST_EVENTS).await?;
        let (map, _) = shared.owner_map_at(OffsetDateTime::now_utc()).await?;
        let events = events
            .into_iter()
            .filter_map(|it| Some((it.event.check?, MessageView::of_one(it.event.message, &map))));
        Ok(Self { paths: by_address, latest, events: events.collect(), map })
    }

    fn path(&self, agent: AgentId, result: &CheckResult) -> Option<PathId> {
        self.paths.get(&(agent, result.spoke_to?.ip())).copied()
    }

    fn item(&self, record: &CheckRecord, newest: Option<&CheckedAt>) -> CheckItem {
        let result = newest.map(|newest| &newest.round.result);
        let path = result.and_then(|result| self.path(record.agent, result));
        let (state, failed_at, cause) = result.map_or((CheckState::Unknown, None, None), outcome);
        let facts = facts_of(record);
        let host = match &record.spec.ask {
            Ask::Name(question) => Some(question.name.clone()),
            _ => record.spec.host.clone(),
        };
        CheckItem {
            id: record.id.as_uuid(),
            no: record.no,
            site: record.site.clone(),
            agent: record.agent.as_uuid(),
            target: record.target.clone(),
            service: record.service.clone(),
            family: record.family,
            kind: record.spec.ask.kind(),
            host,
            port: record.spec.ask.port(),
            every_s: record.spec.interval_ms / 1_000,
            active: record.active,
            state,
            message: result.map(|result| {
                let latest = path.and_then(|path| self.latest.get(&path));
                MessageView::of_one(event::of_result(&facts, result, latest), &self.map)
            }),
            at: newest.map(|newest| offset(newest.at)),
            failed_at,
            cause,
            spoke_to: result.and_then(|result| result.spoke_to).map(|there| there.to_string()),
            path: path.map(PathId::as_uuid),
            took_us: result.map(|result| result.took_in_all().as_micros()),
            phases: result.map(phases).unwrap_or_default(),
            event: self.events.get(&record.id).cloned(),
        }
    }
}

/// Checks with their newest results, by number.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Checks {
    items: Vec<CheckItem>,
}

/// Which checks.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct CheckFilter {
    /// Only checks with their newest result on this path.
    path: Option<Uuid>,
    /// Only those of this agent.
    agent: Option<Uuid>,
}

/// Checks that are asked, with their newest results, by number.
#[utoipa::path(get, path = "/checks", operation_id = "getChecks", params(CheckFilter), responses(
    (status = 200, body = Checks),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn checks(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<CheckFilter>,
) -> Result<Json<Checks>, ApiError> {
    let mut records = shared.store.checks().await?;
    records.retain(|record| {
        record.active && which.agent.is_none_or(|agent| record.agent.as_uuid() == agent)
    });
    let ids: Vec<CheckId> = records.iter().map(|record| record.id).collect();
    let now = OffsetDateTime::now_utc();
    let newest = shared.store.checked_between(&ids, now - FRESH, now, 1).await?;
    let beside = CheckContext::gather(&shared).await?;
    let mut items: Vec<CheckItem> = records
        .iter()
        .map(|record| beside.item(record, newest.get(&record.id).and_then(|all| all.last())))
        .collect();
    items.retain(|item| which.path.is_none_or(|path| item.path == Some(path)));
    Ok(Json(Checks { items }))
}

/// Results of which time.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ResultRange {
    /// Begin (RFC 3339); a day before the end by default.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// End (RFC 3339); now by default.
    #[serde(default, with = "time::serde::rfc3339::option")]
    to: Option<OffsetDateTime>,
}

/// One check with its results of a range of time, the newest 200, and everything that the newest of
/// these says.
#[utoipa::path(get, path = "/checks/{id}", operation_id = "getCheck",
    params(("id" = String, Path, description = "The check's id or short number"), ResultRange),
    responses(
    (status = 200, body = CheckDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn check(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(range): ValidQuery<ResultRange>,
) -> Result<Json<CheckDetail>, ApiError> {
    let (from, to) = checked_range((range.from, range.to), FRESH, shared.clock.now())?;
    let unknown = || ApiError::unknown_id(&id);
    let wanted = CheckId::from_uuid(resolve(&shared.store, Numbered::Check, &id).await?);
    let records = shared.store.checks().await?;
    let record = records.into_iter().find(|record| record.id == wanted).ok_or_else(unknown)?;
    let mut all = shared.store.checked_between(&[wanted], from, to, MOST_RESULTS).await?;
    let all = all.remove(&wanted).unwrap_or_default();
    let beside = CheckContext::gather(&shared).await?;
    Ok(Json(detail(beside.item(&record, all.last()), &all)))
}

/// Runs a check now. The result arrives with the agent's next batch.
#[utoipa::path(post, path = "/checks/{id}/now", operation_id = "askNow",
    params(("id" = String, Path, description = "The check's id or short number")), responses(
    (status = 202, description = "It will be asked"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn ask_now(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let check = CheckId::from_uuid(resolve(&shared.store, Numbered::Check, &id).await?);
    let version = shared.store.ask_now(check, &by.name).await?.ok_or_else(unknown)?;
    shared.tell_agents(Some(version));
    Ok(StatusCode::ACCEPTED)
}
