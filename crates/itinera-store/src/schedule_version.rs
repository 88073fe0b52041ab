//! The version of the schedule, which agents follow.

use crate::{StoreError, rows};
use sea_orm::DatabaseTransaction;

/// Makes the schedule a new version, since what it says to agents is another now. Nothing before
/// the first.
pub(crate) async fn renew_schedule(txn: &DatabaseTransaction) -> Result<Option<u64>, StoreError> {
    let renew = "INSERT INTO schedule (body, valid_from) SELECT body, now() FROM schedule \
         ORDER BY version DESC LIMIT 1 RETURNING version";
    let version: Option<i64> = rows::value(txn, renew, []).await?;
    Ok(version.map(i64::cast_unsigned))
}
