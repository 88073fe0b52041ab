//! Faults that only late measurements show: an agent was cut off, and its spool came later.
//!
//! The windows are read again as alarms read them at the time: over the limit for some windows in a
//! row, until it has been calm for as long. What was not alarmed then becomes a record, raised and
//! cleared in the past.

use super::clock::NO_DATA_US;
use super::{
    AlarmBook, AlarmKey, AlarmKind, INSIST_BESIDE_WINDOWS, PastAlarm, Regarded, grade, new_alarm,
    passes, raise, regarded, severity,
};
use crate::evidence::beginning_of;
use crate::rules::{PathLimits, Ruling};
use itinera_model::alarm::{Alarm, AlarmEffect};
use itinera_model::finding::{Assessment, Finding};
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;
use std::sync::Arc;

/// Alarms of one place that are no further apart are one: three windows.
const TOUCH_US: i64 = 30_000_000;

/// A fault over several windows of one path.
struct Run<'a> {
    key: AlarmKey,
    since: WallTime,
    windows: u32,
    /// End of the window in which it had been over the limit for long enough.
    raised_at: Option<WallTime>,
    calm: u32,
    /// Windows without it after which it is over.
    clear_windows: u32,
    /// The first window with the surest finding, that finding, and the limits that it is over.
    surest: (&'a Assessment, &'a Finding, PathLimits<'a>),
    /// The highest loss and added delay.
    worst: &'a Finding,
}

/// What reading windows again gave.
#[derive(Debug, Default)]
pub struct ReadAgain {
    /// What is recorded.
    pub effects: Vec<AlarmEffect>,
    /// A fault was not over in the last window: with more windows they have to be read once more.
    pub unfinished: bool,
}

/// A run and when it was over.
struct Ended<'a> {
    run: Run<'a>,
    raised_at: WallTime,
    cleared_at: WallTime,
}

impl AlarmBook {
    /// Reads windows of a path again, of which some came in late; each has its index and its
    /// judgement, in order of time, up to the newest that alarms have regarded. Where the path
    /// reports no more, a fault is over with the last of them.
    pub fn read_again(
        &mut self,
        path: PathId,
        windows: &[(i64, Arc<Assessment>)],
        now: WallTime,
    ) -> ReadAgain {
        let ruling = self.ruling.clone();
        let (mut ended, last) = self.runs(windows, &ruling);
        let until = windows.last().map_or(now, |(_, last)| last.until);
        let reports = now.micros_since(until) < NO_DATA_US;
        // An open alarm of the same place ends by itself.
        let is_open = |run: &Run<'_>| self.open.iter().any(|alarm| alarm.key == run.key);
        let unfinished = reports && last.as_ref().is_some_and(|run| !is_open(run));
        if let Some(run) = last.filter(|_| !unfinished)
            && let Some(raised_at) = run.raised_at
        {
            ended.push(Ended { run, raised_at, cleared_at: until });
        }
        let effects = ended.iter().filter_map(|run| self.enter_late(path, run, now)).collect();
        ReadAgain { effects, unfinished }
    }

