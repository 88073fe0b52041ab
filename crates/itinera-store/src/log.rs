//! The log of commits as judgement reads it, and the rounds of paths in a span of time.

use crate::checks::{self, CheckedAt, HostFactsAt};
use crate::ingest::hold_head;
use crate::lease::renew_lease;
use crate::statement::sql;
use crate::throughput::{self, ThroughputRecord};
use crate::times::measured_at;
use crate::{Store, StoreError, rows};
use itinera_model::id::{AgentId, ContentId, PathId};
use itinera_model::packed;
use itinera_model::round::{HopCounts, Lateness, StampSource};
use itinera_model::route::{Flow, Route};
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
use sea_orm::QueryResult;
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use std::collections::BTreeMap;
use std::net::IpAddr;
use time::{Duration, OffsetDateTime};

/// One entry of the log: the batch of an agent, or a time of the clock.
#[derive(Debug, Clone, PartialEq)]
pub struct LogEntry {
    /// Its place in the order of truth, from 1 without gaps.
    pub commit_no: i64,
    /// When it was written, by the service's clock at the time.
    pub received_at: WallTime,
    /// The agent of the batch; absent for a time of the clock, which holds nothing else.
    pub agent: Option<AgentId>,
    /// Its rounds.
    pub rounds: Vec<LoggedRound>,
    /// Results of its checks.
    pub checks: Vec<CheckedAt>,
    /// What its agent found around it.
    pub host_facts: Vec<HostFactsAt>,
    /// Measurements of throughput that ended.
    pub throughput: Vec<ThroughputRecord>,
}

/// A round as judgement needs it.
#[derive(Debug, Clone, PartialEq)]
pub struct LoggedRound {
    /// The path.
    pub path: PathId,
    /// Its number.
    pub number: u64,
    /// When it was measured: the agent's clock corrected by its offset, or the time of receipt
    /// where the agent does not know its offset, or claims to be later than that.
    pub measured_at: WallTime,
    /// The agent's address.
    pub source: IpAddr,
    /// Identity of the route.
    pub route_id: ContentId,
    /// The route.
    pub route: Route,
    /// What each hop gave.
    pub hops: Vec<HopCounts>,
    /// Where the delays' stamps came from.
    pub stamps: StampSource,
    /// How late the agent's own program was, where it reports that.
    pub lateness: Option<Lateness>,
}

pub(crate) const fn stamps_of(code: i16) -> StampSource {
    match code {
        1 => StampSource::Virtual,
        2 => StampSource::Kernel,
        _ => StampSource::Program,
    }
}

#[derive(FromQueryResult)]
struct EntryRow {
    commit_no: i64,
    received_at: OffsetDateTime,
    clock_at: OffsetDateTime,
    agent: Option<Uuid>,
}

/// Rounds and unpacked bytes of one step of judgement, after which no further commit is taken into
/// it.
const MOST_ROUNDS: i64 = 20_000;
const MOST_BYTES: i64 = 64 << 20;

