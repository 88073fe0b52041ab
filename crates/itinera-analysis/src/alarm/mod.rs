//! Alarms by a fixed limit held over: raised when a path shows a confident finding above the
//! limit for some windows in a row, cleared when it has been calm for as long.
//!
//! All paths that name the same place share one alarm. A path that already belongs to an open
//! alarm does not open another at once when its place is named differently: it has to insist. A place
//! that shows a fault now and then has one alarm, which is raised again.
//!
//! Alarms also go by the clock ([`clock`]), and a fault that only late measurements show becomes a
//! record without having been open ([`late`]).

mod clock;
mod late;
#[cfg(test)]
mod tests;

use crate::limits::Limits;
use crate::rules::{PathLimits, Ruled, Rules, Ruling};
use itinera_model::alarm::{Alarm, AlarmEffect, AlarmKey, AlarmKind, Severity};
use itinera_model::finding::{Assessment, Cause, Finding, LossCounts, Place};
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::quantile::median;
use itinera_model::unit::{Micros, Ratio, WallTime};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Windows for which a path of an open alarm must name another place before it is believed.
const INSIST_WINDOWS: u32 = 6;

/// The same for a path that passes the place of an open alarm of the same cause: what explains
/// other paths explains it better than a fault of its own beside it.
const INSIST_BESIDE_WINDOWS: u32 = 12;

/// An alarm that shows again within this of clearing is the same alarm: half an hour, for which its
/// incident stays open.
const RETURNS_US: i64 = 1_800_000_000;

/// Least time between two publications of an alarm's figures, for each of its paths: a millisecond. An alarm
/// of thousands of paths has other figures with every report.
const PUBLISH_US: i64 = 1_000;

/// What one path has been showing.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
struct PathRecord {
    over: Option<Streak>,
    calm: u32,
    /// Windows without a fault before its alarm clears, as its newest finding over the limit has it.
    #[serde(default)]
    clear_windows: Option<u32>,
    /// Figures of its newest finding over the limit.
    loss_counts: LossCounts,
    loss_ppm: u32,
    added_delay_us: Micros,
    /// End of the newest window regarded, and the time between the last two.
    seen_until: WallTime,
    gap_us: i64,
}

/// An alarm that has ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct PastAlarm {
    alarm: Alarm,
    cleared_at: WallTime,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Streak {
    key: AlarmKey,
    windows: u32,
    since: WallTime,
}

/// The open alarms and what every path has been showing.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct AlarmBook {
    limits: Limits,
    #[serde(skip)]
    ruling: Ruling,
    paths: BTreeMap<PathId, PathRecord>,
    open: Vec<Alarm>,
    /// Those that ended in the last hours, the oldest first: late measurements may belong to them.
    past: Vec<PastAlarm>,
    /// What was published last of each open alarm, and when.
    #[serde(default)]
    published: BTreeMap<AlarmKey, Published>,
    /// Open alarms with changes that are not published.
    #[serde(default)]
    touched: BTreeSet<AlarmKey>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Published {
    alarm: Alarm,
    at: WallTime,
}

impl Published {
    /// True where a change of the alarm is published at `now`: its state or severity at once, its figures
    /// less often the more paths it has.
    fn is_due(&self, alarm: &Alarm, now: WallTime) -> bool {
        let Self { alarm: known, at } = self;
        let paths = i64::try_from(alarm.paths.len()).unwrap_or(i64::MAX);
        let state = |it: &Alarm| (it.severity, by_figures(it), it.no_data_since);
        state(known) != state(alarm) || now.micros_since(*at) >= paths.saturating_mul(PUBLISH_US)
    }
}

impl AlarmBook {
    /// A book without alarms, by configured limits alone.
    pub fn new(limits: Limits) -> Self {
        Self { limits, ..Self::default() }
    }

    /// Goes by other limits and rules from now on, with the owners of a map. Open alarms stay until they clear
    /// by them.
    pub fn set_rules(&mut self, limits: Limits, rules: Arc<Rules>, owners: Arc<OwnerMap>) {
        (self.limits, self.ruling) = (limits, Ruling { rules, owners });
    }

