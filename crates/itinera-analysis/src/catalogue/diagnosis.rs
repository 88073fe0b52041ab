//! Words of diagnoses: of each step, and of the conclusion.

use super::text::{byte_rate, capitalised, count, delay, listed, per_cent};
use super::{Context, MAX_HEADLINE, Words, render, text};
use itinera_model::alarm::AlarmState;
use itinera_model::check::{AskKind, Why};
use itinera_model::diagnosis::{Conclusion, Step, StepKind, StepResult};
use itinera_model::diagnosis_message::{
    Advice, ApplicationSeen, CertificateSeen, EchoCounts, HopSpan, LinkSeen, NameAnswer,
    ResolverSeen, StepMessage,
};
use itinera_model::owner::OwnerMap;
use itinera_model::path::Family;
use itinera_model::unit::Ratio;

const fn version(family: Family) -> &'static str {
    match family {
        Family::Ipv4 => "IPv4",
        Family::Ipv6 => "IPv6",
    }
}

fn link(seen: &LinkSeen) -> String {
    let speed = seen.speed_mbit_s.map_or_else(String::new, |mbit| format!(", {mbit} Mb/s"));
    let duplex = match seen.half_duplex {
        Some(true) => ", half duplex",
        Some(false) => ", full duplex",
        None => "",
    };
    format!("{} is up{speed}{duplex}", seen.interface)
}

fn echoes(counts: &EchoCounts) -> String {
    let median = counts.median_us.map_or_else(String::new, |us| format!(", median {}", delay(us)));
    format!("{} of {} probes answered{median}", counts.answered, counts.sent)
}

fn resolver(seen: &ResolverSeen) -> String {
    match seen.took_us {
        Some(us) => format!("{} answers in {}", seen.resolver, delay(us)),
        None => format!("{} does not answer", seen.resolver),
    }
}

fn resolvers(all: &[ResolverSeen]) -> String {
    let words: Vec<String> = all.iter().map(resolver).collect();
    let first_fails = all.first().is_some_and(|first| first.took_us.is_none());
    let one_answers = all.iter().any(|one| one.took_us.is_some());
    let wait = if first_fails && one_answers {
        " Programs wait for the first one at every name."
    } else {
        ""
    };
    format!("{}.{wait}", listed(&words))
}

fn name_answer(answer: &NameAnswer) -> String {
    if let Some(why) = answer.why {
        return format!("{}: {why}", answer.resolver);
    }
    let ttl = answer.ttl_s.map_or_else(String::new, |ttl| format!(", valid for {ttl} s"));
    let source = if answer.authoritative { ", authoritative" } else { "" };
    format!("{} returns {}{ttl}{source}", answer.resolver, listed(&answer.addresses))
}

fn span(hops: &HopSpan) -> String {
    let site = hops.site.then(|| "the site".to_owned());
    let owners: Vec<String> = site.into_iter().chain(hops.owners.iter().cloned()).collect();
    let owners =
        if owners.is_empty() { String::new() } else { format!(" ({})", owners.join(", ")) };
    if hops.first == hops.last {
        format!("Hop {}{owners}", hops.first)
    } else {
        format!("Hops {} to {}{owners}", hops.first, hops.last)
    }
}

fn certificate(seen: &CertificateSeen) -> String {
    let name =
        seen.name.as_ref().map_or_else(String::new, |name| format!(", certificate for {name}"));
    let expires =
        seen.expires.as_ref().map_or_else(String::new, |day| format!(", expires on {day}"));
    format!("{}{name}{expires}", seen.version)
}

fn port(port: Option<u16>) -> String {
    port.map_or_else(|| "The target".to_owned(), |port| format!("Port {port}"))
}

fn application(seen: &ApplicationSeen) -> String {
    let mut parts = vec![match (seen.check, seen.status) {
        (AskKind::Mail, _) => "the mail server answers and full-sized packets pass".to_owned(),
        (_, Some(status)) => format!("status {status}"),
        (_, None) => "the server answers as expected".to_owned(),
    }];
    let took = |what: &str, us: Option<u32>| us.map(|us| format!("{what} in {}", delay(us)));
    parts.extend(took("greeting", seen.greeting_us));
    parts.extend(took("first byte", seen.first_byte_us));
    parts.extend(took("transfer", seen.transfer_us));
    parts.extend(seen.bytes_per_s.map(byte_rate));
    capitalised(&parts.join(", "))
}

