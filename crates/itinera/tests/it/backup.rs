//! A backup holds the whole installation: restored elsewhere, it shows the same, and its agents go on.

use crate::ingest::{compressed, join_all, live_only};
use crate::support::{PATIENCE, Service, eventually, run};
use itinera_agent::Exchange;
use itinera_lab::Density;
use itinera_model::unit::Tick;
use std::collections::BTreeSet;
use std::path::Path;
use std::time::Duration;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

fn text(path: &Path) -> String {
    path.display().to_string()
}

fn contents(service: &Service) -> Vec<serde_json::Value> {
    let lists: [&[&str]; 5] =
        [&["incidents", "list"], &["users", "list"], &["paths"], &["events"], &["alarms"]];
    lists.into_iter().map(|list| service.json(list)).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_restored_service_shows_the_same_and_keeps_its_agents() {
    let mut service = Service::start();
    let lab = itinera_lab::run(&live_only(), 2, &Density::default(), Tick::from_millis(120_000));
    let (names, identities) = join_all(&service, &lab).await;
    let mut exchanges: Vec<_> =
        identities.iter().map(|of| (of.agent, Exchange::of(of).unwrap())).collect();
    let mut batches = lab.batches(&names, 10);
    let last = batches.pop().unwrap();
    for batch in &batches {
        let (_, exchange) = exchanges.iter().find(|(agent, _)| *agent == batch.agent).unwrap();
        exchange.upload(compressed(batch)).await.unwrap();
    }
    exchanges.retain(|(agent, _)| *agent == last.agent);
    let (_, exchange) = exchanges.pop().unwrap();
    let rounds = batches.iter().flat_map(|batch| &batch.paths.rounds);
    let measured: BTreeSet<String> = rounds.map(|round| round.path.to_string()).collect();
    let version = exchange.schedule(0, &[]).await.unwrap().unwrap().version;
    service.json(&["incidents", "open", "--site", "Eskerry", "--service", "Seat Booking"]);
    let file = text(&service.path().join("installation.backup"));
    let data = text(&service.data());
    tokio::task::block_in_place(|| {
        // These rounds are late: they are judged once no more of them come.
        eventually("judgement of everything", PATIENCE, || {
            let paths = service.json(&["paths"]);
            let judged = paths.as_array()?.iter().filter(|path| !path["latest"].is_null());
            let judged: BTreeSet<&str> = judged.filter_map(|path| path["id"].as_str()).collect();
            measured.iter().all(|path| judged.contains(path.as_str())).then_some(())
        });
    });
    let before = contents(&service);

    let made = run(&["backup", &file, "--data", &data, "--format", "json"]).json();
    assert_eq!(made["bytes"], std::fs::metadata(&file).unwrap().len());
    let again = run(&["backup", &file, "--data", &data]);
    assert_eq!(again.code, Some(4), "{again:?}");
    let full = run(&["restore", &file, "--data", &data]);
    assert_eq!(full.code, Some(4), "{full:?}");

    // What agents are told after the backup is lost with the database.
    let until = (OffsetDateTime::now_utc() + Duration::from_secs(3_600)).format(&Rfc3339).unwrap();
    let site = ["--site", "Eskerry", "--until", &until, "--reason", "later"];
    service.json(&[&["suppressions", "add"][..], &site].concat());
    let told = exchange.schedule(version, &[]).await.unwrap().unwrap().version;
    assert!(told > version);
    tokio::task::block_in_place(|| service.stop());
    let stopped = run(&["backup", &file, "--overwrite", "--data", &data]);
    assert_eq!(stopped.code, Some(3), "{stopped:?}");
    std::fs::remove_dir_all(service.data()).unwrap();

    // A damaged file is refused with the reason, and nothing is made.
    let whole = std::fs::read(&file).unwrap();
    let cut = text(&service.path().join("cut.backup"));
    std::fs::write(&cut, &whole[..whole.len() / 2]).unwrap();
    let damaged = run(&["restore", &cut, "--data", &data]);
    assert_eq!(damaged.code, Some(5), "{damaged:?}");
    assert!(!service.data().exists());

    let restored = run(&["restore", &file, "--data", &data, "--format", "json"]).json();
    assert_eq!(restored["agents"], identities.len());
    tokio::task::block_in_place(|| service.restart());
    assert_eq!(contents(&service), before);
    let recomputed = run(&["recompute", "--data", &data]);
    assert_eq!(recomputed.code, Some(0), "{recomputed:?}");
    let again = tokio::time::timeout(Duration::from_secs(30), exchange.schedule(told, &[])).await;
    let again = again.unwrap().unwrap().unwrap();
    assert!(again.version > told, "the agent hears of the schedule at once");
    exchange.upload(compressed(&last)).await.unwrap();
}