impl Store {
    /// Enters the time of the clock into the log, for the leader of judgement.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] when another process leads; [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn log_time(&self, token: i64, now: OffsetDateTime) -> Result<(), StoreError> {
        let txn = self.judge.begin().await?;
        let (commit_no, received_at) = hold_head(&txn, now).await?;
        let insert = "INSERT INTO log_clock (commit_no, received_at, clock_at) VALUES ($1, $2, $3)";
        let values = [commit_no.into(), received_at.into(), now.into()];
        txn.execute_raw(sql(insert, values)).await?;
        renew_lease(&txn, token).await?;
        txn.commit().await?;
        Ok(())
    }

    /// The commits after `cursor` in order without those that are set aside: at most `limit`, and
    /// no more than 20,000 rounds or 64 MiB unpacked together, though always one.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn log_after(&self, cursor: i64, limit: i64) -> Result<Vec<LogEntry>, StoreError> {
        let entries = "WITH next AS ( \
                 (SELECT commit_no, received_at, coalesce(clock_at, received_at) AS clock_at, \
                     agent_no, rounds, bytes \
                 FROM batch WHERE commit_no > $1 ORDER BY commit_no LIMIT $2 + \
                     (SELECT count(*) FROM set_aside WHERE commit_no > $1)) \
                 UNION ALL \
                 (SELECT commit_no, received_at, clock_at, NULL, 0, 0 \
                 FROM log_clock WHERE commit_no > $1 ORDER BY commit_no LIMIT $2 + \
                     (SELECT count(*) FROM set_aside WHERE commit_no > $1))) \
             SELECT t.commit_no, t.received_at, t.clock_at, a.id AS agent FROM ( \
                 SELECT n.*, sum(rounds) OVER (ORDER BY commit_no) - rounds AS rounds_before, \
                     sum(bytes) OVER (ORDER BY commit_no) - bytes AS bytes_before \
                 FROM (SELECT * FROM next e \
                     WHERE NOT EXISTS (SELECT FROM set_aside x WHERE x.commit_no = e.commit_no) \
                     ORDER BY commit_no LIMIT $2) n) t \
                 LEFT JOIN agent a ON a.no = t.agent_no \
             WHERE (rounds_before < $3 AND bytes_before < $4) \
                 OR (rounds_before = 0 AND bytes_before = 0) ORDER BY t.commit_no";
        let values = [cursor.into(), limit.into(), MOST_ROUNDS.into(), MOST_BYTES.into()];
        self.entries(cursor, rows::all(&self.judge, entries, values).await?).await
    }

    /// One commit.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a commit that is not there or
    /// cannot be read.
    pub async fn log_entry(&self, commit_no: i64) -> Result<LogEntry, StoreError> {
        let batch = "SELECT commit_no, received_at, coalesce(clock_at, received_at) AS clock_at, \
                 a.id AS agent \
             FROM batch b JOIN agent a ON a.no = b.agent_no WHERE commit_no = $1 \
             UNION ALL SELECT commit_no, received_at, clock_at, NULL FROM log_clock \
             WHERE commit_no = $1";
        let rows = rows::all(&self.judge, batch, [commit_no.into()]).await?;
        let entries = self.entries(commit_no - 1, rows).await?;
        entries.into_iter().next().ok_or_else(|| StoreError::corrupt("commit number"))
    }

    /// What the entries after `cursor` hold.
    async fn entries(&self, cursor: i64, rows: Vec<EntryRow>) -> Result<Vec<LogEntry>, StoreError> {
        let mut entries = Vec::with_capacity(rows.len());
        let mut span: Option<(OffsetDateTime, OffsetDateTime)> = None;
        for row in rows {
            let EntryRow { commit_no, received_at: at, clock_at, agent } = row;
            span = Some(span.map_or((at, at), |(low, high)| (low.min(at), high.max(at))));
            let received_at = WallTime::from(clock_at);
            let (rounds, checks) = (Vec::new(), Vec::new());
            let (host_facts, throughput) = (Vec::new(), Vec::new());
            entries.push(LogEntry {
                commit_no,
                received_at,
                agent: agent.map(AgentId::from_uuid),
                rounds,
                checks,
                host_facts,
                throughput,
            });
        }
        let (Some((low, high)), Some(last)) = (span, entries.last()) else {
            return Ok(entries);
        };
        let rounds = "SELECT r.commit_no, p.id AS path, r.number, r.wall_us, r.offset_us, \
                 f.body AS flow, t.content AS route_id, t.body AS route, r.hops, \
                 r.stamps, r.timer_late_us, r.read_late_us, r.link_late_us \
             FROM round r JOIN path p ON p.no = r.path_no JOIN flow f ON f.no = r.flow_no \
                 JOIN route t ON t.no = r.route_no \
             WHERE r.commit_no > $1 AND r.commit_no <= $2 AND r.received_at BETWEEN $3 AND $4 \
             ORDER BY r.commit_no, p.no, r.number";
        let values = [cursor.into(), last.commit_no.into(), low.into(), high.into()];
        let rows = self.judge.query_all_raw(sql(rounds, values)).await?;
        let mut by_commit: BTreeMap<i64, Vec<QueryResult>> = BTreeMap::new();
        for row in rows {
            by_commit.entry(row.try_get("", "commit_no")?).or_default().push(row);
        }
        let span = (low, high);
        let mut checks_by_commit =
            checks::checks_and_host_facts(&self.judge, (cursor, last.commit_no), span).await?;
        let mut carried = throughput::ended(&self.judge, (cursor, last.commit_no)).await?;
        for entry in &mut entries {
            entry.throughput = carried.remove(&entry.commit_no).unwrap_or_default();
            if let Some((checks, host_facts)) = checks_by_commit.remove(&entry.commit_no) {
                (entry.checks, entry.host_facts) = (checks, host_facts);
            }
            let rows = by_commit.remove(&entry.commit_no).unwrap_or_default();
            let rounds = rows.iter().map(|row| logged(row, entry.received_at));
            entry.rounds = rounds.collect::<Result<_, _>>()?;
        }
        Ok(entries)
    }
}

/// How far behind its measurement a round is looked for in the order of receipt.
const LATE: Duration = Duration::minutes(15);

impl Store {
    /// The rounds of some paths that were measured between two times, by path and time. Rounds
    /// that came in over a quarter of an hour late are not looked for.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rounds_between(
        &self,
        paths: &[PathId],
        from: OffsetDateTime,
        to: OffsetDateTime,
    ) -> Result<Vec<LoggedRound>, StoreError> {
        let select = "SELECT p.id AS path, r.number, r.wall_us, r.offset_us, r.received_at, \
                 f.body AS flow, t.content AS route_id, t.body AS route, r.hops, \
                 r.stamps, r.timer_late_us, r.read_late_us, r.link_late_us \
             FROM round r JOIN path p ON p.no = r.path_no JOIN flow f ON f.no = r.flow_no \
                 JOIN route t ON t.no = r.route_no \
             WHERE p.id = ANY($1) AND r.received_at BETWEEN $2 AND $3 ORDER BY p.no, r.received_at";
        let ids: Vec<Uuid> = paths.iter().map(|path| path.as_uuid()).collect();
        let values = [ids.into(), from.into(), (to + LATE).into()];
        let rows = self.db.query_all_raw(sql(select, values)).await?;
        let mut rounds = Vec::with_capacity(rows.len());
        let (first, last) = (WallTime::from(from), WallTime::from(to));
        for row in &rows {
            let received_at: OffsetDateTime = row.try_get("", "received_at")?;
            let round = logged(row, WallTime::from(received_at))?;
            if (first..=last).contains(&round.measured_at) {
                rounds.push(round);
            }
        }
        Ok(rounds)
    }
}

