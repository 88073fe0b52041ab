//! Rules of alarms and their trials, as the API shows them.

use super::alarm::distinct;
use super::message::MessageView;
use super::path::{offset, ratio};
use crate::trial::Tried;
use itinera_analysis::Limits;
use itinera_analysis::catalogue::Context;
use itinera_analysis::messages;
use itinera_analysis::trial::TriedAlarm;
use itinera_model::alarm::Severity;
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::rule::Rule;
use itinera_store::{PathRecord, RuleVersion};
use serde::Serialize;
use std::collections::BTreeMap;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// Alarms of a trial that are listed, the newest.
const LISTED: usize = 200;

/// Limits where no rule has others.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ConfiguredLimits {
    loss_ratio: f64,
    added_delay_ms: u32,
    confidence: f64,
    hold_windows: u32,
    clear_windows: u32,
}

/// A version of the rules.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RulesView {
    /// Its number, from 1; 0 before the first.
    version: i64,
    /// When it was saved; absent before the first.
    #[serde(with = "time::serde::rfc3339::option")]
    at: Option<OffsetDateTime>,
    /// The user who saved it; absent before the first.
    user: Option<String>,
    /// What that user wrote about it.
    text: String,
    /// The rules, in order.
    rules: Vec<Rule>,
    /// Limits where no rule has others.
    configured: ConfiguredLimits,
}

impl RulesView {
    pub(crate) fn new(of: RuleVersion, limits: Limits) -> Self {
        let RuleVersion { version, at, user, text, rules } = of;
        let configured = ConfiguredLimits {
            loss_ratio: ratio(limits.loss_ppm),
            added_delay_ms: limits.added_delay_us / 1_000,
            confidence: ratio(limits.confidence_ppm),
            hold_windows: limits.hold_windows,
            clear_windows: limits.clear_windows,
        };
        let user = at.map(|_| user);
        Self { version, at, user, text, rules, configured }
    }
}

/// A version of the rules in a list.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RuleVersionItem {
    /// Its number, from 1.
    version: i64,
    /// When it was saved.
    #[serde(with = "time::serde::rfc3339::option")]
    at: Option<OffsetDateTime>,
    /// The user who saved it.
    user: String,
    /// What that user wrote about it.
    text: String,
    /// Names of its rules, in order.
    rules: Vec<String>,
}

impl From<RuleVersion> for RuleVersionItem {
    fn from(of: RuleVersion) -> Self {
        let RuleVersion { version, at, user, text, rules } = of;
        Self { version, at, user, text, rules: rules.into_iter().map(|rule| rule.name).collect() }
    }
}

/// How many alarms rules would have raised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, ToSchema)]
pub(crate) struct TrialCounts {
    alarms: usize,
    critical: usize,
    major: usize,
    minor: usize,
    /// Of all, those raised in quiet hours.
    quiet: usize,
}

impl TrialCounts {
    fn of(alarms: &[TriedAlarm]) -> Self {
        let mut counts = Self { alarms: alarms.len(), ..Self::default() };
        for it in alarms {
            *match it.alarm.severity {
                Severity::Critical => &mut counts.critical,
                Severity::Major => &mut counts.major,
                Severity::Minor => &mut counts.minor,
            } += 1;
            counts.quiet += usize::from(it.quiet.is_some());
        }
        counts
    }
}

/// Whether both sets of rules raise an alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum RaisedBy {
    /// Both, with one severity.
    Both,
    /// Both, with another severity than by the rules in force.
    OtherSeverity,
    /// Only the rules on trial.
    OnlyTried,
    /// Only the rules in force.
    OnlyInForce,
}

/// An alarm of a trial.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TriedAlarmView {
    raised_by: RaisedBy,
    headline: String,
    severity: Severity,
    #[serde(with = "time::serde::rfc3339")]
    since: OffsetDateTime,
    /// Absent where it would be open.
    #[serde(with = "time::serde::rfc3339::option")]
    cleared_at: Option<OffsetDateTime>,
    times_raised: u32,
    sites: Vec<String>,
    services: Vec<String>,
    paths: usize,
    /// The rule that its limits are of; absent where they are as configured.
    limits_by: Option<String>,
    /// The rule that gives it another severity than its figures; absent where none does.
    severity_by: Option<String>,
    /// The rule with the quiet hours that it would have been raised in.
    quiet_by: Option<String>,
    /// Their end.
    #[serde(with = "time::serde::rfc3339::option")]
    quiet_until: Option<OffsetDateTime>,
}