/// What a step says.
pub fn step(message: &StepMessage, map: &OwnerMap) -> String {
    near(message).or_else(|| on_route(message, map)).unwrap_or_else(|| at_target(message))
}

/// Steps at the host: loopback, link, address.
fn near(message: &StepMessage) -> Option<String> {
    Some(match message {
        StepMessage::LoopbackAnswers => "The loopback address answers.".to_owned(),
        StepMessage::LoopbackSilent => "The loopback address does not answer.".to_owned(),
        StepMessage::LoopbackNotTried => "Not tried: the host is simulated.".to_owned(),
        StepMessage::HostFactsUnreadable => "The host facts could not be read.".to_owned(),
        StepMessage::NoInterface => "The host has no interface but its loopback.".to_owned(),
        StepMessage::InterfaceDown { interface } => format!("{interface} is switched off."),
        StepMessage::NoCarrier { interface } => {
            format!("{interface} has no carrier: check cable, radio and switch port.")
        }
        StepMessage::LinkErrors(seen) => {
            let all = seen.packets + seen.errors;
            let ppm = seen.errors.saturating_mul(1_000_000) / all.max(1);
            let share = Ratio::from_ppm(u32::try_from(ppm).unwrap_or(u32::MAX));
            format!(
                "{}; {} of {all} frames ({}) had errors: check cable, optic and switch port.",
                link(seen),
                seen.errors,
                per_cent(share)
            )
        }
        StepMessage::LinkHalfDuplex(seen) => {
            format!("{}: one end may be configured by hand; expect loss under load.", link(seen))
        }
        StepMessage::LinkWireless(seen) => format!(
            "{}, wireless: measurements include its loss and delay. Try a cable.",
            link(seen)
        ),
        StepMessage::LinkTunnel(seen) => format!("{}: packets pass this tunnel first.", link(seen)),
        StepMessage::LinkSlow(seen) => {
            format!("{}: slower than most ports. Check whether this is intended.", link(seen))
        }
        StepMessage::LinkFewErrors(seen) => format!(
            "{}; {} frames with errors and {} packets discarded of {}.",
            link(seen),
            seen.errors,
            seen.discards,
            seen.packets + seen.errors
        ),
        StepMessage::LinkClean(seen) => {
            format!("{}; no errors in {}.", link(seen), count(seen.packets, "packet"))
        }
        StepMessage::SelfAssignedAddress { interface, address, family } => format!(
            "{interface} has only {address}, which it assigned itself: no {} address came from \
             DHCP or router advertisements.",
            version(*family)
        ),
        StepMessage::NoAddress { interface, family } => {
            format!("{interface} has no {} address.", version(*family))
        }
        StepMessage::NoRoute { family } => {
            format!("The host has no {} route to the target.", version(*family))
        }
        StepMessage::AddressAndRoute { address, gateway: Some(gateway) } => {
            format!("{address}; the route to the target uses gateway {gateway}.")
        }
        StepMessage::AddressAndRoute { address, gateway: None } => {
            format!("{address}; the target is on the same link.")
        }
        _ => return None,
    })
}