    /// The runs that are over, and one that is not.
    fn runs<'a>(
        &self,
        windows: &'a [(i64, Arc<Assessment>)],
        ruling: &'a Ruling,
    ) -> (Vec<Ended<'a>>, Option<Run<'a>>) {
        let mut ended = Vec::new();
        let mut current: Option<Run<'a>> = None;
        for (window, assessment) in windows {
            let since = beginning_of(*window);
            match regarded(ruling, &self.limits, assessment) {
                Regarded::Unsure => {}
                Regarded::Calm => {
                    let Some(mut run) = current.take() else { continue };
                    let Some(raised_at) = run.raised_at else { continue };
                    run.calm += 1;
                    if run.calm < run.clear_windows {
                        current = Some(run);
                    } else {
                        ended.push(Ended { run, raised_at, cleared_at: assessment.until });
                    }
                }
                Regarded::Over(finding, by) => {
                    let (kind, cause, place) =
                        (AlarmKind::LimitHeldOver, finding.cause, finding.place);
                    let key = AlarmKey { kind, cause, place };
                    let before = current.take();
                    let mut run = match before {
                        Some(run) if run.key == key => run,
                        other => {
                            // Another place is named: what was before it is over here.
                            if let Some(run) = other
                                && let Some(raised_at) = run.raised_at
                            {
                                ended.push(Ended { run, raised_at, cleared_at: assessment.until });
                            }
                            Run {
                                key,
                                since,
                                windows: 0,
                                raised_at: None,
                                calm: 0,
                                clear_windows: by.limits.clear_windows,
                                surest: (assessment, finding, by),
                                worst: finding,
                            }
                        }
                    };
                    run.windows += 1;
                    run.calm = 0;
                    run.clear_windows = by.limits.clear_windows;
                    if run.windows >= by.limits.hold_windows {
                        run.raised_at.get_or_insert(assessment.until);
                    }
                    if finding.confidence_ppm > run.surest.1.confidence_ppm {
                        run.surest = (assessment, finding, by);
                    }
                    let size = |it: &Finding| (it.loss_ppm, it.added_delay_us);
                    if size(finding) > size(run.worst) {
                        run.worst = finding;
                    }
                    current = Some(run);
                }
            }
        }
        (ended, current)
    }

    /// Enters a run of a path: into the alarm that it belongs to, or as a record of its own.
    fn enter_late(&mut self, path: PathId, it: &Ended<'_>, now: WallTime) -> Option<AlarmEffect> {
        let Ended { run, raised_at, cleared_at } = it;
        let touches = |alarm: &Alarm, end: Option<WallTime>| {
            cleared_at.micros_since(alarm.since) >= -TOUCH_US
                && end.is_none_or(|end| end.micros_since(run.since) >= -TOUCH_US)
        };
        if let Some(alarm) =
            self.open.iter_mut().find(|alarm| alarm.key == run.key && touches(alarm, None))
        {
            if widen(alarm, path, run) {
                self.touched.insert(run.key);
            }
            return None;
        }
        let known = self.past.iter_mut();
        let mut known = known.filter(|known| known.alarm.key == run.key);
        if let Some(known) = known.find(|known| touches(&known.alarm, Some(known.cleared_at))) {
            let end = known.cleared_at.max(*cleared_at);
            let longer = std::mem::replace(&mut known.cleared_at, end) < end;
            let (alarm, cleared_at) = (&mut known.alarm, known.cleared_at);
            return (widen(alarm, path, run) || longer)
                .then(|| AlarmEffect::Corrected { alarm: alarm.clone(), cleared_at });
        }
        let open = self.open.iter().map(|alarm| (alarm, None));
        let past = self.past.iter().map(|past| (&past.alarm, Some(past.cleared_at)));
        let explained = open.chain(past).any(|(alarm, end)| {
            let beside = alarm.key.cause == run.key.cause
                && passes(run.surest.0, &alarm.key.place)
                && run.windows < INSIST_BESIDE_WINDOWS;
            touches(alarm, end) && (alarm.paths.contains(&path) || beside)
        });
        if explained {
            return None;
        }
        let (_, surest, limits) = run.surest;
        let since = (run.since, *raised_at);
        let mut alarm = new_alarm(run.key, (surest, limits), path, since, &self.ruling);
        alarm.worst_loss_ppm = run.worst.loss_ppm;
        alarm.worst_added_delay_us = run.worst.added_delay_us;
        raise(&mut alarm, severity(run.worst));
        grade(&mut alarm, &self.ruling);
        alarm.recorded_at = Some(now);
        alarm.showing.clear();
        self.past.push(PastAlarm { alarm: alarm.clone(), cleared_at: *cleared_at });
        Some(AlarmEffect::Recorded { alarm, cleared_at: *cleared_at })
    }
}

/// Adds a path's run to an alarm of the same place; true when that changed anything.
fn widen(alarm: &mut Alarm, path: PathId, run: &Run<'_>) -> bool {
    let before = alarm.clone();
    alarm.since = alarm.since.min(run.since);
    if !alarm.paths.contains(&path) {
        alarm.paths.push(path);
        alarm.paths.sort_unstable();
    }
    alarm.worst_loss_ppm = alarm.worst_loss_ppm.max(run.worst.loss_ppm);
    alarm.worst_added_delay_us = alarm.worst_added_delay_us.max(run.worst.added_delay_us);
    *alarm != before
}
