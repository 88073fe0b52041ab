//! Compaction: the live rounds of days that are over are replaced by blocks, without loss.
//!
//! A day is read once, in the order of commits, ten minutes at a time. Its blocks count for readers only
//! when all of its rounds are in them: in the transaction that drops the live ones.

use super::block::BlockPacking;
use super::reader::{BLOCK_S, COLUMNS, LiveRow, block_start};
use crate::compute::compute;
use crate::partitions::{ROUND, ROUND_BLOCK, day_of, name_of};
use crate::statement::sql;
use crate::times::offset;
use crate::{Store, StoreError, rows};
use itinera_model::round_block::StoredRound;
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{ConnectionTrait, DatabaseTransaction, FromQueryResult, TransactionTrait};
use std::collections::BTreeMap;
use time::{Date, Duration, OffsetDateTime};

/// Rounds stay live for so long after the end of their day: views of the last hour look there only.
const LIVE_FOR: Duration = Duration::hours(2);
/// Rounds that are held in memory at once, about.
const ROUNDS_AT_ONCE: i64 = 40_000;

/// What one step of compaction did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compacted {
    /// Nothing: every day that is over is in blocks.
    Nothing,
    /// Ten minutes of a day are in blocks.
    Part(Date),
    /// All of a day is, and its live rounds are gone.
    Day(Date),
}

/// How far a day is compacted.
#[derive(Debug, Clone, Copy, FromQueryResult)]
struct Progress {
    day: Date,
    next_at: OffsetDateTime,
    next_commit: i64,
    rounds: i64,
}

/// The first batch behind a part.
#[derive(FromQueryResult)]
struct Behind {
    commit_no: i64,
    received_at: OffsetDateTime,
}

/// A block to be written.
#[derive(Debug)]
struct NewBlock {
    path_no: i32,
    start_at: OffsetDateTime,
    content: Vec<u8>,
}

impl Store {
    /// Compacts the next ten minutes of rounds of a day that ended more than two hours before `now`,
    /// and is judged and summed up.
    ///
    /// # Errors
    /// [`StoreError::Database`], among others when the day is read for longer than two seconds;
    /// [`StoreError::Corrupt`] when rounds came into the day outside the order of commits. Nothing is
    /// lost then, and the next call continues.
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn compact_next(&self, now: OffsetDateTime) -> Result<Compacted, StoreError> {
        let Some(progress) = self.day_to_compact(now).await? else { return Ok(Compacted::Nothing) };
        let end = next_midnight(progress.day);
        if progress.next_at < end {
            self.compact_part(progress, end).await?;
            return Ok(Compacted::Part(progress.day));
        }
        self.end_day(progress).await?;
        Ok(Compacted::Day(progress.day))
    }

    async fn day_to_compact(&self, now: OffsetDateTime) -> Result<Option<Progress>, StoreError> {
        let select = "SELECT relname FROM pg_class WHERE relname ~ '^round_[0-9]{8}$' \
             AND relispartition ORDER BY relname LIMIT 1";
        let oldest: Option<String> = rows::value(&self.db, select, []).await?;
        let Some(day) = oldest.and_then(|name| day_of(ROUND, &name)) else { return Ok(None) };
        let end = next_midnight(day);
        if now < end + LIVE_FOR || self.judged_before(end).await? < end {
            return Ok(None);
        }
        let select = "SELECT * FROM round_compaction WHERE day = $1";
        let begun: Option<Progress> = rows::first(&self.db, select, [day.into()]).await?;
        let next_at = day.midnight().assume_utc();
        Ok(Some(begun.unwrap_or(Progress { day, next_at, next_commit: 0, rounds: 0 })))
    }

