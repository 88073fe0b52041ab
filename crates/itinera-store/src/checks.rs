//! Checks of services, what they found, and what agents find around them.

use crate::numbers::numbers_by_id;
use crate::schedule_version::renew_schedule;
use crate::statement::sql;
use crate::times::measured_at;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use itinera_model::check::{Ask, CheckRound};
use itinera_model::codec::{decode, encode};
use itinera_model::host_facts::HostFactsRound;
use itinera_model::id::{AgentId, CheckId, TargetId};
use itinera_model::path::Family;
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, TransactionTrait};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// Results of one check read at once.
const MOST_ROUNDS: i64 = 2_000;

/// A question for a target's service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckSpec {
    /// What is asked.
    pub ask: Ask,
    /// The name it is asked by, looked up each time; by the target's address where absent.
    pub host: Option<String>,
    /// From one time to the next, in milliseconds.
    pub interval_ms: u32,
    /// So many results in a row raise an alarm.
    pub raise_after: u8,
    /// Over these versions of IP only; over all that target and site have where empty.
    #[serde(default)]
    pub families: Vec<Family>,
}

/// A stored check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CheckRecord {
    /// Its name.
    pub id: CheckId,
    /// Its number, from 1.
    pub no: i32,
    /// The asking agent.
    pub agent: AgentId,
    /// The agent's site.
    pub site: String,
    /// The target's name.
    pub target: String,
    /// The service that the target is part of.
    pub service: String,
    /// Over which version of IP.
    pub family: Family,
    /// What is asked.
    pub spec: CheckSpec,
    /// It is being asked.
    pub active: bool,
}

/// A result with the time at which it was measured, by the service's estimate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CheckedAt {
    /// When.
    pub at: WallTime,
    /// What.
    pub round: CheckRound,
}

/// Host facts with the time at which they were read, by the service's estimate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostFactsAt {
    /// Its agent.
    pub agent: AgentId,
    /// When.
    pub at: WallTime,
    /// What.
    pub round: HostFactsRound,
}

const CHECKS: &str = "SELECT c.id, c.no, c.agent_id, c.family, c.body, c.active, s.name AS site, \
         t.name AS target, COALESCE(NULLIF(t.service, ''), t.name) AS service \
     FROM check_task c JOIN agent a ON a.id = c.agent_id JOIN site s ON s.id = a.site_id \
         JOIN target t ON t.id = c.target_id";

#[derive(FromQueryResult)]
struct CheckRow {
    id: Uuid,
    no: i32,
    agent_id: Uuid,
    site: String,
    target: String,
    service: String,
    family: String,
    body: Json,
    active: bool,
}

fn record(row: CheckRow) -> Result<CheckRecord, StoreError> {
    Ok(CheckRecord {
        id: CheckId::from_uuid(row.id),
        no: row.no,
        agent: AgentId::from_uuid(row.agent_id),
        site: row.site,
        target: row.target,
        service: row.service,
        family: row.family.parse().map_err(|_| StoreError::corrupt("check"))?,
        spec: serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("check"))?,
        active: row.active,
    })
}

/// Id of a check, and how often it was wanted at once.
#[derive(FromQueryResult)]
struct Wanted {
    id: Uuid,
    wanted: i32,
}

/// The name of a question, given when it is first needed, and how often it was wanted at once.
pub(crate) async fn ensure_check(
    txn: &DatabaseTransaction,
    agent: AgentId,
    target: TargetId,
    family: Family,
    spec: &CheckSpec,
) -> Result<(CheckId, u32), StoreError> {
    let content = itinera_model::id::ContentId::of(&encode(&(&spec.ask, &spec.host)));
    let known = "UPDATE check_task SET active = true, body = $5 \
         WHERE agent_id = $1 AND target_id = $2 AND family = $3 AND content = $4 \
         RETURNING id, wanted";
    let values: [Value; 5] = [
        agent.as_uuid().into(),
        target.as_uuid().into(),
        family.to_string().into(),
        content.as_bytes().to_vec().into(),
        serde_json::json!(spec).into(),
    ];
    if let Some(known) = rows::first::<Wanted>(txn, known, values.clone()).await? {
        return Ok((CheckId::from_uuid(known.id), known.wanted.cast_unsigned()));
    }
    let id = Uuid::now_v7();
    let insert = "INSERT INTO check_task (agent_id, target_id, family, content, body, active, id) \
         VALUES ($1, $2, $3, $4, $5, true, $6)";
    txn.execute_raw(sql(insert, values.into_iter().chain([id.into()]))).await?;
    Ok((CheckId::from_uuid(id), 0))
}

