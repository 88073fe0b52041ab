//! The agent's clocks, and its estimate of how far its wall clock is off the service's.

use crate::lateness::LatenessLog;
use itinera_model::host_facts::HostLateness;
use itinera_model::id::BootId;
use itinera_model::round::{Clocks, Lateness};
use itinera_model::unit::{Tick, WallTime};
use itinera_probe::two_way::OwnClock;
use std::sync::Mutex;
use std::time::{Instant, SystemTime, UNIX_EPOCH};

/// An estimate older than this is replaced by a fresher, less exact one.
const STALE_US: i64 = 120_000_000;

#[derive(Debug, Clone, Copy)]
struct Offset {
    us: i64,
    error_us: u32,
    at: WallTime,
}

/// One run's clocks.
#[derive(Debug)]
pub(crate) struct AgentClock {
    boot: BootId,
    start: Instant,
    error: ClockError,
    offset: Mutex<Option<Offset>>,
    /// How late the program has been.
    lateness: Mutex<LatenessLog>,
}

/// What a simulated machine's clock is off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ClockError {
    /// Ahead of the true time at the start, in microseconds.
    pub offset_us: i64,
    /// Faster than it, in parts per thousand million.
    pub drift_ppb: i32,
}

/// Two readings of clocks that take less than this were not interrupted, and how often others are
/// tried again.
const BOTH_NANOS: u64 = 20_000;
const BOTH_TRIES: usize = 8;
/// A kernel stamp further back than this tells of a clock that was set, not of a slow program.
const BELIEVED_NANOS: u64 = 2_000_000_000;

fn unix_nanos_now() -> i128 {
    let nanos = |span: std::time::Duration| i128::try_from(span.as_nanos()).unwrap_or(i128::MAX);
    match SystemTime::now().duration_since(UNIX_EPOCH) {
        Ok(after) => nanos(after),
        Err(before) => -nanos(before.duration()),
    }
}

/// The machine's wall clock, whatever it says.
pub(crate) fn machine_now() -> WallTime {
    let us = match SystemTime::now().duration_since(UNIX_EPOCH) {
        Ok(after) => i64::try_from(after.as_micros()).unwrap_or(i64::MAX),
        Err(before) => -i64::try_from(before.duration().as_micros()).unwrap_or(i64::MAX),
    };
    WallTime::from_unix_micros(us)
}

impl AgentClock {
    pub(crate) fn new(boot: BootId) -> Self {
        Self::with_error(boot, ClockError::default())
    }

    /// The same, off the machine's clock as a simulated machine's is.
    pub(crate) fn with_error(boot: BootId, error: ClockError) -> Self {
        Self {
            boot,
            start: Instant::now(),
            error,
            offset: Mutex::new(None),
            lateness: Mutex::default(),
        }
    }

    /// The wall clock, whatever it says.
    pub(crate) fn wall_now(&self) -> WallTime {
        machine_now().plus_micros(self.error_us_at(self.now()))
    }

    fn error_us_at(&self, tick: Tick) -> i64 {
        let run_us = i64::try_from(tick.as_nanos() / 1_000).unwrap_or(i64::MAX);
        let drift = i128::from(run_us) * i128::from(self.error.drift_ppb) / 1_000_000_000;
        self.error.offset_us.saturating_add(i64::try_from(drift).unwrap_or(0))
    }

    /// The service's clock now, as well as it is known.
    pub(crate) fn service_now(&self) -> WallTime {
        self.wall_now().plus_micros(self.estimate().map_or(0, |offset| offset.us))
    }

    /// The machine's wall clock at tick zero, had it not been set since.
    fn unix_nanos_at_zero(&self) -> i128 {
        self.unix_nanos_of(Tick::ZERO)
    }

    /// The clock for stamps that other agents see: the wall clock, but never set back or forth
    /// while this run lasts.
    pub(crate) fn for_stamps(&self) -> OwnClock {
        let at_zero = self.unix_nanos_at_zero() + i128::from(self.error.offset_us) * 1_000;
        OwnClock {
            unix_nanos_at_zero: i64::try_from(at_zero).unwrap_or(0),
            drift_ppb: self.error.drift_ppb,
        }
    }

    /// How far the clock of stamps may be off UTC, in microseconds, where the kernel says that
    /// it is synchronised and has not been set since.
    pub(crate) fn synchronised_us(&self, stamps: OwnClock) -> Option<u32> {
        if self.error != ClockError::default() {
            return None;
        }
        let error_us = crate::sys::clock_error_us()?;
        let moved = self.unix_nanos_at_zero() - i128::from(stamps.unix_nanos_at_zero);
        let moved_us = u32::try_from(moved.unsigned_abs() / 1_000).ok()?;
        (moved_us <= error_us).then_some(error_us.saturating_add(moved_us))
    }

    pub(crate) const fn boot(&self) -> BootId {
        self.boot
    }

    /// Monotonic time since this run began.
    pub(crate) fn now(&self) -> Tick {
        Tick::from_nanos(u64::try_from(self.start.elapsed().as_nanos()).unwrap_or(u64::MAX))
    }

    /// The instant at which `tick` is reached.
    pub(crate) fn instant(&self, tick: Tick) -> Instant {
        self.start + std::time::Duration::from_nanos(tick.as_nanos())
    }

    /// The tick of a stamp of the kernel's wall clock; absent when that clock was set meanwhile,
    /// so that nothing can be said.
    pub(crate) fn tick_of(&self, unix_nanos: i128) -> Option<Tick> {
        let (now, wall) = self.both_now();
        let ago = u64::try_from(wall - unix_nanos).ok()?;
        (ago < BELIEVED_NANOS).then(|| Tick::from_nanos(now.as_nanos().saturating_sub(ago)))
    }

