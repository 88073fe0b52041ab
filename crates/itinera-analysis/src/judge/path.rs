//! What is remembered of one path: its windows, what is usual in them, and what they were judged.

use super::{KEPT_WINDOWS, LATE_WINDOWS};
use crate::evidence::{
    EvidenceError, Kept, RoundCounts, WINDOWS_A_MINUTE, Window, Windows, end_of, publish, window_of,
};
use crate::locate::{self, Usual};
use itinera_model::finding::{Assessment, TimeInterval};
use itinera_model::id::{ContentId, PathId};
use itinera_model::unit::WallTime;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// Windows before a finding that are not learned as usual: the fault began in them.
const BEFORE_FINDING: i64 = 2;
/// Windows after a finding that are not learned as usual: by chance fault may be too slight for
/// a finding for some windows, and must not become usual during that time.
const AFTER_FINDING: i64 = 6;

#[derive(Debug, Clone)]
pub(super) struct PathHistory {
    pub(super) source: IpAddr,
    pub(super) windows: Windows,
    usual: Usual,
    /// Judgements of windows that are not sealed yet.
    pub(super) unsealed: BTreeMap<i64, Arc<Assessment>>,
    /// Minutes with windows that differ from the last checkpoint, and minutes that it holds.
    changed: BTreeSet<i64>,
    stored: BTreeSet<i64>,
    /// Published minutes with other counts since.
    pub(super) republish: BTreeSet<i64>,
}

impl PathHistory {
    pub(super) fn new(source: IpAddr) -> Self {
        Self {
            source,
            windows: Windows::default(),
            usual: Usual::default(),
            unsealed: BTreeMap::new(),
            changed: BTreeSet::new(),
            stored: BTreeSet::new(),
            republish: BTreeSet::new(),
        }
    }

    /// Takes the windows of a minute from a checkpoint.
    pub(super) fn restore(&mut self, minute: i64, content: &[u8]) -> Result<(), EvidenceError> {
        self.windows.restore(minute, content)?;
        self.stored.insert(minute);
        Ok(())
    }

    /// Adds a round to the window of its time.
    pub(super) fn add(
        &mut self,
        window: i64,
        (route, addresses): (ContentId, &[Option<IpAddr>]),
        round: &RoundCounts<'_>,
    ) {
        let route = self.windows.route(route, addresses);
        self.windows.add(window, &route, round);
        self.on_change(window);
    }

    /// Takes over a window that other windows of the path held.
    pub(super) fn insert(&mut self, window: i64, kept: Kept) {
        self.windows.insert(window, kept);
        self.on_change(window);
    }

    /// A checkpoint holds this minute in a form that cannot be read: the next one replaces it.
    pub(super) fn expect(&mut self, minute: i64) {
        self.stored.insert(minute);
        self.changed.insert(minute);
    }

    /// Takes over a window of evidence.
    pub(super) fn take_over(&mut self, window: i64, content: &Window) {
        self.windows.take_over(window, content);
        self.on_change(window);
    }

    /// Judges all windows again, in order, by what the present engine finds.
    pub(super) fn find_again(&mut self, path: PathId) -> Vec<(i64, Arc<Assessment>)> {
        let windows: Vec<i64> = self.windows.range(..).map(|(window, _)| window).collect();
        for window in self.windows.values_mut() {
            (window.found, window.flagged) = (false, false);
        }
        self.changed.extend(windows.iter().map(|window| minute_of(*window)));
        let judge = |window| Some((window, Arc::new(self.assess_in_order(path, window)?)));
        windows.into_iter().filter_map(judge).collect()
    }

    /// Judges the windows after `through` again, which alarms have not regarded yet.
    pub(super) fn restore_unsealed(&mut self, path: PathId, through: i64) {
        let unsealed = self.windows.range(through.saturating_add(1)..);
        let unsealed: Vec<i64> = unsealed.map(|(window, _)| window).collect();
        for window in unsealed {
            if let Some(assessment) = self.assess(path, window) {
                self.unsealed.insert(window, Arc::new(assessment));
            }
        }
    }

