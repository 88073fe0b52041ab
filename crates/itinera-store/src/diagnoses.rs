//! Diagnoses by agents: the user, the progress and the observations of each.

use crate::schedule_version::renew_schedule;
use crate::statement::sql;
use crate::times::offset;
use crate::users::{Audited, audit};
use crate::{PairSpec, Store, StoreError, change_feed, rows, timeline, two_way};
use itinera_model::audit::Action;
use itinera_model::codec::{decode, encode};
use itinera_model::diagnosis::{DiagnosisReport, DiagnosisTask, DiagnosisUpdate, Observations};
use itinera_model::id::{AgentId, DiagnosisId, IncidentId};
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, TransactionTrait};
use time::OffsetDateTime;

/// A stored diagnosis.
#[derive(Debug, Clone, PartialEq)]
pub struct DiagnosisRecord {
    /// Its short number.
    pub no: i64,
    /// The agent.
    pub agent: AgentId,
    /// The agent's site.
    pub site: String,
    /// What was wanted.
    pub order: DiagnosisTask,
    /// The user.
    pub user: String,
    /// When.
    pub asked_at: OffsetDateTime,
    /// The incident it belongs to.
    pub incident: Option<IncidentId>,
    /// How far it is; absent before the agent has said anything.
    pub progress: Option<DiagnosisUpdate>,
    /// What was seen; absent until it is done.
    pub observed: Option<Observations>,
    /// When it was done.
    pub done_at: Option<OffsetDateTime>,
}

const SELECT: &str = "SELECT d.*, s.name AS site FROM diagnosis d \
     JOIN agent a ON a.id = d.agent_id JOIN site s ON s.id = a.site_id";

#[derive(FromQueryResult)]
struct DiagnosisRow {
    no: i64,
    agent_id: Uuid,
    site: String,
    body: Json,
    user_name: String,
    asked_at: OffsetDateTime,
    incident_id: Option<Uuid>,
    progress: Option<Json>,
    observed: Option<Vec<u8>>,
    done_at: Option<OffsetDateTime>,
}

fn record(row: DiagnosisRow) -> Result<DiagnosisRecord, StoreError> {
    let corrupt = |_| StoreError::corrupt("diagnosis");
    let observed = row.observed.map(|bytes| decode(&bytes)).transpose();
    Ok(DiagnosisRecord {
        no: row.no,
        agent: AgentId::from_uuid(row.agent_id),
        site: row.site,
        order: serde_json::from_value(row.body).map_err(corrupt)?,
        user: row.user_name,
        asked_at: row.asked_at,
        incident: row.incident_id.map(IncidentId::from_uuid),
        progress: row.progress.map(serde_json::from_value).transpose().map_err(corrupt)?,
        observed: observed.map_err(|_| StoreError::corrupt("diagnosis"))?,
        done_at: row.done_at,
    })
}

impl Store {
    /// Orders a diagnosis from an agent, and two-way measurement with the agent at the other end
    /// until then, where there is one; gives the new version of the schedule.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn order_diagnosis(
        &self,
        agent: AgentId,
        order: &DiagnosisTask,
        user: &str,
        incident: Option<IncidentId>,
        two_way: Option<(&PairSpec, OffsetDateTime)>,
    ) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        if let Some((pair, until)) = two_way {
            two_way::want(&txn, pair, until).await?;
        }
        let insert = "INSERT INTO diagnosis (id, agent_id, body, user_name, asked_at, not_after, \
                 incident_id) VALUES ($1, $2, $3, $4, now(), $5, $6)";
        let values: [Value; 6] = [
            order.id.as_uuid().into(),
            agent.as_uuid().into(),
            serde_json::json!(order).into(),
            user.into(),
            offset(order.not_after).into(),
            incident.map(IncidentId::as_uuid).into(),
        ];
        txn.execute_raw(sql(insert, values)).await?;
        if let Some(incident) = incident {
            timeline::record_diagnosis(&txn, order.id, incident, user).await?;
        }
        let (action, object) = (Action::DiagnosisStarted, order.id.to_string());
        let detail = serde_json::json!({ "target": order.target });
        audit(&txn, &Audited { user, action, object: &object, detail }).await?;
        let version = renew_schedule(&txn).await?;
        txn.commit().await?;
        Ok(version)
    }

    /// Diagnoses, newest first, at most `limit`: all, or those of an incident, or one.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn diagnoses(
        &self,
        id: Option<DiagnosisId>,
        incident: Option<IncidentId>,
        limit: i64,
    ) -> Result<Vec<DiagnosisRecord>, StoreError> {
        let select = format!(
            "{SELECT} WHERE ($1::uuid IS NULL OR d.id = $1) \
                 AND ($2::uuid IS NULL OR d.incident_id = $2) ORDER BY d.no DESC LIMIT $3"
        );
        let values: [Value; 3] = [
            id.map(DiagnosisId::as_uuid).into(),
            incident.map(IncidentId::as_uuid).into(),
            limit.into(),
        ];
        rows::all(&self.db, &select, values).await?.into_iter().map(record).collect()
    }
}

/// The orders of an agent that still wait to be done.
pub(crate) async fn orders(
    txn: &DatabaseTransaction,
    agent: AgentId,
) -> Result<Vec<DiagnosisTask>, StoreError> {
    let select = "SELECT body FROM diagnosis \
         WHERE agent_id = $1 AND done_at IS NULL AND not_after > now() ORDER BY no";
    let bodies: Vec<Json> = rows::column(txn, select, [agent.as_uuid().into()]).await?;
    let order = |body| serde_json::from_value(body).map_err(|_| StoreError::corrupt("diagnosis"));
    bodies.into_iter().map(order).collect()
}

/// Records what the agent says of its own orders.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    agent: AgentId,
    reports: &[DiagnosisReport],
    received_at: OffsetDateTime,
) -> Result<(), StoreError> {
    for report in reports {
        let (progress, observed, done): (Option<Json>, Option<Vec<u8>>, bool) = match &report.word {
            DiagnosisUpdate::Done(seen) => (None, Some(encode(seen.as_ref())), true),
            word @ DiagnosisUpdate::Failed(_) => (Some(serde_json::json!(word)), None, true),
            word => (Some(serde_json::json!(word)), None, false),
        };
        // What is done stays as it is: an older batch may come later.
        let update = "UPDATE diagnosis SET progress = coalesce($3, progress), \
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
            let change = serde_json::json!({ "id": report.id, "done": done });
            change_feed::add(txn, change_feed::Topic::Diagnosis, change).await?;
        }
    }
    Ok(())
}