/// Steps at gateway, resolvers and hops.
fn on_route(message: &StepMessage, map: &OwnerMap) -> Option<String> {
    Some(match message {
        StepMessage::GatewayNotNeeded => "No gateway is needed.".to_owned(),
        StepMessage::GatewayNotProbed => "The gateway could not be probed.".to_owned(),
        StepMessage::GatewayAnswers { gateway, echoes: counts, target_loses } => {
            let more = match (counts.answered == counts.sent, target_loses) {
                (true, _) => "",
                (false, true) => " Packets to the target are lost as well.",
                (false, false) => " Packets through it are not lost at that rate.",
            };
            format!("{gateway}: {}.{more}", echoes(counts))
        }
        StepMessage::GatewayForwardsOnly { gateway } => {
            format!("{gateway} answers no probes but forwards packets: hops behind it answer.")
        }
        StepMessage::GatewaySilent { gateway, sent, on_link: true } => format!(
            "{gateway} is on the link but answers none of {}, and nothing behind it answers.",
            count(*sent, "probe")
        ),
        StepMessage::GatewaySilent { gateway, on_link: false, .. } => {
            format!("{gateway} is not on the link: its hardware address cannot be resolved.")
        }
        StepMessage::NoResolver => "The host has no resolver configured.".to_owned(),
        StepMessage::Resolvers { resolvers: all } => resolvers(all),
        StepMessage::NameAnswers { name, answers, .. } if answers.is_empty() => {
            format!("{name}: no resolver could be asked.")
        }
        StepMessage::NameAnswers { name, answers, host_file } => {
            let answers: Vec<String> = answers.iter().map(name_answer).collect();
            let file = host_file.map_or_else(String::new, |address| {
                format!(" The host's own files have {address}.")
            });
            format!("{name}: {}.{file}", answers.join("; "))
        }
        StepMessage::HopsNotProbed { reason: Some(reason) } => {
            format!("Hops could not be probed: {reason}.")
        }
        StepMessage::HopsNotProbed { reason: None } => {
            "Hops cannot be probed without an address.".to_owned()
        }
        StepMessage::FaultBegins { hops, fault, by_schedule } => {
            let words = render(fault, &Context { map, state: AlarmState::Open, sites: &[] });
            let source = if *by_schedule {
                " Measured by the schedule, which sends more probes than a diagnosis."
            } else {
                ""
            };
            format!("{}: {}. {}{source}", span(hops), words.headline, words.detail.join(" "))
        }
        StepMessage::RouteEnds { hops, last: None, .. } => {
            format!("{}: no hop answers. Check the first link and its filters.", span(hops))
        }
        StepMessage::RouteEnds { hops, last: Some(last), tried: true } => format!(
            "{}: nothing behind hop {last} answers, and the target accepts no connection. The \
             route ends there, or packets are filtered there.",
            span(hops)
        ),
        StepMessage::RouteEnds { hops, last: Some(last), tried: false } => format!(
            "{}: nothing behind hop {last} answers. The target may ignore echo, and no other \
             protocol was tried.",
            span(hops)
        ),
        StepMessage::HopsSilent(hops) => format!("{}: no answer.", span(hops)),
        StepMessage::HopsCarryFault(hops) => format!("{}: the fault begins before.", span(hops)),
        StepMessage::HopsClean(hops) => {
            format!("{}: no loss or added delay begins here.", span(hops))
        }
        _ => return None,
    })
}

fn port_closed(at: Option<u16>, why: Option<Why>, answers_echo: bool) -> String {
    let port = port(at);
    match why {
        None => format!("{port} was not tried."),
        Some(Why::Refused) => {
            format!("{port} refuses: the host is up, and no service listens or a firewall refuses.")
        }
        Some(Why::NoAnswer) if answers_echo => format!(
            "{port} does not answer although the host answers echo: a filter, or a service that \
             hangs."
        ),
        Some(Why::NoAddress) => format!("{port}: no address to connect to."),
        Some(why) => format!("{port}: {why}."),
    }
}

