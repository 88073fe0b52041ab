//! The one reader of recorded rounds: live ones, and behind them those in blocks.

use super::block;
use crate::packing::Unpacking;
use crate::statement::sql;
use crate::times::{micros, offset};
use crate::{StoreError, rows};
use itinera_model::round_block::StoredRound;
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{
    AccessMode, ConnectionTrait, DatabaseTransaction, FromQueryResult, IsolationLevel,
    TransactionTrait,
};
use std::ops::RangeInclusive;
use time::{Duration, OffsetDateTime};

/// Rounds of one path within so many seconds of receipt are in one block.
pub(super) const BLOCK_S: i64 = 600;
/// Blocks that are read at once for a page.
const BLOCKS_AT_ONCE: i64 = 24;

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
pub(super) const COLUMNS: &str = "r.path_no, r.received_at, r.commit_no, r.number, r.tick_ns, \
     r.wall_us, r.offset_us, r.offset_error_us, r.flow_no, r.resolution_no, r.route_no, r.reading_no, \
     r.reached_at, r.stamps, r.timer_late_us, r.read_late_us, r.link_late_us, r.hops";

/// A live round.
#[derive(FromQueryResult)]
pub(super) struct LiveRow {
    pub(super) path_no: i32,
    received_at: OffsetDateTime,
    commit_no: i64,
    number: i64,
    tick_ns: i64,
    wall_us: i64,
    offset_us: Option<i64>,
    offset_error_us: Option<i64>,
    flow_no: i64,
    resolution_no: i64,
    route_no: i64,
    reading_no: Option<i64>,
    reached_at: Option<i16>,
    stamps: i16,
    timer_late_us: Option<i32>,
    read_late_us: Option<i32>,
    link_late_us: Option<i32>,
    hops: Vec<u8>,
}

impl LiveRow {
    pub(super) fn round(self) -> StoredRound {
        let late = [self.timer_late_us, self.read_late_us, self.link_late_us];
        StoredRound {
            received_us: micros(self.received_at),
            commit_no: self.commit_no,
            number: self.number,
            tick_ns: self.tick_ns,
            wall_us: self.wall_us,
            offset_us: self.offset_us,
            offset_error_us: self.offset_error_us,
            flow_no: self.flow_no,
            resolution_no: self.resolution_no,
            route_no: self.route_no,
            reading_no: self.reading_no,
            reached_at: self.reached_at.map(i64::from),
            stamps: self.stamps.into(),
            late_us: late.map(|us| us.map(i64::from)),
            hops: self.hops,
        }
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
    let condition = "p.id = ANY($1) AND r.received_at BETWEEN $2 AND $3";
    rounds
        .extend(live(txn, condition, [paths.to_vec().into(), from.into(), to.into()], None).await?);
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
    // Days are compacted from the oldest on: what is live comes behind all blocks.
    if rounds.len() < limit {
        let (begin, commit_no, number) = after;
        let condition = "p.id = $1 AND r.received_at BETWEEN $2 AND $3 \
             AND (r.received_at, r.commit_no, r.number) > ($2, $4, $5)";
        let values = [path.into(), begin.into(), to.into(), commit_no.into(), number.into()];
        let missing = i64::try_from(limit - rounds.len()).unwrap_or(i64::MAX);
        rounds.extend(live(txn, condition, values, Some(missing)).await?);
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
    let mut rounds = live(db, condition, values, None).await?;
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

/// Live rounds by path and the order of receipt.
async fn live(
    db: &impl ConnectionTrait,
    condition: &str,
    values: impl IntoIterator<Item = Value>,
    limit: Option<i64>,
) -> Result<Vec<RoundRow>, StoreError> {
    let limit = limit.map_or_else(String::new, |limit| format!("LIMIT {limit}"));
    let select = format!(
        "SELECT p.id AS path, {COLUMNS} FROM round r JOIN path p ON p.no = r.path_no \
         WHERE {condition} ORDER BY r.path_no, r.received_at, r.commit_no, r.number {limit}"
    );
    let rows = db.query_all_raw(sql(&select, values)).await?;
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
    tokio::task::spawn_blocking(work).await.map_err(|_| StoreError::corrupt("block of rounds"))?
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
