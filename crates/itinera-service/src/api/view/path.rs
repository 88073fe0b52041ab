//! What the API shows: plain records with units in their names, ratios from 0 to 1.

use super::message::{MessageView, NoteView, OwnerView, PlaceView};
use itinera_analysis::{messages, stat, weave};
use itinera_model::finding::{Assessment, Cause, FaultDirection, Finding, HopVerdict, HopView};
use itinera_model::message::{LossEstimate, Message};
use itinera_model::note::{FlowCount, Note};
use itinera_model::owner::{OwnerMap, is_private};
use itinera_model::path::{Family, Method};
use itinera_model::round::StampSource;
use itinera_store::{PathRecord, ReadRecord};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

pub(crate) fn ratio(ppm: u32) -> f64 {
    f64::from(ppm) / 1e6
}

/// 95 % interval of the loss ratio to the far end.
fn interval(latest: &Assessment) -> Option<(f64, f64)> {
    stat::wilson_interval(latest.end_lost, latest.end_sent)
}

fn share(part: u32, whole: u32) -> Option<f64> {
    (whole > 0).then(|| f64::from(part) / f64::from(whole))
}

pub(crate) fn offset(at: itinera_model::unit::WallTime) -> OffsetDateTime {
    at.date_time().unwrap_or(OffsetDateTime::UNIX_EPOCH)
}

/// One candidate account of what is seen.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct ExplanationView {
    cause: Cause,
    place: PlaceView,
    probability: f64,
}

/// A finding.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct FindingView {
    message: MessageView,
    cause: Cause,
    place: PlaceView,
    direction: FaultDirection,
    /// The judging model's own probability, not calibrated on other networks yet.
    confidence: f64,
    /// Carried loss with its 95 % interval; absent for another cause.
    loss: Option<LossEstimate>,
    /// Added delay; absent for another cause.
    added_delay_us: Option<u32>,
    /// It began not before this time; absent where that is unknown.
    #[serde(with = "time::serde::rfc3339::option")]
    onset_earliest: Option<OffsetDateTime>,
    /// It began not after this time.
    #[serde(with = "time::serde::rfc3339::option")]
    onset_latest: Option<OffsetDateTime>,
    /// The most probable accounts, best first.
    explanations: Vec<ExplanationView>,
}

impl FindingView {
    fn new(finding: &Finding, map: &OwnerMap) -> Self {
        let is_loss = matches!(finding.cause, Cause::Loss | Cause::Break);
        let loss = messages::loss_estimate(finding.loss_ppm, finding.loss_counts);
        Self {
            message: MessageView::of_one(messages::of_finding(finding), map),
            cause: finding.cause,
            place: PlaceView::new(&finding.place, map),
            direction: finding.direction,
            confidence: ratio(finding.confidence_ppm),
            loss: is_loss.then_some(loss),
            added_delay_us: (finding.cause == Cause::Delay)
                .then(|| finding.added_delay_us.as_micros()),
            onset_earliest: finding.onset.map(|onset| offset(onset.earliest)),
            onset_latest: finding.onset.map(|onset| offset(onset.latest)),
            explanations: finding
                .explanations
                .iter()
                .map(|explanation| ExplanationView {
                    cause: explanation.cause,
                    place: PlaceView::new(&explanation.place, map),
                    probability: ratio(explanation.probability_ppm),
                })
                .collect(),
        }
    }
}

/// One hop of a path.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct HopItem {
    hop: u8,
    /// Answering address; absent for one that never answered.
    address: Option<String>,
    /// Absent where no owner map names it.
    owner: Option<OwnerView>,
    /// True for private and shared address space: the site's or its access provider's.
    private: bool,
    sent: u32,
    lost: u32,
    /// Share of packets that got at least this far; absent when nothing from here on answered.
    got_here_ratio: Option<f64>,
    /// Median round-trip delay.
    delay_us: Option<u32>,
    /// Its lower quartile.
    delay_low_us: Option<u32>,
    /// Its upper quartile.
    delay_high_us: Option<u32>,
    /// Usual median delay of earlier windows; absent before three of them.
    usual_delay_us: Option<u32>,
    /// 95 % interval of the share of its probes without an answer; absent before the first probe.
    loss_low_ratio: Option<f64>,
    loss_high_ratio: Option<f64>,
    verdict: HopVerdict,
}

impl HopItem {
    fn new(hop: &HopView, map: &OwnerMap) -> Self {
        let owner = hop.address.and_then(|address| map.owner_of(address));
        let interval = stat::wilson_interval(hop.lost, hop.sent);
        Self {
            hop: hop.hop,
            address: hop.address.map(|address| address.to_string()),
            owner: owner.map(OwnerView::from),
            private: owner.is_none() && hop.address.is_some_and(is_private),
            sent: hop.sent,
            lost: hop.lost,
            got_here_ratio: hop.got_here_ppm.map(ratio),
            delay_us: hop.delay_us.map(|us| us.as_micros()),
            delay_low_us: hop.delay_quartiles_us.map(|(low, _)| low.as_micros()),
            delay_high_us: hop.delay_quartiles_us.map(|(_, high)| high.as_micros()),
            usual_delay_us: hop.usual_delay_us.map(|us| us.as_micros()),
            loss_low_ratio: interval.map(|(low, _)| low),
            loss_high_ratio: interval.map(|(_, high)| high),
            verdict: hop.verdict,
        }
    }
}

