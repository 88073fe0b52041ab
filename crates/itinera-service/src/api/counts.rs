//! Counts of a path by hop over time, from evidence.

use super::view::message::OwnerView;
use super::{ValidQuery, checked_time};
use crate::context::Shared;
use crate::evidence;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_analysis::{HopSummary, MinuteSummary, RouteSummary};
use itinera_model::id::PathId;
use itinera_model::owner::{OwnerMap, is_private};
use itinera_model::unit::Ratio;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};

/// The range without a request for another, and the longest.
const DEFAULT: Duration = Duration::hours(1);
const LONGEST: Duration = Duration::days(31);
/// Steps of a range at most.
const MOST_STEPS: i64 = 360;
const MINUTE_S: u32 = 60;

/// A range of time, in steps.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct CountsRange {
    /// Begin (RFC 3339); an hour before the end by default.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// End (RFC 3339); now by default. The range is 31 days at most.
    #[serde(default, with = "time::serde::rfc3339::option")]
    to: Option<OffsetDateTime>,
    /// Seconds of each step, whole minutes; the whole range is one step where absent.
    step_s: Option<u32>,
}

/// Counts of a path by hop.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PathCounts {
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// In order of time; times without rounds have none.
    steps: Vec<CountsStep>,
}

/// Counts of some time.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CountsStep {
    /// Its beginning.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    /// Minutes with rounds.
    minutes: usize,
    /// By route, that with the most rounds first.
    routes: Vec<RouteCountsView>,
}

/// Counts of the rounds that saw one route.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RouteCountsView {
    /// Identity of the route.
    route: String,
    /// Rounds.
    rounds: u32,
    /// Number of different flows.
    flows: usize,
    hops: Vec<HopCountsView>,
}

/// Counts of one hop.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HopCountsView {
    /// Hop limit.
    hop: usize,
    /// The address that answers here; absent where none did.
    address: Option<String>,
    owner: Option<OwnerView>,
    /// True for private and shared address space.
    private: bool,
    /// Probes sent.
    sent: u32,
    /// Of those, unanswered. A router may limit its answers: that is no loss of packets it carries.
    lost: u32,
    /// Absent where nothing was sent.
    loss_ratio: Option<f64>,
    /// Answers after the timeout.
    late: u32,
    /// Probes fewer than another hop got in the same rounds: budgets left them out.
    left_out: u32,
    /// "Unreachable" answers by what they say.
    unreachable: Vec<UnreachableCount>,
    /// Round-trip delay, 5th percentile; absent without exact delays.
    delay_p5_us: Option<u32>,
    /// Median.
    delay_p50_us: Option<u32>,
    /// 95th percentile.
    delay_p95_us: Option<u32>,
}

/// "Unreachable" answers with one code.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UnreachableCount {
    /// ICMP code.
    code: u8,
    count: u32,
}

fn hop_view(
    nth: usize,
    address: Option<IpAddr>,
    hop: &HopSummary,
    map: &OwnerMap,
) -> HopCountsView {
    let owner = address.and_then(|address| map.owner_of(address));
    let count = |(code, count): (&u8, &u32)| UnreachableCount { code: *code, count: *count };
    HopCountsView {
        hop: nth + 1,
        address: address.map(|address| address.to_string()),
        owner: owner.map(OwnerView::from),
        private: owner.is_none() && address.is_some_and(is_private),
        sent: hop.sent,
        lost: hop.lost,
        loss_ratio: Ratio::of(hop.lost, hop.sent).map(Ratio::as_f64),
        late: hop.late(),
        left_out: hop.left_out(),
        unreachable: hop.unreachable().iter().map(count).collect(),
        delay_p5_us: hop.delay_us(5),
        delay_p50_us: hop.delay_us(50),
        delay_p95_us: hop.delay_us(95),
    }
}

fn route_view(route: &RouteSummary, map: &OwnerMap) -> RouteCountsView {
    let address = |nth: usize| route.addresses().get(nth).copied().flatten();
    let hops = route.hops.iter().enumerate();
    RouteCountsView {
        route: route.id().to_string(),
        rounds: route.rounds,
        flows: route.flow_count(),
        hops: hops.map(|(nth, hop)| hop_view(nth, address(nth), hop, map)).collect(),
    }
}

fn step_view(
    at: OffsetDateTime,
    (minutes, summary): (usize, MinuteSummary),
    map: &OwnerMap,
) -> CountsStep {
    let mut routes: Vec<RouteCountsView> =
        summary.routes().map(|route| route_view(route, map)).collect();
    routes.sort_by_key(|route| std::cmp::Reverse(route.rounds));
    CountsStep { at, minutes, routes }
}

fn checked_step(step_s: Option<u32>, range: Duration) -> Result<Duration, ApiError> {
    let Some(step_s) = step_s else { return Ok(range) };
    if step_s == 0 || step_s % MINUTE_S != 0 {
        return Err(ApiError::BadInput(format!("step_s: {step_s} is no whole number of minutes")));
    }
    let step = Duration::seconds(step_s.into());
    if range.whole_seconds() > step.whole_seconds().saturating_mul(MOST_STEPS) {
        let least = range.whole_seconds().div_euclid(MOST_STEPS * i64::from(MINUTE_S)) + 1;
        let text = format!("step_s: more than {MOST_STEPS} steps; take {least} minutes or more");
        return Err(ApiError::BadInput(text));
    }
    Ok(step)
}

/// Probes, answers and delays of a path by route and hop over time. The newest minutes are missing until
/// they are sealed.
#[utoipa::path(get, path = "/paths/{id}/counts", operation_id = "getPathCounts",
    params(("id" = String, Path, description = "The path's id"), CountsRange), responses(
    (status = 200, body = PathCounts),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn counts(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(range): ValidQuery<CountsRange>,
) -> Result<Json<PathCounts>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let path: PathId = id.parse().map_err(|_| unknown())?;
    let to = checked_time("to", range.to.unwrap_or_else(|| shared.clock.now()))?;
    let from = checked_time("from", range.from.unwrap_or(to - DEFAULT))?;
    if from >= to {
        return Err(ApiError::BadInput("from: not before `to`".to_owned()));
    }
    if to - from > LONGEST {
        return Err(ApiError::BadInput("from: more than 31 days before `to`".to_owned()));
    }
    let step = checked_step(range.step_s, to - from)?;
    shared.store.path(path).await?.ok_or_else(unknown)?;
    let minutes = evidence::minutes(&shared.store, path, (from, to)).await?;
    let mut steps: BTreeMap<OffsetDateTime, (usize, MinuteSummary)> = BTreeMap::new();
    for (at, summary) in minutes {
        let nth = (at - from).whole_seconds() / step.whole_seconds().max(1);
        let begin = from + Duration::seconds(nth * step.whole_seconds());
        let (count, sum) = steps.entry(begin).or_default();
        *count += 1;
        sum.merge(&summary);
    }
    let (map, _) = shared.owner_map_at(to).await?;
    let steps = steps.into_iter().map(|(at, step)| step_view(at, step, &map)).collect();
    Ok(Json(PathCounts { from, to, steps }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_is_whole_minutes_and_not_too_short_for_its_range() {
        let step = |step_s, hours| checked_step(step_s, Duration::hours(hours)).ok();
        assert_eq!(step(None, 5), Some(Duration::hours(5)));
        assert_eq!(step(Some(60), 6), Some(Duration::minutes(1)));
        assert_eq!([Some(0), Some(90)].map(|it| step(it, 1)), [None, None]);
        assert_eq!(step(Some(60), 7), None);
        assert_eq!(step(Some(120), 7), Some(Duration::minutes(2)));
    }
}
