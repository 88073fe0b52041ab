//! Ingest: one transaction per batch, idempotent by (agent, boot, seq), and the log it makes.

use crate::error::{is_about_data, lacks_partition};
use crate::numbers::numbers_by_id;
use crate::statement::{recordable_json, sql};
use crate::times::micros;
use crate::{READER, Store, StoreError, checks, diagnoses, pair_routes, rows, throughput, two_way};
use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, ContentId, PathId};
use itinera_model::packed;
use itinera_model::round::{Round, StampSource};
use itinera_model::round_block::StoredRound;
use itinera_model::round_row;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseConnection, DatabaseTransaction, Statement, TransactionTrait};
use serde::Serialize;
use std::collections::BTreeMap;
use time::{Date, OffsetDateTime};

/// When a batch came in by the service's clock, and how large it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Arrival {
    /// When.
    pub at: OffsetDateTime,
    /// Its size unpacked, in bytes.
    pub bytes: u64,
}

impl From<OffsetDateTime> for Arrival {
    /// A batch so small that its size does not matter.
    fn from(at: OffsetDateTime) -> Self {
        Self { at, bytes: 0 }
    }
}

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

impl Committed {
    const DUPLICATE: Self = Self { duplicate: true, stored: 0, refused: 0 };
}

const fn stamps_code(stamps: StampSource) -> i64 {
    match stamps {
        StampSource::Program => 0,
        StampSource::Virtual => 1,
        StampSource::Kernel => 2,
    }
}

impl Store {
    pub(crate) async fn check_reader(&self) -> Result<(), StoreError> {
        let needed = rows::value(&self.db, "SELECT min_reader FROM meta", []).await?;
        let needed: i32 = needed.ok_or_else(|| StoreError::corrupt("meta row"))?;
        if needed > READER { Err(StoreError::TooOld { needed }) } else { Ok(()) }
    }

    /// Commits a checked batch of an agent, received now by the service's clock. A batch known
    /// already is left alone. Where the log has no room for today, it is made and the batch is
    /// committed then.
    ///
    /// # Errors
    /// [`StoreError::Unrecordable`] when the database will never take this batch;
    /// [`StoreError::Database`]. Nothing is stored in either case.
    ///
    /// # Cancel safety
    /// Dropping the future rolls the transaction back, or leaves it committed: repeating the
    /// call is right in either case.
    pub async fn commit_batch(
        &self,
        agent: AgentId,
        batch: &Batch,
        arrival: impl Into<Arrival>,
    ) -> Result<Committed, StoreError> {
        let arrival = arrival.into();
        let committed = match self.try_commit(agent, batch, arrival).await {
            Err(StoreError::Database(error)) if lacks_partition(&error) => {
                self.make_partitions_from(self.log_day(arrival.at).await?).await?;
                self.try_commit(agent, batch, arrival).await
            }
            tried => tried,
        };
        committed.map_err(|error| match error {
            StoreError::Database(error) if is_about_data(&error) => StoreError::Unrecordable(error),
            other => other,
        })
    }

    async fn try_commit(
        &self,
        agent: AgentId,
        batch: &Batch,
        Arrival { at: now, bytes }: Arrival,
    ) -> Result<Committed, StoreError> {
        if is_known(&self.ingest, agent, batch).await? {
            return Ok(Committed::DUPLICATE);
        }
        // Contents get their numbers before the head of the log is held: others wait for that.
        let contents = Contents::intern(&self.ingest, batch, now.date()).await?;
        let paths = path_numbers(&self.ingest, agent).await?;
        let known: Vec<_> =
            batch.paths.rounds.iter().filter(|round| paths.contains_key(&round.path)).collect();
        let mut recorded = Rows::default();
        for round in &known {
            recorded.push(round, paths[&round.path], &contents)?;
        }
        let txn = self.ingest.begin().await?;
        let (commit_no, received_at) = hold_head(&txn, now).await?;
        let place = (received_at, commit_no);
        let of_pairs = two_way::write(&txn, agent, &batch.two_way, place).await?;
        let routes = pair_routes::write(&txn, agent, &batch.pair_routes, place).await?;
        let asked = (batch.checks.as_slice(), batch.host_facts.as_slice());
        let of_checks = checks::write(&txn, agent, asked, place).await?;
        diagnoses::write(&txn, agent, &batch.diagnoses, received_at).await?;
        throughput::write(&txn, agent, &batch.throughput, place).await?;
        let stored = known.len() + of_pairs + routes + of_checks;
        let refused = batch.len() - stored;
        let stored = u32::try_from(stored).unwrap_or(u32::MAX);
        let refused = u32::try_from(refused).unwrap_or(u32::MAX);
        let insert = "INSERT INTO batch (agent_no, boot, seq, commit_no, received_at, clock_at, \
                 rounds, refused, bytes) \
             SELECT no, $2, $3, $4, $5, $6, $7, $8, $9 FROM agent WHERE id = $1 \
             ON CONFLICT DO NOTHING RETURNING commit_no";
        let values = [
            agent.as_uuid().into(),
            batch.boot.as_uuid().into(),
            batch.seq.cast_signed().into(),
            commit_no.into(),
            received_at.into(),
            now.into(),
            stored.cast_signed().into(),
            refused.cast_signed().into(),
            i64::try_from(bytes).unwrap_or(i64::MAX).into(),
        ];
        if txn.query_one_raw(sql(insert, values)).await?.is_none() {
            txn.rollback().await?;
            return Ok(Committed::DUPLICATE);
        }
        txn.execute_raw(recorded.into_statement(received_at, commit_no)).await?;
        count(&txn, stored).await?;
        note_agent(&txn, agent, batch, received_at).await?;
        txn.commit().await?;
        Ok(Committed { duplicate: false, stored, refused })
    }
}

