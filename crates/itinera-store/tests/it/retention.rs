//! What is deleted after its time, and what is kept.

use super::robust::raw;
use super::{Fixture, batch, checkpoint, fixture, log_after, measuring, nothing, rounds_in};
use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, PathId};
use itinera_model::rollup::RollupSpan;
use itinera_model::round::Round;
use itinera_model::route::Resolution;
use itinera_model::unit::WallTime;
use itinera_store::{EachApart, JudgeWrite, Retention, Store};
use sea_orm::{ConnectionTrait, TransactionTrait};
use std::sync::LazyLock;
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

const KEEP: Retention = Retention { rounds_days: 14, findings_days: 90, rollups_days: 400 };

/// One minute after the hour: what follows within seconds is in the same rollup.
static NOW: LazyLock<OffsetDateTime> = LazyLock::new(|| {
    let now = OffsetDateTime::now_utc();
    now - Duration::seconds(now.unix_timestamp() % 3_600 - 60)
});

fn days_ago(days: i64) -> OffsetDateTime {
    *NOW - Duration::days(days)
}

/// A batch with a resolution of its own, received some days ago.
async fn commit(store: &Store, of: (AgentId, PathId), seq: u64, days: i64) {
    let (agent, path) = of;
    let at = days_ago(days);
    let mut named = Batch::new(agent, batch(agent, path, seq, WallTime::from(at)).boot, seq);
    let plain = batch(agent, path, seq, WallTime::from(at));
    let address = plain.paths.flows[0].destination;
    let resolution = Resolution { name: Some(format!("name-{seq}.example")), address };
    for round in plain.paths.rounds {
        let round = Round { resolution: resolution.id(), ..round };
        let (flow, route) = (&plain.paths.flows[0], &plain.paths.routes[0]);
        named.paths.add(round, flow, &resolution, route, &plain.paths.readings[0]);
    }
    store.commit_batch(agent, &named, at).await.unwrap();
}

/// Judges commits and sums them up.
async fn judge(store: &Store, token: i64, write: JudgeWrite) {
    while store.roll_up().await.unwrap() {}
    store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
}

/// Tables of the log, each with a partition a day.
const LOG_TABLES: usize = 5;

/// Applies retention until there is nothing to delete; gives the number of partitions and rows.
async fn apply(store: &Store) -> (usize, u64) {
    let (mut partitions, mut rows) = (0, 0);
    for _ in 0..40 {
        let deleted = store.apply_retention(KEEP, *NOW).await.unwrap();
        assert!(deleted.partitions.len() <= 2 * LOG_TABLES, "two days at once: {deleted:?}");
        assert!(deleted.in_use.is_empty());
        if deleted.partitions.is_empty() && deleted.rows == 0 {
            return (partitions, rows);
        }
        partitions += deleted.partitions.len();
        rows += deleted.rows;
    }
    panic!("it never ends");
}

#[tokio::test]
async fn the_log_is_deleted_day_by_day_once_it_is_judged() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (agent, path) = measuring(&store).await;
    for (seq, days) in [(0, 20), (1, 16), (2, 10), (3, 0)] {
        commit(&store, (agent, path), seq, days).await;
    }
    assert_eq!(apply(&store).await, (0, 0), "nothing is judged yet");
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let first = JudgeWrite { checkpoint: Some(checkpoint(6)), ..nothing(0, 1) };
    judge(&store, token, first).await;
    let (partitions, _) = apply(&store).await;
    assert_eq!(partitions, 4 * LOG_TABLES, "the days before the first commit that is not judged");
    assert_eq!(store.first_commit().await.unwrap(), Some(2));

    for (from, to, days) in [(1, 2, 16), (2, 3, 10)] {
        let opening = Some(days_ago(days).date());
        let made = JudgeWrite { checkpoint: Some(checkpoint(7)), ..nothing(from, from) };
        judge(&store, token, made).await;
        judge(&store, token, JudgeWrite { opening, ..nothing(from, to) }).await;
    }
    let last = JudgeWrite { checkpoint: Some(checkpoint(8)), ..nothing(3, 4) };
    judge(&store, token, last).await;
    let stage = ("alarms", 1);
    assert_eq!(store.opening_memory(None, stage).await.unwrap().unwrap().0, days_ago(16).date());
    apply(&store).await;
    let log = log_after(&store, 0, 10).await;
    let left: Vec<_> = log.iter().map(|entry| (entry.commit_no, rounds_in(entry).len())).collect();
    assert_eq!(left, [(3, 2), (4, 2)]);
    assert_eq!(store.first_commit().await.unwrap(), Some(3));
    let (day, memory) = store.opening_memory(None, stage).await.unwrap().unwrap();
    assert_eq!((day, memory.cursor, memory.checkpoint), (days_ago(10).date(), 2, checkpoint(7)));
    let other = store.opening_memory(None, ("alarms", 2)).await.unwrap();
    assert_eq!(other, None, "of another version");
    assert_eq!(store.opening_memory(Some(days_ago(16).date()), stage).await.unwrap(), None);
    // Sent again, because an acknowledgement was lost.
    commit(&store, (agent, path), 3, 0).await;
    assert_eq!(log_after(&store, 0, 10).await.len(), 2, "known");
    assert_eq!(apply(&store).await, (0, 0));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_content_that_is_used_again_after_its_deletion_is_entered_again() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (agent, path) = measuring(&store).await;
    for (seq, days) in [(0, 30), (1, 20)] {
        commit(&store, (agent, path), seq, days).await;
    }
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let both = JudgeWrite { checkpoint: Some(checkpoint(6)), ..nothing(0, 2) };
    judge(&store, token, both).await;
    // Two batches, their two resolutions, and the flow and reading that they share. Rollups have the route.
    assert_eq!(apply(&store).await.1, 6);
    assert_eq!(store.first_commit().await.unwrap(), None);
    commit(&store, (agent, path), 2, 0).await;
    let log = log_after(&store, 0, 10).await;
    assert_eq!(log.iter().map(|entry| rounds_in(entry).len()).collect::<Vec<_>>(), [2]);
    assert_eq!(rounds_in(&log[0])[0].route.route.hops.len(), 2);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_day_that_is_being_read_is_deleted_later() {
    let fixture = fixture().await;
    let store = &fixture.store;
    let (agent, path) = measuring(store).await;
    commit(store, (agent, path), 0, 20).await;
    commit(store, (agent, path), 1, 0).await;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    judge(store, token, JudgeWrite { checkpoint: Some(checkpoint(6)), ..nothing(0, 2) }).await;
    let raw = raw(&fixture).await;
    let reading = raw.begin().await.unwrap();
    reading.execute_unprepared("SELECT count(*) FROM round").await.unwrap();
    let deleted = store.apply_retention(KEEP, *NOW).await.unwrap();
    let is_of_rounds = |name: &String| name.starts_with("round_");
    assert!(deleted.in_use.iter().any(is_of_rounds), "{deleted:?}");
    assert!(!deleted.partitions.iter().any(is_of_rounds), "{deleted:?}");
    reading.commit().await.unwrap();
    let deleted = store.apply_retention(KEEP, *NOW).await.unwrap();
    assert!(deleted.partitions.iter().any(is_of_rounds) && deleted.in_use.is_empty());
    assert_eq!(store.rounds_of(path).await.unwrap().len(), 2);
    raw.close().await.unwrap();
    fixture.cluster.stop().await.unwrap();
}

