//! The step from newly committed rounds to everything that follows from them.

use crate::alarm::{AlarmBook, Limits};
use crate::history::{Exactness, WINDOW_US, Window, end_of, window_of};
use crate::locate::{self, Usual};
use itinera_model::alarm::AlarmEffect;
use itinera_model::finding::{Assessment, TimeInterval};
use itinera_model::id::{ContentId, PathId};
use itinera_model::round::{HopCounts, Lateness, Round, StampSource};
use itinera_model::unit::WallTime;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// Rounds older than this correct history but are too late to change an assessment again: ten
/// minutes of windows behind the path's newest.
const LATE_WINDOWS: i64 = 60;
/// Windows kept for a path: what is usual, what is recent, and what may still be corrected.
const KEPT_WINDOWS: usize = 180;
/// As many windows without a finding hold all that may say what is usual, and the recent ones.
const ENOUGH_WINDOWS: usize = 70;
/// Windows before a finding that are not learned as usual: the fault began in them.
const BEFORE_FINDING: i64 = 2;
/// Windows after a finding that are not learned as usual: by chance fault may be too slight for
/// a finding for some windows, and must not become usual during that time.
const AFTER_FINDING: i64 = 6;
/// An assessment this old raises no alarm any more: three minutes.
const TOO_OLD_TO_RAISE_US: i64 = 180_000_000;

/// One committed round, as judgement needs it.
#[derive(Debug, Clone, Copy)]
pub struct Observation<'a> {
    /// The path.
    pub path: PathId,
    /// When it was measured, by the service's estimate.
    pub measured_at: WallTime,
    /// Its number.
    pub number: u64,
    /// The agent's own address.
    pub source: IpAddr,
    /// Identity of the route.
    pub route: ContentId,
    /// The route's addresses.
    pub addresses: &'a [Option<IpAddr>],
    /// What each hop gave.
    pub hops: &'a [HopCounts],
    /// Where the delays' stamps came from.
    pub stamps: StampSource,
    /// How late the agent's own program was, where it reports that.
    pub lateness: Option<Lateness>,
}

impl<'a> Observation<'a> {
    /// A round as its agent reported it, with what it refers to.
    pub fn of(round: &'a Round, source: IpAddr, addresses: &'a [Option<IpAddr>]) -> Self {
        Self {
            path: round.path,
            measured_at: round.clocks.corrected_wall(),
            number: round.number,
            source,
            route: round.route,
            addresses,
            hops: &round.hops,
            stamps: round.stamps,
            lateness: round.lateness,
        }
    }

    /// How exact it is.
    pub(crate) fn exactness(&self) -> Exactness {
        Exactness::of(self.stamps, self.lateness)
    }
}

/// What a step wants recorded.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// A path's window has another content.
    WindowChanged {
        /// The path.
        path: PathId,
        /// Index of the window.
        window: i64,
        /// The agent's own address.
        source: IpAddr,
        /// Its content now.
        content: Window,
    },
    /// A path's window is no longer needed.
    WindowDropped {
        /// The path.
        path: PathId,
        /// Index of the window.
        window: i64,
    },
    /// A path's window was judged, perhaps again.
    Assessed {
        /// Index of the window.
        window: i64,
        /// True when no newer window of the path has rounds.
        newest: bool,
        /// The judgement.
        assessment: Box<Assessment>,
    },
    /// Something about alarms.
    Alarm(AlarmEffect),
}

#[derive(Debug, Clone)]
struct PathHistory {
    source: IpAddr,
    windows: BTreeMap<i64, Window>,
    usual: Usual,
    /// What was said of a window that nothing has changed since: when a newer one closes it, it
    /// need not be computed again.
    said: Option<(i64, Assessment)>,
}

impl PathHistory {
    fn new(source: IpAddr) -> Self {
        Self { source, windows: BTreeMap::new(), usual: Usual::default(), said: None }
    }

    /// A window has other counts, another flag, or is gone.
    fn on_change(&mut self, window: i64) {
        self.usual.on_change(window);
        self.said.take_if(|(said, _)| window <= *said);
    }

