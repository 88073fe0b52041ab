//! How long the pages wait for 30 days of 10,000 paths, and a restart on them.
//!
//! Four paths are filled in by the ingest, the judgement and the duties of the service itself, under a
//! clock of the past; what was recorded of them is copied to the others in the database, day by day, as
//! it would have come. Then all paths report some rounds to a running service. On a private cluster.
//! `cargo bench --package itinera --bench history`; `-- --smoke` is a short form for tests.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    reason = "a bench prints"
)]

mod common;
#[path = "common/installation.rs"]
mod installation;
#[path = "common/report.rs"]
mod report;
#[path = "common/user.rs"]
mod user;

use installation::Installation;
use itinera_model::id::{AgentId, PathId};
use itinera_model::protocol::Task;
use itinera_model::quantile::quantile;
use itinera_service::Config;
use itinera_service::backfill::Backfill;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use sea_orm::{ConnectionTrait, Database, DatabaseConnection};
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use user::User;

/// Agents, targets of each, days, and requests of each kind; in the short form less.
const LONG: (u8, u8, i64, usize) = (50, 200, 30, 100);
const SHORT: (u8, u8, i64, usize) = (2, 4, 2, 2);
/// Paths that are measured, and seconds from round to round.
const MEASURED: usize = 4;
const EVERY_S: i64 = 300;
/// A fault of an hour each fifth day.
const FAULT_EVERY_S: i64 = 5 * 86_400;
const FAULT_S: i64 = 3_600;
/// Days of which rounds are kept, but for the oldest.
const ROUNDS_DAYS: i64 = 13;
/// Rounds of all paths at the end, one every ten seconds.
const REPORTS: u64 = 6;

/// What is recorded of each path by its number, by day: table, number, time, and the other columns.
const BY_NUMBER: [(&str, &str, &str, &str); 5] = [
    ("rollup", "subject_no", "start_at", "kind, span_s, route_no, content"),
    ("evidence", "subject_no", "start_at", "kind, part, content"),
    ("evidence_hour", "subject_no", "start_at", "kind, content"),
    ("round_block", "path_no", "start_at", "content"),
    ("round", "path_no", "received_at", "commit_no, content"),
];
/// What judgement remembers of each path by its identity.
const BY_IDENTITY: [(&str, &str); 3] = [
    ("path_minute", "minute, source, content"),
    ("path_latest", "window_no, confidence_ppm, content"),
    ("finding", "window_no, body"),
];

async fn run(db: &DatabaseConnection, sql: &str) -> u64 {
    db.execute_unprepared(sql).await.unwrap().rows_affected()
}

/// Fills in the past of some paths.
async fn measure(config: &Config, tasks: &[Task], agent: AgentId, days: i64) {
    let end = OffsetDateTime::now_utc();
    let begin = end - time::Duration::days(days);
    let mut backfill = Backfill::open(config, begin, |_| ()).await.unwrap();
    for seq in 0..days * 86_400 / EVERY_S {
        let since_s = seq * EVERY_S;
        let at = begin + time::Duration::seconds(since_s);
        let fault = (since_s % FAULT_EVERY_S >= FAULT_EVERY_S / 10
            && since_s % FAULT_EVERY_S < FAULT_EVERY_S / 10 + FAULT_S)
            .then_some(12);
        let batch = report::batch(agent, 0, tasks, (seq.cast_unsigned(), at), fault);
        backfill.step(at + time::Duration::seconds(2), &[batch]).await.unwrap();
    }
    backfill.close().await.unwrap();
}

/// Copies what was recorded of the measured paths to all others; gives the rows.
async fn copy(db: &DatabaseConnection, measured: &[PathId], days: i64) -> u64 {
    let ids: Vec<String> = measured.iter().map(|id| format!("'{}'", id.as_uuid())).collect();
    run(db, &format!(
        "CREATE TABLE copy_of AS \
         WITH m AS (SELECT id, no, row_number() OVER (ORDER BY no) - 1 AS nth FROM path WHERE id IN ({0})), \
              o AS (SELECT id, no, row_number() OVER (ORDER BY no) AS nth FROM path WHERE id NOT IN ({0})) \
         SELECT o.id, o.no, m.id AS of_id, m.no AS of_no FROM o JOIN m ON m.nth = o.nth % {MEASURED}",
        ids.join(", ")
    ))
    .await;
    let mut rows = 0;
    for day in (0..=days).rev() {
        let day = format!("date_trunc('day', now(), 'UTC') - '{day} days'::interval");
        for (table, number, at, others) in BY_NUMBER {
            rows += run(db, &format!(
                "INSERT INTO {table} ({number}, {at}, {others}) \
                 SELECT c.no, t.{at}, {others} FROM {table} t JOIN copy_of c ON c.of_no = t.{number} \
                 WHERE t.{at} >= {day} AND t.{at} < {day} + '1 day'::interval ORDER BY t.{at}, c.no"
            ))
            .await;
        }
    }
    for (table, others) in BY_IDENTITY {
        rows += run(
            db,
            &format!(
                "INSERT INTO {table} (path_id, {others}) \
             SELECT c.id, {others} FROM {table} t JOIN copy_of c ON c.of_id = t.path_id"
            ),
        )
        .await;
    }
    // Alarms at other times, so that no two begin together.
    rows += run(db,
        "INSERT INTO alarm (id, class, key, body, severity, agent_id, raised_at, cleared_at, incident_id) \
         SELECT gen_random_uuid(), class, key, body, severity, agent_id, \
             raised_at + shift * '1 second'::interval, cleared_at + shift * '1 second'::interval, \
             incident_id \
         FROM alarm, generate_series(1, (SELECT count(*) FROM copy_of) / 4) shift \
         WHERE cleared_at IS NOT NULL")
    .await;
    run(db, "DROP TABLE copy_of").await;
    run(db, "VACUUM ANALYZE").await;
    run(db, "CHECKPOINT").await;
    rows
}

