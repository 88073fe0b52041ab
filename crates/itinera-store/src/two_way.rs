//! Pairs of agents that measure each other, and their rounds.

use crate::numbers::numbers_by_id;
use crate::rounds::newest_live;
use crate::schedule_version::renew_schedule;
use crate::statement::sql;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use itinera_model::codec::{decode, encode};
use itinera_model::id::{AgentId, PairId};
use itinera_model::path::Family;
use itinera_model::route::Route;
use itinera_model::two_way::TwoWayRound;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, TransactionTrait};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use time::{Duration, OffsetDateTime};

/// Silent agents have no partners.
const ALIVE: &str = "(a.last_batch_at > now() - interval '1 day' \
     OR a.joined_at > now() - interval '1 hour')";
/// Rounds of one pair read at once.
const MOST_ROUNDS: i64 = 2_000;

/// An agent that may have partners.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartnerRecord {
    /// Its name.
    pub agent: AgentId,
    /// Its site.
    pub site: String,
    /// Its addresses by its own word.
    pub addresses: Vec<IpAddr>,
    /// Where agents elsewhere reach it, by its site's configuration.
    pub reached_at: Vec<IpAddr>,
    /// Sites that it is paired with by configuration.
    pub paired_with: Vec<String>,
    /// Where it was heard from last.
    pub heard_from: Option<IpAddr>,
    /// Routers that answered on its paths lately.
    pub routers: BTreeSet<IpAddr>,
}

/// What a pair is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PairSpec {
    /// The sending agent.
    pub sender: AgentId,
    /// The answering agent.
    pub reflector: AgentId,
    /// Version of IP.
    pub family: Family,
    /// Where the sender seems to be.
    pub sender_address: IpAddr,
    /// Where the reflector can be reached.
    pub reflector_address: IpAddr,
    /// The reflector stands behind address translation.
    pub is_hidden: bool,
}

impl PairSpec {
    /// Where one of both finds the other.
    pub fn other_end(&self, agent: AgentId) -> IpAddr {
        if agent == self.sender { self.reflector_address } else { self.sender_address }
    }
}

/// A stored pair.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PairRecord {
    /// Its name.
    pub id: PairId,
    /// Its number, from 1.
    pub no: i32,
    /// What it is.
    pub spec: PairSpec,
    /// The sender's site.
    pub sender_site: String,
    /// The reflector's site.
    pub reflector_site: String,
    /// It is one of those that are measured all the time.
    pub active: bool,
    /// End of a measurement that a user requested.
    pub wanted_until: Option<OffsetDateTime>,
    /// End of a voice-like stream that a user requested.
    pub voice_until: Option<OffsetDateTime>,
}

impl PairRecord {
    /// It is being measured, permanently or for a limited time.
    pub fn is_measured(&self, at: OffsetDateTime) -> bool {
        self.active || self.wanted_until.is_some_and(|until| until > at)
    }
}

const PAIRS: &str = "SELECT p.id, p.no, p.sender_id, p.reflector_id, p.family, p.sender_address, \
         p.reflector_address, p.is_hidden, p.active, p.wanted_until, p.voice_until, ss.name AS sender_site, rs.name AS reflector_site \
     FROM pair p JOIN agent sa ON sa.id = p.sender_id JOIN site ss ON ss.id = sa.site_id \
         JOIN agent ra ON ra.id = p.reflector_id JOIN site rs ON rs.id = ra.site_id";

#[derive(FromQueryResult)]
struct PairRow {
    id: Uuid,
    no: i32,
    sender_id: Uuid,
    reflector_id: Uuid,
    sender_address: String,
    reflector_address: String,
    is_hidden: bool,
    sender_site: String,
    reflector_site: String,
    active: bool,
    wanted_until: Option<OffsetDateTime>,
    voice_until: Option<OffsetDateTime>,
}

