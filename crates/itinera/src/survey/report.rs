//! What a record shows: the same judgement, messages and notes as those of the service.

use super::record::{Index, Record};
use itinera_analysis::{Observation, messages, notes as route_notes, past};
use itinera_model::ensemble::Balancing;
use itinera_model::finding::{Assessment, Cause, HopView, Place};
use itinera_model::message::LossEstimate;
use itinera_model::note::{Note, SizeDelay, SizePair};
use itinera_model::owner::{Owner, OwnerMap, is_private};
use itinera_model::path::{Family, Method};
use itinera_model::quantile::quantile;
use itinera_model::reading::HopReading;
use itinera_model::round::{HopCounts, Round, StampSource};
use itinera_model::round_set::RoundSet;
use itinera_model::unit::Micros;
use itinera_model::unreachable;
use itinera_service::api::{MessageView, NoteView};
use serde::Serialize;
use std::collections::BTreeMap;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A survey.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Report {
    /// The target's name; absent where it was given by address.
    pub(super) target: Option<String>,
    /// Its address.
    pub(super) address: String,
    /// The address that probes left from; absent without a round.
    pub(super) source: Option<String>,
    /// How it probed.
    pub(super) method: Method,
    /// Port of UDP and TCP probes.
    pub(super) port: Option<u16>,
    /// Differentiated services code point that probes left with.
    pub(super) dscp: u8,
    /// Length of the IP packets in bytes.
    pub(super) size_bytes: u16,
    /// When the first round began, by this machine's clock.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) started_at: Option<OffsetDateTime>,
    /// Rounds measured.
    pub(super) rounds: usize,
    /// Source of the stamps that delays come from; absent without a round.
    pub(super) stamps: Option<StampSource>,
    /// What the route and its answers show apart from faults.
    pub(super) notes: Vec<NoteView>,
    /// By flow: one route each.
    pub(super) members: Vec<Member>,
    /// Load balancers on the route; absent where it was not asked for.
    pub(super) balancers: Option<Vec<BalancerView>>,
    /// The largest packet that arrived, in bytes; absent where it was not asked for, or nothing
    /// arrived.
    pub(super) mtu_bytes: Option<u16>,
    /// The target's answers by size of packet, where several were measured.
    pub(super) sizes: Vec<SizeView>,
}

/// The route of one flow.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Member {
    /// Source port, or identifier of echo requests.
    pub(super) source_port: u16,
    /// Rounds on it.
    pub(super) rounds: u32,
    /// What was found, the most important first.
    pub(super) messages: Vec<MessageView>,
    /// What begins on it, and where; absent when nothing does.
    pub(super) finding: Option<FindingView>,
    /// By hop limit from 1.
    pub(super) hops: Vec<HopReport>,
}

/// Where the fault begins.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FindingView {
    /// Class of fault.
    pub(super) cause: Cause,
    /// Place at fault.
    pub(super) place: Place,
    /// Probability of this account, 0 to 1; not calibrated on held-out cases.
    pub(super) confidence: f64,
    /// Loss from there on; absent for another cause.
    pub(super) loss: Option<LossEstimate>,
    /// Delay added from there on (cause delay).
    pub(super) added_delay_us: Option<u32>,
}

/// A refusal by code.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Refusal {
    /// ICMP code; 255 stands for "packet too big" of ICMPv6.
    pub(super) code: u8,
    /// What it means.
    pub(super) meaning: String,
    /// How often.
    pub(super) count: u32,
}

