//! Ingest: one transaction per batch, idempotent by (agent, boot, seq), and the log it makes.

use crate::agents::wall;
use crate::checks::{self, AroundAt, CheckedAt};
use crate::statement::{recordable_json, sql};
use crate::throughput::{self, ThroughputRecord};
use crate::{READER, Store, StoreError, outward, two_way};
use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, ContentId, PathId};
use itinera_model::packed;
use itinera_model::round::{HopCounts, Lateness, StampSource};
use itinera_model::route::{Flow, Route};
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, QueryResult, Statement, TransactionTrait};
use serde::Serialize;
use std::collections::BTreeMap;
use std::net::IpAddr;
use time::{Duration, OffsetDateTime};

/// What became of a batch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Committed {
    /// True when it had been committed before; nothing was written now.
    pub duplicate: bool,
    /// Rounds stored.
    pub stored: u32,
    /// Rounds not stored, because their path is not the agent's.
    pub refused: u32,
}

/// One commit of the log.
#[derive(Debug, Clone, PartialEq)]
pub struct LogEntry {
    /// Its place in the order of truth, from 1 without gaps.
    pub commit_no: i64,
    /// When the batch came in.
    pub received_at: WallTime,
    /// Its rounds.
    pub rounds: Vec<LoggedRound>,
    /// Results of its checks.
    pub checks: Vec<CheckedAt>,
    /// What its agent found around it.
    pub around: Vec<AroundAt>,
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

/// Stands for an absent number in an array, which cannot hold NULL on its way to the database.
const ABSENT: i64 = i64::MIN;

const fn stamps_code(stamps: StampSource) -> i16 {
    match stamps {
        StampSource::Program => 0,
        StampSource::Virtual => 1,
        StampSource::Kernel => 2,
    }
}

pub(crate) const fn stamps_of(code: i16) -> StampSource {
    match code {
        1 => StampSource::Virtual,
        2 => StampSource::Kernel,
        _ => StampSource::Program,
    }
}

pub(crate) fn measured_at(wall_us: i64, offset_us: Option<i64>, received_at: WallTime) -> WallTime {
    match offset_us {
        Some(offset) => WallTime::from_unix_micros(wall_us.saturating_add(offset)).min(received_at),
        None => received_at,
    }
}

impl Store {
    pub(crate) async fn check_reader(&self) -> Result<(), StoreError> {
        let row = self.db.query_one_raw(sql("SELECT min_reader FROM meta", [])).await?;
        let row = row.ok_or_else(|| StoreError::corrupt("meta row"))?;
        let needed: i32 = row.try_get("", "min_reader")?;
        if needed > READER { Err(StoreError::TooOld { needed }) } else { Ok(()) }
    }

    /// Makes the partitions for today and tomorrow (UTC), so that no round waits for one.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn make_partitions(&self) -> Result<(), StoreError> {
        let today = OffsetDateTime::now_utc().date();
        for day in [today, today + Duration::days(1)] {
            let next = day + Duration::days(1);
            let of_day = format!("{:04}{:02}{:02}", day.year(), u8::from(day.month()), day.day());
            for table in ["round", "two_way_round", "check_round", "around_round"] {
                let statement = format!(
                    "CREATE TABLE IF NOT EXISTS {table}_{of_day} PARTITION OF {table} \
                     FOR VALUES FROM ('{day} 00:00:00+00') TO ('{next} 00:00:00+00')"
                );
                self.db.execute_unprepared(&statement).await?;
            }
        }
        Ok(())
    }

