//! The one reader of recorded rounds: live ones, and behind them those in blocks.

use super::block;
use crate::compute::compute;
use crate::packing::Unpacking;
use crate::statement::sql;
use crate::times::{micros, offset};
use crate::{StoreError, rows};
use itinera_model::round_block::StoredRound;
use itinera_model::round_row;
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{
    AccessMode, ConnectionTrait, DatabaseTransaction, FromQueryResult, IsolationLevel, Statement,
    TransactionTrait,
};
use std::ops::RangeInclusive;
use time::{Duration, OffsetDateTime};

/// Rounds of one path within so many seconds of receipt are in one block.
pub(super) const BLOCK_S: i64 = 600;
/// Blocks that are read at once for a page.
const BLOCKS_AT_ONCE: i64 = 24;
/// So many live rounds are decoded off the async runtime: some milliseconds of work.
const MANY_ROUNDS: usize = 500;

/// A recorded round and its path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RoundRow {
    /// Its path.
    pub(crate) path: Uuid,
    /// The path's number.
    pub(crate) path_no: i32,
    /// The round.
    pub(crate) round: StoredRound,
}

impl RoundRow {
    /// Its place in the order of receipt among those of its path.
    pub(crate) fn place(&self) -> (OffsetDateTime, i64, i64) {
        (self.received_at(), self.round.commit_no, self.round.number)
    }

    pub(crate) fn received_at(&self) -> OffsetDateTime {
        offset(WallTime::from_unix_micros(self.round.received_us))
    }
}

/// What [`LiveRow`] is read from: `round r`.
pub(super) const COLUMNS: &str = "r.path_no, r.received_at, r.commit_no, r.content";

/// The ten minutes in which a live round was received, by which those of a path are found.
const TEN_MINUTES: &str = "date_bin('10 minutes', r.received_at, 'epoch')";

/// A live round.
#[derive(FromQueryResult)]
pub(super) struct LiveRow {
    pub(super) path_no: i32,
    received_at: OffsetDateTime,
    commit_no: i64,
    content: Vec<u8>,
}

impl LiveRow {
    /// The round. Content that cannot be read is kept as it is in place of the hops; they are refused where
    /// they are read.
    pub(super) fn round(self) -> StoredRound {
        let (received_us, commit_no) = (micros(self.received_at), self.commit_no);
        round_row::unpack(&self.content, received_us, commit_no).unwrap_or_else(|_| StoredRound {
            received_us,
            commit_no,
            hops: self.content,
            ..StoredRound::default()
        })
    }
}

#[derive(FromQueryResult)]
struct BlockRow {
    path: Uuid,
    path_no: i32,
    start_at: OffsetDateTime,
    content: Vec<u8>,
}

/// Where the block of a time of receipt begins.
pub(super) fn block_start(at: OffsetDateTime) -> OffsetDateTime {
    at.truncate_to_second() - Duration::seconds(at.unix_timestamp().rem_euclid(BLOCK_S))
}

/// A view of recorded rounds in which each is either live or in a block: while it lasts, no day is
/// replaced by its blocks.
///
/// The lock comes before the snapshot: a partition that is dropped is gone for older snapshots too
/// (PostgreSQL manual, "Caveats" of MVCC).
pub(crate) async fn snapshot(
    db: &DatabaseConnection,
    table: &str,
) -> Result<DatabaseTransaction, StoreError> {
    let (level, access) = (IsolationLevel::RepeatableRead, AccessMode::ReadOnly);
    let txn = db.begin_with_config(Some(level), Some(access)).await?;
    txn.execute_unprepared(&format!("LOCK TABLE ONLY {table} IN ACCESS SHARE MODE")).await?;
    Ok(txn)
}

/// A view of rounds for the functions of this module.
pub(crate) async fn view(db: &DatabaseConnection) -> Result<DatabaseTransaction, StoreError> {
    snapshot(db, "round").await
}

/// Rounds by path and the order of receipt, for these paths and times of receipt.
///
/// # Errors
/// [`StoreError::Database`], or [`StoreError::Corrupt`] for a block that cannot be read.
pub(crate) async fn of_paths(
    txn: &DatabaseTransaction,
    paths: &[Uuid],
    (from, to): (OffsetDateTime, OffsetDateTime),
) -> Result<Vec<RoundRow>, StoreError> {
    let condition = "p.id = ANY($1) AND b.start_at >= $2 AND b.start_at <= $3";
    let values = [paths.to_vec().into(), block_start(from).into(), to.into()];
    let mut rounds = unpacked(blocks(txn, condition, values, None).await?).await?;
    rounds.retain(|row| (from..=to).contains(&row.received_at()));
    rounds.extend(live_of_paths(txn, paths, (from, to)).await?);
    rounds.sort_by_key(|row| (row.path_no, row.place()));
    Ok(rounds)
}

