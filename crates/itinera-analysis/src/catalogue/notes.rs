//! The words of notes.

use super::text::{self, byte_count, count, delay, listed, per_cent_counts};
use super::{Context, render};
use itinera_model::ensemble::Balancing;
use itinera_model::note::{
    FoundMtu, HopAt, LoadBalancer, MeasuredThroughput, Note, PairLoss, Refusals, SizeDelay,
    TunnelUse, VoiceRating,
};
use itinera_model::path_mtu::MtuLimit;
use itinera_model::self_alarm::DiskSpace;
use itinera_model::throughput::By;
use itinera_model::two_way::Fitness;
use itinera_model::unit::Ratio;
use itinera_model::unreachable;

/// Renders a note.
#[allow(clippy::too_many_lines, reason = "one arm for each code")]
pub fn note(note: &Note, context: &Context<'_>) -> String {
    match note {
        Note::DscpRewritten(dscp) => {
            let after = dscp
                .after
                .map_or_else(|| "before it".to_owned(), |after| format!("behind {}", at(after)));
            let (hop, now, before) = (beginning(dscp.seen_at), dscp.now, dscp.before);
            format!("{hop} sees DSCP {now} instead of {before}: a router {after} rewrites it.")
        }
        Note::SourceTranslated(one) => format!(
            "{} sees probes from {}: addresses are translated before it.",
            beginning(one.seen_at),
            one.source
        ),
        Note::HopsHidden(one) => format!(
            "{} quotes hop limit {}: {} before it did not decrease it, as inside a tunnel \
             (inferred).",
            beginning(one.seen_at),
            u16::from(one.hidden) + 1,
            count(one.hidden, "hop")
        ),
        Note::MplsLabels(stack) => {
            let noun = if stack.labels.len() == 1 { "label" } else { "labels" };
            let labels = listed(&stack.labels);
            format!("Packets reach {} with MPLS {noun} {labels}.", at(stack.seen_at))
        }
        Note::PortOpen(hop) => format!("{} accepts connections on that port.", beginning(*hop)),
        Note::PortRefused(hop) => {
            format!("{} is up and refuses connections on that port.", beginning(*hop))
        }
        Note::PortAnswers(hop) => format!("{} answers on that port.", beginning(*hop)),
        Note::ProbesRefused(refusals) => refused(refusals),
        Note::SingleRoute(found) => format!(
            "One route. The probability of a missed second one behind any hop is {} ({}).",
            share(found.missed),
            count(found.probes, "probe")
        ),
        Note::MemberRoutes(found) => format!(
            "{} member routes. The probability of a missed one behind any hop is {} ({}).",
            found.members,
            share(found.missed),
            count(found.probes, "probe")
        ),
        Note::FlowsInTurn(flows) => {
            format!("{} flows use the routes of a load balancer in turn.", flows.flows)
        }
        Note::TrafficBalanced(balancer) => balanced(balancer),
        Note::FlowLimitReached => {
            "The limit on flows was reached before that probability.".to_owned()
        }
        Note::PathMtuUnknown => {
            "The target does not answer these probes: the path MTU is unknown.".to_owned()
        }
        Note::PathMtu(found) => path_mtu(found),
        Note::LargerUnanswered(sizes) => format!(
            "Packets of {} are not answered, packets of {} are.",
            byte_count(sizes.large_bytes),
            byte_count(sizes.small_bytes)
        ),
        Note::LargerSlower(sizes) => slower(sizes),
        Note::NothingMeasured => "Nothing was measured in this time.".to_owned(),
        Note::TargetLoss(loss) => format!(
            "Loss to the target: {} in {}.",
            per_cent_counts(loss.lost, loss.sent),
            count(loss.rounds, "round")
        ),
        Note::TargetDelay(all) => format!(
            "Round-trip delay: minimum {}, median {}, 95th percentile {}.",
            delay(all.min_us),
            delay(all.median_us),
            delay(all.p95_us)
        ),
        Note::NothingAnswered => "No probe was answered, so there is no delay.".to_owned(),
        Note::RoutesUsed(routes) => format!("{} different routes were used.", routes.routes),
        Note::WorstFinding(message) => {
            let words = render(message, context);
            format!("At its worst: {}", words.detail.join(" "))
        }
        Note::NoFaultLocated => "No fault was located.".to_owned(),
        Note::DiskLow(DiskSpace { free_mb, needed_mb }) => format!(
            "The disk has {free_mb} MB free. Rollups and opening states wait until {needed_mb} MB are free; \
             measurements and alarms are still recorded."
        ),
        Note::DiskFull(DiskSpace { free_mb, needed_mb }) => format!(
            "The disk has {free_mb} MB free. The service refuses measurements until {needed_mb} MB are free; \
             agents keep theirs meanwhile. Free some space, or keep less: [retention] in the configuration."
        ),
        Note::NothingExchanged => "No packets were exchanged in this time.".to_owned(),
        Note::PairUnreachable(pair) => format!(
            "{} and {} cannot reach each other: none of {} was answered. Either a filter drops \
             UDP, or address translation lets no packets in.",
            pair.near,
            pair.far,
            count(pair.sent, "packet")
        ),
        Note::PairLossNone(loss) => pair_loss("No loss of note", loss),
        Note::PairLossForward(loss) => pair_loss("Loss in the forward direction", loss),
        Note::PairLossReturn(loss) => pair_loss("Loss in the return direction", loss),
        Note::PairLossBoth(loss) => pair_loss("Loss in both directions", loss),
        Note::DirectionUnknown(packets) => {
            let verb = if packets.packets == 1 { "was" } else { "were" };
            format!(
                "{} {verb} not answered, and the direction of this loss is unknown.",
                count(packets.packets, "further packet")
            )
        }
        Note::PairDscpRewritten(dscp) => format!(
            "{} → {}: DSCP is rewritten, sent as {}, arrived as {}.",
            dscp.from, dscp.to, dscp.sent, dscp.arrived
        ),
        Note::PacketsDisordered(one) => format!(
            "{} → {}: {} duplicated and {} reordered of {}.",
            one.from,
            one.to,
            one.duplicated,
            one.reordered,
            count(one.arrived, "packet")
        ),
        Note::ClockSet => "A clock was set in this time. One-way delays before and after are not \
                           comparable; the path did not change."
            .to_owned(),
        Note::ClocksNotSynchronised => "The clocks are not synchronised. Changes of one-way delay \
                                        are exact; its level is known only within the bounds \
                                        given."
            .to_owned(),
        Note::VoiceRated(rating) => voice(rating),
        Note::ThroughputLate => "The agents did not measure in time.".to_owned(),
        Note::ThroughputWaiting => "Waiting for its turn, or running.".to_owned(),
        Note::ThroughputFailed(failed) => format!(
            "The measurement from {} to {} by {} failed: {}.",
            failed.from,
            failed.to,
            protocol(failed.by),
            failed.cause
        ),
        Note::ThroughputMeasured(measured) => throughput(measured),
        Note::NoHostFacts => "This agent has not reported host facts yet.".to_owned(),
        Note::NoCarrier(one) => format!("{} has no carrier.", one.interface),
        Note::WirelessInterface(one) => format!(
            "{} is wireless: measurements over it include the radio's own loss and delay.",
            one.interface
        ),
        Note::HalfDuplex(one) => {
            format!("{} is half duplex: expect loss under load.", one.interface)
        }
        Note::LowSpeed(one) => format!(
            "{} negotiated {} Mb/s. Check whether this is intended.",
            one.interface, one.mbit_s
        ),
        Note::TunnelInterface(tunnel) => tunnelled(tunnel),
        Note::NoResolver => "No resolver is configured.".to_owned(),
        Note::NoGateway => "No gateway: only its own links can be reached.".to_owned(),
        Note::AttachedTo(one) => {
            format!("{} is attached to {}, {}.", one.interface, one.system, one.port)
        }
        Note::AccessNetwork(network) => {
            format!("Its access network is {} (AS {}).", network.name, network.as_number)
        }
        Note::BetterGateway(both) => format!(
            "Gateway {} by {} had a lower delay: median {}, against {} of {}, which is in use.",
            both.better,
            both.interface,
            delay(both.better_us),
            delay(both.in_use_us),
            both.in_use
        ),
        Note::Recorded(recorded) => recorded.words.clone(),
    }
}

