//! Counts of a path by hop, and of a pair by direction, over time: from evidence.

use super::numbers::resolve;
use super::view::message::OwnerView;
use super::{ValidQuery, checked_range};
use crate::context::Shared;
use crate::evidence;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::{Path, State};
use itinera_analysis::{DirectionCounts, HopSummary, MinuteSummary, PairCounts, RouteSummary};
use itinera_model::id::{PairId, PathId};
use itinera_model::owner::{OwnerMap, is_private};
use itinera_model::unit::Ratio;
use itinera_store::Numbered;
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

/// Counts of a pair, each direction by itself.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairCountsOverTime {
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// The site that sends, and the one that reflects.
    sites: [String; 2],
    /// In order of time; times without rounds have none.
    steps: Vec<PairCountsStep>,
}

/// Counts of a pair over some time.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairCountsStep {
    /// Its beginning.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    /// Minutes with rounds.
    minutes: usize,
    /// Rounds.
    rounds: u32,
    /// Rounds in which the sender's own program may have left answers unread.
    inexact_rounds: u32,
    /// Packets sent.
    sent: u32,
    /// Packets without an answer and with unknown direction of loss.
    undetermined: u32,
    /// The longest run of packets without an answer.
    longest_burst: u32,
    forward: DirectionCountsView,
    #[serde(rename = "return")]
    return_: DirectionCountsView,
}

/// Counts of one direction of a pair.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DirectionCountsView {
    /// Packets that arrived.
    arrived: u32,
    /// Packets that were lost.
    lost: u32,
    /// Absent without packets.
    loss_ratio: Option<f64>,
    /// Copies beyond the first.
    duplicated: u32,
    /// Packets that came after one sent later.
    reordered: u32,
    /// Packets marked as having met congestion.
    congested: u32,
    /// Bounds of the smallest delay; absent where nothing is known of the clocks.
    floor_us: Option<[i64; 2]>,
    /// Median over the rounds of the delay variation (RFC 5481).
    variation_us: Option<u32>,
}

impl From<&DirectionCounts> for DirectionCountsView {
    fn from(counts: &DirectionCounts) -> Self {
        let all = counts.arrived.saturating_add(counts.lost);
        Self {
            arrived: counts.arrived,
            lost: counts.lost,
            loss_ratio: Ratio::of(counts.lost, all).map(Ratio::as_f64),
            duplicated: counts.duplicated,
            reordered: counts.reordered,
            congested: counts.congested,
            floor_us: counts.floor_us().map(|(low, high)| [low, high]),
            variation_us: counts.variation_us(),
        }
    }
}

