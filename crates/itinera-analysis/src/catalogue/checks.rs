//! Words of checks: services and names.

use super::text::{byte_rate, capitalised, delay, listed};
use super::{Context, Words};
use itinera_model::check::{Step, Why};
use itinera_model::message::{
    CheckFailure, CheckSuccess, DifferentAnswers, Elsewhere, LargePacketLoss, LateAnswer,
    NameFailure, PathState, SlowTransfer, StaleAnswer,
};
use itinera_model::owner::{Owner, OwnerMap};
use std::net::IpAddr;

/// A reason in a headline.
fn short(why: Why, status: Option<u16>) -> String {
    let words = match why {
        Why::NoAnswer => "no answer",
        Why::Unreachable => "unreachable",
        Why::Refused => "connection refused",
        Why::Reset => "connection reset",
        Why::Closed => "connection closed early",
        Why::Unfinished => "answer incomplete",
        Why::NoSuchName => "name does not exist",
        Why::NoAddress => "name has no address",
        Why::ResolverFailed => "resolver failure",
        Why::Disagree => "resolvers disagree",
        Why::NotThisProtocol => "server speaks another protocol",
        Why::ExpectsTls => "server expects TLS",
        Why::SpeaksPlain => "server does not speak TLS",
        Why::NoCommonTls => "no TLS version in common",
        Why::CertificateExpired => "certificate expired",
        Why::CertificateEarly => "certificate not valid yet",
        Why::CertificateName => "certificate for another name",
        Why::CertificateUntrusted => "certificate not trusted",
        Why::Status => match status {
            Some(status) => return format!("HTTP status {status}"),
            None => "HTTP error status",
        },
        Why::Words => "expected text missing",
        Why::Redirects => "redirect loop",
        Why::TooMuch => "answer too large",
        Why::LargeLost => "large packets lost",
        Why::NotAllowed => "not allowed at this site",
    };
    words.to_owned()
}

/// "from Eskerry", or "from 3 sites".
fn from_sites(site: &str, context: &Context<'_>) -> String {
    match context.sites.len() {
        0 | 1 => format!("from {site}"),
        sites => format!("from {sites} sites"),
    }
}

fn all_sites(context: &Context<'_>) -> Option<String> {
    (context.sites.len() > 1).then(|| format!("Seen from {}.", listed(context.sites)))
}

fn path(state: &PathState) -> Option<String> {
    match state {
        PathState::Clean { sent, lost } => {
            Some(format!("The path to the server has no fault ({lost} of {sent} probes lost)."))
        }
        PathState::Faulty { sent, lost, explains: true } => Some(format!(
            "The path to the server has a fault ({lost} of {sent} probes lost), which explains this."
        )),
        PathState::Faulty { sent, lost, explains: false } => Some(format!(
            "The path to the server has a fault too ({lost} of {sent} probes lost), which does not \
             explain this."
        )),
        PathState::Unknown => None,
    }
}

fn elsewhere(elsewhere: &Elsewhere) -> Option<String> {
    let Elsewhere { sites, working } = elsewhere;
    let from = match (*sites, *working) {
        (0, _) => return None,
        (1, 0) => "does not succeed from the one other site".to_owned(),
        (1, _) => "succeeds from the one other site".to_owned(),
        (sites, working) if sites == working => format!("succeeds from all {sites} other sites"),
        (sites, 0) => format!("succeeds from none of {sites} other sites"),
        (sites, working) => format!("succeeds from {working} of {sites} other sites"),
    };
    Some(format!("The same check {from}."))
}

fn named(owner: &Owner) -> String {
    if owner.contact.is_empty() {
        format!("{} (AS {})", owner.name, owner.as_number)
    } else {
        format!("{} (AS {}), {}", owner.name, owner.as_number, owner.contact)
    }
}

fn operator(what: &str, address: Option<IpAddr>, map: &OwnerMap) -> String {
    match address.and_then(|address| map.owner_of(address)) {
        Some(owner) => {
            format!("Call the operator of {what}. Its address belongs to {}.", named(owner))
        }
        None => format!("Call the operator of {what}."),
    }
}

