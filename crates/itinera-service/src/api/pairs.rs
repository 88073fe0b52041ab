//! Pairs of agents, each direction by itself.

use super::numbers::resolve;
use super::view::pair::{DirectionRound, PairDetail, PairItem, PairRound, PairRouteView, RECENT};
use super::view::path::offset;
use super::{AsOf, ValidQuery};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use itinera_model::id::PairId;
use itinera_model::two_way::{Direction, TwoWayRound};
use itinera_store::{Numbered, PairRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;

/// So far back single rounds are shown.
const SHOWN: Duration = Duration::hours(1);

/// All pairs.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Pairs {
    items: Vec<PairItem>,
}

/// Pairs of agents with two-way measurements, and their results of the last ten minutes, or of the ten
/// minutes before another time.
#[utoipa::path(get, path = "/pairs", operation_id = "getPairs", params(AsOf), responses(
    (status = 200, body = Pairs),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn pairs(
    State(shared): State<Arc<Shared>>,
    ValidQuery(as_of): ValidQuery<AsOf>,
) -> Result<Json<Pairs>, ApiError> {
    let now = shared.clock.now();
    let at = as_of.at(now)?;
    let mut shown = shared.store.pairs().await?;
    let ids: Vec<PairId> = shown.iter().map(|pair| pair.id).collect();
    let rounds = shared.store.two_way_between(&ids, at - RECENT, at).await?;
    // Of a time that is over, the pairs that were measured then.
    shown.retain(
        |pair| if at < now { rounds.contains_key(&pair.id) } else { pair.is_measured(now) },
    );
    let of = |pair: &PairRecord| rounds.get(&pair.id).map_or(&[][..], Vec::as_slice);
    let items = shown.iter().map(|pair| PairItem::new(pair, of(pair))).collect();
    Ok(Json(Pairs { items }))
}

/// One pair with its rounds of the last hour, or of the hour before another time.
#[utoipa::path(get, path = "/pairs/{id}", operation_id = "getPair",
    params(("id" = String, Path, description = "The pair's id or short number"), AsOf), responses(
    (status = 200, body = PairDetail),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn pair(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(as_of): ValidQuery<AsOf>,
) -> Result<Json<PairDetail>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let to = as_of.at(shared.clock.now())?;
    let wanted = PairId::from_uuid(resolve(&shared.store, Numbered::Pair, &id).await?);
    let pairs = shared.store.pairs().await?;
    let pair = pairs.iter().find(|pair| pair.id == wanted).ok_or_else(unknown)?;
    let mut rounds = shared.store.two_way_between(&[wanted], to - SHOWN, to).await?;
    let rounds = rounds.remove(&wanted).unwrap_or_default();
    let at = |round: &TwoWayRound| offset(round.clocks.corrected_wall());
    let recent: Vec<TwoWayRound> =
        rounds.iter().filter(|round| at(round) > to - RECENT).cloned().collect();
    let series = rounds
        .iter()
        .map(|round| PairRound {
            at: at(round),
            sent: round.sent,
            undetermined: round.undetermined,
            forward: DirectionRound::new(round, Direction::Forward),
            return_: DirectionRound::new(round, Direction::Return),
            round_trip_us: round.round_trip_us.map(|[_, middle, _]| middle),
            stepped: round.clock.is_some_and(|clock| clock.stepped),
        })
        .collect();
    let routes = shared.store.pair_routes(wanted, to).await?;
    let map = shared.owner_maps().await?.at(to).await?;
    let route = |direction| routes.get(&direction).map(|it| PairRouteView::new(it, &map));
    Ok(Json(PairDetail {
        item: PairItem::new(pair, &recent),
        forward_route: route(Direction::Forward),
        return_route: route(Direction::Return),
        series,
    }))
}

/// How long a pair is to be a voice-like stream.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct VoiceRequest {
    /// In seconds, 10 to 600; it uses 80 kbit/s in each direction.
    for_s: u32,
}

/// Sends a voice-like stream on a pair for a limited time, to rate voice quality.
#[utoipa::path(post, path = "/pairs/{id}/voice", operation_id = "makeVoice",
    params(("id" = String, Path, description = "The pair's id or short number")),
    request_body = VoiceRequest, responses(
    (status = 200, body = PairDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn make_voice(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
    body: Result<Json<VoiceRequest>, JsonRejection>,
) -> Result<Json<PairDetail>, ApiError> {
    let Json(wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    if !(10..=600).contains(&wanted.for_s) {
        return Err(ApiError::BadInput(format!("for_s: {} is outside 10 to 600", wanted.for_s)));
    }
    let unknown = || ApiError::unknown_id(&id);
    let known = PairId::from_uuid(resolve(&shared.store, Numbered::Pair, &id).await?);
    let until = OffsetDateTime::now_utc() + Duration::seconds(wanted.for_s.into());
    let version = shared.store.make_voice(known, until, &by.name).await?.ok_or_else(unknown)?;
    shared.tell_agents(Some(version));
    pair(State(shared), Path(id), ValidQuery(AsOf::default())).await
}
