//! Agents while the service or the database is away: every round number they issue is recorded
//! exactly once afterwards, or counted as dropped where the spool's bound was reached.

use crate::processes::Background;
use crate::support::{PATIENCE, Service, WORLD, directory, eventually, itinera, raw_request};
use itinera_store::Store;
use itinera_store::cluster::Cluster;
use rustix::process::Signal;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

const SITE: &str = "Alderskay Head Office";
const AWAY: Duration = Duration::from_secs(6);

pub(crate) fn logged(arguments: &[&str], log: &Path) -> Background {
    let log = std::fs::File::create(log).unwrap();
    let mut command = itinera();
    command.args(arguments).stdout(log.try_clone().unwrap()).stderr(log);
    Background::start(&mut command)
}

/// A joined agent with the simulated internet around it.
struct Measuring {
    agent: Background,
    _simulation: Background,
    data: PathBuf,
}

impl Measuring {
    async fn start(service: &Service, spool_max_bytes: &str) -> Self {
        service.join(SITE, "agent").await;
        let place = service.path();
        let data = place.join("agent");
        let world = place.join("world.toml");
        std::fs::write(&world, WORLD).unwrap();
        let [port] = crate::support::free_ports();
        let listen = format!("127.0.0.1:{port}");
        let world = world.display().to_string();
        let simulation = logged(
            &["simulate", &world, "--seed", "2", "--listen", &listen],
            &place.join("simulation.log"),
        );
        let data_text = data.display().to_string();
        let mut arguments = vec!["agent", "run", "--data", &data_text, "--simulation", &listen];
        arguments.extend(["--address", "10.1.0.2", "--address", "fd00:1::2"]);
        arguments.extend(["--spool-max-bytes", spool_max_bytes]);
        let agent = logged(&arguments, &place.join("agent.log"));
        Self { agent, _simulation: simulation, data }
    }

    /// Ends the agent as it should end, and gives its directory. What has piled up is handed over
    /// first: at its end an agent waits for a limited time.
    fn stop(self) -> PathBuf {
        let Self { agent, data, .. } = self;
        eventually("the spool to be handed over", PATIENCE, || {
            (waiting_in(&data).len() <= 1).then_some(())
        });
        assert!(agent.stop(Signal::TERM).success());
        data
    }
}

/// The batches in an agent's spool.
pub(crate) fn waiting_in(data: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(data.join("spool")).unwrap().flatten();
    entries.map(|entry| entry.path()).filter(|path| path.is_file()).collect()
}

pub(crate) fn rounds(service: &Service) -> i64 {
    let state = service.client(&["status", "--format", "json"]);
    let state: serde_json::Value = serde_json::from_str(&state.out).unwrap_or_default();
    state["rounds"].as_i64().unwrap_or(0)
}

pub(crate) fn wait_for_more(service: &Service, than: i64) {
    eventually("more rounds", PATIENCE, || (rounds(service) > than).then_some(()));
}

/// Round numbers by path, as recorded.
async fn recorded(store: &Store) -> BTreeMap<itinera_model::id::PathId, Vec<i64>> {
    let mut by_path = BTreeMap::new();
    for path in store.paths(None, 1_000).await.unwrap() {
        let rounds = store.rounds_of(path.id).await.unwrap();
        by_path.insert(path.id, rounds.iter().map(|round| round.number).collect());
    }
    by_path
}

