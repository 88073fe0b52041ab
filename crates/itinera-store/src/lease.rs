//! Leadership of judgement: one process holds the lease, and its fencing token rises with each
//! new holder.

use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::ConnectionTrait;
use uuid::Uuid;

/// How long leadership lasts without a renewal.
const LEASE_SECONDS: f64 = 5.0;

impl Store {
    /// Takes leadership of judgement if no process holds it; gives the fencing token, or nothing
    /// while another process leads.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn lead_judgement(&self, me: Uuid) -> Result<Option<i64>, StoreError> {
        let take = "UPDATE lease SET token = token + 1, holder = $1, \
                 expires_at = now() + make_interval(secs => $2) \
             WHERE name = 'judge' AND (expires_at < now() OR holder = $1) RETURNING token";
        let values = [me.into(), LEASE_SECONDS.into()];
        rows::value(&self.judge, take, values).await
    }

    /// Gives leadership up, so that a successor need not wait.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn resign_judgement(&self, token: i64) -> Result<(), StoreError> {
        let give = "UPDATE lease SET expires_at = '-infinity' WHERE name = 'judge' AND token = $1";
        self.judge.execute_raw(sql(give, [token.into()])).await?;
        Ok(())
    }

    /// Renews leadership when there is nothing to record.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] when another process leads; [`StoreError::Database`].
    pub async fn renew_leadership(&self, token: i64) -> Result<(), StoreError> {
        renew_lease(&self.judge, token).await
    }
}

/// Extends the lease; [`StoreError::Fenced`] when another process holds it.
pub(crate) async fn renew_lease<C: ConnectionTrait>(db: &C, token: i64) -> Result<(), StoreError> {
    let renew = "UPDATE lease SET expires_at = now() + make_interval(secs => $2) \
         WHERE name = 'judge' AND token = $1";
    let renewed = db.execute_raw(sql(renew, [token.into(), LEASE_SECONDS.into()])).await?;
    if renewed.rows_affected() == 1 { Ok(()) } else { Err(StoreError::Fenced) }
}
