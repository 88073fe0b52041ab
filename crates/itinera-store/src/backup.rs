//! What a backup needs to know of a database, and what a restored database needs before it is used.

use crate::migration::Migrator;
use crate::schedule_version::renew_schedule;
use crate::statement::sql;
use crate::{Store, StoreError, connect, rows};
use sea_orm::{ConnectionTrait, DatabaseConnection, TransactionTrait};
use sea_orm_migration::MigratorTrait;

/// Agents wait for a version of the schedule above the one they know. The database that is lost may
/// have given them versions after the backup: the next one is that much higher.
const VERSIONS_AHEAD: i64 = 1_000_000;

/// Migrations that this program knows, in order.
pub fn known_migrations() -> Vec<String> {
    Migrator::migrations().iter().map(|step| step.name().to_owned()).collect()
}

/// Migrations that a database has, in order; none where it is not a database of Itinera. The schema
/// stays as it is.
///
/// # Errors
/// [`StoreError::Database`] when the database is away or refuses.
pub async fn applied_migrations(url: &str) -> Result<Vec<String>, StoreError> {
    let db = connect(url, 1, true).await?;
    let applied = applied(&db).await;
    db.close().await?;
    applied
}

async fn applied(db: &DatabaseConnection) -> Result<Vec<String>, StoreError> {
    let exists = "SELECT to_regclass('seaql_migrations') IS NOT NULL";
    if rows::value::<bool>(db, exists, []).await? != Some(true) {
        return Ok(Vec::new());
    }
    rows::column(db, "SELECT version FROM seaql_migrations ORDER BY version", []).await
}

/// True where a database has no table of any kind.
///
/// # Errors
/// [`StoreError::Database`] when the database is away or refuses.
pub async fn is_empty(url: &str) -> Result<bool, StoreError> {
    let db = connect(url, 1, true).await?;
    let tables = "SELECT count(*) FROM pg_tables \
         WHERE schemaname NOT IN ('pg_catalog', 'information_schema')";
    let tables = rows::value::<i64>(&db, tables, []).await;
    db.close().await?;
    Ok(tables? == Some(0))
}

impl Store {
    /// Prepares a restored database for service: the schedule gets a version above all that agents
    /// may know.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn begin_after_restore(&self) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let ahead = "SELECT setval(pg_get_serial_sequence('schedule', 'version'), \
             (SELECT coalesce(max(version), 0) + $1 FROM schedule))";
        txn.query_one_raw(sql(ahead, [VERSIONS_AHEAD.into()])).await?;
        renew_schedule(&txn).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Ends the connections.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn close(self) -> Result<(), StoreError> {
        for connections in [self.db, self.ingest, self.judge] {
            connections.close().await?;
        }
        Ok(())
    }
}
