//! The history of a path, by route where asked, and of a pair by direction: from rollups.

use super::numbers::resolve;
use super::{ValidQuery, checked_range};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_model::id::{PairId, PathId};
use itinera_model::rollup::{DirectionRollup, Rollup, RollupSpan};
use itinera_model::unit::Ratio;
use itinera_store::{Numbered, PairRollupRecord, RollupRecord, RouteRollups};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};

/// The range without a request for another.
const DEFAULT: Duration = Duration::days(1);

/// A range of time.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct HistoryRange {
    /// Begin (RFC 3339); a day before the end by default.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// End (RFC 3339); now by default.
    #[serde(default, with = "time::serde::rfc3339::option")]
    to: Option<OffsetDateTime>,
    /// Whether the history of each route is wanted too. Pairs have none.
    #[serde(default)]
    by_route: bool,
}

/// A range as it was checked, and what it is summed up by.
#[derive(Debug, Clone, Copy)]
struct Range {
    from: OffsetDateTime,
    to: OffsetDateTime,
    span: RollupSpan,
}

impl HistoryRange {
    fn checked(&self, now: OffsetDateTime) -> Result<Range, ApiError> {
        let (from, to) = checked_range((self.from, self.to), DEFAULT, now)?;
        Ok(Range { from, to, span: RollupSpan::fit_for((to - from).whole_seconds()) })
    }
}

impl Range {
    /// The one that begins before the range reaches into it.
    fn first(self) -> OffsetDateTime {
        let first = self.span.start_of(self.from.unix_timestamp());
        OffsetDateTime::from_unix_timestamp(first).unwrap_or(self.from)
    }
}

/// The history of a path.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PathHistory {
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// Seconds of each point: the longest of 300, 3600 and 86400 that gives 200 points.
    span_s: i32,
    /// In order of time; times without rounds have none.
    points: Vec<HistoryPoint>,
    /// Where asked for: by route, that with the most rounds first.
    #[serde(skip_serializing_if = "Option::is_none")]
    routes: Option<Vec<RouteHistory>>,
}

/// The history of the rounds of a path that took one route. Behind a load balancer these are its member
/// routes.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RouteHistory {
    /// Identity of the route; absent for rounds that were summed up before routes were told apart.
    route: Option<String>,
    /// By hop; absent where none answered.
    addresses: Vec<Option<String>>,
    /// Sum over the range.
    sum: HistorySum,
    /// As those of the path.
    points: Vec<HistoryPoint>,
}

impl From<RouteRollups> for RouteHistory {
    fn from(RouteRollups { route, rollups }: RouteRollups) -> Self {
        let mut sum = Rollup::default();
        rollups.iter().for_each(|record| sum.merge(&record.rollup));
        let hops = route.iter().flat_map(|known| &known.route.hops);
        Self {
            addresses: hops.map(|hop| hop.map(|address| address.to_string())).collect(),
            route: route.map(|known| known.id.to_string()),
            sum: (&sum).into(),
            points: rollups.into_iter().map(HistoryPoint::from).collect(),
        }
    }
}

/// The history of a pair.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairHistory {
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// Seconds of each point: the longest of 300, 3600 and 86400 that gives 200 points.
    span_s: i32,
    /// The site that sends, and the one that reflects.
    sites: [String; 2],
    /// In order of time; times without rounds have none.
    points: Vec<PairHistoryPoint>,
}

/// Measurements of a pair over some time.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairHistoryPoint {
    /// Its beginning.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    /// Rounds measured in it.
    rounds: u32,
    /// Packets sent.
    sent: u32,
    /// Packets without an answer and with unknown direction of loss.
    undetermined: u32,
    forward: DirectionHistory,
    #[serde(rename = "return")]
    return_: DirectionHistory,
}

/// One direction of a pair over some time.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DirectionHistory {
    /// Packets that arrived.
    arrived: u32,
    /// Packets that were lost.
    lost: u32,
    /// Absent without packets.
    loss_ratio: Option<f64>,
    /// Packets that came after one sent later.
    reordered: u32,
    /// Bounds of the smallest delay; absent where nothing is known of the clocks.
    floor_us: Option<[i64; 2]>,
    /// Delay variation of rounds (RFC 5481), median; absent without delays.
    variation_p50_us: Option<u32>,
    /// 95th percentile.
    variation_p95_us: Option<u32>,
}

