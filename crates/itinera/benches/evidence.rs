//! Evidence of a day on disk: as judgement publishes it, and summed up by the minute, with indexes; and
//! the time of both, beside judgement of the same rounds. On a private cluster.
//! `cargo bench --package itinera --bench evidence`; `-- --smoke` is a short form for tests.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    reason = "a bench prints"
)]

mod common;

use itinera_analysis::{AgentReport, Effect, Judge, JudgeInput, Observation};
use itinera_model::evidence::EvidenceSubject;
use itinera_model::id::{ContentId, PathId};
use itinera_model::round::{HopCounts, StampSource};
use itinera_model::route::FlowKey;
use itinera_model::unit::{Micros, WallTime};
use itinera_service::evidence;
use itinera_store::cluster::Cluster;
use itinera_store::{EachApart, EvidenceWrite, JudgeWrite, NewEntry, Store};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use uuid::Uuid;

/// Paths, and seconds from round to round; in the short form less.
const LONG: (u8, usize) = (40, 10);
const SHORT: (u8, usize) = (2, 600);
const HOPS: u8 = 20;
const DAY_S: i64 = 86_400;
/// Flows that a path's rounds use in turn.
const FLOWS: u64 = 8;

/// A round of twenty hops, three probes each: a floor of 2 ms more with each hop, up to 0.3 ms of
/// queueing, one answer of fifty up to 8 ms late, one of three hundred missing.
fn round(random: &mut ChaCha8Rng) -> Vec<HopCounts> {
    let hop = |hop: u8| {
        let mut counts = HopCounts { sent: 3, ..HopCounts::default() };
        for probe in 0..3 {
            if random.random_ratio(1, 300) {
                continue;
            }
            let tail = if random.random_ratio(1, 50) { random.random_range(0..8_000) } else { 0 };
            let us = u32::from(hop) * 2_000 + 400 + random.random_range(0..300) + tail;
            counts.answered |= 1 << probe;
            counts.rtt.push(Micros::new(us));
        }
        counts
    };
    (0..HOPS).map(hop).collect()
}

/// Bytes of tables with their indexes, by name.
async fn bytes_of(store: &Store, names: &[&str], now: OffsetDateTime) -> f64 {
    let size = store.database_size(now).await.unwrap();
    let of = size.tables.iter().filter(|table| names.contains(&table.name.as_str()));
    of.map(|table| table.bytes as f64).sum()
}

/// Writes evidence as judgement does, after the first entry of the log.
async fn write_all(store: &Store, token: i64, mut all: Vec<EvidenceWrite>) {
    let mut cursor = 0;
    while !all.is_empty() {
        let evidence = all.split_off(all.len().saturating_sub(5_000));
        let write = JudgeWrite { from: cursor, to: 1, evidence, ..JudgeWrite::default() };
        store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
        cursor = 1;
    }
}

#[tokio::main]
async fn main() {
    let short = std::env::args().any(|word| word == "--smoke");
    let (targets, every_s) = if short { SHORT } else { LONG };
    let place = tempfile::tempdir().unwrap();
    std::fs::set_permissions(place.path(), PermissionsExt::from_mode(0o755)).unwrap();
    let cluster = Cluster::start(place.path()).await.unwrap();
    let store = Store::open(&Cluster::url_in(place.path())).await.unwrap();
    let first = OffsetDateTime::now_utc().date().midnight().assume_utc();
    store.reconcile(&common::plan(1, targets)).await.unwrap();
    let (_, tasks) = common::join(&store, 0, first).await;
    let paths: Vec<PathId> = tasks.into_iter().map(|task| task.path).collect();
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let later = first + time::Duration::days(2);
    let empty = bytes_of(&store, &["evidence"], first).await;
    let empty_hours = bytes_of(&store, &["evidence_hour"], first).await;

    let mut random = ChaCha8Rng::seed_from_u64(1);
    let mut judge = Judge::default();
    let addresses: Vec<Vec<Option<IpAddr>>> = (0..targets)
        .map(|path| (1..=HOPS).map(|hop| Some(IpAddr::from([198, 19, path, hop]))).collect())
        .collect();
    let mut published: BTreeMap<(EvidenceSubject, i64), EvidenceWrite> = BTreeMap::new();
    let (mut judging, mut rounds, mut window_bytes) = (Duration::ZERO, 0u64, 0usize);
    let begin = first.unix_timestamp();
    for second in (begin..begin + DAY_S + 600).step_by(every_s) {
        let hops: Vec<_> = paths.iter().map(|_| round(&mut random)).collect();
        let number = rounds / paths.len() as u64;
        let observation = |(nth, path): (usize, &PathId)| Observation {
            path: *path,
            measured_at: WallTime::from_unix_seconds(second),
            number,
            source: [10, 0, 0, 2].into(),
            flow: FlowKey {
                source_port: 40_000 + u16::try_from(number % FLOWS).unwrap(),
                destination_port: 33_434,
            },
            route: ContentId::of(&[u8::try_from(nth).unwrap()]),
            addresses: &addresses[nth],
            hops: &hops[nth],
            stamps: StampSource::Kernel,
            lateness: None,
            arrived_dscp: None,
        };
        let observations: Vec<_> = paths.iter().enumerate().map(observation).collect();
        let report = JudgeInput::Report(AgentReport::of_rounds(&observations));
        let begun = Instant::now();
        let effects = judge.step(report, WallTime::from_unix_seconds(second + 2));
        judging += begun.elapsed();
        rounds += observations.len() as u64;
        for effect in effects {
            if let Effect::Evidence { subject, minute, part, content } = effect {
                window_bytes += content.as_ref().map_or(0, Vec::len);
                published
                    .insert((subject, minute), EvidenceWrite { subject, minute, part, content });
            }
        }
    }
    published.retain(|(_, minute), _| minute * 60 < begin + DAY_S);
    let path_minutes = published.len() as f64;
    println!(
        "{rounds} rounds of {HOPS} hops on {} paths, one every {every_s} s: {path_minutes} path-minutes",
        paths.len()
    );
    let judging_s = judging.as_secs_f64();
    println!("judgement           {:>8.0} rounds/s", rounds as f64 / judging_s);
    println!("  memory encoding   {:>8.0} bytes a path-minute", window_bytes as f64 / path_minutes);

    store.log(token, NewEntry::Clock, later).await.unwrap();
    let begun = Instant::now();
    write_all(&store, token, published.into_values().collect()).await;
    let writing_s = begun.elapsed().as_secs_f64();
    let fine = bytes_of(&store, &["evidence"], later).await - empty;
    println!("written             {:>8.1} bytes a path-minute by ten seconds", fine / path_minutes);
    println!("  of judgement      {:>8.2} of its time", writing_s / judging_s);

    let begun = Instant::now();
    let all_summed = evidence::sum_up_days(&store, later, Duration::MAX).await.unwrap();
    let summing_s = begun.elapsed().as_secs_f64();
    let summed = bytes_of(&store, &["evidence_hour"], later).await - empty_hours;
    println!("summed up           {:>8.1} bytes a path-minute, goal 60", summed / path_minutes);
    println!("  of judgement      {:>8.2} of its time", summing_s / judging_s);
    println!("  complete          {all_summed}");
    cluster.stop().await.unwrap();
}
