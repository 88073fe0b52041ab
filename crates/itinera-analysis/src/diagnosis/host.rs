//! The near steps: the machine, its link, its gateway, its resolvers, the name.

use super::{Evidence, step};
use itinera_model::check::{Outcome, Resolved, Step as AskResult, Why};
use itinera_model::diagnosis::{Rung, Step, StepResult};
use itinera_model::host_facts::{Duplex, Interface, Medium, RouteEntry};
use std::net::IpAddr;

/// Damaged frames among all that came, from which on a link is bad enough to complain of.
const DAMAGED_SHARE: f64 = 0.005;
/// Fewer damaged frames are chance.
const DAMAGED_LEAST: u64 = 3;

pub(super) fn steps(seen: &Evidence<'_>) -> Vec<Step> {
    let mut steps = vec![own_stack(seen), own_link(seen), own_address(seen), gateway(seen)];
    steps.push(resolvers(seen));
    steps.extend(name(seen));
    steps
}

fn own_stack(seen: &Evidence<'_>) -> Step {
    match seen.observed.own_stack {
        Some(true) => step(Rung::OwnStack, StepResult::Clean, "The machine speaks with itself."),
        Some(false) => step(
            Rung::OwnStack,
            StepResult::Broken,
            "The machine cannot even speak with itself over its loopback address.",
        ),
        None => step(Rung::OwnStack, StepResult::Unknown, "Not tried: the machine is simulated."),
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

/// Frames damaged, packets thrown away and packets in all while the check ran.
fn counted(seen: &Evidence<'_>, interface: &Interface) -> Option<(u64, u64, u64)> {
    let after = seen.observed.after.as_ref()?.interface(&interface.name)?.counters;
    let before = interface.counters;
    let grown = |now: u64, then: u64| now.saturating_sub(then);
    let damaged =
        grown(after.rx_errors, before.rx_errors) + grown(after.tx_errors, before.tx_errors);
    let thrown =
        grown(after.rx_discards, before.rx_discards) + grown(after.tx_discards, before.tx_discards);
    let packets =
        grown(after.rx_packets, before.rx_packets) + grown(after.tx_packets, before.tx_packets);
    Some((damaged, thrown, packets))
}

fn own_link(seen: &Evidence<'_>) -> Step {
    let rung = Rung::OwnLink;
    if seen.observed.before.is_none() {
        return step(rung, StepResult::Unknown, "What surrounds the machine could not be read.");
    }
    let Some(interface) = interface(seen) else {
        return step(rung, StepResult::Broken, "The machine has no interface but its loopback.");
    };
    let name = &interface.name;
    if !interface.up {
        return step(rung, StepResult::Broken, format!("{name} is switched off on this machine."));
    }
    if !interface.carrier {
        let words = format!("{name} has no carrier: cable, radio or switch port.");
        return step(rung, StepResult::Broken, words);
    }
    let speed = interface.speed_mbit_s.map(|mbit| format!(" at {mbit} Mb/s"));
    let duplex = interface.duplex.map(|duplex| match duplex {
        Duplex::Full => ", full duplex",
        Duplex::Half => ", half duplex",
    });
    let told = format!("{name} is up{}{}", speed.unwrap_or_default(), duplex.unwrap_or_default());
    let (damaged, thrown, packets) = counted(seen, interface).unwrap_or_default();
    #[allow(clippy::cast_precision_loss, reason = "counts of half a minute")]
    let share = damaged as f64 / (packets + damaged).max(1) as f64;
    if damaged >= DAMAGED_LEAST && share >= DAMAGED_SHARE {
        let words = format!(
            "{told}, but {damaged} frames came damaged beside {packets} good packets while this \
             ran: cable, optic or port."
        );
        return step(rung, StepResult::Broken, words);
    }
    if interface.duplex == Some(Duplex::Half) {
        let words = format!("{told}: one end was probably set by hand; expect loss under load.");
        return step(rung, StepResult::Noted, words);
    }
    if interface.medium == Medium::Wireless {
        let words = format!(
            "{told}, by radio: what is measured over it carries its own loss and delay. Try a \
             cable to tell them apart."
        );
        return step(rung, StepResult::Noted, words);
    }
    if interface.medium == Medium::Tunnel {
        let words = format!("{told}: a tunnel, so the way is the tunnel's first.");
        return step(rung, StepResult::Noted, words);
    }
    if interface.speed_mbit_s.is_some_and(|mbit| mbit < 1_000) {
        let words = format!("{told}: slower than ports usually are; was it meant to be?");
        return step(rung, StepResult::Noted, words);
    }
    if damaged + thrown > 0 {
        let words = format!(
            "{told}; {damaged} frames damaged and {thrown} packets thrown away beside {packets} \
             good ones while this ran."
        );
        return step(rung, StepResult::Noted, words);
    }
    let words = format!("{told}, and no frame came damaged beside {packets} packets.");
    step(rung, StepResult::Clean, words)
}

fn own_address(seen: &Evidence<'_>) -> Step {
    let rung = Rung::OwnAddress;
    let Some(interface) = interface(seen) else {
        return step(rung, StepResult::Unknown, "Unknown without an interface.");
    };
    let six = seen.observed.address.is_some_and(|address| address.is_ipv6());
    let version = if six { "IPv6" } else { "IPv4" };
    let mut own = interface.addresses.iter().filter(|net| net.addr().is_ipv6() == six);
    let global = own.clone().find(|net| !is_self_assigned(net.addr()));
    match (global, own.next(), route(seen)) {
        (None, Some(own), _) => {
            let words = format!(
                "{} has given itself {}: nobody gave it an {version} address (DHCP, router \
                 advertisements).",
                interface.name,
                own.addr()
            );
            step(rung, StepResult::Broken, words)
        }
        (None, None, _) => {
            step(rung, StepResult::Broken, format!("{} has no {version} address.", interface.name))
        }
        (Some(_), _, None) => {
            step(rung, StepResult::Broken, format!("No route leads there over {version}."))
        }
        (Some(own), _, Some(RouteEntry { gateway: Some(gateway), .. })) => {
            step(rung, StepResult::Clean, format!("{own}, and the way there is by {gateway}."))
        }
        (Some(own), _, Some(_)) => {
            step(rung, StepResult::Clean, format!("{own}, and the target is on the same link."))
        }
    }
}

/// Addresses that machines give themselves (RFC 3927, RFC 4291 section 2.5.6).
const fn is_self_assigned(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(four) => four.is_link_local(),
        IpAddr::V6(six) => six.is_unicast_link_local(),
    }
}

fn gateway(seen: &Evidence<'_>) -> Step {
    let rung = Rung::Gateway;
    let Some(echoes) = seen.observed.gateway else {
        let none = route(seen).is_some_and(|route| route.gateway.is_none());
        let words = if none { "None is needed." } else { "It could not be asked." };
        return step(rung, StepResult::Unknown, words);
    };
    let (address, sent) = (echoes.address, echoes.sent);
    let median = echoes.median_us.map_or_else(String::new, |median| format!(", median {median}"));
    if echoes.answered == sent && sent > 0 {
        let words = format!("{address} answered all {sent} echoes{median}.");
        return step(rung, StepResult::Clean, words);
    }
    let lost_to_the_end = seen
        .assessment
        .as_ref()
        .is_some_and(|assessment| assessment.end_lost * 10 > assessment.end_sent);
    if echoes.answered == 0 && seen.anything_behind() {
        let words = format!("{address} answers no echo, but what is behind it does: it passes.");
        return step(rung, StepResult::Noted, words);
    }
    if echoes.answered == 0 {
        let met = seen.observed.after.iter().flat_map(|host_facts| &host_facts.neighbours);
        let met = met.clone().any(|one| one.address == address && one.hardware_address.is_some());
        let words = if met {
            format!(
                "{address} is on the link, but answers none of {sent} echoes, and nothing behind it does."
            )
        } else {
            format!("{address} is not there: nobody on the link answers for its address.")
        };
        return step(rung, StepResult::Broken, words);
    }
    let words = format!("{address} answered {} of {sent} echoes{median}.", echoes.answered);
    if lost_to_the_end {
        step(rung, StepResult::Broken, format!("{words} Packets to the target are lost as well."))
    } else {
        step(rung, StepResult::Noted, format!("{words} Packets through it are not lost so."))
    }
}

/// It answered, whatever it said.
const fn lives(answer: &Resolved) -> bool {
    !matches!(answer.why, Some(Why::NoAnswer | Why::Unreachable | Why::Reset | Why::Closed))
}

fn resolvers(seen: &Evidence<'_>) -> Step {
    let rung = Rung::Resolvers;
    let all = &seen.observed.resolvers;
    if seen.observed.before.is_none() && all.is_empty() {
        let words = "Which resolvers the machine has could not be read.";
        return step(rung, StepResult::Unknown, words);
    }
    if all.is_empty() {
        let words = "The machine has no resolver configured.";
        let needed = seen.observed.name.is_some() && seen.observed.address.is_none();
        return step(rung, if needed { StepResult::Broken } else { StepResult::Noted }, words);
    }
    let said = |answer: &Resolved| match answer.why {
        _ if lives(answer) => format!("{} answers in {}", answer.resolver, answer.took_us),
        _ => format!("{} does not answer", answer.resolver),
    };
    let words: Vec<String> = all.iter().map(said).collect();
    let words = words.join(", ");
    let dead = all.iter().filter(|answer| !lives(answer)).count();
    match (dead, all.first().is_some_and(lives)) {
        (0, _) => step(rung, StepResult::Clean, format!("{words}.")),
        (_, true) => step(rung, StepResult::Noted, format!("{words}.")),
        (dead, false) if dead == all.len() => step(rung, StepResult::Broken, format!("{words}.")),
        (_, false) => {
            let words = format!("{words}: programs wait for the first one at every name.");
            step(rung, StepResult::Broken, words)
        }
    }
}

fn name(seen: &Evidence<'_>) -> Option<Step> {
    let rung = Rung::Name;
    let (name, result) = (seen.observed.name.as_ref()?, seen.observed.names.as_ref()?);
    let gives = |answer: &Resolved| {
        let addresses: Vec<String> = answer.addresses.iter().map(ToString::to_string).collect();
        let age = answer.ttl_s.map_or_else(String::new, |ttl| format!(", for {ttl} s more"));
        let source = if answer.authoritative { ", with authority" } else { "" };
        match answer.why {
            Some(why) => format!("{}: {why}", answer.resolver),
            None => format!("{} gives {}{age}{source}", answer.resolver, addresses.join(", ")),
        }
    };
    let answers: Vec<String> = result.seen.resolved.iter().map(gives).collect();
    let words = format!("{name}: {}.", answers.join("; "));
    let first_gives = result.seen.resolved.first().is_some_and(|first| first.why.is_none());
    let found = match result.outcome {
        Outcome::Good => StepResult::Clean,
        Outcome::Broke { at: AskResult::Name, why: Why::Disagree } => StepResult::Broken,
        Outcome::Broke { .. } if first_gives => StepResult::Noted,
        Outcome::Broke { .. } => StepResult::Broken,
    };
    let words = match (found, seen.observed.address) {
        (StepResult::Broken, Some(address))
            if result.seen.resolved.iter().all(|one| one.why.is_some()) =>
        {
            // Files of the machine may know what resolvers do not.
            return Some(step(
                rung,
                StepResult::Noted,
                format!("{words} The machine's own files say {address}."),
            ));
        }
        (StepResult::Broken, _) if result.seen.resolved.is_empty() => {
            let words = format!("{name}: there is nobody to ask.");
            let known = seen.observed.before.is_some();
            return Some(step(
                rung,
                if known { StepResult::Broken } else { StepResult::Unknown },
                words,
            ));
        }
        _ => words,
    };
    Some(step(rung, found, words))
}
