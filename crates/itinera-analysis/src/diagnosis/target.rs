//! The far steps: the target by echo and by connection, TLS, the application.

use super::{Evidence, step};
use itinera_model::check::{Ask, CheckResult, Outcome, Step as AskResult, TlsSeen, Why};
use itinera_model::diagnosis::{Rung, Step, StepResult};
use itinera_model::unit::WallTime;
use time::OffsetDateTime;

/// A first byte that comes later than this, and later than ten openings of a connection, is slow.
const SLOW_US: u32 = 2_000_000;
/// Content that comes slower than this in bytes a second is slow.
const SLOW_RATE: u64 = 64 * 1_024;
/// A certificate that ends sooner is worth a word.
const SOON_US: i64 = 14 * 86_400 * 1_000_000;

pub(super) fn steps(seen: &Evidence<'_>) -> Vec<Step> {
    let mut steps: Vec<Step> = echo(seen).into_iter().collect();
    for one in &seen.observed.asked {
        let result = &one.result;
        if !steps.iter().any(|step| step.rung == Rung::TargetConnect) {
            steps.push(connect(&one.ask, result, seen));
        }
        if result.took(AskResult::Connect).is_none() {
            continue;
        }
        let wants_tls = match &one.ask {
            Ask::Tls { .. } => true,
            Ask::Web(web) => web.tls,
            _ => false,
        };
        if wants_tls && !steps.iter().any(|step| step.rung == Rung::Tls) {
            steps.push(tls(result, seen.observed.began));
        }
        if matches!(one.ask, Ask::Web(_) | Ask::Mail { .. } | Ask::Greeting { .. }) {
            steps.extend(application(&one.ask, result));
        }
    }
    steps
}

fn echo(seen: &Evidence<'_>) -> Option<Step> {
    let rung = Rung::TargetEcho;
    let assessment = seen.assessment.as_ref()?;
    let (sent, lost) = (assessment.end_sent, assessment.end_lost);
    let end = assessment.hops.last().filter(|hop| hop.lost < hop.sent);
    let median = end.and_then(|hop| hop.delay_us);
    let median = median.map_or_else(String::new, |median| format!(", median {median}"));
    let answered = format!("{} of {sent} echoes answered{median}", sent - lost);
    Some(match (lost, assessment.finding.is_some()) {
        (0, _) => step(rung, StepResult::Clean, format!("All {sent} echoes answered{median}.")),
        (lost, _) if lost == sent && seen.connected() => {
            let words = "It answers no echo, which tells nothing: it accepts connections.";
            step(rung, StepResult::Noted, words)
        }
        (lost, _) if lost == sent => {
            step(rung, StepResult::Unknown, format!("None of {sent} echoes answered."))
        }
        (_, true) => step(rung, StepResult::Noted, format!("{answered}: carried from before.")),
        (_, false) => step(
            rung,
            StepResult::Noted,
            format!("{answered}: too few to say where they are lost."),
        ),
    })
}

fn port_words(ask: &Ask) -> String {
    ask.port().map_or_else(String::new, |port| format!("Port {port}"))
}

fn connect(ask: &Ask, result: &CheckResult, seen: &Evidence<'_>) -> Step {
    let (rung, port) = (Rung::TargetConnect, port_words(ask));
    if let Some(took) = result.took(AskResult::Connect) {
        return step(rung, StepResult::Clean, format!("{port} accepts connections, in {took}."));
    }
    let Outcome::Broke { why, .. } = result.outcome else {
        return step(rung, StepResult::Unknown, format!("{port} was not tried."));
    };
    let reached = seen.assessment.as_ref().is_some_and(|it| it.end_lost < it.end_sent);
    let words = match why {
        Why::Refused => format!(
            "{port} refuses: the machine is there, and nobody listens (or a firewall says no)."
        ),
        Why::NoAnswer if reached => format!(
            "{port} says nothing though the machine answers echo: a filter, or a service that hangs."
        ),
        Why::NoAddress => format!("{port}: without an address there is nobody to ask."),
        why => format!("{port}: {why}."),
    };
    let found = if why == Why::NoAddress { StepResult::Unknown } else { StepResult::Broken };
    step(rung, found, words)
}

