//! Pairs of agents: both ways between them, each direction by itself.

use super::numbers::resolve;
use super::view::offset;
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use itinera_analysis::two_way::{self, DirectionSummary, TwoWaySummary};
use itinera_analysis::voice::{self, VoiceQuality};
use itinera_model::id::PairId;
use itinera_model::path::Family;
use itinera_model::two_way::{Direction, Fitness, OneWay, TwoWayRound};
use itinera_store::{Numbered, PairRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;
use uuid::Uuid;

/// So far back the summary goes.
const RECENT: Duration = Duration::minutes(10);
/// So far back single rounds are shown.
const SHOWN: Duration = Duration::hours(1);

/// One direction, summed up.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DirectionView {
    arrived: u32,
    lost: u32,
    /// Share lost, 0 to 1; absent when no packet has a known outcome.
    loss_ratio: Option<f64>,
    duplicated: u32,
    reordered: u32,
    /// Packets that arrived marked as having met congestion.
    congested: u32,
    /// The smallest delay lies between these, by what is known of both clocks.
    delay_least_us: Option<i64>,
    delay_most_us: Option<i64>,
    /// 95th percentile of the delay over the smallest (RFC 5481), median of the rounds.
    variation_us: Option<u32>,
    /// Code point that most packets arrived with.
    dscp: Option<u8>,
    /// Links passed.
    hops: Option<u8>,
}

impl From<&DirectionSummary> for DirectionView {
    fn from(direction: &DirectionSummary) -> Self {
        Self {
            arrived: direction.arrived,
            lost: direction.lost,
            loss_ratio: direction.loss_ratio(),
            duplicated: direction.duplicated,
            reordered: direction.reordered,
            congested: direction.congested,
            delay_least_us: direction.delay_bounds_us.map(|(least, _)| least),
            delay_most_us: direction.delay_bounds_us.map(|(_, most)| most),
            variation_us: direction.variation_us,
            dscp: direction.dscp.first().map(|(dscp, _)| *dscp),
            hops: direction.hops,
        }
    }
}

/// How a direction sounds (ITU-T G.107).
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct HeardView {
    /// Rating factor R.
    r: f64,
    /// Mean opinion score.
    mos: f64,
    fitness: Fitness,
    /// From mouth to ear, as it was computed with.
    delay_ms: f64,
    loss_ratio: f64,
    /// Mean length of bursts of loss over that of as much random loss.
    burst_ratio: f64,
}

impl From<&VoiceQuality> for HeardView {
    fn from(heard: &VoiceQuality) -> Self {
        let VoiceQuality { r, mos, fitness, delay_ms, loss_ratio, burst_ratio } = *heard;
        Self { r, mos, fitness, delay_ms, loss_ratio, burst_ratio }
    }
}

/// How a conversation between two sites would sound.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct VoiceView {
    /// When the newest of its rounds was measured.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    rounds: usize,
    sent: u32,
    /// The longest run of packets without an answer.
    longest_burst: u16,
    forward: HeardView,
    back: HeardView,
    /// In words, with the parameters.
    sentences: Vec<String>,
}

impl VoiceView {
    fn new(near: &str, far: &str, rounds: &[&TwoWayRound]) -> Option<Self> {
        let [forward, back] = voice::of_rounds(rounds)?;
        Some(Self {
            at: offset(rounds.last()?.clocks.corrected_wall()),
            rounds: rounds.len(),
            sent: rounds.iter().map(|round| u32::from(round.sent)).sum(),
            longest_burst: rounds.iter().map(|round| round.longest_burst).max().unwrap_or(0),
            forward: (&forward).into(),
            back: (&back).into(),
            sentences: vec![
                voice::sentence(near, far, &forward),
                voice::sentence(far, near, &back),
            ],
        })
    }
}

/// A pair with what was measured in the last ten minutes.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairItem {
    id: Uuid,
    /// Its short number.
    no: i32,
    /// Site of the agent that sends.
    near: String,
    /// Site of the agent that answers.
    far: String,
    family: Family,
    near_address: String,
    far_address: String,
    /// It is being measured.
    active: bool,
    /// The time regarded, in seconds.
    span_s: i64,
    rounds: u32,
    sent: u32,
    /// Packets without an answer and with unknown direction of loss.
    undetermined: u32,
    /// From near to far.
    forward: DirectionView,
    /// From far to near.
    back: DirectionView,
    /// Median round-trip delay without the far agent's own time.
    round_trip_us: Option<u32>,
    /// Far clock minus near clock, and how far from that it may be.
    clock_offset_us: Option<i64>,
    clock_offset_error_us: Option<u32>,
    /// Its drift in parts per thousand million, and how far from that it may be.
    clock_drift_ppb: Option<i32>,
    clock_drift_error_ppb: Option<u32>,
    /// Both clocks say they are synchronised: delays are absolute within their bounds.
    is_synchronised: bool,
    /// How a conversation would sound; absent where no voice-like stream was sent lately.
    voice: Option<VoiceView>,
    /// End of the voice-like stream that a user started.
    #[serde(with = "time::serde::rfc3339::option")]
    voice_until: Option<OffsetDateTime>,
    /// All of it in words.
    sentences: Vec<String>,
}

