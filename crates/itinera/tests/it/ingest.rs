//! What agents measured arrives shuffled, twice, late, and while the service is killed: every
//! issued round is recorded exactly once, and judgement says the same as if nothing had happened.

use crate::support::{PATIENCE, Service, WORLD, eventually};
use itinera_agent::{Exchange, ExchangeError, Identity};
use itinera_analysis::{Effect, Limits, Stage};
use itinera_lab::{Density, LabRun, Names, run};
use itinera_model::batch::Batch;
use itinera_model::codec::encode;
use itinera_model::finding::Finding;
use itinera_model::id::PathId;
use itinera_model::path::Method;
use itinera_model::unit::{Tick, WallTime};
use itinera_simnet::Scenario;
use itinera_store::Store;
use itinera_store::cluster::Cluster;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// The demonstration's world with the live fault alone.
pub(crate) fn live_only() -> Scenario {
    // Other events, and the hosts that only those need, stand behind these words.
    Scenario::parse(WORLD.split("# What services are there").next().unwrap()).unwrap()
}

/// Joins an agent for every site of the run; gives the names the service knows them by.
pub(crate) async fn join_all(service: &Service, lab: &LabRun) -> (Names, Vec<Identity>) {
    let mut names = Names::default();
    let mut identities: Vec<Identity> = Vec::new();
    for path in &lab.paths {
        if names.agents.contains_key(&path.agent) {
            continue;
        }
        let identity = service.join(&path.site.name, &path.site.id).await;
        names.agents.insert(path.agent, identity.agent);
        let schedule = Exchange::of(&identity).unwrap().schedule(0, &[]).await.unwrap().unwrap();
        for own in lab.paths.iter().filter(|own| own.agent == path.agent) {
            let task = schedule.tasks.iter().find(|task| {
                task.address == own.addresses.destination() && task.method == Method::IcmpEcho
            });
            names.paths.insert(own.id, task.unwrap().path);
        }
        identities.push(identity);
    }
    (names, identities)
}

/// Another order, the same every time: neighbours end up far apart, some come twice.
fn disturbed(mut batches: Vec<Batch>) -> Vec<Batch> {
    let again: Vec<Batch> = batches.iter().step_by(4).cloned().collect();
    batches.extend(again);
    batches.sort_by_key(|batch| {
        let own = u64::from(batch.agent.as_uuid().as_bytes()[15]);
        (batch.seq * 31 + own).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 20
    });
    batches
}

pub(crate) fn compressed(batch: &Batch) -> Vec<u8> {
    zstd::encode_all(encode(batch).as_slice(), 3).unwrap()
}