/// Rounds of a path in the order of receipt: those behind a place, and up to a time of receipt, at
/// most `limit`.
///
/// # Errors
/// As [`of_paths`].
pub(crate) async fn page(
    txn: &DatabaseTransaction,
    path: Uuid,
    after: (OffsetDateTime, i64, i64),
    to: OffsetDateTime,
    limit: usize,
) -> Result<Vec<RoundRow>, StoreError> {
    let mut rounds = Vec::new();
    let mut next = block_start(after.0);
    while rounds.len() < limit {
        let condition = "p.id = $1 AND b.start_at >= $2 AND b.start_at <= $3";
        let values = [path.into(), next.into(), to.into()];
        let blocks = blocks(txn, condition, values, Some(BLOCKS_AT_ONCE)).await?;
        let Some(last) = blocks.last() else { break };
        next = last.start_at + Duration::seconds(BLOCK_S);
        let unpacked = unpacked(blocks).await?.into_iter();
        rounds.extend(unpacked.filter(|row| row.place() > after && row.received_at() <= to));
    }
    // Days are compacted from the oldest on: what is live comes behind all blocks. The first commit may
    // have rounds before the place, instead of which others are read.
    let mut passed = 0;
    while rounds.len() < limit {
        let wanted = limit - rounds.len() + passed;
        let mut found = live_from(txn, path, (after.0, to), wanted).await?;
        let is_all = found.len() < wanted;
        found.retain(|row| row.place() > after);
        if is_all || rounds.len() + found.len() >= limit {
            rounds.extend(found);
            break;
        }
        passed = wanted;
    }
    rounds.truncate(limit);
    Ok(rounds)
}

/// Live rounds of some commits that were received within a time, by commit, path and number.
///
/// # Errors
/// [`StoreError::Database`].
pub(crate) async fn live_of_commits(
    db: &impl ConnectionTrait,
    commits: RangeInclusive<i64>,
    (low, high): (OffsetDateTime, OffsetDateTime),
) -> Result<Vec<RoundRow>, StoreError> {
    let condition = "r.commit_no >= $1 AND r.commit_no <= $2 AND r.received_at BETWEEN $3 AND $4";
    let (first, last) = commits.into_inner();
    let values = [first.into(), last.into(), low.into(), high.into()];
    let mut rounds = live(db, condition, values, "").await?;
    rounds.sort_by_key(|row| (row.round.commit_no, row.path_no, row.round.number));
    Ok(rounds)
}

/// Reads rounds by commit, and keeps those of the last block: the next commits are often in it.
#[derive(Debug, Default)]
pub(crate) struct CommitReader {
    start_at: Option<OffsetDateTime>,
    /// All rounds received within the ten minutes that begin then, by commit.
    held: Vec<RoundRow>,
}

impl CommitReader {
    /// Rounds of some commits that were received within a time, by commit, path and number.
    ///
    /// # Errors
    /// As [`of_paths`].
    pub(crate) async fn read(
        &mut self,
        txn: &DatabaseTransaction,
        commits: RangeInclusive<i64>,
        span: (OffsetDateTime, OffsetDateTime),
    ) -> Result<Vec<RoundRow>, StoreError> {
        let mut rounds = Vec::new();
        let (first, last) = (*commits.start(), *commits.end());
        let select = format!(
            "SELECT DISTINCT b.start_at FROM {BLOCKS} AND b.start_at >= $1 AND b.start_at <= $2 \
             ORDER BY 1"
        );
        let values = [block_start(span.0).into(), span.1.into()];
        let starts: Vec<OffsetDateTime> = rows::column(txn, &select, values).await?;
        for start_at in starts {
            if self.start_at != Some(start_at) {
                let found = blocks(txn, "b.start_at = $1", [start_at.into()], None).await?;
                self.held = unpacked(found).await?;
                self.held.sort_by_key(|it| (it.round.commit_no, it.path_no, it.round.number));
                self.start_at = Some(start_at);
            }
            let begin = self.held.partition_point(|row| row.round.commit_no < first);
            let end = self.held.partition_point(|row| row.round.commit_no <= last);
            rounds.extend_from_slice(self.held.get(begin..end).unwrap_or_default());
        }
        rounds.extend(live_of_commits(txn, commits, span).await?);
        Ok(rounds)
    }
}

/// Live rounds of some paths by path and the order of receipt, for these times of receipt.
///
/// # Errors
/// [`StoreError::Database`].
pub(crate) async fn live_of_paths(
    db: &impl ConnectionTrait,
    paths: &[Uuid],
    (from, to): (OffsetDateTime, OffsetDateTime),
) -> Result<Vec<RoundRow>, StoreError> {
    let condition = format!(
        "p.id = ANY($1) AND r.received_at BETWEEN $2 AND $3 AND {TEN_MINUTES} BETWEEN $4 AND $3"
    );
    let values = [paths.to_vec().into(), from.into(), to.into(), block_start(from).into()];
    let mut rounds = live(db, &condition, values, "").await?;
    rounds.sort_by_key(|row| (row.path_no, row.place()));
    Ok(rounds)
}

