//! Measurements of how much gets through between two agents: one at a time, with what came of it.

use crate::schedule_version::renew_schedule;
use crate::statement::sql;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, change_feed, rows};
use itinera_model::audit::Action;
use itinera_model::codec::{decode, encode};
use itinera_model::id::{AgentId, ThroughputId};
use itinera_model::throughput::{By, ThroughputRound};
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, TransactionTrait};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// What is to be measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ThroughputSpec {
    /// By which protocol.
    pub by: By,
    /// At most so long, in seconds.
    pub seconds: u8,
    /// Most bytes to send.
    pub most_bytes: u64,
    /// Rate of UDP, in bits a second.
    pub rate_bit_s: u64,
    /// What should get through at least, in bits a second, where that is limited.
    pub least_bit_s: Option<u64>,
    /// So many misses in a row raise an alarm.
    pub raise_after: u8,
}

/// A stored measurement.
#[derive(Debug, Clone, PartialEq)]
pub struct ThroughputRecord {
    /// Its name.
    pub id: ThroughputId,
    /// Its short number.
    pub no: i64,
    /// The sending agent.
    pub sender: AgentId,
    /// The receiving agent.
    pub receiver: AgentId,
    /// The sender's site.
    pub from: String,
    /// The receiver's site.
    pub to: String,
    /// What was wanted.
    pub spec: ThroughputSpec,
    /// The user; absent for the schedule.
    pub user: Option<String>,
    /// When it was asked for.
    pub asked_at: OffsetDateTime,
    /// Until when it may begin.
    pub not_after: OffsetDateTime,
    /// What came of it; absent until it is done.
    pub round: Option<ThroughputRound>,
    /// When it was done.
    pub done_at: Option<OffsetDateTime>,
}

const SELECT: &str = "SELECT t.*, ss.name AS from_site, rs.name AS to_site FROM throughput t \
     JOIN agent sa ON sa.id = t.sender_id JOIN site ss ON ss.id = sa.site_id \
     JOIN agent ra ON ra.id = t.receiver_id JOIN site rs ON rs.id = ra.site_id";

#[derive(FromQueryResult)]
struct ThroughputRow {
    id: Uuid,
    no: i64,
    sender_id: Uuid,
    receiver_id: Uuid,
    from_site: String,
    to_site: String,
    body: Json,
    user_name: Option<String>,
    asked_at: OffsetDateTime,
    not_after: OffsetDateTime,
    result: Option<Vec<u8>>,
    done_at: Option<OffsetDateTime>,
    commit_no: Option<i64>,
}

fn record(row: ThroughputRow) -> Result<ThroughputRecord, StoreError> {
    let corrupt = || StoreError::corrupt("throughput");
    let round = row.result.map(|bytes| decode(&bytes)).transpose().map_err(|_| corrupt())?;
    Ok(ThroughputRecord {
        id: ThroughputId::from_uuid(row.id),
        no: row.no,
        sender: AgentId::from_uuid(row.sender_id),
        receiver: AgentId::from_uuid(row.receiver_id),
        from: row.from_site,
        to: row.to_site,
        spec: serde_json::from_value(row.body).map_err(|_| corrupt())?,
        user: row.user_name,
        asked_at: row.asked_at,
        not_after: row.not_after,
        round,
        done_at: row.done_at,
    })
}

impl Store {
    /// Has it measured how much gets through; gives the new version of the schedule.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn order_throughput(
        &self,
        (sender, receiver): (AgentId, AgentId),
        spec: &ThroughputSpec,
        user: Option<&str>,
        not_after: OffsetDateTime,
    ) -> Result<(ThroughputId, Option<u64>), StoreError> {
        let txn = self.db.begin().await?;
        let id = Uuid::now_v7();
        let insert = "INSERT INTO throughput (id, sender_id, receiver_id, body, user_name, asked_at, \
                 not_after) VALUES ($1, $2, $3, $4, $5, now(), $6)";
        let values: [Value; 6] = [
            id.into(),
            sender.as_uuid().into(),
            receiver.as_uuid().into(),
            json!(spec).into(),
            user.into(),
            not_after.into(),
        ];
        txn.execute_raw(sql(insert, values)).await?;
        if let Some(user) = user {
            let (action, object, detail) = (Action::ThroughputAsked, id.to_string(), json!(spec));
            audit(&txn, &Audited { user, action, object: &object, detail }).await?;
        }
        let version = renew_schedule(&txn).await?;
        txn.commit().await?;
        Ok((ThroughputId::from_uuid(id), version))
    }

    /// Measurements, newest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn throughput(&self, limit: i64) -> Result<Vec<ThroughputRecord>, StoreError> {
        let select = format!("{SELECT} ORDER BY t.no DESC LIMIT $1");
        rows::all(&self.db, &select, [limit.into()]).await?.into_iter().map(record).collect()
    }

    /// The current measurement: one at a time, so that none disturbs another.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn throughput_turn(&self) -> Result<Option<ThroughputRecord>, StoreError> {
        let select = format!(
            "{SELECT} WHERE t.done_at IS NULL AND t.not_after > now() ORDER BY t.no LIMIT 1"
        );
        rows::first(&self.db, &select, []).await?.map(record).transpose()
    }
}

/// Records what senders say of their own measurements.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    agent: AgentId,
    rounds: &[ThroughputRound],
    (received_at, commit_no): (OffsetDateTime, i64),
) -> Result<(), StoreError> {
    let mut ended = false;
    for round in rounds {
        let update = "UPDATE throughput SET result = $3, done_at = $4, commit_no = $5 \
             WHERE id = $1 AND sender_id = $2 AND done_at IS NULL RETURNING no";
        let values: [Value; 5] = [
            round.id.as_uuid().into(),
            agent.as_uuid().into(),
            encode(round).into(),
            received_at.into(),
            commit_no.into(),
        ];
        if txn.query_one_raw(sql(update, values)).await?.is_some() {
            ended = true;
            let change = json!({ "id": round.id });
            change_feed::add(txn, change_feed::Topic::Throughput, change).await?;
        }
    }
    if ended {
        // The next one has its turn.
        renew_schedule(txn).await?;
    }
    Ok(())
}

/// Measurements that ended in the commits from one to another, by commit.
pub(crate) async fn ended(
    db: &DatabaseConnection,
    (after, upto): (i64, i64),
) -> Result<BTreeMap<i64, Vec<ThroughputRecord>>, StoreError> {
    let select = format!("{SELECT} WHERE t.commit_no > $1 AND t.commit_no <= $2 ORDER BY t.no");
    let mut by_commit: BTreeMap<i64, Vec<ThroughputRecord>> = BTreeMap::new();
    for row in rows::all::<ThroughputRow>(db, &select, [after.into(), upto.into()]).await? {
        if let Some(commit_no) = row.commit_no {
            by_commit.entry(commit_no).or_default().push(record(row)?);
        }
    }
    Ok(by_commit)
}

impl ThroughputRecord {
    /// Until when it may begin, by the service's clock.
    pub fn not_after_wall(&self) -> WallTime {
        WallTime::from(self.not_after)
    }

    /// Bits a second that got through; absent until it is known.
    pub fn rate_bit_s(&self) -> Option<u64> {
        self.round.as_ref().and_then(|round| round.word.rate_bit_s())
    }

    /// When it was measured, by the service's estimate.
    pub fn measured_at(&self) -> Option<WallTime> {
        let (clocks, done) = (self.round.as_ref()?.clocks, self.done_at?);
        let wall_us = clocks.wall.as_unix_micros();
        Some(crate::times::measured_at(wall_us, clocks.offset_us, WallTime::from(done)))
    }
}