    /// The service's clock at tick zero in microseconds since 1970, as well as it is known.
    pub(crate) fn service_us_at_zero(&self) -> i64 {
        let run_us = i64::try_from(self.now().as_nanos() / 1_000).unwrap_or(i64::MAX);
        let offset_us = self.estimate().map_or(0, |offset| offset.us);
        self.wall_now().as_unix_micros().saturating_sub(run_us).saturating_add(offset_us)
    }

    /// Both clocks at one moment: the program may be interrupted between two readings, and the
    /// reading that was interrupted least counts.
    pub(crate) fn both_now(&self) -> (Tick, i128) {
        let mut best = (u64::MAX, Tick::ZERO, 0);
        for _ in 0..BOTH_TRIES {
            let (before, wall, after) = (self.now(), unix_nanos_now(), self.now());
            let took = after.as_nanos() - before.as_nanos();
            if took < best.0 {
                best = (took, before.plus_nanos(took / 2), wall);
            }
            if took < BOTH_NANOS {
                break;
            }
        }
        (best.1, best.2)
    }

    /// A timer that was due is served now.
    pub(crate) fn on_timer(&self, due: Tick) {
        if let Ok(mut lateness) = self.lateness.lock() {
            lateness.on_timer(due, self.now());
        }
    }

    /// A packet with this stamp is read now; a simulated link delivered it so much after that.
    pub(crate) fn on_read(&self, stamp: Tick, link_us: u32) {
        if let Ok(mut lateness) = self.lateness.lock() {
            lateness.on_read(stamp, link_us, self.now());
        }
    }

    /// How late the program has been since an earlier tick.
    pub(crate) fn lateness_since(&self, since: Tick) -> Lateness {
        self.lateness.lock().map(|lateness| lateness.since(since)).unwrap_or_default()
    }

    /// How late the program has been as a rule since an earlier tick, in microseconds.
    pub(crate) fn usually_late_us_since(&self, since: Tick) -> Option<u32> {
        self.lateness.lock().ok()?.usual_us_since(since)
    }

    /// How late the program has been since the last report.
    pub(crate) fn lateness_report(&self) -> Option<HostLateness> {
        self.lateness.lock().ok()?.report()
    }

    /// The wall clock at a tick of this run, as it would be had it not been set since.
    pub(crate) fn unix_nanos_of(&self, tick: Tick) -> i128 {
        let (now, wall) = self.both_now();
        wall - i128::from(now.as_nanos()) + i128::from(tick.as_nanos())
    }

    /// The clocks as they were at an earlier tick of this run.
    pub(crate) fn clocks_at(&self, tick: Tick) -> Clocks {
        let ago = i64::from(self.now().since(tick).as_micros());
        let offset = self.estimate();
        Clocks {
            boot: self.boot,
            tick,
            wall: self.wall_now().plus_micros(-ago),
            offset_us: offset.map(|offset| offset.us),
            offset_error_us: offset.map(|offset| offset.error_us),
        }
    }

    /// Regards one exchange: sent and answered by our wall clock, received by the service's.
    ///
    /// Source: F. Cristian, Probabilistic clock synchronization, Distributed Computing 3
    /// (1989): the service's stamp lies within the exchange, so half its length bounds the
    /// error.
    pub(crate) fn on_exchange(&self, sent: WallTime, received: WallTime, answered: WallTime) {
        let length = answered.micros_since(sent);
        // A negative length means that our clock was set meanwhile: nothing can be said.
        let Ok(error_us) = u32::try_from(length / 2) else {
            return;
        };
        let us = received.micros_since(sent.plus_micros(length / 2));
        let Ok(mut known) = self.offset.lock() else {
            return;
        };
        let better = known.is_none_or(|known| {
            let moved = (us - known.us).unsigned_abs();
            let explained = u64::from(known.error_us) + u64::from(error_us);
            error_us <= known.error_us
                || sent.micros_since(known.at) > STALE_US
                || moved > explained
        });
        if better {
            *known = Some(Offset { us, error_us, at: sent });
        }
    }

    /// Service clock minus this machine's in microseconds, once that is known.
    pub(crate) fn offset_us(&self) -> Option<i64> {
        self.estimate().map(|offset| offset.us)
    }

    fn estimate(&self) -> Option<Offset> {
        self.offset.lock().ok().and_then(|offset| *offset)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use uuid::Uuid;

    fn at(ms: i64) -> WallTime {
        WallTime::from_unix_micros(ms * 1_000)
    }

    #[test]
    fn the_most_exact_exchange_is_kept_until_it_is_contradicted_or_stale() {
        let clock = AgentClock::new(BootId::from_uuid(Uuid::nil()));
        let offset =
            |clock: &AgentClock| clock.estimate().map(|o| (o.us / 1_000, o.error_us / 1_000));
        clock.on_exchange(at(0), at(60), at(20));
        assert_eq!(offset(&clock), Some((50, 10)));
        clock.on_exchange(at(100), at(180), at(200));
        assert_eq!(offset(&clock), Some((50, 10)), "less exact and in agreement");
        clock.on_exchange(at(1_000), at(1_052), at(1_004));
        assert_eq!(offset(&clock), Some((50, 2)));
        clock.on_exchange(at(2_000), at(5_000), at(2_100));
        assert_eq!(offset(&clock), Some((2_950, 50)), "a clock was set: contradiction");
        clock.on_exchange(at(3_000), at(9_000), at(2_000));
        assert_eq!(offset(&clock), Some((2_950, 50)), "set back during the exchange");
    }
}
