//! Batches: gathered, put on disk, uploaded newest first.
//!
//! One thread does all that waits for the disk, so that the prober's stamps wait for none of it.

use crate::clock::AgentClock;
use crate::exchange::{Exchange, ExchangeError};
use crate::spool::{Spool, SpoolError};
use crate::wait::Wait;
use itinera_model::batch::Batch;
use itinera_model::codec::encode;
use std::io;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::time::Duration;
use tokio::sync::{Notify, oneshot};

/// How long nothing may be in the spool until it is looked into again.
const LOOK: Duration = Duration::from_secs(15);
/// A clock that is off by more than this is reported.
const OFF_US: i64 = 5_000_000;

/// The spool, which one thread writes and others read.
pub(crate) type SharedSpool = Arc<Mutex<Spool>>;

fn locked(spool: &Mutex<Spool>) -> std::sync::MutexGuard<'_, Spool> {
    spool.lock().unwrap_or_else(PoisonError::into_inner)
}

enum Job {
    /// So many rounds are gathered for this batch.
    Gathering { boot: String, seq: u64, rounds: usize },
    /// Puts a batch on disk and says when that is done.
    Put(Box<Batch>, oneshot::Sender<()>),
}

/// The thread that writes the spool. It ends with its last handle.
pub(crate) struct SpoolWriter(mpsc::Sender<Job>);

impl SpoolWriter {
    /// Starts the thread.
    ///
    /// # Errors
    /// The kernel's word when there can be no thread.
    pub(crate) fn start(spool: SharedSpool) -> io::Result<Self> {
        let (jobs, inbox) = mpsc::channel();
        let thread = std::thread::Builder::new().name("spool".to_owned());
        thread.spawn(move || write(&spool, &inbox))?;
        Ok(Self(jobs))
    }

    /// Notes how many rounds are gathered; waits for nothing.
    pub(crate) fn note_gathering(&self, boot: &str, seq: u64, rounds: usize) {
        let job = Job::Gathering { boot: boot.to_owned(), seq, rounds };
        // Where the thread has ended, putting the batch will say so.
        let _ended = self.0.send(job);
    }

    /// Puts a batch on disk.
    ///
    /// # Errors
    /// `BrokenPipe` when the thread has ended.
    ///
    /// # Cancel safety
    /// The batch is put on disk all the same.
    pub(crate) async fn put(&self, batch: Batch) -> io::Result<()> {
        let (done, is_done) = oneshot::channel();
        let ended = || io::Error::from(io::ErrorKind::BrokenPipe);
        self.0.send(Job::Put(Box::new(batch), done)).map_err(|_| ended())?;
        is_done.await.map_err(|_| ended())
    }
}

fn write(spool: &Mutex<Spool>, inbox: &mpsc::Receiver<Job>) {
    let mut next = inbox.recv().ok();
    while let Some(job) = next {
        let later = inbox.try_recv().ok();
        match job {
            // Only the newest count of many matters.
            Job::Gathering { .. } if later.is_some() => {}
            Job::Gathering { boot, seq, rounds } => {
                locked(spool).note_gathering(&boot, seq, rounds);
            }
            Job::Put(batch, done) => {
                put(spool, *batch);
                let _nobody_waits = done.send(());
            }
        }
        next = later.or_else(|| inbox.recv().ok());
    }
}

/// Puts a batch on disk; where the disk is full its rounds are lost, and the next batch says
/// how many.
fn put(spool: &Mutex<Spool>, mut batch: Batch) {
    let mut spool = locked(spool);
    batch.dropped_rounds = spool.dropped_rounds();
    let octets = compressed(&encode(&batch));
    let rounds = batch.len();
    if let Err(error) = spool.put(&batch.boot.to_string(), batch.seq, rounds, &octets) {
        tracing::error!(%error, rounds, "rounds are lost");
        spool.count_dropped(rounds as u64);
    }
}

fn compressed(octets: &[u8]) -> Vec<u8> {
    #[allow(clippy::expect_used, reason = "compressing memory into memory cannot fail")]
    zstd::encode_all(octets, 3).expect("compressing in memory")
}

/// Does something with the spool on a thread that may wait for the disk.
async fn on_disk<T: Send + 'static>(
    spool: &SharedSpool,
    work: impl FnOnce(&mut Spool) -> Result<T, SpoolError> + Send + 'static,
) -> Option<T> {
    let spool = Arc::clone(spool);
    let done = tokio::task::spawn_blocking(move || work(&mut locked(&spool))).await;
    match done {
        Ok(Ok(done)) => Some(done),
        Ok(Err(error)) => {
            tracing::error!(%error, "the spool fails");
            None
        }
        Err(error) => {
            tracing::error!(%error, "the spool's work has panicked");
            None
        }
    }
}

