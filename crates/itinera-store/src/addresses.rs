//! Where agents are: by their own word, and where the service hears them from.

use crate::schedule_version::renew_schedule;
use crate::statement::sql;
use crate::{Store, StoreError, rows};
use itinera_model::id::AgentId;
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use std::net::IpAddr;

/// An agent's address may change so often within this time; what changes more often is noted later.
/// Each change wakes other agents, and none may keep the fleet awake.
const MAY_MOVE: &str = "(agent.moves < 6 OR agent.moves_since < now() - interval '10 minutes')";
const COUNT_MOVE: &str = "moves = CASE WHEN agent.moves_since < now() - interval '10 minutes' \
         THEN 1 ELSE agent.moves + 1 END, \
     moves_since = CASE WHEN agent.moves_since < now() - interval '10 minutes' \
         THEN now() ELSE agent.moves_since END";

impl Store {
    /// Notes the addresses at which other agents could reach one. True when they are others now.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn note_addresses(
        &self,
        agent: AgentId,
        addresses: &[IpAddr],
    ) -> Result<bool, StoreError> {
        let update = format!(
            "UPDATE agent SET addresses = $2, {COUNT_MOVE} \
             WHERE id = $1 AND addresses <> $2 AND {MAY_MOVE}"
        );
        let values = [agent.as_uuid().into(), serde_json::json!(addresses).into()];
        Ok(self.db.execute_raw(sql(&update, values)).await?.rows_affected() > 0)
    }

    /// Notes the address that an agent connects from. Where that changes the agents behind one
    /// address, the schedule gets a new version, because their shares change: gives it then.
    ///
    /// Limits: loopback addresses say nothing about the network and are not regarded.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn heard_from(
        &self,
        agent: AgentId,
        address: IpAddr,
    ) -> Result<Option<u64>, StoreError> {
        if address.is_loopback() {
            return Ok(None);
        }
        let txn = self.db.begin().await?;
        let update = format!(
            "UPDATE agent SET heard_from = $2, {COUNT_MOVE} FROM agent AS old \
             WHERE agent.id = $1 AND old.id = $1 AND old.heard_from IS DISTINCT FROM $2 \
                 AND {MAY_MOVE} \
             RETURNING (SELECT count(*) FROM agent o WHERE o.id <> $1 AND o.heard_from IN ($2, old.heard_from))"
        );
        let values = [agent.as_uuid().into(), address.to_string().into()];
        let others: Option<i64> = rows::value(&txn, &update, values).await?;
        let renewed = if others.unwrap_or(0) > 0 { renew_schedule(&txn).await? } else { None };
        txn.commit().await?;
        Ok(renewed)
    }
}