/// One hop.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct HopReport {
    /// Hop limit.
    pub(super) hop: u8,
    /// The answering address; absent for a silent hop.
    pub(super) address: Option<String>,
    /// Its owner by the owner map given.
    pub(super) owner: Option<String>,
    /// True for private address space.
    pub(super) private: bool,
    /// Probes sent.
    pub(super) sent: u32,
    /// Answers in time or late.
    pub(super) answered: u32,
    /// Of those, late.
    pub(super) late: u32,
    /// Further answers to one probe.
    pub(super) duplicate: u32,
    /// Answers out of order.
    pub(super) reordered: u32,
    /// Answers that could mean several probes, and count for none.
    pub(super) ambiguous: u32,
    /// Answers in time from another address.
    pub(super) elsewhere: u32,
    /// Refusals to carry on.
    pub(super) refusals: Vec<Refusal>,
    /// Share of packets that got at least this far, 0 to 1.
    pub(super) got_here_ratio: Option<f64>,
    /// Fastest round trip in microseconds.
    pub(super) fastest_us: Option<u32>,
    /// Median round trip in microseconds.
    pub(super) median_us: Option<u32>,
    /// Lower quartile.
    pub(super) quarter_us: Option<u32>,
    /// Upper quartile.
    pub(super) three_quarters_us: Option<u32>,
    /// What its answers mean: `clean`, `silent`, `rate_limits`, `onset`, `carries` or `unanswered`.
    pub(super) verdict: String,
    /// Routers on the return route, inferred from the hop limit left.
    pub(super) hops_back: Option<u8>,
    /// DSCP of the probe when it got there.
    pub(super) dscp_here: Option<u8>,
    /// ECN bits of the probe when it got there.
    pub(super) ecn_here: Option<u8>,
    /// Sender's address of the probe when it got there, where translated.
    pub(super) translated_source: Option<String>,
    /// Labels under which it got there, outermost first.
    pub(super) labels: Vec<u32>,
    /// The interface it came in by, as the router names it.
    pub(super) interface: Option<String>,
    /// Hops before this one that did not count the hop limit (inferred).
    pub(super) hidden_before: u8,
}

/// A load balancer.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct BalancerView {
    /// Hop limit of the first routers behind it.
    pub(super) hop: u8,
    /// Its address; absent for a silent one.
    pub(super) address: Option<String>,
    /// How it chooses among routes.
    pub(super) balancing: Balancing,
    /// The first addresses behind it.
    pub(super) next: Vec<String>,
}

/// The target's answers to packets of one size.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct SizeView {
    /// Length of the IP packets in bytes.
    pub(super) size_bytes: u16,
    /// Probes that were sent as far as the target.
    pub(super) sent: u32,
    /// Answered in time.
    pub(super) answered: u32,
    /// Fastest round trip in microseconds.
    pub(super) fastest_us: Option<u32>,
    /// Median round trip in microseconds.
    pub(super) median_us: Option<u32>,
}

/// Makes the report of a record.
pub(super) fn of(record: &Record, map: &OwnerMap) -> Report {
    let family = Family::of(record.address);
    let main = record.main();
    let first = main.and_then(|set| set.rounds.first());
    let flow = main.and_then(|set| set.flows.first());
    let mut notes = Vec::new();
    let mut members = Vec::new();
    if let Some(set) = main {
        let index = Index::of(set);
        for (port, rounds) in by_flow(set, &index) {
            let Some(judged) = judged(&rounds, &index) else { continue };
            members.push(member(port, &rounds, &index, &judged, map, family));
        }
        notes.extend(notes_of(set, &index, record.dscp, family));
    } else {
        notes.push(Note::NothingMeasured);
    }
    notes.extend(record.ensemble.iter().flat_map(route_notes::of_ensemble));
    notes.extend(record.path_mtu.iter().map(route_notes::of_path_mtu));
    let sizes = sizes(record);
    notes.extend(size_note(&sizes));
    Report {
        target: record.name.clone(),
        address: record.address.to_string(),
        source: flow.map(|flow| flow.source.to_string()),
        method: record.method,
        port: record.port,
        dscp: record.dscp,
        size_bytes: record.by_size.first().map_or(0, |(size, _)| *size),
        started_at: first.and_then(|round| round.clocks.wall.date_time()),
        rounds: main.map_or(0, |set| set.rounds.len()),
        stamps: main.filter(|set| !set.rounds.is_empty()).map(stamps),
        notes: NoteView::all(notes, map),
        members,
        balancers: record.ensemble.as_ref().map(|ensemble| {
            let views = ensemble.balancers.iter().map(|balancer| BalancerView {
                hop: balancer.hop,
                address: balancer.address.map(|address| address.to_string()),
                balancing: balancer.balancing,
                next: balancer.next.iter().map(ToString::to_string).collect(),
            });
            views.collect()
        }),
        mtu_bytes: record.path_mtu.as_ref().and_then(|found| found.mtu_bytes),
        sizes,
    }
}

