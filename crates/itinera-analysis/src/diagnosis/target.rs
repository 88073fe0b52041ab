//! The far steps: the target by echo and by connection, TLS, the application.

use super::{Evidence, step};
use itinera_model::check::{Ask, CheckResult, Outcome, Step as AskResult, TlsSeen, Why};
use itinera_model::diagnosis::{Step, StepKind, StepResult};
use itinera_model::diagnosis_message::{ApplicationSeen, CertificateSeen, EchoCounts, StepMessage};
use itinera_model::unit::WallTime;
use time::OffsetDateTime;

/// A first byte that comes later than this, and later than ten openings of a connection, is slow.
const SLOW_US: u32 = 2_000_000;
/// Content that comes slower than this in bytes a second is slow.
const SLOW_RATE: u64 = 64 * 1_024;
/// A certificate that expires sooner is noted.
const SOON_US: i64 = 14 * 86_400 * 1_000_000;

pub(super) fn steps(seen: &Evidence<'_>) -> Vec<Step> {
    let mut steps: Vec<Step> = echo(seen).into_iter().collect();
    for one in &seen.observed.asked {
        let result = &one.result;
        if !steps.iter().any(|step| step.kind == StepKind::TargetConnect) {
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
        if wants_tls && !steps.iter().any(|step| step.kind == StepKind::Tls) {
            steps.push(tls(result, seen.observed.began));
        }
        if matches!(one.ask, Ask::Web(_) | Ask::Mail { .. } | Ask::Greeting { .. }) {
            steps.extend(application(&one.ask, result));
        }
    }
    steps
}

fn echo(seen: &Evidence<'_>) -> Option<Step> {
    let assessment = seen.assessment.as_ref()?;
    let (sent, lost) = (assessment.end_sent, assessment.end_lost);
    let end = assessment.hops.last().filter(|hop| hop.lost < hop.sent);
    let median_us = end.and_then(|hop| hop.delay_us).map(|median| median.as_micros());
    let connected = seen.connected();
    let found = match lost {
        0 => StepResult::Clean,
        lost if lost == sent && !connected => StepResult::Unknown,
        _ => StepResult::Noted,
    };
    let message = StepMessage::TargetEcho {
        echoes: EchoCounts { sent, answered: sent - lost, median_us },
        connected,
        carried: assessment.finding.is_some(),
    };
    Some(step(StepKind::TargetEcho, found, message))
}

fn connect(ask: &Ask, result: &CheckResult, seen: &Evidence<'_>) -> Step {
    let (kind, port) = (StepKind::TargetConnect, ask.port());
    if let Some(took) = result.took(AskResult::Connect) {
        let message = StepMessage::PortOpen { port, took_us: took.as_micros() };
        return step(kind, StepResult::Clean, message);
    }
    let answers_echo = seen.assessment.as_ref().is_some_and(|it| it.end_lost < it.end_sent);
    let (found, why) = match result.outcome {
        Outcome::Good => (StepResult::Unknown, None),
        Outcome::Broke { why: Why::NoAddress, .. } => (StepResult::Unknown, Some(Why::NoAddress)),
        Outcome::Broke { why, .. } => (StepResult::Broken, Some(why)),
    };
    step(kind, found, StepMessage::PortClosed { port, why, answers_echo })
}

fn tls(result: &CheckResult, now: WallTime) -> Step {
    let kind = StepKind::Tls;
    let certificate = result.seen.tls.as_ref().map(certificate);
    match result.outcome {
        Outcome::Broke { at: AskResult::Tls, why } => {
            step(kind, StepResult::Broken, StepMessage::TlsFails { why, certificate })
        }
        _ => {
            let own = result.seen.tls.as_ref().and_then(|tls| tls.chain.first());
            let expires_soon = own.is_some_and(|own| own.not_after.micros_since(now) < SOON_US);
            let found = if expires_soon { StepResult::Noted } else { StepResult::Clean };
            step(kind, found, StepMessage::TlsWorks { certificate, expires_soon })
        }
    }
}

/// Version, name and expiry of a certificate.
fn certificate(tls: &TlsSeen) -> CertificateSeen {
    let own = tls.chain.first();
    CertificateSeen {
        version: tls.version.clone(),
        name: own.map(|own| own.names.first().unwrap_or(&own.subject).clone()),
        expires: own.map(|own| day(own.not_after)),
    }
}

/// The day of an instant, in UTC.
fn day(at: WallTime) -> String {
    let date = at.date_time().map(OffsetDateTime::date);
    date.map_or_else(|| "a day beyond the calendar".to_owned(), |date| date.to_string())
}

fn application(ask: &Ask, result: &CheckResult) -> Option<Step> {
    let kind = StepKind::Application;
    if let Outcome::Broke { at: AskResult::Tls, .. } = result.outcome
        && result.took(AskResult::FirstByte).is_none()
    {
        return None;
    }
    let web = result.seen.web.as_ref();
    let status = web.and_then(|web| web.status);
    if let Outcome::Broke { at: failed, why } = result.outcome
        && failed != AskResult::Tls
    {
        let said = result.seen.said.as_ref().filter(|_| why == Why::Status);
        let said = said.and_then(|said| said.lines().last()).map(str::to_owned);
        let message = StepMessage::ApplicationFails { step: failed, why, status, said };
        return Some(step(kind, StepResult::Broken, message));
    }
    let took = |step| result.took(step).map(|took| took.as_micros());
    let seen = ApplicationSeen {
        check: ask.kind(),
        status,
        greeting_us: took(AskResult::Greeting),
        first_byte_us: took(AskResult::FirstByte),
        transfer_us: took(AskResult::Transfer),
        bytes_per_s: web.and_then(|web| web.rate_bytes_per_s),
    };
    let opening = took(AskResult::Connect).unwrap_or(0);
    let late =
        seen.first_byte_us.is_some_and(|took| took > SLOW_US && took > opening.saturating_mul(10));
    let slow = seen.bytes_per_s.is_some_and(|rate| rate < SLOW_RATE);
    Some(match (late, slow) {
        (true, _) => step(kind, StepResult::Broken, StepMessage::ApplicationLate(seen)),
        (_, true) => step(kind, StepResult::Broken, StepMessage::ApplicationSlow(seen)),
        (false, false) => step(kind, StepResult::Clean, StepMessage::ApplicationWorks(seen)),
    })
}
