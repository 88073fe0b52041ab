//! Pairs and their rounds as the API shows them.

use super::message::{NoteView, OwnerView};
use super::path::offset;
use itinera_analysis::two_way::{self, DirectionSummary, TwoWaySummary};
use itinera_analysis::voice::{self, VoiceQuality};
use itinera_model::owner::{OwnerMap, is_private};
use itinera_model::path::Family;
use itinera_model::two_way::{Direction, Fitness, OneWay, TwoWayRound};
use itinera_store::{PairRecord, PairRouteAt};
use serde::Serialize;
use std::net::IpAddr;
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;
use uuid::Uuid;

/// So far back the summary goes.
pub(crate) const RECENT: Duration = Duration::minutes(10);

/// One direction, summed up.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DirectionView {
    pub(crate) arrived: u32,
    pub(crate) lost: u32,
    /// Share lost, 0 to 1; absent when no packet has a known outcome.
    pub(crate) loss_ratio: Option<f64>,
    pub(crate) duplicated: u32,
    pub(crate) reordered: u32,
    /// Packets that arrived marked as having met congestion.
    pub(crate) congested: u32,
    /// The smallest delay lies between these, by what is known of both clocks.
    pub(crate) delay_least_us: Option<i64>,
    pub(crate) delay_most_us: Option<i64>,
    /// 95th percentile of the delay over the smallest (RFC 5481), median of the rounds.
    pub(crate) variation_us: Option<u32>,
    /// Code point that most packets arrived with.
    pub(crate) dscp: Option<u8>,
    /// Links passed.
    pub(crate) hops: Option<u8>,
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
    pub(crate) r: f64,
    /// Mean opinion score.
    pub(crate) mos: f64,
    pub(crate) fitness: Fitness,
    /// From mouth to ear, as it was computed with.
    pub(crate) delay_ms: f64,
    pub(crate) loss_ratio: f64,
    /// Mean length of bursts of loss over that of as much random loss.
    pub(crate) burst_ratio: f64,
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
    pub(crate) at: OffsetDateTime,
    pub(crate) rounds: usize,
    pub(crate) sent: u32,
    /// The longest run of packets without an answer.
    pub(crate) longest_burst: u16,
    pub(crate) forward: HeardView,
    #[serde(rename = "return")]
    pub(crate) return_: HeardView,
    /// Both ratings with the parameters they were computed with.
    pub(crate) notes: Vec<NoteView>,
}

impl VoiceView {
    pub(crate) fn new(near: &str, far: &str, rounds: &[&TwoWayRound]) -> Option<Self> {
        let [forward, back] = voice::of_rounds(rounds)?;
        Some(Self {
            at: offset(rounds.last()?.clocks.corrected_wall()),
            rounds: rounds.len(),
            sent: rounds.iter().map(|round| u32::from(round.sent)).sum(),
            longest_burst: rounds.iter().map(|round| round.longest_burst).max().unwrap_or(0),
            forward: (&forward).into(),
            return_: (&back).into(),
            notes: NoteView::all(
                [voice::note(near, far, &forward), voice::note(far, near, &back)],
                &OwnerMap::default(),
            ),
        })
    }
}

/// A pair with what was measured in the last ten minutes.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i32,
    /// Site of the agent that sends.
    pub(crate) near: String,
    /// Site of the agent that answers.
    pub(crate) far: String,
    pub(crate) family: Family,
    pub(crate) near_address: String,
    pub(crate) far_address: String,
    /// It is being measured.
    pub(crate) active: bool,
    /// The time regarded, in seconds.
    pub(crate) span_s: i64,
    pub(crate) rounds: u32,
    pub(crate) sent: u32,
    /// Packets without an answer and with unknown direction of loss.
    pub(crate) undetermined: u32,
    /// From near to far.
    pub(crate) forward: DirectionView,
    /// From far to near.
    #[serde(rename = "return")]
    pub(crate) return_: DirectionView,
    /// Median round-trip delay without the far agent's own time.
    pub(crate) round_trip_us: Option<u32>,
    /// Far clock minus near clock, and how far from that it may be.
    pub(crate) clock_offset_us: Option<i64>,
    pub(crate) clock_offset_error_us: Option<u32>,
    /// Its drift in parts per thousand million, and how far from that it may be.
    pub(crate) clock_drift_ppb: Option<i32>,
    pub(crate) clock_drift_error_ppb: Option<u32>,
    /// Both clocks say they are synchronised: delays are absolute within their bounds.
    pub(crate) is_synchronised: bool,
    /// How a conversation would sound; absent where no voice-like stream was sent lately.
    pub(crate) voice: Option<VoiceView>,
    /// End of the voice-like stream that a user started.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) voice_until: Option<OffsetDateTime>,
    /// All of it in words.
    pub(crate) notes: Vec<NoteView>,
}

