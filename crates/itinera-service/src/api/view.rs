//! What the API shows: plain records with units in their names, ratios from 0 to 1.

use super::events::{part_word, severity_word};
use crate::problem::ApiError;
use crate::server::Shared;
use itinera_analysis::{event as occurred, notes, sentence, weave};
use itinera_model::alarm::AlarmKind;
use itinera_model::diagnosis::Part;
use itinera_model::finding::{Cause, Finding, HopVerdict, HopView, Place};
use itinera_model::id::{AlarmId, CheckId, EventId, IncidentId};
use itinera_model::owner::{Owner, OwnerMap, is_private};
use itinera_store::{AlarmRecord, EventQuery, EventRecord, PathRecord, ReadRecord};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

pub(super) fn ratio(ppm: u32) -> f64 {
    f64::from(ppm) / 1e6
}

fn share(part: u32, whole: u32) -> Option<f64> {
    (whole > 0).then(|| f64::from(part) / f64::from(whole))
}

pub(super) fn offset(at: itinera_model::unit::WallTime) -> OffsetDateTime {
    OffsetDateTime::from_unix_timestamp_nanos(i128::from(at.as_unix_micros()) * 1_000)
        .unwrap_or(OffsetDateTime::UNIX_EPOCH)
}

/// A network responsible for addresses.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct OwnerView {
    /// Autonomous system number.
    as_number: u32,
    name: String,
    /// Contact.
    contact: String,
}

impl OwnerView {
    /// True when this shows the same network.
    pub(super) const fn is(&self, owner: &Owner) -> bool {
        self.as_number == owner.as_number
    }
}

impl From<&Owner> for OwnerView {
    fn from(owner: &Owner) -> Self {
        Self {
            as_number: owner.as_number,
            name: owner.name.clone(),
            contact: owner.contact.clone(),
        }
    }
}

/// A place at fault: between two answering addresses.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PlaceView {
    /// The last address without the fault.
    from: String,
    /// The first address with it.
    to: String,
    /// Silent hops in between; the links around them cannot be told apart.
    silent_between: u8,
    /// Owners of the two ends: one when they are the same, two at a boundary, none when no
    /// owner map names them.
    owners: Vec<OwnerView>,
}

impl PlaceView {
    fn new(place: &Place, map: &OwnerMap) -> Self {
        let Place::Link { from, to, silent_between } = place;
        let whose = sentence::whose(place, map);
        Self {
            from: from.to_string(),
            to: to.to_string(),
            silent_between: *silent_between,
            owners: whose.owners().into_iter().map(OwnerView::from).collect(),
        }
    }
}

/// What is wrong.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum CauseView {
    Loss,
    Delay,
}

impl From<Cause> for CauseView {
    fn from(cause: Cause) -> Self {
        match cause {
            Cause::Loss => Self::Loss,
            Cause::Delay => Self::Delay,
        }
    }
}

/// One candidate account of what is seen.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct ExplanationView {
    cause: CauseView,
    place: PlaceView,
    probability: f64,
}

/// Where the fault begins.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct FindingView {
    /// The finding in words.
    sentence: String,
    cause: CauseView,
    place: PlaceView,
    /// The judging model's own probability, not calibrated on other networks yet.
    confidence: f64,
    /// Carried loss; absent for another cause.
    loss_ratio: Option<f64>,
    /// Added delay; absent for another cause.
    added_delay_us: Option<u32>,
    /// The most probable accounts, best first.
    explanations: Vec<ExplanationView>,
}

impl FindingView {
    fn new(finding: &Finding, map: &OwnerMap) -> Self {
        Self {
            sentence: sentence::of_finding(finding, map),
            cause: finding.cause.into(),
            place: PlaceView::new(&finding.place, map),
            confidence: ratio(finding.confidence_ppm),
            loss_ratio: (finding.cause == Cause::Loss).then(|| ratio(finding.loss_ppm)),
            added_delay_us: (finding.cause == Cause::Delay)
                .then(|| finding.added_delay_us.as_micros()),
            explanations: finding
                .explanations
                .iter()
                .map(|explanation| ExplanationView {
                    cause: explanation.cause.into(),
                    place: PlaceView::new(&explanation.place, map),
                    probability: ratio(explanation.probability_ppm),
                })
                .collect(),
        }
    }
}

/// What a hop's answers mean.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum VerdictView {
    /// Answers, and nothing begins here.
    Clean,
    /// Never answers while later hops do.
    Silent,
    /// Limits its own answers; traffic passes.
    RateLimits,
    /// The fault begins on the link into this hop.
    Onset,
    /// Shows faults that began before it.
    Carries,
    /// Nothing from here to the end answers.
    Unanswered,
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
    verdict: VerdictView,
}