/// What the pages ask for of a path, a range, and a time in it of which rounds are kept.
fn questions(path: PathId, (from, to): (&str, &str), then: &str) -> [(&'static str, String); 8] {
    let (path, range) = (path.as_uuid(), format!("from={from}&to={to}"));
    [
        ("state", "status".to_owned()),
        ("paths, a page", "paths".to_owned()),
        ("path then", format!("paths/{path}/then?at={then}")),
        ("path, history", format!("paths/{path}/history?{range}")),
        ("path, history by route", format!("paths/{path}/history?by_route=true&{range}")),
        ("path, counts by hop", format!("paths/{path}/counts?{range}")),
        ("alarms", format!("alarms?{range}")),
        ("incidents", format!("incidents?{range}")),
    ]
}

/// Asks for everything of random paths in all days, and prints how long that took.
async fn ask(user: &User, paths: &[PathId], days: i64, requests: usize) {
    let mut random = ChaCha8Rng::seed_from_u64(1);
    let mut waits: Vec<(&str, Vec<Duration>)> = Vec::new();
    for _ in 0..requests {
        let path = paths[random.random_range(0..paths.len())];
        let now = OffsetDateTime::now_utc();
        let before =
            |ago: time::Duration| (now - ago).truncate_to_second().format(&Rfc3339).unwrap();
        let then_s = random.random_range(3_600..days.min(ROUNDS_DAYS) * 86_400);
        let range = (before(time::Duration::days(days)), before(time::Duration::ZERO));
        let range = (range.0.as_str(), range.1.as_str());
        let then = before(time::Duration::seconds(then_s));
        for (nth, (what, question)) in questions(path, range, &then).into_iter().enumerate() {
            let wait = user.get(&question).await;
            if waits.len() == nth {
                waits.push((what, Vec::new()));
            }
            waits[nth].1.push(wait);
        }
    }
    let mut state = None;
    for (what, mut waits) in waits {
        waits.sort_unstable();
        let ms = |share| quantile(&waits, share, 100).unwrap().as_secs_f64() * 1e3;
        let state = *state.get_or_insert_with(|| ms(50));
        println!(
            "{what:<24} p50 {:>7.1} ms  p95 {:>7.1} ms, {:>5.1} times the median of the state",
            ms(50),
            ms(95),
            ms(95) / state
        );
    }
}

#[tokio::main]
async fn main() {
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let short = std::env::args().any(|word| word == "--smoke");
    let (agents, targets, days, requests) = if short { SHORT } else { LONG };
    let installation = Installation::new(agents, targets).await;
    let begun = Instant::now();
    let (_, (agent, tasks)) = &installation.agents[0];
    measure(&installation.config, &tasks[..MEASURED], *agent, days).await;
    println!("{MEASURED} paths of {days} days measured in {:.0} s", begun.elapsed().as_secs_f64());
    let begun = Instant::now();
    let db = Database::connect(installation.config.database.as_deref().unwrap()).await.unwrap();
    let measured: Vec<PathId> = tasks[..MEASURED].iter().map(|task| task.path).collect();
    let rows = copy(&db, &measured, days).await;
    let gigabytes = installation.store.database_bytes().await.unwrap() as f64 / 1e9;
    println!(
        "{rows} rows copied to {} paths in {:.0} s: {gigabytes:.1} GB",
        usize::from(agents) * usize::from(targets) - MEASURED,
        begun.elapsed().as_secs_f64()
    );

    let (address, service) = installation.serve().await;
    let api = format!("http://{address}");
    let user = User::first(api, &installation.config.data).await;
    let first = days.cast_unsigned() * 86_400;
    for seq in first..first + REPORTS {
        installation.report(agents.into(), seq).await;
        installation.judged(Duration::from_millis(100), |_| ()).await;
    }
    let paths: Vec<PathId> = installation
        .agents
        .iter()
        .flat_map(|(_, (_, tasks))| tasks)
        .map(|task| task.path)
        .collect();
    ask(&user, &paths, days, requests).await;
    service.stop().await;
    installation.restart(first + REPORTS).await;
    installation.end().await;
}