async fn is_known(
    db: &DatabaseConnection,
    agent: AgentId,
    batch: &Batch,
) -> Result<bool, StoreError> {
    let select = "SELECT 1 AS known FROM batch b JOIN agent a ON a.no = b.agent_no \
         WHERE a.id = $1 AND b.boot = $2 AND b.seq = $3";
    let values =
        [agent.as_uuid().into(), batch.boot.as_uuid().into(), batch.seq.cast_signed().into()];
    Ok(db.query_one_raw(sql(select, values)).await?.is_some())
}

/// Holds the head of the log until the transaction ends, so that numbers appear in their own order;
/// gives the commit's number and its time of receipt. That time never runs backwards within the
/// log, whatever becomes of the service's clock.
pub(crate) async fn hold_head(
    txn: &DatabaseTransaction,
    now: OffsetDateTime,
) -> Result<(i64, OffsetDateTime), StoreError> {
    let hold = "UPDATE meta SET log_head = log_head + 1, \
             last_received_at = greatest($1, last_received_at + interval '1 microsecond') \
         RETURNING log_head, last_received_at";
    let head: Option<Head> = rows::first(txn, hold, [now.into()]).await?;
    let head = head.ok_or_else(|| StoreError::corrupt("meta row"))?;
    Ok((head.log_head, head.last_received_at))
}

#[derive(FromQueryResult)]
struct Head {
    log_head: i64,
    last_received_at: OffsetDateTime,
}

/// Counts rounds where the head of the log is held already: nothing has to add all batches up.
async fn count(txn: &DatabaseTransaction, rounds: u32) -> Result<(), StoreError> {
    let add = sql("UPDATE meta SET rounds = rounds + $1", [i64::from(rounds).into()]);
    txn.execute_raw(add).await?;
    Ok(())
}

async fn path_numbers(
    db: &DatabaseConnection,
    agent: AgentId,
) -> Result<BTreeMap<PathId, i32>, StoreError> {
    let select = "SELECT id, no FROM path WHERE agent_id = $1";
    let numbers = numbers_by_id(db, select, agent).await?;
    Ok(numbers.into_iter().map(|(id, no)| (PathId::from_uuid(id), no)).collect())
}