    /// The limits that it goes by.
    pub const fn limits(&self) -> &Limits {
        &self.limits
    }

    /// The limits between two sites.
    pub(crate) fn limits_between(&self, one: &str, other: &str) -> Limits {
        self.ruling.limits_between(&self.limits, [one, other])
    }

    /// The alarms that are open.
    pub fn open(&self) -> &[Alarm] {
        &self.open
    }

    /// Alarms that ended in the last hours, with when they cleared.
    pub fn past(&self) -> impl Iterator<Item = (&Alarm, WallTime)> {
        self.past.iter().map(|past| (&past.alarm, past.cleared_at))
    }

    /// Regards one complete window of a path, which began at `since`, at time `now`. Changes of alarms that
    /// stay open are published by [`AlarmBook::publish`].
    pub fn regard(
        &mut self,
        assessment: &Assessment,
        since: WallTime,
        now: WallTime,
    ) -> Vec<AlarmEffect> {
        self.on_reported(assessment);
        let ruling = self.ruling.clone();
        match regarded(&ruling, &self.limits, assessment) {
            Regarded::Over(finding, limits) => {
                self.on_over(assessment, (finding, limits), since, now)
            }
            Regarded::Unsure => Vec::new(),
            Regarded::Calm => self.on_calm(assessment.path, now),
        }
    }

    /// Publishes what has changed of open alarms, once for any number of paths.
    pub fn publish(&mut self, now: WallTime) -> Vec<AlarmEffect> {
        let mut effects = Vec::new();
        let Self { open, paths, published, touched, ruling, .. } = self;
        touched.retain(|key| {
            let Some(alarm) = open.iter_mut().find(|alarm| alarm.key == *key) else { return false };
            let known = published.get(key);
            if known.is_some_and(|known| !known.is_due(alarm, now)) {
                return true;
            }
            sum_up(alarm, paths);
            grade(alarm, ruling);
            if known.is_none_or(|known| known.alarm != *alarm) {
                published.insert(*key, Published { alarm: alarm.clone(), at: now });
                effects.push(AlarmEffect::Changed { alarm: alarm.clone(), at: now });
            }
            false
        });
        effects
    }

    /// Opens an alarm. The caller publishes its contents.
    fn open_alarm(&mut self, alarm: Alarm, now: WallTime) {
        self.published.insert(alarm.key, Published { alarm: alarm.clone(), at: now });
        self.open.push(alarm);
    }

    /// Compares the open alarms with those that were recorded as open: what is known of one that is still
    /// open is kept, one that is not shown any more clears, and a new one is raised.
    pub(crate) fn take_over(&mut self, recorded: Vec<Alarm>, now: WallTime) -> Vec<AlarmEffect> {
        let mut effects = Vec::new();
        let mut recorded: BTreeMap<AlarmKey, Alarm> =
            recorded.into_iter().map(|alarm| (alarm.key, alarm)).collect();
        self.published.clear();
        let touched = std::mem::take(&mut self.touched);
        for alarm in &mut self.open {
            if touched.contains(&alarm.key) {
                sum_up(alarm, &self.paths);
                grade(alarm, &self.ruling);
            }
            match recorded.remove(&alarm.key) {
                Some(known) => {
                    let mut paths: Vec<PathId> = [&known.paths[..], &alarm.paths[..]].concat();
                    paths.sort_unstable();
                    paths.dedup();
                    let showing = std::mem::take(&mut alarm.showing);
                    *alarm = Alarm { showing, paths, ..known };
                }
                None => {
                    self.published.insert(alarm.key, Published { alarm: alarm.clone(), at: now });
                    effects.push(AlarmEffect::Raised(alarm.clone()));
                }
            }
        }
        let cleared = recorded.into_keys();
        effects.extend(cleared.map(|key| AlarmEffect::Cleared { key, at: now }));
        effects
    }