/// The first live rounds of a path in the order of receipt, for these times of receipt: at least `least`
/// where there are as many, and all of the last commit.
async fn live_from(
    db: &impl ConnectionTrait,
    path: Uuid,
    (from, to): (OffsetDateTime, OffsetDateTime),
    least: usize,
) -> Result<Vec<RoundRow>, StoreError> {
    let condition = format!(
        "p.id = $1 AND r.received_at BETWEEN $2 AND $3 AND {TEN_MINUTES} BETWEEN $4 AND $3"
    );
    let order = format!(
        "ORDER BY {TEN_MINUTES}, r.received_at, r.commit_no FETCH FIRST {least} ROWS WITH TIES"
    );
    let values = [path.into(), from.into(), to.into(), block_start(from).into()];
    let mut rounds = live(db, &condition, values, &order).await?;
    rounds.sort_by_key(RoundRow::place);
    Ok(rounds)
}

/// The newest live round of each path that was received since a time.
///
/// # Errors
/// [`StoreError::Database`].
pub(crate) async fn newest_live(
    db: &impl ConnectionTrait,
    since: OffsetDateTime,
) -> Result<Vec<RoundRow>, StoreError> {
    let newest = format!(
        "path p CROSS JOIN LATERAL (SELECT * FROM round r WHERE r.path_no = p.no \
             AND r.received_at >= $1 AND {TEN_MINUTES} >= $2 \
         ORDER BY {TEN_MINUTES} DESC, r.received_at DESC, r.commit_no DESC LIMIT 1) r"
    );
    let select = format!("SELECT p.id AS path, {COLUMNS} FROM {newest}");
    read(db, sql(&select, [since.into(), block_start(since).into()])).await
}

/// Live rounds under a condition.
async fn live(
    db: &impl ConnectionTrait,
    condition: &str,
    values: impl IntoIterator<Item = Value>,
    order: &str,
) -> Result<Vec<RoundRow>, StoreError> {
    let select = format!(
        "SELECT p.id AS path, {COLUMNS} FROM round r JOIN path p ON p.no = r.path_no \
         WHERE {condition} {order}"
    );
    read(db, sql(&select, values)).await
}

async fn read(db: &impl ConnectionTrait, select: Statement) -> Result<Vec<RoundRow>, StoreError> {
    let rows = db.query_all_raw(select).await?;
    if rows.len() < MANY_ROUNDS {
        return decoded(&rows);
    }
    compute("rounds", move || decoded(&rows)).await?
}

fn decoded(rows: &[QueryResult]) -> Result<Vec<RoundRow>, StoreError> {
    let row = |row: &QueryResult| {
        let (path, live): (Uuid, _) =
            (row.try_get("", "path")?, LiveRow::from_query_result(row, "")?);
        Ok(RoundRow { path, path_no: live.path_no, round: live.round() })
    };
    rows.iter().map(row).collect()
}

/// Blocks of days that are all in blocks, with their paths.
const BLOCKS: &str = "round_block b JOIN path p ON p.no = b.path_no \
     WHERE (b.start_at AT TIME ZONE 'UTC')::date NOT IN (SELECT day FROM round_compaction)";

/// Blocks by path and time.
async fn blocks(
    db: &impl ConnectionTrait,
    condition: &str,
    values: impl IntoIterator<Item = Value>,
    limit: Option<i64>,
) -> Result<Vec<BlockRow>, StoreError> {
    let limit = limit.map_or_else(String::new, |limit| format!("LIMIT {limit}"));
    let select = format!(
        "SELECT p.id AS path, b.path_no, b.start_at, b.content FROM {BLOCKS} AND {condition} \
         ORDER BY b.path_no, b.start_at {limit}"
    );
    rows::all(db, &select, values).await
}

/// The rounds of blocks, in the order of these; off the async runtime.
async fn unpacked(blocks: Vec<BlockRow>) -> Result<Vec<RoundRow>, StoreError> {
    if blocks.is_empty() {
        return Ok(Vec::new());
    }
    let work = move || {
        let mut unpacking = Unpacking::new()?;
        let mut rounds = Vec::new();
        for BlockRow { path, path_no, content, .. } in blocks {
            let unpacked = block::unpack(&mut unpacking, &content)?.into_iter();
            rounds.extend(unpacked.map(|round| RoundRow { path, path_no, round }));
        }
        Ok(rounds)
    };
    compute("block of rounds", work).await?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_begin_every_ten_minutes_before_1970_too() {
        let at = |us: i64| offset(WallTime::from_unix_micros(us));
        assert_eq!(block_start(at(1_199_999_999)), at(600_000_000));
        assert_eq!(block_start(at(1_200_000_000)), at(1_200_000_000));
        assert_eq!(block_start(at(-1)), at(-600_000_000));
    }
}
