//! News for those who look, numbered without gaps in the order of commits.
//!
//! Whoever adds news holds the head of the outbox until its transaction ends, so that a reader
//! who has seen a number has seen all before it. News is a hint to look again, not the record:
//! it is forgotten after an hour.

use crate::statement::sql;
use crate::{Store, StoreError};
use sea_orm::entity::prelude::*;
use time::OffsetDateTime;

/// What news can be about. Everything that shows live data knows each of these.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Topic {
    /// Paths have a newer judgement.
    Judged,
    /// An alarm was raised, has changed or cleared.
    Alarm,
    /// An event happened, began, has changed or ended.
    Event,
    /// Something was added to an incident.
    Incident,
    /// A look outward has come further.
    Outward,
    /// A measurement of throughput has ended.
    Throughput,
}

impl Topic {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Judged, Self::Alarm, Self::Event, Self::Incident, Self::Outward, Self::Throughput];

    /// Its name in the change feed.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Judged => "judged",
            Self::Alarm => "alarm",
            Self::Event => "event",
            Self::Incident => "incident",
            Self::Outward => "outward",
            Self::Throughput => "throughput",
        }
    }
}

/// One piece of news.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct News {
    /// Its number.
    pub no: i64,
    /// When it was committed, about.
    pub at: OffsetDateTime,
    /// What it is about.
    pub topic: String,
    /// What to look at again.
    pub body: Json,
}

/// News since a number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Since {
    /// In order, without gaps.
    News(Vec<News>),
    /// Some was forgotten already: look at everything again, from this number on.
    Forgotten(i64),
}

/// Adds news in a transaction that ends soon.
pub(crate) async fn say<C: ConnectionTrait>(
    txn: &C,
    topic: Topic,
    body: Json,
) -> Result<(), StoreError> {
    let insert = "WITH head AS (UPDATE outbox_head SET no = no + 1 RETURNING no) \
         INSERT INTO outbox (no, at, topic, body) SELECT no, now(), $1, $2 FROM head";
    txn.execute_raw(sql(insert, [topic.word().into(), body.into()])).await?;
    Ok(())
}

impl Store {
    /// The number of the newest news; 0 before the first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn news_head(&self) -> Result<i64, StoreError> {
        let row = self.db.query_one_raw(sql("SELECT no FROM outbox_head", [])).await?;
        row.map_or(Ok(0), |row| Ok(row.try_get("", "no")?))
    }

    /// The news after a number, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn news_after(&self, no: i64, limit: i64) -> Result<Since, StoreError> {
        let select = "SELECT no, at, topic, body FROM outbox WHERE no > $1 ORDER BY no LIMIT $2";
        let rows = self.db.query_all_raw(sql(select, [no.into(), limit.into()])).await?;
        let news = rows.iter().map(|row| -> Result<News, StoreError> {
            Ok(News {
                no: row.try_get("", "no")?,
                at: row.try_get("", "at")?,
                topic: row.try_get("", "topic")?,
                body: row.try_get("", "body")?,
            })
        });
        let news = news.collect::<Result<Vec<_>, _>>()?;
        let head = match news.first() {
            Some(first) if first.no == no + 1 => return Ok(Since::News(news)),
            _ => self.news_head().await?,
        };
        // Nothing new, unless what was new is forgotten, or the reader is ahead of this record.
        Ok(if news.is_empty() && head == no { Since::News(news) } else { Since::Forgotten(head) })
    }

    /// Forgets news older than an hour.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn forget_old_news(&self) -> Result<(), StoreError> {
        let delete = "DELETE FROM outbox WHERE at < now() - interval '1 hour'";
        self.db.execute_unprepared(delete).await?;
        Ok(())
    }
}
