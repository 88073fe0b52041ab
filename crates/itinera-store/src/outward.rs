//! Looks outward from agents: who asked for them, how far they are, what they saw.

use crate::judge::offset;
use crate::people::{Audited, audit};
use crate::statement::sql;
use crate::watched::renew;
use crate::{PairSpec, Store, StoreError, incidents, outbox, two_way};
use itinera_model::batch::{decode, encode};
use itinera_model::id::{AgentId, IncidentId, OutwardId};
use itinera_model::outward::{Observed, OutwardOrder, OutwardReport, OutwardWord};
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, QueryResult, TransactionTrait};
use time::OffsetDateTime;

/// A look outward on record.
#[derive(Debug, Clone, PartialEq)]
pub struct OutwardRecord {
    /// Its number, for people to say.
    pub no: i64,
    /// Who looks.
    pub agent: AgentId,
    /// The agent's site.
    pub site: String,
    /// What was wanted.
    pub order: OutwardOrder,
    /// Who wanted it.
    pub person: String,
    /// When.
    pub asked_at: OffsetDateTime,
    /// The incident it belongs to.
    pub incident: Option<IncidentId>,
    /// How far it is; absent before the agent has said anything.
    pub progress: Option<OutwardWord>,
    /// What was seen; absent until it is done.
    pub observed: Option<Observed>,
    /// When it was done.
    pub done_at: Option<OffsetDateTime>,
}

const SELECT: &str = "SELECT o.*, s.name AS site FROM outward o \
     JOIN agent a ON a.id = o.agent_id JOIN site s ON s.id = a.site_id";

fn record(row: &QueryResult) -> Result<OutwardRecord, StoreError> {
    let corrupt = |_| StoreError::corrupt("look outward");
    let (order, progress): (Json, Option<Json>) =
        (row.try_get("", "body")?, row.try_get("", "progress")?);
    let observed: Option<Vec<u8>> = row.try_get("", "observed")?;
    let observed = observed.map(|octets| decode(&octets)).transpose();
    let incident: Option<Uuid> = row.try_get("", "incident_id")?;
    Ok(OutwardRecord {
        no: row.try_get("", "no")?,
        agent: AgentId::from_uuid(row.try_get("", "agent_id")?),
        site: row.try_get("", "site")?,
        order: serde_json::from_value(order).map_err(corrupt)?,
        person: row.try_get("", "person")?,
        asked_at: row.try_get("", "asked_at")?,
        incident: incident.map(IncidentId::from_uuid),
        progress: progress.map(serde_json::from_value).transpose().map_err(corrupt)?,
        observed: observed.map_err(|_| StoreError::corrupt("look outward"))?,
        done_at: row.try_get("", "done_at")?,
    })
}

impl Store {
    /// Orders a look outward from an agent, and both ways with the agent at the other end measured
    /// until then, where there is one; gives the new version of the schedule.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn order_outward(
        &self,
        agent: AgentId,
        order: &OutwardOrder,
        person: &str,
        incident: Option<IncidentId>,
        both_ways: Option<(&PairSpec, OffsetDateTime)>,
    ) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        if let Some((pair, until)) = both_ways {
            two_way::want(&txn, pair, until).await?;
        }
        let insert = "INSERT INTO outward (id, agent_id, body, person, asked_at, not_after, \
                 incident_id) VALUES ($1, $2, $3, $4, now(), $5, $6)";
        let values: [Value; 6] = [
            order.id.as_uuid().into(),
            agent.as_uuid().into(),
            serde_json::json!(order).into(),
            person.into(),
            offset(order.not_after).into(),
            incident.map(IncidentId::as_uuid).into(),
        ];
        txn.execute_raw(sql(insert, values)).await?;
        if let Some(incident) = incident {
            incidents::note_outward(&txn, order.id, incident, person).await?;
        }
        let (action, object) = ("look-asked", order.id.to_string());
        let detail = serde_json::json!({ "target": order.target });
        audit(&txn, &Audited { person, action, object: &object, detail }).await?;
        let version = renew(&txn).await?;
        txn.commit().await?;
        Ok(version)
    }

    /// Looks outward, newest first, at most `limit`: all, or those of an incident, or one.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn outward(
        &self,
        id: Option<OutwardId>,
        incident: Option<IncidentId>,
        limit: i64,
    ) -> Result<Vec<OutwardRecord>, StoreError> {
        let select = format!(
            "{SELECT} WHERE ($1::uuid IS NULL OR o.id = $1) \
                 AND ($2::uuid IS NULL OR o.incident_id = $2) ORDER BY o.no DESC LIMIT $3"
        );
        let values: [Value; 3] = [
            id.map(OutwardId::as_uuid).into(),
            incident.map(IncidentId::as_uuid).into(),
            limit.into(),
        ];
        self.db.query_all_raw(sql(&select, values)).await?.iter().map(record).collect()
    }
}

/// The orders of an agent that still wait to be done.
pub(crate) async fn orders(
    txn: &DatabaseTransaction,
    agent: AgentId,
) -> Result<Vec<OutwardOrder>, StoreError> {
    let select = "SELECT body FROM outward \
         WHERE agent_id = $1 AND done_at IS NULL AND not_after > now() ORDER BY no";
    let rows = txn.query_all_raw(sql(select, [agent.as_uuid().into()])).await?;
    rows.iter()
        .map(|row| {
            let body: Json = row.try_get("", "body")?;
            serde_json::from_value(body).map_err(|_| StoreError::corrupt("look outward"))
        })
        .collect()
}

/// Records what the agent says of its own orders.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    agent: AgentId,
    reports: &[OutwardReport],
    received_at: OffsetDateTime,
) -> Result<(), StoreError> {
    for report in reports {
        let (progress, observed, done): (Option<Json>, Option<Vec<u8>>, bool) = match &report.word {
            OutwardWord::Done(seen) => (None, Some(encode(seen.as_ref())), true),
            word @ OutwardWord::Failed(_) => (Some(serde_json::json!(word)), None, true),
            word => (Some(serde_json::json!(word)), None, false),
        };
        // What is done stays as it is: an older batch may come later.
        let update = "UPDATE outward SET progress = coalesce($3, progress), \
                 observed = coalesce($4, observed), done_at = CASE WHEN $5 THEN $6 END \
             WHERE id = $1 AND agent_id = $2 AND done_at IS NULL RETURNING incident_id";
        let values: [Value; 6] = [
            report.id.as_uuid().into(),
            agent.as_uuid().into(),
            progress.into(),
            observed.into(),
            done.into(),
            received_at.into(),
        ];
        if txn.query_one_raw(sql(update, values)).await?.is_some() {
            let news = serde_json::json!({ "id": report.id, "done": done });
            outbox::say(txn, outbox::Topic::Outward, news).await?;
        }
    }
    Ok(())
}
