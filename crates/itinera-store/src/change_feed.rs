//! The change feed: hints for readers of live data, numbered without gaps in the order of commits.
//!
//! A transaction that adds an entry holds the head of the feed until it ends. So a reader that has
//! read one number has read all smaller ones. An entry says what to read again; it is not the data
//! itself, and it is deleted after an hour.

use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use time::OffsetDateTime;

/// What a change is about. Every reader of live data handles each of these.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::IntoStaticStr, strum::VariantArray,
)]
#[strum(serialize_all = "kebab-case")]
pub enum Topic {
    /// Paths have a newer judgement.
    Judged,
    /// An alarm was raised, has changed or cleared.
    Alarm,
    /// An event occurred, began, has changed or ended.
    Event,
    /// An incident has a new entry.
    Incident,
    /// A notice was made, composed, delivered or given up.
    Notice,
    /// A diagnosis has made progress.
    Diagnosis,
    /// A measurement of throughput has ended.
    Throughput,
    /// An entry of a topic that this version of the service does not know.
    Unknown,
}

impl Topic {
    /// The topic of a name in the change feed.
    fn of(name: &str) -> Self {
        name.parse().unwrap_or(Self::Unknown)
    }

    /// Its name in the change feed and in the live stream.
    pub fn name(self) -> &'static str {
        self.into()
    }
}

/// One entry of the change feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// Its number.
    pub no: i64,
    /// When it was committed, about.
    pub at: OffsetDateTime,
    /// Its topic.
    pub topic: Topic,
    /// What to read again.
    pub body: Json,
}

#[derive(FromQueryResult)]
struct Row {
    no: i64,
    at: OffsetDateTime,
    topic: String,
    body: Json,
}

impl From<Row> for Change {
    fn from(Row { no, at, topic, body }: Row) -> Self {
        Self { no, at, topic: Topic::of(&topic), body }
    }
}

/// What the feed holds after a number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Since {
    /// In order, without gaps.
    Changes(Vec<Change>),
    /// Some entries are deleted: read everything again, and follow from this number.
    Forgotten(i64),
}

/// Adds an entry in a transaction that ends soon.
pub(crate) async fn add<C: ConnectionTrait>(
    txn: &C,
    topic: Topic,
    body: Json,
) -> Result<(), StoreError> {
    let insert = "WITH head AS (UPDATE change_feed_head SET no = no + 1 RETURNING no) \
         INSERT INTO change_feed (no, at, topic, body) SELECT no, now(), $1, $2 FROM head";
    txn.execute_raw(sql(insert, [topic.name().into(), body.into()])).await?;
    Ok(())
}

impl Store {
    /// The number of the newest entry; 0 before the first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn last_change(&self) -> Result<i64, StoreError> {
        let no = rows::value(&self.db, "SELECT no FROM change_feed_head", []).await?;
        Ok(no.unwrap_or(0))
    }

    /// The entries after a number, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn changes_after(&self, no: i64, limit: i64) -> Result<Since, StoreError> {
        // The head first: an entry that is committed between both readings is then no gap.
        let head = self.last_change().await?;
        let select =
            "SELECT no, at, topic, body FROM change_feed WHERE no > $1 ORDER BY no LIMIT $2";
        let values = [no.into(), limit.into()];
        let changes = rows::all::<Row>(&self.db, select, values).await?;
        let changes: Vec<Change> = changes.into_iter().map(Change::from).collect();
        let follows = changes.first().map_or(head == no, |first| first.no == no + 1);
        // Else entries were deleted, or the reader is ahead of this database.
        Ok(if follows { Since::Changes(changes) } else { Since::Forgotten(head) })
    }

    /// Deletes entries older than an hour.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn forget_old_changes(&self) -> Result<(), StoreError> {
        let delete = "DELETE FROM change_feed WHERE at < now() - interval '1 hour'";
        self.db.execute_unprepared(delete).await?;
        Ok(())
    }
}