impl PairItem {
    pub(crate) fn new(pair: &PairRecord, rounds: &[TwoWayRound]) -> Self {
        // A voice-like stream is rated by itself: it would outweigh what is measured all the time.
        let (streams, usual): (Vec<_>, Vec<_>) = rounds.iter().partition(|round| round.is_voice());
        let usual: Vec<TwoWayRound> = usual.into_iter().cloned().collect();
        let rounds = if usual.is_empty() { rounds } else { &usual };
        let both: TwoWaySummary = two_way::summary(rounds);
        let dscp = rounds.last().map_or(0, |round| round.dscp);
        let (near, far) = (&pair.sender_site, &pair.reflector_site);
        let now = OffsetDateTime::now_utc();
        let notes = two_way::notes(&both, near, far, dscp);
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
            return_: (&both.return_).into(),
            round_trip_us: both.round_trip_us,
            clock_offset_us: both.offset_us.map(|(offset, _)| offset),
            clock_offset_error_us: both.offset_us.map(|(_, error)| error),
            clock_drift_ppb: both.drift_ppb.map(|(drift, _)| drift),
            clock_drift_error_ppb: both.drift_ppb.map(|(_, error)| error),
            is_synchronised: both.is_synchronised,
            voice: VoiceView::new(near, far, &streams),
            voice_until: pair.voice_until.filter(|until| *until > now),
            notes: NoteView::all(notes, &OwnerMap::default()),
        }
    }
}

/// One direction of one round.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DirectionRound {
    pub(crate) arrived: u16,
    pub(crate) lost: u16,
    pub(crate) delay_least_us: Option<i64>,
    pub(crate) delay_most_us: Option<i64>,
    pub(crate) variation_us: Option<u32>,
}

impl DirectionRound {
    pub(crate) fn new(round: &TwoWayRound, direction: Direction) -> Self {
        let of: &OneWay = match direction {
            Direction::Forward => &round.forward,
            Direction::Return => &round.return_,
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
    pub(crate) at: OffsetDateTime,
    pub(crate) sent: u16,
    pub(crate) undetermined: u16,
    pub(crate) forward: DirectionRound,
    #[serde(rename = "return")]
    pub(crate) return_: DirectionRound,
    pub(crate) round_trip_us: Option<u32>,
    /// A clock was set before it.
    pub(crate) stepped: bool,
}

/// A pair with its rounds of the last hour, from the oldest to the newest.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairDetail {
    #[serde(flatten)]
    pub(crate) item: PairItem,
    /// The newest route from near to far; absent where none was reported within two hours.
    pub(crate) forward_route: Option<PairRouteView>,
    /// The newest route from far to near.
    pub(crate) return_route: Option<PairRouteView>,
    pub(crate) series: Vec<PairRound>,
}

/// The route of one direction, by hop sweeps of the agent that sends in it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairRouteView {
    /// When it was measured.
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    /// Up to the last that answered; the other agent does not answer.
    hops: Vec<PairHop>,
}

/// One hop of it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PairHop {
    hop: usize,
    /// Answering address; absent for one that never answered.
    address: Option<String>,
    /// Absent where no owner map names it.
    owner: Option<OwnerView>,
    /// True for private and shared address space: the site's or its access provider's.
    private: bool,
}

impl PairRouteView {
    pub(crate) fn new(measured: &PairRouteAt, map: &OwnerMap) -> Self {
        let hop = |(hop, address): (usize, &Option<IpAddr>)| {
            let owner = address.and_then(|address| map.owner_of(address)).map(OwnerView::from);
            PairHop {
                hop,
                address: address.map(|address| address.to_string()),
                private: owner.is_none() && address.is_some_and(is_private),
                owner,
            }
        };
        let hops = (1..).zip(&measured.route.hops).map(hop).collect();
        Self { at: offset(measured.at), hops }
    }
}
