//! The log as judgement reads it: the order of truth of everything that is judged.

use crate::checks::{self, CheckedAt, HostFactsAt};
use crate::compute::compute;
use crate::ingest::hold_head;
use crate::lease::renew_lease;
use crate::pair_routes::{self, PairRouteAt};
use crate::rounds::{CommitReader, Contents, LoggedRound, RoundRow, view};
use crate::statement::sql;
use crate::throughput::{self, ThroughputRecord};
use crate::times::measured_at;
use crate::two_way;
use crate::{Store, StoreError, rows};
use itinera_model::id::AgentId;
use itinera_model::round::Clocks;
use itinera_model::two_way::TwoWayRound;
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{FromQueryResult, TransactionTrait};
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// One entry of the log.
#[derive(Debug, Clone, PartialEq)]
pub struct LogEntry {
    /// Its place in the order of truth, from 1 without gaps.
    pub commit_no: i64,
    /// When it was written, by the service's clock at the time.
    pub received_at: WallTime,
    /// What it holds.
    pub content: LogContent,
}

/// What an entry of the log holds.
#[derive(Debug, Clone, PartialEq)]
pub enum LogContent {
    /// The report of an agent.
    Report(LoggedReport),
    /// Nothing but the time.
    Clock,
    /// The inventory, in judgement's encoding.
    Inventory(Vec<u8>),
}

/// The report of an agent: one batch.
#[derive(Debug, Clone, PartialEq)]
pub struct LoggedReport {
    /// The agent.
    pub agent: AgentId,
    /// Its rounds.
    pub rounds: Vec<LoggedRound>,
    /// Its rounds of pairs, each with the service's estimate of its beginning.
    pub two_way: Vec<(WallTime, TwoWayRound)>,
    /// Routes of its pairs in the direction in which it sends.
    pub pair_routes: Vec<PairRouteAt>,
    /// Results of its checks.
    pub checks: Vec<CheckedAt>,
    /// Its host facts.
    pub host_facts: Vec<HostFactsAt>,
    /// Its measurements of throughput that ended.
    pub throughput: Vec<ThroughputRecord>,
}

impl LoggedReport {
    const fn empty(agent: AgentId) -> Self {
        Self {
            agent,
            rounds: Vec::new(),
            two_way: Vec::new(),
            pair_routes: Vec::new(),
            checks: Vec::new(),
            host_facts: Vec::new(),
            throughput: Vec::new(),
        }
    }
}

impl LogEntry {
    /// The report of an agent; absent for other entries.
    pub const fn report(&self) -> Option<&LoggedReport> {
        match &self.content {
            LogContent::Report(report) => Some(report),
            LogContent::Clock | LogContent::Inventory(_) => None,
        }
    }
}

/// What the service itself enters into the log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NewEntry {
    /// Nothing but the time.
    Clock,
    /// The inventory, in judgement's encoding.
    Inventory(Vec<u8>),
}

#[derive(FromQueryResult)]
struct EntryRow {
    commit_no: i64,
    clock_at: OffsetDateTime,
    agent: Option<Uuid>,
    inventory: Option<Vec<u8>>,
    /// The batch that the entry holds: its own, or one that is tried again.
    batch_no: Option<i64>,
    /// When that was received, by the order of truth and by the clock.
    batch_at: Option<OffsetDateTime>,
    batch_clock_at: Option<OffsetDateTime>,
}

/// Rounds and unpacked bytes of one step of judgement, after which no further commit is taken into
/// it.
const MOST_ROUNDS: i64 = 20_000;
const MOST_BYTES: i64 = 64 << 20;