/// The source that all rounds have in common; else the program's clock.
fn stamps(set: &RoundSet) -> StampSource {
    let first = set.rounds.first().map_or(StampSource::Program, |round| round.stamps);
    let common = set.rounds.iter().all(|round| round.stamps == first);
    if common { first } else { StampSource::Program }
}

fn by_flow<'a>(set: &'a RoundSet, index: &Index<'_>) -> BTreeMap<u16, Vec<&'a Round>> {
    let mut by_flow: BTreeMap<u16, Vec<&Round>> = BTreeMap::new();
    for round in &set.rounds {
        let port = index.flows.get(&round.flow).map_or(0, |flow| flow.source_port);
        by_flow.entry(port).or_default().push(round);
    }
    by_flow
}

/// What the newest rounds of one flow say, after those before them.
fn judged(rounds: &[&Round], index: &Index<'_>) -> Option<Assessment> {
    let observations = rounds.iter().filter_map(|round| {
        let flow = index.flows.get(&round.flow)?;
        Some(Observation::of(round, flow, &index.routes.get(&round.route)?.hops))
    });
    let mut latest = past::assessments(&observations.collect::<Vec<_>>()).pop()?;
    // A survey that is shorter than what judgement regards speaks of its own time.
    let ticks = rounds.first().zip(rounds.last());
    let us = ticks.map_or(0, |(first, last)| last.clocks.tick.since(first.clocks.tick).as_micros());
    latest.span_s = latest.span_s.min(us / 1_000_000 + 1);
    Some(latest)
}

/// What the last round of each flow has read, and all refusals, each of them once.
fn notes_of(set: &RoundSet, index: &Index<'_>, dscp: u8, family: Family) -> Vec<Note> {
    let mut all: Vec<Note> = Vec::new();
    for (_, rounds) in by_flow(set, index) {
        let last = rounds.last();
        let read = last.and_then(|round| {
            let reading = index.readings.get(&round.reading?)?;
            Some((*reading, *index.routes.get(&round.route)?))
        });
        if let Some((reading, route)) = read {
            let more = route_notes::of_reading(reading, route, dscp);
            all.extend(more.into_iter().filter(|one| !all.contains(one)).collect::<Vec<_>>());
        }
    }
    let hops = set
        .rounds
        .iter()
        .filter_map(|round| Some((*index.routes.get(&round.route)?, round.hops.as_slice())));
    all.extend(route_notes::of_refusals(family, hops));
    all
}

fn member(
    source_port: u16,
    rounds: &[&Round],
    index: &Index<'_>,
    judged: &Assessment,
    map: &OwnerMap,
    family: Family,
) -> Member {
    let reading = rounds.last().and_then(|round| index.readings.get(&round.reading?));
    let nothing = HopReading::default();
    let hops = judged.hops.iter().map(|view| {
        let place = usize::from(view.hop) - 1;
        let read = reading.and_then(|reading| reading.hops.get(place)).unwrap_or(&nothing);
        let counts: Vec<&HopCounts> =
            rounds.iter().filter_map(|round| round.hops.get(place)).collect();
        hop_report(view, read, &counts, map, family)
    });
    Member {
        source_port,
        rounds: judged.rounds,
        messages: messages::of_assessment(judged)
            .into_iter()
            .map(|message| MessageView::of_one(message, map))
            .collect(),
        finding: judged.finding.as_ref().map(|finding| {
            let is_delay = finding.cause == Cause::Delay;
            let loss = messages::loss_estimate(finding.loss_ppm, finding.loss_counts);
            FindingView {
                cause: finding.cause,
                place: finding.place,
                confidence: f64::from(finding.confidence_ppm) / 1e6,
                loss: (!is_delay).then_some(loss),
                added_delay_us: is_delay.then_some(finding.added_delay_us.as_micros()),
            }
        }),
        hops: hops.collect(),
    }
}

