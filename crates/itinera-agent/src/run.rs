//! An agent's life: join once, then measure, spool and upload until told to stop.

use crate::checking::{self, Checking};
use crate::clock::{AgentClock, ClockError};
use crate::diagnosis::Place;
use crate::exchange::{Exchange, ExchangeError};
use crate::identity::{Identity, IdentityError};
use crate::limits::LocalLimits;
use crate::link::{Link, OwnAddresses};
use crate::local_action::{Contact, CutOffWatch};
use crate::measurement::{Measured, Measurement};
use crate::probing::{self, Listeners, Permission};
use crate::spool::{Spool, SpoolError};
use crate::upload::{SpoolWriter, drained, upload};
use crate::wait::Wait;
use itinera_check::Roots;
use itinera_model::batch::{Batch, RefusedTask};
use itinera_model::check::Outcome;
use itinera_model::codec::{decode, encode};
use itinera_model::host_facts::LocalAction;
use itinera_model::id::{AgentId, BootId};
use itinera_model::join::JoinCode;
use itinera_model::owner::is_private;
use itinera_model::protocol::{JoinRequest, Schedule};
use itinera_model::round::Round;
use rcgen::{CertificateParams, KeyPair};
use rustls::pki_types::CertificateDer;
use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, mpsc, watch};
use tokio::task::JoinSet;
use uuid::Uuid;

/// How long rounds are gathered into one batch.
const GATHER: Duration = Duration::from_secs(1);
/// Rounds in a batch at most.
const MAX_ROUNDS: usize = 500;
/// Waits before the agent begins again: the first, doubled each time, and the longest. After a boot
/// that ran well the first is due again.
const FIRST_RESTART: Duration = Duration::from_secs(1);
const LONGEST_RESTART: Duration = Duration::from_secs(60);
const RAN_WELL: Duration = Duration::from_secs(300);

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
    /// There can be no thread for the spool.
    #[error("cannot start a thread")]
    Thread(#[source] io::Error),
    /// The service did not show its authority.
    #[error("the service at {0} did not prove the key that the join code names")]
    Unproved(String),
}

/// Where an agent keeps its things, and how much of them.
#[derive(Debug, Clone)]
pub struct AgentConfig {
    /// Directory of its identity and spool.
    pub directory: PathBuf,
    /// Bytes its spool may take on disk.
    pub spool_max_bytes: u64,
    /// What the site allows.
    pub limits: LocalLimits,
    /// What a simulated machine's clock is off.
    pub clock_error: ClockError,
    /// Host facts, for measurements other than probing.
    pub place: Place,
    /// CA certificates for the services.
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
/// as the spool lasts; the last schedule received is followed meanwhile. When a task of it ends by
/// itself or panics, that is logged and counted, and everything begins again as another boot.
///
/// # Errors
/// [`AgentError`] when the agent's own directory fails it; never for a service that is away.
pub async fn run(
    config: &AgentConfig,
    link: Link,
    stop: watch::Receiver<bool>,
) -> Result<(), AgentError> {
    let link = Arc::new(link);
    let (mut wait, mut restarts) = (FIRST_RESTART, 0_u32);
    loop {
        let begun = Instant::now();
        let Some(ended) = run_once(config, Arc::clone(&link), stop.clone()).await? else {
            return Ok(());
        };
        restarts += 1;
        if begun.elapsed() > RAN_WELL {
            wait = FIRST_RESTART;
        }
        tracing::error!(restarts, again_in_s = wait.as_secs(), "{ended}: the agent begins again");
        let mut stop = stop.clone();
        tokio::select! {
            () = tokio::time::sleep(wait) => {}
            () = probing::stopped(&mut stop) => return Ok(()),
        }
        wait = (wait * 2).min(LONGEST_RESTART);
    }
}

/// The tasks of one boot, by name; aborted together.
#[derive(Default)]
struct Tasks {
    running: JoinSet<()>,
    names: Vec<(tokio::task::Id, &'static str)>,
}

impl Tasks {
    fn spawn(&mut self, name: &'static str, task: impl Future<Output = ()> + Send + 'static) {
        let id = self.running.spawn(task).id();
        self.names.push((id, name));
    }