impl From<&DirectionRollup> for DirectionHistory {
    fn from(sum: &DirectionRollup) -> Self {
        let all = sum.arrived.saturating_add(sum.lost);
        Self {
            arrived: sum.arrived,
            lost: sum.lost,
            loss_ratio: Ratio::of(sum.lost, all).map(Ratio::as_f64),
            reordered: sum.reordered,
            floor_us: sum.floor_us.map(|(low, high)| [low, high]),
            variation_p50_us: sum.variation_us(50),
            variation_p95_us: sum.variation_us(95),
        }
    }
}

impl From<PairRollupRecord> for PairHistoryPoint {
    fn from(PairRollupRecord { start_at, rollup }: PairRollupRecord) -> Self {
        Self {
            at: start_at,
            rounds: rollup.rounds,
            sent: rollup.sent,
            undetermined: rollup.undetermined,
            forward: (&rollup.forward).into(),
            return_: (&rollup.return_).into(),
        }
    }
}

/// Measurements of a path over some time.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HistoryPoint {
    /// Its beginning.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    #[serde(flatten)]
    sum: HistorySum,
}

/// Measurements of a path, summed up.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HistorySum {
    /// Rounds measured.
    rounds: u32,
    /// Probes sent to the target.
    sent: u32,
    /// Of those, unanswered.
    lost: u32,
    /// Round-trip loss; absent where nothing was sent.
    loss_ratio: Option<f64>,
    /// Round-trip delay, 5th percentile; absent without answers.
    delay_p5_us: Option<u32>,
    /// Median.
    delay_p50_us: Option<u32>,
    /// 95th percentile.
    delay_p95_us: Option<u32>,
}

impl From<&Rollup> for HistorySum {
    fn from(rollup: &Rollup) -> Self {
        Self {
            rounds: rollup.rounds,
            sent: rollup.sent,
            lost: rollup.lost,
            loss_ratio: Ratio::of(rollup.lost, rollup.sent).map(Ratio::as_f64),
            delay_p5_us: rollup.delay_us(5),
            delay_p50_us: rollup.delay_us(50),
            delay_p95_us: rollup.delay_us(95),
        }
    }
}

impl From<RollupRecord> for HistoryPoint {
    fn from(RollupRecord { start_at, rollup }: RollupRecord) -> Self {
        Self { at: start_at, sum: (&rollup).into() }
    }
}

/// Loss and delay of a path to its target over time.
#[utoipa::path(get, path = "/paths/{id}/history", operation_id = "getPathHistory",
    params(("id" = String, Path, description = "The path's id"), HistoryRange), responses(
    (status = 200, body = PathHistory),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn history(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(range): ValidQuery<HistoryRange>,
) -> Result<Json<PathHistory>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let path: PathId = id.parse().map_err(|_| unknown())?;
    let by_route = range.by_route;
    let range = range.checked(shared.clock.now())?;
    let Range { from, to, span } = range;
    let (record, records) = tokio::try_join!(
        shared.store.path(path),
        shared.store.rollups(path, span, range.first(), to),
    )?;
    record.ok_or_else(unknown)?;
    let routes = if by_route {
        let routes = shared.store.rollups_by_route(path, span, range.first(), to).await?;
        Some(routes.into_iter().map(RouteHistory::from).collect())
    } else {
        None
    };
    let points = records.into_iter().map(HistoryPoint::from).collect();
    Ok(Json(PathHistory { from, to, span_s: span.seconds(), points, routes }))
}

/// Loss and delay variation of a pair over time, each direction by itself.
#[utoipa::path(get, path = "/pairs/{id}/history", operation_id = "getPairHistory",
    params(("id" = String, Path, description = "The pair's id or short number"), HistoryRange), responses(
    (status = 200, body = PairHistory),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn pair_history(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(range): ValidQuery<HistoryRange>,
) -> Result<Json<PairHistory>, ApiError> {
    let range = range.checked(shared.clock.now())?;
    let wanted = PairId::from_uuid(resolve(&shared.store, Numbered::Pair, &id).await?);
    let pair = shared.store.pairs().await?.into_iter().find(|pair| pair.id == wanted);
    let pair = pair.ok_or_else(|| ApiError::unknown_id(&id))?;
    let Range { from, to, span } = range;
    let records = shared.store.pair_rollups(wanted, span, range.first(), to).await?;
    let points = records.into_iter().map(PairHistoryPoint::from).collect();
    let sites = [pair.sender_site, pair.reflector_site];
    Ok(Json(PairHistory { from, to, span_s: span.seconds(), sites, points }))
}
