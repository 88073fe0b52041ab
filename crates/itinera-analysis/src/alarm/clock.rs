//! What the clock does to alarms: their paths stop reporting, and they expire.

use super::{AlarmBook, PastAlarm, is_among};
use crate::evidence::WINDOW_US;
use crate::log_clock::LogClock;
use itinera_model::alarm::AlarmEffect;
use itinera_model::finding::Assessment;
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;

/// An alarm has no data when none of its paths has reported for so long, or for three times as long
/// as between their windows: a minute.
pub(super) const NO_DATA_US: i64 = 60_000_000;
/// Ended alarms are kept so long, for late measurements that belong to them: two hours.
const PAST_US: i64 = 7_200_000_000;
/// Ended alarms kept at most.
const MOST_PAST: usize = 256;

impl AlarmBook {
    /// A path has reported: its alarms have data again.
    pub(super) fn on_reported(&mut self, assessment: &Assessment) {
        let path = assessment.path;
        let record = self.paths.entry(path).or_default();
        if record.seen_until > WallTime::default() {
            let gap_us = assessment.until.micros_since(record.seen_until).max(0);
            // An outage is no usual gap.
            let most_us = record.gap_us.max(WINDOW_US).saturating_mul(2);
            record.gap_us = gap_us.min(most_us);
        }
        record.seen_until = record.seen_until.max(assessment.until);
        let silent = self.open.iter_mut().filter(|alarm| alarm.no_data_since.is_some());
        for alarm in silent.filter(|alarm| is_among(&alarm.showing, path)) {
            alarm.no_data_since = None;
            self.touched.insert(alarm.key);
        }
    }

    /// Goes by the clock of the log.
    pub(crate) fn on_clock(&mut self, clock: &LogClock) -> Vec<AlarmEffect> {
        let now = clock.now;
        let expire_us = i64::from(self.limits.expire_after_s).saturating_mul(1_000_000);
        let Self { open, paths, touched, .. } = self;
        let mut expired = Vec::new();
        for alarm in open {
            let reported =
                |path: &PathId| paths.get(path).map(|record| (record.seen_until, record.gap_us));
            let newest = alarm.showing.iter().filter_map(&reported).max().unwrap_or_default();
            let (newest, gap_us) = newest;
            if clock.silence_us(newest) >= expire_us {
                expired.push(alarm.key);
                continue;
            }
            // The others still report: a path that does not is no evidence any more.
            let before = alarm.showing.len();
            alarm.showing.retain(|path| {
                reported(path).is_some_and(|(seen, _)| clock.silence_us(seen) < expire_us)
            });
            let limit_us = gap_us.saturating_mul(3).clamp(NO_DATA_US, NO_DATA_US.max(expire_us));
            let falls_silent =
                alarm.no_data_since.is_none() && clock.silence_us(newest) >= limit_us;
            if falls_silent {
                alarm.no_data_since = Some(newest);
            }
            if falls_silent || alarm.showing.len() < before {
                touched.insert(alarm.key);
            }
        }
        let effects = expired.into_iter().flat_map(|key| self.clear(key, now)).collect();
        let past = &mut self.past;
        let ended = |it: &PastAlarm| it.alarm.recorded_at.unwrap_or(it.cleared_at);
        past.retain(|it| now.micros_since(ended(it).max(it.cleared_at)) < PAST_US);
        let too_many = past.len().saturating_sub(MOST_PAST);
        past.drain(..too_many);
        effects
    }
}
