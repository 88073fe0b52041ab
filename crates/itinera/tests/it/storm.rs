//! The service is killed at random moments while hundreds of paths fail at once and some agents are cut off:
//! one incident, one alarm, and every notice under its one id.
//!
//! `ITINERA_STORM_KILLS` and `ITINERA_STORM_SEED` draw others.
#![allow(clippy::print_stdout, reason = "the long form prints")]

#[path = "../../benches/common/report.rs"]
mod report;

use crate::chaos::{Draw, each_notice_has_arrived, receive, setting, settled};
use crate::support::{PATIENCE, Service, directory, eventually};
use itinera_model::id::AgentId;
use itinera_model::protocol::Task;
use itinera_store::cluster::Cluster;
use itinera_store::{IncidentRecord, Lasting, NewAgent, Store};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use uuid::Uuid;

const AGENTS: u8 = 24;
const CUT_OFF: usize = 3;
const WINDOW_S: u64 = 10;
/// Windows that are reported before the storm.
const BEFORE: u64 = 30;

type Joined = (u8, AgentId, Vec<Task>);

async fn join(store: &Store, number: u8) -> Joined {
    let (secret, now) = ([number + 1; 32], OffsetDateTime::now_utc());
    let sites = store.sites().await.unwrap();
    let site = &sites[usize::from(number) % sites.len()];
    let until = now + Duration::from_secs(60);
    store.add_join_code(secret, site, now, until, "test").await.unwrap();
    let id = AgentId::from_uuid(Uuid::now_v7());
    let new = NewAgent { id, certificate_sha256: secret, version: "0".into() };
    store.redeem_join_code(secret, &new, now).await.unwrap();
    let mut tasks = store.schedule_for(id).await.unwrap().tasks;
    // What is reported has addresses of this version.
    tasks.retain(|task| task.address.is_ipv4());
    (number, id, tasks)
}

/// Has agents report a round of each of their paths.
async fn report(store: &Store, agents: &[Joined], seq: u64, at: OffsetDateTime, fault: Option<u8>) {
    for (number, agent, tasks) in agents {
        let batch = report::batch(*agent, *number, tasks, (seq, at), fault);
        store.commit_batch(*agent, &batch, OffsetDateTime::now_utc()).await.unwrap();
    }
}

/// Reports of the storm in real time, until it is over.
async fn rage(store: Store, agents: Vec<Joined>, over: Arc<AtomicBool>) {
    let begin = Instant::now();
    for window in 0.. {
        if over.load(Ordering::Relaxed) {
            return;
        }
        let fault = Some(report::BEHIND_CORE);
        let now = OffsetDateTime::now_utc();
        report(&store, &agents, BEFORE + window, now, fault).await;
        let next = begin + Duration::from_secs((window + 1) * WINDOW_S);
        tokio::time::sleep_until(next.into()).await;
    }
}

/// Incidents in which paths fail.
async fn of_paths(store: &Store) -> Vec<IncidentRecord> {
    let mut all = store.incidents(Lasting::default(), None, 1_000).await.unwrap();
    all.retain(|incident| !incident.alarms.is_empty());
    all
}

#[test]
fn a_storm_is_one_incident_though_the_service_is_killed_at_random_moments_of_it() {
    let kills = setting("ITINERA_STORM_KILLS", 20);
    let mut draw = Draw(setting("ITINERA_STORM_SEED", 1));
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let database = directory();
    let cluster = runtime.block_on(Cluster::start(database.path())).unwrap();
    let url = Cluster::url_in(database.path());
    let mut service = Service::start_with(|text: &str| format!("database = \"{url}\"\n{text}"));
    let inbox = receive(&service, &runtime);
    let store = runtime.block_on(Store::open(&url)).unwrap();
    let mut agents = Vec::new();
    for number in 0..AGENTS {
        agents.push(runtime.block_on(join(&store, number)));
    }
    let first = OffsetDateTime::now_utc() - Duration::from_secs(BEFORE * WINDOW_S);
    for seq in 0..BEFORE {
        let at = first + Duration::from_secs(seq * WINDOW_S);
        runtime.block_on(report(&store, &agents, seq, at, None));
    }
    eventually("judgement of what was before", PATIENCE, || {
        (service.json(&["status"])["unjudged_commits"] == 0).then_some(())
    });

    let storm = agents.split_off(CUT_OFF);
    let paths: usize = storm.iter().map(|(.., tasks)| tasks.len()).sum();
    let over = Arc::new(AtomicBool::new(false));
    let raging = runtime.spawn(rage(store.clone(), storm, Arc::clone(&over)));
    for nth in 1..=kills {
        draw.pause(4_000);
        service.kill_and_restart();
        println!("{nth} of {kills} kills");
    }
    let whole = eventually("one incident of all paths", PATIENCE, || {
        let incidents = runtime.block_on(of_paths(&store));
        let showing = incidents.iter().flat_map(|incident| &incident.alarms);
        let showing: usize = showing.map(|record| record.alarm.showing.len()).sum();
        (showing == paths).then_some(incidents)
    });
    over.store(true, Ordering::Relaxed);
    runtime.block_on(raging).unwrap();
    let [incident] = &whole[..] else { panic!("{} incidents", whole.len()) };
    let [record] = &incident.alarms[..] else { panic!("{} alarms", incident.alarms.len()) };
    assert_eq!((record.alarm.paths.len(), record.cleared_at), (paths, None));
    let states = runtime.block_on(store.alarm_states(vec![record.id.as_uuid()])).unwrap();
    let states = &states[&record.id.as_uuid()];
    assert!(states.iter().all(|change| change.state == states[0].state), "{states:?}");
    each_notice_has_arrived(&settled(&store, &runtime), &inbox);
    drop(service);
    drop(store);
    runtime.block_on(cluster.stop()).unwrap();
}