/// The operator of a failing service; the owner of the network where the path explains it.
fn service_contact(
    target: &str,
    server: Option<IpAddr>,
    state: &PathState,
    map: &OwnerMap,
) -> String {
    match state {
        PathState::Faulty { explains: true, .. } => {
            "See the alarm of the path: call the owner of the place at fault.".to_owned()
        }
        _ => operator(target, server, map),
    }
}

fn at_step(step: Step, why: Why, status: Option<u16>) -> String {
    let status = status.map_or_else(String::new, |status| format!(" (status {status})"));
    format!("step {step}: {why}{status}")
}

fn asked(failure: &CheckFailure) -> String {
    let server = failure.server.map_or_else(String::new, |server| format!(" at {server}"));
    format!("{} check of {}{server} from {}", failure.check, failure.target, failure.site)
}

fn failure_detail(failure: &CheckFailure) -> Vec<String> {
    let CheckFailure { step, why, status, .. } = failure;
    vec![format!("{} fails at {}.", capitalised(&asked(failure)), at_step(*step, *why, *status))]
}

pub(super) fn succeeded(success: &CheckSuccess) -> Words {
    let CheckSuccess { target, took_us, status, bytes_per_s, name, addresses, .. } = success;
    let status = status.map_or_else(String::new, |status| format!(", status {status}"));
    let rate = bytes_per_s.map_or_else(String::new, |rate| format!(", {}", byte_rate(rate)));
    let mut detail = Vec::new();
    detail.extend(name.as_ref().map(|name| format!("{name} is {}.", listed(addresses))));
    detail.extend(path(&success.path));
    Words::new(format!("{target}: as expected in {}{status}{rate}", delay(*took_us)), None, detail)
}

pub(super) fn failed_once(failure: &CheckFailure) -> Words {
    let mut detail = failure_detail(failure);
    detail.extend(path(&failure.path));
    Words::new(format!("{}: {}", failure.target, short(failure.why, failure.status)), None, detail)
}

pub(super) fn mismatch(failure: &CheckFailure) -> Words {
    let mut detail = failure_detail(failure);
    detail.push(
        "It has never succeeded: check and server do not match. This is no outage.".to_owned(),
    );
    Words::new(
        format!("{}: check does not match the server", failure.target),
        Some("Correct the check in the configuration.".to_owned()),
        detail,
    )
}

pub(super) fn failed(failure: &CheckFailure, context: &Context<'_>) -> Words {
    let CheckFailure { target, site, server, why, status, .. } = failure;
    let address = server.map(|server| server.ip());
    let mut detail = failure_detail(failure);
    let contact = if failure.wrong_address {
        detail.push("A resolver of the site returns a wrong address for this server.".to_owned());
        "See the event about the resolver.".to_owned()
    } else {
        detail.extend(path(&failure.path));
        detail.extend(elsewhere(&failure.elsewhere));
        service_contact(target, address, &failure.path, context.map)
    };
    detail.extend(all_sites(context));
    let from = from_sites(site, context);
    Words::new(format!("{target}: {} {from}", short(*why, *status)), Some(contact), detail)
}

pub(super) fn mtu_black_hole(loss: &LargePacketLoss, context: &Context<'_>) -> Words {
    let LargePacketLoss { target, site, server, .. } = loss;
    let server = server.map_or_else(String::new, |server| format!(" at {server}"));
    let mut detail = vec![
        format!(
            "Full-sized packets from {site} do not reach {target}{server}; small ones do. Large \
             mails and uploads stop."
        ),
        "A router drops packets over its MTU and sends no ICMP (RFC 2923 section 2.1).".to_owned(),
    ];
    detail.extend(path(&loss.path));
    detail.extend(elsewhere(&loss.elsewhere));
    detail.extend(all_sites(context));
    Words::new(
        format!("{target}: large packets lost (path MTU) {}", from_sites(site, context)),
        Some("Call the site's access provider: ask where large packets are dropped.".to_owned()),
        detail,
    )
}

