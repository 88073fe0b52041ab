//! The near steps: the machine, its link, its gateway, its resolvers, the name.

use super::{Evidence, step};
use itinera_model::check::{Outcome, Resolved, Step as AskResult, Why};
use itinera_model::diagnosis::{Step, StepKind, StepResult};
use itinera_model::diagnosis_message::{
    EchoCounts, LinkSeen, NameAnswer, ResolverSeen, StepMessage,
};
use itinera_model::host_facts::{Duplex, Interface, Medium, RouteEntry};
use itinera_model::path::Family;
use std::net::IpAddr;

/// Share of frames with errors from which a link is at fault.
const ERRORS_SHARE: f64 = 0.005;
/// Fewer errors are chance.
const ERRORS_LEAST: u64 = 3;

pub(super) fn steps(seen: &Evidence<'_>) -> Vec<Step> {
    let mut steps = vec![own_stack(seen), own_link(seen), own_address(seen), gateway(seen)];
    steps.push(resolvers(seen));
    steps.extend(name(seen));
    steps
}

fn own_stack(seen: &Evidence<'_>) -> Step {
    let kind = StepKind::OwnStack;
    match seen.observed.own_stack {
        Some(true) => step(kind, StepResult::Clean, StepMessage::LoopbackAnswers),
        Some(false) => step(kind, StepResult::Broken, StepMessage::LoopbackSilent),
        None => step(kind, StepResult::Unknown, StepMessage::LoopbackNotTried),
    }
}

/// The route that leads to the target, or to everywhere.
fn route<'a>(seen: &'a Evidence<'_>) -> Option<&'a RouteEntry> {
    let host_facts = seen.observed.before.as_ref()?;
    let anywhere = IpAddr::from([192, 0, 2, 1]);
    host_facts.route_to(seen.observed.address.unwrap_or(anywhere))
}

/// The interface of that route; else the first that is no loopback.
fn interface<'a>(seen: &'a Evidence<'_>) -> Option<&'a Interface> {
    let host_facts = seen.observed.before.as_ref()?;
    let by_route = route(seen).and_then(|route| host_facts.interface(&route.interface));
    let other = || host_facts.interfaces.iter().find(|one| one.medium != Medium::Loopback);
    by_route.or_else(other)
}

/// Frames with errors, packets discarded and packets in all while the diagnosis ran.
fn counted(seen: &Evidence<'_>, interface: &Interface) -> Option<(u64, u64, u64)> {
    let after = seen.observed.after.as_ref()?.interface(&interface.name)?.counters;
    let before = interface.counters;
    let grown = |now: u64, then: u64| now.saturating_sub(then);
    let errors =
        grown(after.rx_errors, before.rx_errors) + grown(after.tx_errors, before.tx_errors);
    let discards =
        grown(after.rx_discards, before.rx_discards) + grown(after.tx_discards, before.tx_discards);
    let packets =
        grown(after.rx_packets, before.rx_packets) + grown(after.tx_packets, before.tx_packets);
    Some((errors, discards, packets))
}

fn own_link(seen: &Evidence<'_>) -> Step {
    let kind = StepKind::OwnLink;
    if seen.observed.before.is_none() {
        return step(kind, StepResult::Unknown, StepMessage::HostFactsUnreadable);
    }
    let Some(interface) = interface(seen) else {
        return step(kind, StepResult::Broken, StepMessage::NoInterface);
    };
    let name = interface.name.clone();
    if !interface.up {
        return step(kind, StepResult::Broken, StepMessage::InterfaceDown { interface: name });
    }
    if !interface.carrier {
        return step(kind, StepResult::Broken, StepMessage::NoCarrier { interface: name });
    }
    let (errors, discards, packets) = counted(seen, interface).unwrap_or_default();
    let link = LinkSeen {
        interface: name,
        speed_mbit_s: interface.speed_mbit_s,
        half_duplex: interface.duplex.map(|duplex| duplex == Duplex::Half),
        errors,
        discards,
        packets,
    };
    #[allow(clippy::cast_precision_loss, reason = "counts of half a minute")]
    let share = errors as f64 / (packets + errors).max(1) as f64;
    let is_slow = interface.speed_mbit_s.is_some_and(|mbit| mbit < 1_000);
    let (found, message) = match interface.medium {
        _ if errors >= ERRORS_LEAST && share >= ERRORS_SHARE => {
            (StepResult::Broken, StepMessage::LinkErrors(link))
        }
        _ if link.half_duplex == Some(true) => {
            (StepResult::Noted, StepMessage::LinkHalfDuplex(link))
        }
        Medium::Wireless => (StepResult::Noted, StepMessage::LinkWireless(link)),
        Medium::Tunnel => (StepResult::Noted, StepMessage::LinkTunnel(link)),
        _ if is_slow => (StepResult::Noted, StepMessage::LinkSlow(link)),
        _ if errors + discards > 0 => (StepResult::Noted, StepMessage::LinkFewErrors(link)),
        _ => (StepResult::Clean, StepMessage::LinkClean(link)),
    };
    step(kind, found, message)
}