    /// The first that ends, with how it did; never where none is left.
    async fn first_ended(&mut self) -> String {
        let name = |id| self.names.iter().find(|(of, _)| *of == id).map_or("", |(_, name)| name);
        match self.running.join_next_with_id().await {
            Some(Ok((id, ()))) => format!("{} ended by itself", name(id)),
            Some(Err(error)) => format!("{} has failed ({error})", name(error.id())),
            None => std::future::pending().await,
        }
    }
}

/// One boot: until told to stop, or until a task ends that should not, which is named then.
async fn run_once(
    config: &AgentConfig,
    link: Arc<Link>,
    stop: watch::Receiver<bool>,
) -> Result<Option<String>, AgentError> {
    let identity = Identity::read(&config.directory)?;
    let exchange = Exchange::of(&identity)?;
    let spool = Spool::open(&config.directory.join("spool"), config.spool_max_bytes)?;
    let spool = Arc::new(Mutex::new(spool));
    let writer = SpoolWriter::start(Arc::clone(&spool)).map_err(AgentError::Thread)?;
    let boot = BootId::from_uuid(Uuid::now_v7());
    let clock = Arc::new(AgentClock::with_error(boot, config.clock_error));
    let kept = config.directory.join("schedule.cbor");
    let (schedule_tx, schedule_rx) = watch::channel(kept_schedule(&kept));
    let (rounds_tx, rounds_rx) = mpsc::channel(1_024);
    let fresh = Arc::new(Notify::new());
    let leave = Permission {
        limits: config.limits.clone(),
        agent: identity.agent,
        authority: identity.authority()?,
    };
    let (refusals, refused) = watch::channel(Vec::new());
    let (targets, probed) = watch::channel(BTreeSet::new());
    let (check_refusals, checks_refused) = watch::channel(Vec::new());
    let contact = Arc::new(Contact::new());
    let mut tasks = Tasks::default();
    let action = watch_for_cut_off(config, &mut tasks, (&contact, &clock));
    let asking = Checking {
        action,
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
    let listeners = Listeners { refusals, targets };
    let own = link.own_addresses();
    let keeping = keep_schedule(exchange.clone(), own, (schedule_tx, kept), Arc::clone(&contact));
    tasks.spawn("the schedule's task", keeping);
    let (spool_of, clock_of) = (Arc::clone(&spool), Arc::clone(&clock));
    tasks.spawn("the uploader", upload(exchange, spool_of, clock_of, Arc::clone(&fresh)));
    // These two end by themselves when they are told to stop.
    let mut measuring = Tasks::default();
    measuring
        .spawn("the checks' task", checking::follow(asking, schedule_rx.clone(), stop.clone()));
    let following = probing::follow(
        link,
        Arc::clone(&clock),
        leave,
        schedule_rx,
        rounds_tx,
        listeners,
        stop.clone(),
    );
    measuring.spawn("the prober", following);
    let refused = [refused, checks_refused];
    let outlets = (&writer, &*fresh, &*contact);
    let gathering = gather(identity.agent, &clock, rounds_rx, refused, outlets);
    tokio::pin!(gathering);
    let ended = loop {
        tokio::select! {
            gathered = &mut gathering => break match gathered {
                Ok(()) if *stop.borrow() => None,
                Ok(()) => Some("measuring ended by itself".to_owned()),
                Err(error) => Some(format!("the spool's writer has failed ({error})")),
            },
            ended = tasks.first_ended() => break Some(ended),
            ended = measuring.first_ended() => if !*stop.borrow() {
                break Some(ended);
            },
        }
    };
    if ended.is_none() {
        // What was measured last is on disk; a moment for it to be uploaded as well.
        fresh.notify_one();
        let _finished = tokio::time::timeout(Duration::from_secs(2), drained(&spool)).await;
    }
    Ok(ended)
}

/// Watches for a cut-off where the site permits an action then; gives the last action.
fn watch_for_cut_off(
    config: &AgentConfig,
    tasks: &mut Tasks,
    (contact, clock): (&Arc<Contact>, &Arc<AgentClock>),
) -> Option<watch::Receiver<Option<LocalAction>>> {
    let permitted = config.limits.cut_off_action.clone()?;
    let known = (Arc::clone(contact), Arc::clone(clock));
    let (cut_off, last) = CutOffWatch::new(permitted, known, &config.directory);
    tasks.spawn("the watch for a cut-off", cut_off.watch());
    Some(last)
}

/// Follows a schedule for a limited time without a service, for trials and benches: gives the rounds of
/// paths. Tickets in it are not followed, since they are not signed.
pub async fn trial(link: Link, schedule: Schedule, span: Duration) -> Vec<Round> {
    let clock = Arc::new(AgentClock::new(BootId::from_uuid(Uuid::now_v7())));
    let leave = Permission {
        limits: LocalLimits::default(),
        agent: AgentId::from_uuid(Uuid::nil()),
        authority: CertificateDer::from(Vec::new()),
    };
    let (_schedule, schedule) = watch::channel(schedule);
    let (found, mut rounds) = mpsc::channel(1_024);
    let (stop, stopped) = watch::channel(false);
    let following = probing::follow(
        Arc::new(link),
        clock,
        leave,
        schedule,
        found,
        Listeners::default(),
        stopped,
    );
    let gathering = async {
        let mut all = Vec::new();
        while let Some(found) = rounds.recv().await {
            if let Measurement::Sweep(measured) = found {
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

fn kept_schedule(path: &Path) -> Schedule {
    let kept = fs::read(path).ok().and_then(|octets| decode(&octets).ok());
    kept.unwrap_or_default()
}

/// Asks for newer schedules for ever.
async fn keep_schedule(
    exchange: Exchange,
    own: OwnAddresses,
    (schedule, kept): (watch::Sender<Schedule>, PathBuf),
    contact: Arc<Contact>,
) {
    // Asked without a version first: what was kept may be another record's.
    let mut after = 0;
    let mut wait = Wait::default();
    loop {
        let answer = exchange.schedule(after, &own.now()).await;
        if answer.is_ok() {
            contact.made();
        }
        match answer {
            Ok(Some(new)) => {
                wait = Wait::default();
                after = new.version;
                if let Err(error) = tokio::fs::write(&kept, encode(&new)).await {
                    tracing::warn!(%error, "the schedule cannot be kept on disk");
                }
                schedule.send_if_modified(|old| {
                    let changed = *old != new;
                    *old = new;
                    changed
                });
            }
            Ok(None) => wait = Wait::default(),
            Err(error) => wait.after_error(&error, "the schedule cannot be read").await,
        }
    }
}

/// Gathers rounds into batches and puts them on disk, until the prober ends.
///
/// # Errors
/// `BrokenPipe` when the spool's writer has ended.
async fn gather(
    agent: AgentId,
    clock: &AgentClock,
    mut rounds: mpsc::Receiver<Measurement>,
    mut refused: [watch::Receiver<Vec<RefusedTask>>; 2],
    (writer, fresh, contact): (&SpoolWriter, &Notify, &Contact),
) -> io::Result<()> {
    let mut seq = 0;
    let [of_probes, of_checks] = &mut refused;
    let boot = clock.boot().to_string();
    loop {
        let mut gathered = tokio::select! {
            first = rounds.recv() => match first {
                Some(first) => vec![first],
                None => return Ok(()),
            },
            // Refusals are reported even when nothing is measured.
            Ok(()) = of_probes.changed() => Vec::new(),
            Ok(()) = of_checks.changed() => Vec::new(),
        };
        writer.note_gathering(&boot, seq, gathered.len());
        let until = tokio::time::Instant::now() + GATHER;
        while gathered.len() < MAX_ROUNDS
            && let Ok(Some(next)) = tokio::time::timeout_at(until, rounds.recv()).await
        {
            gathered.push(next);
            writer.note_gathering(&boot, seq, gathered.len());
        }
        let mut batch = Batch::new(agent, clock.boot(), seq);
        batch.refused = of_probes.borrow().clone();
        batch.refused.extend(of_checks.borrow().iter().cloned());
        for found in gathered {
            match found {
                Measurement::Sweep(measured) => {
                    let Measured { round, flow, resolution, route, reading } = *measured;
                    contact.measured(round.reached_at);
                    batch.paths.add(round, &flow, &resolution, &route, &reading);
                }
                Measurement::TwoWay(round) => batch.two_way.push(*round),
                Measurement::PairRoute(route) => batch.pair_routes.push(*route),
                Measurement::Check(round) => {
                    // A server at the site itself answers also when the uplink is down.
                    let is_outside = |there: SocketAddr| !is_private(there.ip());
                    let spoke_outside = round.result.spoke_to.is_some_and(is_outside);
                    if round.result.outcome == Outcome::Good && spoke_outside {
                        contact.made();
                    }
                    batch.checks.push(*round);
                }
                Measurement::HostFacts(round) => batch.host_facts.push(*round),
                Measurement::Diagnosis(report) => batch.diagnoses.push(*report),
                Measurement::Throughput(round) => batch.throughput.push(*round),
            }
        }
        writer.put(batch).await?;
        seq += 1;
        fresh.notify_one();
    }
}