    fn on_over(
        &mut self,
        assessment: &Assessment,
        (finding, limits): (&Finding, PathLimits<'_>),
        since: WallTime,
        now: WallTime,
    ) -> Vec<AlarmEffect> {
        let path = assessment.path;
        let key =
            AlarmKey { kind: AlarmKind::LimitHeldOver, cause: finding.cause, place: finding.place };
        let record = self.paths.entry(path).or_default();
        record.calm = 0;
        record.clear_windows = Some(limits.limits.clear_windows);
        record.loss_counts = finding.loss_counts;
        record.loss_ppm = finding.loss_ppm;
        record.added_delay_us = finding.added_delay_us;
        let streak = match record.over.take() {
            Some(streak) if streak.key == key => Streak { windows: streak.windows + 1, ..streak },
            _ => Streak { key, windows: 1, since },
        };
        record.over = Some(streak.clone());
        if streak.windows < limits.limits.hold_windows {
            return Vec::new();
        }
        let elsewhere = self.open.iter().any(|a| a.key != key && is_among(&a.showing, path));
        if elsewhere && streak.windows < INSIST_WINDOWS {
            return Vec::new();
        }
        let known = self.open.iter().any(|alarm| alarm.key == key);
        let explained =
            |alarm: &Alarm| alarm.key.cause == key.cause && passes(assessment, &alarm.key.place);
        if !known && streak.windows < INSIST_BESIDE_WINDOWS && self.open.iter().any(explained) {
            return Vec::new();
        }
        let mut effects = self.leave(path, Some(key), now);
        if let Some(alarm) = self.open.iter_mut().find(|alarm| alarm.key == key) {
            join(alarm, path, finding);
            self.touched.insert(key);
            return effects;
        }
        effects.push(match self.take_past(key, now) {
            Some(mut alarm) => {
                alarm.no_data_since = None;
                alarm.showing.clear();
                join(&mut alarm, path, finding);
                sum_up(&mut alarm, &self.paths);
                grade(&mut alarm, &self.ruling);
                self.open_alarm(alarm.clone(), now);
                AlarmEffect::RaisedAgain { alarm, at: now }
            }
            None => {
                let since = (streak.since, now);
                let alarm = new_alarm(key, (finding, limits), path, since, &self.ruling);
                self.open_alarm(alarm.clone(), now);
                AlarmEffect::Raised(alarm)
            }
        });
        effects
    }

    /// Takes out the alarm of the same place that has cleared shortly before, where there is one: it is
    /// raised again. A record of late measurements was never open.
    fn take_past(&mut self, key: AlarmKey, now: WallTime) -> Option<Alarm> {
        let returns = |past: &PastAlarm| {
            past.alarm.key == key
                && past.alarm.recorded_at.is_none()
                && now.micros_since(past.cleared_at) < RETURNS_US
        };
        let index = self.past.iter().rposition(returns)?;
        Some(self.past.remove(index).alarm)
    }

    fn on_calm(&mut self, path: PathId, now: WallTime) -> Vec<AlarmEffect> {
        let record = self.paths.entry(path).or_default();
        record.over = None;
        record.calm = record.calm.saturating_add(1);
        if record.calm < record.clear_windows.unwrap_or(self.limits.clear_windows) {
            return Vec::new();
        }
        self.leave(path, None, now)
    }

    /// Takes a path out of every open alarm but `keep`; an alarm that no path shows clears.
    fn leave(&mut self, path: PathId, keep: Option<AlarmKey>, now: WallTime) -> Vec<AlarmEffect> {
        let mut over = Vec::new();
        for alarm in &mut self.open {
            let Ok(index) = alarm.showing.binary_search(&path) else { continue };
            if Some(alarm.key) == keep {
                continue;
            }
            if alarm.showing.len() == 1 {
                over.push(alarm.key);
            } else {
                alarm.showing.remove(index);
                self.touched.insert(alarm.key);
            }
        }
        over.into_iter().flat_map(|key| self.clear(key, now)).collect()
    }

    /// Clears an open alarm, with the last of what it showed.
    fn clear(&mut self, key: AlarmKey, now: WallTime) -> Vec<AlarmEffect> {
        let Some(index) = self.open.iter().position(|alarm| alarm.key == key) else {
            return Vec::new();
        };
        let mut alarm = self.open.remove(index);
        let mut effects = Vec::new();
        let published = self.published.remove(&key);
        if self.touched.remove(&key) {
            sum_up(&mut alarm, &self.paths);
            grade(&mut alarm, &self.ruling);
            if published.is_none_or(|known| known.alarm != alarm) {
                effects.push(AlarmEffect::Changed { alarm: alarm.clone(), at: now });
            }
        }
        effects.push(AlarmEffect::Cleared { key, at: now });
        alarm.showing.clear();
        self.past.push(PastAlarm { alarm, cleared_at: now });
        effects
    }
}

/// What one window of a path means for alarms.
enum Regarded<'a> {
    /// Over a limit of its path, at a place that is sure enough.
    Over(&'a Finding, PathLimits<'a>),
    /// Over a limit at a place that is not sure enough: neither raises nor calms.
    Unsure,
    /// Under every limit.
    Calm,
}