    /// Forgets a window; what was said of the newest stands where enough others say what is usual.
    fn forget(&mut self, window: i64) {
        self.windows.remove(&window);
        self.usual.on_change(window);
        let later = self.windows.range(window + 1..).filter(|(_, content)| !content.flagged);
        if later.take(ENOUGH_WINDOWS).count() < ENOUGH_WINDOWS {
            self.said = None;
        }
    }

    fn assess(&mut self, path: PathId, window: i64) -> Option<Assessment> {
        if let Some((_, said)) = self.said.take_if(|(said, _)| *said == window) {
            return Some(said);
        }
        let Self { source, windows, usual, .. } = self;
        locate::assess(path, *source, windows, window, usual)
    }

    /// Enters whether a finding was made in a window; gives the windows near it if their flag is
    /// another now. Windows are entered in order of time, so that each flag ends as it would have
    /// been, had everything come in order.
    fn enter_found(&mut self, window: i64, found: bool) -> Vec<i64> {
        if let Some(content) = self.windows.get_mut(&window) {
            content.found = found;
        }
        let near: Vec<i64> =
            self.windows.range(window - BEFORE_FINDING..=window).map(|(index, _)| *index).collect();
        let mut changed = Vec::new();
        for index in near {
            let mut host_facts = self.windows.range(index - AFTER_FINDING..=index + BEFORE_FINDING);
            let flagged = host_facts.any(|(_, content)| content.found);
            let Some(content) = self.windows.get_mut(&index) else { continue };
            if std::mem::replace(&mut content.flagged, flagged) != flagged {
                self.on_change(index);
                changed.push(index);
            }
        }
        changed
    }

    /// When the fault found in a window began: within the minute that the first finding of the
    /// present run of findings regards.
    fn onset(&self, window: i64) -> Option<TimeInterval> {
        let run = self.windows.range(..=window).rev().take_while(|(_, content)| content.found);
        let (first, _) = run.last()?;
        Some(TimeInterval { earliest: end_of(first - locate::RECENT), latest: end_of(*first) })
    }

    /// Windows so far after `now` that rounds of now would be too late for them: the clock that
    /// dated them was wrong, and has been set back.
    fn of_a_wrong_clock(&self, now: WallTime) -> Vec<i64> {
        let last = window_of(now).saturating_add(LATE_WINDOWS);
        self.windows.range(last.saturating_add(1)..).map(|(window, _)| *window).collect()
    }

    /// A window to forget when there are too many: the oldest with a finding that cannot be
    /// corrected any more, so that a long fault does not push out what was usual before it;
    /// else the oldest.
    fn spare_window(&self, newest: i64) -> Option<i64> {
        if self.windows.len() <= KEPT_WINDOWS {
            return None;
        }
        let mut settled = self.windows.range(..newest - LATE_WINDOWS);
        let flagged = settled.find(|(_, content)| content.flagged).map(|(index, _)| *index);
        flagged.or_else(|| self.windows.keys().next().copied())
    }
}

/// All of judgement's memory.
#[derive(Debug, Clone, Default)]
pub struct Judge {
    paths: BTreeMap<PathId, PathHistory>,
    book: AlarmBook,
}

impl Judge {
    /// A judge without memory.
    pub fn new(limits: Limits) -> Self {
        Self { paths: BTreeMap::new(), book: AlarmBook::new(limits) }
    }

    /// A judge with the memory that earlier effects recorded.
    pub fn restored(
        book: AlarmBook,
        windows: impl IntoIterator<Item = (PathId, i64, IpAddr, Window)>,
    ) -> Self {
        let mut judge = Self { paths: BTreeMap::new(), book };
        for (path, index, source, window) in windows {
            let history = judge.paths.entry(path);
            let history = history.or_insert_with(|| PathHistory::new(source));
            history.windows.insert(index, window);
        }
        judge
    }

    /// The alarms and what they are waiting for, to be recorded with the effects of a step.
    pub const fn book(&self) -> &AlarmBook {
        &self.book
    }

