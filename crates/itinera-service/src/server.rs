//! Puts the service together and takes it down in order.

use crate::agent_api::Unpacking;
use crate::authority::{Authority, AuthorityError};
use crate::clock::ServiceClock;
use crate::config::{Config, PublicUrl};
use crate::duty::{Duties, Duty, every, supervise};
use crate::metrics::Metrics;
use crate::sign_in::{self, FailedAttempts, FirstError};
use crate::throughput::{self, ThroughputRule};
use crate::timed_listener::TimedListener;
use crate::tls_listener::{Peer, TlsListener};
use crate::{agent_api, api, live, runner, two_way, watches};
use itinera_model::owner::OwnerMap;
use itinera_store::cluster::{Cluster, ClusterError};
use itinera_store::{ImportRecord, Store, StoreError};
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use time::OffsetDateTime;
use tokio::net::TcpListener;
use tokio::sync::{Mutex, Notify, watch};
use tokio::task::JoinHandle;
use uuid::Uuid;

/// Open requests get this long to finish when the service stops.
const GRACE: Duration = Duration::from_secs(3);
/// How often the database is asked for the version of the schedule, which another process may raise,
/// and for watches that are over.
const FOLLOW: Duration = Duration::from_secs(1);
const WATCHES: Duration = Duration::from_secs(5);

