//! Receivers of notices.

use crate::statement::sql;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use itinera_model::id::ReceiverId;
use itinera_model::notice::{DeliveryState, Receiver};
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{ConnectionTrait, DatabaseTransaction, TransactionTrait};
use time::OffsetDateTime;

/// A receiver as recorded, without its secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReceiverRecord {
    /// Its id.
    pub id: ReceiverId,
    /// The receiver.
    pub receiver: Receiver,
    /// When it was added.
    pub made_at: OffsetDateTime,
    /// By which user.
    pub made_by: String,
}

/// Why a change of receivers is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ReceiverRefused {
    /// There is none of this id.
    #[error("no receiver has this id or name")]
    Unknown,
    /// Another has the name.
    #[error("another receiver has this name")]
    NameTaken,
}

/// Receivers at most: each notice is compared with all of them.
pub const MAX_RECEIVERS: usize = 500;

#[derive(FromQueryResult)]
pub(crate) struct ReceiverRow {
    id: Uuid,
    content: Json,
    made_at: OffsetDateTime,
    made_by: String,
}

impl TryFrom<ReceiverRow> for ReceiverRecord {
    type Error = StoreError;

    fn try_from(row: ReceiverRow) -> Result<Self, StoreError> {
        let receiver = serde_json::from_value(row.content);
        Ok(Self {
            id: ReceiverId::from_uuid(row.id),
            receiver: receiver.map_err(|_| StoreError::corrupt("receiver"))?,
            made_at: row.made_at,
            made_by: row.made_by,
        })
    }
}

const SELECT: &str = "SELECT id, content, made_at, made_by FROM receiver WHERE removed_at IS NULL";

/// The receivers of some ids that are not removed.
pub(crate) async fn by_ids(
    db: &impl ConnectionTrait,
    ids: &[ReceiverId],
) -> Result<Vec<ReceiverRecord>, StoreError> {
    let ids: Vec<Uuid> = ids.iter().map(|id| id.as_uuid()).collect();
    let select = format!("{SELECT} AND id = ANY($1) ORDER BY name");
    let found: Vec<ReceiverRow> = rows::all(db, &select, [ids.into()]).await?;
    found.into_iter().map(ReceiverRecord::try_from).collect()
}

/// A receiver that is not removed, held until the transaction ends.
pub(crate) async fn known(
    txn: &DatabaseTransaction,
    id: ReceiverId,
) -> Result<ReceiverRecord, StoreError> {
    let select = format!("{SELECT} AND id = $1 FOR UPDATE");
    let found: Option<ReceiverRow> = rows::first(txn, &select, [id.as_uuid().into()]).await?;
    found.ok_or(ReceiverRefused::Unknown)?.try_into()
}

async fn free_name(txn: &DatabaseTransaction, name: &str, but: Uuid) -> Result<(), StoreError> {
    let lock = "SELECT pg_advisory_xact_lock(hashtext('receivers'))";
    txn.execute_unprepared(lock).await?;
    let select = "SELECT count(*) FROM receiver \
         WHERE name = $1 AND id <> $2 AND removed_at IS NULL";
    let taken: Option<i64> = rows::value(txn, select, [name.into(), but.into()]).await?;
    if taken == Some(0) { Ok(()) } else { Err(ReceiverRefused::NameTaken.into()) }
}