fn own_address(seen: &Evidence<'_>) -> Step {
    let kind = StepKind::OwnAddress;
    let Some(interface) = interface(seen) else {
        return step(kind, StepResult::Unknown, StepMessage::NoInterface);
    };
    let six = seen.observed.address.is_some_and(|address| address.is_ipv6());
    let family = if six { Family::Ipv6 } else { Family::Ipv4 };
    let mut own = interface.addresses.iter().filter(|net| net.addr().is_ipv6() == six);
    let global = own.clone().find(|net| !is_self_assigned(net.addr()));
    let name = interface.name.clone();
    let (found, message) = match (global, own.next(), route(seen)) {
        (None, Some(own), _) => {
            let address = own.addr();
            let message = StepMessage::SelfAssignedAddress { interface: name, address, family };
            (StepResult::Broken, message)
        }
        (None, None, _) => (StepResult::Broken, StepMessage::NoAddress { interface: name, family }),
        (Some(_), _, None) => (StepResult::Broken, StepMessage::NoRoute { family }),
        (Some(own), _, Some(route)) => {
            let (address, gateway) = (own.to_string(), route.gateway);
            (StepResult::Clean, StepMessage::AddressAndRoute { address, gateway })
        }
    };
    step(kind, found, message)
}

/// Addresses that machines give themselves (RFC 3927, RFC 4291 section 2.5.6).
const fn is_self_assigned(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(four) => four.is_link_local(),
        IpAddr::V6(six) => six.is_unicast_link_local(),
    }
}

fn gateway(seen: &Evidence<'_>) -> Step {
    let kind = StepKind::Gateway;
    let Some(echoes) = seen.observed.gateway else {
        let none = route(seen).is_some_and(|route| route.gateway.is_none());
        let message =
            if none { StepMessage::GatewayNotNeeded } else { StepMessage::GatewayNotProbed };
        return step(kind, StepResult::Unknown, message);
    };
    let gateway = echoes.address;
    if echoes.answered == 0 && seen.anything_behind() {
        return step(kind, StepResult::Noted, StepMessage::GatewayForwardsOnly { gateway });
    }
    if echoes.answered == 0 {
        let met = seen.observed.after.iter().flat_map(|host_facts| &host_facts.neighbours);
        let on_link =
            met.clone().any(|one| one.address == gateway && one.hardware_address.is_some());
        let message = StepMessage::GatewaySilent { gateway, sent: echoes.sent, on_link };
        return step(kind, StepResult::Broken, message);
    }
    let target_loses = seen
        .assessment
        .as_ref()
        .is_some_and(|assessment| assessment.end_lost * 10 > assessment.end_sent);
    let all = echoes.answered == echoes.sent;
    let counts = EchoCounts {
        sent: echoes.sent,
        answered: echoes.answered,
        median_us: echoes.median_us.map(|median| median.as_micros()),
    };
    let found = match (all, target_loses) {
        (true, _) => StepResult::Clean,
        (false, true) => StepResult::Broken,
        (false, false) => StepResult::Noted,
    };
    let target_loses = target_loses && !all;
    step(kind, found, StepMessage::GatewayAnswers { gateway, echoes: counts, target_loses })
}

/// It answered, whatever it said.
const fn lives(answer: &Resolved) -> bool {
    !matches!(answer.why, Some(Why::NoAnswer | Why::Unreachable | Why::Reset | Why::Closed))
}

fn resolvers(seen: &Evidence<'_>) -> Step {
    let kind = StepKind::Resolvers;
    let all = &seen.observed.resolvers;
    if seen.observed.before.is_none() && all.is_empty() {
        return step(kind, StepResult::Unknown, StepMessage::HostFactsUnreadable);
    }
    if all.is_empty() {
        let needed = seen.observed.name.is_some() && seen.observed.address.is_none();
        let found = if needed { StepResult::Broken } else { StepResult::Noted };
        return step(kind, found, StepMessage::NoResolver);
    }
    let resolvers = all.iter().map(|answer| ResolverSeen {
        resolver: answer.resolver,
        took_us: lives(answer).then(|| answer.took_us.as_micros()),
    });
    let resolvers = resolvers.collect();
    let dead = all.iter().filter(|answer| !lives(answer)).count();
    let found = match (dead, all.first().is_some_and(lives)) {
        (0, _) => StepResult::Clean,
        (_, true) => StepResult::Noted,
        (_, false) => StepResult::Broken,
    };
    step(kind, found, StepMessage::Resolvers { resolvers })
}

fn name(seen: &Evidence<'_>) -> Option<Step> {
    let kind = StepKind::Name;
    let (name, result) = (seen.observed.name.as_ref()?, seen.observed.names.as_ref()?);
    let resolved = &result.seen.resolved;
    let answers = resolved.iter().map(|answer| NameAnswer {
        resolver: answer.resolver,
        addresses: answer.addresses.clone(),
        ttl_s: answer.ttl_s,
        authoritative: answer.authoritative,
        why: answer.why,
    });
    let answers = answers.collect();
    let first_answers = resolved.first().is_some_and(|first| first.why.is_none());
    let found = match result.outcome {
        Outcome::Good => StepResult::Clean,
        Outcome::Broke { at: AskResult::Name, why: Why::Disagree } => StepResult::Broken,
        Outcome::Broke { .. } if first_answers => StepResult::Noted,
        Outcome::Broke { .. } => StepResult::Broken,
    };
    let none_answers = resolved.iter().all(|one| one.why.is_some());
    let (found, host_file) = match (found, seen.observed.address) {
        // Files of the host may know what resolvers do not.
        (StepResult::Broken, Some(address)) if none_answers => (StepResult::Noted, Some(address)),
        (StepResult::Broken, _) if resolved.is_empty() && seen.observed.before.is_none() => {
            (StepResult::Unknown, None)
        }
        (found, _) => (found, None),
    };
    let name = name.clone();
    Some(step(kind, found, StepMessage::NameAnswers { name, answers, host_file }))
}