/// Waits until nothing is left to upload.
pub(crate) async fn drained(spool: &SharedSpool) {
    let count = |spool: &mut Spool| spool.newest_first().map(|files| files.len());
    while on_disk(spool, count).await.is_some_and(|left| left > 0) {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// The newest batch and its content; absent when there is none. A batch that cannot be read is put
/// aside, so that it does not keep the others.
async fn newest(spool: &SharedSpool) -> Option<(PathBuf, Vec<u8>)> {
    let read = |spool: &mut Spool| -> Result<_, SpoolError> {
        for file in spool.newest_first()? {
            match std::fs::read(&file) {
                Ok(octets) => return Ok(Some((file, octets))),
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => {
                    tracing::error!(%error, file = %file.display(), "batch unreadable, put aside");
                    spool.put_aside(&file)?;
                }
            }
        }
        Ok(None)
    };
    on_disk(spool, read).await.flatten()
}

/// Uploads what lies in the spool, newest first, for ever.
pub(crate) async fn upload(
    exchange: Exchange,
    spool: SharedSpool,
    clock: Arc<AgentClock>,
    fresh: Arc<Notify>,
) {
    let mut wait = Wait::default();
    let mut told_us = 0;
    loop {
        let Some((file, octets)) = newest(&spool).await else {
            // A missed notice costs at most this wait, and so does a spool that fails.
            let _notice = tokio::time::timeout(LOOK, fresh.notified()).await;
            continue;
        };
        let sent = clock.wall_now();
        match exchange.upload(octets).await {
            Ok(receipt) => {
                wait = Wait::default();
                clock.on_exchange(sent, receipt.received_at, clock.wall_now());
                tell_offset(&clock, &mut told_us);
                if receipt.refused_rounds > 0 {
                    tracing::warn!(
                        rounds = receipt.refused_rounds,
                        "rounds refused by the service"
                    );
                }
                on_disk(&spool, move |spool| spool.remove(&file)).await;
            }
            Err(ExchangeError::Refused { code, detail }) => {
                tracing::error!(code, detail, file = %file.display(), "batch refused, put aside");
                // A spool that fails now would offer the same batch at once again.
                if on_disk(&spool, move |spool| spool.put_aside(&file)).await.is_none() {
                    wait.after(&"the refused batch stays").await;
                }
            }
            Err(error) => wait.after_error(&error, "batch not uploaded yet").await,
        }
    }
}

/// Says how far the machine's clock is off the service's, when it is far and once for each figure.
fn tell_offset(clock: &AgentClock, told_us: &mut i64) {
    let offset_us = clock.offset_us().unwrap_or(0);
    if (offset_us - *told_us).abs() > OFF_US {
        *told_us = offset_us;
        tracing::warn!(
            offset_s = offset_us / 1_000_000,
            "this machine's clock is off the service's; measurements are dated by the service's"
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::{AgentId, BootId};
    use uuid::Uuid;

    fn batch(seq: u64) -> Batch {
        let id = Uuid::from_u128(7);
        Batch::new(AgentId::from_uuid(id), BootId::from_uuid(id), seq)
    }

    fn opened(place: &std::path::Path) -> SharedSpool {
        Arc::new(Mutex::new(Spool::open(place, 1 << 20).unwrap()))
    }

    #[tokio::test]
    async fn what_is_gathered_is_noted_and_the_batch_takes_its_place() {
        let place = tempfile::tempdir().unwrap();
        let spool = opened(place.path());
        let writer = SpoolWriter::start(Arc::clone(&spool)).unwrap();
        for rounds in 1..=50 {
            writer.note_gathering("boot", 0, rounds);
        }
        let note = place.path().join("gathering");
        while !std::fs::read_to_string(&note).is_ok_and(|text| text.ends_with(" 50")) {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        writer.put(batch(0)).await.unwrap();
        assert!(!note.exists());
        assert_eq!(locked(&spool).newest_first().unwrap().len(), 1);
    }

    #[tokio::test]
    async fn a_batch_that_cannot_be_read_keeps_no_other() {
        let place = tempfile::tempdir().unwrap();
        let spool = opened(place.path());
        let writer = SpoolWriter::start(Arc::clone(&spool)).unwrap();
        writer.put(batch(1)).await.unwrap();
        let good = locked(&spool).newest_first().unwrap().remove(0);
        // Reading a directory as a file fails for root too.
        let bad = good.with_file_name("zz-000000000009-1.batch");
        std::fs::create_dir(&bad).unwrap();
        let (file, _) = newest(&spool).await.unwrap();
        assert_eq!(file, good);
        assert!(!bad.exists(), "it is put aside");
    }
}