fn tls(result: &CheckResult, now: WallTime) -> Step {
    let rung = Rung::Tls;
    let shown = result.seen.tls.as_ref().map_or_else(String::new, shown);
    match result.outcome {
        Outcome::Broke { at: AskResult::Tls, why } => {
            let shown = if shown.is_empty() { shown } else { format!(" ({shown})") };
            step(rung, StepResult::Broken, format!("{}{shown}.", capital(&why.to_string())))
        }
        _ => {
            let own = result.seen.tls.as_ref().and_then(|tls| tls.chain.first());
            let soon = own.is_some_and(|own| own.not_after.micros_since(now) < SOON_US);
            let (found, more) = if soon {
                (StepResult::Noted, ", which is soon: have it renewed")
            } else {
                (StepResult::Clean, "")
            };
            step(rung, found, format!("{shown}{more}."))
        }
    }
}

/// Version, name and time of a certificate.
fn shown(tls: &TlsSeen) -> String {
    let Some(own) = tls.chain.first() else { return tls.version.clone() };
    let name = own.names.first().unwrap_or(&own.subject);
    format!("{}, certificate for {name} until {}", tls.version, day(own.not_after))
}

/// The day of an instant, in UTC.
fn day(at: WallTime) -> String {
    let seconds = at.as_unix_micros().div_euclid(1_000_000);
    let date = OffsetDateTime::from_unix_timestamp(seconds).map(OffsetDateTime::date);
    date.map_or_else(|_| "a day beyond the calendar".to_owned(), |date| date.to_string())
}

fn application(ask: &Ask, result: &CheckResult) -> Option<Step> {
    let rung = Rung::Application;
    if let Outcome::Broke { at: AskResult::Tls, .. } = result.outcome
        && result.took(AskResult::FirstByte).is_none()
    {
        return None;
    }
    let status = result.seen.web.as_ref().and_then(|web| web.status);
    let status_words = status.map_or_else(String::new, |status| format!("status {status}"));
    match result.outcome {
        Outcome::Broke { at, why } if at != AskResult::Tls => {
            let status = if status.is_some() { format!(", {status_words}") } else { String::new() };
            let said = result.seen.said.as_ref().filter(|_| why == Why::Status);
            let said = said.map_or_else(String::new, |said| {
                format!(": {:?}", said.lines().last().unwrap_or_default())
            });
            let words = format!("Breaks at {at}: {why}{status}{said}.");
            return Some(step(rung, StepResult::Broken, words));
        }
        _ => {}
    }
    let mut parts = vec![match ask {
        Ask::Web(_) => status_words,
        Ask::Mail { .. } => {
            "the mail server greets and listens, full-sized packets pass".to_owned()
        }
        _ => "the server greets as it should".to_owned(),
    }];
    let first_byte = result.took(AskResult::FirstByte);
    let took = |step| result.took(step).map(|took| format!("{step} in {took}"));
    parts.extend(
        [AskResult::Greeting, AskResult::FirstByte, AskResult::Transfer]
            .into_iter()
            .filter_map(took),
    );
    let rate = result.seen.web.as_ref().and_then(|web| web.rate_bytes_per_s);
    parts.extend(rate.map(|rate| format!("{} kB a second", rate / 1_000)));
    let opening = result.took(AskResult::Connect).map_or(0, |took| took.as_micros());
    let late = first_byte.is_some_and(|took| {
        took.as_micros() > SLOW_US && took.as_micros() > opening.saturating_mul(10)
    });
    let slow = rate.is_some_and(|rate| rate < SLOW_RATE);
    let words = capital(&parts.join(", "));
    Some(match (late, slow) {
        (true, _) => {
            let words = format!("{words}: the connection opens fast and the server thinks long.");
            step(rung, StepResult::Broken, words)
        }
        (_, true) => {
            let words = format!("{words}: the first octet is prompt and the rest comes slowly.");
            step(rung, StepResult::Broken, words)
        }
        (false, false) => step(rung, StepResult::Clean, format!("{words}.")),
    })
}

fn capital(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}
