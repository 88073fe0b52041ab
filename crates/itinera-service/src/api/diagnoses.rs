//! Diagnoses: started by users, run by agents.

use super::ValidQuery;
use super::numbers::resolve;
use super::view::diagnosis::{ConclusionView, DiagnosisItem, StepView, TaskState, progress};
use super::view::path::offset;
use crate::context::Shared;
use crate::inventory::{MOST_PATHS, by_address};
use crate::past;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use crate::two_way;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_analysis::catalogue;
use itinera_analysis::diagnosis::{self, Context, ReturnCounts};
use itinera_model::check::Ask;
use itinera_model::diagnosis::{DiagnosisTask, Observations};
use itinera_model::finding::Assessment;
use itinera_model::id::{AgentId, DiagnosisId, IncidentId, PairId, PathId};
use itinera_model::path::Family;
use itinera_model::unit::WallTime;
use itinera_store::{AgentRecord, DiagnosisRecord, Numbered, PairRecord, TargetRecord};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Longest wait for an agent to start.
const PATIENCE: Duration = Duration::minutes(3);
/// Diagnoses listed at once.
const MOST: i64 = 100;
/// Duration of the two-way measurement that a diagnosis starts.
const TWO_WAY_FOR: Duration = Duration::minutes(1);
/// How long after a diagnosis the return route is waited for.
const BACK_WAIT: Duration = Duration::seconds(15);
/// How far back packets between two agents show the return route.
const PAIRED: Duration = Duration::minutes(2);

/// Stored data beside diagnoses.
struct DiagnosisContext {
    paths: BTreeMap<(AgentId, IpAddr), PathId>,
    pairs: Vec<PairRecord>,
}

/// Packets on the return route from an agent at the target, by what both exchanged just before and
/// during the diagnosis; absent without such an agent, or where both are not to exchange packets.
async fn return_counts(
    shared: &Shared,
    beside: &DiagnosisContext,
    record: &DiagnosisRecord,
    seen: &Observations,
) -> Result<Option<ReturnCounts>, ApiError> {
    let at = offset(seen.began);
    let there = |address: IpAddr| Some(address) == seen.address;
    let sends =
        |pair: &PairRecord| pair.spec.sender == record.agent && there(pair.spec.reflector_address);
    let answers =
        |pair: &PairRecord| pair.spec.reflector == record.agent && there(pair.spec.sender_address);
    let pairs = beside.pairs.iter().filter(|pair| sends(pair) || answers(pair));
    let ids: Vec<PairId> = pairs.clone().map(|pair| pair.id).collect();
    if ids.is_empty() {
        return Ok(None);
    }
    let until = record.done_at.unwrap_or(at) + BACK_WAIT;
    let rounds = shared.store.two_way_between(&ids, at - PAIRED, until).await?;
    let (mut arrived, mut lost) = (0, 0);
    for pair in pairs.clone() {
        for round in rounds.get(&pair.id).into_iter().flatten() {
            let back = if sends(pair) { &round.return_ } else { &round.forward };
            arrived += u32::from(back.arrived);
            lost += u32::from(back.lost);
        }
    }
    let heard = arrived + lost > 0 || pairs.clone().any(|pair| pair.is_measured(at));
    Ok(heard.then_some(ReturnCounts { arrived, lost }))
}

/// What the agent's own schedule had measured on the path there when the look was over.
async fn measured_then(
    shared: &Shared,
    beside: &DiagnosisContext,
    record: &DiagnosisRecord,
    seen: &Observations,
) -> Result<Option<Assessment>, ApiError> {
    let Some(address) = seen.address else { return Ok(None) };
    let Some(path) = beside.paths.get(&(record.agent, address)).copied() else { return Ok(None) };
    let began = offset(seen.began);
    let took = Duration::microseconds(seen.took_us.as_micros().into());
    let (from, to) = (began - Duration::minutes(1), began + took);
    let mut assessed = past::assessments(&shared.store, &[path], from, to).await?;
    Ok(assessed.remove(&path).and_then(|mut windows| windows.pop()))
}

async fn items(
    shared: &Shared,
    records: Vec<DiagnosisRecord>,
) -> Result<Vec<DiagnosisItem>, ApiError> {
    let mut beside = DiagnosisContext { paths: BTreeMap::new(), pairs: Vec::new() };
    if records.iter().any(|record| record.observed.is_some()) {
        beside.paths = by_address(&shared.store.paths(None, MOST_PATHS).await?);
        beside.pairs = shared.store.pairs().await?;
    }
    let mut items = Vec::new();
    for record in records {
        items.push(item(shared, &beside, record).await?);
    }
    Ok(items)
}

