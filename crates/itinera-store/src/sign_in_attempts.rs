//! How often a name was tried at sign-in, for all processes of the installation.

use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::{ConnectionTrait, TransactionTrait};

/// Attempts for one name before it has to wait, and the time in seconds that they are counted for.
const ATTEMPTS: i64 = 8;
const COUNTED_S: f64 = 300.0;

impl Store {
    /// Counts an attempt to sign in by a name, given as its SHA-256, before its password is looked
    /// at. Gives the seconds to wait where there were too many; the attempt is not counted then.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn count_sign_in(&self, name: [u8; 32]) -> Result<Option<u64>, StoreError> {
        let txn = self.db.begin().await?;
        // Attempts at one time are counted one after the other.
        let lock =
            "SELECT pg_advisory_xact_lock(hashtextextended('sign-in ' || encode($1, 'hex'), 0))";
        txn.execute_raw(sql(lock, [name.to_vec().into()])).await?;
        let forget = "DELETE FROM sign_in_attempt WHERE at < now() - make_interval(secs => $1)";
        txn.execute_raw(sql(forget, [COUNTED_S.into()])).await?;
        let select = "SELECT ceil(extract(epoch FROM min(at) - now()) + $2)::bigint \
             FROM sign_in_attempt WHERE name_sha256 = $1 HAVING count(*) >= $3";
        let values = [name.to_vec().into(), COUNTED_S.into(), ATTEMPTS.into()];
        let wait: Option<i64> = rows::value(&txn, select, values).await?;
        if wait.is_none() {
            let insert = "INSERT INTO sign_in_attempt (name_sha256, at) VALUES ($1, now())";
            txn.execute_raw(sql(insert, [name.to_vec().into()])).await?;
        }
        txn.commit().await?;
        Ok(wait.map(|wait| u64::try_from(wait).unwrap_or(0).max(1)))
    }

    /// Forgets the attempts by a name after a right password.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn forget_sign_ins(&self, name: [u8; 32]) -> Result<(), StoreError> {
        let forget = "DELETE FROM sign_in_attempt WHERE name_sha256 = $1";
        self.db.execute_raw(sql(forget, [name.to_vec().into()])).await?;
        Ok(())
    }
}