impl Store {
    /// Every check that is asked, or was, by number.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn checks(&self) -> Result<Vec<CheckRecord>, StoreError> {
        let select = format!("{CHECKS} ORDER BY c.no");
        rows::all(&self.db, &select, []).await?.into_iter().map(record).collect()
    }

    /// Runs a check at once, in addition to its schedule; gives the new version of the schedule, or
    /// nothing where no check of this id is asked.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn ask_now(&self, check: CheckId, user: &str) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        let update = "UPDATE check_task SET wanted = wanted + 1 WHERE id = $1 AND active";
        let values = [check.as_uuid().into()];
        let known = txn.execute_raw(sql(update, values)).await?.rows_affected() > 0;
        let version = if known {
            let (action, object) = (Action::CheckAsked, check.to_string());
            let detail = serde_json::json!({});
            audit(&txn, &Audited { user, action, object: &object, detail }).await?;
            renew_schedule(&txn).await?
        } else {
            None
        };
        txn.commit().await?;
        Ok(version)
    }

    /// The newest results received between two times, of each check the newest `most`, from the
    /// oldest on.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn checked_between(
        &self,
        checks: &[CheckId],
        from: OffsetDateTime,
        to: OffsetDateTime,
        most: i64,
    ) -> Result<BTreeMap<CheckId, Vec<CheckedAt>>, StoreError> {
        let select = "SELECT r.commit_no, r.body, r.received_at FROM check_task c CROSS JOIN LATERAL ( \
                 SELECT n.* FROM check_round n \
                 WHERE n.check_no = c.no AND n.received_at BETWEEN $2 AND $3 \
                 ORDER BY n.received_at DESC, n.commit_no DESC, n.number DESC LIMIT $4) r \
             WHERE c.id = ANY($1) ORDER BY r.received_at, r.commit_no, r.number";
        let ids: Vec<Uuid> = checks.iter().map(|check| check.as_uuid()).collect();
        let values = [ids.into(), from.into(), to.into(), most.min(MOST_ROUNDS).into()];
        let mut by_check: BTreeMap<CheckId, Vec<CheckedAt>> = BTreeMap::new();
        for row in rows::all(&self.db, select, values).await? {
            let checked = checked(row)?;
            by_check.entry(checked.round.check).or_default().push(checked);
        }
        Ok(by_check)
    }

    /// What an agent found around it between two times, from the oldest on.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn host_facts_between(
        &self,
        agent: AgentId,
        from: OffsetDateTime,
        to: OffsetDateTime,
    ) -> Result<Vec<HostFactsAt>, StoreError> {
        let select = "SELECT r.commit_no, a.id AS agent, r.body, r.received_at FROM host_facts_round r \
                 JOIN agent a ON a.no = r.agent_no \
             WHERE a.id = $1 AND r.received_at BETWEEN $2 AND $3 \
             ORDER BY r.received_at DESC, r.commit_no DESC LIMIT $4";
        let values = [agent.as_uuid().into(), from.into(), to.into(), MOST_ROUNDS.into()];
        rows::all(&self.db, select, values).await?.into_iter().rev().map(host_facts).collect()
    }
}

/// A check's result as it is recorded.
#[derive(FromQueryResult)]
struct CheckedRow {
    commit_no: i64,
    body: Vec<u8>,
    received_at: OffsetDateTime,
}

/// Host facts as they are recorded.
#[derive(FromQueryResult)]
struct HostFactsRow {
    commit_no: i64,
    agent: Uuid,
    body: Vec<u8>,
    received_at: OffsetDateTime,
}