async fn item(
    shared: &Shared,
    beside: &DiagnosisContext,
    record: DiagnosisRecord,
) -> Result<DiagnosisItem, ApiError> {
    let (mut state, mut progress) = progress(&record, shared.clock.wall_now());
    let mut judged = None;
    let mut back = None;
    if let Some(seen) = &record.observed {
        back = return_counts(shared, beside, &record, seen).await?;
        let is_silent = back.is_some_and(|back| back.arrived + back.lost == 0);
        let now = OffsetDateTime::now_utc();
        if is_silent && record.done_at.is_some_and(|done| now < done + BACK_WAIT) {
            progress = "Waiting for packets of the agent at the other end.".to_owned();
            state = TaskState::Running;
        }
    }
    if let Some(seen) = record.observed.as_ref().filter(|_| state != TaskState::Running) {
        let (map, _) = shared.owner_map_at(record.asked_at).await?;
        let path = measured_then(shared, beside, &record, seen).await?;
        let known = Context { path, back };
        let judged_now = diagnosis::judge(seen, &map, &known);
        let text = diagnosis::text(&judged_now, seen, &map);
        judged = Some((judged_now, text, map));
    }
    let numbers = shared.store.incident_numbers(record.incident).await?;
    let (mut part, mut steps, mut conclusion, mut text) = (None, Vec::new(), None, None);
    if let Some((judged, as_text, map)) = judged {
        part = Some(judged.part);
        let words = catalogue::conclusion(&judged.conclusion, &judged.steps, &map);
        let catalogue::Words { headline, contact, detail } = words;
        let data = judged.conclusion;
        conclusion = Some(ConclusionView { conclusion: data, headline, contact, detail });
        steps.extend(judged.steps.into_iter().map(|step| StepView {
            step: step.kind,
            name: step.kind.to_string(),
            found: step.found,
            words: catalogue::step(&step.message, &map),
            message: step.message,
        }));
        text = Some(as_text);
    }
    Ok(DiagnosisItem {
        id: record.order.id.as_uuid(),
        no: record.no,
        site: record.site,
        agent: record.agent.as_uuid(),
        target: record.order.target,
        user: record.user,
        asked_at: record.asked_at,
        done_at: record.done_at,
        state,
        progress,
        incident: record.incident.map(IncidentId::as_uuid),
        incident_no: numbers.into_values().next(),
        part,
        steps,
        conclusion,
        text,
    })
}

/// The diagnoses of one incident.
pub(super) async fn of_incident(
    shared: &Shared,
    incident: IncidentId,
) -> Result<Vec<DiagnosisItem>, ApiError> {
    items(shared, shared.store.diagnoses(None, Some(incident), MOST).await?).await
}

/// Diagnoses, newest first.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Diagnoses {
    items: Vec<DiagnosisItem>,
}

/// Which diagnoses.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct DiagnosisFilter {
    /// Only those of this incident.
    incident: Option<Uuid>,
}

/// The newest hundred diagnoses, newest first.
#[utoipa::path(get, path = "/diagnoses", operation_id = "getDiagnoses", params(DiagnosisFilter), responses(
    (status = 200, body = Diagnoses),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn diagnoses(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<DiagnosisFilter>,
) -> Result<Json<Diagnoses>, ApiError> {
    let incident = which.incident.map(IncidentId::from_uuid);
    let items = items(&shared, shared.store.diagnoses(None, incident, MOST).await?).await?;
    Ok(Json(Diagnoses { items }))
}

