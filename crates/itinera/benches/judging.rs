//! Judgement of a log as it is after some minutes without it, beside ingest of the same rounds in the
//! same run: sealing and writing included, on a private cluster. How long a user's pages take meanwhile,
//! beside those of the same service when it is idle. Then a restart, until it judges.
//! `cargo bench --package itinera --bench judging`; `-- --rounds 180` judges as many rounds of each path
//! as judgement remembers, and `-- --smoke` is a short form for tests. Ratios mean more than rates: both
//! share the machine.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    reason = "a bench prints"
)]

mod common;
#[path = "common/installation.rs"]
mod installation;
#[path = "common/reader.rs"]
mod reader;
#[path = "common/report.rs"]
mod report;
#[path = "common/user.rs"]
mod user;

use installation::Installation;
use reader::Reader;
use std::path::Path;
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use uuid::Uuid;

/// Agents, targets of each, rounds of each path; in the short form less.
const LONG: (u8, u8, u64) = (50, 200, 30);
const SHORT: (u8, u8, u64) = (2, 4, 6);
/// Seconds from round to round.
const INTERVAL_S: u64 = 10;
/// How often it is asked how much is left to be judged: asking costs 20 ms of the database's time.
const POLL: Duration = Duration::from_secs(1);
/// Requests of each kind when it is idle, in the long form and in the short one.
const REQUESTS: (usize, usize) = (100, 5);
/// Clock ticks of the kernel's accounts in a second.
const TICKS: f64 = 100.0;

/// Seconds of processor time of a process: its own, and with `ended` those of its ended children.
fn processor_s(process: &str, ended: bool) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let fields = stat.rsplit(')').next().unwrap_or_default().split_whitespace();
    let ticks: Vec<f64> = fields.skip(11).take(4).filter_map(|it| it.parse().ok()).collect();
    ticks.iter().take(if ended { 4 } else { 2 }).sum::<f64>() / TICKS
}

/// Seconds of processor time of the database's processes.
fn database_s(cluster: &Path) -> f64 {
    let file = std::fs::read_to_string(cluster.join("postmaster.pid")).unwrap_or_default();
    let Some(server) = file.lines().next() else { return 0.0 };
    let children = std::fs::read_to_string(format!("/proc/{server}/task/{server}/children"));
    let children = children.unwrap_or_default();
    let children: f64 = children.split_whitespace().map(|it| processor_s(it, false)).sum();
    children + processor_s(server, true)
}

fn resident_mb() -> f64 {
    let state = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = state.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or_default();
    line.trim().trim_end_matches(" kB").parse::<f64>().unwrap_or(0.0) / 1e3
}

/// Processor time so far: this process, and the database.
fn both_s(cluster: &Path) -> [f64; 2] {
    [processor_s("self", false), database_s(cluster)]
}

/// Rounds of each path that are asked for.
fn rounds_asked() -> Option<u64> {
    let mut words = std::env::args().skip_while(|word| word != "--rounds");
    words.nth(1).map(|number| number.parse().unwrap())
}

/// Waits until everything is judged, and prints the memory at each quarter of the commits.
async fn judged(installation: &Installation, commits: u64) {
    let mut quarter = 1;
    let on_left = |left| {
        while quarter <= 4 && left <= commits * (4 - quarter) / 4 {
            println!("resident memory     {:>8.0} MB after {quarter} of 4 parts", resident_mb());
            quarter += 1;
        }
    };
    installation.judged(POLL, on_left).await;
}

#[tokio::main]
async fn main() {
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let short = std::env::args().any(|word| word == "--smoke");
    let (agents, targets, reports) = if short { SHORT } else { LONG };
    let reports = rounds_asked().unwrap_or(reports);
    let installation = Installation::new(agents, targets).await;
    let store = &installation.store;
    let directory = installation.config.data.with_file_name("cluster");
    // What its first start entered into the log is of a later time than the rounds.
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    assert!(store.forget_empty_log(token).await.unwrap());
    store.release_leases(None).await.unwrap();
    let span = Duration::from_secs(reports * INTERVAL_S);
    let first = OffsetDateTime::now_utc() - span;
    let (mut ingest, before) = (Duration::ZERO, both_s(&directory));
    for seq in 0..reports {
        let at = first + Duration::from_secs(seq * INTERVAL_S);
        for (number, (agent, tasks)) in &installation.agents {
            let batch = report::batch(*agent, *number, tasks, (seq, at), None);
            let begun = Instant::now();
            store.commit_batch(*agent, &batch, at + Duration::from_secs(2)).await.unwrap();
            ingest += begun.elapsed();
        }
    }
    let after = both_s(&directory);
    let rounds = reports as f64 * f64::from(agents) * f64::from(targets);
    println!(
        "{rounds} rounds of {} hops on {} paths, one every {INTERVAL_S} s",
        report::HOPS,
        u32::from(agents) * u32::from(targets)
    );
    let ingest_s = ingest.as_secs_f64();
    println!("ingest, one writer  {:>8.0} rounds/s", rounds / ingest_s);
    println!("  processor time    {:>8.1} s with making them", after[0] - before[0]);
    println!("  of the database   {:>8.1} s", after[1] - before[1]);

    let before = both_s(&directory);
    let begun = Instant::now();
    let (address, service) = installation.serve().await;
    let mut reader = Reader::new(format!("http://{address}"), &installation).await;
    reader.read_while(judged(&installation, reports * u64::from(agents))).await;
    let judged_s = begun.elapsed().as_secs_f64();
    let after = both_s(&directory);
    let (own_s, database_s) = (after[0] - before[0], after[1] - before[1]);
    println!("judgement           {:>8.0} rounds/s", rounds / judged_s);
    println!("  of ingest         {:>8.2} of its rate", ingest_s / judged_s);
    println!("  of real time      {:>8.1} times as fast", span.as_secs_f64() / judged_s);
    println!("  processor time    {own_s:>8.1} s, {:.0} us a round", own_s / rounds * 1e6);
    println!(
        "  of the database   {database_s:>8.1} s, {:.0} us a round",
        database_s / rounds * 1e6
    );
    let share = (own_s + database_s) / rounds * 1_000.0;
    println!("  at 1,000 rounds/s {:>8.0} % of one core", share * 100.0);
    let busy = reader.take_p95();
    reader.read_idle(if short { REQUESTS.1 } else { REQUESTS.0 }).await;
    let idle = reader.take_p95();
    reader.compare("while it judges; idle", busy, idle);
    service.stop().await;
    installation.restart(reports).await;
    installation.end().await;
}
