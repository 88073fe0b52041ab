//! How late the program is: timers served after they were due, packets read after they arrived.
//!
//! A machine that is busy with other work makes its own agent late. What is measured meanwhile
//! says less about the network, and every round carries how much less.

use itinera_model::host_facts::HostLateness;
use itinera_model::quantile::median;
use itinera_model::round::Lateness;
use itinera_model::unit::Tick;
use std::collections::VecDeque;

/// The length of time for which one maximum is kept.
const SLOT_NANOS: u64 = 100_000_000;
/// Maxima kept: rounds last less than this.
const SLOTS: usize = 300;
/// Classes of lateness for quantiles: four in each doubling, up to 2^32 microseconds.
const CLASSES: usize = 128;

/// Recent lateness of one program. Ticks are those of the agent's clock.
#[derive(Debug)]
pub(crate) struct LatenessLog {
    /// Number of the slot, and the maxima in it; the newest last.
    slots: VecDeque<(u64, Lateness)>,
    /// Timers and packets by class, since the last report.
    classes: [u64; CLASSES],
}

impl Default for LatenessLog {
    fn default() -> Self {
        Self { slots: VecDeque::new(), classes: [0; CLASSES] }
    }
}

/// The class of a lateness, and the largest lateness of a class.
fn class_of(us: u32) -> usize {
    let us = u64::from(us) + 1;
    let doubling = us.ilog2();
    let quarter = (us << 2 >> doubling) & 3;
    (doubling as usize * 4 + quarter as usize).min(CLASSES - 1)
}

fn largest_of(class: usize) -> u32 {
    let (doubling, quarter) = (class / 4, class % 4);
    // The first that is one larger than any of the class, where classes count from 1.
    let end = ((5 + quarter as u64) << doubling).div_ceil(4);
    u32::try_from(end.saturating_sub(2)).unwrap_or(u32::MAX)
}

impl LatenessLog {
    /// A timer that was due at `due` is served at `now`.
    pub(crate) fn on_timer(&mut self, due: Tick, now: Tick) {
        let timer_us = now.since(due).as_micros();
        self.enter(now, Lateness { timer_us, ..Lateness::default() });
    }

    /// A packet that carries the stamp `stamp` is read at `now`; a simulated link delivered it
    /// `link_us` after its stamp.
    pub(crate) fn on_read(&mut self, stamp: Tick, link_us: u32, now: Tick) {
        let read_us = now.since(stamp).as_micros().saturating_sub(link_us);
        self.enter(now, Lateness { read_us, link_us, ..Lateness::default() });
    }

    fn enter(&mut self, now: Tick, lateness: Lateness) {
        self.classes[class_of(lateness.worst_us())] += 1;
        let slot = now.as_nanos() / SLOT_NANOS;
        match self.slots.back_mut() {
            Some((newest, worst)) if *newest >= slot => *worst = worst.max(lateness),
            _ => {
                self.slots.push_back((slot, lateness));
                if self.slots.len() > SLOTS {
                    self.slots.pop_front();
                }
            }
        }
    }

    /// The worst of each kind from `since` until now.
    pub(crate) fn since(&self, since: Tick) -> Lateness {
        let first = since.as_nanos() / SLOT_NANOS;
        let slots = self.slots.iter().rev().take_while(|(slot, _)| *slot >= first);
        slots.fold(Lateness::default(), |worst, (_, lateness)| worst.max(*lateness))
    }

    /// The median of the worst of each tenth of a second from `since` until now, in microseconds;
    /// none where nothing was served or read.
    pub(crate) fn usual_us_since(&self, since: Tick) -> Option<u32> {
        let first = since.as_nanos() / SLOT_NANOS;
        let slots = self.slots.iter().rev().take_while(|(slot, _)| *slot >= first);
        median(slots.map(|(_, lateness)| lateness.worst_us()))
    }

    /// The 95th percentile and the number of timers and packets since the last report; none
    /// without any.
    pub(crate) fn report(&mut self) -> Option<HostLateness> {
        let classes = std::mem::replace(&mut self.classes, [0; CLASSES]);
        let all: u64 = classes.iter().sum();
        let mut seen = 0;
        let class = classes.iter().position(|count| {
            seen += count;
            all > 0 && seen * 20 >= all * 19
        })?;
        Some(HostLateness { p95_us: largest_of(class), count: all })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ms(ms: u64) -> Tick {
        Tick::from_millis(ms)
    }

    #[test]
    fn a_round_carries_the_worst_lateness_of_its_time() {
        let mut log = LatenessLog::default();
        log.on_timer(ms(1_000), ms(1_090));
        log.on_read(ms(5_000), 0, ms(5_020));
        log.on_read(ms(5_300), 30_000, ms(5_340));
        let worst = log.since(ms(4_900));
        assert_eq!((worst.timer_us, worst.read_us, worst.link_us), (0, 20_000, 30_000));
        assert_eq!(log.since(ms(0)).timer_us, 90_000);
        assert_eq!(log.since(ms(6_000)), Lateness::default());
        assert_eq!(log.usual_us_since(ms(6_000)), None);
        log.on_timer(ms(5_500), ms(5_501));
        assert_eq!(log.usual_us_since(ms(5_000)), Some(20_000), "of 20, 40 and 1 ms");
    }

    #[test]
    fn the_report_is_a_quantile_within_a_quarter_and_begins_again() {
        let mut log = LatenessLog::default();
        for count in 0..100 {
            let late = if count < 90 { 0 } else { 18 };
            log.on_timer(ms(count * 10), ms(count * 10 + late));
        }
        let report = log.report().unwrap();
        assert_eq!(report.count, 100);
        assert!((18_000..=22_500).contains(&report.p95_us), "{report:?}");
        assert_eq!(log.report(), None);
    }

    #[test]
    fn classes_hold_what_they_say() {
        for us in (0..10_000).chain([1 << 20, (1 << 25) + 7, u32::MAX - 1]) {
            let class = class_of(us);
            assert!(largest_of(class) >= us, "{us}");
            assert!(us < 8 || largest_of(class - 1) < us, "{us}");
        }
    }

    #[test]
    fn a_long_run_keeps_a_bounded_number_of_maxima() {
        let mut log = LatenessLog::default();
        for second in 0..1_000u64 {
            log.on_timer(ms(second * 1_000), ms(second * 1_000 + 1));
        }
        assert!(log.slots.len() <= SLOTS);
    }
}