/// Steps at the target, and its return route.
fn at_target(message: &StepMessage) -> String {
    match message {
        StepMessage::TargetEcho { echoes: counts, connected, carried } => {
            let more = match (counts.answered, connected, carried) {
                (answered, ..) if answered == counts.sent => "",
                (0, true, _) => " The target accepts connections, so it may ignore echo.",
                (0, false, _) => "",
                (_, _, true) => " The loss begins before the target.",
                (_, _, false) => " Too few are lost to say where.",
            };
            format!("{}.{more}", echoes(counts))
        }
        StepMessage::PortOpen { port: at, took_us } => {
            format!("{} accepts connections, in {}.", port(*at), delay(*took_us))
        }
        StepMessage::PortClosed { port, why, answers_echo } => {
            port_closed(*port, *why, *answers_echo)
        }
        StepMessage::TlsFails { why, certificate: shown } => {
            let shown = shown
                .as_ref()
                .map_or_else(String::new, |shown| format!(" ({})", certificate(shown)));
            format!("{}{shown}.", capitalised(&why.to_string()))
        }
        StepMessage::TlsWorks { certificate: shown, expires_soon } => {
            let shown = shown.as_ref().map_or_else(|| "TLS works".to_owned(), certificate);
            let soon = if *expires_soon { " Renew the certificate soon." } else { "" };
            format!("{shown}.{soon}")
        }
        StepMessage::ApplicationFails { step, why, status, said } => {
            let status = status.map_or_else(String::new, |status| format!(", status {status}"));
            let said = said.as_ref().map_or_else(String::new, |said| format!(": {said:?}"));
            format!("Fails at step {step}: {why}{status}{said}.")
        }
        StepMessage::ApplicationLate(seen) => {
            format!("{}. The connection opens fast; the server answers late.", application(seen))
        }
        StepMessage::ApplicationSlow(seen) => {
            format!("{}. The first byte is prompt; the transfer is slow.", application(seen))
        }
        StepMessage::ApplicationWorks(seen) => format!("{}.", application(seen)),
        StepMessage::ReturnToOneSource { with, without, echoes } => format!(
            "Answers return to {with} ({} of {}) and not to {without} (0 of {}), both of this \
             host. Either there is no return route to that prefix, or packets from it are \
             dropped.",
            echoes.answered, echoes.sent, echoes.sent
        ),
        StepMessage::ReturnNotMeasured => {
            "The agent at the other end sent no packets in time.".to_owned()
        }
        StepMessage::ReturnCounted { sent, lost } => format!(
            "{lost} of {} from the agent at the other end were lost.",
            count(*sent, "packet")
        ),
        _ => String::new(),
    }
}

const fn advised(advice: Advice) -> &'static str {
    match advice {
        Advice::CheckLink => "Check this host's cable, optic or radio and the switch port first.",
        Advice::CorrectHost => "Correct this host's own configuration first.",
        Advice::CheckSite => {
            "Check the site's gateway and inner network. No provider can help yet."
        }
        Advice::ReplaceResolver => {
            "Have that resolver repaired, or remove it from this host's configuration."
        }
        Advice::ReportName => "Report it to the operator of the resolver or of the name.",
        Advice::AskForMtu => "Ask the carrier where packets over its MTU are dropped.",
        Advice::CallProvider => "Call the access provider and read out these lines.",
        Advice::ReportService => "Report it to the operator of the service.",
        Advice::ReportProblem => {
            "Find out when it last happened and report a problem: measurements of that time are \
             attached."
        }
    }
}

fn kinds(all: &[StepKind]) -> String {
    let names: Vec<String> = all.iter().map(ToString::to_string).collect();
    names.join(", ")
}

/// Headline, advice and detail of a diagnosis.
pub fn conclusion(conclusion: &Conclusion, steps: &[Step], map: &OwnerMap) -> Words {
    let Conclusion { target, broken, also_broken, excluded, route, advice } = conclusion;
    let headline = match broken {
        Some(broken) => format!("Fault at {broken} (target {target})"),
        None => format!("No fault found (target {target})"),
    };
    let first = steps.iter().find(|one| one.found == StepResult::Broken);
    let mut detail: Vec<String> =
        first.map(|first| step(&first.message, map)).into_iter().collect();
    if !also_broken.is_empty() {
        detail.push(format!("Also broken: {}.", kinds(also_broken)));
    }
    detail.push(if excluded.is_empty() {
        "Nothing could be excluded.".to_owned()
    } else {
        format!("Excluded: {}.", kinds(excluded))
    });
    let network = match (advice, route) {
        (Advice::ReplaceResolver | Advice::ReportName, StepResult::Clean) => {
            " The network path is not at fault."
        }
        (Advice::ReportService, StepResult::Clean) => " The network path works.",
        (
            Advice::ReplaceResolver | Advice::ReportName | Advice::ReportService,
            StepResult::Broken,
        ) => " Call the access provider too: the network path is broken.",
        _ => "",
    };
    let contact = format!("{}{network}", advised(*advice));
    Words::new(text::clipped(&headline, MAX_HEADLINE), Some(contact), detail)
}
