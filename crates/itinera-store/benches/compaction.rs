//! A day of rounds on disk, live and compacted, with indexes; the time that compaction takes beside
//! that of ingest, and an hour of a path read in both forms. On a private cluster.
//! `cargo bench --package itinera-store --bench compaction`; `-- --smoke` is a short form for tests.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    reason = "a bench prints"
)]

mod common;

use itinera_model::batch::Batch;
use itinera_model::checkpoint::Checkpoint;
use itinera_model::id::{AgentId, BootId, PathId};
use itinera_model::path::Method;
use itinera_model::reading::{HopReading, Reading};
use itinera_model::round::{Clocks, HopCounts, Lateness, Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_store::{Compacted, EachApart, JudgeWrite, Store};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::time::Instant;
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

/// Paths, and seconds from round to round; in the short form less.
const LONG: (u8, i64) = (20, 10);
const SHORT: (u8, i64) = (2, 600);
const HOPS: u8 = 20;
const DAY_S: i64 = 86_400;
/// Flows that a path's rounds use in turn.
const FLOWS: u64 = 8;
/// Bytes a round that are to be met by rounds of one probe a hop.
const GOALS: [f64; 2] = [150.0, 40.0];
/// Hours that are read in both forms.
const READS: i64 = 20;

#[tokio::main]
async fn main() {
    let short = std::env::args().any(|word| word == "--smoke");
    let (targets, every_s) = if short { SHORT } else { LONG };
    println!("a day of rounds of {HOPS} hops on {targets} paths, one every {every_s} s");
    for probes in [1, 3] {
        measure(targets, every_s, probes).await;
    }
}

async fn measure(targets: u8, every_s: i64, probes: u8) {
    let data = tempfile::tempdir().unwrap();
    let (cluster, store) = common::open(data.path()).await;
    let (agent, paths) = common::agent_and_paths(&store, targets).await;
    let now = OffsetDateTime::now_utc().date().midnight().assume_utc() + Duration::hours(12);
    let first = now - Duration::hours(36);
    let empty = bytes_of(&store, "round", now).await;
    let mut random = ChaCha8Rng::seed_from_u64(1);
    let (mut ingest_s, mut rounds, mut seq) = (0.0, 0.0, 0);
    for second in (0..DAY_S).step_by(usize::try_from(every_s).unwrap()) {
        let at = first + Duration::seconds(second);
        let batch = batch(&mut random, agent, &paths, probes, (seq, at));
        let begun = Instant::now();
        store.commit_batch(agent, &batch, at + Duration::milliseconds(2_300)).await.unwrap();
        ingest_s += begun.elapsed().as_secs_f64();
        rounds += paths.len() as f64;
        seq += 1;
    }
    while store.roll_up().await.unwrap() {}
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let checkpoint = Some(Checkpoint::default());
    let judged = JudgeWrite { to: seq.cast_signed(), checkpoint, ..JudgeWrite::default() };
    store.commit_judgement(token, &judged, &mut EachApart).await.unwrap();

    let live = (bytes_of(&store, "round", now).await - empty) / rounds;
    let (live_s, before) = read(&store, &paths, first).await;
    let begun = Instant::now();
    while store.compact_next(now).await.unwrap() != Compacted::Nothing {}
    let compact_s = begun.elapsed().as_secs_f64();
    let compacted = bytes_of(&store, "round_block", now).await / rounds;
    let (compacted_s, after) = read(&store, &paths, first).await;
    let goals =
        if probes == 1 { GOALS.map(|goal| format!(", goal {goal}")) } else { Default::default() };
    println!("{rounds} rounds of {probes} probes a hop");
    println!("  live            {live:>8.1} bytes a round with indexes{}", goals[0]);
    println!("  compacted       {compacted:>8.1} bytes a round with indexes{}", goals[1]);
    println!(
        "  ingest          {:>8.0} rounds/s, a commit for {} rounds",
        rounds / ingest_s,
        paths.len()
    );
    println!(
        "  compaction      {:>8.0} rounds/s, {:.2} of the time of ingest",
        rounds / compact_s,
        compact_s / ingest_s
    );
    println!("  a path-hour     {:>8.2} of the time of live rounds to read", compacted_s / live_s);
    println!("  the same rounds {:>8}", before == after);
    cluster.stop().await.unwrap();
}

/// Bytes of a table with its indexes.
async fn bytes_of(store: &Store, name: &str, now: OffsetDateTime) -> f64 {
    let size = store.database_size(now).await.unwrap();
    size.tables.iter().find(|table| table.name == name).map_or(0.0, |table| table.bytes as f64)
}

/// Reads some hours of paths; gives the time for it, and the number of rounds and sum of delays read.
async fn read(store: &Store, paths: &[PathId], first: OffsetDateTime) -> (f64, (usize, u64)) {
    let begun = Instant::now();
    let mut read = (0, 0);
    for hour in 0..READS {
        let from = first + Duration::hours(hour);
        let path = paths[usize::try_from(hour).unwrap() % paths.len()];
        let rounds = store.rounds_between(&[path], from, from + Duration::hours(1)).await.unwrap();
        read.0 += rounds.len();
        let delays = rounds.iter().flat_map(|round| &round.hops).flat_map(|hop| &hop.rtt);
        read.1 += delays.map(|delay| u64::from(delay.as_micros())).sum::<u64>();
    }
    (begun.elapsed().as_secs_f64(), read)
}

/// A hop's answers: a floor of 2 ms more with each hop, up to 0.3 ms of queueing, one answer of fifty up
/// to 8 ms late, one of three hundred missing.
fn hop(random: &mut ChaCha8Rng, number: u8, probes: u8) -> HopCounts {
    let mut counts = HopCounts { sent: probes, ..HopCounts::default() };
    for probe in 0..probes {
        if random.random_ratio(1, 300) {
            continue;
        }
        let tail = if random.random_ratio(1, 50) { random.random_range(0..8_000) } else { 0 };
        let us = u32::from(number) * 2_000 + 400 + random.random_range(0..300) + tail;
        counts.answered |= 1 << probe;
        counts.rtt.push(Micros::new(us));
    }
    counts
}

/// A round of each path. Clocks, timers and offset of the agent vary as real ones do.
fn batch(
    random: &mut ChaCha8Rng,
    agent: AgentId,
    paths: &[PathId],
    probes: u8,
    (seq, at): (u64, OffsetDateTime),
) -> Batch {
    let boot = BootId::from_uuid(Uuid::from_u128(5));
    let mut batch = Batch::new(agent, boot, seq);
    let offset_us = Some(120 + random.random_range(0..40));
    for (path, nth) in paths.iter().zip(1..) {
        let address = [198, 18, 128, nth].into();
        let flow = Flow {
            source: [10, 1, 0, 2].into(),
            destination: address,
            method: Method::IcmpEcho,
            source_port: 40_000 + u16::try_from(seq % FLOWS).unwrap(),
            destination_port: 2,
            dscp: 0,
        };
        let resolution = Resolution { name: None, address };
        let hops = (1..=HOPS).map(|hop| Some([198, 19, nth, hop].into())).collect();
        let route = Route { hops };
        let answer = HopReading { reply_hop_limit: Some(61), ..HopReading::default() };
        let reading = Reading { hops: vec![answer; HOPS.into()] };
        let lag_us = random.random_range(0..3_000);
        let wall = WallTime::from(at).plus_micros(i64::from(nth) * 400_000 / 20 + lag_us);
        let since_us = wall.as_unix_micros() - 1_700_000_000_000_000;
        let tick =
            Tick::from_nanos(since_us.cast_unsigned() * 1_000 + random.random_range(0..2_000));
        let late = [random.random_range(20..400), random.random_range(5..80)];
        let round = Round {
            path: *path,
            number: seq,
            clocks: Clocks { boot, tick, wall, offset_us, offset_error_us: Some(900) },
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: Some(reading.id()),
            reached_at: Some(HOPS),
            stamps: StampSource::Kernel,
            lateness: Some(Lateness { timer_us: late[0], read_us: late[1], link_us: 0 }),
            hops: (1..=HOPS).map(|number| hop(random, number, probes)).collect(),
        };
        batch.paths.add(round, &flow, &resolution, &route, &reading);
    }
    batch
}