pub(super) fn unresolved(failure: &NameFailure, context: &Context<'_>) -> Words {
    let NameFailure { name, site, resolver, why } = failure;
    let by = resolver.map_or_else(|| "No resolver".to_owned(), |by| format!("Resolver {by}"));
    let verb = if resolver.is_some() { "cannot resolve" } else { "resolves" };
    let mut detail = vec![format!("{by} of {site} {verb} {name}: {why}.")];
    detail.extend(all_sites(context));
    let contact = match resolver {
        Some(by) => operator(&format!("resolver {by}"), Some(*by), context.map),
        None => format!("Call the operator of the resolvers of {site}."),
    };
    let headline = format!("{name}: {} {}", short(*why, None), from_sites(site, context));
    Words::new(headline, Some(contact), detail)
}

pub(super) fn stale(answer: &StaleAnswer, context: &Context<'_>) -> Words {
    let StaleAnswer { name, site, resolver, returned, authority, current } = answer;
    let mut detail = vec![
        format!(
            "Resolver {resolver} of {site} returns {} for {name}; the authoritative server \
             {authority} returns {}.",
            listed(returned),
            listed(current)
        ),
        "Users are sent to an address that the service has left. The network has no fault."
            .to_owned(),
    ];
    detail.extend(all_sites(context));
    let operator = operator(&format!("resolver {resolver}"), Some(*resolver), context.map);
    Words::new(
        format!("Stale DNS answer for {name}"),
        Some(format!("{operator} Ask to flush its cache.")),
        detail,
    )
}

pub(super) fn disagree(answers: &DifferentAnswers) -> Words {
    let DifferentAnswers { name, site, answers } = answers;
    let each: Vec<String> = answers
        .iter()
        .map(|one| match one.why {
            None => format!("{} returns {}", one.resolver, listed(&one.addresses)),
            Some(why) => format!("{}: {why}", one.resolver),
        })
        .collect();
    Words::new(
        format!("Resolvers disagree about {name}"),
        Some(format!("Call the operator of the resolvers of {site}.")),
        vec![format!("None of them is authoritative: {}.", each.join("; "))],
    )
}

pub(super) fn slow(late: &LateAnswer, context: &Context<'_>) -> Words {
    let LateAnswer { target, site, first_byte_us, usual_us, connect_us, .. } = late;
    let usual = usual_us.map_or_else(String::new, |usual| format!("; usual is {}", delay(usual)));
    let connect = connect_us
        .map_or_else(String::new, |took| format!(" The connection opened in {}.", delay(took)));
    let mut detail = vec![format!(
        "The first byte of {target} reached {site} after {}{usual}.{connect}",
        delay(*first_byte_us)
    )];
    detail.extend(path(&late.path));
    detail.extend(elsewhere(&late.elsewhere));
    detail.extend(all_sites(context));
    Words::new(
        format!("{target}: slow answer ({}) {}", delay(*first_byte_us), from_sites(site, context)),
        Some(service_contact(target, None, &late.path, context.map)),
        detail,
    )
}

pub(super) fn transfer_slow(slow: &SlowTransfer, context: &Context<'_>) -> Words {
    let SlowTransfer { target, site, bytes_per_s, usual_bytes_per_s, first_byte_us, .. } = slow;
    let usual = usual_bytes_per_s
        .map_or_else(String::new, |usual| format!("; usual is {}", byte_rate(usual)));
    let first = first_byte_us
        .map_or_else(String::new, |took| format!(" The first byte came after {}.", delay(took)));
    let mut detail = vec![format!(
        "The content of {target} arrives at {site} with {}{usual}.{first}",
        byte_rate(*bytes_per_s)
    )];
    detail.extend(path(&slow.path));
    detail.extend(all_sites(context));
    Words::new(
        format!(
            "{target}: slow transfer ({}) {}",
            byte_rate(*bytes_per_s),
            from_sites(site, context)
        ),
        Some(service_contact(target, None, &slow.path, context.map)),
        detail,
    )
}