/// Where a page of rounds ends: time of receipt, commit, number.
pub type RoundsEnd = (OffsetDateTime, i64, i64);

/// Some rounds of a path in the order of receipt.
#[derive(Debug, Clone, PartialEq)]
pub struct RoundsPage {
    /// The rounds.
    pub rounds: Vec<LoggedRound>,
    /// Where the next page begins; absent after the last.
    pub next: Option<RoundsEnd>,
}

impl Store {
    /// A page of a path's rounds that were measured between two times, at most `limit`. As with
    /// [`Self::rounds_between`], those that came in very late are not looked for.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rounds_page(
        &self,
        path: PathId,
        (from, to): (OffsetDateTime, OffsetDateTime),
        after: Option<RoundsEnd>,
        limit: i64,
    ) -> Result<RoundsPage, StoreError> {
        let select = "SELECT p.id AS path, r.number, r.wall_us, r.offset_us, r.received_at, \
                 r.commit_no, f.body AS flow, t.content AS route_id, t.body AS route, r.hops, \
                 r.stamps, r.timer_late_us, r.read_late_us, r.link_late_us \
             FROM round r JOIN path p ON p.no = r.path_no JOIN flow f ON f.no = r.flow_no \
                 JOIN route t ON t.no = r.route_no \
             WHERE p.id = $1 AND r.received_at BETWEEN $2 AND $3 \
                 AND (r.received_at, r.commit_no, r.number) > ($2, $4, $5) \
             ORDER BY r.received_at, r.commit_no, r.number LIMIT $6";
        let (begin, commit_no, number) = after.unwrap_or((from, 0, -1));
        let values = [
            path.as_uuid().into(),
            begin.into(),
            (to + LATE).into(),
            commit_no.into(),
            number.into(),
            limit.into(),
        ];
        let rows = self.db.query_all_raw(sql(select, values)).await?;
        let end = |row: &QueryResult| -> Result<RoundsEnd, StoreError> {
            let commit_no = row.try_get("", "commit_no")?;
            Ok((row.try_get("", "received_at")?, commit_no, row.try_get("", "number")?))
        };
        let is_full = i64::try_from(rows.len()).is_ok_and(|read| read >= limit);
        let next = rows.last().filter(|_| is_full).map(end).transpose()?;
        let (first, last) = (WallTime::from(from), WallTime::from(to));
        let mut rounds = Vec::with_capacity(rows.len());
        for row in &rows {
            let received_at: OffsetDateTime = row.try_get("", "received_at")?;
            let round = logged(row, received_at.into())?;
            if (first..=last).contains(&round.measured_at) {
                rounds.push(round);
            }
        }
        Ok(RoundsPage { rounds, next })
    }
}

fn logged(row: &QueryResult, received_at: WallTime) -> Result<LoggedRound, StoreError> {
    let flow: Flow = serde_json::from_value(row.try_get("", "flow")?)
        .map_err(|_| StoreError::corrupt("flow"))?;
    let route: Route = serde_json::from_value(row.try_get("", "route")?)
        .map_err(|_| StoreError::corrupt("route"))?;
    let route_id: Vec<u8> = row.try_get("", "route_id")?;
    let hops: Vec<u8> = row.try_get("", "hops")?;
    let number: i64 = row.try_get("", "number")?;
    let path: Uuid = row.try_get("", "path")?;
    Ok(LoggedRound {
        path: PathId::from_uuid(path),
        number: number.cast_unsigned(),
        measured_at: measured_at(
            row.try_get("", "wall_us")?,
            row.try_get("", "offset_us")?,
            received_at,
        ),
        source: flow.source,
        route_id: ContentId::from_slice(&route_id)
            .ok_or_else(|| StoreError::corrupt("route identity"))?,
        route,
        hops: packed::unpack(&hops).map_err(|_| StoreError::corrupt("packed hops"))?,
        stamps: stamps_of(row.try_get("", "stamps")?),
        lateness: lateness_of(row)?,
    })
}

/// How late an agent was in a round: all three columns, or none from agents that do not report it.
pub(crate) fn lateness_of(row: &QueryResult) -> Result<Option<Lateness>, StoreError> {
    let us = |column| -> Result<Option<u32>, StoreError> {
        let us: Option<i32> = row.try_get("", column)?;
        Ok(us.map(i32::cast_unsigned))
    };
    let all = us("timer_late_us")?.zip(us("read_late_us")?).zip(us("link_late_us")?);
    Ok(all.map(|((timer_us, read_us), link_us)| Lateness { timer_us, read_us, link_us }))
}