pub(crate) fn faster(text: &str) -> String {
    text.replace("interval_ms = 2000", "interval_ms = 500")
        .replace("timeout_ms = 1000", "timeout_ms = 300")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_round_is_recorded_once_though_service_and_database_were_away() {
    let database = directory();
    let cluster = Cluster::start(database.path()).await.unwrap();
    let url = Cluster::url_in(database.path());
    let service = |text: &str| format!("database = \"{url}\"\n{}", faster(text));
    let mut service = tokio::task::block_in_place(|| Service::start_with(service));
    let measuring = Measuring::start(&service, "67108864").await;
    tokio::task::block_in_place(|| {
        wait_for_more(&service, 60);
        let before = rounds(&service);
        service.kill();
        std::thread::sleep(AWAY);
        service.restart();
        wait_for_more(&service, before + 60);
    });
    let before = tokio::task::block_in_place(|| rounds(&service));
    cluster.stop().await.unwrap();
    tokio::time::sleep(AWAY).await;
    let cluster = Cluster::start(database.path()).await.unwrap();
    let data = tokio::task::block_in_place(|| {
        wait_for_more(&service, before + 60);
        measuring.stop()
    });

    let left = waiting_in(&data);
    assert!(left.is_empty(), "{left:?} is still in the spool");
    let store = Store::open(&url).await.unwrap();
    let recorded = recorded(&store).await;
    assert_eq!(recorded.len(), 13, "two versions of IP, two methods");
    for (path, numbers) in recorded {
        // 500 ms from round to round, and twelve seconds of outages in between.
        assert!(numbers.len() > 30, "{path}: {} rounds", numbers.len());
        let issued: Vec<i64> = (0..i64::try_from(numbers.len()).unwrap()).collect();
        assert_eq!(numbers, issued, "{path}");
    }
    drop(service);
    cluster.stop().await.unwrap();
}

/// The same with nothing but paths: what else is dropped counts as well, and has no numbers here.
fn paths_alone(text: &str) -> String {
    let faster = faster(text).replace("host_facts_every_s = 10", "host_facts_every_s = 0");
    let blocks = faster.split("\n\n").filter(|block| !block.contains("[[target.check]]"));
    blocks.collect::<Vec<_>>().join("\n\n")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_full_spool_drops_is_counted() {
    let mut service = tokio::task::block_in_place(|| Service::start_with(paths_alone));
    let measuring = Measuring::start(&service, "30000").await;
    let data = tokio::task::block_in_place(|| {
        wait_for_more(&service, 60);
        service.kill();
        std::thread::sleep(AWAY * 2);
        service.restart();
        let before = rounds(&service);
        wait_for_more(&service, before + 60);
        measuring.stop()
    });
    assert_eq!(waiting_in(&data), Vec::<PathBuf>::new());
    let store = Store::open(&Cluster::url_in(&service.data())).await.unwrap();
    let recorded = recorded(&store).await;
    let count: usize = recorded.values().map(Vec::len).sum();
    // Numbers are consecutive from 0, and the newest are the last to be dropped.
    let issued: i64 = recorded.values().map(|numbers| numbers.last().unwrap() + 1).sum();
    let dropped = store.agents().await.unwrap()[0].dropped_rounds;
    assert!(dropped > 0, "the bound was never reached");
    assert_eq!(i64::try_from(count).unwrap() + dropped, issued);
    drop(service);
}

/// The configuration with other settings of the disk.
fn with_disk(text: &str, settings: [(&str, u32); 2]) -> String {
    let before = text.split("[disk]").next().unwrap();
    let [one, other] = settings.map(|(name, value)| format!("{name} = {value}\n"));
    format!("{before}\n[disk]\n{one}{other}")
}

/// No disk has so many megabytes.
const MORE_THAN_THERE_IS: u32 = 1 << 30;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn with_little_room_rollups_wait_and_with_less_agents_keep_their_measurements() {
    let marks = |low_mb: u32, full_mb: u32| [("low_mb", low_mb), ("full_mb", full_mb)];
    let none = marks(MORE_THAN_THERE_IS, MORE_THAN_THERE_IS);
    let full = |text: &str| with_disk(&faster(text), none);
    let mut service = tokio::task::block_in_place(|| Service::start_with(full));
    let code = |service: &Service| service.json(&["status"])["disk"]["code"].clone();
    tokio::task::block_in_place(|| {
        eventually("a full disk", PATIENCE, || (code(&service) == "disk-full").then_some(()));
    });
    let measuring = Measuring::start(&service, "67108864").await;
    tokio::task::block_in_place(|| {
        eventually("kept batches", PATIENCE, || {
            let spool = measuring.data.join("spool").is_dir();
            (spool && waiting_in(&measuring.data).len() >= 3).then_some(())
        });
        assert_eq!(rounds(&service), 0);
        let ready = raw_request(&service.api(), "GET /readyz", "Host: 127.0.0.1");
        assert!(ready.contains(" 503 ") && ready.contains("disk full"), "{ready}");
        let storage = service.json(&["storage"]);
        assert_eq!(storage["note"]["code"], "disk-full");
        restart_with(&mut service, marks(MORE_THAN_THERE_IS, 1));
        eventually("little room", PATIENCE, || (code(&service) == "disk-low").then_some(()));
        wait_for_more(&service, 60);
        let path = service.json(&["paths"])[0]["id"].as_str().unwrap().to_owned();
        let points = |service: &Service| {
            service.json(&["history", &path])["points"].as_array().map_or(0, Vec::len)
        };
        assert_eq!(points(&service), 0, "rollups wait");
        restart_with(&mut service, marks(1, 1));
        eventually("rollups", PATIENCE, || (points(&service) > 0).then_some(()));
        assert!(code(&service).is_null());
        // The database has reached what it may take.
        restart_with(&mut service, [("database_mb", 1), ("low_mb", 1_000)]);
        eventually("a full database", PATIENCE, || (code(&service) == "disk-full").then_some(()));
        assert_eq!(service.json(&["storage"])["free_bytes"], 0);
        restart_with(&mut service, marks(1, 1));
    });
    tokio::task::block_in_place(|| measuring.stop());
}

fn restart_with(service: &mut Service, settings: [(&str, u32); 2]) {
    service.stop();
    let file = service.path().join("service.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(file, with_disk(&text, settings)).unwrap();
    service.restart();
}