fn at(hop: HopAt) -> String {
    match hop.address {
        Some(address) => format!("hop {} ({address})", hop.hop),
        None => format!("hop {}", hop.hop),
    }
}

/// A hop at the beginning of a sentence.
fn beginning(hop: HopAt) -> String {
    text::capitalised(&at(hop))
}

/// A probability with all its digits.
fn share(ratio: Ratio) -> String {
    format!("{} %", f64::from(ratio.as_ppm()) / 1e4)
}

fn refused(refusals: &Refusals) -> String {
    let by = refusals.by.map_or_else(|| "An unknown hop".to_owned(), |address| address.to_string());
    let times = if refusals.count == 1 { "once".to_owned() } else { count(refusals.count, "time") };
    let meaning = unreachable::meaning(refusals.family, refusals.icmp_code);
    format!("{by} answered {times}: {meaning}.")
}

fn balanced(balancer: &LoadBalancer) -> String {
    let router = balancer.address.map_or_else(
        || format!("A router before hop {}", balancer.hop),
        |address| address.to_string(),
    );
    let how = match balancer.balancing {
        Balancing::PerFlow => "by flow",
        Balancing::PerPacket => "by packet, which reorders packets of one flow",
    };
    format!("{router} balances traffic over {} {how}.", listed(&balancer.next))
}

