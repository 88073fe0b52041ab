//! A service on a private cluster with its plan of measurement, and agents that have joined.

use crate::{common, report};
use itinera_model::id::AgentId;
use itinera_model::protocol::Task;
use itinera_service::{Config, Service, ServiceError};
use itinera_store::Store;
use itinera_store::cluster::Cluster;
use std::net::SocketAddr;
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, Instant};
use tempfile::TempDir;
use time::OffsetDateTime;
use tokio::sync::oneshot;
use tokio::task::JoinHandle;

/// The installation. No service runs yet.
pub(crate) struct Installation {
    pub(crate) config: Config,
    pub(crate) store: Store,
    /// Each agent with the number of its site, and what it is to measure.
    pub(crate) agents: Vec<(u8, (AgentId, Vec<Task>))>,
    cluster: Cluster,
    /// Deleted with this: the service's data, and beside it the cluster.
    _place: TempDir,
}

impl Installation {
    pub(crate) async fn new(agents: u8, targets: u8) -> Self {
        let place = tempfile::tempdir().unwrap();
        std::fs::set_permissions(place.path(), PermissionsExt::from_mode(0o755)).unwrap();
        let cluster = Cluster::start(place.path()).await.unwrap();
        let url = Cluster::url_in(place.path());
        let text = format!(
            "database = \"{url}\"\nlisten = \"127.0.0.1:0\"\nlisten_agents = \"127.0.0.1:0\"\n"
        );
        let mut config = Config::parse(&text).unwrap();
        config.data = place.path().join("data");
        config.plan = common::plan(agents, targets);
        // Its first start makes the schema, the schedule and the authority.
        let service = Service::start(&config, |_| {}).await.unwrap();
        service.run(async {}).await.unwrap();
        let store = Store::open(&url).await.unwrap();
        let mut joined = Vec::new();
        for number in 0..agents {
            joined.push((number, common::join(&store, number, OffsetDateTime::now_utc()).await));
        }
        Self { config, store, agents: joined, cluster, _place: place }
    }

    /// Starts the service; gives where users reach it.
    pub(crate) async fn serve(&self) -> (SocketAddr, Serving) {
        let service = Service::start(&self.config, |_| {}).await.unwrap();
        let address = service.address();
        let (stop, stopped) = oneshot::channel::<()>();
        let serving = tokio::spawn(service.run(async {
            let _told = stopped.await;
        }));
        (address, Serving { stop, serving })
    }

    /// Has some agents report a round of each of their paths.
    pub(crate) async fn report(&self, agents: usize, seq: u64) {
        for (number, (agent, tasks)) in &self.agents[..agents] {
            let now = OffsetDateTime::now_utc();
            let batch = report::batch(*agent, *number, tasks, (seq, now), None);
            self.store.commit_batch(*agent, &batch, now).await.unwrap();
        }
    }

    /// Waits until everything is judged; `on_left` gets the number of commits that are left.
    pub(crate) async fn judged(&self, every: Duration, mut on_left: impl FnMut(u64)) {
        loop {
            let left = self.store.status_counts().await.unwrap().unjudged_commits;
            on_left(left.cast_unsigned());
            if left == 0 {
                break;
            }
            tokio::time::sleep(every).await;
        }
    }

    /// Prints how long a restart takes until a report that came in meanwhile is judged.
    pub(crate) async fn restart(&self, seq: u64) {
        self.report(1, seq).await;
        let begun = Instant::now();
        let (_, service) = self.serve().await;
        self.judged(Duration::from_millis(100), |_| ()).await;
        println!("restart to judged   {:>8.1} s", begun.elapsed().as_secs_f64());
        service.stop().await;
    }

    pub(crate) async fn end(self) {
        self.cluster.stop().await.unwrap();
    }
}

/// A service that runs.
pub(crate) struct Serving {
    stop: oneshot::Sender<()>,
    serving: JoinHandle<Result<(), ServiceError>>,
}

impl Serving {
    pub(crate) async fn stop(self) {
        let _told = self.stop.send(());
        self.serving.await.unwrap().unwrap();
    }
}
