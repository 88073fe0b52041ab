//! Rules tried on findings of the past: which alarms they would have raised.
//!
//! Windows without a finding count as calm, those without measurements too: where the paths of an alarm had no
//! data for some minutes, it may clear here and be raised again, which is still one alarm.

use crate::alarm::AlarmBook;
use crate::evidence::{beginning_of, end_of};
use crate::limits::Limits;
use crate::rules::{QuietUntil, Ruled, Rules, owners_at};
use itinera_model::alarm::{Alarm, AlarmEffect};
use itinera_model::finding::{Assessment, Finding, HopView};
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::unit::WallTime;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// An alarm that rules would have raised.
#[derive(Debug, Clone, PartialEq)]
pub struct TriedAlarm {
    /// The alarm, as it was last.
    pub alarm: Alarm,
    /// When it would have cleared; absent where it would be open.
    pub cleared_at: Option<WallTime>,
    /// How often it would have been raised.
    pub times_raised: u32,
    /// The quiet hours that it would have been raised in the first time.
    pub quiet: Option<QuietUntil>,
}

/// A trial of rules, which takes findings window by window.
#[derive(Debug)]
pub struct Trial {
    book: AlarmBook,
    rules: Arc<Rules>,
    owners: Arc<OwnerMap>,
    /// The newest known hops of each path: a path that passes the place of an alarm belongs to it.
    routes: BTreeMap<PathId, Vec<HopView>>,
    /// Calm windows after which nothing changes any more.
    longest_clear: u32,
    /// The window after the last one taken.
    next: i64,
    /// Calm windows since the newest finding of paths that had one lately.
    lately: BTreeMap<PathId, u32>,
    raised: Vec<TriedAlarm>,
}

impl Trial {
    /// A trial of rules over configured limits, with the owners of a map.
    pub fn new(
        limits: Limits,
        rules: Rules,
        owners: Arc<OwnerMap>,
        routes: BTreeMap<PathId, Vec<HopView>>,
    ) -> Self {
        let rules = Arc::new(rules);
        let mut book = AlarmBook::default();
        book.set_rules(limits, Arc::clone(&rules), Arc::clone(&owners));
        let of_rules = rules.rules.iter().filter_map(|rule| rule.limits.clear_windows);
        let longest_clear = of_rules.fold(limits.clear_windows, u32::max);
        Self {
            book,
            rules,
            owners,
            routes,
            longest_clear,
            next: i64::MIN,
            lately: BTreeMap::new(),
            raised: Vec::new(),
        }
    }

    /// Takes the findings of one window; windows come in order.
    pub fn on_window(&mut self, window: i64, findings: Vec<(PathId, Finding)>) {
        // What lies between is calm.
        while self.next < window && !self.lately.is_empty() {
            self.play(self.next, Vec::new());
        }
        self.play(window, findings);
    }

    fn play(&mut self, window: i64, findings: Vec<(PathId, Finding)>) {
        self.next = window.saturating_add(1);
        let now = end_of(window);
        let found: BTreeSet<PathId> = findings.iter().map(|(path, _)| *path).collect();
        let calm: Vec<PathId> =
            self.lately.keys().filter(|path| !found.contains(path)).copied().collect();
        for (path, finding) in findings {
            self.lately.insert(path, 0);
            self.regard((path, Some(finding)), window, now);
        }
        for path in calm {
            self.regard((path, None), window, now);
        }
        let longest = self.longest_clear;
        self.lately.retain(|path, calm| {
            *calm += u32::from(!found.contains(path));
            *calm < longest
        });
        for effect in self.book.publish(now) {
            self.take(effect);
        }
    }

    fn regard(&mut self, (path, finding): (PathId, Option<Finding>), window: i64, now: WallTime) {
        let assessment = Assessment {
            path,
            until: now,
            span_s: 0,
            rounds: 0,
            end_sent: 0,
            end_lost: 0,
            engine: 0,
            mapping: 0,
            hops: self.routes.get(&path).cloned().unwrap_or_default(),
            finding,
        };
        for effect in self.book.regard(&assessment, beginning_of(window), now) {
            self.take(effect);
        }
    }

    fn take(&mut self, effect: AlarmEffect) {
        let of = effect.key();
        let known = self.raised.iter_mut().rfind(|known| known.alarm.key == of);
        match (effect, known) {
            (AlarmEffect::Raised(alarm), _) => {
                let owners = owners_at(&alarm.key.place, &self.owners);
                let raised = (alarm.severity, alarm.raised_at);
                let quiet = self.rules.quiet(raised, Ruled::Paths(&alarm.showing), &owners);
                self.raised.push(TriedAlarm { alarm, cleared_at: None, times_raised: 1, quiet });
            }
            (AlarmEffect::RaisedAgain { alarm, .. }, Some(known)) => {
                (known.alarm, known.cleared_at) = (alarm, None);
                known.times_raised += 1;
            }
            (AlarmEffect::Changed { alarm, .. }, Some(known)) => known.alarm = alarm,
            (AlarmEffect::Cleared { at, .. }, Some(known)) => known.cleared_at = Some(at),
            _ => {}
        }
    }

