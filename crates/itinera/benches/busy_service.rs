//! How long users wait while agents upload, beside the same service idle in the same run.
//! `cargo bench --package itinera`; `-- --smoke` is a short form for tests.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    reason = "a bench prints"
)]

#[path = "common/user.rs"]
mod user;

use itinera_agent::Exchange;
use itinera_model::batch::Batch;
use itinera_model::codec::encode;
use itinera_model::id::BootId;
use itinera_model::protocol::{Schedule, Task};
use itinera_model::quantile::quantile;
use itinera_model::reading::Reading;
use itinera_model::round::{Clocks, HopCounts, Lateness, Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_service::{Config, Service};
use reqwest::Method;
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use user::User;
use uuid::Uuid;

const SERVICE: &str = include_str!("../../../demo/service.toml");
/// Rounds in the batch that each agent uploads each second, and their hops.
const ROUNDS: u64 = 5;
const HOPS: u8 = 12;
/// Agents, and requests of each kind that are measured; in the short form less.
const LONG: (usize, usize) = (200, 100);
const SHORT: (usize, usize) = (4, 5);

/// 95th percentiles of signing in and of the state, in milliseconds.
async fn waits(user: &User, requests: usize) -> [f64; 2] {
    let (mut sign_in, mut state) = (Vec::new(), Vec::new());
    for _ in 0..requests {
        let begun = Instant::now();
        user.sign_in().await;
        sign_in.push(begun.elapsed());
        state.push(user.get("status").await);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    [sign_in, state].map(|mut all| {
        all.sort_unstable();
        quantile(&all, 95, 100).unwrap().as_secs_f64() * 1e3
    })
}

fn batch(agent: itinera_model::id::AgentId, boot: BootId, tasks: &[Task], seq: u64) -> Batch {
    let mut batch = Batch::new(agent, boot, seq);
    let clocks = Clocks {
        boot,
        tick: Tick::from_millis(seq * 1_000),
        wall: WallTime::from(time::OffsetDateTime::now_utc()),
        offset_us: Some(0),
        offset_error_us: Some(500),
    };
    for n in 0..ROUNDS {
        let number = seq * ROUNDS + n;
        let task = &tasks[usize::try_from(number).unwrap() % tasks.len()];
        let flow = Flow {
            source: [10, 1, 0, 2].into(),
            destination: task.address,
            method: task.method,
            source_port: 1,
            destination_port: 2,
            dscp: 0,
        };
        let resolution = Resolution { name: None, address: task.address };
        let hops = (1..HOPS).map(|hop| Some([198, 18, 200, hop].into()));
        let route = Route { hops: hops.chain([Some(task.address)]).collect() };
        let reading = Reading { hops: Vec::new() };
        let rtt =
            |hop: u8| Micros::new(u32::from(hop) * 1_500 + u32::try_from(number % 90).unwrap());
        let counts = |hop| HopCounts {
            sent: 3,
            answered: 0b111,
            rtt: vec![rtt(hop); 3],
            ..HopCounts::default()
        };
        let round = Round {
            path: task.path,
            number,
            clocks,
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: None,
            reached_at: Some(HOPS),
            stamps: StampSource::Kernel,
            lateness: Some(Lateness::default()),
            hops: (1..=HOPS).map(counts).collect(),
        };
        batch.paths.add(round, &flow, &resolution, &route, &reading);
    }
    batch
}

/// Uploads a batch each second for ever.
async fn upload(identity: itinera_agent::Identity, uploaded: Arc<AtomicU64>) {
    let exchange = Exchange::of(&identity).unwrap();
    let schedule: Schedule = exchange.schedule(0, &[]).await.unwrap().unwrap();
    let boot = BootId::from_uuid(Uuid::now_v7());
    let mut seconds = tokio::time::interval(Duration::from_secs(1));
    for seq in 0.. {
        seconds.tick().await;
        let batch = batch(identity.agent, boot, &schedule.tasks, seq);
        let octets = zstd::encode_all(encode(&batch).as_slice(), 3).unwrap();
        exchange.upload(octets).await.unwrap();
        uploaded.fetch_add(1, Ordering::Relaxed);
    }
}

#[tokio::main]
async fn main() {
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let short = std::env::args().any(|word| word == "--smoke");
    let (agents, requests) = if short { SHORT } else { LONG };
    let place = tempfile::tempdir().unwrap();
    std::fs::set_permissions(place.path(), PermissionsExt::from_mode(0o755)).unwrap();
    let data = place.path().join("data");
    let text = format!("listen = \"127.0.0.1:0\"\nlisten_agents = \"127.0.0.1:0\"\n{SERVICE}");
    let mut config = Config::parse(&text).unwrap();
    config.data.clone_from(&data);
    let service = Service::start(&config, |_| {}).await.unwrap();
    let api = format!("http://{}", service.address());
    let agents_url = format!("https://{}", service.agents_address());
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let serving = tokio::spawn(service.run(async {
        let _told = stopped.await;
    }));
    let user = User::first(api, &data).await;
    let sites: Vec<String> = config.plan.sites.iter().map(|site| site.name.clone()).collect();
    let mut identities = Vec::new();
    for number in 0..agents {
        let site = serde_json::json!({ "site": sites[number % sites.len()] });
        let made = user.request(Method::POST, "join-codes").json(&site).send().await.unwrap();
        let made: serde_json::Value = made.json().await.unwrap();
        let code = made["code"].as_str().unwrap().parse().unwrap();
        let directory = place.path().join(format!("agent-{number}"));
        identities.push(itinera_agent::join(&code, &agents_url, &directory).await.unwrap());
    }
    let idle = waits(&user, requests).await;
    let uploaded = Arc::new(AtomicU64::new(0));
    let mut uploading = tokio::task::JoinSet::new();
    for identity in identities {
        uploading.spawn(upload(identity, Arc::clone(&uploaded)));
    }
    // Every agent has its schedule and has begun.
    while uploaded.load(Ordering::Relaxed) < 2 * agents as u64 {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let (before, begun) = (uploaded.load(Ordering::Relaxed), Instant::now());
    let busy = waits(&user, requests).await;
    let per_s = (uploaded.load(Ordering::Relaxed) - before) as f64 / begun.elapsed().as_secs_f64();
    println!("{agents} agents, {per_s:.0} batches/s of {ROUNDS} rounds, all in one process");
    for (what, (idle, busy)) in ["sign in", "state"].iter().zip(idle.iter().zip(busy)) {
        println!(
            "{what:<8} p95  idle {idle:>7.1} ms  busy {busy:>7.1} ms  {:>5.1} times as long",
            busy / idle
        );
    }
    drop(uploading);
    let _told = stop.send(());
    serving.await.unwrap().unwrap();
}