    /// The judgement of the newest window; absent without windows.
    pub(super) fn newest_assessment(&mut self, path: PathId) -> Option<Assessment> {
        self.assess(path, self.windows.newest()?)
    }

    /// Minutes that differ from the last checkpoint, absent where they have no windows any more. What
    /// they are now is the new one.
    pub(super) fn take_changes(&mut self) -> Vec<(i64, Option<Vec<u8>>)> {
        let changed = std::mem::take(&mut self.changed);
        let mut changes = Vec::with_capacity(changed.len());
        for minute in changed {
            let content = self.windows.minute_bytes(minute);
            let was_stored = match &content {
                Some(_) => !self.stored.insert(minute),
                None => self.stored.remove(&minute),
            };
            if content.is_some() || was_stored {
                changes.push((minute, content));
            }
        }
        changes
    }

    /// A window has other counts, another flag, or is gone.
    pub(super) fn on_change(&mut self, window: i64) {
        self.usual.on_change(window);
        let minute = minute_of(window);
        if self.stored.contains(&minute) || self.windows.minute(minute).next().is_some() {
            self.changed.insert(minute);
        } else {
            self.changed.remove(&minute);
        }
    }

    /// Forgets a window.
    pub(super) fn forget(&mut self, window: i64) {
        self.windows.remove(window);
        self.unsealed.remove(&window);
        self.on_change(window);
    }

    /// Judges a window by what is known now; absent where it has no rounds.
    fn assess(&mut self, path: PathId, window: i64) -> Option<Assessment> {
        let Self { source, windows, usual, .. } = self;
        locate::assess(path, *source, windows, window, usual)
    }

    /// Judges a window with the time at which its fault began, and remembers whether it has one;
    /// absent where it has no rounds.
    pub(super) fn assess_in_order(&mut self, path: PathId, window: i64) -> Option<Assessment> {
        let mut assessment = self.assess(path, window)?;
        self.enter_found(window, assessment.finding.is_some());
        if let Some(finding) = &mut assessment.finding {
            finding.onset = self.onset(window);
        }
        Some(assessment)
    }

    /// Judges the windows from one on, which are not sealed yet.
    pub(super) fn judge_from(&mut self, path: PathId, first: i64) -> Vec<(i64, Arc<Assessment>)> {
        let windows: Vec<i64> = self.windows.range(first..).map(|(index, _)| index).collect();
        let mut judge = |window| Some((window, Arc::new(self.assess_in_order(path, window)?)));
        let judged: Vec<_> = windows.into_iter().filter_map(&mut judge).collect();
        self.unsealed.extend(judged.iter().cloned());
        judged
    }

    /// Enters whether a finding was made in a window, which flags the windows near it. Windows are
    /// entered in order of time, so that each flag ends as it would have been, had everything come
    /// in order.
    fn enter_found(&mut self, window: i64, found: bool) {
        if let Some(content) = self.windows.get_mut(window)
            && std::mem::replace(&mut content.found, found) != found
        {
            self.changed.insert(minute_of(window));
        }
        let near: Vec<i64> =
            self.windows.range(window - BEFORE_FINDING..=window).map(|(index, _)| index).collect();
        for index in near {
            let around = self.windows.range(index - AFTER_FINDING..=index + BEFORE_FINDING);
            let flagged = around.into_iter().any(|(_, content)| content.found);
            let Some(content) = self.windows.get_mut(index) else { continue };
            if std::mem::replace(&mut content.flagged, flagged) != flagged {
                self.on_change(index);
            }
        }
    }

    /// When the fault found in a window began: within the minute that the first finding of the
    /// present run of findings regards.
    fn onset(&self, window: i64) -> Option<TimeInterval> {
        let run = self.windows.range(..=window).rev().take_while(|(_, content)| content.found);
        let (first, _) = run.last()?;
        Some(TimeInterval { earliest: end_of(first - locate::RECENT), latest: end_of(first) })
    }

    /// Windows so far after `now` that rounds of now would be too late for them: the clock that
    /// dated them was wrong, and has been set back.
    pub(super) fn of_a_wrong_clock(&self, now: WallTime) -> Vec<i64> {
        let last = window_of(now).saturating_add(LATE_WINDOWS);
        self.windows.range(last.saturating_add(1)..).map(|(window, _)| window).collect()
    }

