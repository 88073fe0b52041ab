//! An agent with paths to measure, on a private cluster of the bench's own.

use itinera_model::id::{AgentId, PathId};
use itinera_model::path::{Family, Method};
use itinera_model::protocol::Pacing;
use itinera_store::cluster::Cluster;
use itinera_store::{MeasurementPlan, NewAgent, Schedule, SiteSpec, Store, TargetSpec};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

/// A cluster in a directory, with an open store.
pub(crate) async fn open(directory: &Path) -> (Cluster, Store) {
    std::fs::set_permissions(directory, PermissionsExt::from_mode(0o755)).unwrap();
    let cluster = Cluster::start(directory).await.unwrap();
    let store = Store::open(&Cluster::url_in(directory)).await.unwrap();
    (cluster, store)
}

/// An agent that has joined, and its paths: one to each of some targets.
pub(crate) async fn agent_and_paths(store: &Store, targets: u8) -> (AgentId, Vec<PathId>) {
    let target = |number: u8| TargetSpec {
        name: format!("Berth {number}"),
        service: format!("Berth {number}"),
        addresses: vec![[198, 18, 128, number].into()],
        methods: vec![Method::IcmpEcho],
        port: None,
        host: None,
        checks: Vec::new(),
        intended: None,
    };
    let schedule = Schedule {
        interval_ms: 10_000,
        probes_per_hop: 3,
        timeout_ms: 2_000,
        size_bytes: 64,
        last_hop: 30,
        full_every: 1,
        pacing: Pacing::default(),
        enumerate_every_s: 0,
        two_way: itinera_store::TwoWaySchedule::default(),
        host_facts_every_s: 0,
    };
    let site = SiteSpec {
        name: "Eskerry".into(),
        families: vec![Family::Ipv4],
        reached_at: Vec::new(),
        paired_with: Vec::new(),
    };
    let targets = (1..=targets).map(target).collect();
    let plan = MeasurementPlan { sites: vec![site], targets, schedule };
    store.reconcile(&plan).await.unwrap();
    let site = store.sites().await.unwrap().remove(0);
    let now = OffsetDateTime::now_utc();
    store.add_join_code([7; 32], &site, now, now + Duration::hours(1), "bench").await.unwrap();
    let id = AgentId::from_uuid(Uuid::now_v7());
    let new = NewAgent { id, certificate_sha256: [1; 32], version: "0".into() };
    store.redeem_join_code([7; 32], &new, now).await.unwrap();
    let tasks = store.schedule_for(id).await.unwrap().tasks;
    (id, tasks.into_iter().map(|task| task.path).collect())
}