#[tokio::test]
async fn the_size_is_recorded_once_an_hour() {
    let fixture = fixture().await;
    let (store, now) = (&fixture.store, *NOW);
    for minutes in [0, 1, 30, 61, 62] {
        store.record_size(now + Duration::minutes(minutes)).await.unwrap();
    }
    let raw = raw(&fixture).await;
    let count = "SELECT count(*) AS n FROM database_size";
    let statement = sea_orm::Statement::from_string(sea_orm::DbBackend::Postgres, count);
    let row = raw.query_one_raw(statement).await.unwrap().unwrap();
    assert_eq!(row.try_get::<i64>("", "n").unwrap(), 2);
    raw.close().await.unwrap();
    fixture.cluster.stop().await.unwrap();
}

#[tokio::test]
async fn the_size_is_known_by_table_and_its_growth_by_the_day() {
    let Fixture { cluster, store, _data } = fixture().await;
    let now = *NOW;
    store.record_size(now - Duration::hours(48)).await.unwrap();
    let size = store.database_size(now).await.unwrap();
    assert!(size.bytes > 1_000_000, "{size:?}");
    let growth = size.growth_per_day.unwrap();
    assert!(growth.abs() < size.bytes, "{size:?}");
    assert!(size.tables.iter().any(|table| table.name == "round" && table.bytes > 0));
    assert!(!size.tables.iter().any(|table| table.name.ends_with(|c: char| c.is_ascii_digit())));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn every_round_is_in_the_rollups_of_its_own_time_once() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (agent, path) = measuring(&store).await;
    // The agent does not know its offset: the time of receipt counts.
    for (seq, days) in [(0, 3), (1, 3), (2, 2)] {
        commit(&store, (agent, path), seq, days).await;
        // Nothing is added a second time.
        assert!(!store.roll_up().await.unwrap() && !store.roll_up().await.unwrap());
    }
    let all = (days_ago(500), *NOW);
    let rounds = async |span| {
        let records = store.rollups(path, span, all.0, all.1).await.unwrap();
        records.iter().map(|record| record.rollup.rounds).collect::<Vec<_>>()
    };
    assert_eq!(rounds(RollupSpan::Day).await, [4, 2]);
    assert_eq!(rounds(RollupSpan::Hour).await, [4, 2]);
    let records = store.rollups(path, RollupSpan::FiveMinutes, all.0, all.1).await.unwrap();
    assert_eq!((records[0].rollup.sent, records[0].rollup.lost), (4, 0));
    let delay = records[0].rollup.delay_us(50).unwrap();
    assert!(delay.abs_diff(900) < 10, "{delay}");

    // By route it is the same, and the route is known after its rounds are deleted.
    let by_route =
        async || store.rollups_by_route(path, RollupSpan::Day, all.0, all.1).await.unwrap();
    let [of_route] = by_route().await.try_into().unwrap();
    assert_eq!(of_route.route.as_ref().unwrap().route.hops.len(), 2);
    assert_eq!(of_route.rollups, store.rollups(path, RollupSpan::Day, all.0, all.1).await.unwrap());

    // Five minutes go with the findings, hours and days later.
    let keep = Retention { rounds_days: 1, findings_days: 1, rollups_days: 400 };
    store.apply_retention(keep, *NOW).await.unwrap();
    assert_eq!(rounds(RollupSpan::FiveMinutes).await, [] as [u32; 0]);
    assert_eq!(rounds(RollupSpan::Hour).await, [4, 2]);
    assert_eq!(by_route().await, [of_route]);
    let keep = Retention { rollups_days: 1, ..keep };
    store.apply_retention(keep, *NOW).await.unwrap();
    assert_eq!(rounds(RollupSpan::Day).await, [] as [u32; 0]);
    cluster.stop().await.unwrap();
}