/// Uploads until acknowledged, as an agent does.
async fn upload(exchange: &Exchange, batch: &Batch, acknowledged: &AtomicUsize) {
    for _ in 0..600 {
        match exchange.upload(compressed(batch)).await {
            Ok(receipt) => {
                assert_eq!(receipt.refused_rounds, 0);
                acknowledged.fetch_add(1, Ordering::Relaxed);
                return;
            }
            Err(ExchangeError::Refused { detail, .. }) => panic!("refused: {detail}"),
            Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
    panic!("a batch was never acknowledged");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn shuffled_doubled_late_and_killed_in_the_middle_ends_in_the_same_record() {
    let begun = OffsetDateTime::now_utc().date();
    let mut service = Service::start();
    let lab = run(&live_only(), 2, &Density::default(), Tick::from_millis(240_000));
    let (names, identities) = join_all(&service, &lab).await;
    let batches = disturbed(lab.batches(&names, 10));
    let total = batches.len();
    let acknowledged = std::sync::Arc::new(AtomicUsize::new(0));
    let uploads: Vec<_> = identities
        .iter()
        .map(|identity| {
            let exchange = Exchange::of(identity).unwrap();
            let own: Vec<Batch> =
                batches.iter().filter(|batch| batch.agent == identity.agent).cloned().collect();
            let acknowledged = std::sync::Arc::clone(&acknowledged);
            tokio::spawn(async move {
                for batch in &own {
                    upload(&exchange, batch, &acknowledged).await;
                }
            })
        })
        .collect();
    for third in 1..=2 {
        while acknowledged.load(Ordering::Relaxed) < total * third / 3 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        tokio::task::block_in_place(|| service.kill_and_restart());
    }
    for upload in uploads {
        upload.await.unwrap();
    }
    assert_eq!(acknowledged.load(Ordering::Relaxed), total);
    tokio::task::block_in_place(|| {
        eventually("judgement of everything", PATIENCE, || {
            (service.json(&["status"])["unjudged_commits"] == 0).then_some(())
        });
    });

    let store = Store::open(&Cluster::url_in(&service.data())).await.unwrap();
    every_round_once(&store, &lab, &names).await;
    same_findings(&store, &lab, &names).await;
    let data = service.data().display().to_string();
    let recompute = |more: &[&str]| {
        let of = ["recompute", "--data", &data, "--format", "json"];
        tokio::task::block_in_place(|| crate::support::run(&[&of[..], more].concat()).json())
    };
    let recomputed = recompute(&[]);
    assert!(recomputed["findings"]["recorded"].as_u64().unwrap() > 50, "{recomputed}");
    assert_eq!(recomputed["rounds"].as_u64().unwrap(), lab.rounds.len() as u64);

    // Each round is summed up once as well, in the year in which it was measured.
    let id = names.paths[&lab.paths[0].id];
    let issued = lab.rounds.iter().filter(|issued| issued.round.path == lab.paths[0].id).count();
    let history = tokio::task::block_in_place(|| {
        eventually("rollups of every round", PATIENCE, || {
            let history = service.json(&["history", &id.to_string(), "--days", "3650"]);
            let points = history["points"].as_array()?;
            let rounds: u64 = points.iter().filter_map(|point| point["rounds"].as_u64()).sum();
            (rounds == issued as u64).then_some(history)
        })
    });
    assert_eq!(history["span_s"], 86_400);
    let of_routes = ["history", &id.to_string(), "--days", "3650", "--by-route"];
    let of_routes = tokio::task::block_in_place(|| service.json(&of_routes));
    let routes = of_routes["routes"].as_array().unwrap();
    let rounds = |of: &Value| of["sum"]["rounds"].as_u64().unwrap();
    assert_eq!(routes.iter().map(rounds).sum::<u64>(), issued as u64, "{of_routes}");
    let hops = lab.rounds.iter().filter(|it| it.round.path == lab.paths[0].id);
    let seen: BTreeSet<_> = hops.map(|it| it.route.id().to_string()).collect();
    let named = routes.iter().map(|route| route["route"].as_str().unwrap().to_owned());
    assert_eq!(named.collect::<BTreeSet<_>>(), seen);
    assert!(history["points"][0]["delay_p50_us"].as_u64() > Some(0), "{history}");
    let storage = tokio::task::block_in_place(|| service.json(&["storage"]));
    assert!(storage["bytes"].as_u64() > Some(1_000_000), "{storage}");
    assert!(storage["free_bytes"].as_u64() > Some(0), "{storage}");

    tokio::task::block_in_place(|| every_probe_is_counted(&service, &lab, &names));

    // A start within a day is no beginning of a day.
    let stage = (Stage::Findings.name(), Stage::Findings.version());
    let opening = store.opening_memory(None, stage).await.unwrap();
    assert!(opening.is_none_or(|(day, _)| day > begun), "{begun}");
}

async fn every_round_once(store: &Store, lab: &LabRun, names: &Names) {
    for path in &lab.paths {
        let recorded = store.rounds_of(names.paths[&path.id]).await.unwrap();
        let recorded: Vec<_> =
            recorded.into_iter().map(|round| (round.number, round.hops)).collect();
        let issued = lab.rounds.iter().filter(|issued| issued.round.path == path.id);
        let mut issued: Vec<_> = issued
            .map(|issued| (issued.round.number.cast_signed(), issued.round.hops.clone()))
            .collect();
        issued.sort_by_key(|(number, _)| *number);
        assert!(recorded == issued, "{} to {}", path.site.name, path.target.name);
    }
}

/// The counts of each path by hop are those of the rounds issued.
fn every_probe_is_counted(service: &Service, lab: &LabRun, names: &Names) {
    for path in &lab.paths {
        let rounds: Vec<_> =
            lab.rounds.iter().filter(|it| it.round.path == path.id).map(|it| &it.round).collect();
        let mut issued: Vec<(u64, u64)> = Vec::new();
        for round in &rounds {
            issued.resize(issued.len().max(round.hops.len()), (0, 0));
            for (sum, hop) in issued.iter_mut().zip(&round.hops) {
                let heard = u64::from(hop.answers()) + u64::from(hop.late);
                let sent = u64::from(hop.sent);
                *sum = (sum.0 + sent, sum.1 + sent.saturating_sub(heard));
            }
        }
        let times = || rounds.iter().map(|round| round.clocks.corrected_wall());
        let time = |at: Option<WallTime>, more_us: i64| {
            at.unwrap().plus_micros(more_us).date_time().unwrap().format(&Rfc3339).unwrap()
        };
        let (from, to) = (time(times().min(), -60_000_000), time(times().max(), 60_000_000));
        let id = names.paths[&path.id].to_string();
        eventually("evidence of every round", PATIENCE, || {
            let counts = service.json(&["counts", &id, "--from", &from, "--to", &to]);
            let steps = counts["steps"].as_array()?;
            let routes = steps.iter().flat_map(|step| step["routes"].as_array().unwrap());
            let mut counted = vec![(0, 0); issued.len()];
            for hop in routes.flat_map(|route| route["hops"].as_array().unwrap()) {
                let count = |name: &str| hop[name].as_u64().unwrap();
                let sum = &mut counted[usize::try_from(count("hop") - 1).unwrap()];
                *sum = (sum.0 + count("sent"), sum.1 + count("lost"));
            }
            (counted == issued).then_some(())
        });
    }
}

/// Waits until the stored findings are those of an undisturbed judge in this process: late rounds are judged
/// when no more of them come.
async fn same_findings(store: &Store, lab: &LabRun, names: &Names) {
    let mut undisturbed: BTreeMap<(PathId, i64), Finding> = BTreeMap::new();
    for (_, effect) in lab.judge(Limits::default()).1 {
        let Effect::Assessed { window, assessment, .. } = effect else { continue };
        let key = (names.paths[&assessment.path], window);
        match assessment.finding.clone() {
            Some(finding) => undisturbed.insert(key, finding),
            None => undisturbed.remove(&key),
        };
    }
    let deadline = Instant::now() + PATIENCE;
    loop {
        let recorded = store.recorded().await.unwrap().findings.into_iter();
        let recorded: BTreeMap<(PathId, i64), Finding> =
            recorded.map(|(path, window, finding)| ((path, window), finding)).collect();
        if recorded == undisturbed {
            return;
        }
        let lengths = (recorded.len(), undisturbed.len());
        assert!(Instant::now() < deadline, "recorded and expected findings: {lengths:?}");
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
}