impl TriedAlarmView {
    fn new(
        it: &TriedAlarm,
        raised_by: RaisedBy,
        paths: &BTreeMap<PathId, &PathRecord>,
        map: &OwnerMap,
    ) -> Self {
        let alarm = &it.alarm;
        let of: Vec<&PathRecord> =
            alarm.paths.iter().filter_map(|path| paths.get(path).copied()).collect();
        let sites = distinct(of.iter().map(|path| &path.site));
        let cleared = it.cleared_at.is_some();
        let context = Context { map, state: alarm.state(cleared), sites: &sites };
        let message = MessageView::new(messages::of_alarm(alarm, cleared, false), &context);
        let applied = alarm.applied.as_ref();
        let changed = applied.filter(|it| it.by_figures != Some(alarm.severity));
        Self {
            raised_by,
            headline: message.headline().to_owned(),
            severity: alarm.severity,
            since: offset(alarm.since),
            cleared_at: it.cleared_at.map(offset),
            times_raised: it.times_raised,
            services: distinct(of.iter().map(|path| &path.service)),
            sites,
            paths: alarm.paths.len(),
            limits_by: applied.and_then(|it| it.limits_by.clone()),
            severity_by: changed.and_then(|it| it.severity_by.clone()),
            quiet_by: it.quiet.as_ref().map(|quiet| quiet.rule.clone()),
            quiet_until: it.quiet.as_ref().map(|quiet| offset(quiet.until)),
        }
    }
}

/// What rules would have raised.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TrialResult {
    /// Days up to now.
    days: u16,
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// Findings that the rules were tried on.
    findings: i64,
    /// Alarms by the rules on trial.
    tried: TrialCounts,
    /// Alarms by the rules in force.
    in_force: TrialCounts,
    /// Alarms, the newest first, 200 at most.
    items: Vec<TriedAlarmView>,
    /// More alarms that are not listed.
    more: usize,
}

/// The alarm of the same cause at the same place at the same time.
fn matching<'a>(of: &TriedAlarm, among: &'a [TriedAlarm]) -> Option<&'a TriedAlarm> {
    among.iter().find(|other| {
        other.alarm.key == of.alarm.key
            && of.cleared_at.is_none_or(|end| other.alarm.since < end)
            && other.cleared_at.is_none_or(|end| of.alarm.since < end)
    })
}

impl TrialResult {
    pub(crate) fn new(of: &Tried, days: u16, (from, to): (OffsetDateTime, OffsetDateTime)) -> Self {
        let paths: BTreeMap<PathId, &PathRecord> =
            of.paths.iter().map(|path| (path.id, path)).collect();
        let tried = of.tried.iter().map(|it| match matching(it, &of.in_force) {
            Some(other) if other.alarm.severity == it.alarm.severity => (it, RaisedBy::Both),
            Some(_) => (it, RaisedBy::OtherSeverity),
            None => (it, RaisedBy::OnlyTried),
        });
        let dropped = of.in_force.iter().filter(|it| matching(it, &of.tried).is_none());
        let mut all: Vec<_> = tried.chain(dropped.map(|it| (it, RaisedBy::OnlyInForce))).collect();
        all.sort_by_key(|(it, _)| std::cmp::Reverse(it.alarm.since));
        let more = all.len().saturating_sub(LISTED);
        all.truncate(LISTED);
        let view =
            |(it, by): &(&TriedAlarm, RaisedBy)| TriedAlarmView::new(it, *by, &paths, &of.owners);
        Self {
            days,
            from,
            to,
            findings: of.findings,
            tried: TrialCounts::of(&of.tried),
            in_force: TrialCounts::of(&of.in_force),
            items: all.iter().map(view).collect(),
            more,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing;
    use itinera_analysis::rules::QuietUntil;
    use itinera_model::unit::WallTime;

    fn tried(minutes: (i64, Option<i64>), severity: Severity) -> TriedAlarm {
        let minute = |minute: i64| WallTime::from_unix_seconds(minute * 60);
        let mut alarm = testing::alarm();
        (alarm.since, alarm.severity) = (minute(minutes.0), severity);
        TriedAlarm { alarm, cleared_at: minutes.1.map(minute), times_raised: 1, quiet: None }
    }

    #[test]
    fn a_trial_says_which_alarms_are_new_which_are_missing_and_which_have_another_severity() {
        use Severity::{Critical, Major, Minor};
        let mut quiet = tried((50, Some(60)), Minor);
        quiet.quiet = Some(QuietUntil { rule: "Night".to_owned(), until: WallTime::default() });
        let of = Tried {
            paths: Vec::new(),
            owners: std::sync::Arc::default(),
            findings: 12,
            tried: vec![tried((0, Some(10)), Major), tried((20, Some(30)), Critical), quiet],
            in_force: vec![
                tried((5, Some(12)), Major),
                tried((21, Some(29)), Minor),
                tried((40, Some(45)), Minor),
            ],
        };
        let at = OffsetDateTime::UNIX_EPOCH;
        let result = TrialResult::new(&of, 7, (at, at));
        let by: Vec<RaisedBy> = result.items.iter().map(|it| it.raised_by).collect();
        use RaisedBy::{Both, OnlyInForce, OnlyTried, OtherSeverity};
        assert_eq!(by, [OnlyTried, OnlyInForce, OtherSeverity, Both], "the newest first");
        let counts = TrialCounts { alarms: 3, critical: 1, major: 1, minor: 1, quiet: 1 };
        assert_eq!(result.tried, counts);
        assert_eq!((result.in_force.alarms, result.in_force.quiet), (3, 0));
        assert_eq!(result.items[0].quiet_by.as_deref(), Some("Night"));
        let many = Tried { tried: vec![tried((0, None), Minor); 300], ..of };
        let result = TrialResult::new(&many, 7, (at, at));
        assert_eq!((result.items.len(), result.more), (200, 100));
    }
}
