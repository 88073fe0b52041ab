//! Checks of services with what they found.

use super::ValidQuery;
use super::message::MessageView;
use super::numbers::resolve;
use super::view::offset;
use crate::context::Shared;
use crate::events::{MOST_PATHS, by_address, facts_of};
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_analysis::event;
use itinera_model::check::{Ask, AskKind, CheckResult, Outcome};
use itinera_model::finding::Assessment;
use itinera_model::id::{AgentId, CheckId, PathId};
use itinera_model::owner::OwnerMap;
use itinera_model::path::Family;
use itinera_store::{CheckRecord, CheckedAt, EventQuery, Numbered};
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

/// How long a step took.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PhaseView {
    /// `name`, `connect`, `tls`, `greeting`, `dialogue`, `first-byte` or `transfer`.
    step: String,
    took_us: u32,
}

/// State of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum CheckState {
    /// The newest result is as expected.
    Good,
    /// The newest result is a failure.
    Broken,
    /// There is no result of the last day.
    Unknown,
}

/// A check with its newest result.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct CheckItem {
    id: Uuid,
    /// Its short number.
    no: i32,
    site: String,
    agent: Uuid,
    target: String,
    service: String,
    family: Family,
    kind: AskKind,
    /// The name it is asked by, or that is asked for.
    host: Option<String>,
    port: Option<u16>,
    every_s: u32,
    /// It is being asked.
    active: bool,
    /// Unknown before the first result and after a day without any.
    state: CheckState,
    /// What the newest result says.
    message: Option<MessageView>,
    /// When it was measured.
    #[serde(with = "time::serde::rfc3339::option")]
    at: Option<OffsetDateTime>,
    /// Where it broke: the step, and why in words.
    broke_at: Option<String>,
    why: Option<String>,
    /// The very address and port that were spoken to.
    spoke_to: Option<String>,
    /// The path to that address from the same agent, where it is measured.
    path: Option<Uuid>,
    /// All steps together.
    took_us: Option<u32>,
    phases: Vec<PhaseView>,
    /// The event about it that lasts.
    event: Option<MessageView>,
}

/// What one resolver said.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ResolvedView {
    resolver: String,
    /// Why there is no answer, in words.
    why: Option<String>,
    addresses: Vec<String>,
    /// How long the answer may be kept, in seconds.
    ttl_s: Option<u32>,
    /// It says so with authority; else it has it from elsewhere, or from memory.
    authoritative: bool,
    /// It was too long for a datagram.
    truncated: bool,
    took_us: u32,
}

/// One certificate of a chain.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CertificateView {
    subject: String,
    issuer: String,
    names: Vec<String>,
    #[serde(with = "time::serde::rfc3339")]
    not_before: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    not_after: OffsetDateTime,
}

/// A resource of a page.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ResourceView {
    path: String,
    /// When it was asked for, counted from the page's beginning.
    begun_us: u32,
    first_byte_us: Option<u32>,
    took_us: u32,
    size_bytes: u64,
    status: Option<u16>,
    /// How it failed, in words.
    why: Option<String>,
}

/// What was seen of HTTP.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WebView {
    /// `1.1` or `2`.
    version: String,
    status: Option<u16>,
    size_bytes: u64,
    /// There was more, which was not read.
    cut: bool,
    rate_bytes_per_s: Option<u64>,
    redirects: Vec<String>,
    /// What the page refers to.
    resources: Vec<ResourceView>,
}

/// One result, in short.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ResultItem {
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    good: bool,
    /// In words.
    why: Option<String>,
    took_us: u32,
    rate_bytes_per_s: Option<u64>,
}

/// A check with everything that its newest result says, and those before it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CheckDetail {
    #[serde(flatten)]
    item: CheckItem,
    resolved: Vec<ResolvedView>,
    tls_version: Option<String>,
    certificates: Vec<CertificateView>,
    web: Option<WebView>,
    /// What the server said, as it came: foreign text.
    said: Option<String>,
    /// From the newest on.
    results: Vec<ResultItem>,
}

