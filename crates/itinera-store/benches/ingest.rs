//! Ingest to commit beside a plain COPY of the same rows in the same run, on a private cluster.
//! `cargo bench --package itinera-store --bench ingest`; `-- --smoke` is a short form for tests. Ratios mean more than rates: both share the machine.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    reason = "a bench prints"
)]

mod common;

use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, BootId, PathId};
use itinera_model::packed;
use itinera_model::path::Method;
use itinera_model::reading::{HopReading, Reading};
use itinera_model::round::{Clocks, HopCounts, Round, StampSource};
use itinera_model::round_block::StoredRound;
use itinera_model::round_row;
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_store::cluster::Cluster;
use sea_orm::sqlx::{Connection, Executor, PgConnection, Row};
use std::fmt::Write;
use std::time::Instant;
use time::OffsetDateTime;
use uuid::Uuid;

/// In the short form, which only shows that it runs: 2.
const BATCHES: u64 = 60;
const ROUNDS: u64 = 1_000;
const HOPS: u32 = 20;

#[tokio::main]
async fn main() {
    let data = tempfile::tempdir().unwrap();
    let (cluster, store) = common::open(data.path()).await;
    let url = Cluster::url_in(data.path());
    let (agent, paths) = common::agent_and_paths(&store, 1).await;
    let path = paths[0];
    let short = std::env::args().any(|word| word == "--smoke");
    let count = if short { 2 } else { BATCHES };
    let batches: Vec<Batch> = (0..count).map(|seq| batch(agent, path, seq)).collect();

    // Alternating, so that what else the machine does falls on both.
    let mut raw = PgConnection::connect(&url).await.unwrap();
    raw.execute("CREATE TABLE plain (LIKE round INCLUDING DEFAULTS)").await.unwrap();
    raw.execute("CREATE INDEX ON plain (path_no, received_at)").await.unwrap();
    let (mut ingest_s, mut copy_s) = (0.0, 0.0);
    for batch in &batches {
        let begun = Instant::now();
        store.commit_batch(agent, batch, OffsetDateTime::now_utc()).await.unwrap();
        ingest_s += begun.elapsed().as_secs_f64();
        let begun = Instant::now();
        copy(&mut raw, batch).await;
        copy_s += begun.elapsed().as_secs_f64();
    }
    let rounds = (count * ROUNDS) as f64;
    println!("{rounds} rounds of {HOPS} hops in batches of {ROUNDS}, durable commits, one writer");
    println!("ingest to commit  {:>8.0} rounds/s", rounds / ingest_s);
    println!("plain COPY        {:>8.0} rounds/s", rounds / copy_s);
    println!("ingest per COPY   {:>8.2} of its time", ingest_s / copy_s);
    println!("bytes per round   {:>8.0} with indexes", stored_bytes(&mut raw).await / rounds);
    raw.close().await.unwrap();
    cluster.stop().await.unwrap();
}

fn batch(agent: AgentId, path: PathId, seq: u64) -> Batch {
    let boot = BootId::from_uuid(Uuid::from_u128(5));
    let address = [198, 18, 128, 10].into();
    let flow = Flow {
        source: [10, 1, 0, 2].into(),
        destination: address,
        method: Method::IcmpEcho,
        source_port: 1,
        destination_port: 2,
        dscp: 0,
    };
    let resolution = Resolution { name: None, address };
    let route = Route { hops: (0..20).map(|hop| Some([198, 18, 0, hop].into())).collect() };
    let hop = HopReading { reply_hop_limit: Some(61), ..HopReading::default() };
    let reading = Reading { hops: vec![hop] };
    let mut batch = Batch::new(agent, boot, seq);
    for number in seq * ROUNDS..(seq + 1) * ROUNDS {
        // Delays that differ as measured ones do, so that packing has its real work.
        let noise = |hop: u32, probe: u32| {
            let mixed = number.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (hop + probe);
            Micros::new(hop * 2_500 + u32::try_from(mixed % 700).unwrap())
        };
        let hops = (1..=HOPS)
            .map(|hop| HopCounts {
                sent: 3,
                answered: 0b111,
                rtt: (0..3).map(|probe| noise(hop, probe)).collect(),
                ..HopCounts::default()
            })
            .collect();
        let clocks = Clocks {
            boot,
            tick: Tick::from_millis(number * 10_000),
            wall: WallTime::from_unix_seconds(1_700_000_000),
            offset_us: Some(120),
            offset_error_us: Some(900),
        };
        let round = Round {
            path,
            number,
            clocks,
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: Some(reading.id()),
            reached_at: Some(20),
            stamps: StampSource::Program,
            lateness: None,
            hops,
        };
        batch.paths.add(round, &flow, &resolution, &route, &reading);
    }
    batch
}

/// The same columns by COPY in text form (PostgreSQL manual, COPY), one commit per batch.
async fn copy(raw: &mut PgConnection, batch: &Batch) {
    let mut text = String::new();
    for round in &batch.paths.rounds {
        let stored = StoredRound {
            number: round.number.cast_signed(),
            tick_ns: round.clocks.tick.as_nanos().cast_signed(),
            wall_us: round.clocks.wall.as_unix_micros(),
            offset_us: round.clocks.offset_us,
            offset_error_us: round.clocks.offset_error_us.map(i64::from),
            flow_no: 1,
            resolution_no: 1,
            route_no: 1,
            reached_at: Some(20),
            hops: packed::pack(&round.hops),
            ..StoredRound::default()
        };
        let packed = round_row::pack(&stored);
        let content: String = packed.iter().fold(String::new(), |mut hex, octet| {
            let _infallible = write!(hex, "{octet:02x}");
            hex
        });
        let _infallible = writeln!(text, "2026-01-01 00:00:00+00\t1\t1\t\\\\x{content}");
    }
    let copy = "COPY plain (received_at, commit_no, path_no, content) FROM STDIN";
    let mut into = raw.copy_in_raw(copy).await.unwrap();
    into.send(text.as_bytes()).await.unwrap();
    into.finish().await.unwrap();
}

async fn stored_bytes(raw: &mut PgConnection) -> f64 {
    let sizes = "SELECT sum(pg_total_relation_size(inhrelid))::bigint AS size \
         FROM pg_inherits WHERE inhparent = 'round'::regclass";
    let size: i64 = raw.fetch_one(sizes).await.unwrap().get("size");
    size as f64
}
