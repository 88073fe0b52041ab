//! Messages about findings, alarms and the state of a path.

use crate::stat;
use itinera_model::alarm::Alarm;
use itinera_model::finding::{Assessment, Cause, Finding, HopVerdict, LossCounts};
use itinera_model::message::{HopList, LocatedFault, LossEstimate, Message, PathCounts};
use itinera_model::unit::{Micros, Ratio};

/// A loss ratio with the 95 % interval of its counts.
pub fn loss_estimate(ppm: u32, counts: LossCounts) -> LossEstimate {
    let interval = stat::wilson_interval(counts.lost, counts.sent);
    let bound = |share: f64| {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "between 0 and a million"
        )]
        Ratio::from_ppm((share * 1e6).round() as u32)
    };
    LossEstimate {
        ratio: Ratio::from_ppm(ppm),
        low: interval.map(|(low, _)| bound(low)),
        high: interval.map(|(_, high)| bound(high)),
    }
}

fn located(cause: Cause, fault: LocatedFault) -> Message {
    match cause {
        Cause::Loss => Message::LossLocated(fault),
        Cause::Delay => Message::DelayLocated(fault),
        Cause::Break => Message::BreakLocated(fault),
        Cause::Misrouting => Message::MisroutingLocated(fault),
    }
}

fn figures(cause: Cause, loss: LossEstimate, added: Micros) -> (Option<LossEstimate>, Option<u32>) {
    match cause {
        Cause::Loss | Cause::Break => (Some(loss), None),
        Cause::Delay => (None, Some(added.as_micros())),
        Cause::Misrouting => (None, None),
    }
}

/// The message of a finding on one path.
pub fn of_finding(finding: &Finding) -> Message {
    let estimate = loss_estimate(finding.loss_ppm, finding.loss_counts);
    let (loss, added_delay_us) = figures(finding.cause, estimate, finding.added_delay_us);
    let fault = LocatedFault {
        place: finding.place,
        direction: finding.direction,
        loss,
        added_delay_us,
        confidence: Ratio::from_ppm(finding.confidence_ppm),
        paths: 1,
        both_versions: false,
        indistinguishable: finding.indistinguishable.clone(),
        reasons: finding.reasons.clone(),
    };
    located(finding.cause, fault)
}

/// The message of an alarm: its present figures, or, once cleared, its highest ones.
pub fn of_alarm(alarm: &Alarm, cleared: bool, both_versions: bool) -> Message {
    let (estimate, added, paths) = if cleared {
        let worst = loss_estimate(alarm.worst_loss_ppm, LossCounts::default());
        (worst, alarm.worst_added_delay_us, &alarm.paths)
    } else {
        let estimate = loss_estimate(alarm.loss_ppm, alarm.loss_counts);
        (estimate, alarm.added_delay_us, &alarm.showing)
    };
    let (loss, added_delay_us) = figures(alarm.key.cause, estimate, added);
    let fault = LocatedFault {
        place: alarm.key.place,
        direction: alarm.direction,
        loss,
        added_delay_us,
        confidence: Ratio::from_ppm(alarm.confidence_ppm),
        paths: u32::try_from(paths.len()).unwrap_or(u32::MAX),
        both_versions,
        indistinguishable: alarm.indistinguishable.clone(),
        reasons: alarm.reasons.clone(),
    };
    located(alarm.key.cause, fault)
}

/// The messages of a path's newest judgement: the finding first, then what is no fault.
pub fn of_assessment(latest: &Assessment) -> Vec<Message> {
    let to_target = PathCounts {
        sent: latest.end_sent,
        answered: latest.end_sent.saturating_sub(latest.end_lost),
        span_s: latest.span_s,
    };
    let mut messages = vec![match &latest.finding {
        Some(finding) => of_finding(finding),
        None if latest.hops.iter().all(|hop| hop.lost == hop.sent) => {
            let sent = latest.hops.iter().map(|hop| hop.sent).sum();
            Message::NoHopAnswers(PathCounts { sent, answered: 0, span_s: latest.span_s })
        }
        None if latest.end_lost == latest.end_sent => Message::TargetSilent(to_target),
        None => Message::PathClean(to_target),
    }];
    let hops_with = |verdict| -> Vec<u8> {
        let hops = latest.hops.iter().filter(|hop| hop.verdict == verdict);
        hops.map(|hop| hop.hop).collect()
    };
    let limited = hops_with(HopVerdict::RateLimits);
    if !limited.is_empty() {
        messages.push(Message::HopsRateLimited(HopList { hops: limited }));
    }
    let silent = hops_with(HopVerdict::Silent);
    if !silent.is_empty() {
        messages.push(Message::HopsSilent(HopList { hops: silent }));
    }
    messages
}
