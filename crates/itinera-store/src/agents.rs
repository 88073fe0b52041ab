//! Agents and the codes by which they join.

use crate::entity::{agent, join_code, site};
use crate::users::{Audited, audit};
use crate::{SiteRecord, Store, StoreError};
use itinera_model::audit::Action;
use itinera_model::batch::RefusedTask;
use itinera_model::id::{AgentId, SiteId};
use sea_orm::entity::prelude::*;
use sea_orm::{ActiveValue::Set, QueryOrder, QuerySelect, TransactionTrait};
use std::net::IpAddr;
use time::OffsetDateTime;

/// Why a join code opens nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CodeRefused {
    /// No such code was ever given out.
    #[error("this join code is unknown")]
    Unknown,
    /// It has opened once already.
    #[error("this join code has been used")]
    Used,
    /// Its time is over.
    #[error("this join code has expired")]
    Expired,
}

/// An agent that is about to join.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewAgent {
    /// Its name.
    pub id: AgentId,
    /// Digest of the certificate made for it.
    pub certificate_sha256: [u8; 32],
    /// Its program version.
    pub version: String,
}

/// An agent, for display.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AgentRecord {
    /// Its name.
    pub id: AgentId,
    /// Its site's name.
    pub site: String,
    /// Program version it joined with.
    pub version: String,
    /// When it joined.
    pub joined_at: OffsetDateTime,
    /// When its last batch was committed; absent before the first.
    pub last_batch_at: Option<OffsetDateTime>,
    /// Service clock minus agent clock in microseconds, as the agent estimated it last.
    pub clock_offset_us: Option<i64>,
    /// Bound of that estimate's error in microseconds.
    pub clock_error_us: Option<i64>,
    /// Rounds it had to drop because its spool was full, since its last start.
    pub dropped_rounds: i64,
    /// Tasks that its site does not allow it.
    pub refused: Vec<RefusedTask>,
    /// Where other agents can reach it, by its own word.
    pub addresses: Vec<IpAddr>,
    /// Where other agents can reach it, by its site's configuration: this counts where it is there.
    pub reached_at: Vec<IpAddr>,
}

impl Store {
    /// Records a join code by the digest of its secret.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn add_join_code(
        &self,
        secret_sha256: [u8; 32],
        site: &SiteRecord,
        now: OffsetDateTime,
        expires_at: OffsetDateTime,
        by: &str,
    ) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let row = join_code::ActiveModel {
            secret_sha256: Set(secret_sha256.to_vec()),
            site_id: Set(site.id.as_uuid()),
            created_at: Set(now),
            expires_at: Set(expires_at),
            used_at: Set(None),
        };
        join_code::Entity::insert(row).exec_without_returning(&txn).await?;
        let (object, detail) = (&site.name, serde_json::json!({ "expires_at": expires_at }));
        let entry = Audited { user: by, action: Action::JoinCodeMade, object, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Uses a join code up and records the new agent, in one transaction.
    ///
    /// # Errors
    /// [`StoreError::Code`] when the code opens nothing; [`StoreError::Database`].
    pub async fn redeem_join_code(
        &self,
        secret_sha256: [u8; 32],
        new: &NewAgent,
        now: OffsetDateTime,
    ) -> Result<SiteRecord, StoreError> {
        let txn = self.db.begin().await?;
        let code = join_code::Entity::find_by_id(secret_sha256.to_vec())
            .lock_exclusive()
            .one(&txn)
            .await?
            .ok_or(CodeRefused::Unknown)?;
        if code.used_at.is_some() {
            return Err(CodeRefused::Used.into());
        }
        if code.expires_at <= now {
            return Err(CodeRefused::Expired.into());
        }
        let site = site::Entity::find_by_id(code.site_id).one(&txn).await?;
        let site = site.ok_or_else(|| StoreError::corrupt("join code's site"))?;
        let row = agent::ActiveModel {
            id: Set(new.id.as_uuid()),
            site_id: Set(site.id),
            certificate_sha256: Set(new.certificate_sha256.to_vec()),
            version: Set(new.version.clone()),
            joined_at: Set(now),
            last_batch_at: Set(None),
            clock_offset_us: Set(None),
            clock_error_us: Set(None),
            dropped_rounds: Set(0),
            refused: Set(serde_json::json!([])),
            addresses: Set(serde_json::json!([])),
        };
        agent::Entity::insert(row).exec_without_returning(&txn).await?;
        let mut code: join_code::ActiveModel = code.into();
        code.used_at = Set(Some(now));
        code.update(&txn).await?;
        txn.commit().await?;
        Ok(SiteRecord { id: SiteId::from_uuid(site.id), name: site.name })
    }

    /// The agent with this certificate; absent for a stranger.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn agent_by_certificate(
        &self,
        digest: [u8; 32],
    ) -> Result<Option<AgentId>, StoreError> {
        let row = agent::Entity::find()
            .filter(agent::Column::CertificateSha256.eq(digest.to_vec()))
            .one(&self.db)
            .await?;
        Ok(row.map(|row| AgentId::from_uuid(row.id)))
    }

    /// All agents, by site.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn agents(&self) -> Result<Vec<AgentRecord>, StoreError> {
        let sites = site::Entity::find().all(&self.db).await?;
        let rows =
            agent::Entity::find().order_by_asc(agent::Column::JoinedAt).all(&self.db).await?;
        let site_of = |row: &agent::Model| sites.iter().find(|site| site.id == row.site_id);
        let mut agents: Vec<AgentRecord> = rows
            .into_iter()
            .map(|row| AgentRecord {
                id: AgentId::from_uuid(row.id),
                site: site_of(&row).map_or_else(String::new, |site| site.name.clone()),
                reached_at: site_of(&row)
                    .and_then(|site| serde_json::from_value(site.reached_at.clone()).ok())
                    .unwrap_or_default(),
                version: row.version,
                joined_at: row.joined_at,
                last_batch_at: row.last_batch_at,
                clock_offset_us: row.clock_offset_us,
                clock_error_us: row.clock_error_us,
                dropped_rounds: row.dropped_rounds,
                refused: serde_json::from_value(row.refused).unwrap_or_default(),
                addresses: serde_json::from_value(row.addresses).unwrap_or_default(),
            })
            .collect();
        agents.sort_by(|a, b| a.site.cmp(&b.site).then(a.joined_at.cmp(&b.joined_at)));
        Ok(agents)
    }
}