/// Why the service does not run.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServiceError {
    /// About the private cluster.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// About the record.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// About the first administrator.
    #[error(transparent)]
    First(#[from] FirstError),
    /// About keys and certificates.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// An address cannot be listened on.
    #[error("cannot listen on {0}: is another service running?")]
    Listen(SocketAddr, #[source] io::Error),
    /// The data directory cannot be made.
    #[error("cannot make the data directory {0:?}")]
    Data(PathBuf, #[source] io::Error),
    /// The private cluster ended by itself.
    #[error("the private PostgreSQL ended by itself ({0}): see cluster.log in the data directory")]
    ClusterEnded(String),
}

/// What handlers and the runner share.
#[derive(Debug)]
pub(crate) struct Shared {
    pub(crate) store: Store,
    pub(crate) authority: Authority,
    pub(crate) metrics: Metrics,
    pub(crate) schedule_version: watch::Sender<u64>,
    /// A batch was committed.
    pub(crate) committed: Notify,
    /// An entry was added to the change feed.
    pub(crate) change_added: Notify,
    /// The newest number of the change feed, as read last.
    pub(crate) last_change: watch::Sender<i64>,
    /// Becomes true when the service stops: held requests are let go.
    pub(crate) stop: watch::Sender<bool>,
    /// The service's clock.
    pub(crate) clock: ServiceClock,
    /// How every duty stands.
    pub(crate) duties: Duties,
    /// Limits on how many batches are unpacked at one time.
    pub(crate) unpacking: Unpacking,
    /// The owner map used last, by its import.
    owner_map: Mutex<Option<(Uuid, Arc<OwnerMap>)>>,
    /// Wrong passwords by name.
    pub(crate) tries: FailedAttempts,
    /// Directory of keys.
    pub(crate) data: PathBuf,
    /// Where users reach it through a proxy that ends TLS; absent on this machine alone.
    public_url: Option<PublicUrl>,
    /// What is measured again and again of how much gets through.
    pub(crate) throughput_rules: Vec<ThroughputRule>,
    /// The fencing token while this process judges.
    pub(crate) lease: Mutex<Option<i64>>,
}

/// Makes it the version, if it is a newer one.
fn raise(known: &watch::Sender<u64>, version: u64) {
    known.send_if_modified(|known| {
        let rises = version > *known;
        *known = version.max(*known);
        rises
    });
}

impl Shared {
    /// Whether browsers come by TLS, so that cookies may demand it.
    pub(crate) const fn behind_tls(&self) -> bool {
        self.public_url.is_some()
    }

    /// The host name for users, in addition to the loopback addresses.
    pub(crate) fn public_host(&self) -> Option<String> {
        self.public_url.as_ref().map(|url| url.host.clone())
    }

    /// Lets agents know of a new version of the schedule, where there is one. Versions only rise:
    /// two that are published out of order leave the newer.
    pub(crate) fn tell_agents(&self, version: Option<u64>) {
        if let Some(version) = version {
            raise(&self.schedule_version, version);
        }
    }

    /// The owner map that was valid at a time, with its import; an empty one before the first.
    /// The one used last is kept, since nearly every request asks for it again.
    pub(crate) async fn owner_map_at(
        &self,
        at: OffsetDateTime,
    ) -> Result<(Arc<OwnerMap>, Option<ImportRecord>), StoreError> {
        let Some(import) = self.store.owner_import_at(at).await? else {
            return Ok((Arc::default(), None));
        };
        let mut kept = self.owner_map.lock().await;
        if let Some((id, map)) = kept.as_ref()
            && *id == import.id
        {
            return Ok((Arc::clone(map), Some(import)));
        }
        let map = Arc::new(self.store.owner_map(import.id).await?);
        *kept = Some((import.id, Arc::clone(&map)));
        Ok((map, Some(import)))
    }
}

/// A service that listens.
#[derive(Debug)]
pub struct Service {
    shared: Arc<Shared>,
    cluster: Option<Cluster>,
    /// They end by themselves once told to stop.
    listeners: [JoinHandle<()>; 2],
    judging: JoinHandle<()>,
    others: Vec<JoinHandle<()>>,
    address: SocketAddr,
    agents_address: SocketAddr,
}

impl Service {
    /// Starts everything: the private cluster where no database is configured, the schema, both
    /// listeners, judgement. `say` hears of each long step.
    ///
    /// # Errors
    /// [`ServiceError`] saying what to do about it.
    pub async fn start(config: &Config, say: impl Fn(&str)) -> Result<Self, ServiceError> {
        let data = &config.data;
        std::fs::create_dir_all(data).map_err(|e| ServiceError::Data(data.clone(), e))?;
        let (cluster, url) = match &config.database {
            Some(url) => (None, url.clone()),
            None => {
                say("starting the private PostgreSQL");
                (Some(Cluster::start(data).await?), Cluster::url_in(data))
            }
        };
        say("bringing the record up to date");
        let store = Store::open_with(&url, config.connections).await?;
        store.reconcile(&config.plan).await?;
        let authority = Authority::open(data, !store.agents().await?.is_empty())?;
        sign_in::ensure_administrator(&store, data).await?;
        let version = store.schedule_version().await?;
        let tls = authority.server_tls()?;
        let shared = Arc::new(Shared {
            store,
            authority,
            metrics: Metrics::new(),
            schedule_version: watch::Sender::new(version),
            committed: Notify::new(),
            change_added: Notify::new(),
            last_change: watch::Sender::new(0),
            stop: watch::Sender::new(false),
            clock: ServiceClock::new(),
            duties: Duties::default(),
            unpacking: Unpacking::default(),
            owner_map: Mutex::new(None),
            tries: FailedAttempts::default(),
            data: data.clone(),
            public_url: config.public_url.clone(),
            throughput_rules: config.throughput.clone(),
            lease: Mutex::new(None),
        });
        let bind = |address: SocketAddr| async move {
            TcpListener::bind(address).await.map_err(|e| ServiceError::Listen(address, e))
        };
        let users = bind(config.listen).await?;
        let agents = bind(config.listen_agents).await?;
        let unbound = |error| ServiceError::Listen(config.listen, error);
        let address = users.local_addr().map_err(unbound)?;
        let agents_address = agents.local_addr().map_err(unbound)?;
        let users = users.into_std().map_err(unbound)?;
        let agents = agents.into_std().map_err(unbound)?;
        let tls = Arc::new(tls);
        let listeners = [
            supervise(&shared, Duty::UserListener, move |shared| {
                serve_users(users.try_clone(), shared)
            }),
            supervise(&shared, Duty::AgentListener, move |shared| {
                serve_agents(agents.try_clone(), Arc::clone(&tls), shared)
            }),
        ];
        let limits = config.limits;
        let judging =
            supervise(&shared, Duty::Judging, move |shared| runner::judge_commits(shared, limits));
        let others = other_duties(&shared);
        Ok(Self { shared, cluster, listeners, judging, others, address, agents_address })
    }

    /// Where users and programs reach it.
    pub const fn address(&self) -> SocketAddr {
        self.address
    }

    /// Where agents reach it.
    pub const fn agents_address(&self) -> SocketAddr {
        self.agents_address
    }

    /// Runs until `until` is ready, then stops in order: requests, judgement, the cluster.
    ///
    /// # Errors
    /// [`ServiceError::ClusterEnded`] when the private cluster ends before that.
    pub async fn run(mut self, until: impl Future<Output = ()>) -> Result<(), ServiceError> {
        let outcome = tokio::select! {
            () = until => Ok(()),
            status = ended(self.cluster.as_mut()) => Err(ServiceError::ClusterEnded(status)),
        };
        self.shared.stop.send_replace(true);
        tokio::time::sleep(Duration::from_millis(50)).await;
        self.judging.abort();
        if let Some(token) = self.shared.lease.lock().await.take()
            && let Err(error) = self.shared.store.resign_judgement(token).await
        {
            tracing::warn!(%error, "leadership was not given up; it expires by itself");
        }
        for listener in &mut self.listeners {
            let _given_up = tokio::time::timeout(GRACE, &mut *listener).await;
            listener.abort();
        }
        self.others.iter().for_each(JoinHandle::abort);
        if let Some(cluster) = self.cluster {
            cluster.stop().await?;
        }
        outcome
    }
}

/// The private cluster's end in words; never where there is none.
async fn ended(cluster: Option<&mut Cluster>) -> String {
    match cluster {
        Some(cluster) => match cluster.ended().await {
            Ok(status) => status.to_string(),
            Err(error) => error.to_string(),
        },
        None => std::future::pending().await,
    }
}

pub(crate) async fn said(mut stop: watch::Receiver<bool>) {
    let _said = stop.wait_for(|stop| *stop).await.map(drop);
}

async fn serve_users(listener: io::Result<std::net::TcpListener>, shared: Arc<Shared>) {
    let stop = said(shared.stop.subscribe());
    let serving = async {
        let listener = TimedListener(TcpListener::from_std(listener?)?);
        axum::serve(listener, api::router(shared)).with_graceful_shutdown(stop).await
    };
    if let Err(error) = serving.await {
        tracing::error!(%error, "the listener for users has failed");
    }
}

async fn serve_agents(
    listener: io::Result<std::net::TcpListener>,
    tls: Arc<rustls::ServerConfig>,
    shared: Arc<Shared>,
) {
    let stop = said(shared.stop.subscribe());
    let serving = async {
        let listener = TlsListener::new(TcpListener::from_std(listener?)?, tls)?;
        let router = agent_api::router(shared).into_make_service_with_connect_info::<Peer>();
        axum::serve(listener, router).with_graceful_shutdown(stop).await
    };
    if let Err(error) = serving.await {
        tracing::error!(%error, "the listener for agents has failed");
    }
}

/// Everything that is done beside listening and judging.
fn other_duties(shared: &Arc<Shared>) -> Vec<JoinHandle<()>> {
    let minute = Duration::from_secs(60);
    vec![
        supervise(shared, Duty::ChangeFeed, live::present),
        every(shared, Duty::ScheduleVersion, FOLLOW, async |shared: Arc<Shared>| {
            let version = shared.store.schedule_version().await?;
            shared.tell_agents(Some(version));
            Ok::<_, StoreError>(())
        }),
        every(shared, Duty::Watches, WATCHES, watches::finish),
        every(shared, Duty::Partitions, minute, async |shared: Arc<Shared>| {
            shared.store.make_partitions().await
        }),
        every(shared, Duty::IncidentClosing, minute, async |shared: Arc<Shared>| {
            shared.store.close_settled_incidents().await.map(drop)
        }),
        every(shared, Duty::TwoWayChoice, minute, two_way::renew),
        every(shared, Duty::ThroughputRules, minute, throughput::follow_rules),
        every(shared, Duty::ChangeFeedRetention, minute, async |shared: Arc<Shared>| {
            shared.store.forget_old_changes().await
        }),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_that_come_out_of_order_wake_nobody_twice() {
        let (known, mut waiting) = watch::channel(7);
        for (version, wakes) in [(9, true), (8, false), (9, false), (10, true)] {
            raise(&known, version);
            assert_eq!(waiting.has_changed().unwrap(), wakes, "{version}");
            assert!(*waiting.borrow_and_update() >= version);
        }
    }
}