fn path_mtu(found: &FoundMtu) -> String {
    let mtu = found.mtu_bytes;
    match &found.limit {
        MtuLimit::NotReached => format!("Packets of {mtu} bytes pass, the largest tried."),
        MtuLimit::OwnInterface => {
            format!("Packets of {mtu} bytes pass; the own interface carries no larger ones.")
        }
        MtuLimit::Reported { by, stated_bytes } => format!(
            "Packets of {mtu} bytes pass; for larger ones {by} reports an MTU of {stated_bytes}."
        ),
        MtuLimit::Silent { after_hop, after } => {
            let place = match (after_hop, after) {
                (0, _) => "before the first hop".to_owned(),
                (hop, Some(address)) => format!("behind hop {hop} ({address})"),
                (hop, None) => format!("behind hop {hop}"),
            };
            format!(
                "Packets of {mtu} bytes pass; larger ones are lost {place} and no router reports \
                 it (path MTU black hole, RFC 2923)."
            )
        }
    }
}

#[allow(clippy::cast_precision_loss, reason = "for people")]
fn slower(sizes: &SizeDelay) -> String {
    let longer_us = sizes.longer_us as f64;
    format!(
        "Packets of {} take {:+.2} ms longer than packets of {} (minimum to minimum): {:.1} µs \
         per 100 bytes.",
        byte_count(sizes.large_bytes),
        longer_us / 1e3,
        byte_count(sizes.small_bytes),
        longer_us * 100.0 / f64::from(sizes.large_bytes.saturating_sub(sizes.small_bytes).max(1))
    )
}

fn pair_loss(effect: &str, loss: &PairLoss) -> String {
    let PairLoss { near, far, forward, return_ } = loss;
    format!(
        "{effect}: {near} → {far} {}, return {}.",
        per_cent_counts(forward.lost, forward.sent),
        per_cent_counts(return_.lost, return_.sent)
    )
}

fn voice(rating: &VoiceRating) -> String {
    let word = match rating.fitness {
        Fitness::Fit => "fit for voice",
        Fitness::Strained => "strained for voice",
        Fitness::Unfit => "unfit for voice",
    };
    format!(
        "{} → {}: {word}, R {:.0}, MOS {:.1} (ITU-T G.107, G.711 with concealment, 20 ms packets; \
         mouth-to-ear delay {:.0} ms, loss {:.1} %, burst ratio {:.1}).",
        rating.from,
        rating.to,
        rating.r,
        rating.mos,
        rating.delay_ms,
        rating.loss_ratio * 100.0,
        rating.burst_ratio
    )
}

const fn protocol(by: By) -> &'static str {
    match by {
        By::Tcp => "TCP",
        By::Udp => "UDP",
    }
}

fn throughput(measured: &MeasuredThroughput) -> String {
    let MeasuredThroughput { from, to, by, rate_bit_s, least_bit_s, packets, lost } = measured;
    let by = protocol(*by);
    let Some(rate) = *rate_bit_s else {
        return format!("Too few bytes arrived from {from} to {to} by {by} to measure a rate.");
    };
    let packets = match packets {
        0 => String::new(),
        packets => format!(", {lost} of {packets} packets lost"),
    };
    let least = least_bit_s.map_or_else(String::new, |least| {
        let word = if rate < least { "under" } else { "at least" };
        format!("; {word} the limit of {}", text::bit_rate(least))
    });
    format!("{} from {from} to {to} by {by}{packets}{least}.", text::bit_rate(rate))
}

fn tunnelled(tunnel: &TunnelUse) -> String {
    let TunnelUse { interface, prefixes, targets } = tunnel;
    let (routed, ours) = (listed(prefixes), listed(targets));
    match (prefixes.is_empty(), targets.is_empty()) {
        (true, true) => format!("{interface} is a tunnel; no target is routed through it."),
        (true, false) => format!(
            "{interface} is a tunnel; {ours} is routed through it, by rules beside the main table."
        ),
        (false, true) => {
            format!("{interface} is a tunnel; {routed} is routed through it, and no target.")
        }
        (false, false) => {
            format!("{interface} is a tunnel; {routed} is routed through it, with {ours}.")
        }
    }
}