fn hop_report(
    view: &HopView,
    read: &HopReading,
    counts: &[&HopCounts],
    map: &OwnerMap,
    family: Family,
) -> HopReport {
    let sum = |of: fn(&HopCounts) -> u8| counts.iter().map(|hop| u32::from(of(hop))).sum();
    let mut refusals: BTreeMap<u8, u32> = BTreeMap::new();
    for (code, count) in counts.iter().flat_map(|hop| &hop.unreachable) {
        *refusals.entry(*code).or_default() += u32::from(*count);
    }
    let us = |micros: Micros| micros.as_micros();
    HopReport {
        hop: view.hop,
        address: view.address.map(|address| address.to_string()),
        owner: view
            .address
            .and_then(|address| map.owner_of(address))
            .map(|Owner { name, .. }| name.clone()),
        private: view.address.is_some_and(is_private),
        sent: view.sent,
        answered: view.sent - view.lost,
        late: sum(|hop| hop.late),
        duplicate: sum(|hop| hop.duplicate),
        reordered: sum(|hop| hop.reordered),
        ambiguous: sum(|hop| hop.ambiguous),
        elsewhere: sum(|hop| hop.elsewhere),
        refusals: refusals
            .into_iter()
            .map(|(code, count)| Refusal {
                code,
                meaning: unreachable::meaning(family, code),
                count,
            })
            .collect(),
        got_here_ratio: view.got_here_ppm.map(|ppm| f64::from(ppm) / 1e6),
        fastest_us: counts.iter().flat_map(|hop| &hop.rtt).min().copied().map(us),
        median_us: view.delay_us.map(us),
        quarter_us: view.delay_quartiles_us.map(|(low, _)| us(low)),
        three_quarters_us: view.delay_quartiles_us.map(|(_, high)| us(high)),
        verdict: serde_json::to_value(view.verdict)
            .ok()
            .and_then(|verdict| verdict.as_str().map(str::to_owned))
            .unwrap_or_default(),
        hops_back: read.hops_back(),
        dscp_here: read.quoted_dscp,
        ecn_here: read.quoted_ecn,
        translated_source: read.translated_source.map(|address| address.to_string()),
        labels: read.labels.iter().map(|label| label.label).collect(),
        interface: read.interface.as_ref().and_then(|interface| interface.name.clone()),
        hidden_before: read.hidden_before(),
    }
}

/// The target's answers by size; nothing where only one was measured.
fn sizes(record: &Record) -> Vec<SizeView> {
    if record.by_size.len() < 2 {
        return Vec::new();
    }
    let views = record.by_size.iter().map(|(size_bytes, set)| {
        let reached = set.rounds.iter().filter_map(|round| {
            let ends = round.reached_at.map_or(round.hops.len(), usize::from);
            round.hops.get(ends.checked_sub(1)?)
        });
        let hops: Vec<&HopCounts> = reached.collect();
        let mut delays: Vec<u32> =
            hops.iter().flat_map(|hop| &hop.rtt).map(|rtt| rtt.as_micros()).collect();
        delays.sort_unstable();
        SizeView {
            size_bytes: *size_bytes,
            sent: hops.iter().map(|hop| u32::from(hop.sent)).sum(),
            answered: hops.iter().map(|hop| u32::from(hop.answers())).sum(),
            fastest_us: delays.first().copied(),
            median_us: quantile(&delays, 1, 2),
        }
    });
    views.collect()
}

/// What the sizes say together.
fn size_note(sizes: &[SizeView]) -> Option<Note> {
    let small = sizes.iter().min_by_key(|size| size.size_bytes)?;
    let large = sizes.iter().max_by_key(|size| size.size_bytes)?;
    let (small_bytes, large_bytes) = (small.size_bytes, large.size_bytes);
    match (small.fastest_us, large.fastest_us) {
        (Some(_), None) => Some(Note::LargerUnanswered(SizePair { small_bytes, large_bytes })),
        (Some(quick), Some(slow)) if large_bytes > small_bytes => {
            let longer_us = i64::from(slow) - i64::from(quick);
            Some(Note::LargerSlower(SizeDelay { small_bytes, large_bytes, longer_us }))
        }
        _ => None,
    }
}