/// The word for how a result ended: good or not, where and why.
fn outcome(result: &CheckResult) -> (CheckState, Option<String>, Option<String>) {
    match result.outcome {
        Outcome::Good => (CheckState::Good, None, None),
        Outcome::Broke { at, why } => {
            (CheckState::Broken, Some(at.to_string()), Some(why.to_string()))
        }
    }
}

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
        let lasting = EventQuery { lasting: true, ..EventQuery::default() };
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
        let (state, broke_at, why) = result.map_or((CheckState::Unknown, None, None), outcome);
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
            broke_at,
            why,
            spoke_to: result.and_then(|result| result.spoke_to).map(|there| there.to_string()),
            path: path.map(PathId::as_uuid),
            took_us: result.map(|result| result.took_in_all().as_micros()),
            phases: result.map(phases).unwrap_or_default(),
            event: self.events.get(&record.id).cloned(),
        }
    }
}

fn phases(result: &CheckResult) -> Vec<PhaseView> {
    let view = |phase: &itinera_model::check::Phase| PhaseView {
        step: phase.step.to_string(),
        took_us: phase.took_us.as_micros(),
    };
    result.phases.iter().map(view).collect()
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

/// One check with everything that its newest result says.
#[utoipa::path(get, path = "/checks/{id}", operation_id = "getCheck",
    params(("id" = String, Path, description = "The check's id or short number")), responses(
    (status = 200, body = CheckDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn check(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<CheckDetail>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let wanted = CheckId::from_uuid(resolve(&shared.store, Numbered::Check, &id).await?);
    let records = shared.store.checks().await?;
    let record = records.into_iter().find(|record| record.id == wanted).ok_or_else(unknown)?;
    let now = OffsetDateTime::now_utc();
    let from = now - FRESH;
    let mut all = shared.store.checked_between(&[wanted], from, now, MOST_RESULTS).await?;
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

fn detail(item: CheckItem, all: &[CheckedAt]) -> CheckDetail {
    let seen = all.last().map(|newest| newest.round.result.seen.clone()).unwrap_or_default();
    let resolved = seen.resolved.into_iter().map(|one| ResolvedView {
        resolver: one.resolver.to_string(),
        why: one.why.map(|why| why.to_string()),
        addresses: one.addresses.iter().map(ToString::to_string).collect(),
        ttl_s: one.ttl_s,
        authoritative: one.authoritative,
        truncated: one.truncated,
        took_us: one.took_us.as_micros(),
    });
    let tls = seen.tls;
    let certificates = tls.iter().flat_map(|tls| &tls.chain).map(|one| CertificateView {
        subject: one.subject.clone(),
        issuer: one.issuer.clone(),
        names: one.names.clone(),
        not_before: offset(one.not_before),
        not_after: offset(one.not_after),
    });
    let web = seen.web.map(|web| WebView {
        version: web.version,
        status: web.status,
        size_bytes: web.size_bytes,
        cut: web.cut,
        rate_bytes_per_s: web.rate_bytes_per_s,
        redirects: web.redirects,
        resources: web
            .resources
            .into_iter()
            .map(|one| ResourceView {
                path: one.path,
                begun_us: one.begun_us.as_micros(),
                first_byte_us: one.first_byte_us.map(|took| took.as_micros()),
                took_us: one.took_us.as_micros(),
                size_bytes: one.size_bytes,
                status: one.status,
                why: one.why.map(|why| why.to_string()),
            })
            .collect(),
    });
    let results = all.iter().rev().map(|one| {
        let result = &one.round.result;
        let (state, at, why) = outcome(result);
        ResultItem {
            at: offset(one.at),
            good: state == CheckState::Good,
            why: at.zip(why).map(|(at, why)| format!("{at}: {why}")),
            took_us: result.took_in_all().as_micros(),
            rate_bytes_per_s: result.seen.web.as_ref().and_then(|web| web.rate_bytes_per_s),
        }
    });
    CheckDetail {
        item,
        resolved: resolved.collect(),
        tls_version: tls.as_ref().map(|tls| tls.version.clone()),
        certificates: certificates.collect(),
        web,
        said: seen.said,
        results: results.collect(),
    }
}