    /// Takes the rounds of one commit, received at `now`.
    pub fn step(&mut self, observations: &[Observation<'_>], now: WallTime) -> Vec<Effect> {
        let mut touched: BTreeMap<PathId, BTreeSet<i64>> = BTreeMap::new();
        let mut newest_before: BTreeMap<PathId, Option<i64>> = BTreeMap::new();
        let mut effects = Vec::new();
        for observation in observations {
            let window = window_of(observation.measured_at);
            let history = self.paths.entry(observation.path);
            let history = history.or_insert_with(|| PathHistory::new(observation.source));
            history.source = observation.source;
            for window in history.of_a_wrong_clock(now) {
                history.forget(window);
                effects.push(Effect::WindowDropped { path: observation.path, window });
            }
            let newest = history.windows.keys().next_back().copied();
            newest_before.entry(observation.path).or_insert(newest);
            if newest.is_some_and(|newest| window < newest - LATE_WINDOWS) {
                continue;
            }
            history.on_change(window);
            let content = history.windows.entry(window).or_default();
            content.add(
                observation.route,
                observation.addresses,
                observation.number,
                observation.hops,
                observation.exactness(),
            );
            touched.entry(observation.path).or_default().insert(window);
        }
        for (path, windows) in touched {
            let before = newest_before.get(&path).copied().flatten();
            self.judge_path(path, &windows, before, now, &mut effects);
        }
        effects
    }

    fn judge_path(
        &mut self,
        path: PathId,
        touched: &BTreeSet<i64>,
        newest_before: Option<i64>,
        now: WallTime,
        effects: &mut Vec<Effect>,
    ) {
        let Some(history) = self.paths.get_mut(&path) else {
            return;
        };
        let Some(first) = touched.first().copied() else {
            return;
        };
        let newest = history.windows.keys().next_back().copied().unwrap_or(first);
        // A window that a newer one has just closed is judged once more, now complete.
        let first =
            newest_before.filter(|seen| *seen < newest).map_or(first, |seen| first.min(seen));
        let affected: Vec<i64> = history.windows.range(first..).map(|(index, _)| *index).collect();
        let mut complete = Vec::new();
        for window in affected {
            let Some(mut assessment) = history.assess(path, window) else {
                continue;
            };
            let mut changed = history.enter_found(window, assessment.finding.is_some());
            if let Some(finding) = &mut assessment.finding {
                finding.onset = history.onset(window);
            }
            if touched.contains(&window) && !changed.contains(&window) {
                changed.push(window);
            }
            for window in changed {
                let Some(content) = history.windows.get(&window) else { continue };
                let (source, content) = (history.source, content.clone());
                effects.push(Effect::WindowChanged { path, window, source, content });
            }
            if window == newest {
                history.said = Some((window, assessment.clone()));
            }
            let closes_now = window < newest && newest_before.is_none_or(|seen| window >= seen);
            let age_us = now.micros_since(end_of(window));
            if closes_now && age_us <= TOO_OLD_TO_RAISE_US {
                complete.push((window, assessment.clone()));
            }
            effects.push(Effect::Assessed {
                window,
                newest: window == newest,
                assessment: Box::new(assessment),
            });
        }
        while let Some(window) = history.spare_window(newest) {
            history.forget(window);
            effects.push(Effect::WindowDropped { path, window });
        }
        for (window, assessment) in complete {
            let since = WallTime::from_unix_micros(window.saturating_mul(WINDOW_US));
            let alarms = self.book.regard(&assessment, since, now);
            effects.extend(alarms.into_iter().map(Effect::Alarm));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::alarm::AlarmEffect;
    use itinera_model::unit::Micros;
    use uuid::Uuid;

    const START_S: i64 = 1_700_000_000;

    /// One window's round of a five-hop path; its last three hops lose some of ten probes.
    fn observe(judge: &mut Judge, window: i64, lost: u8, now_s: i64) -> Vec<Effect> {
        let hops: Vec<HopCounts> = (0..5u8)
            .map(|hop| {
                let heard = if hop >= 2 { 10 - lost } else { 10 };
                HopCounts {
                    sent: 10,
                    answered: (1 << heard) - 1,
                    rtt: vec![Micros::new(u32::from(hop) * 4_000 + 900); heard.into()],
                    ..HopCounts::default()
                }
            })
            .collect();
        let addresses: Vec<Option<IpAddr>> =
            (1..=5).map(|hop| Some(IpAddr::from([198, 18, 0, hop]))).collect();
        let observation = Observation {
            path: PathId::from_uuid(Uuid::nil()),
            measured_at: WallTime::from_unix_seconds(START_S + window * 10),
            number: window.cast_unsigned(),
            source: IpAddr::from([10, 0, 0, 2]),
            route: ContentId::of(b"route"),
            addresses: &addresses,
            hops: &hops,
            stamps: StampSource::Kernel,
            lateness: None,
        };
        judge.step(&[observation], WallTime::from_unix_seconds(now_s))
    }

    /// Gives windows from..to with this loss, each when it is measured.
    fn live(judge: &mut Judge, windows: std::ops::Range<i64>, lost: u8) -> Vec<Effect> {
        windows.flat_map(|w| observe(judge, w, lost, START_S + w * 10 + 2)).collect()
    }

    fn alarms(effects: &[Effect]) -> String {
        let letters = effects.iter().filter_map(|effect| match effect {
            Effect::Alarm(AlarmEffect::Raised(_)) => Some('r'),
            Effect::Alarm(AlarmEffect::Cleared { .. }) => Some('x'),
            _ => None,
        });
        letters.collect()
    }

    fn found(effects: &[Effect]) -> bool {
        effects.iter().any(
            |effect| matches!(effect, Effect::Assessed { assessment, .. } if assessment.finding.is_some()),
        )
    }

    #[test]
    fn rounds_that_come_late_are_judged_but_raise_nothing() {
        let mut judge = Judge::default();
        assert_eq!(alarms(&live(&mut judge, 0..20, 0)), "");
        let late: Vec<Effect> =
            (20..30).flat_map(|w| observe(&mut judge, w, 3, START_S + 3_600)).collect();
        assert!(found(&late));
        assert_eq!(alarms(&late), "");
    }

    #[test]
    fn a_clock_that_was_a_day_ahead_leaves_no_partition_in_conflict() {
        let mut judge = Judge::default();
        live(&mut judge, 0..40, 0);
        live(&mut judge, 8_640..8_700, 0);
        let effects = live(&mut judge, 40..41, 0);
        let dropped = effects.iter().filter(
            |effect| matches!(effect, Effect::WindowDropped { window, .. } if *window > 8_000 + START_S / 10),
        );
        assert_eq!(dropped.count(), 60);
        assert!(
            effects.iter().any(|effect| matches!(effect, Effect::Assessed { newest: true, .. }))
        );
        live(&mut judge, 41..60, 0);
        assert_eq!(alarms(&live(&mut judge, 60..70, 3)), "r", "judged as if nothing had been");
    }

    #[test]
    fn a_fault_of_two_hours_does_not_become_usual() {
        let mut judge = Judge::default();
        live(&mut judge, 0..60, 0);
        assert_eq!(alarms(&live(&mut judge, 60..780, 3)), "r");
        assert!(found(&live(&mut judge, 780..781, 3)), "still a finding after two hours");
        assert_eq!(alarms(&live(&mut judge, 781..800, 0)), "x");
    }

    #[test]
    fn a_lossy_member_route_stands_for_the_path_in_every_window() {
        let mut judge = Judge::default();
        let mut effects = Vec::new();
        for number in 0..600i64 {
            // Rounds take two routes in turn; the third hop of one of them loses from the fortieth
            // window on.
            let other = number % 2 == 1;
            let lost: u8 = if other && number >= 400 { 4 } else { 0 };
            let hops: Vec<HopCounts> = (0..5u8)
                .map(|hop| {
                    let heard = if hop >= 2 { 10 - lost } else { 10 };
                    HopCounts {
                        sent: 10,
                        answered: (1 << heard) - 1,
                        rtt: vec![Micros::new(u32::from(hop) * 4_000 + 900); heard.into()],
                        ..HopCounts::default()
                    }
                })
                .collect();
            let third = if other { 33 } else { 3 };
            let addresses: Vec<Option<IpAddr>> =
                [1, 2, third, 4, 5].map(|hop| Some(IpAddr::from([198, 18, 0, hop]))).to_vec();
            let at = WallTime::from_unix_seconds(START_S + number);
            let observation = Observation {
                path: PathId::from_uuid(Uuid::nil()),
                measured_at: at,
                number: number.cast_unsigned(),
                source: IpAddr::from([10, 0, 0, 2]),
                route: ContentId::of(&[third]),
                addresses: &addresses,
                hops: &hops,
                stamps: StampSource::Kernel,
                lateness: None,
            };
            effects.extend(judge.step(&[observation], at));
        }
        assert_eq!(alarms(&effects), "r", "one alarm, which does not flap");
        let last = effects.iter().rev().find_map(|effect| match effect {
            Effect::Assessed { assessment, .. } => assessment.finding.clone(),
            _ => None,
        });
        let to = last.unwrap().place.first_with_fault().unwrap();
        assert_eq!(to, IpAddr::from([198, 18, 0, 33]));
    }

    #[test]
    fn a_fault_that_pauses_by_chance_does_not_become_usual() {
        let mut judge = Judge::default();
        live(&mut judge, 0..30, 0);
        // Every third minute it is hardly there.
        for minute in 5..60 {
            let lost = if minute % 3 == 0 { 1 } else { 3 };
            live(&mut judge, minute * 6..minute * 6 + 6, lost);
        }
        assert!(found(&live(&mut judge, 363..364, 3)), "still a finding after an hour");
    }

    /// The newest assessment.
    fn last(effects: &[Effect]) -> &Assessment {
        let assessed = effects.iter().rev().find_map(|effect| match effect {
            Effect::Assessed { assessment, .. } => Some(assessment),
            _ => None,
        });
        assessed.unwrap()
    }

    #[test]
    fn rounds_that_get_no_further_than_a_hop_count_against_the_known_route() {
        let mut judge = Judge::default();
        live(&mut judge, 0..40, 0);
        let mut effects = Vec::new();
        for window in 40..50 {
            // One round of each window falls into a burst that silences all behind the second
            // hop. Its flow is new, so the agent tries hops beyond the target's.
            let hops: Vec<HopCounts> = (0..9u8)
                .map(|hop| HopCounts {
                    sent: 10,
                    answered: if hop < 2 { (1 << 10) - 1 } else { 0 },
                    rtt: vec![
                        Micros::new(u32::from(hop) * 4_000 + 900);
                        if hop < 2 { 10 } else { 0 }
                    ],
                    ..HopCounts::default()
                })
                .collect();
            let mut addresses = vec![None; 9];
            addresses[0] = Some(IpAddr::from([198, 18, 0, 1]));
            addresses[1] = Some(IpAddr::from([198, 18, 0, 2]));
            let at = WallTime::from_unix_seconds(START_S + window * 10);
            let observation = Observation {
                path: PathId::from_uuid(Uuid::nil()),
                measured_at: at,
                number: window.cast_unsigned() + 1_000,
                source: IpAddr::from([10, 0, 0, 2]),
                route: ContentId::of(b"silence"),
                addresses: &addresses,
                hops: &hops,
                stamps: StampSource::Kernel,
                lateness: None,
            };
            effects.extend(judge.step(&[observation], at));
            effects.extend(observe(&mut judge, window, 0, START_S + window * 10 + 2));
        }
        let last = last(&effects);
        assert_eq!((last.rounds, last.hops.len()), (12, 5), "both rounds of six windows");
        assert_eq!((last.end_sent, last.end_lost), (120, 60), "{last:?}");
        let finding = last.finding.as_ref().unwrap();
        let place = finding.place.first_with_fault().unwrap();
        assert_eq!(place, IpAddr::from([198, 18, 0, 3]));
        // All of them end early now: a break, still on the known route.
        let broken = live(&mut judge, 50..53, 10);
        assert!(found(&broken));
    }

    #[test]
    fn a_judge_restored_from_its_effects_goes_on_as_if_nothing_had_happened() {
        let mut undisturbed = Judge::default();
        let mut effects = live(&mut undisturbed, 0..40, 0);
        effects.extend(live(&mut undisturbed, 40..43, 3));
        let mut windows = BTreeMap::new();
        for effect in effects {
            match effect {
                Effect::WindowChanged { path, window, source, content } => {
                    windows.insert((path, window), (source, content));
                }
                Effect::WindowDropped { path, window } => drop(windows.remove(&(path, window))),
                _ => {}
            }
        }
        let windows = windows
            .into_iter()
            .map(|((path, window), (source, content))| (path, window, source, content));
        let mut restored = Judge::restored(undisturbed.book().clone(), windows);
        assert_eq!(live(&mut restored, 43..60, 3), live(&mut undisturbed, 43..60, 3));
    }
}
