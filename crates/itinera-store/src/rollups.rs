//! Rollups: the log of commits summed up by path and route, and by pair, over five minutes, an hour and a
//! day.
//!
//! They follow the log with a cursor of their own, moved in the transaction that adds the rounds: each
//! round is counted once, by its time of measurement, however late it comes.

use crate::compute::compute;
use crate::rounds::{KnownRoute, RoundRow, lateness_of, live_of_commits, route_of, stamps_of};
use crate::statement::sql;
use crate::times::measured_at;
use crate::{Store, StoreError, rows, two_way};
use itinera_model::codec::{decode, encode};
use itinera_model::id::{PairId, PathId};
use itinera_model::packed;
use itinera_model::rollup::{PairRollup, Rollup, RollupSpan};
use sea_orm::FromQueryResult;
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use strum::VariantArray;
use time::OffsetDateTime;

/// Commits and rounds taken at once; the rounds are held in memory. Each sum is read and written once for all
/// of them: with a minute of 10,000 paths, 0.5 times for each round.
const COMMITS_AT_ONCE: i64 = 1_024;
const ROUNDS_AT_ONCE: i64 = 60_000;

/// Kinds as they are stored.
const PATH: i16 = 0;
const PAIR: i16 = 1;
/// The route of rollups that do not tell routes apart, and of pairs.
const NO_ROUTE: i64 = 0;

/// A rollup of a path.
#[derive(Debug, Clone, PartialEq)]
pub struct RollupRecord {
    /// Where it begins.
    pub start_at: OffsetDateTime,
    /// What was measured.
    pub rollup: Rollup,
}

/// Rollups of the rounds of a path that took one route.
#[derive(Debug, Clone, PartialEq)]
pub struct RouteRollups {
    /// The route; absent for rollups that do not tell routes apart.
    pub route: Option<KnownRoute>,
    /// In order.
    pub rollups: Vec<RollupRecord>,
}

/// A rollup of a pair.
#[derive(Debug, Clone, PartialEq)]
pub struct PairRollupRecord {
    /// Where it begins.
    pub start_at: OffsetDateTime,
    /// What was measured.
    pub rollup: PairRollup,
}

/// What a rollup is of: path or pair, route, length, and beginning in seconds since 1970.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Key {
    subject_no: i32,
    route_no: i64,
    span_s: i32,
    start_s: i64,
}

#[derive(FromQueryResult)]
struct KnownRow {
    subject_no: i32,
    route_no: i64,
    span_s: i32,
    start_at: OffsetDateTime,
    content: Vec<u8>,
}

#[derive(FromQueryResult)]
struct RouteRow {
    no: i64,
    content: Vec<u8>,
    body: Json,
}

#[derive(FromQueryResult)]
struct Extent {
    last: i64,
    first_at: OffsetDateTime,
    last_at: OffsetDateTime,
    more: bool,
}

/// Sums that can be added to.
trait Sum: Default + Serialize + DeserializeOwned {
    fn merge(&mut self, other: &Self);
}

impl Sum for Rollup {
    fn merge(&mut self, other: &Self) {
        Self::merge(self, other);
    }
}

impl Sum for PairRollup {
    fn merge(&mut self, other: &Self) {
        Self::merge(self, other);
    }
}

/// Adds something to the sums of every length that hold a second.
fn add_to<T: Sum>(
    sums: &mut BTreeMap<Key, T>,
    (subject_no, route_no): (i32, i64),
    second: i64,
    add: impl Fn(&mut T),
) {
    for span in RollupSpan::VARIANTS {
        let (span_s, start_s) = (span.seconds(), span.start_of(second));
        add(sums.entry(Key { subject_no, route_no, span_s, start_s }).or_default());
    }
}

