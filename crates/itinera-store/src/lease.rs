//! Leases: work that one process does at a time for all processes of the installation. The fencing
//! token of a lease rises with each new holder.

use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::ConnectionTrait;
use std::time::Duration;
use uuid::Uuid;

/// The lease of judgement.
const JUDGEMENT: &str = "judge";
/// How long leadership of judgement lasts without a renewal.
const LEADERSHIP: Duration = Duration::from_secs(5);

impl Store {
    /// Takes leadership of judgement if no other process holds it; gives the fencing token, or
    /// nothing while another process leads.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn lead_judgement(&self, me: Uuid) -> Result<Option<i64>, StoreError> {
        take(&self.judge, JUDGEMENT, me, LEADERSHIP).await
    }

    /// Renews leadership of judgement.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] when another process leads; [`StoreError::Database`].
    pub async fn renew_leadership(&self, token: i64) -> Result<(), StoreError> {
        renew_lease(&self.judge, token).await
    }

    /// Takes or extends the lease of a job for a time; false while another process holds it.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn take_lease(
        &self,
        job: &str,
        me: Uuid,
        lasts: Duration,
    ) -> Result<bool, StoreError> {
        Ok(take(&self.db, job, me, lasts).await?.is_some())
    }

    /// Gives up all leases of a process, so that its successor need not wait; those of all processes
    /// where none is named.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn release_leases(&self, of: Option<Uuid>) -> Result<(), StoreError> {
        let release = "UPDATE lease SET expires_at = '-infinity' \
             WHERE $1::uuid IS NULL OR holder = $1";
        self.judge.execute_raw(sql(release, [of.into()])).await?;
        Ok(())
    }
}

async fn take<C: ConnectionTrait>(
    db: &C,
    name: &str,
    me: Uuid,
    lasts: Duration,
) -> Result<Option<i64>, StoreError> {
    let take = "INSERT INTO lease (name, token, holder, expires_at) \
             VALUES ($1, 1, $2, now() + make_interval(secs => $3)) \
         ON CONFLICT (name) DO UPDATE SET token = lease.token + 1, holder = excluded.holder, \
                 expires_at = excluded.expires_at \
             WHERE lease.expires_at < now() OR lease.holder = excluded.holder \
         RETURNING token";
    let values = [name.into(), me.into(), lasts.as_secs_f64().into()];
    rows::value(db, take, values).await
}

/// Extends the lease of judgement; [`StoreError::Fenced`] when another process holds it.
pub(crate) async fn renew_lease<C: ConnectionTrait>(db: &C, token: i64) -> Result<(), StoreError> {
    let renew = "UPDATE lease SET expires_at = now() + make_interval(secs => $2) \
         WHERE name = $3 AND token = $1";
    let values = [token.into(), LEADERSHIP.as_secs_f64().into(), JUDGEMENT.into()];
    let renewed = db.execute_raw(sql(renew, values)).await?;
    if renewed.rows_affected() == 1 { Ok(()) } else { Err(StoreError::Fenced) }
}