impl HopItem {
    fn new(hop: &HopView, map: &OwnerMap) -> Self {
        let owner = hop.address.and_then(|address| map.owner_of(address));
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
            verdict: match hop.verdict {
                HopVerdict::Clean => VerdictView::Clean,
                HopVerdict::Silent => VerdictView::Silent,
                HopVerdict::RateLimits => VerdictView::RateLimits,
                HopVerdict::Onset => VerdictView::Onset,
                HopVerdict::Carries => VerdictView::Carries,
                HopVerdict::Unanswered => VerdictView::Unanswered,
            },
        }
    }
}

/// A path with its latest judgement.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PathItem {
    pub(super) id: Uuid,
    /// The agent that it begins at.
    agent: Uuid,
    site: String,
    target: String,
    /// The service that the target is part of.
    service: String,
    address: String,
    /// `ipv4` or `ipv6`.
    family: String,
    /// `icmp-echo` or `udp`.
    method: String,
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
    /// What the measurements mean, in sentences.
    meaning: Vec<String>,
    hops: Vec<HopItem>,
    /// The address that the target's name stood for in the newest round; absent where it is
    /// probed by address.
    resolved: Option<String>,
    /// Source of time stamps: `kernel`, `program` or `virtual`; absent before the first
    /// round.
    stamps: Option<&'static str>,
    /// Version of the judging engine; absent before the first round.
    engine: Option<u16>,
    /// Version of the mapping from interfaces to routers; 0 takes every address for its own.
    mapping: Option<u32>,
}

impl PathItem {
    pub(super) fn new(record: &PathRecord, map: &OwnerMap) -> Self {
        Self {
            id: record.id.as_uuid(),
            agent: record.agent.as_uuid(),
            site: record.site.clone(),
            target: record.target.clone(),
            service: record.service.clone(),
            address: record.address.clone(),
            family: record.family.clone(),
            method: record.method.clone(),
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
    pub(super) fn new(record: &PathRecord, read: Option<&ReadRecord>, map: &OwnerMap) -> Self {
        let latest = record.latest.as_ref();
        let mut meaning = latest.map_or_else(
            || vec!["Nothing has been measured on this path yet.".to_owned()],
            |latest| sentence::of_assessment(latest, map),
        );
        if let Some(read) = read {
            let dscp = u8::try_from(record.dscp).unwrap_or(0);
            meaning.extend(notes::of_reading(&read.reading, &read.route, dscp));
            if read.flows > 1 {
                meaning.push(format!(
                    "Load balancing shares this path among ways; {} flows take them in turn.",
                    read.flows
                ));
            }
        }
        Self {
            path: PathItem::new(record, map),
            meaning,
            resolved: read
                .filter(|read| read.resolution.name.is_some())
                .map(|read| read.resolution.address.to_string()),
            stamps: read.map(|read| read.stamps.word()),
            hops: latest
                .map(|l| l.hops.iter().map(|hop| HopItem::new(hop, map)).collect())
                .unwrap_or_default(),
            engine: latest.map(|latest| latest.engine),
            mapping: latest.map(|latest| latest.mapping),
        }
    }
}

/// An alarm.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct AlarmItem {
    pub(super) id: Uuid,
    /// The alarm in words.
    pub(super) sentence: String,
    /// `limit-held-over`, or the kind of an event that is fault, such as `service-fails`.
    kind: String,
    /// Part at fault: `network` for faults of paths; otherwise as for events.
    part: &'static str,
    /// Absent for what no path shows.
    cause: Option<CauseView>,
    /// `critical`, `major` or `minor` (RFC 8632).
    perceived_severity: &'static str,
    /// Absent for what no path shows.
    place: Option<PlaceView>,
    /// Absent for what no path shows.
    confidence: Option<f64>,
    /// The sites that see it, or have seen it; none for what paths show.
    sites: Vec<String>,
    /// The check that sees it.
    check: Option<Uuid>,
    /// Carried loss now, newest windows weighing most; absent for another cause.
    loss_ratio: Option<f64>,
    /// Added delay now; absent for another cause.
    added_delay_us: Option<u32>,
    /// Start of the first window over the limit.
    #[serde(with = "time::serde::rfc3339")]
    pub(super) since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(super) raised_at: OffsetDateTime,
    /// Absent while the alarm is open.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) cleared_at: Option<OffsetDateTime>,
    /// The highest that `loss_ratio` has been; absent for another cause.
    worst_loss_ratio: Option<f64>,
    /// The highest that `added_delay_us` has been; absent for another cause.
    worst_added_delay_us: Option<u32>,
    /// The incident that it belongs to.
    incident: Option<Uuid>,
    /// Paths that show it now.
    showing: Vec<Uuid>,
    /// Paths that have shown it.
    paths: Vec<Uuid>,
}

impl AlarmItem {
    pub(super) fn new(record: &AlarmRecord, map: &OwnerMap) -> Self {
        let alarm = &record.alarm;
        let cause = alarm.key.cause;
        Self {
            id: record.id.as_uuid(),
            sentence: sentence::of_alarm(alarm, record.cleared_at.is_some(), map),
            kind: match alarm.key.kind {
                AlarmKind::LimitHeldOver => "limit-held-over".to_owned(),
            },
            part: part_word(Part::Network),
            cause: Some(cause.into()),
            perceived_severity: severity_word(alarm.severity),
            place: Some(PlaceView::new(&alarm.key.place, map)),
            confidence: Some(ratio(alarm.confidence_ppm)),
            sites: Vec::new(),
            check: None,
            loss_ratio: (cause == Cause::Loss).then(|| ratio(alarm.loss_ppm)),
            added_delay_us: (cause == Cause::Delay).then(|| alarm.added_delay_us.as_micros()),
            since: offset(alarm.since),
            raised_at: offset(alarm.raised_at),
            cleared_at: record.cleared_at,
            worst_loss_ratio: (cause == Cause::Loss).then(|| ratio(alarm.worst_loss_ppm)),
            worst_added_delay_us: (cause == Cause::Delay)
                .then(|| alarm.worst_added_delay_us.as_micros()),
            incident: record.incident.map(IncidentId::as_uuid),
            showing: alarm.showing.iter().map(|path| path.as_uuid()).collect(),
            paths: alarm.paths.iter().map(|path| path.as_uuid()).collect(),
        }
    }

