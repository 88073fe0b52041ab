//! Rollups: the log of commits summed up by path over five minutes, an hour and a day.
//!
//! They follow the log with a cursor of their own, moved in the transaction that adds the rounds: each
//! round is counted once, by its time of measurement, however late it comes.

use crate::rounds::{lateness_of, live_of_commits, stamps_of};
use crate::statement::sql;
use crate::times::measured_at;
use crate::{Store, StoreError, rows};
use itinera_model::codec::{decode, encode};
use itinera_model::id::PathId;
use itinera_model::packed;
use itinera_model::rollup::{Rollup, RollupSpan};
use sea_orm::FromQueryResult;
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use std::collections::BTreeMap;
use strum::VariantArray;
use time::OffsetDateTime;

/// Commits and rounds taken at once; the rounds are held in memory.
const COMMITS_AT_ONCE: i64 = 256;
const ROUNDS_AT_ONCE: i64 = 20_000;

/// A rollup of a path.
#[derive(Debug, Clone, PartialEq)]
pub struct RollupRecord {
    /// Where it begins.
    pub start_at: OffsetDateTime,
    /// What was measured.
    pub rollup: Rollup,
}

/// Path, length and beginning in seconds since 1970.
type Key = (i32, i32, i64);

#[derive(FromQueryResult)]
struct KnownRow {
    path_no: i32,
    span_s: i32,
    start_at: OffsetDateTime,
    content: Vec<u8>,
}

#[derive(FromQueryResult)]
struct Extent {
    last: i64,
    first_at: OffsetDateTime,
    last_at: OffsetDateTime,
    more: bool,
}

impl Store {
    /// Adds the next commits of the log to the rollups: at most 256, and no more than 20,000 rounds
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
        let mut sums: BTreeMap<Key, Rollup> = BTreeMap::new();
        // What is not summed up yet is not compacted either.
        for row in live_of_commits(&txn, cursor + 1..=extent.last, span).await? {
            let round = &row.round;
            let Ok(hops) = packed::unpack(&round.hops) else { continue };
            let Some(end) = hops.last() else { continue };
            let at = measured_at(round.wall_us, round.offset_us, row.received_at().into());
            let second = at.as_unix_micros().div_euclid(1_000_000);
            for span in RollupSpan::VARIANTS {
                let key = (row.path_no, span.seconds(), span.start_of(second));
                sums.entry(key).or_default().add(end, stamps_of(round.stamps), lateness_of(round));
            }
        }
        merge_into(&txn, sums).await?;
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
        let select = "SELECT r.path_no, r.span_s, r.start_at, r.content \
             FROM rollup r JOIN path p ON p.no = r.path_no \
             WHERE p.id = $1 AND r.span_s = $2 AND r.start_at >= $3 AND r.start_at < $4 \
             ORDER BY r.start_at";
        let values = [path.as_uuid().into(), span.seconds().into(), from.into(), to.into()];
        let rows: Vec<KnownRow> = rows::all(&self.db, select, values).await?;
        let record = |row: KnownRow| {
            Ok(RollupRecord { start_at: row.start_at, rollup: read(&row.content)? })
        };
        rows.into_iter().map(record).collect()
    }
}

fn read(content: &[u8]) -> Result<Rollup, StoreError> {
    decode(content).map_err(|_| StoreError::corrupt("rollup"))
}

/// Adds sums to what is recorded.
async fn merge_into<C: ConnectionTrait>(
    txn: &C,
    mut sums: BTreeMap<Key, Rollup>,
) -> Result<(), StoreError> {
    let start = |key: &Key| OffsetDateTime::from_unix_timestamp(key.2).ok();
    // Times that the calendar does not have cannot be asked for either.
    sums.retain(|key, _| start(key).is_some());
    let paths: Vec<i32> = sums.keys().map(|key| key.0).collect();
    let spans: Vec<i32> = sums.keys().map(|key| key.1).collect();
    let starts: Vec<OffsetDateTime> = sums.keys().filter_map(start).collect();
    let select = "SELECT r.path_no, r.span_s, r.start_at, r.content FROM rollup r \
         JOIN unnest($1::int[], $2::int[], $3::timestamptz[]) AS k(p, s, a) \
             ON r.path_no = k.p AND r.span_s = k.s AND r.start_at = k.a";
    let keys: [Value; 3] = [paths.into(), spans.into(), starts.into()];
    for row in rows::all::<KnownRow>(txn, select, keys.clone()).await? {
        let key = (row.path_no, row.span_s, row.start_at.unix_timestamp());
        if let Some(sum) = sums.get_mut(&key) {
            sum.merge(&read(&row.content)?);
        }
    }
    let upsert = "INSERT INTO rollup (path_no, span_s, start_at, content) \
         SELECT * FROM unnest($1::int[], $2::int[], $3::timestamptz[], $4::bytea[]) \
         ON CONFLICT (path_no, span_s, start_at) DO UPDATE SET content = excluded.content";
    let contents: Vec<Vec<u8>> = sums.values().map(encode).collect();
    let [paths, spans, starts] = keys;
    txn.execute_raw(sql(upsert, [paths, spans, starts, contents.into()])).await?;
    Ok(())
}