    /// The alarms, in the order in which they would have been raised. The windows up to `until` are over.
    pub fn finish(mut self, until: i64) -> Vec<TriedAlarm> {
        while self.next <= until && !self.lately.is_empty() {
            self.play(self.next, Vec::new());
        }
        self.raised
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::finding::{Cause, Place};
    use itinera_model::hours::Hours;
    use itinera_model::rule::{Quiet, Rule, RuleLimits};
    use itinera_model::unit::Ratio;
    use uuid::Uuid;

    fn path(number: u128) -> PathId {
        PathId::from_uuid(Uuid::from_u128(number))
    }

    fn finding(last: u8, loss_ppm: u32) -> Finding {
        let place = Place::Node { address: [198, 18, 0, last].into() };
        Finding { loss_ppm, ..Finding::new(Cause::Loss, place, 950_000) }
    }

    /// Plays windows with the findings of each, with rules of no condition.
    fn tried(rules: Vec<Rule>, windows: &[(i64, Vec<(u128, Finding)>)]) -> Vec<TriedAlarm> {
        let rules = Rules { rules, ..Rules::default() };
        let mut trial = Trial::new(Limits::default(), rules, Arc::default(), BTreeMap::new());
        for (window, findings) in windows {
            let findings = findings.iter().map(|(number, it)| (path(*number), it.clone()));
            trial.on_window(*window, findings.collect());
        }
        trial.finish(1_000)
    }

    fn shown(alarms: &[TriedAlarm]) -> Vec<(i64, Option<i64>, u32)> {
        let second = |at: WallTime| at.as_unix_micros() / 1_000_000;
        let one =
            |it: &TriedAlarm| (second(it.alarm.since), it.cleared_at.map(second), it.times_raised);
        alarms.iter().map(one).collect()
    }

    #[test]
    fn alarms_are_those_of_the_limits_held_over_and_clear_in_windows_without_a_finding() {
        let of = |windows: std::ops::Range<i64>, last, loss_ppm| {
            windows.map(move |it| (it, vec![(1, finding(last, loss_ppm))]))
        };
        // Six windows over the limit, three of them again soon after, and a mild loss elsewhere.
        let windows: Vec<_> = of(10..16, 1, 80_000)
            .chain(of(30..33, 1, 80_000))
            .chain(of(500..520, 2, 9_000))
            .collect();
        let configured = tried(Vec::new(), &windows);
        assert_eq!(shown(&configured), [(100, Some(360), 2)]);
        assert_eq!(configured[0].quiet, None);
        let limits = |loss_ppm, hold_windows| RuleLimits {
            loss_ratio: Some(Ratio::from_ppm(loss_ppm)),
            hold_windows: Some(hold_windows),
            ..Default::default()
        };
        let rule = |limits| Rule { name: "Loss".to_owned(), limits, ..Rule::default() };
        let strict = tried(vec![rule(limits(5_000, 3))], &windows);
        assert_eq!(shown(&strict), [(100, Some(360), 2), (5_000, Some(5_230), 1)]);
        let applied = strict[1].alarm.applied.clone().unwrap();
        assert_eq!((applied.loss_ppm, applied.limits_by), (5_000, Some("Loss".to_owned())));
        assert_eq!(shown(&tried(vec![rule(limits(30_000, 5))], &windows)), [(100, Some(190), 1)]);
        assert_eq!(tried(vec![rule(limits(90_000, 1))], &windows), []);
    }

    #[test]
    fn an_alarm_that_still_shows_is_open_and_quiet_hours_are_said() {
        let windows: Vec<_> = (995..1_000).map(|it| (it, vec![(1, finding(1, 80_000))])).collect();
        let hours = Hours {
            days: Vec::new(),
            from: "02:00".to_owned(),
            to: "03:00".to_owned(),
            zone: "UTC".to_owned(),
        };
        let quiet = Some(Quiet { hours, most: None });
        let night = Rule { name: "Night".to_owned(), quiet, ..Rule::default() };
        let alarms = tried(vec![night], &windows);
        assert_eq!(shown(&alarms), [(9_950, None, 1)]);
        let until = WallTime::from_unix_seconds(10_800);
        assert_eq!(alarms[0].quiet, Some(QuietUntil { rule: "Night".to_owned(), until }));
    }
}