const fn is_over(finding: &Finding, limits: &Limits) -> bool {
    match finding.cause {
        Cause::Break | Cause::Misrouting => true,
        Cause::Loss => finding.loss_ppm >= limits.loss_ppm,
        Cause::Delay => finding.added_delay_us.as_micros() >= limits.added_delay_us,
    }
}

/// What a window of a path means, by its limits.
fn regarded<'a>(
    ruling: &'a Ruling,
    configured: &Limits,
    assessment: &'a Assessment,
) -> Regarded<'a> {
    let Some(finding) = &assessment.finding else { return Regarded::Calm };
    let by = ruling.limits(configured, assessment.path, &finding.place);
    match is_over(finding, &by.limits) {
        false => Regarded::Calm,
        true if finding.confidence_ppm < by.limits.confidence_ppm => Regarded::Unsure,
        true => Regarded::Over(finding, by),
    }
}

/// The severity of an alarm by its figures alone.
fn by_figures(alarm: &Alarm) -> Severity {
    alarm.applied.as_ref().and_then(|it| it.by_figures).unwrap_or(alarm.severity)
}

/// Takes note of a severity by figures: that of the alarm, unless a rule decides it.
fn raise(alarm: &mut Alarm, severity: Severity) {
    match alarm.applied.as_mut().and_then(|it| it.by_figures.as_mut()) {
        Some(known) => *known = severity.min(*known),
        None => alarm.severity = severity.min(alarm.severity),
    }
}

/// Gives an alarm the severity by rules, where one decides it. After the first time it only rises, until the
/// rule is gone: then it is that by the figures alone.
fn grade(alarm: &mut Alarm, ruling: &Ruling) {
    let rules = &ruling.rules;
    let Some(applied) = &mut alarm.applied else { return };
    if applied.by_figures.is_none() && !rules.have_severity() {
        return;
    }
    let (by_figures, owners) =
        (applied.by_figures.unwrap_or(alarm.severity), ruling.owners_at(&alarm.key.place));
    let ruled = rules.severity(by_figures, Ruled::Paths(&alarm.showing), &owners);
    let decides =
        |name: &String| rules.rules.iter().any(|it| it.name == *name && it.has_severity());
    match ruled {
        Some((severity, by)) => {
            let is_first = applied.by_figures.replace(by_figures).is_none();
            applied.severity_by = Some(by.to_owned());
            alarm.severity = if is_first { severity } else { severity.min(alarm.severity) };
        }
        // The paths that the rule selects do not show it now.
        None if applied.severity_by.as_ref().is_some_and(decides) => {
            alarm.severity = by_figures.min(alarm.severity);
        }
        None => {
            (applied.by_figures, applied.severity_by) = (None, None);
            alarm.severity = by_figures;
        }
    }
}