fn pair(row: PairRow) -> Result<PairRecord, StoreError> {
    let address = |text: &str| text.parse().map_err(|_| StoreError::corrupt("pair address"));
    let sender_address = address(&row.sender_address)?;
    Ok(PairRecord {
        id: PairId::from_uuid(row.id),
        no: row.no,
        spec: PairSpec {
            sender: AgentId::from_uuid(row.sender_id),
            reflector: AgentId::from_uuid(row.reflector_id),
            family: Family::of(sender_address),
            sender_address,
            reflector_address: address(&row.reflector_address)?,
            is_hidden: row.is_hidden,
        },
        sender_site: row.sender_site,
        reflector_site: row.reflector_site,
        active: row.active,
        wanted_until: row.wanted_until,
        voice_until: row.voice_until,
    })
}

#[derive(FromQueryResult)]
struct PartnerRow {
    id: Uuid,
    site: String,
    addresses: Json,
    heard_from: Option<String>,
    reached_at: Json,
    paired_with: Json,
}

#[derive(FromQueryResult)]
struct RouteRow {
    agent_id: Uuid,
    body: Json,
}

impl Store {
    /// The agents that may have partners, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn partner_candidates(&self) -> Result<Vec<PartnerRecord>, StoreError> {
        let select = format!(
            "SELECT a.id, s.name AS site, a.addresses, a.heard_from, s.reached_at, s.paired_with FROM agent a \
                 JOIN site s ON s.id = a.site_id \
             WHERE s.active AND (a.addresses <> '[]' OR s.reached_at <> '[]') AND {ALIVE} ORDER BY a.id"
        );
        let mut candidates = Vec::new();
        for row in rows::all::<PartnerRow>(&self.db, &select, []).await? {
            let corrupt = |_| StoreError::corrupt("site");
            candidates.push(PartnerRecord {
                agent: AgentId::from_uuid(row.id),
                site: row.site,
                addresses: serde_json::from_value(row.addresses)
                    .map_err(|_| StoreError::corrupt("agent addresses"))?,
                reached_at: serde_json::from_value(row.reached_at).map_err(corrupt)?,
                paired_with: serde_json::from_value(row.paired_with).map_err(corrupt)?,
                heard_from: row.heard_from.and_then(|text| text.parse().ok()),
                routers: BTreeSet::new(),
            });
        }
        let newest = newest_live(&self.db, OffsetDateTime::now_utc() - Duration::hours(1)).await?;
        let (paths, routes): (Vec<i32>, Vec<i64>) =
            newest.iter().map(|row| (row.path_no, row.round.route_no)).unzip();
        let seen = "SELECT DISTINCT p.agent_id, t.body \
             FROM unnest($1::int[], $2::bigint[]) AS n(path_no, route_no) \
                 JOIN path p ON p.no = n.path_no JOIN route t ON t.no = n.route_no";
        let mut routers: BTreeMap<AgentId, BTreeSet<IpAddr>> = BTreeMap::new();
        for row in rows::all::<RouteRow>(&self.db, seen, [paths.into(), routes.into()]).await? {
            let route: Route =
                serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("route"))?;
            routers
                .entry(AgentId::from_uuid(row.agent_id))
                .or_default()
                .extend(route.hops.into_iter().flatten());
        }
        for candidate in &mut candidates {
            candidate.routers = routers.remove(&candidate.agent).unwrap_or_default();
        }
        Ok(candidates)
    }

    /// Makes these the pairs that are measured. Where that changes anything, or `anyway`, the
    /// schedule becomes a new version: gives it then.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn set_pairs(
        &self,
        pairs: &[PairSpec],
        anyway: bool,
    ) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        lock(&txn).await?;
        let before = active(&txn).await?;
        txn.execute_raw(sql("UPDATE pair SET active = false WHERE active", [])).await?;
        for spec in pairs {
            put(&txn, spec, true, None).await?;
        }
        let changed = anyway || before != active(&txn).await?;
        let version = if changed { renew_schedule(&txn).await? } else { None };
        txn.commit().await?;
        Ok(version)
    }

    /// Makes a pair a voice-like stream until then; gives the new version of the schedule, or nothing
    /// where no pair of this id is measured.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn make_voice(
        &self,
        pair: PairId,
        until: OffsetDateTime,
        user: &str,
    ) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        let update = "UPDATE pair SET voice_until = $2 \
             WHERE id = $1 AND (active OR wanted_until > now())";
        let values = [pair.as_uuid().into(), until.into()];
        let known = txn.execute_raw(sql(update, values)).await?.rows_affected() > 0;
        let version = if known {
            let (action, object) = (Action::VoiceBegun, pair.to_string());
            let detail = serde_json::json!({ "until": until });
            audit(&txn, &Audited { user, action, object: &object, detail }).await?;
            renew_schedule(&txn).await?
        } else {
            None
        };
        txn.commit().await?;
        Ok(version)
    }

    /// All pairs that are or were measured, by number.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn pairs(&self) -> Result<Vec<PairRecord>, StoreError> {
        let select = format!("{PAIRS} ORDER BY p.no");
        rows::all(&self.db, &select, []).await?.into_iter().map(pair).collect()
    }

    /// The pairs being measured in which an agent takes part, by number.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn pairs_of(&self, agent: AgentId) -> Result<Vec<PairRecord>, StoreError> {
        let select = format!(
            "{PAIRS} WHERE (p.active OR p.wanted_until > now()) \
                 AND (p.sender_id = $1 OR p.reflector_id = $1) ORDER BY p.no"
        );
        rows::all(&self.db, &select, [agent.as_uuid().into()])
            .await?
            .into_iter()
            .map(pair)
            .collect()
    }

    /// The newest rounds of both directions received between two times, by pair and then from the
    /// oldest on.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn two_way_between(
        &self,
        pairs: &[PairId],
        from: OffsetDateTime,
        to: OffsetDateTime,
    ) -> Result<BTreeMap<PairId, Vec<TwoWayRound>>, StoreError> {
        let select = "SELECT r.body FROM pair p CROSS JOIN LATERAL ( \
                 SELECT n.* FROM two_way_round n \
                 WHERE n.pair_no = p.no AND n.received_at BETWEEN $2 AND $3 \
                 ORDER BY n.received_at DESC, n.commit_no DESC, n.number DESC LIMIT $4) r \
             WHERE p.id = ANY($1) \
             ORDER BY r.received_at DESC, r.commit_no DESC, r.number DESC";
        let ids: Vec<Uuid> = pairs.iter().map(|pair| pair.as_uuid()).collect();
        let values = [ids.into(), from.into(), to.into(), MOST_ROUNDS.into()];
        let mut by_pair: BTreeMap<PairId, Vec<TwoWayRound>> = BTreeMap::new();
        let bodies: Vec<Vec<u8>> = rows::column(&self.db, select, values).await?;
        for body in bodies.into_iter().rev() {
            let round: TwoWayRound =
                decode(&body).map_err(|_| StoreError::corrupt("two-way round"))?;
            by_pair.entry(round.pair).or_default().push(round);
        }
        Ok(by_pair)
    }
}