impl Store {
    /// Receivers by name.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn receivers(&self) -> Result<Vec<ReceiverRecord>, StoreError> {
        let select = format!("{SELECT} ORDER BY name");
        let found: Vec<ReceiverRow> = rows::all(&self.db, &select, []).await?;
        found.into_iter().map(ReceiverRecord::try_from).collect()
    }

    /// Adds a receiver, with the secret that signs requests to it.
    ///
    /// # Errors
    /// [`StoreError::Receiver`] where the name is taken; [`StoreError::Database`].
    pub async fn add_receiver(
        &self,
        receiver: &Receiver,
        secret: Option<&str>,
        user: &str,
    ) -> Result<ReceiverRecord, StoreError> {
        let txn = self.db.begin().await?;
        let id = Uuid::now_v7();
        free_name(&txn, &receiver.name, id).await?;
        let made_at = OffsetDateTime::now_utc();
        let insert = "INSERT INTO receiver (id, name, content, secret, made_at, made_by) \
             VALUES ($1, $2, $3, $4, $5, $6)";
        let content = serde_json::json!(receiver);
        let values: [Value; 6] = [
            id.into(),
            receiver.name.clone().into(),
            content.clone().into(),
            secret.map(str::to_owned).into(),
            made_at.into(),
            user.into(),
        ];
        txn.execute_raw(sql(insert, values)).await?;
        let (action, object) = (Action::ReceiverAdded, receiver.name.as_str());
        audit(&txn, &Audited { user, action, object, detail: content }).await?;
        txn.commit().await?;
        let (id, receiver) = (ReceiverId::from_uuid(id), receiver.clone());
        Ok(ReceiverRecord { id, receiver, made_at, made_by: user.to_owned() })
    }

    /// Changes a receiver. `secret` becomes its secret where it has none or `replaces`; gives it where it
    /// did.
    ///
    /// # Errors
    /// [`StoreError::Receiver`] where it is unknown or the name is taken; [`StoreError::Database`].
    pub async fn change_receiver(
        &self,
        id: ReceiverId,
        receiver: &Receiver,
        secret: Option<String>,
        replaces: bool,
        user: &str,
    ) -> Result<(ReceiverRecord, Option<String>), StoreError> {
        let txn = self.db.begin().await?;
        let before = known(&txn, id).await?;
        free_name(&txn, &receiver.name, id.as_uuid()).await?;
        let update = "UPDATE receiver SET name = $2, content = $3, secret = CASE \
                 WHEN $4::text IS NULL THEN NULL WHEN $5 THEN $4 ELSE coalesce(secret, $4) END \
             WHERE id = $1 RETURNING secret";
        let content = serde_json::json!(receiver);
        let values: [Value; 5] = [
            id.as_uuid().into(),
            receiver.name.clone().into(),
            content.clone().into(),
            secret.clone().into(),
            replaces.into(),
        ];
        let kept: Option<Option<String>> = rows::value(&txn, update, values).await?;
        let secret = secret.filter(|new| kept.flatten().as_deref() == Some(new));
        let detail = serde_json::json!({
            "before": before.receiver, "after": content, "new_secret": secret.is_some(),
        });
        let (action, object) = (Action::ReceiverChanged, before.receiver.name.as_str());
        audit(&txn, &Audited { user, action, object, detail }).await?;
        txn.commit().await?;
        Ok((ReceiverRecord { receiver: receiver.clone(), ..before }, secret))
    }

    /// Removes a receiver. What waits for it is not sent; what it was sent stays recorded.
    ///
    /// # Errors
    /// [`StoreError::Receiver`] where it is unknown; [`StoreError::Database`].
    pub async fn remove_receiver(&self, id: ReceiverId, user: &str) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let before = known(&txn, id).await?;
        let update = "UPDATE receiver SET removed_at = now(), secret = NULL WHERE id = $1";
        txn.execute_raw(sql(update, [id.as_uuid().into()])).await?;
        let update = "UPDATE delivery SET state = $2, ended_at = now(), reason = $3 \
             WHERE receiver_id = $1 AND state = $4";
        let values: [Value; 4] = [
            id.as_uuid().into(),
            DeliveryState::Skipped.name().into(),
            "the receiver was removed".into(),
            DeliveryState::Waiting.name().into(),
        ];
        txn.execute_raw(sql(update, values)).await?;
        let detail = serde_json::json!(before.receiver);
        let (action, object) = (Action::ReceiverRemoved, before.receiver.name.as_str());
        audit(&txn, &Audited { user, action, object, detail }).await?;
        txn.commit().await?;
        Ok(())
    }
}