    /// Faults that no path shows: what several sites see of one cause is one alarm. `group` has one
    /// at least, the first that was seen first.
    pub(super) fn of_events(group: &[&EventRecord]) -> Option<Self> {
        let record = group.first()?;
        let event = &record.event;
        let told: Vec<_> =
            group.iter().map(|it| (&it.event, it.site.as_str(), it.ended_at.is_some())).collect();
        let over = group.iter().all(|it| it.ended_at.is_some());
        let sites: BTreeSet<&str> = group.iter().map(|it| it.site.as_str()).collect();
        Some(Self {
            id: record.id.as_uuid(),
            sentence: occurred::headline(&told)?,
            kind: event.key.kind.to_string(),
            part: part_word(event.part),
            cause: None,
            perceived_severity: event.severity.map_or("minor", severity_word),
            place: None,
            confidence: None,
            sites: sites.into_iter().map(str::to_owned).collect(),
            check: event.check.map(CheckId::as_uuid),
            loss_ratio: None,
            added_delay_us: None,
            since: offset(event.since),
            raised_at: offset(event.raised_at),
            cleared_at: if over { group.iter().filter_map(|it| it.ended_at).max() } else { None },
            worst_loss_ratio: None,
            worst_added_delay_us: None,
            incident: record.incident.map(IncidentId::as_uuid),
            showing: Vec::new(),
            paths: Vec::new(),
        })
    }

    /// Troubles of an incident, each cause once.
    pub(super) fn of_faults(records: &[EventRecord]) -> Vec<Self> {
        let mut groups: BTreeMap<&str, Vec<&EventRecord>> = BTreeMap::new();
        for record in records {
            groups.entry(&record.event.group).or_default().push(record);
        }
        groups.values().filter_map(|group| Self::of_events(group)).collect()
    }
}

/// Events of one incident regarded.
const MOST_OF_INCIDENT: u64 = 1_000;

/// The newest alarms and faults together, newest first, at most `limit`, those before `before`.
pub(super) async fn alarm_items(
    shared: &Shared,
    open: bool,
    before: Option<(OffsetDateTime, Uuid)>,
    limit: u64,
) -> Result<Vec<AlarmItem>, ApiError> {
    let alarm_before = before.map(|(at, id)| (at, AlarmId::from_uuid(id)));
    let mut items = Vec::new();
    for record in shared.store.alarms(open, alarm_before, limit).await? {
        let (map, _) = shared.owner_map_at(offset(record.alarm.raised_at)).await?;
        items.push(AlarmItem::new(&record, &map));
    }
    let all = EventQuery { faults: true, ..EventQuery::default() };
    let which = EventQuery { lasting: open, first_of_group: true, ..all };
    let event_before = before.map(|(at, id)| (at, EventId::from_uuid(id)));
    for first in shared.store.events(which, event_before, limit).await? {
        let of_incident = EventQuery { incident: first.incident, ..all };
        let mut group = shared.store.events(of_incident, None, MOST_OF_INCIDENT).await?;
        let same = |it: &EventRecord| it.event.group == first.event.group && it.id >= first.id;
        group.retain(same);
        group.sort_by_key(|it| it.id);
        items.extend(AlarmItem::of_events(&group.iter().collect::<Vec<_>>()));
    }
    items.sort_by_key(|item| std::cmp::Reverse((item.raised_at, item.id)));
    items.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
    Ok(items)
}
