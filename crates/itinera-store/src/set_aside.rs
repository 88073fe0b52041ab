//! Commits that judgement fails on: left out, kept with the error, tried again on demand.

use crate::ingest::hold_head;
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
    /// Sets a commit aside and moves judgement past it. Where it was one that is tried again, that
    /// one stays set aside.
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
        // What is left of a vain try is the time at which it was made.
        let update = "UPDATE log_clock l SET retries = NULL \
             FROM (SELECT retries FROM log_clock WHERE commit_no = $1) o \
             WHERE l.commit_no = $1 AND o.retries IS NOT NULL RETURNING o.retries";
        let retried: Option<i64> = rows::value(&txn, update, [commit_no.into()]).await?;
        if let Some(retried) = retried {
            let update = "UPDATE set_aside SET retry = false, at = now(), engine = $2, error = $3 \
                 WHERE commit_no = $1";
            let values = [retried.into(), i32::from(engine).into(), kept(error).into()];
            txn.execute_raw(sql(update, values)).await?;
        } else {
            let insert = "INSERT INTO set_aside (commit_no, at, engine, error) \
                 VALUES ($1, now(), $2, $3)";
            let values = [commit_no.into(), i32::from(engine).into(), kept(error).into()];
            txn.execute_raw(sql(insert, values)).await?;
            // It may have been judged before, and be judged again from a checkpoint.
            let update = "UPDATE judge SET cursor = greatest(cursor, $1) WHERE cursor >= $1 - 1";
            let moved = txn.execute_raw(sql(update, [commit_no.into()])).await?.rows_affected();
            if moved != 1 {
                return Err(StoreError::Fenced);
            }
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

    /// Has a commit judged again, as a new entry of the log at a time of the clock; false where none
    /// of this number is set aside.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn retry_commit(
        &self,
        commit_no: i64,
        user: &str,
        now: OffsetDateTime,
    ) -> Result<bool, StoreError> {
        let txn = self.db.begin().await?;
        let lock = "SELECT retry FROM set_aside WHERE commit_no = $1 FOR UPDATE";
        let known: Option<bool> = rows::value(&txn, lock, [commit_no.into()]).await?;
        if known == Some(false) {
            let update = "UPDATE set_aside SET retry = true WHERE commit_no = $1";
            txn.execute_raw(sql(update, [commit_no.into()])).await?;
            let (action, object) = (Action::CommitRetried, commit_no.to_string());
            let detail = serde_json::json!({});
            audit(&txn, &Audited { user, action, object: &object, detail }).await?;
            let (entry_no, received_at) = hold_head(&txn, now).await?;
            let insert = "INSERT INTO log_clock (commit_no, received_at, clock_at, retries) \
                 VALUES ($1, $2, $3, $4)";
            let values = [entry_no.into(), received_at.into(), now.into(), commit_no.into()];
            txn.execute_raw(sql(insert, values)).await?;
        }
        txn.commit().await?;
        Ok(known.is_some())
    }
}

/// Commits that were tried again by entries of this span, from one cursor to another, have been
/// judged after all.
pub(crate) async fn judged(
    txn: &DatabaseTransaction,
    (from, to): (i64, i64),
) -> Result<(), StoreError> {
    let delete = "DELETE FROM set_aside x USING log_clock l \
         WHERE l.retries = x.commit_no AND l.commit_no > $1 AND l.commit_no <= $2";
    txn.execute_raw(sql(delete, [from.into(), to.into()])).await?;
    Ok(())
}
