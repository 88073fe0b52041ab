//! The agent's clocks, and its estimate of how far its wall clock is off the service's.

use itinera_model::id::BootId;
use itinera_model::round::Clocks;
use itinera_model::unit::{Tick, WallTime};
use std::sync::Mutex;
use std::time::{Instant, SystemTime, UNIX_EPOCH};

/// An estimate older than this gives way to a fresher, less exact one.
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
    offset: Mutex<Option<Offset>>,
}

/// The wall clock, whatever it says.
pub(crate) fn wall_now() -> WallTime {
    let us = match SystemTime::now().duration_since(UNIX_EPOCH) {
        Ok(after) => i64::try_from(after.as_micros()).unwrap_or(i64::MAX),
        Err(before) => -i64::try_from(before.duration().as_micros()).unwrap_or(i64::MAX),
    };
    WallTime::from_unix_micros(us)
}

impl AgentClock {
    pub(crate) fn new(boot: BootId) -> Self {
        Self { boot, start: Instant::now(), offset: Mutex::new(None) }
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

    /// The clocks as they were at an earlier tick of this run.
    pub(crate) fn clocks_at(&self, tick: Tick) -> Clocks {
        let ago = i64::from(self.now().since(tick).as_micros());
        let offset = self.estimate();
        Clocks {
            boot: self.boot,
            tick,
            wall: wall_now().plus_micros(-ago),
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