impl Store {
    /// Enters something into the log at a time of the clock, for the leader of judgement.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] when another process leads; [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn log(
        &self,
        token: i64,
        entry: NewEntry,
        now: OffsetDateTime,
    ) -> Result<(), StoreError> {
        let txn = self.judge.begin().await?;
        let (commit_no, received_at) = hold_head(&txn, now).await?;
        let inventory = match entry {
            NewEntry::Clock => None,
            NewEntry::Inventory(content) => Some(content),
        };
        let insert = "INSERT INTO log_clock (commit_no, received_at, clock_at, inventory) \
             VALUES ($1, $2, $3, $4)";
        let values = [commit_no.into(), received_at.into(), now.into(), inventory.into()];
        txn.execute_raw(sql(insert, values)).await?;
        renew_lease(&txn, token).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Empties a log that holds no batch, with what judgement made of it, so that it may begin at an
    /// earlier time. False where it holds batches: nothing is changed then.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] when another process leads; [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn forget_empty_log(&self, token: i64) -> Result<bool, StoreError> {
        let txn = self.judge.begin().await?;
        renew_lease(&txn, token).await?;
        // Nothing can be entered meanwhile.
        let hold = "UPDATE meta SET log_head = log_head RETURNING \
             rounds > 0 OR EXISTS (SELECT FROM batch) OR EXISTS (SELECT FROM alarm)";
        if rows::value(&txn, hold, []).await? != Some(false) {
            return Ok(false);
        }
        txn.execute_unprepared(
            "DELETE FROM log_clock; DELETE FROM opening_state; DELETE FROM stage_state; \
             UPDATE judge SET cursor = 0, checkpoint = 0; UPDATE rollup_cursor SET commit_no = 0; \
             UPDATE meta SET log_head = 0, last_received_at = '-infinity'",
        )
        .await?;
        txn.commit().await?;
        Ok(true)
    }

    /// Reads the log.
    pub fn log_reader(&self) -> LogReader {
        LogReader {
            store: self.clone(),
            rounds: CommitReader::default(),
            contents: Contents::default(),
        }
    }
}

/// Reads the log, and keeps what rounds refer to from one call to the next.
#[derive(Debug)]
pub struct LogReader {
    store: Store,
    rounds: CommitReader,
    contents: Contents,
}

