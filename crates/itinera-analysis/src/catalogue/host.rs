//! Words of hosts, links of agents, throughput and intended routes.

use super::Words;
use super::text::{bit_rate, count, delay, listed, per_cent};
use itinera_model::host_facts::{ActionOutcome, LocalAction};
use itinera_model::message::{
    HostChange, HostFact, HostLateness, LinkUse, LowThroughput, ReceiveErrorCounts, RouteDeviation,
    RouteDeviations, SilentAgent, TakenAction, TrafficDirection,
};
use itinera_model::unit::Ratio;

pub(super) fn throughput_low(low: &LowThroughput) -> Words {
    let LowThroughput { from, to, protocol, bits_per_s, limit_bits_per_s, times } = low;
    let got = bits_per_s.map_or_else(|| "0 Mb/s".to_owned(), bit_rate);
    Words::new(
        format!("Throughput {from} → {to}: {got} by {protocol}"),
        Some(format!("Check the links of {from} and {to}, then call their providers.")),
        vec![format!(
            "Throughput from {from} to {to} by {protocol} is {got}; the limit is {}. {} in a row \
             were under it.",
            bit_rate(*limit_bits_per_s),
            count(*times, "measurement")
        )],
    )
}

fn share(part: u64, whole: u64) -> Ratio {
    let ppm = part.saturating_mul(1_000_000) / whole.max(1);
    Ratio::from_ppm(u32::try_from(ppm).unwrap_or(u32::MAX))
}

pub(super) fn receive_errors(counts: &ReceiveErrorCounts) -> Words {
    let ReceiveErrorCounts { site, interface, errors, frames, seconds } = counts;
    Words::new(
        format!("{site}: receive errors on {interface}"),
        Some(format!("Our own site ({site}): check cable, optic, radio and switch port.")),
        vec![
            format!(
                "{errors} of {frames} frames ({}) arrived with errors on {interface} in {seconds} s.",
                per_cent(share(*errors, *frames))
            ),
            format!("Loss on paths from {site} begins here, not at a provider."),
        ],
    )
}

pub(super) fn link_saturated(used: &LinkUse) -> Words {
    let LinkUse { site, interface, direction, used, speed_mbit_s, seconds } = used;
    let direction = match direction {
        TrafficDirection::Inbound => "inbound",
        TrafficDirection::Outbound => "outbound",
    };
    Words::new(
        format!("{site}: link {interface} saturated {direction}"),
        Some(format!("Our own site ({site}): find the traffic that fills the link.")),
        vec![format!(
            "{} of {speed_mbit_s} Mb/s on {interface} was in use {direction} over {seconds} s.",
            per_cent(*used)
        )],
    )
}

pub(super) fn busy(late: &HostLateness) -> Words {
    let HostLateness { site, p95_us, samples } = late;
    Words::new(
        format!("{site}: agent host is busy"),
        Some(format!("Our own site ({site}): reduce the load of the agent's host.")),
        vec![format!(
            "The agent is {} late at the 95th percentile ({samples} timers and packets). Delays \
             measured there are less exact.",
            delay(*p95_us)
        )],
    )
}

pub(super) fn silent(silent: &SilentAgent) -> Words {
    let SilentAgent { site, seconds } = silent;
    Words::new(
        format!("{site}: agent reports nothing"),
        Some(format!("Our own site ({site}): check the agent, its host and its link.")),
        vec![format!(
            "Nothing from the agent of {site} has come in for {}. Its paths have no data until it \
             reports again; measurements that it keeps meanwhile are judged then.",
            count(*seconds, "second")
        )],
    )
}

pub(super) fn acted(taken: &TakenAction) -> Words {
    let TakenAction { site, action } = taken;
    let LocalAction { program, cut_off_s, took_ms, outcome, number, .. } = action;
    let took = delay(took_ms.saturating_mul(1_000));
    let ended = match outcome {
        ActionOutcome::Succeeded => format!("It succeeded after {took}."),
        ActionOutcome::Failed { code: Some(code) } => {
            format!("It failed with exit code {code} after {took}.")
        }
        ActionOutcome::Failed { code: None } => format!("A signal ended it after {took}."),
        ActionOutcome::TimedOut => format!("It took too long and was ended after {took}."),
        ActionOutcome::Interrupted => "The agent ended before it did.".to_owned(),
        ActionOutcome::NotStarted { reason } => format!("It could not be started: {reason}."),
    };
    Words::new(
        format!("{site}: cut-off agent ran {program}"),
        None,
        vec![format!(
            "The agent had reached neither the service nor any target for {}. Its limits file permits \
             {program} in this case. {ended} It was action {number} within 24 hours.",
            count(*cut_off_s, "second")
        )],
    )
}

const fn fact_words(fact: HostFact) -> &'static str {
    match fact {
        HostFact::HostName => "host name",
        HostFact::Ipv4Gateway => "IPv4 gateway",
        HostFact::Ipv6Gateway => "IPv6 gateway",
        HostFact::Resolvers => "resolvers",
        HostFact::Interface => "interface",
        HostFact::Speed => "speed",
        HostFact::Duplex => "duplex mode",
        HostFact::State => "state",
        HostFact::Addresses => "addresses",
        HostFact::Route => "route",
        HostFact::Switch => "switch port",
        HostFact::GatewayDevice => "device at the gateway's address",
        HostFact::AccessNetwork => "access network",
    }
}

pub(super) fn changed(change: &HostChange) -> Words {
    let HostChange { site, fact, subject, before, after } = change;
    let what = fact_words(*fact);
    let headline = match (fact, subject, after) {
        (HostFact::Interface, Some(name), Some(_)) => format!("{site}: new interface {name}"),
        (HostFact::Interface, Some(name), None) => format!("{site}: interface {name} removed"),
        (HostFact::Route, Some(targets), Some(after)) => {
            format!("{site}: packets to {targets} now leave by {after}")
        }
        (_, Some(name), Some(after)) => format!("{site}: {name} {what} is now {after}"),
        (_, None, Some(after)) => format!("{site}: {what} is now {after}"),
        (_, Some(name), None) => format!("{site}: {name} has no {what} now"),
        (_, None, None) => format!("{site}: no {what} now"),
    };
    let before = before.as_deref().map(|before| format!("Before: {before}."));
    let after = after.as_deref().map(|after| format!("Now: {after}."));
    let detail = [before, after].into_iter().flatten().collect::<Vec<_>>().join(" ");
    Words::new(headline, None, vec![detail])
}

fn deviation(deviation: &RouteDeviation) -> String {
    match deviation {
        RouteDeviation::Owners { taken, intended } => {
            let intended: Vec<String> =
                intended.iter().map(|number| format!("AS {number}")).collect();
            format!("It passes {}; intended is {}.", listed(taken), listed(&intended))
        }
        RouteDeviation::TunnelMissing => "It passes no tunnel; a tunnel is intended.".to_owned(),
        RouteDeviation::TunnelTaken => "It passes a tunnel; none is intended.".to_owned(),
        RouteDeviation::DscpRewritten { sent, arrived } => {
            format!("Packets sent with DSCP {sent} arrive with DSCP {arrived}.")
        }
    }
}

pub(super) fn route_not_intended(route: &RouteDeviations) -> Words {
    let RouteDeviations { site, target, packets, deviations } = route;
    let mut detail = vec![format!("Route of {packets} from {site} to {target}.")];
    detail.extend(deviations.iter().map(deviation));
    Words::new(
        format!("{target}: route from {site} is not the intended one"),
        Some("Compare the routing of the site and its providers with what is intended.".to_owned()),
        detail,
    )
}
