//! The version of the schedule, which agents follow.

use crate::StoreError;
use crate::statement::sql;
use sea_orm::{ConnectionTrait, DatabaseTransaction};

/// Makes the schedule a new version, since what it says to agents is another now. Nothing before
/// the first.
pub(crate) async fn renew_schedule(txn: &DatabaseTransaction) -> Result<Option<u64>, StoreError> {
    let renew = "INSERT INTO schedule (body, valid_from) SELECT body, now() FROM schedule \
         ORDER BY version DESC LIMIT 1 RETURNING version";
    let row = txn.query_one_raw(sql(renew, [])).await?;
    let version = row.map(|row| row.try_get::<i64>("", "version")).transpose()?;
    Ok(version.map(i64::cast_unsigned))
}