/// The alarm of a path, since the first of two times and raised at the second.
fn new_alarm(
    key: AlarmKey,
    (finding, limits): (&Finding, PathLimits<'_>),
    path: PathId,
    (since, raised_at): (WallTime, WallTime),
    ruling: &Ruling,
) -> Alarm {
    let mut alarm = Alarm {
        key,
        severity: severity(finding),
        since,
        raised_at,
        confidence_ppm: finding.confidence_ppm,
        loss_ppm: finding.loss_ppm,
        loss_counts: finding.loss_counts,
        added_delay_us: finding.added_delay_us,
        direction: finding.direction,
        indistinguishable: finding.indistinguishable.clone(),
        reasons: finding.reasons.clone(),
        worst_loss_ppm: finding.loss_ppm,
        worst_added_delay_us: finding.added_delay_us,
        no_data_since: None,
        recorded_at: None,
        applied: Some(limits.applied()),
        showing: vec![path],
        paths: vec![path],
    };
    grade(&mut alarm, ruling);
    alarm
}

/// True when a path goes over a link: its ends are two of its hops, in this order.
fn passes(assessment: &Assessment, place: &Place) -> bool {
    let Some((from, to)) = place.ends() else { return false };
    let mut addresses = assessment.hops.iter().filter_map(|hop| hop.address);
    addresses.any(|address| address == from) && addresses.any(|address| address == to)
}

/// True for a path that is among some in order.
fn is_among(paths: &[PathId], path: PathId) -> bool {
    paths.binary_search(&path).is_ok()
}

/// Adds a path with its newest finding.
fn join(alarm: &mut Alarm, path: PathId, finding: &Finding) {
    for paths in [&mut alarm.showing, &mut alarm.paths] {
        if let Err(index) = paths.binary_search(&path) {
            paths.insert(index, path);
        }
    }
    if finding.confidence_ppm > alarm.confidence_ppm {
        alarm.confidence_ppm = finding.confidence_ppm;
        alarm.direction = finding.direction;
        alarm.indistinguishable.clone_from(&finding.indistinguishable);
        alarm.reasons.clone_from(&finding.reasons);
    }
    raise(alarm, severity(finding));
}

/// Sums up the newest figures of the paths that show an alarm.
fn sum_up(alarm: &mut Alarm, records: &BTreeMap<PathId, PathRecord>) {
    let showing: Vec<&PathRecord> =
        alarm.showing.iter().filter_map(|path| records.get(path)).collect();
    alarm.loss_counts = showing.iter().fold(LossCounts::default(), |sum, record| LossCounts {
        sent: sum.sent.saturating_add(record.loss_counts.sent),
        lost: sum.lost.saturating_add(record.loss_counts.lost),
    });
    let pooled = Ratio::of(alarm.loss_counts.lost, alarm.loss_counts.sent);
    let usual_loss_ppm = || median(showing.iter().map(|it| it.loss_ppm)).unwrap_or(0);
    alarm.loss_ppm = pooled.map_or_else(usual_loss_ppm, Ratio::as_ppm);
    let added = median(showing.iter().map(|it| it.added_delay_us));
    alarm.added_delay_us = added.unwrap_or(Micros::ZERO);
    alarm.worst_loss_ppm = alarm.worst_loss_ppm.max(alarm.loss_ppm);
    alarm.worst_added_delay_us = alarm.worst_added_delay_us.max(alarm.added_delay_us);
}

/// Perceived severity: from half of all packets critical, from 5 % or 100 ms major.
const fn severity(finding: &Finding) -> Severity {
    const HUNDRED_MS: u32 = Micros::from_millis(100).as_micros();
    match finding.cause {
        Cause::Break | Cause::Misrouting => Severity::Critical,
        Cause::Loss => severity_of_loss(finding.loss_ppm),
        Cause::Delay if finding.added_delay_us.as_micros() >= HUNDRED_MS => Severity::Major,
        Cause::Delay => Severity::Minor,
    }
}

/// Severity of a loss ratio, in parts per million.
pub(crate) const fn severity_of_loss(ppm: u32) -> Severity {
    match ppm {
        500_000.. => Severity::Critical,
        50_000.. => Severity::Major,
        _ => Severity::Minor,
    }
}
