//! Commits that judgement fails on: left out, kept with the error, tried again on demand.

use crate::statement::sql;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, TransactionTrait};
use time::OffsetDateTime;

/// A commit that is set aside.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct SetAsideRecord {
    /// Its number in the log.
    pub commit_no: i64,
    /// When it was set aside, or tried again in vain.
    pub at: OffsetDateTime,
    /// The site of the agent that sent it; other words where the service wrote it.
    pub site: String,
    /// Rounds in it.
    pub rounds: i32,
    /// Why.
    pub error: String,
    /// It is about to be tried again.
    pub retry: bool,
}

/// Commits shown at most.
const SHOWN: i64 = 500;
/// Bytes of an error that are kept.
const MAX_ERROR: usize = 2_000;

fn kept(error: &str) -> &str {
    &error[..error.floor_char_boundary(MAX_ERROR)]
}

impl Store {
    /// Sets a commit aside and moves judgement past it.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] when another process leads or has moved on; [`StoreError::Database`].
    pub async fn set_commit_aside(
        &self,
        token: i64,
        commit_no: i64,
        engine: u16,
        error: &str,
    ) -> Result<(), StoreError> {
        let txn = self.judge.begin().await?;
        crate::lease::renew_lease(&txn, token).await?;
        let insert = "INSERT INTO set_aside (commit_no, at, engine, error) \
             VALUES ($1, now(), $2, $3)";
        let values = [commit_no.into(), i32::from(engine).into(), kept(error).into()];
        txn.execute_raw(sql(insert, values)).await?;
        // Before the first judgement there is no row: engine 0 remembers nothing.
        let insert = "INSERT INTO judge (cursor, engine, book, events) SELECT 1, 0, '', '' \
             WHERE $1 = 1 ON CONFLICT (one_row) DO NOTHING";
        let first = txn.execute_raw(sql(insert, [commit_no.into()])).await?.rows_affected();
        let update = "UPDATE judge SET cursor = $1 WHERE cursor = $1 - 1";
        let moved = txn.execute_raw(sql(update, [commit_no.into()])).await?.rows_affected();
        if first + moved != 1 {
            return Err(StoreError::Fenced);
        }
        txn.commit().await?;
        Ok(())
    }

    /// The commits that are set aside, the newest first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn commits_set_aside(&self) -> Result<Vec<SetAsideRecord>, StoreError> {
        let select = "SELECT x.commit_no, x.at, x.error, x.retry, \
                 coalesce(s.name, 'clock of the log') AS site, coalesce(b.rounds, 0) AS rounds \
             FROM set_aside x LEFT JOIN batch b ON b.commit_no = x.commit_no \
                 LEFT JOIN agent a ON a.no = b.agent_no LEFT JOIN site s ON s.id = a.site_id \
             ORDER BY x.commit_no DESC LIMIT $1";
        rows::all(&self.db, select, [SHOWN.into()]).await
    }

    /// Has a commit judged again; false where none of this number is set aside.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn retry_commit(&self, commit_no: i64, user: &str) -> Result<bool, StoreError> {
        let txn = self.db.begin().await?;
        let update = "UPDATE set_aside SET retry = true WHERE commit_no = $1";
        let known = txn.execute_raw(sql(update, [commit_no.into()])).await?.rows_affected() > 0;
        if known {
            let (action, object) = (Action::CommitRetried, commit_no.to_string());
            let detail = serde_json::json!({});
            audit(&txn, &Audited { user, action, object: &object, detail }).await?;
        }
        txn.commit().await?;
        Ok(known)
    }

    /// The next commit that is to be tried again.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn commit_to_retry(&self) -> Result<Option<i64>, StoreError> {
        let select = "SELECT commit_no FROM set_aside WHERE retry ORDER BY commit_no LIMIT 1";
        rows::value(&self.judge, select, []).await
    }

    /// Notes that a commit failed again.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn retry_failed(&self, commit_no: i64, error: &str) -> Result<(), StoreError> {
        let update = "UPDATE set_aside SET retry = false, at = now(), error = $2 \
             WHERE commit_no = $1";
        let values = [commit_no.into(), kept(error).into()];
        self.judge.execute_raw(sql(update, values)).await?;
        Ok(())
    }
}

/// A commit has been judged after all.
pub(crate) async fn judged(txn: &DatabaseTransaction, commit_no: i64) -> Result<(), StoreError> {
    let delete = sql("DELETE FROM set_aside WHERE commit_no = $1", [commit_no.into()]);
    txn.execute_raw(delete).await?;
    Ok(())
}
