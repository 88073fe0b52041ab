//! Runs the tasks of the service. A task that ends or panics is started again.

use crate::context::Shared;
use crate::duty::{Duties, Duty};
use itinera_store::StoreError;
use std::any::Any;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use tokio::task::{JoinHandle, JoinSet};

/// Waits before a task that ended is started again: the first, doubled each time, and the longest.
const FIRST_WAIT: Duration = Duration::from_millis(500);
const LONGEST_WAIT: Duration = Duration::from_secs(60);
/// A task that ran this long had started well: the next wait is the first again.
const RAN_WELL: Duration = Duration::from_secs(60);

fn words_of(panic: &(dyn Any + Send)) -> &str {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no message")
}

/// Runs a task for as long as the service does. When it ends or panics, that is logged and counted,
/// and it is started again after a wait. Aborting the handle aborts the task.
pub(crate) fn supervise<W, F>(shared: &Arc<Shared>, duty: Duty, work: W) -> JoinHandle<()>
where
    W: Fn(Arc<Shared>) -> F + Send + Sync + 'static,
    F: Future<Output = ()> + Send + 'static,
{
    let shared = Arc::clone(shared);
    shared.duties.done(duty);
    tokio::spawn(async move {
        let stop = shared.stop.subscribe();
        let begin = || work(Arc::clone(&shared));
        keep_running(duty, &shared.duties, &stop, begin).await;
    })
}

async fn keep_running<F: Future<Output = ()> + Send + 'static>(
    duty: Duty,
    duties: &Duties,
    stop: &watch::Receiver<bool>,
    begin: impl Fn() -> F,
) {
    let mut wait = FIRST_WAIT;
    loop {
        let begun = Instant::now();
        // A set aborts what is in it when it is dropped.
        let mut task = JoinSet::new();
        task.spawn(begin());
        let ended = task.join_next().await;
        if *stop.borrow() {
            return;
        }
        match ended {
            Some(Err(error)) if error.is_panic() => {
                let panic = error.into_panic();
                tracing::error!(%duty, "panicked: {}", words_of(panic.as_ref()));
            }
            _ => tracing::error!(%duty, "ended by itself"),
        }
        duties.restarted(duty);
        if begun.elapsed() > RAN_WELL {
            wait = FIRST_WAIT;
        }
        tokio::time::sleep(wait).await;
        wait = (wait * 2).min(LONGEST_WAIT);
    }
}

/// Does something again and again, with a pause after each time, and reports how it went.
pub(crate) fn every<W, F, E>(
    shared: &Arc<Shared>,
    duty: Duty,
    pause: Duration,
    work: W,
) -> JoinHandle<()>
where
    W: Fn(Arc<Shared>) -> F + Clone + Send + Sync + 'static,
    F: Future<Output = Result<(), E>> + Send + 'static,
    E: std::error::Error + Send + 'static,
{
    supervise(shared, duty, move |shared| {
        let work = work.clone();
        async move {
            loop {
                tokio::time::sleep(pause).await;
                match work(Arc::clone(&shared)).await {
                    Ok(()) => shared.duties.done(duty),
                    Err(error) => shared.duties.failed(duty, &error),
                }
            }
        }
    })
}

/// How long a leased job may take. Its lease lasts longer, so no other process begins meanwhile.
const JOB: Duration = Duration::from_secs(45);
const LEASE_AFTER_PAUSE: Duration = Duration::from_secs(60);

/// Like [`every`], for a job that one process does for all processes: the holder of the job's lease.
pub(crate) fn every_leased<W, F, E>(
    shared: &Arc<Shared>,
    duty: Duty,
    pause: Duration,
    work: W,
) -> JoinHandle<()>
where
    W: Fn(Arc<Shared>) -> F + Clone + Send + Sync + 'static,
    F: Future<Output = Result<(), E>> + Send + 'static,
    E: std::error::Error + Send + 'static,
{
    every(shared, duty, pause, move |shared: Arc<Shared>| {
        let work = work.clone();
        async move {
            let lasts = pause + LEASE_AFTER_PAUSE;
            let taken = shared.store.take_lease(duty.word(), shared.process, lasts).await;
            if !taken.map_err(JobError::Lease)? {
                shared.duties.stands_by(duty);
                return Ok(());
            }
            shared.duties.leads(duty);
            let done = tokio::time::timeout(JOB, work(shared)).await;
            done.map_err(|_| JobError::TooLong)?.map_err(JobError::Work)
        }
    })
}

/// Why a leased job is not done.
#[derive(Debug, thiserror::Error)]
enum JobError<E: std::error::Error> {
    #[error("its lease cannot be taken")]
    Lease(#[source] StoreError),
    #[error("it takes longer than {} s", JOB.as_secs())]
    TooLong,
    #[error(transparent)]
    Work(E),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_task_that_panics_or_ends_begins_again_until_the_service_stops() {
        let duties = Arc::new(Duties::default());
        let (stop, stopping) = watch::channel(false);
        let stop = Arc::new(stop);
        let begun = Arc::new(std::sync::atomic::AtomicU32::new(0));
        let begin = || {
            let (begun, duties, stop) =
                (Arc::clone(&begun), Arc::clone(&duties), Arc::clone(&stop));
            async move {
                match begun.fetch_add(1, std::sync::atomic::Ordering::Relaxed) {
                    0 => panic!("once"),
                    1 => {}
                    _ => {
                        assert_eq!(duties.not_done(Instant::now()), [Duty::Watches]);
                        duties.done(Duty::Watches);
                        stop.send_replace(true);
                    }
                }
            }
        };
        keep_running(Duty::Watches, &duties, &stopping, begin).await;
        assert_eq!(duties.restarts(), [(Duty::Watches, 2)]);
        assert_eq!(duties.not_done(Instant::now()), []);
    }
}