/// One at a time: two that choose at once must not both believe that nothing changed.
async fn lock(txn: &DatabaseTransaction) -> Result<(), StoreError> {
    txn.execute_raw(sql("LOCK TABLE pair IN SHARE ROW EXCLUSIVE MODE", [])).await?;
    Ok(())
}

/// Stores a pair: measured permanently or until then; its other state is kept.
async fn put(
    txn: &DatabaseTransaction,
    spec: &PairSpec,
    active: bool,
    wanted_until: Option<OffsetDateTime>,
) -> Result<(), StoreError> {
    // Not by conflict: numbers would be used up by pairs that are known.
    let update = "WITH known AS (UPDATE pair SET active = active OR $8, \
             wanted_until = coalesce($9, wanted_until), sender_address = $5, \
             reflector_address = $6, is_hidden = $7 \
             WHERE sender_id = $2 AND reflector_id = $3 AND family = $4 RETURNING id) \
         INSERT INTO pair (id, sender_id, reflector_id, family, sender_address, \
             reflector_address, is_hidden, active, wanted_until) \
         SELECT $1, $2, $3, $4, $5, $6, $7, $8, $9 WHERE NOT EXISTS (SELECT FROM known)";
    let values = [
        Uuid::now_v7().into(),
        spec.sender.as_uuid().into(),
        spec.reflector.as_uuid().into(),
        spec.family.to_string().into(),
        spec.sender_address.to_string().into(),
        spec.reflector_address.to_string().into(),
        spec.is_hidden.into(),
        active.into(),
        wanted_until.into(),
    ];
    txn.execute_raw(sql(update, values)).await?;
    Ok(())
}