    /// Commits a checked batch of an agent, received now. A batch known already is left alone.
    ///
    /// # Errors
    /// [`StoreError::Database`]; nothing is stored then.
    ///
    /// # Cancel safety
    /// Dropping the future rolls the transaction back, or leaves it committed: repeating the
    /// call is right in either case.
    pub async fn commit_batch(
        &self,
        agent: AgentId,
        batch: &Batch,
    ) -> Result<Committed, StoreError> {
        let txn = self.db.begin().await?;
        // Holding the head until the commit makes the numbers appear in their own order.
        let head = sql("UPDATE meta SET log_head = log_head + 1 RETURNING log_head", []);
        let head = txn.query_one_raw(head).await?.ok_or_else(|| StoreError::corrupt("meta row"))?;
        let commit_no: i64 = head.try_get("", "log_head")?;
        // The clock is read under that lock, so that times of receipt follow the order too.
        let received_at = OffsetDateTime::now_utc();
        let paths = path_numbers(&txn, agent).await?;
        let known: Vec<_> =
            batch.rounds.iter().filter(|round| paths.contains_key(&round.path)).collect();
        let place = (received_at, commit_no);
        let of_pairs = two_way::write(&txn, agent, &batch.two_way, place).await?;
        let asked = (batch.checks.as_slice(), batch.surroundings.as_slice());
        let besides = checks::write(&txn, agent, asked, place).await?;
        outward::write(&txn, agent, &batch.outward, received_at).await?;
        throughput::write(&txn, agent, &batch.throughput, place).await?;
        let stored = u32::try_from(known.len() + of_pairs + besides).unwrap_or(u32::MAX);
        let refused = batch.len() - known.len() - of_pairs - besides;
        let refused = u32::try_from(refused).unwrap_or(u32::MAX);
        let insert = "INSERT INTO batch (agent_no, boot, seq, commit_no, received_at, rounds, refused) \
             SELECT no, $2, $3, $4, $5, $6, $7 FROM agent WHERE id = $1 \
             ON CONFLICT DO NOTHING RETURNING commit_no";
        let values = [
            agent.as_uuid().into(),
            batch.boot.as_uuid().into(),
            batch.seq.cast_signed().into(),
            commit_no.into(),
            received_at.into(),
            stored.cast_signed().into(),
            refused.cast_signed().into(),
        ];
        if txn.query_one_raw(sql(insert, values)).await?.is_none() {
            txn.rollback().await?;
            return Ok(Committed { duplicate: true, stored: 0, refused: 0 });
        }
        let contents = Contents {
            flows: intern(&txn, "flow", batch.flows.iter().map(|f| (f.id(), f))).await?,
            resolutions: intern(&txn, "resolution", batch.resolutions.iter().map(|r| (r.id(), r)))
                .await?,
            routes: intern(&txn, "route", batch.routes.iter().map(|r| (r.id(), r))).await?,
            readings: intern(&txn, "reading", batch.readings.iter().map(|r| (r.id(), r))).await?,
        };
        let mut columns = Columns::default();
        for round in known {
            columns.push(round, paths[&round.path], &contents)?;
        }
        txn.execute_raw(columns.into_statement(received_at, commit_no)).await?;
        note_agent(&txn, agent, batch, received_at).await?;
        txn.commit().await?;
        Ok(Committed { duplicate: false, stored, refused })
    }

