//! An agent's life: join once, then measure, spool and upload until told to stop.

use crate::checking::{self, Checking};
use crate::clock::{AgentClock, ClockError};
use crate::exchange::{Exchange, ExchangeError};
use crate::identity::{Identity, IdentityError};
use crate::limits::LocalLimits;
use crate::link::{Link, OwnAddresses};
use crate::outward::Place;
use crate::probing::{self, Found, Leave, Measured, Told};
use crate::spool::{Spool, SpoolError};
use itinera_check::Roots;
use itinera_model::batch::{Batch, RefusedTask, decode, encode};
use itinera_model::id::{AgentId, BootId};
use itinera_model::join::JoinCode;
use itinera_model::protocol::{JoinRequest, Schedule};
use itinera_model::round::Round;
use rcgen::{CertificateParams, KeyPair};
use rustls::pki_types::CertificateDer;
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::{Notify, mpsc, watch};
use uuid::Uuid;

/// How long rounds are gathered into one batch.
const GATHER: Duration = Duration::from_secs(1);
/// Rounds in a batch at most.
const MAX_ROUNDS: usize = 500;
/// The longest wait between two tries to reach the service.
const LONGEST_WAIT: Duration = Duration::from_secs(15);

/// Why an agent cannot go on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AgentError {
    /// About its identity.
    #[error(transparent)]
    Identity(#[from] IdentityError),
    /// About its spool.
    #[error(transparent)]
    Spool(#[from] SpoolError),
    /// About the service.
    #[error(transparent)]
    Exchange(#[from] ExchangeError),
    /// A key could not be made.
    #[error("cannot make a key")]
    Key(#[from] rcgen::Error),
    /// TLS could not be set up.
    #[error("cannot set up TLS")]
    Tls(#[from] rustls::Error),
    /// The service did not show its authority.
    #[error("the service at {0} did not prove the key that the join code names")]
    Unproved(String),
}

/// Where an agent keeps its things, and how much of them.
#[derive(Debug, Clone)]
pub struct AgentConfig {
    /// Directory of its identity and spool.
    pub directory: PathBuf,
    /// Octets its spool may take on disk.
    pub spool_max_bytes: u64,
    /// What the site allows.
    pub limits: LocalLimits,
    /// What a simulated machine's clock is off.
    pub clock_error: ClockError,
    /// Where the machine is, for what is asked besides probing.
    pub place: Place,
    /// Whom it trusts to sign the certificates of services.
    pub roots: Arc<Roots>,
}

/// Joins a service by a one-time code; writes the identity into `directory`.
///
/// # Errors
/// [`AgentError`]; the code is used up only when the identity could be given.
pub async fn join(
    code: &JoinCode,
    service: &str,
    directory: &Path,
) -> Result<Identity, AgentError> {
    Identity::check_free(directory)?;
    let key = KeyPair::generate()?;
    let request = CertificateParams::new(Vec::new())?.serialize_request(&key)?;
    let (tls, seen) = crate::tls::for_joining(code.pin())?;
    let exchange = Exchange::new(service, tls)?;
    let answer = exchange
        .join(&JoinRequest {
            secret: code.secret_text(),
            signing_request_pem: request.pem()?,
            version: env!("CARGO_PKG_VERSION").to_owned(),
        })
        .await?;
    let authority = seen.lock().ok().and_then(|seen| seen.clone());
    let authority = authority.ok_or_else(|| AgentError::Unproved(service.to_owned()))?;
    let identity = Identity {
        agent: answer.agent,
        site: answer.site_name,
        service: service.to_owned(),
        authority_pem: pem("CERTIFICATE", &authority),
        certificate_pem: answer.certificate_pem,
        key_pem: key.serialize_pem(),
    };
    identity.write(directory)?;
    Ok(identity)
}

/// DER as PEM (RFC 7468).
fn pem(label: &str, der: &[u8]) -> String {
    let text = data_encoding::BASE64.encode(der);
    let lines = text.as_bytes().chunks(64).map(String::from_utf8_lossy);
    let body: Vec<_> = lines.collect();
    format!("-----BEGIN {label}-----\n{}\n-----END {label}-----\n", body.join("\n"))
}

/// Measures, spools and uploads until `stop` becomes true. The service may be away for as long
/// as the spool lasts; the last schedule received is followed meanwhile.
///
/// # Errors
/// [`AgentError`] when the agent's own directory fails it; never for a service that is away.
pub async fn run(
    config: &AgentConfig,
    link: Link,
    stop: watch::Receiver<bool>,
) -> Result<(), AgentError> {
    let identity = Identity::read(&config.directory)?;
    let exchange = Exchange::of(&identity)?;
    let spool = Spool::open(&config.directory.join("spool"), config.spool_max_bytes)?;
    let spool = Arc::new(Mutex::new(spool));
    let boot = BootId::from_uuid(Uuid::now_v7());
    let clock = Arc::new(AgentClock::with_error(boot, config.clock_error));
    let kept = config.directory.join("schedule.cbor");
    let (schedule_tx, schedule_rx) = watch::channel(kept_schedule(&kept));
    let (rounds_tx, rounds_rx) = mpsc::channel(1_024);
    let fresh = Arc::new(Notify::new());

    let scheduling =
        tokio::spawn(keep_schedule(exchange.clone(), link.own_addresses(), schedule_tx, kept));
    let uploading =
        tokio::spawn(upload(exchange, Arc::clone(&spool), Arc::clone(&clock), Arc::clone(&fresh)));
    let leave = Leave {
        limits: config.limits.clone(),
        agent: identity.agent,
        authority: identity.authority()?,
    };
    let (refusals, refused) = watch::channel(Vec::new());
    let (targets, probed) = watch::channel(BTreeSet::new());
    let (check_refusals, checks_refused) = watch::channel(Vec::new());
    let asking = Checking {
        place: config.place.clone(),
        clock: Arc::clone(&clock),
        limits: config.limits.clone(),
        roots: Arc::clone(&config.roots),
        found: rounds_tx.clone(),
        refusals: check_refusals,
        probed,
        agent: identity.agent,
        authority: leave.authority.clone(),
    };
    let checking = tokio::spawn(checking::follow(asking, schedule_rx.clone(), stop.clone()));
    let told = Told { refusals, targets };
    let following =
        probing::follow(link, Arc::clone(&clock), leave, schedule_rx, rounds_tx, told, stop);
    let probing = tokio::spawn(following);
    let refused = [refused, checks_refused];
    gather(identity.agent, &clock, rounds_rx, refused, &spool, &fresh).await;
    scheduling.abort();
    checking.abort();
    // What was measured last is on disk; a moment for it to be uploaded as well.
    fresh.notify_one();
    let _finished = tokio::time::timeout(Duration::from_secs(2), drained(&spool)).await;
    uploading.abort();
    let _ended = probing.await;
    Ok(())
}

/// Follows a schedule for a while without a service, for trials and benches: gives the rounds of
/// paths. Tickets in it are not followed, since nobody has signed them.
pub async fn trial(link: Link, schedule: Schedule, span: Duration) -> Vec<Round> {
    let clock = Arc::new(AgentClock::new(BootId::from_uuid(Uuid::now_v7())));
    let leave = Leave {
        limits: LocalLimits::default(),
        agent: AgentId::from_uuid(Uuid::nil()),
        authority: CertificateDer::from(Vec::new()),
    };
    let (_schedule, schedule) = watch::channel(schedule);
    let (found, mut rounds) = mpsc::channel(1_024);
    let (stop, stopped) = watch::channel(false);
    let following = probing::follow(link, clock, leave, schedule, found, Told::default(), stopped);
    let gathering = async {
        let mut all = Vec::new();
        while let Some(found) = rounds.recv().await {
            if let Found::Sweep(measured) = found {
                all.push(measured.round);
            }
        }
        all
    };
    let ending = async {
        tokio::time::sleep(span).await;
        stop.send_replace(true);
    };
    let ((), rounds, ()) = tokio::join!(following, gathering, ending);
    rounds
}

async fn drained(spool: &Mutex<Spool>) {
    while spool.lock().is_ok_and(|spool| spool.newest_first().is_ok_and(|files| !files.is_empty()))
    {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn kept_schedule(path: &Path) -> Schedule {
    let kept = fs::read(path).ok().and_then(|octets| decode(&octets).ok());
    kept.unwrap_or_default()
}

/// Asks for newer schedules for ever.
async fn keep_schedule(
    exchange: Exchange,
    own: OwnAddresses,
    schedule: watch::Sender<Schedule>,
    kept: PathBuf,
) {
    // Asked without a version first: what was kept may be another record's.
    let mut after = 0;
    let mut wait = Wait::default();
    loop {
        match exchange.schedule(after, &own.now()).await {
            Ok(Some(new)) => {
                wait = Wait::default();
                after = new.version;
                if let Err(error) = fs::write(&kept, encode(&new)) {
                    tracing::warn!(%error, "the schedule cannot be kept on disk");
                }
                schedule.send_if_modified(|old| {
                    let changed = *old != new;
                    *old = new;
                    changed
                });
            }
            Ok(None) => wait = Wait::default(),
            Err(error) => wait.after(&error, "no news of the schedule").await,
        }
    }
}

/// Gathers rounds into batches and puts them on disk, until the prober ends.
async fn gather(
    agent: AgentId,
    clock: &AgentClock,
    mut rounds: mpsc::Receiver<Found>,
    mut refused: [watch::Receiver<Vec<RefusedTask>>; 2],
    spool: &Arc<Mutex<Spool>>,
    fresh: &Notify,
) {
    let mut seq = 0;
    let [of_probes, of_checks] = &mut refused;
    loop {
        let mut gathered = tokio::select! {
            first = rounds.recv() => match first {
                Some(first) => vec![first],
                None => return,
            },
            // Refusals are told though nothing be measured.
            Ok(()) = of_probes.changed() => Vec::new(),
            Ok(()) = of_checks.changed() => Vec::new(),
        };
        let boot = clock.boot().to_string();
        let note = |rounds: usize| {
            if let Ok(spool) = spool.lock() {
                spool.note_gathering(&boot, seq, rounds);
            }
        };
        note(gathered.len());
        let until = tokio::time::Instant::now() + GATHER;
        while gathered.len() < MAX_ROUNDS
            && let Ok(Some(next)) = tokio::time::timeout_at(until, rounds.recv()).await
        {
            gathered.push(next);
            note(gathered.len());
        }
        let mut batch = Batch::new(agent, clock.boot(), seq);
        batch.refused = of_probes.borrow().clone();
        batch.refused.extend(of_checks.borrow().iter().cloned());
        for found in gathered {
            match found {
                Found::Sweep(measured) => {
                    let Measured { round, flow, resolution, route, reading } = *measured;
                    batch.add(round, &flow, &resolution, &route, &reading);
                }
                Found::TwoWay(round) => batch.two_way.push(*round),
                Found::Check(round) => batch.checks.push(*round),
                Found::Around(round) => batch.surroundings.push(*round),
                Found::Outward(report) => batch.outward.push(*report),
                Found::Throughput(round) => batch.throughput.push(*round),
            }
        }
        let spool = Arc::clone(spool);
        // Waiting for the disk is for another thread: the prober's stamps must not wait with it.
        let put = tokio::task::spawn_blocking(move || put(&spool, batch));
        if let Err(error) = put.await {
            tracing::error!(%error, "the spool's writer has failed");
        }
        seq += 1;
        fresh.notify_one();
    }
}

/// Puts a batch on disk; where the disk is full its rounds are lost, and the next batch says
/// how many.
fn put(spool: &Mutex<Spool>, mut batch: Batch) {
    let Ok(mut spool) = spool.lock() else { return };
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

/// Uploads what lies in the spool, newest first, for ever.
async fn upload(
    exchange: Exchange,
    spool: Arc<Mutex<Spool>>,
    clock: Arc<AgentClock>,
    fresh: Arc<Notify>,
) {
    let mut wait = Wait::default();
    loop {
        let Some(file) = newest_in(&spool) else {
            // A missed notice costs at most this wait.
            let _notice = tokio::time::timeout(LONGEST_WAIT, fresh.notified()).await;
            continue;
        };
        let Ok(octets) = fs::read(&file) else {
            continue;
        };
        let sent = clock.wall_now();
        match exchange.upload(octets).await {
            Ok(receipt) => {
                wait = Wait::default();
                clock.on_exchange(sent, receipt.received_at, clock.wall_now());
                if receipt.refused_rounds > 0 {
                    tracing::warn!(
                        rounds = receipt.refused_rounds,
                        "rounds refused by the service"
                    );
                }
                settle(&spool, |spool| spool.remove(&file));
            }
            Err(error @ ExchangeError::Refused(_)) => {
                tracing::error!(error = %error, file = %file.display(), "batch refused, put aside");
                settle(&spool, |spool| spool.put_aside(&file));
            }
            Err(error) => wait.after(&error, "batch not uploaded yet").await,
        }
    }
}

fn newest_in(spool: &Mutex<Spool>) -> Option<PathBuf> {
    let files = spool.lock().ok()?.newest_first();
    files
        .inspect_err(|error| tracing::error!(%error, "the spool cannot be read"))
        .ok()
        .and_then(|files| files.into_iter().next())
}

fn settle(spool: &Mutex<Spool>, action: impl FnOnce(&Spool) -> Result<(), SpoolError>) {
    if let Ok(spool) = spool.lock()
        && let Err(error) = action(&spool)
    {
        tracing::error!(%error, "the spool fails");
    }
}

/// Growing waits between tries, with chance in them so that many agents do not come at once.
struct Wait(Duration);

impl Default for Wait {
    fn default() -> Self {
        Self(Duration::from_millis(250))
    }
}

impl Wait {
    async fn after(&mut self, error: &ExchangeError, what: &str) {
        let cause = std::error::Error::source(error).map(ToString::to_string).unwrap_or_default();
        tracing::warn!(%error, cause, again_in_ms = self.0.as_millis(), "{what}");
        let [chance, ..] = *Uuid::new_v4().as_bytes();
        tokio::time::sleep(self.0.mul_f64(0.5 + f64::from(chance) / 255.0)).await;
        self.0 = (self.0 * 2).min(LONGEST_WAIT);
    }
}
