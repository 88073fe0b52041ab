//! Puts the service together and takes it down in order.

use crate::authority::{Authority, AuthorityError};
use crate::clock::ServiceClock;
use crate::config::Config;
use crate::context::Shared;
use crate::disk::Room;
use crate::duty::Duty;
use crate::notices::{Sending, SendingError};
use crate::sign_in::{self, FirstError};
use crate::supervise::{every, every_leased, supervise};
use crate::timed_listener::TimedListener;
use crate::tls_listener::{Peer, TlsListener};
use crate::{
    agent_api, api, delivering, evidence, live, runner, self_alarms, storage, throughput, two_way,
    watches,
};
use itinera_store::cluster::{Cluster, ClusterError};
use itinera_store::{Store, StoreError};
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// Open requests get this long to finish when the service stops.
const GRACE: Duration = Duration::from_secs(3);
/// How often the database is asked for the version of the schedule, which another process may raise,
/// and for watches that are over.
const FOLLOW: Duration = Duration::from_secs(1);
const WATCHES: Duration = Duration::from_secs(5);
/// How often the room on the disk is looked at.
const LOOK_AT_DISK: Duration = Duration::from_secs(2);
/// How often the service looks at how it stands.
const LOOK_AT_ITSELF: Duration = Duration::from_secs(10);
/// How often measurements are summed up.
const ROLL_UP: Duration = Duration::from_secs(30);

/// Why the service does not run.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServiceError {
    /// About the private cluster.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// About the database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// About the first administrator.
    #[error(transparent)]
    First(#[from] FirstError),
    /// About keys and certificates.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// About what sending notices needs.
    #[error(transparent)]
    Sending(#[from] SendingError),
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
        let (cluster, shared) = open(config, ServiceClock::new(), say).await?;
        let tls = shared.authority.server_tls()?;
        let shared = Arc::new(shared);
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
        shared.look_at_disk().await?;
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
        // With a checkpoint, the next leader need not judge anything again.
        let _given_up = tokio::time::timeout(GRACE, &mut self.judging).await;
        self.judging.abort();
        if let Err(error) = self.shared.store.release_leases(Some(self.shared.process)).await {
            tracing::warn!(%error, "leases were not given up; they expire by themselves");
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

/// Opens the data of a service: the private cluster where no database is configured, the schema, the
/// plan of measurement, keys and the first administrator.
pub(crate) async fn open(
    config: &Config,
    clock: ServiceClock,
    say: impl Fn(&str),
) -> Result<(Option<Cluster>, Shared), ServiceError> {
    let data = &config.data;
    std::fs::create_dir_all(data).map_err(|e| ServiceError::Data(data.clone(), e))?;
    let (cluster, url) = match &config.database {
        Some(url) => (None, url.clone()),
        None => {
            say("starting the private PostgreSQL");
            (Some(Cluster::start(data).await?), Cluster::url_in(data))
        }
    };
    say("updating the database schema");
    let store = Store::open_with(&url, config.connections).await?;
    if cluster.is_some() {
        // A private cluster has one service: leases are of runs that were killed.
        store.release_leases(None).await?;
    }
    store.reconcile(&config.plan).await?;
    store.replace_tags(&config.tags).await?;
    store.replace_contracts(&config.contracts).await?;
    let sending = Sending::open(config)?;
    let authority = Authority::open(data, !store.agents().await?.is_empty())?;
    sign_in::ensure_administrator(&store, data).await?;
    let version = store.schedule_version().await?;
    Ok((cluster, Shared::new(config, store, authority, version, clock, sending)))
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

async fn serve_users(listener: io::Result<std::net::TcpListener>, shared: Arc<Shared>) {
    let stop = shared.stopped();
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
    let stop = shared.stopped();
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
        supervise(shared, Duty::Deliveries, delivering::deliver),
        every_leased(shared, Duty::Notices, FOLLOW, api::compose_notices),
        every_leased(shared, Duty::Shelving, WATCHES, api::shelve_alarms),
        every_leased(shared, Duty::Calendars, minute, api::refresh_calendars),
        every(shared, Duty::ScheduleVersion, FOLLOW, async |shared: Arc<Shared>| {
            let version = shared.store.schedule_version().await?;
            shared.tell_agents(Some(version));
            Ok::<_, StoreError>(())
        }),
        every_leased(shared, Duty::SelfAlarms, LOOK_AT_ITSELF, self_alarms::look),
        every_leased(shared, Duty::Watches, WATCHES, watches::finish),
        every_leased(shared, Duty::Partitions, minute, async |shared: Arc<Shared>| {
            shared.store.make_partitions(shared.clock.now()).await
        }),
        every_leased(shared, Duty::IncidentClosing, minute, async |shared: Arc<Shared>| {
            shared.store.close_settled_incidents(shared.clock.now()).await.map(drop)
        }),
        every_leased(shared, Duty::TwoWayChoice, minute, two_way::renew),
        every_leased(shared, Duty::ThroughputRules, minute, throughput::follow_rules),
        every(shared, Duty::Disk, LOOK_AT_DISK, async |shared: Arc<Shared>| {
            shared.look_at_disk().await
        }),
        every_leased(shared, Duty::Rollups, ROLL_UP, async |shared: Arc<Shared>| {
            // They follow the log: what waits is summed up later.
            while shared.disk.borrow().room == Room::Enough && shared.store.roll_up().await? {}
            Ok::<_, StoreError>(())
        }),
        every_leased(shared, Duty::Evidence, minute, evidence::sum_up),
        every_leased(shared, Duty::Compaction, minute, async |shared: Arc<Shared>| {
            // It frees room in the end, but takes some first.
            if shared.disk.borrow().room == Room::Full {
                return Ok(());
            }
            storage::compact(&shared.store, shared.clock.now()).await
        }),
        every_leased(shared, Duty::Retention, 60 * minute, async |shared: Arc<Shared>| {
            storage::apply_retention(&shared.store, shared.retention, shared.clock.now()).await
        }),
        every_leased(shared, Duty::ChangeFeedRetention, minute, async |shared: Arc<Shared>| {
            shared.store.forget_old_changes().await
        }),
    ]
}
