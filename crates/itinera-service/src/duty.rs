//! The duties of the service and their state: a duty that is not done is named.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// One duty.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Duty {
    /// Answering users.
    UserListener,
    /// Answering agents.
    AgentListener,
    /// Judging commits, or standing by while another process does.
    Judging,
    /// Making room for the rounds of coming days.
    Partitions,
    /// Following the change feed for live views.
    ChangeFeed,
    /// Summing up measurements.
    Rollups,
    /// Summing up evidence by the minute.
    Evidence,
    /// Replacing the rounds of days that are over by blocks.
    Compaction,
    /// Looking at the room on the disk.
    Disk,
    /// Deleting measurements that are older than is kept.
    Retention,
    /// Forgetting what the change feed no longer needs.
    ChangeFeedRetention,
    /// Following the version of the schedule.
    ScheduleVersion,
    /// Summing up watches that are over.
    Watches,
    /// Choosing partners for two-way measurement.
    TwoWayChoice,
    /// Ordering throughput by rule.
    ThroughputRules,
    /// Closing settled incidents.
    IncidentClosing,
    /// Composing notices.
    Notices,
    /// Sending notices.
    Deliveries,
    /// Fetching calendars of planned work.
    Calendars,
    /// Shelving what planned work explains.
    Shelving,
    /// Looking at how the service stands.
    SelfAlarms,
}

impl Duty {
    /// Its name in `/readyz`, log and metrics.
    pub(crate) const fn word(self) -> &'static str {
        match self {
            Self::UserListener => "user-listener",
            Self::AgentListener => "agent-listener",
            Self::Judging => "judging",
            Self::Partitions => "partitions",
            Self::ChangeFeed => "change-feed",
            Self::Rollups => "rollups",
            Self::Evidence => "evidence",
            Self::Compaction => "compaction",
            Self::Disk => "disk",
            Self::Retention => "retention",
            Self::ChangeFeedRetention => "change-feed-retention",
            Self::ScheduleVersion => "schedule-version",
            Self::Watches => "watches",
            Self::TwoWayChoice => "two-way-choice",
            Self::ThroughputRules => "throughput-rules",
            Self::IncidentClosing => "incident-closing",
            Self::Notices => "notices",
            Self::Deliveries => "deliveries",
            Self::Calendars => "calendars",
            Self::Shelving => "planned-work",
            Self::SelfAlarms => "self-alarms",
        }
    }

    /// How long it may take from one report to the next; absent for those that report nothing while
    /// they wait for callers.
    const fn longest(self) -> Option<Duration> {
        match self {
            Self::UserListener | Self::AgentListener => None,
            Self::Judging => Some(Duration::from_secs(180)),
            Self::Retention => Some(Duration::from_secs(7_500)),
            _ => Some(Duration::from_secs(300)),
        }
    }
}

impl fmt::Display for Duty {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

#[derive(Debug)]
struct DutyState {
    /// When it was done last, or begun.
    done_at: Instant,
    /// Not done since: the error is in the log.
    fails: bool,
    restarts: u64,
    /// Whether this process does it for all; absent for what each process does for itself.
    leads: Option<bool>,
}

/// How every duty stands.
#[derive(Debug, Default)]
pub(crate) struct Duties(Mutex<BTreeMap<Duty, DutyState>>);

impl Duties {
    fn change(&self, duty: Duty, change: impl FnOnce(&mut DutyState)) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let new = || DutyState { done_at: Instant::now(), fails: false, restarts: 0, leads: None };
        change(all.entry(duty).or_insert_with(new));
    }

    /// It is done for now.
    pub(crate) fn done(&self, duty: Duty) {
        self.change(duty, |standing| {
            standing.done_at = Instant::now();
            standing.fails = false;
        });
    }

    /// This process does it for all.
    pub(crate) fn leads(&self, duty: Duty) {
        self.change(duty, |standing| standing.leads = Some(true));
    }

    /// Another process does it for all.
    pub(crate) fn stands_by(&self, duty: Duty) {
        self.done(duty);
        self.change(duty, |standing| standing.leads = Some(false));
    }

    /// Duties that one process does for all, and whether it is this one.
    pub(crate) fn leading(&self) -> Vec<(Duty, bool)> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().filter_map(|(duty, standing)| Some((*duty, standing.leads?))).collect()
    }

    /// It could not be done.
    pub(crate) fn failed(&self, duty: Duty, error: &dyn std::error::Error) {
        let mut causes = String::new();
        let mut cause = error.source();
        while let Some(inner) = cause {
            causes.push_str(&format!(": {inner}"));
            cause = inner.source();
        }
        let mut failed_before = false;
        self.change(duty, |standing| {
            failed_before = std::mem::replace(&mut standing.fails, true);
        });
        // A database that is away for an hour fills no log.
        if failed_before {
            tracing::debug!(%duty, causes, "{error}");
        } else {
            tracing::error!(%duty, causes, "{error}");
        }
    }

    /// Its task had to be started again.
    pub(crate) fn restarted(&self, duty: Duty) {
        self.change(duty, |standing| {
            standing.fails = true;
            standing.restarts += 1;
        });
    }

    /// Duties that are not done at `now`: failed since they were done last, or stalled.
    pub(crate) fn not_done(&self, now: Instant) -> Vec<Duty> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let stalls = |duty: &Duty, standing: &DutyState| {
            let since = now.saturating_duration_since(standing.done_at);
            duty.longest().is_some_and(|longest| since > longest)
        };
        let not_done =
            all.iter().filter(|(duty, standing)| standing.fails || stalls(duty, standing));
        not_done.map(|(duty, _)| *duty).collect()
    }

    /// How often each was started again.
    pub(crate) fn restarts(&self) -> Vec<(Duty, u64)> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().map(|(duty, standing)| (*duty, standing.restarts)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_duty_is_named_while_it_fails_and_when_it_stalls() {
        let duties = Duties::default();
        let now = Instant::now();
        duties.done(Duty::Judging);
        duties.done(Duty::AgentListener);
        assert_eq!(duties.not_done(now), []);
        duties.failed(Duty::Judging, &std::io::Error::other("the database is away"));
        assert_eq!(duties.not_done(now), [Duty::Judging]);
        duties.done(Duty::Judging);
        assert_eq!(duties.not_done(now), []);
        let later = now + Duration::from_secs(1_000);
        assert_eq!(duties.not_done(later), [Duty::Judging], "stalled; a listener only waits");
        duties.restarted(Duty::AgentListener);
        assert_eq!(duties.not_done(now), [Duty::AgentListener]);
        assert_eq!(duties.restarts(), [(Duty::AgentListener, 1), (Duty::Judging, 0)]);
        duties.stands_by(Duty::Judging);
        assert_eq!(duties.leading(), [(Duty::Judging, false)]);
        duties.leads(Duty::Judging);
        assert_eq!(duties.leading(), [(Duty::Judging, true)]);
    }
}