fn checked(row: CheckedRow) -> Result<CheckedAt, StoreError> {
    let round: CheckRound = decode(&row.body).map_err(|_| StoreError::corrupt("check result"))?;
    let clocks = round.clocks;
    let at = measured_at(
        clocks.wall.as_unix_micros(),
        clocks.offset_us,
        WallTime::from(row.received_at),
    );
    Ok(CheckedAt { at, round })
}

fn host_facts(row: HostFactsRow) -> Result<HostFactsAt, StoreError> {
    let round: HostFactsRound = decode(&row.body).map_err(|_| StoreError::corrupt("host facts"))?;
    let clocks = round.clocks;
    let at = measured_at(
        clocks.wall.as_unix_micros(),
        clocks.offset_us,
        WallTime::from(row.received_at),
    );
    Ok(HostFactsAt { agent: AgentId::from_uuid(row.agent), at, round })
}

/// What of a commit is no round of a path, by commit.
pub(crate) type ByCommit = BTreeMap<i64, (Vec<CheckedAt>, Vec<HostFactsAt>)>;

/// Checks' results and host facts of the commits from one to another.
pub(crate) async fn checks_and_host_facts(
    db: &DatabaseConnection,
    (after, upto): (i64, i64),
    (low, high): (OffsetDateTime, OffsetDateTime),
) -> Result<ByCommit, StoreError> {
    let mut by_commit = ByCommit::new();
    let values: [Value; 4] = [after.into(), upto.into(), low.into(), high.into()];
    let select = "SELECT commit_no, body, received_at FROM check_round \
         WHERE commit_no > $1 AND commit_no <= $2 AND received_at BETWEEN $3 AND $4 \
         ORDER BY commit_no, check_no, number";
    for row in rows::all::<CheckedRow>(db, select, values.clone()).await? {
        by_commit.entry(row.commit_no).or_default().0.push(checked(row)?);
    }
    let select = "SELECT r.commit_no, a.id AS agent, r.body, r.received_at FROM host_facts_round r \
             JOIN agent a ON a.no = r.agent_no \
         WHERE commit_no > $1 AND commit_no <= $2 AND received_at BETWEEN $3 AND $4 \
         ORDER BY commit_no";
    for row in rows::all::<HostFactsRow>(db, select, values).await? {
        by_commit.entry(row.commit_no).or_default().1.push(host_facts(row)?);
    }
    Ok(by_commit)
}

/// Writes results of the agent's own checks, and its host facts; gives how many these are.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    agent: AgentId,
    (checks, host_facts): (&[CheckRound], &[HostFactsRound]),
    (received_at, commit_no): (OffsetDateTime, i64),
) -> Result<usize, StoreError> {
    let mut stored = host_facts.len();
    if !checks.is_empty() {
        let select = "SELECT id, no FROM check_task WHERE agent_id = $1";
        let known = numbers_by_id(txn, select, agent).await?;
        let (mut nos, mut numbers, mut bodies) = (Vec::new(), Vec::new(), Vec::new());
        for round in checks {
            if let Some(no) = known.get(&round.check.as_uuid()) {
                nos.push(*no);
                numbers.push(round.number.cast_signed());
                bodies.push(encode(round));
            }
        }
        stored += nos.len();
        let insert = "INSERT INTO check_round (received_at, commit_no, check_no, number, body) \
             SELECT $1, $2, no, number, body FROM unnest($3::int[], $4::bigint[], $5::bytea[]) \
                 AS r(no, number, body)";
        let values =
            [received_at.into(), commit_no.into(), nos.into(), numbers.into(), bodies.into()];
        txn.execute_raw(sql(insert, values)).await?;
    }
    for round in host_facts {
        let insert = "INSERT INTO host_facts_round (received_at, commit_no, agent_no, body) \
             SELECT $2, $3, no, $4 FROM agent WHERE id = $1";
        let values =
            [agent.as_uuid().into(), received_at.into(), commit_no.into(), encode(round).into()];
        txn.execute_raw(sql(insert, values)).await?;
    }
    Ok(stored)
}