impl Store {
    /// Adds the next commits of the log to the rollups: at most 1,024, and no more than 60,000 rounds
    /// together, though always one commit. True when there were more. A round that cannot be read is
    /// left out.
    ///
    /// # Errors
    /// [`StoreError::Database`]; nothing is added then.
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn roll_up(&self) -> Result<bool, StoreError> {
        let txn = self.db.begin().await?;
        let select = "SELECT commit_no FROM rollup_cursor FOR UPDATE";
        let cursor: i64 = rows::value(&txn, select, []).await?.unwrap_or(0);
        let select = "SELECT max(commit_no) FILTER (WHERE fits) AS last, \
                 min(received_at) FILTER (WHERE fits) AS first_at, \
                 max(received_at) FILTER (WHERE fits) AS last_at, \
                 count(*) = $2 OR NOT bool_and(fits) AS more \
             FROM (SELECT commit_no, received_at, \
                     sum(rounds) OVER (ORDER BY commit_no) - rounds < $3 AS fits \
                 FROM (SELECT commit_no, received_at, rounds FROM batch \
                     WHERE commit_no > $1 ORDER BY commit_no LIMIT $2) n) t \
             HAVING count(*) > 0";
        let values = [cursor.into(), COMMITS_AT_ONCE.into(), ROUNDS_AT_ONCE.into()];
        let Some(extent) = rows::first::<Extent>(&txn, select, values).await? else {
            return Ok(false);
        };
        let span = (extent.first_at, extent.last_at);
        // What is not summed up yet is not compacted either.
        let rounds = live_of_commits(&txn, cursor + 1..=extent.last, span).await?;
        let sums = compute("rounds", move || sums_of(&rounds)).await?;
        merge_into(&txn, PATH, sums).await?;
        let mut sums: BTreeMap<Key, PairRollup> = BTreeMap::new();
        let commits = (cursor, extent.last);
        for row in two_way::of_commits(&txn, commits, span).await? {
            let clocks = &row.round.clocks;
            let wall_us = clocks.wall.as_unix_micros();
            let at = measured_at(wall_us, clocks.offset_us, row.received_at.into());
            let second = at.as_unix_micros().div_euclid(1_000_000);
            add_to(&mut sums, (row.pair_no, NO_ROUTE), second, |sum| sum.add(&row.round));
        }
        merge_into(&txn, PAIR, sums).await?;
        let update = "UPDATE rollup_cursor SET commit_no = $1";
        txn.execute_raw(sql(update, [extent.last.into()])).await?;
        txn.commit().await?;
        Ok(extent.more)
    }

    /// The rollups of a path that begin between two times, in order.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rollups(
        &self,
        path: PathId,
        span: RollupSpan,
        from: OffsetDateTime,
        to: OffsetDateTime,
    ) -> Result<Vec<RollupRecord>, StoreError> {
        let mut all: BTreeMap<OffsetDateTime, Rollup> = BTreeMap::new();
        for row in self.known((PATH, path.as_uuid()), span, (from, to)).await? {
            all.entry(row.start_at).or_default().merge(&read(&row.content)?);
        }
        let record = |(start_at, rollup)| RollupRecord { start_at, rollup };
        Ok(all.into_iter().map(record).collect())
    }

    /// The same by route, that with the most rounds first.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rollups_by_route(
        &self,
        path: PathId,
        span: RollupSpan,
        from: OffsetDateTime,
        to: OffsetDateTime,
    ) -> Result<Vec<RouteRollups>, StoreError> {
        let mut by_route: BTreeMap<i64, Vec<RollupRecord>> = BTreeMap::new();
        for row in self.known((PATH, path.as_uuid()), span, (from, to)).await? {
            let record = RollupRecord { start_at: row.start_at, rollup: read(&row.content)? };
            by_route.entry(row.route_no).or_default().push(record);
        }
        let numbers: Vec<i64> = by_route.keys().copied().collect();
        let select = "SELECT no, content, body FROM route WHERE no = ANY($1)";
        let mut routes = BTreeMap::new();
        for row in rows::all::<RouteRow>(&self.db, select, [numbers.into()]).await? {
            routes.insert(row.no, route_of(&row.content, row.body)?);
        }
        let of_route = |(no, rollups)| RouteRollups { route: routes.remove(&no), rollups };
        let mut all: Vec<RouteRollups> = by_route.into_iter().map(of_route).collect();
        let rounds =
            |of: &RouteRollups| of.rollups.iter().map(|it| u64::from(it.rollup.rounds)).sum();
        all.sort_by_key(|of| std::cmp::Reverse::<u64>(rounds(of)));
        Ok(all)
    }

    /// The rollups of a pair that begin between two times, in order.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn pair_rollups(
        &self,
        pair: PairId,
        span: RollupSpan,
        from: OffsetDateTime,
        to: OffsetDateTime,
    ) -> Result<Vec<PairRollupRecord>, StoreError> {
        let rows = self.known((PAIR, pair.as_uuid()), span, (from, to)).await?.into_iter();
        let record = |row: KnownRow| {
            Ok(PairRollupRecord { start_at: row.start_at, rollup: read(&row.content)? })
        };
        rows.map(record).collect()
    }

    /// Rows of a path or pair, by time and route.
    async fn known(
        &self,
        (kind, id): (i16, Uuid),
        span: RollupSpan,
        (from, to): (OffsetDateTime, OffsetDateTime),
    ) -> Result<Vec<KnownRow>, StoreError> {
        let select = "SELECT subject_no, route_no, span_s, start_at, content FROM rollup \
             WHERE kind = $1 AND subject_no = coalesce((SELECT no FROM path WHERE id = $2), \
                     (SELECT no FROM pair WHERE id = $2)) \
                 AND span_s = $3 AND start_at >= $4 AND start_at < $5 \
             ORDER BY start_at, route_no";
        let values = [kind.into(), id.into(), span.seconds().into(), from.into(), to.into()];
        rows::all(&self.db, select, values).await
    }
}

