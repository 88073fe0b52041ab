//! Waiting exactly: the runtime's own timers round to milliseconds, the kernel's do not.

use crate::sys;
use rustix::time::{
    Itimerspec, TimerfdClockId, TimerfdFlags, TimerfdTimerFlags, Timespec, timerfd_create,
    timerfd_settime,
};
use std::io;
use std::os::fd::OwnedFd;
use std::time::{Duration, Instant};
use tokio::io::unix::AsyncFd;

/// A timer of the kernel (timerfd_create(2)).
#[derive(Debug)]
pub(crate) struct PreciseTimer(AsyncFd<OwnedFd>);

impl PreciseTimer {
    /// # Errors
    /// The kernel's word.
    pub(crate) fn new() -> io::Result<Self> {
        let flags = TimerfdFlags::NONBLOCK | TimerfdFlags::CLOEXEC;
        Ok(Self(sys::watched_fd(timerfd_create(TimerfdClockId::Monotonic, flags)?)?))
    }

    /// Ready when the instant has come.
    ///
    /// # Cancel safety
    /// Safe: the next call sets the timer again.
    pub(crate) async fn until(&self, instant: Instant) {
        // Zero would switch the timer off.
        let left = instant.saturating_duration_since(Instant::now()).max(Duration::from_nanos(1));
        let never = Timespec { tv_sec: 0, tv_nsec: 0 };
        let in_time = Timespec {
            tv_sec: i64::try_from(left.as_secs()).unwrap_or(i64::MAX),
            tv_nsec: i64::from(left.subsec_nanos()),
        };
        let once = Itimerspec { it_interval: never, it_value: in_time };
        if timerfd_settime(self.0.get_ref(), TimerfdTimerFlags::empty(), &once).is_err() {
            tokio::time::sleep(left).await;
            return;
        }
        loop {
            let Ok(mut ready) = self.0.readable().await else {
                return;
            };
            // An earlier setting may have left it ready.
            ready.clear_ready();
            if Instant::now() >= instant {
                return;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn it_is_never_early_and_can_be_set_again() {
        let timer = PreciseTimer::new().unwrap();
        for micros in [0, 300, 2_000, 50] {
            let until = Instant::now() + Duration::from_micros(micros);
            timer.until(until).await;
            assert!(Instant::now() >= until);
        }
        // Given up before its time, then set for earlier.
        let far = timer.until(Instant::now() + Duration::from_secs(60));
        assert!(tokio::time::timeout(Duration::from_millis(5), far).await.is_err());
        timer.until(Instant::now() + Duration::from_millis(1)).await;
    }
}