    /// A window to forget when there are too many: the oldest with a finding that cannot be
    /// corrected any more, so that a long fault does not push out what was usual before it;
    /// else the oldest. Minutes that may still be corrected stay whole, and what is `needed` stays.
    pub(super) fn spare_window(&self, newest: i64, needed: Option<i64>) -> Option<i64> {
        if self.windows.len() <= KEPT_WINDOWS {
            return None;
        }
        let end = beginning_of_minute(newest - LATE_WINDOWS).min(needed.unwrap_or(i64::MAX));
        let mut settled = self.windows.range(..end);
        let flagged = settled.find(|(_, content)| content.flagged).map(|(index, _)| index);
        flagged.or_else(|| self.windows.range(..end).next().map(|(index, _)| index))
    }

    /// The evidence of a minute, by its number: absent where it has no rounds.
    pub(super) fn evidence_of(&self, minute: i64) -> Option<Vec<u8>> {
        let mut windows = self.windows.minute(minute).peekable();
        windows.peek()?;
        Some(publish(windows))
    }

    /// The minutes with rounds between two windows.
    pub(super) fn minutes(&self, windows: RangeInclusive<i64>) -> BTreeSet<i64> {
        self.windows.range(windows).map(|(window, _)| minute_of(window)).collect()
    }
}

/// Number of the minute that holds a window.
pub(super) const fn minute_of(window: i64) -> i64 {
    window.div_euclid(WINDOWS_A_MINUTE)
}

const fn beginning_of_minute(window: i64) -> i64 {
    minute_of(window).saturating_mul(WINDOWS_A_MINUTE)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::Exactness;
    use itinera_model::round::HopCounts;
    use itinera_model::route::FlowKey;
    use itinera_model::unit::Micros;

    const HOPS: u8 = 4;

    /// A round at a window: delays that differ, 30 ms more and losses behind the second hop in a fault.
    fn add(history: &mut PathHistory, window: i64, number: u64, fault: bool) {
        let us = |hop: u8| {
            let noise = number.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (40 + hop);
            let added = if fault && hop > 2 { 30_000 } else { 0 };
            Micros::new(u32::from(hop) * 2_000 + u32::try_from(noise % 400).unwrap() + added)
        };
        let hop = |hop: u8| HopCounts {
            sent: 3,
            answered: if fault && hop > 2 { 0b11 } else { 0b111 },
            rtt: vec![us(hop); if fault && hop > 2 { 2 } else { 3 }],
            ..HopCounts::default()
        };
        let hops: Vec<HopCounts> = (1..=HOPS).map(hop).collect();
        let addresses: Vec<_> = (1..=HOPS).map(|hop| Some([198, 18, 1, hop].into())).collect();
        let flow = FlowKey { source_port: 1, destination_port: 2 };
        let exactness = Exactness::default();
        let round = RoundCounts { number, flow, hops: &hops, exactness };
        history.add(window, (ContentId::of(&[1]), &addresses), &round);
    }

    #[test]
    fn what_was_learned_before_is_as_good_as_what_is_learned_again() {
        let path = PathId::from_uuid(uuid::Uuid::from_u128(1));
        let mut history = PathHistory::new([10, 0, 0, 2].into());
        let mut found = 0;
        for window in 0..420_i64 {
            let number = window.cast_unsigned();
            add(&mut history, window, number, (200..230).contains(&window));
            // Now and then a round comes late.
            if window % 7 == 3 && window > 40 {
                add(&mut history, window - 1 - window % 31, 1_000 + number, false);
            }
            found += usize::from(history.assess_in_order(path, window).unwrap().finding.is_some());
            while let Some(spare) = history.spare_window(window, None) {
                history.forget(spare);
            }
            history.windows.compact_before(window - locate::RECENT);
            let mut again = PathHistory { usual: Usual::default(), ..history.clone() };
            assert_eq!(history.assess(path, window), again.assess(path, window), "{window}");
        }
        assert!(found > 20, "{found}");
        assert_eq!(history.windows.len(), KEPT_WINDOWS);
    }
}