impl PairItem {
    fn new(pair: &PairRecord, rounds: &[TwoWayRound]) -> Self {
        // A voice-like stream is rated by itself: it would outweigh what is measured all the time.
        let (streams, usual): (Vec<_>, Vec<_>) = rounds.iter().partition(|round| round.is_voice());
        let usual: Vec<TwoWayRound> = usual.into_iter().cloned().collect();
        let rounds = if usual.is_empty() { rounds } else { &usual };
        let both: TwoWaySummary = two_way::summary(rounds);
        let dscp = rounds.last().map_or(0, |round| round.dscp);
        let (near, far) = (&pair.sender_site, &pair.reflector_site);
        let now = OffsetDateTime::now_utc();
        let sentences = two_way::sentences(&both, near, far, dscp);
        let near_address = rounds.last().map_or(pair.spec.sender_address, |round| round.source);
        Self {
            id: pair.id.as_uuid(),
            no: pair.no,
            near: near.clone(),
            far: far.clone(),
            family: Family::of(near_address),
            near_address: near_address.to_string(),
            far_address: pair.spec.reflector_address.to_string(),
            active: pair.is_measured(now),
            span_s: RECENT.whole_seconds(),
            rounds: both.rounds,
            sent: both.sent,
            undetermined: both.undetermined,
            forward: (&both.forward).into(),
            back: (&both.back).into(),
            round_trip_us: both.round_trip_us,
            clock_offset_us: both.offset_us.map(|(offset, _)| offset),
            clock_offset_error_us: both.offset_us.map(|(_, error)| error),
            clock_drift_ppb: both.drift_ppb.map(|(drift, _)| drift),
            clock_drift_error_ppb: both.drift_ppb.map(|(_, error)| error),
            is_synchronised: both.is_synchronised,
            voice: VoiceView::new(near, far, &streams),
            voice_until: pair.voice_until.filter(|until| *until > now),
            sentences,
        }
    }
}

/// All pairs.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Pairs {
    items: Vec<PairItem>,
}

/// Pairs of agents with two-way measurements, and their results of the last ten minutes.
#[utoipa::path(get, path = "/pairs", operation_id = "getPairs", responses(
    (status = 200, body = Pairs),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn pairs(State(shared): State<Arc<Shared>>) -> Result<Json<Pairs>, ApiError> {
    let now = OffsetDateTime::now_utc();
    let mut active = shared.store.pairs().await?;
    active.retain(|pair| pair.is_measured(now));
    let ids: Vec<PairId> = active.iter().map(|pair| pair.id).collect();
    let rounds = shared.store.two_way_between(&ids, now - RECENT, now).await?;
    let of = |pair: &PairRecord| rounds.get(&pair.id).map_or(&[][..], Vec::as_slice);
    let items = active.iter().map(|pair| PairItem::new(pair, of(pair))).collect();
    Ok(Json(Pairs { items }))
}

/// One direction of one round.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DirectionRound {
    arrived: u16,
    lost: u16,
    delay_least_us: Option<i64>,
    delay_most_us: Option<i64>,
    variation_us: Option<u32>,
}

impl DirectionRound {
    fn new(round: &TwoWayRound, direction: Direction) -> Self {
        let of: &OneWay = match direction {
            Direction::Forward => &round.forward,
            Direction::Return => &round.back,
        };
        let bounds = round.delay_bounds_us(direction);
        Self {
            arrived: of.arrived,
            lost: of.lost,
            delay_least_us: bounds.map(|(least, _)| least),
            delay_most_us: bounds.map(|(_, most)| most),
            variation_us: of.delay.map(|delay| delay.p95_us),
        }
    }
}

/// A two-way round.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairRound {
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    sent: u16,
    undetermined: u16,
    forward: DirectionRound,
    back: DirectionRound,
    round_trip_us: Option<u32>,
    /// A clock was set before it.
    stepped: bool,
}

/// A pair with its rounds of the last hour, from the oldest to the newest.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairDetail {
    #[serde(flatten)]
    item: PairItem,
    series: Vec<PairRound>,
}

/// One pair with its rounds of the last hour.
#[utoipa::path(get, path = "/pairs/{id}", operation_id = "getPair",
    params(("id" = String, Path, description = "The pair's id or short number")), responses(
    (status = 200, body = PairDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn pair(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Json<PairDetail>, ApiError> {
    let unknown = || ApiError::unknown_id(&id);
    let wanted = PairId::from_uuid(resolve(&shared.store, Numbered::Pair, &id).await?);
    let pairs = shared.store.pairs().await?;
    let pair = pairs.iter().find(|pair| pair.id == wanted).ok_or_else(unknown)?;
    let now = OffsetDateTime::now_utc();
    let mut rounds = shared.store.two_way_between(&[wanted], now - SHOWN, now).await?;
    let rounds = rounds.remove(&wanted).unwrap_or_default();
    let at = |round: &TwoWayRound| offset(round.clocks.corrected_wall());
    let recent: Vec<TwoWayRound> =
        rounds.iter().filter(|round| at(round) > now - RECENT).cloned().collect();
    let series = rounds
        .iter()
        .map(|round| PairRound {
            at: at(round),
            sent: round.sent,
            undetermined: round.undetermined,
            forward: DirectionRound::new(round, Direction::Forward),
            back: DirectionRound::new(round, Direction::Return),
            round_trip_us: round.round_trip_us.map(|[_, middle, _]| middle),
            stepped: round.clock.is_some_and(|clock| clock.stepped),
        })
        .collect();
    Ok(Json(PairDetail { item: PairItem::new(pair, &recent), series }))
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
    pair(State(shared), Path(id)).await
}
