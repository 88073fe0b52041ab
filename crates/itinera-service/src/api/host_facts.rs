//! What agents find around them.

use super::view::host_facts::{GatewayView, HostFactsView, view};
use super::view::message::NoteView;
use super::view::path::offset;
use super::{AsOf, ValidQuery};
use crate::context::Shared;
use crate::inventory::MOST_PATHS;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_analysis::roaming;
use itinera_model::finding::Assessment;
use itinera_model::id::AgentId;
use itinera_model::note::Note;
use std::net::IpAddr;
use std::sync::Arc;
use time::Duration;

/// How far back gateways are looked for.
const LOOKED_BACK: Duration = Duration::days(1);

/// What an agent finds around it, with the gateways it used in the last day; or what it found at another
/// time, and in the day before that.
#[utoipa::path(get, path = "/agents/{id}/host-facts", operation_id = "getHostFacts",
    params(("id" = String, Path, description = "The agent's id"), AsOf), responses(
    (status = 200, body = HostFactsView),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn host_facts(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(as_of): ValidQuery<AsOf>,
) -> Result<Json<HostFactsView>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let agent: AgentId = id.parse().map_err(|_| unknown())?;
    let agents = shared.store.agents().await?;
    let record = agents.into_iter().find(|record| record.id == agent).ok_or_else(unknown)?;
    let at = as_of.at(shared.clock.now())?;
    let all = shared.store.host_facts_between(agent, at - LOOKED_BACK, at).await?;
    let reports: Vec<roaming::Report<'_>> = all
        .iter()
        .map(|it| roaming::Report {
            at: it.at,
            host_facts: &it.round.host_facts,
            gateway: it.round.gateway.as_ref(),
        })
        .collect();
    let (used, better) = roaming::gateways(&reports);
    let gateways = used.into_iter().map(|used| GatewayView {
        address: used.address.to_string(),
        interface: used.interface,
        first_at: offset(used.first_at),
        last_at: offset(used.last_at),
        in_use: used.in_use,
        delay_us: used.delay.map(|delay| delay.as_micros()),
    });
    let paths = shared.store.paths(None, MOST_PATHS).await?;
    let own = paths.iter().filter(|path| path.agent == agent);
    let judged: Vec<&Assessment> = own.clone().filter_map(|path| path.latest.as_ref()).collect();
    let (map, _) = shared.owner_map_at(at).await?;
    let provider = roaming::access_provider(&judged, &map);
    let mut targets: Vec<(&str, IpAddr)> =
        own.filter_map(|path| Some((path.target.as_str(), path.address.parse().ok()?))).collect();
    targets.sort_unstable();
    let mut notes = all.last().map_or_else(
        || vec![Note::NoHostFacts],
        |newest| roaming::notes(&newest.round.host_facts, &targets),
    );
    notes.extend(provider);
    notes.extend(better);
    let notes = NoteView::all(notes, &map);
    Ok(Json(view(record.site, &all, notes, gateways.collect())))
}