    /// Writes the blocks of the next ten minutes.
    async fn compact_part(
        &self,
        progress: Progress,
        end: OffsetDateTime,
    ) -> Result<(), StoreError> {
        let Progress { day, next_commit, .. } = progress;
        let live = name_of(ROUND, day);
        let part_end = (progress.next_at + Duration::seconds(BLOCK_S)).min(end);
        let select = "SELECT commit_no, received_at FROM batch \
             WHERE commit_no >= $1 AND received_at >= $2 ORDER BY commit_no LIMIT 1";
        let values = [next_commit.into(), part_end.into()];
        let behind: Option<Behind> = rows::first(&self.db, select, values).await?;
        // The last part takes whatever the day has left; time without batches is passed over.
        let behind = behind.filter(|behind| behind.received_at < end);
        let next_at = behind.as_ref().map_or(end, |behind| block_start(behind.received_at));
        let commits = (next_commit, behind.map_or(i64::MAX, |behind| behind.commit_no));
        let select =
            format!("SELECT count(*) FROM {live} WHERE commit_no >= $1 AND commit_no < $2");
        let count: Option<i64> =
            rows::value(&self.db, &select, [commits.0.into(), commits.1.into()]).await?;
        let count = count.unwrap_or(0);
        if count > 0 {
            self.make_partition(ROUND_BLOCK, &name_of(ROUND_BLOCK, day), day).await?;
        }
        let txn = self.db.begin().await?;
        let parts = count.saturating_add(ROUNDS_AT_ONCE - 1) / ROUNDS_AT_ONCE;
        let mut rounds = progress.rounds;
        for part in 0..parts {
            let found = live_rounds(&txn, &live, commits, (parts, part)).await?;
            rounds = rounds.saturating_add(i64::try_from(found.len()).unwrap_or(i64::MAX));
            write(&txn, pack(found).await?).await?;
        }
        let upsert = "INSERT INTO round_compaction (day, next_at, next_commit, rounds) \
             VALUES ($1, $2, $3, $4) ON CONFLICT (day) DO UPDATE SET next_at = excluded.next_at, \
                 next_commit = excluded.next_commit, rounds = excluded.rounds";
        let values = [day.into(), next_at.into(), commits.1.into(), rounds.into()];
        txn.execute_raw(sql(upsert, values)).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Replaces the live rounds of a day by its blocks.
    async fn end_day(&self, progress: Progress) -> Result<(), StoreError> {
        let live = name_of(ROUND, progress.day);
        let txn = self.db.begin().await?;
        txn.execute_unprepared("SET LOCAL lock_timeout = '2s'").await?;
        txn.execute_unprepared(&format!("LOCK TABLE {live} IN SHARE MODE")).await?;
        let count: Option<i64> =
            rows::value(&txn, &format!("SELECT count(*) FROM {live}"), []).await?;
        if count != Some(progress.rounds) {
            return Err(StoreError::corrupt("order of rounds of a day that is over"));
        }
        txn.execute_unprepared(&format!("DROP TABLE {live}")).await?;
        let delete = "DELETE FROM round_compaction WHERE day = $1";
        txn.execute_raw(sql(delete, [progress.day.into()])).await?;
        txn.commit().await?;
        Ok(())
    }
}

fn next_midnight(day: Date) -> OffsetDateTime {
    day.next_day().unwrap_or(Date::MAX).midnight().assume_utc()
}

/// Live rounds of some commits of a day, by path and the order of receipt: of `parts` parts of the
/// paths this one.
async fn live_rounds(
    txn: &DatabaseTransaction,
    live: &str,
    (first, behind): (i64, i64),
    (parts, part): (i64, i64),
) -> Result<Vec<(i32, StoredRound)>, StoreError> {
    let select = format!(
        "SELECT {COLUMNS} FROM {live} r WHERE r.commit_no >= $1 AND r.commit_no < $2 \
             AND r.path_no % $3 = $4"
    );
    let values = [first.into(), behind.into(), parts.into(), part.into()];
    let rows: Vec<LiveRow> = rows::all(txn, &select, values).await?;
    let mut rounds: Vec<(i32, StoredRound)> =
        rows.into_iter().map(|row| (row.path_no, row.round())).collect();
    rounds.sort_by_key(|(no, it)| (*no, it.received_us, it.commit_no, it.number));
    Ok(rounds)
}

/// The blocks of some rounds; off the async runtime.
async fn pack(rounds: Vec<(i32, StoredRound)>) -> Result<Vec<NewBlock>, StoreError> {
    let work = move || {
        let mut by_block: BTreeMap<(OffsetDateTime, i32), Vec<StoredRound>> = BTreeMap::new();
        for (path_no, round) in rounds {
            let received_at = offset(WallTime::from_unix_micros(round.received_us));
            by_block.entry((block_start(received_at), path_no)).or_default().push(round);
        }
        let mut packing = BlockPacking::new()?;
        let block = |((start_at, path_no), rounds): ((OffsetDateTime, i32), Vec<StoredRound>)| {
            Ok(NewBlock { path_no, start_at, content: packing.pack(&rounds)? })
        };
        by_block.into_iter().map(block).collect()
    };
    compute("rounds", work).await?
}

async fn write(txn: &DatabaseTransaction, blocks: Vec<NewBlock>) -> Result<(), StoreError> {
    let insert = "INSERT INTO round_block (path_no, start_at, content) \
         SELECT * FROM unnest($1::int[], $2::timestamptz[], $3::bytea[])";
    let values: [Value; 3] = [
        blocks.iter().map(|it| it.path_no).collect::<Vec<_>>().into(),
        blocks.iter().map(|it| it.start_at).collect::<Vec<_>>().into(),
        blocks.into_iter().map(|it| it.content).collect::<Vec<_>>().into(),
    ];
    txn.execute_raw(sql(insert, values)).await?;
    Ok(())
}
