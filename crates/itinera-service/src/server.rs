//! Puts the service together and takes it down in order.

use crate::authority::{Authority, AuthorityError};
use crate::config::{Config, PublicUrl};
use crate::metrics::Metrics;
use crate::sign_in::{self, FirstError, Tries};
use crate::throughput::{self, ThroughputRule};
use crate::tls_listener::{Peer, TlsListener};
use crate::{agent_api, api, live, runner, two_way, watching};
use itinera_model::owner::OwnerMap;
use itinera_model::unit::WallTime;
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
use uuid::Uuid;

/// Open requests get this long to finish when the service stops.
const GRACE: Duration = Duration::from_secs(3);
/// How often room for coming days, settled incidents and old news are looked after.
const LOOK_AFTER: Duration = Duration::from_secs(60);

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
    /// News was added to the outbox.
    pub(crate) news: Notify,
    /// The newest news' number, as seen last.
    pub(crate) news_head: watch::Sender<i64>,
    /// Becomes true when the service stops: held requests are let go.
    pub(crate) stop: watch::Sender<bool>,
    /// The owner map used last, by its import.
    owner_map: Mutex<Option<(Uuid, Arc<OwnerMap>)>>,
    /// Wrong passwords by name.
    pub(crate) tries: Tries,
    /// Directory of keys.
    pub(crate) data: PathBuf,
    /// Where people reach it through a proxy that ends TLS; absent on this machine alone.
    public_url: Option<PublicUrl>,
    /// What is measured again and again of how much gets through.
    pub(crate) throughput_rules: Vec<ThroughputRule>,
    /// The fencing token while this process judges.
    pub(crate) lease: Mutex<Option<i64>>,
}

impl Shared {
    /// Whether browsers come by TLS, so that cookies may demand it.
    pub(crate) const fn behind_tls(&self) -> bool {
        self.public_url.is_some()
    }

    /// The host that people address it by, besides this machine's loopback.
    pub(crate) fn public_host(&self) -> Option<String> {
        self.public_url.as_ref().map(|url| url.host.clone())
    }

    /// Lets agents know of a new version of the schedule, where there is one.
    pub(crate) fn tell_agents(&self, version: Option<u64>) {
        if let Some(version) = version {
            self.schedule_version.send_replace(version);
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
    tasks: Vec<tokio::task::JoinHandle<()>>,
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
        let authority = Authority::open(data)?;
        let (cluster, url) = match &config.database {
            Some(url) => (None, url.clone()),
            None => {
                say("starting the private PostgreSQL");
                (Some(Cluster::start(data).await?), Cluster::url_in(data))
            }
        };
        say("bringing the record up to date");
        let store = Store::open(&url).await?;
        store.reconcile(&config.watched).await?;
        sign_in::ensure_administrator(&store, data).await?;
        let version = store.schedule_version().await?;
        let tls = authority.server_tls()?;
        let shared = Arc::new(Shared {
            store,
            authority,
            metrics: Metrics::new(),
            schedule_version: watch::Sender::new(version),
            committed: Notify::new(),
            news: Notify::new(),
            news_head: watch::Sender::new(0),
            stop: watch::Sender::new(false),
            owner_map: Mutex::new(None),
            tries: Tries::default(),
            data: data.clone(),
            public_url: config.public_url.clone(),
            throughput_rules: config.throughput.clone(),
            lease: Mutex::new(None),
        });
        let bind = |address: SocketAddr| async move {
            TcpListener::bind(address).await.map_err(|e| ServiceError::Listen(address, e))
        };
        let people = bind(config.listen).await?;
        let agents = bind(config.listen_agents).await?;
        let unbound = |error| ServiceError::Listen(config.listen, error);
        let address = people.local_addr().map_err(unbound)?;
        let agents = TlsListener::new(agents, tls).map_err(unbound)?;
        let agents_address = axum::serve::Listener::local_addr(&agents).map_err(unbound)?.address;
        let stopped = shared.stop.subscribe();
        let tasks = vec![
            tokio::spawn(serve_people(people, Arc::clone(&shared), stopped.clone())),
            tokio::spawn(serve_agents(agents, Arc::clone(&shared), stopped)),
            tokio::spawn(runner::judge_commits(Arc::clone(&shared), config.limits)),
            tokio::spawn(look_after(Arc::clone(&shared))),
            tokio::spawn(watching::finish_watches(Arc::clone(&shared))),
            tokio::spawn(live::present(Arc::clone(&shared))),
        ];
        Ok(Self { shared, cluster, tasks, address, agents_address })
    }

    /// Where people and programs reach it.
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
        if let Some(token) = self.shared.lease.lock().await.take()
            && let Some(judging) = self.tasks.get(2)
        {
            judging.abort();
            if let Err(error) = self.shared.store.resign_judgement(token).await {
                tracing::warn!(%error, "leadership was not given up; it expires by itself");
            }
        }
        for task in &mut self.tasks[..2] {
            let _given_up = tokio::time::timeout(GRACE, task).await;
        }
        self.tasks.iter().for_each(tokio::task::JoinHandle::abort);
        if let Some(cluster) = self.cluster {
            cluster.stop().await?;
        }
        outcome
    }
}

/// The service's wall clock.
pub(crate) fn now() -> WallTime {
    let us = OffsetDateTime::now_utc().unix_timestamp_nanos() / 1_000;
    WallTime::from_unix_micros(i64::try_from(us).unwrap_or(i64::MAX))
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

async fn serve_people(listener: TcpListener, shared: Arc<Shared>, stop: watch::Receiver<bool>) {
    let serving = axum::serve(listener, api::router(shared)).with_graceful_shutdown(said(stop));
    if let Err(error) = serving.await {
        tracing::error!(%error, "the listener for people has failed");
    }
}

async fn serve_agents(listener: TlsListener, shared: Arc<Shared>, stop: watch::Receiver<bool>) {
    let router = agent_api::router(shared).into_make_service_with_connect_info::<Peer>();
    let serving = axum::serve(listener, router).with_graceful_shutdown(said(stop));
    if let Err(error) = serving.await {
        tracing::error!(%error, "the listener for agents has failed");
    }
}

/// What has to be done now and then.
async fn look_after(shared: Arc<Shared>) {
    loop {
        tokio::time::sleep(LOOK_AFTER).await;
        if let Err(error) = shared.store.make_partitions().await {
            tracing::error!(%error, "no room was made for coming days");
        }
        if let Err(error) = shared.store.close_settled_incidents().await {
            tracing::error!(%error, "settled incidents were not closed");
        }
        if let Err(error) = two_way::renew(&shared).await {
            tracing::error!(%error, "no partners were chosen");
        }
        if let Err(error) = throughput::follow_rules(&shared).await {
            tracing::error!(%error, "no throughput was ordered");
        }
        if let Err(error) = shared.store.forget_old_news().await {
            tracing::error!(%error, "old news was not forgotten");
        }
    }
}