/// Has a pair measured until then.
pub(crate) async fn want(
    txn: &DatabaseTransaction,
    spec: &PairSpec,
    until: OffsetDateTime,
) -> Result<(), StoreError> {
    lock(txn).await?;
    put(txn, spec, false, Some(until)).await
}

async fn active(txn: &DatabaseTransaction) -> Result<Vec<PairRecord>, StoreError> {
    let select = format!("{PAIRS} WHERE p.active ORDER BY p.no");
    rows::all(txn, &select, []).await?.into_iter().map(pair).collect()
}

/// A recorded round of a pair.
pub(crate) struct PairRound {
    pub(crate) commit_no: i64,
    pub(crate) received_at: OffsetDateTime,
    pub(crate) pair_no: i32,
    pub(crate) round: TwoWayRound,
}

#[derive(FromQueryResult)]
struct LoggedRow {
    commit_no: i64,
    received_at: OffsetDateTime,
    pair_no: i32,
    body: Vec<u8>,
}

/// Rounds of pairs of the commits after one up to another, received between two times, in order.
pub(crate) async fn of_commits(
    db: &impl ConnectionTrait,
    (after, upto): (i64, i64),
    (low, high): (OffsetDateTime, OffsetDateTime),
) -> Result<Vec<PairRound>, StoreError> {
    let select = "SELECT commit_no, received_at, pair_no, body FROM two_way_round \
         WHERE commit_no > $1 AND commit_no <= $2 AND received_at BETWEEN $3 AND $4 \
         ORDER BY commit_no, pair_no, number";
    let values = [after.into(), upto.into(), low.into(), high.into()];
    let read = |LoggedRow { commit_no, received_at, pair_no, body }: LoggedRow| {
        let round = decode(&body).map_err(|_| StoreError::corrupt("two-way round"))?;
        Ok(PairRound { commit_no, received_at, pair_no, round })
    };
    rows::all(db, select, values).await?.into_iter().map(read).collect()
}

/// Writes the rounds of pairs in which the agent sends; gives how many these are.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    agent: AgentId,
    rounds: &[TwoWayRound],
    (received_at, commit_no): (OffsetDateTime, i64),
) -> Result<usize, StoreError> {
    if rounds.is_empty() {
        return Ok(0);
    }
    let select = "SELECT id, no FROM pair WHERE sender_id = $1";
    let known = numbers_by_id(txn, select, agent).await?;
    let (mut nos, mut numbers, mut bodies) = (Vec::new(), Vec::new(), Vec::new());
    for round in rounds {
        if let Some(no) = known.get(&round.pair.as_uuid()) {
            nos.push(*no);
            numbers.push(round.number.cast_signed());
            bodies.push(encode(round));
        }
    }
    let stored = nos.len();
    let insert = "INSERT INTO two_way_round (received_at, commit_no, pair_no, number, body) \
         SELECT $1, $2, no, number, body FROM unnest($3::int[], $4::bigint[], $5::bytea[]) \
             AS r(no, number, body)";
    let values = [received_at.into(), commit_no.into(), nos.into(), numbers.into(), bodies.into()];
    txn.execute_raw(sql(insert, values)).await?;
    Ok(stored)
}