fn pair_step(at: OffsetDateTime, (minutes, counts): (usize, PairCounts)) -> PairCountsStep {
    PairCountsStep {
        at,
        minutes,
        rounds: counts.rounds,
        inexact_rounds: counts.inexact,
        sent: counts.sent,
        undetermined: counts.undetermined,
        longest_burst: counts.longest_burst,
        forward: (&counts.forward).into(),
        return_: (&counts.return_).into(),
    }
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

fn checked_step(step_s: Option<u32>, range: Duration) -> Result<(), ApiError> {
    let Some(step_s) = step_s else { return Ok(()) };
    if step_s == 0 || step_s % MINUTE_S != 0 {
        return Err(ApiError::BadInput(format!("step_s: {step_s} is no whole number of minutes")));
    }
    if range.whole_seconds() > i64::from(step_s).saturating_mul(MOST_STEPS) {
        let least = range.whole_seconds().div_euclid(MOST_STEPS * i64::from(MINUTE_S)) + 1;
        let text = format!("step_s: more than {MOST_STEPS} steps; take {least} minutes or more");
        return Err(ApiError::BadInput(text));
    }
    Ok(())
}

/// A range in steps, as it was checked.
#[derive(Debug, Clone, Copy)]
struct Steps {
    from: OffsetDateTime,
    to: OffsetDateTime,
    /// Seconds of a step; the whole range is one where absent.
    step: Option<u32>,
}

impl CountsRange {
    fn checked(&self, now: OffsetDateTime) -> Result<Steps, ApiError> {
        let (from, to) = checked_range((self.from, self.to), DEFAULT, now)?;
        if to - from > LONGEST {
            return Err(ApiError::BadInput("from: more than 31 days before `to`".to_owned()));
        }
        checked_step(self.step_s, to - from)?;
        Ok(Steps { from, to, step: self.step_s })
    }
}

impl Steps {
    /// Where the step begins that holds a minute: at the same times whatever range is asked for,
    /// unless the whole range is one step.
    fn begin_of(self, minute: OffsetDateTime) -> OffsetDateTime {
        match self.step {
            None => self.from,
            Some(step_s) => {
                let second = minute.unix_timestamp().rem_euclid(step_s.into());
                minute - Duration::seconds(second)
            }
        }
    }

    /// Minutes summed up by step: the number of them, and the sum.
    fn sums<T: Default>(
        self,
        minutes: BTreeMap<OffsetDateTime, T>,
        merge: impl Fn(&mut T, &T),
    ) -> BTreeMap<OffsetDateTime, (usize, T)> {
        let mut steps: BTreeMap<OffsetDateTime, (usize, T)> = BTreeMap::new();
        for (at, minute) in minutes {
            let (count, sum) = steps.entry(self.begin_of(at)).or_default();
            *count += 1;
            merge(sum, &minute);
        }
        steps
    }
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
    let steps = range.checked(shared.clock.now())?;
    let Steps { from, to, .. } = steps;
    shared.store.path(path).await?.ok_or_else(unknown)?;
    let minutes = evidence::minutes(&shared.store, path, (from, to)).await?;
    let (map, _) = shared.owner_map_at(to).await?;
    let steps = steps.sums(minutes, MinuteSummary::merge).into_iter();
    let steps = steps.map(|(at, step)| step_view(at, step, &map)).collect();
    Ok(Json(PathCounts { from, to, steps }))
}

/// Packets and delays of a pair over time, each direction by itself. The newest minutes are missing until
/// they are sealed.
#[utoipa::path(get, path = "/pairs/{id}/counts", operation_id = "getPairCounts",
    params(("id" = String, Path, description = "The pair's id or short number"), CountsRange),
    responses(
    (status = 200, body = PairCountsOverTime),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn pair_counts(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    ValidQuery(range): ValidQuery<CountsRange>,
) -> Result<Json<PairCountsOverTime>, ApiError> {
    let wanted = PairId::from_uuid(resolve(&shared.store, Numbered::Pair, &id).await?);
    let pair = shared.store.pairs().await?.into_iter().find(|pair| pair.id == wanted);
    let pair = pair.ok_or_else(|| ApiError::unknown_id(&id))?;
    let steps = range.checked(shared.clock.now())?;
    let Steps { from, to, .. } = steps;
    let minutes = evidence::pair_minutes(&shared.store, wanted, (from, to)).await?;
    let steps = steps.sums(minutes, PairCounts::merge).into_iter();
    let steps = steps.map(|(at, step)| pair_step(at, step)).collect();
    let sites = [pair.sender_site, pair.reflector_site];
    Ok(Json(PairCountsOverTime { from, to, sites, steps }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_is_whole_minutes_and_not_too_short_for_its_range() {
        let fits = |step_s, hours| checked_step(step_s, Duration::hours(hours)).is_ok();
        assert!(fits(None, 500) && fits(Some(60), 6) && fits(Some(120), 7));
        assert!(!fits(Some(0), 1) && !fits(Some(90), 1) && !fits(Some(60), 7));
    }

    #[test]
    fn steps_begin_at_the_same_times_whatever_range_is_asked_for() {
        let at = |minute: i64| OffsetDateTime::UNIX_EPOCH + Duration::minutes(minute);
        let minutes = || (7..13).map(|minute| (at(minute), 1u32)).collect();
        let sums = |step| {
            let from = at(7) - Duration::seconds(20);
            let sums = Steps { from, to: at(13), step }.sums(minutes(), |sum, one| *sum += one);
            sums.into_iter().map(|(at, (count, sum))| (at.unix_timestamp(), count, sum)).collect()
        };
        let (by_five, whole): (Vec<_>, Vec<_>) = (sums(Some(300)), sums(None));
        assert_eq!(by_five, [(300, 3, 3), (600, 3, 3)]);
        assert_eq!(whole, [(400, 6, 6)]);
    }
}