/// A path with its latest judgement.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PathItem {
    pub(crate) id: Uuid,
    /// The agent that it begins at.
    agent: Uuid,
    site: String,
    target: String,
    /// The service that the target is part of.
    service: String,
    address: String,
    family: Family,
    method: Method,
    /// Differentiated services code point as sent.
    dscp: i16,
    /// Length of the whole IP packet.
    size_bytes: i32,
    /// The latest judgement; absent before the first round.
    latest: Option<LatestView>,
}

/// The latest judgement of a path.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct LatestView {
    /// End of the newest window regarded.
    #[serde(with = "time::serde::rfc3339")]
    until: OffsetDateTime,
    /// Length of time regarded, in seconds.
    span_s: u32,
    /// Rounds regarded.
    rounds: u32,
    /// Hops up to the target.
    hops: usize,
    /// Probes sent to the far end.
    end_sent: u32,
    /// Of those, unanswered.
    end_lost: u32,
    /// Round-trip loss ratio to the far end; absent before the first probe.
    end_loss_ratio: Option<f64>,
    /// Its 95 % interval.
    end_loss_low_ratio: Option<f64>,
    end_loss_high_ratio: Option<f64>,
    /// Median round-trip delay to the far end.
    end_delay_us: Option<u32>,
    /// Its usual value; absent before it is learned.
    usual_end_delay_us: Option<u32>,
    /// How far the worst part of the path departs from its own usual, 0 to 4; absent before the
    /// usual is learned.
    departure: Option<u8>,
    finding: Option<FindingView>,
}

/// A path with its hops.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PathDetail {
    #[serde(flatten)]
    path: PathItem,
    /// What the newest judgement says: the finding first.
    messages: Vec<MessageView>,
    /// What the answers of hops said: rewritten marks, translated addresses, tunnels.
    notes: Vec<NoteView>,
    hops: Vec<HopItem>,
    /// The address that the target's name stood for in the newest round; absent where it is
    /// probed by address.
    resolved: Option<String>,
    /// Source of time stamps; absent before the first round.
    stamps: Option<StampSource>,
    /// Version of the judging engine; absent before the first round.
    engine: Option<u16>,
    /// Version of the mapping from interfaces to routers; 0 takes every address for its own.
    mapping: Option<u32>,
}

impl PathItem {
    pub(crate) fn new(record: &PathRecord, map: &OwnerMap) -> Self {
        Self {
            id: record.id.as_uuid(),
            agent: record.agent.as_uuid(),
            site: record.site.clone(),
            target: record.target.clone(),
            service: record.service.clone(),
            address: record.address.clone(),
            family: record.family,
            method: record.method,
            dscp: record.dscp,
            size_bytes: record.size_bytes,
            latest: record.latest.as_ref().map(|latest| LatestView {
                until: offset(latest.until),
                span_s: latest.span_s,
                rounds: latest.rounds,
                hops: latest.hops.len(),
                end_sent: latest.end_sent,
                end_lost: latest.end_lost,
                end_loss_ratio: share(latest.end_lost, latest.end_sent),
                end_loss_low_ratio: interval(latest).map(|(low, _)| low),
                end_loss_high_ratio: interval(latest).map(|(_, high)| high),
                end_delay_us: latest
                    .hops
                    .last()
                    .and_then(|hop| hop.delay_us)
                    .map(|us| us.as_micros()),
                usual_end_delay_us: latest
                    .hops
                    .last()
                    .and_then(|hop| hop.usual_delay_us)
                    .map(|us| us.as_micros()),
                departure: weave::worst(&latest.hops, latest.finding.as_ref()),
                finding: latest.finding.as_ref().map(|finding| FindingView::new(finding, map)),
            }),
        }
    }
}

impl PathDetail {
    pub(crate) fn new(record: &PathRecord, read: Option<&ReadRecord>, map: &OwnerMap) -> Self {
        let latest = record.latest.as_ref();
        let said = latest.map_or_else(|| vec![Message::NotMeasured], messages::of_assessment);
        let mut notes = Vec::new();
        if let Some(read) = read {
            let dscp = u8::try_from(record.dscp).unwrap_or(0);
            notes.extend(itinera_analysis::notes::of_reading(&read.reading, &read.route, dscp));
            if let Ok(flows) = u64::try_from(read.flows)
                && flows > 1
            {
                notes.push(Note::FlowsInTurn(FlowCount { flows }));
            }
        }
        Self {
            path: PathItem::new(record, map),
            messages: said.into_iter().map(|one| MessageView::of_one(one, map)).collect(),
            notes: NoteView::all(notes, map),
            resolved: read
                .filter(|read| read.resolution.name.is_some())
                .map(|read| read.resolution.address.to_string()),
            stamps: read.map(|read| read.stamps),
            hops: latest
                .map(|l| l.hops.iter().map(|hop| HopItem::new(hop, map)).collect())
                .unwrap_or_default(),
            engine: latest.map(|latest| latest.engine),
            mapping: latest.map(|latest| latest.mapping),
        }
    }
}