impl LogReader {
    /// The entries after `cursor` in order without those that are set aside: at most `limit`, and
    /// no more than 20,000 rounds or 64 MiB unpacked together, though always one.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn after(&mut self, cursor: i64, limit: i64) -> Result<Vec<LogEntry>, StoreError> {
        self.between((cursor, i64::MAX), limit).await
    }

    /// The same of the entries after `cursor` up to another: what comes after that need not be
    /// readable.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn between(
        &mut self,
        (cursor, upto): (i64, i64),
        limit: i64,
    ) -> Result<Vec<LogEntry>, StoreError> {
        let entries = "WITH skipped AS ( \
                 SELECT commit_no FROM set_aside WHERE commit_no > $1 \
                 UNION SELECT retries FROM log_clock WHERE retries > $1), \
             next AS ( \
                 (SELECT commit_no, coalesce(clock_at, received_at) AS clock_at, \
                     NULL::bytea AS inventory, commit_no AS batch_no, rounds, bytes \
                 FROM batch WHERE commit_no > $1 AND commit_no <= $5 ORDER BY commit_no \
                 LIMIT $2 + (SELECT count(*) FROM skipped)) \
                 UNION ALL \
                 (SELECT l.commit_no, l.clock_at, coalesce(l.inventory, o.inventory), l.retries, \
                     coalesce(b.rounds, 0), coalesce(b.bytes, 0) \
                 FROM log_clock l LEFT JOIN batch b ON b.commit_no = l.retries \
                     LEFT JOIN log_clock o ON o.commit_no = l.retries \
                 WHERE l.commit_no > $1 AND l.commit_no <= $5 ORDER BY l.commit_no \
                 LIMIT $2 + (SELECT count(*) FROM skipped))) \
             SELECT t.commit_no, t.clock_at, t.inventory, t.batch_no, a.id AS agent, \
                 b.received_at AS batch_at, coalesce(b.clock_at, b.received_at) AS batch_clock_at \
             FROM ( \
                 SELECT n.*, sum(rounds) OVER (ORDER BY commit_no) - rounds AS rounds_before, \
                     sum(bytes) OVER (ORDER BY commit_no) - bytes AS bytes_before \
                 FROM (SELECT * FROM next e \
                     WHERE NOT EXISTS (SELECT FROM skipped x WHERE x.commit_no = e.commit_no) \
                     ORDER BY commit_no LIMIT $2) n) t \
                 LEFT JOIN batch b ON b.commit_no = t.batch_no \
                 LEFT JOIN agent a ON a.no = b.agent_no \
             WHERE (rounds_before < $3 AND bytes_before < $4) \
                 OR (rounds_before = 0 AND bytes_before = 0) ORDER BY t.commit_no";
        let values =
            [cursor.into(), limit.into(), MOST_ROUNDS.into(), MOST_BYTES.into(), upto.into()];
        let rows: Vec<EntryRow> = rows::all(&self.store.judge, entries, values).await?;
        let own = rows.iter().filter(|row| row.batch_no == Some(row.commit_no));
        let mut batches = self.batches(&own.collect::<Vec<_>>()).await?;
        let mut entries = Vec::with_capacity(rows.len());
        for row in &rows {
            let content = match (row.agent, row.batch_no, &row.inventory) {
                (Some(agent), Some(batch_no), _) => {
                    if batch_no != row.commit_no {
                        batches.extend(self.batches(&[row]).await?);
                    }
                    let report = batches.remove(&batch_no);
                    let empty = || LoggedReport::empty(AgentId::from_uuid(agent));
                    LogContent::Report(report.unwrap_or_else(empty))
                }
                (_, _, Some(inventory)) => LogContent::Inventory(inventory.clone()),
                _ => LogContent::Clock,
            };
            let (commit_no, received_at) = (row.commit_no, WallTime::from(row.clock_at));
            entries.push(LogEntry { commit_no, received_at, content });
        }
        Ok(entries)
    }

    /// The batches that some entries hold, by number.
    async fn batches(
        &mut self,
        entries: &[&EntryRow],
    ) -> Result<BTreeMap<i64, LoggedReport>, StoreError> {
        let asked = entries.iter().filter_map(|row| {
            let batch = (row.agent.map(AgentId::from_uuid)?, WallTime::from(row.batch_clock_at?));
            Some((row.batch_no?, batch))
        });
        let asked: BTreeMap<i64, (AgentId, WallTime)> = asked.collect();
        let times = || entries.iter().filter_map(|row| row.batch_at);
        let (Some((first, _)), Some((last, _))) = (asked.first_key_value(), asked.last_key_value())
        else {
            return Ok(BTreeMap::new());
        };
        let (Some(low), Some(high)) = (times().min(), times().max()) else {
            return Ok(BTreeMap::new());
        };
        let db = &self.store.judge;
        let txn = view(db).await?;
        let mut rows = self.rounds.read(&txn, *first..=*last, (low, high)).await?;
        // Those between that are set aside are not asked for, and need not be readable.
        rows.retain(|row| asked.contains_key(&row.round.commit_no));
        self.contents.read(&txn, &rows).await?;
        txn.commit().await?;
        let empty = |(commit_no, (agent, _)): (&i64, &(AgentId, WallTime))| {
            (*commit_no, LoggedReport::empty(*agent))
        };
        let mut batches: BTreeMap<i64, LoggedReport> = asked.iter().map(empty).collect();
        let contents = std::mem::take(&mut self.contents);
        let received = |row: RoundRow| {
            let (_, received_at) = asked.get(&row.round.commit_no)?;
            Some((row, *received_at))
        };
        let received: Vec<(RoundRow, WallTime)> = rows.into_iter().filter_map(received).collect();
        let work = move || {
            let logged = |(row, at): &(RoundRow, WallTime)| {
                Ok((row.round.commit_no, contents.round(row, *at)?))
            };
            let rounds = received.iter().map(logged).collect::<Result<Vec<_>, StoreError>>();
            (contents, rounds)
        };
        let (contents, rounds) = compute("rounds", work).await?;
        self.contents = contents;
        for (commit_no, round) in rounds? {
            if let Some(batch) = batches.get_mut(&commit_no) {
                batch.rounds.push(round);
            }
        }
        let (commits, span) = ((*first - 1, *last), (low, high));
        for (commit_no, found) in checks::checks_and_host_facts(db, commits, span).await? {
            if let Some(batch) = batches.get_mut(&commit_no) {
                (batch.checks, batch.host_facts) = found;
            }
        }
        for two_way::PairRound { commit_no, round, .. } in
            two_way::of_commits(db, commits, span).await?
        {
            let batch = asked.get(&commit_no).zip(batches.get_mut(&commit_no));
            let Some(((_, received_at), batch)) = batch else { continue };
            let Clocks { wall, offset_us, .. } = round.clocks;
            let at = measured_at(wall.as_unix_micros(), offset_us, *received_at);
            batch.two_way.push((at, round));
        }
        for (commit_no, routes) in pair_routes::of_commits(db, commits, span).await? {
            if let Some(batch) = batches.get_mut(&commit_no) {
                batch.pair_routes = routes;
            }
        }
        for (commit_no, ended) in throughput::ended(db, commits).await? {
            if let Some(batch) = batches.get_mut(&commit_no) {
                batch.throughput = ended;
            }
        }
        Ok(batches)
    }
}