/// One diagnosis with its progress.
#[utoipa::path(get, path = "/diagnoses/{id}", operation_id = "getDiagnosis",
    params(("id" = String, Path, description = "The diagnosis's id or short number")), responses(
    (status = 200, body = DiagnosisItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn diagnosis(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<DiagnosisItem>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let wanted = resolve(&shared.store, Numbered::Diagnosis, &id).await?;
    let wanted = DiagnosisId::from_uuid(wanted);
    let found = shared.store.diagnoses(Some(wanted), None, 1).await?;
    Ok(Json(items(&shared, found).await?.pop().ok_or_else(unknown)?))
}

/// Target and starting point of a diagnosis.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct DiagnosisRequest {
    /// From this site, by name; the complaining one of the incident where absent.
    site: Option<String>,
    /// To this service, by name; the one complained of where absent.
    service: Option<String>,
    /// To this target of it, by name; the first that is asked anything where absent.
    target: Option<String>,
    /// To the agent at this other site, instead.
    to_site: Option<String>,
    /// The incident that it is attached to.
    incident: Option<Uuid>,
}

/// The agent at a site that was heard of last.
async fn agent_at(shared: &Shared, field: &str, site: &str) -> Result<AgentRecord, ApiError> {
    let agents = shared.store.agents().await?;
    let here = agents.into_iter().filter(|agent| agent.site == site);
    here.max_by_key(|agent| agent.last_batch_at)
        .ok_or_else(|| ApiError::BadInput(format!("{field}: no agent is at {site:?}")))
}

/// What the order says of a target: address or name, and what is asked.
fn toward(target: &TargetRecord, family: Family) -> (Option<IpAddr>, Option<String>, Vec<Ask>) {
    let asked = target.spec.checks.iter().find(|check| !matches!(check.ask, Ask::Name(_)));
    let host = asked.and_then(|check| check.host.clone()).or_else(|| target.spec.host.clone());
    let addresses = target.spec.addresses.iter().copied();
    let address = addresses.clone().find(|address| Family::of(*address) == family);
    let asks = match asked {
        Some(check) => vec![check.ask.clone()],
        None => target.spec.port.map(|port| Ask::Connect { port }).into_iter().collect(),
    };
    let address = if host.is_some() { None } else { address.or_else(|| addresses.clone().next()) };
    (address, host, asks)
}

/// Starts a diagnosis on an agent, from its machine to a service.
#[utoipa::path(post, path = "/diagnoses", operation_id = "startDiagnosis",
    request_body = DiagnosisRequest, responses(
    (status = 201, body = DiagnosisItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn start_diagnosis(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<DiagnosisRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<DiagnosisItem>), ApiError> {
    let Json(mut wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let incident = match wanted.incident.map(IncidentId::from_uuid) {
        None => None,
        Some(id) => {
            let unknown = || ApiError::unknown_id(&id.to_string());
            let record = shared.store.incident(id).await?.ok_or_else(unknown)?;
            if let Some(complaint) = record.complaint {
                wanted.site.get_or_insert(complaint.site);
                if wanted.to_site.is_none() && wanted.target.is_none() {
                    wanted.service.get_or_insert(complaint.service);
                }
            }
            Some(id)
        }
    };
    let site = wanted.site.ok_or_else(|| ApiError::BadInput("site: from where?".to_owned()))?;
    let agent = agent_at(&shared, "site", &site).await?;
    let mut two_way = None;
    let (words, address, name, asks) = match &wanted.to_site {
        Some(other) => {
            let there = agent_at(&shared, "to_site", other).await?;
            if there.id == agent.id {
                let words =
                    format!("to_site: {other} is where the diagnosis starts; name another site");
                return Err(ApiError::BadInput(words));
            }
            two_way = two_way::between(&shared, agent.id, there.id).await?;
            let address = match &two_way {
                Some(pair) => Some(pair.other_end(agent.id)),
                None => there.addresses.first().copied(),
            };
            let unknown = || ApiError::BadInput(format!("to_site: where {other} is not known"));
            (format!("the agent at {other}"), Some(address.ok_or_else(unknown)?), None, Vec::new())
        }
        None => {
            let targets = shared.store.targets().await?;
            let fits = |target: &&TargetRecord| match (&wanted.target, &wanted.service) {
                (Some(name), _) => target.spec.name == *name,
                (None, Some(service)) => target.spec.service == *service,
                (None, None) => false,
            };
            let mut fitting: Vec<&TargetRecord> = targets.iter().filter(fits).collect();
            fitting.sort_by_key(|target| target.spec.checks.is_empty());
            let target = fitting.first().ok_or_else(|| {
                let known: BTreeSet<&str> =
                    targets.iter().map(|it| it.spec.service.as_str()).collect();
                let known = known.into_iter().collect::<Vec<_>>().join(", ");
                ApiError::BadInput(format!(
                    "service: name one of these, a target or another site: {known}"
                ))
            })?;
            let (address, name, asks) = toward(target, Family::Ipv4);
            (target.spec.name.clone(), address, name, asks)
        }
    };
    let family = address.map_or(Family::Ipv4, Family::of);
    let now = shared.clock.wall_now();
    let patience = i64::try_from(PATIENCE.whole_microseconds()).unwrap_or(i64::MAX);
    let order = DiagnosisTask {
        id: DiagnosisId::from_uuid(Uuid::now_v7()),
        target: words,
        address,
        name,
        family,
        asks,
        not_after: WallTime::from_unix_micros(now.as_unix_micros().saturating_add(patience)),
    };
    let until = OffsetDateTime::now_utc() + TWO_WAY_FOR;
    let two_way = two_way.as_ref().map(|pair| (pair, until));
    let version =
        shared.store.order_diagnosis(agent.id, &order, &by.name, incident, two_way).await?;
    shared.tell_agents(version);
    shared.change_added.notify_one();
    let ordered = shared.store.diagnoses(Some(order.id), None, 1).await?;
    let unknown = || ApiError::unknown_id(&order.id.to_string());
    Ok((StatusCode::CREATED, Json(items(&shared, ordered).await?.pop().ok_or_else(unknown)?)))
}