    /// The commits after `cursor` in order, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn log_after(&self, cursor: i64, limit: i64) -> Result<Vec<LogEntry>, StoreError> {
        let batches = "SELECT commit_no, received_at FROM batch WHERE commit_no > $1 \
             ORDER BY commit_no LIMIT $2";
        let rows = self.db.query_all_raw(sql(batches, [cursor.into(), limit.into()])).await?;
        let mut entries = Vec::with_capacity(rows.len());
        let mut span: Option<(OffsetDateTime, OffsetDateTime)> = None;
        for row in &rows {
            let at: OffsetDateTime = row.try_get("", "received_at")?;
            span = Some(span.map_or((at, at), |(low, high)| (low.min(at), high.max(at))));
            let commit_no = row.try_get("", "commit_no")?;
            let received_at = wall(at);
            let (rounds, checks) = (Vec::new(), Vec::new());
            let (around, throughput) = (Vec::new(), Vec::new());
            entries.push(LogEntry { commit_no, received_at, rounds, checks, around, throughput });
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
        let rows = self.db.query_all_raw(sql(rounds, values)).await?;
        let mut by_commit: BTreeMap<i64, Vec<QueryResult>> = BTreeMap::new();
        for row in rows {
            by_commit.entry(row.try_get("", "commit_no")?).or_default().push(row);
        }
        let span = (low, high);
        let mut besides = checks::besides(&self.db, (cursor, last.commit_no), span).await?;
        let mut carried = throughput::ended(&self.db, (cursor, last.commit_no)).await?;
        for entry in &mut entries {
            entry.throughput = carried.remove(&entry.commit_no).unwrap_or_default();
            if let Some((checks, around)) = besides.remove(&entry.commit_no) {
                (entry.checks, entry.around) = (checks, around);
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
        let (first, last) = (wall(from), wall(to));
        for row in &rows {
            let received_at: OffsetDateTime = row.try_get("", "received_at")?;
            let round = logged(row, wall(received_at))?;
            if (first..=last).contains(&round.measured_at) {
                rounds.push(round);
            }
        }
        Ok(rounds)
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
fn lateness_of(row: &QueryResult) -> Result<Option<Lateness>, StoreError> {
    let us = |column| -> Result<Option<u32>, StoreError> {
        let us: Option<i32> = row.try_get("", column)?;
        Ok(us.map(i32::cast_unsigned))
    };
    let all = us("timer_late_us")?.zip(us("read_late_us")?).zip(us("link_late_us")?);
    Ok(all.map(|((timer_us, read_us), link_us)| Lateness { timer_us, read_us, link_us }))
}

/// The columns of a lateness.
fn late_columns(lateness: Option<Lateness>) -> [i64; 3] {
    lateness.map_or([ABSENT; 3], |late| {
        [late.timer_us, late.read_us, late.link_us].map(|us| i64::from(us.cast_signed().max(0)))
    })
}

async fn path_numbers(
    txn: &DatabaseTransaction,
    agent: AgentId,
) -> Result<BTreeMap<PathId, i32>, StoreError> {
    let query = sql("SELECT id, no FROM path WHERE agent_id = $1", [agent.as_uuid().into()]);
    let rows = txn.query_all_raw(query).await?;
    rows.iter()
        .map(|row| Ok((PathId::from_uuid(row.try_get("", "id")?), row.try_get("", "no")?)))
        .collect()
}

async fn note_agent(
    txn: &DatabaseTransaction,
    agent: AgentId,
    batch: &Batch,
    received_at: OffsetDateTime,
) -> Result<(), StoreError> {
    let of_pairs = batch.two_way.iter().map(|round| round.clocks);
    let all = batch.rounds.iter().map(|round| round.clocks).chain(of_pairs);
    let clocks = all.max_by_key(|clocks| clocks.tick);
    // Batches come newest first after an outage: an older one must not take the count back.
    let update = "UPDATE agent SET last_batch_at = $2, \
         dropped_rounds = CASE WHEN boot IS NULL OR boot < $6 THEN $3 \
             WHEN boot = $6 THEN greatest(dropped_rounds, $3) ELSE dropped_rounds END, \
         refused = CASE WHEN boot IS NULL OR boot <= $6 THEN $7 ELSE refused END, \
         boot = greatest(boot, $6), \
         clock_offset_us = coalesce($4, clock_offset_us), \
         clock_error_us = coalesce($5, clock_error_us) WHERE id = $1";
    let values = [
        agent.as_uuid().into(),
        received_at.into(),
        batch.dropped_rounds.cast_signed().into(),
        clocks.and_then(|clocks| clocks.offset_us).into(),
        clocks.and_then(|clocks| clocks.offset_error_us).map(i64::from).into(),
        batch.boot.as_uuid().into(),
        serde_json::json!(batch.refused).into(),
    ];
    txn.execute_raw(sql(update, values)).await?;
    Ok(())
}

struct Contents {
    flows: BTreeMap<ContentId, i64>,
    resolutions: BTreeMap<ContentId, i64>,
    routes: BTreeMap<ContentId, i64>,
    readings: BTreeMap<ContentId, i64>,
}

/// The small numbers of contents, given to those that are new. `table` is one of our own.
async fn intern<'a, T: Serialize + 'a>(
    txn: &DatabaseTransaction,
    table: &str,
    contents: impl Iterator<Item = (ContentId, &'a T)>,
) -> Result<BTreeMap<ContentId, i64>, StoreError> {
    let by_id: BTreeMap<ContentId, serde_json::Value> =
        contents.map(|(id, body)| (id, recordable_json(serde_json::json!(body)))).collect();
    let ids: Vec<Vec<u8>> = by_id.keys().map(|id| id.as_bytes().to_vec()).collect();
    let bodies: Vec<String> = by_id.values().map(ToString::to_string).collect();
    let insert = format!(
        "INSERT INTO {table} (content, body) SELECT c, b::jsonb FROM unnest($1, $2) AS n(c, b) \
         ON CONFLICT DO NOTHING"
    );
    txn.execute_raw(sql(&insert, [ids.clone().into(), bodies.into()])).await?;
    let select = format!("SELECT content, no FROM {table} WHERE content = ANY($1)");
    let rows = txn.query_all_raw(sql(&select, [ids.into()])).await?;
    rows.iter()
        .map(|row| {
            let content: Vec<u8> = row.try_get("", "content")?;
            let id = ContentId::from_slice(&content)
                .ok_or_else(|| StoreError::corrupt("content identity"))?;
            Ok((id, row.try_get("", "no")?))
        })
        .collect()
}

/// Rounds as one array per column, to be written by one statement.
#[derive(Default)]
struct Columns {
    path_no: Vec<i32>,
    number: Vec<i64>,
    tick_ns: Vec<i64>,
    wall_us: Vec<i64>,
    offset_us: Vec<i64>,
    offset_error_us: Vec<i64>,
    flow_no: Vec<i64>,
    resolution_no: Vec<i64>,
    route_no: Vec<i64>,
    reading_no: Vec<i64>,
    reached_at: Vec<i16>,
    stamps: Vec<i16>,
    hops: Vec<Vec<u8>>,
    late_us: [Vec<i64>; 3],
}

impl Columns {
    fn push(
        &mut self,
        round: &itinera_model::round::Round,
        path_no: i32,
        contents: &Contents,
    ) -> Result<(), StoreError> {
        let number = |map: &BTreeMap<ContentId, i64>, id: &ContentId, what| {
            map.get(id).copied().ok_or_else(|| StoreError::corrupt(what))
        };
        self.flow_no.push(number(&contents.flows, &round.flow, "flow number")?);
        self.resolution_no.push(number(&contents.resolutions, &round.resolution, "resolution")?);
        self.route_no.push(number(&contents.routes, &round.route, "route number")?);
        self.reading_no.push(match &round.reading {
            Some(reading) => number(&contents.readings, reading, "reading number")?,
            None => ABSENT,
        });
        self.path_no.push(path_no);
        self.number.push(round.number.cast_signed());
        self.tick_ns.push(round.clocks.tick.as_nanos().cast_signed());
        self.wall_us.push(round.clocks.wall.as_unix_micros());
        self.offset_us.push(round.clocks.offset_us.unwrap_or(ABSENT));
        self.offset_error_us.push(round.clocks.offset_error_us.map_or(ABSENT, i64::from));
        self.reached_at.push(round.reached_at.map_or(0, i16::from));
        self.stamps.push(stamps_code(round.stamps));
        self.hops.push(packed::pack(&round.hops));
        for (column, us) in self.late_us.iter_mut().zip(late_columns(round.lateness)) {
            column.push(us);
        }
        Ok(())
    }

    fn into_statement(self, received_at: OffsetDateTime, commit_no: i64) -> Statement {
        let insert = "INSERT INTO round (received_at, commit_no, path_no, number, tick_ns, wall_us, \
                 offset_us, offset_error_us, flow_no, resolution_no, route_no, reading_no, reached_at, stamps, \
                 hops, timer_late_us, read_late_us, link_late_us) \
             SELECT $1, $2, path_no, number, tick_ns, wall_us, nullif(offset_us, $16), \
                 nullif(offset_error_us, $16), flow_no, resolution_no, route_no, \
                 nullif(reading_no, $16), nullif(reached_at, 0), stamps, hops, \
                 nullif(timer_late_us, $16), nullif(read_late_us, $16), nullif(link_late_us, $16) \
             FROM unnest($3::int[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[], \
                 $8::bigint[], $9::bigint[], $10::bigint[], $11::bigint[], $12::bigint[], \
                 $13::smallint[], $14::smallint[], $15::bytea[], $17::bigint[], $18::bigint[], \
                 $19::bigint[]) AS r(path_no, number, tick_ns, wall_us, \
                 offset_us, offset_error_us, flow_no, resolution_no, route_no, reading_no, \
                 reached_at, stamps, hops, timer_late_us, read_late_us, link_late_us)";
        let [timer_late_us, read_late_us, link_late_us] = self.late_us;
        let values: [Value; 19] = [
            received_at.into(),
            commit_no.into(),
            self.path_no.into(),
            self.number.into(),
            self.tick_ns.into(),
            self.wall_us.into(),
            self.offset_us.into(),
            self.offset_error_us.into(),
            self.flow_no.into(),
            self.resolution_no.into(),
            self.route_no.into(),
            self.reading_no.into(),
            self.reached_at.into(),
            self.stamps.into(),
            self.hops.into(),
            ABSENT.into(),
            timer_late_us.into(),
            read_late_us.into(),
            link_late_us.into(),
        ];
        sql(insert, values)
    }
}