async fn note_agent(
    txn: &DatabaseTransaction,
    agent: AgentId,
    batch: &Batch,
    received_at: OffsetDateTime,
) -> Result<(), StoreError> {
    let of_pairs = batch.two_way.iter().map(|round| round.clocks);
    let all = batch.paths.rounds.iter().map(|round| round.clocks).chain(of_pairs);
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

impl Contents {
    async fn intern(
        db: &DatabaseConnection,
        batch: &Batch,
        today: Date,
    ) -> Result<Self, StoreError> {
        let (flows, resolutions) = (&batch.paths.flows, &batch.paths.resolutions);
        let (routes, readings) = (&batch.paths.routes, &batch.paths.readings);
        Ok(Self {
            flows: intern(db, "flow", flows.iter().map(|f| (f.id(), f)), today).await?,
            resolutions: intern(db, "resolution", resolutions.iter().map(|r| (r.id(), r)), today)
                .await?,
            routes: intern(db, "route", routes.iter().map(|r| (r.id(), r)), today).await?,
            readings: intern(db, "reading", readings.iter().map(|r| (r.id(), r)), today).await?,
        })
    }
}

/// The small numbers of contents, given to those that are new. `table` is one of our own. Most are
/// known and were used today, so they are looked up first. Others are marked as used, and entered
/// where there are none of them: retention deletes what has not been used for long. New ones are
/// entered in order, so that two batches that bring the same ones do not wait for each other in a
/// circle.
async fn intern<'a, T: Serialize + 'a>(
    db: &DatabaseConnection,
    table: &str,
    contents: impl Iterator<Item = (ContentId, &'a T)>,
    today: Date,
) -> Result<BTreeMap<ContentId, i64>, StoreError> {
    let by_id: BTreeMap<ContentId, &T> = contents.collect();
    let octets = |id: &ContentId| id.as_bytes().to_vec();
    let select =
        format!("SELECT content, no FROM {table} WHERE content = ANY($1) AND used_on >= $2");
    let mut numbers = numbers_of(db, &select, by_id.keys().map(octets).collect(), today).await?;
    let rest: Vec<_> = by_id.iter().filter(|(id, _)| !numbers.contains_key(id)).collect();
    if rest.is_empty() {
        return Ok(numbers);
    }
    // Locked in order, as two batches may mark the same ones.
    let update = format!(
        "UPDATE {table} SET used_on = $2 WHERE no IN \
             (SELECT no FROM {table} WHERE content = ANY($1) ORDER BY no FOR UPDATE) \
         RETURNING content, no"
    );
    let ids = rest.iter().map(|(id, _)| octets(id)).collect();
    numbers.append(&mut numbers_of(db, &update, ids, today).await?);
    let new: Vec<_> = rest.into_iter().filter(|(id, _)| !numbers.contains_key(id)).collect();
    if new.is_empty() {
        return Ok(numbers);
    }
    let ids: Vec<Vec<u8>> = new.iter().map(|(id, _)| octets(id)).collect();
    let body = |body: &T| recordable_json(serde_json::json!(body)).to_string();
    let bodies: Vec<String> = new.iter().map(|(_, content)| body(content)).collect();
    let insert = format!(
        "INSERT INTO {table} (content, body, used_on) \
             SELECT c, b::jsonb, $3 FROM unnest($1, $2) AS n(c, b) \
         ON CONFLICT DO NOTHING"
    );
    db.execute_raw(sql(&insert, [ids.clone().into(), bodies.into(), today.into()])).await?;
    numbers.append(&mut numbers_of(db, &select, ids, today).await?);
    Ok(numbers)
}

/// The small numbers that a statement gives for contents on a day.
async fn numbers_of(
    db: &DatabaseConnection,
    statement: &str,
    ids: Vec<Vec<u8>>,
    today: Date,
) -> Result<BTreeMap<ContentId, i64>, StoreError> {
    if ids.is_empty() {
        return Ok(BTreeMap::new());
    }
    let number = |row: ContentRow| {
        let id = ContentId::from_slice(&row.content);
        Ok((id.ok_or_else(|| StoreError::corrupt("content identity"))?, row.no))
    };
    rows::all(db, statement, [ids.into(), today.into()]).await?.into_iter().map(number).collect()
}

#[derive(FromQueryResult)]
struct ContentRow {
    content: Vec<u8>,
    no: i64,
}

/// Rounds with what they refer to by number, and their paths' numbers.
#[derive(Default)]
struct Rows(Vec<(i32, StoredRound)>);

impl Rows {
    fn push(&mut self, round: &Round, path_no: i32, contents: &Contents) -> Result<(), StoreError> {
        let number = |map: &BTreeMap<ContentId, i64>, id: &ContentId, what| {
            map.get(id).copied().ok_or_else(|| StoreError::corrupt(what))
        };
        let reading = round.reading.as_ref();
        let reading = reading.map(|it| number(&contents.readings, it, "reading number"));
        let late = round.lateness.map(|it| [it.timer_us, it.read_us, it.link_us]);
        let stored = StoredRound {
            received_us: 0,
            commit_no: 0,
            number: round.number.cast_signed(),
            tick_ns: round.clocks.tick.as_nanos().cast_signed(),
            wall_us: round.clocks.wall.as_unix_micros(),
            offset_us: round.clocks.offset_us,
            offset_error_us: round.clocks.offset_error_us.map(i64::from),
            flow_no: number(&contents.flows, &round.flow, "flow number")?,
            resolution_no: number(&contents.resolutions, &round.resolution, "resolution")?,
            route_no: number(&contents.routes, &round.route, "route number")?,
            reading_no: reading.transpose()?,
            reached_at: round.reached_at.filter(|hop| *hop > 0).map(i64::from),
            stamps: stamps_code(round.stamps),
            late_us: late.map_or([None; 3], |late| late.map(|us| Some(us.into()))),
            hops: packed::pack(&round.hops),
        };
        self.0.push((path_no, stored));
        Ok(())
    }

    fn into_statement(self, received_at: OffsetDateTime, commit_no: i64) -> Statement {
        let insert = "INSERT INTO round (received_at, commit_no, path_no, content) \
             SELECT $1, $2, path_no, content \
             FROM unnest($3::int[], $4::bytea[]) AS r(path_no, content)";
        let received_us = micros(received_at);
        let content = |round| round_row::pack(&StoredRound { received_us, commit_no, ..round });
        let (numbers, contents): (Vec<i32>, Vec<Vec<u8>>) =
            self.0.into_iter().map(|(path_no, round)| (path_no, content(round))).unzip();
        sql(insert, [received_at.into(), commit_no.into(), numbers.into(), contents.into()])
    }
}
