//! A plan of measurement, and agents that have joined, for benches that fill a store themselves.

use itinera_model::id::AgentId;
use itinera_model::protocol::Task;
use itinera_service::Config;
use itinera_store::{MeasurementPlan, NewAgent, Store};
use std::fmt::Write;
use std::time::Duration;
use time::OffsetDateTime;
use uuid::Uuid;

/// As in the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Name of a site.
pub(crate) fn site(number: u8) -> String {
    format!("Quay {number}")
}

/// So many sites, from 0, and targets: each path is measured every ten seconds by three probes a hop.
pub(crate) fn plan(sites: u8, targets: u8) -> MeasurementPlan {
    let mut text = String::new();
    for number in 0..sites {
        let _infallible = writeln!(text, "[[site]]\nname = \"{}\"", site(number));
    }
    for number in 0..targets {
        let _infallible = writeln!(
            text,
            "[[target]]\nname = \"Berth {number}\"\naddresses = [\"198.18.128.{number}\"]"
        );
    }
    text.push_str("[schedule]\ninterval_ms = 10000\nprobes_per_hop = 3\n");
    Config::parse(&text).unwrap().plan
}

/// Has an agent join at a site; gives what it is to measure.
pub(crate) async fn join(store: &Store, number: u8, now: OffsetDateTime) -> (AgentId, Vec<Task>) {
    let secret = [number + 1; 32];
    let sites = store.sites().await.unwrap();
    let site = sites.into_iter().find(|known| known.name == site(number)).unwrap();
    store.add_join_code(secret, &site, now, now + Duration::from_secs(60), "bench").await.unwrap();
    let id = AgentId::from_uuid(Uuid::now_v7());
    let new = NewAgent { id, certificate_sha256: secret, version: "0".into() };
    store.redeem_join_code(secret, &new, now).await.unwrap();
    (id, store.schedule_for(id).await.unwrap().tasks)
}
