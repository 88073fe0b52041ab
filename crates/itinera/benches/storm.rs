//! Thousands of paths fail at once, as one link that all of them have in common loses two thirds of all packets,
//! and some agents are cut off. How long after the end of the first bad window they are one incident, how
//! many incidents there are in all, and how long a user's pages take meanwhile, beside those of the same
//! service when it is calm. Agents report in real time.
//! `cargo bench --package itinera --bench storm`; `-- --smoke` is a short form for tests with shorter holds.
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
use itinera_model::alarm::AlarmClass;
use itinera_store::{AlarmQuery, AlarmRows, Lasting, Store};
use reader::Reader;
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use uuid::Uuid;

/// Agents, targets of each, and the number of agents that are cut off.
const LONG: (u8, u8, u8) = (250, 20, 25);
const SHORT: (u8, u8, u8) = (5, 4, 1);
/// Seconds of an evidence window, and from round to round.
const WINDOW_S: u64 = 10;
/// Windows before the storm that are reported when it begins, and windows that are calm and in real time.
const BEFORE: u64 = 30;
const CALM: u64 = 2;
/// Windows of the storm: cut-off agents are alarms after a minute and a half. The short form ends before.
const STORM: (u64, u64) = (18, 3);

/// Requests of each kind when it is idle, in the long form and in the short one.
const REQUESTS: (usize, usize) = (30, 3);

/// What of the storm is known at a time.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
struct Seen {
    /// Incidents, open or not, alarms of paths in them, paths that these show, and agents that are silent.
    incidents: usize,
    alarms: usize,
    paths: usize,
    silent: usize,
}

impl Seen {
    async fn read(store: &Store) -> Self {
        let mut incidents = store.incidents(Lasting::default(), None, 1_000).await.unwrap();
        // What the service says of itself is not of the storm.
        incidents.retain(|incident| {
            let mut faults = incident.faults.iter();
            faults.all(|it| it.event.key.kind.class() != AlarmClass::Service)
        });
        let alarms = incidents.iter().flat_map(|incident| &incident.alarms);
        Self {
            incidents: incidents.len(),
            alarms: alarms.clone().count(),
            paths: alarms.map(|record| record.alarm.showing.len()).sum(),
            silent: incidents.iter().map(|incident| incident.faults.len()).sum(),
        }
    }
}

/// Prints what is known, whenever that changes, until all of `until` is.
async fn watch(store: &Store, crossed: OffsetDateTime, until: Seen) -> Seen {
    let mut seen = Seen::default();
    let mut is_whole = false;
    while seen.paths < until.paths || seen.silent < until.silent {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let now = Seen::read(store).await;
        let after_s = (OffsetDateTime::now_utc() - crossed).as_seconds_f64();
        if now.incidents != seen.incidents || now.silent != seen.silent {
            let Seen { incidents, alarms, paths, silent } = now;
            println!(
                "  {after_s:>6.1} s  {incidents} incidents, {alarms} alarms of {paths} paths, {silent} silent agents"
            );
        }
        if !is_whole && now.paths >= until.paths {
            is_whole = true;
            println!(
                "one incident of all {} paths  {after_s:>6.1} s after the end of the first bad window",
                now.paths
            );
        }
        seen = now;
    }
    seen
}

/// Has agents report a round of each of their paths, spread over a window.
async fn report(
    installation: &Installation,
    window: u64,
    begin: Instant,
    fault: Option<u8>,
    cut_off: u8,
) {
    let agents = installation.agents.len();
    for (nth, (number, (agent, tasks))) in installation.agents.iter().enumerate() {
        let due = Duration::from_secs_f64(WINDOW_S as f64 * nth as f64 / agents as f64);
        tokio::time::sleep_until((begin + due).into()).await;
        if fault.is_some() && *number < cut_off {
            continue;
        }
        let now = OffsetDateTime::now_utc();
        let batch = report::batch(*agent, *number, tasks, (BEFORE + window, now), fault);
        installation.store.commit_batch(*agent, &batch, now).await.unwrap();
    }
}

#[tokio::main]
async fn main() {
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let short = std::env::args().any(|word| word == "--smoke");
    let (agents, targets, cut_off) = if short { SHORT } else { LONG };
    let storm = if short { STORM.1 } else { STORM.0 };
    let mut installation = Installation::new(agents, targets).await;
    if short {
        let limits = &mut installation.config.limits;
        (limits.hold_windows, limits.seal_after_s) = (1, 3);
    }
    let store = &installation.store;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    assert!(store.forget_empty_log(token).await.unwrap());
    store.release_leases(None).await.unwrap();
    let first = OffsetDateTime::now_utc() - Duration::from_secs(BEFORE * WINDOW_S);
    for seq in 0..BEFORE {
        let at = first + Duration::from_secs(seq * WINDOW_S);
        for (number, (agent, tasks)) in &installation.agents {
            let batch = report::batch(*agent, *number, tasks, (seq, at), None);
            store.commit_batch(*agent, &batch, at + Duration::from_secs(2)).await.unwrap();
        }
    }
    let (address, service) = installation.serve().await;
    installation.judged(Duration::from_secs(1), |_| ()).await;
    let mut reader = Reader::new(format!("http://{address}"), &installation).await;

    reader.read_idle(if short { REQUESTS.1 } else { REQUESTS.0 }).await;
    let idle = reader.take_p95();

    // Windows begin at multiples of their length.
    let now = OffsetDateTime::now_utc();
    let into_ms = now.unix_timestamp_nanos() / 1_000_000 % i128::from(WINDOW_S * 1_000);
    let wait =
        Duration::from_secs(WINDOW_S) - Duration::from_millis(u64::try_from(into_ms).unwrap());
    let (begin, begin_at) = (Instant::now() + wait, now + wait);
    let beginning = |window: u64| begin + Duration::from_secs(window * WINDOW_S);
    let calm = async {
        for window in 0..CALM {
            report(&installation, window, beginning(window), None, cut_off).await;
        }
    };
    calm.await;
    let crossed = begin_at + Duration::from_secs((CALM + 1) * WINDOW_S);
    let paths = usize::from(agents) * usize::from(targets);
    println!("{paths} paths of {agents} agents lose packets at once; {cut_off} agents are cut off");
    let seen = usize::from(agents - cut_off) * usize::from(targets);
    let silent = if short { 0 } else { usize::from(cut_off) };
    let until = Seen { paths: seen, silent, ..Seen::default() };
    let reports = async {
        for window in CALM..CALM + storm {
            report(&installation, window, beginning(window), Some(report::BEHIND_CORE), cut_off)
                .await;
        }
    };
    let mut last = Seen::default();
    let work = async {
        let ((), seen) = tokio::join!(reports, watch(store, crossed, until));
        last = seen;
    };
    reader.read_while(work).await;
    let busy = reader.take_p95();
    reader.compare("in the storm; idle", busy, idle);
    println!("{} incidents in all", last.incidents);
    let of_service =
        AlarmQuery { classes: Some(vec![AlarmClass::Service]), ..AlarmQuery::default() };
    let rows = store.alarm_page(&of_service, OffsetDateTime::now_utc(), None, 100).await.unwrap();
    for rows in rows {
        let AlarmRows::Events(events) = rows else { continue };
        println!("  of the service itself: {:?}", events[0].event.message);
    }
    assert_eq!(last.incidents, 1, "one cause");
    service.stop().await;
    installation.restart(BEFORE + CALM + storm).await;
    installation.end().await;
}