fn sums_of(rounds: &[RoundRow]) -> BTreeMap<Key, Rollup> {
    let mut sums: BTreeMap<Key, Rollup> = BTreeMap::new();
    for row in rounds {
        let round = &row.round;
        let Ok(hops) = packed::unpack(&round.hops) else { continue };
        let Some(end) = hops.last() else { continue };
        let at = measured_at(round.wall_us, round.offset_us, row.received_at().into());
        let second = at.as_unix_micros().div_euclid(1_000_000);
        add_to(&mut sums, (row.path_no, round.route_no), second, |sum| {
            sum.add(end, stamps_of(round.stamps), lateness_of(round));
        });
    }
    sums
}

/// Adds what is recorded to the sums; gives their contents in order.
fn with_known<T: Sum>(
    mut sums: BTreeMap<Key, T>,
    known: Vec<KnownRow>,
) -> Result<Vec<Vec<u8>>, StoreError> {
    for row in known {
        let KnownRow { subject_no, route_no, span_s, start_at, content } = row;
        let key = Key { subject_no, route_no, span_s, start_s: start_at.unix_timestamp() };
        if let Some(sum) = sums.get_mut(&key) {
            sum.merge(&read(&content)?);
        }
    }
    Ok(sums.values().map(encode).collect())
}

fn read<T: Sum>(content: &[u8]) -> Result<T, StoreError> {
    decode(content).map_err(|_| StoreError::corrupt("rollup"))
}

/// Adds sums to what is recorded.
async fn merge_into<T: Sum + Send + 'static>(
    txn: &impl ConnectionTrait,
    kind: i16,
    mut sums: BTreeMap<Key, T>,
) -> Result<(), StoreError> {
    let start = |key: &Key| OffsetDateTime::from_unix_timestamp(key.start_s).ok();
    // Times that the calendar does not have cannot be asked for either.
    sums.retain(|key, _| start(key).is_some());
    if sums.is_empty() {
        return Ok(());
    }
    let keys: [Value; 4] = [
        sums.keys().map(|key| key.subject_no).collect::<Vec<_>>().into(),
        sums.keys().map(|key| key.route_no).collect::<Vec<_>>().into(),
        sums.keys().map(|key| key.span_s).collect::<Vec<_>>().into(),
        sums.keys().filter_map(start).collect::<Vec<_>>().into(),
    ];
    let [subjects, routes, spans, starts] = keys;
    let select = "SELECT r.subject_no, r.route_no, r.span_s, r.start_at, r.content FROM rollup r \
         JOIN unnest($2::int[], $3::bigint[], $4::int[], $5::timestamptz[]) AS k(no, route, s, a) \
             ON r.kind = $1 AND r.subject_no = k.no AND r.route_no = k.route AND r.span_s = k.s \
                 AND r.start_at = k.a";
    let values = [kind.into(), subjects, routes, spans, starts];
    let known = rows::all::<KnownRow>(txn, select, values.clone()).await?;
    let contents = compute("rollup", move || with_known(sums, known)).await??;
    let upsert = "INSERT INTO rollup (kind, subject_no, route_no, span_s, start_at, content) \
         SELECT $1, * FROM unnest($2::int[], $3::bigint[], $4::int[], $5::timestamptz[], $6::bytea[]) \
         ON CONFLICT (kind, subject_no, span_s, start_at, route_no) \
             DO UPDATE SET content = excluded.content";
    let values = values.into_iter().chain([contents.into()]);
    txn.execute_raw(sql(upsert, values)).await?;
    Ok(())
}
