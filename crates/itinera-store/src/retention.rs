//! Retention: what is old enough is deleted, by whole partitions where there are some.
//!
//! Incidents, alarms, the audit and what users configure are kept for ever. The log is deleted day by
//! day, after it has been judged; a recomputation then begins with the state of the first day that is
//! kept ([`Store::opening_memory`]).

use crate::error::is_lock_timeout;
use crate::partitions::{EVIDENCE, EVIDENCE_HOUR, LOG_TABLES, ROUND_BLOCK, day_of};
use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::FromQueryResult;
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use time::{Date, Duration, OffsetDateTime, Time};

/// Seconds of a window of judgement.
const WINDOW_S: i64 = 10;
/// Rows deleted in one statement at most, so that none of them is long.
const AT_ONCE: i64 = 10_000;
/// Days of the log deleted at once: a clock that is wrong for an hour deletes no more.
const DAYS_AT_ONCE: Duration = Duration::days(2);
/// Contents that rounds refer to; rollups refer to routes too.
const CONTENTS: [&str; 3] = ["flow", "resolution", "reading"];
/// Sizes are recorded this often at most, and kept for so many days.
const SIZE_EVERY: Duration = Duration::minutes(50);
const SIZES_KEPT: Duration = Duration::days(400);
/// Growth is estimated over the last days.
const GROWTH_OVER: Duration = Duration::days(7);
/// Growth over less than this says nothing.
const LEAST_GROWTH_OVER: Duration = Duration::hours(6);

/// For how many days measurements are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retention {
    /// Rounds, host facts and results of checks, with the log of their batches.
    pub rounds_days: u16,
    /// Evidence and findings of paths, rollups of five minutes, and events that belong to no incident.
    pub findings_days: u16,
    /// Rollups of hours and days.
    pub rollups_days: u16,
}

impl Default for Retention {
    fn default() -> Self {
        Self { rounds_days: 14, findings_days: 90, rollups_days: 400 }
    }
}

/// What was deleted.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Deleted {
    /// Names of the partitions.
    pub partitions: Vec<String>,
    /// Partitions that a long statement reads, to be dropped later.
    pub in_use: Vec<String>,
    /// Rows of other tables.
    pub rows: u64,
}

/// Size of a part of the database.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct TableSize {
    /// Name of the table; its partitions count with it.
    pub name: String,
    /// Bytes with indexes.
    pub bytes: i64,
}

/// Size of the database.
#[derive(Debug, Clone, PartialEq)]
pub struct DatabaseSize {
    /// Bytes of all of it.
    pub bytes: i64,
    /// Its tables, the largest first.
    pub tables: Vec<TableSize>,
    /// Bytes a day by which it grows; absent before it is known.
    pub growth_per_day: Option<i64>,
}

#[derive(FromQueryResult)]
struct SizeRow {
    at: OffsetDateTime,
    bytes: i64,
}

impl Store {
    /// Deletes what is older than is kept, of the log two days at once. Commits that are not judged
    /// yet stay.
    ///
    /// # Errors
    /// [`StoreError::Database`]. What was deleted before stays so; the next call continues.
    pub async fn apply_retention(
        &self,
        keep: Retention,
        now: OffsetDateTime,
    ) -> Result<Deleted, StoreError> {
        // A log that is ahead of the clock was written under a wrong one.
        let today = self.log_day(now).await?.min(now.date());
        let before = |days: u16| {
            let first = today.checked_sub(Duration::days(days.into())).unwrap_or(Date::MIN);
            first.with_time(Time::MIDNIGHT).assume_utc()
        };
        let mut deleted = Deleted::default();
        let log: Vec<&str> = LOG_TABLES.into_iter().chain([ROUND_BLOCK]).collect();
        let partitions = self.partitions(&log).await?;
        let oldest = partitions.iter().map(|(_, day)| *day).min();
        let rounds_before = self.judged_before(before(keep.rounds_days)).await?;
        let rounds_before = oldest.map_or(rounds_before, |oldest| {
            let few = oldest.saturating_add(DAYS_AT_ONCE).with_time(Time::MIDNIGHT).assume_utc();
            few.min(rounds_before)
        });
        self.drop_partitions(partitions, rounds_before, &mut deleted).await?;
        let day = rounds_before.date();
        let statement = "DELETE FROM round_compaction WHERE day < $1";
        deleted.rows += self.delete(statement, [day.into()]).await?;
        // The opening state of the first day that is kept stays.
        deleted.rows +=
            self.delete("DELETE FROM opening_state WHERE day < $1", [day.into()]).await?;
        let statement = "DELETE FROM set_aside WHERE commit_no IN \
             (SELECT commit_no FROM batch WHERE received_at < $1 \
             UNION ALL SELECT commit_no FROM log_clock WHERE received_at < $1)";
        deleted.rows += self.delete(statement, [rounds_before.into()]).await?;
        for table in ["batch", "log_clock"] {
            deleted.rows += self.delete_in_parts(table, "received_at < $1", rounds_before).await?;
        }
        for table in CONTENTS {
            deleted.rows += self.delete_in_parts(table, "used_on < $1::date", day).await?;
        }
        let findings_before = before(keep.findings_days);
        let evidence = self.partitions(&[EVIDENCE, EVIDENCE_HOUR]).await?;
        self.drop_partitions(evidence, findings_before, &mut deleted).await?;
        for table in ["evidence_default", "evidence_hour_default"] {
            deleted.rows += self.delete_in_parts(table, "start_at < $1", findings_before).await?;
        }
        let window = findings_before.unix_timestamp() / WINDOW_S;
        deleted.rows += self.delete_in_parts("finding", "window_no < $1", window).await?;
        let fine = "span_s = 300 AND start_at < $1";
        deleted.rows += self.delete_in_parts("rollup", fine, findings_before).await?;
        let rollups_before = before(keep.rollups_days);
        deleted.rows += self.delete_in_parts("rollup", "start_at < $1", rollups_before).await?;
        let routes = "used_on < $1::date";
        let before = rounds_before.min(rollups_before).date();
        deleted.rows += self.delete_in_parts("route", routes, before).await?;
        let over = "class = 'event' AND incident_id IS NULL AND cleared_at < $1";
        deleted.rows += self.delete_in_parts("alarm", over, findings_before).await?;
        Ok(deleted)
    }

    /// A time, or the day of the first commit that no checkpoint knows, or that is not summed up
    /// yet, where that is earlier.
    pub(crate) async fn judged_before(
        &self,
        time: OffsetDateTime,
    ) -> Result<OffsetDateTime, StoreError> {
        let select = "WITH done AS (SELECT (SELECT checkpoint FROM judge) AS judged, \
                 (SELECT commit_no FROM rollup_cursor) AS summed) \
             SELECT min(received_at) FROM ( \
                 SELECT received_at FROM batch, done WHERE commit_no > least(judged, summed) \
             UNION ALL SELECT received_at FROM log_clock, done WHERE commit_no > judged) t";
        let unjudged: Option<Option<OffsetDateTime>> = rows::value(&self.db, select, []).await?;
        let day = |at: OffsetDateTime| at.date().with_time(Time::MIDNIGHT).assume_utc();
        Ok(unjudged.flatten().map_or(time, |at| time.min(day(at))))
    }

    async fn drop_partitions(
        &self,
        partitions: Vec<(String, Date)>,
        before: OffsetDateTime,
        deleted: &mut Deleted,
    ) -> Result<(), StoreError> {
        for (name, day) in partitions {
            if day >= before.date() {
                continue;
            }
            let dropped = async {
                let txn = self.db.begin().await?;
                // It waits for readers of the whole table, and others wait for it meanwhile.
                txn.execute_unprepared("SET LOCAL lock_timeout = '2s'").await?;
                txn.execute_unprepared(&format!("DROP TABLE IF EXISTS {name}")).await?;
                txn.commit().await
            };
            match dropped.await {
                // The next call tries again.
                Err(error) if is_lock_timeout(&error) => deleted.in_use.push(name),
                dropped => {
                    dropped?;
                    deleted.partitions.push(name);
                }
            }
        }
        Ok(())
    }

    /// The daily partitions of some tables, with their days.
    async fn partitions(&self, tables: &[&str]) -> Result<Vec<(String, Date)>, StoreError> {
        let select = "SELECT relname FROM pg_class WHERE relname ~ '_[0-9]{8}$' AND relispartition \
             ORDER BY relname";
        let names: Vec<String> = rows::column(&self.db, select, []).await?;
        let known = names.into_iter().filter_map(|name| {
            let day = tables.iter().find_map(|table| day_of(table, &name))?;
            Some((name, day))
        });
        Ok(known.collect())
    }

    async fn delete(
        &self,
        statement: &str,
        values: impl IntoIterator<Item = Value>,
    ) -> Result<u64, StoreError> {
        Ok(self.db.execute_raw(sql(statement, values)).await?.rows_affected())
    }

    async fn delete_in_parts(
        &self,
        table: &str,
        condition: &str,
        value: impl Into<Value> + Clone,
    ) -> Result<u64, StoreError> {
        let statement = format!(
            "DELETE FROM {table} WHERE ctid = ANY(ARRAY( \
                 SELECT ctid FROM {table} WHERE {condition} LIMIT $2)) AND {condition}"
        );
        let mut deleted = 0;
        loop {
            let part = self.delete(&statement, [value.clone().into(), AT_ONCE.into()]).await?;
            deleted += part;
            if part == 0 {
                return Ok(deleted);
            }
        }
    }

    /// Records the size of the database, once an hour.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn record_size(&self, now: OffsetDateTime) -> Result<(), StoreError> {
        let insert = "INSERT INTO database_size (at, bytes) \
             SELECT $1, pg_database_size(current_database()) \
             WHERE NOT EXISTS (SELECT FROM database_size WHERE at > $2) ON CONFLICT DO NOTHING";
        self.delete(insert, [now.into(), (now - SIZE_EVERY).into()]).await?;
        let delete = "DELETE FROM database_size WHERE at < $1";
        self.delete(delete, [(now - SIZES_KEPT).into()]).await?;
        Ok(())
    }

    /// The bytes that the database takes on its disk.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn database_bytes(&self) -> Result<i64, StoreError> {
        let select = "SELECT pg_database_size(current_database())";
        Ok(rows::value(&self.db, select, []).await?.unwrap_or(0))
    }

    /// The size of the database, and how fast it has grown in the last week.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn database_size(&self, now: OffsetDateTime) -> Result<DatabaseSize, StoreError> {
        let bytes = self.database_bytes().await?;
        let select = "SELECT regexp_replace(relname, '_([0-9]{8}|default)$', '') AS name, \
                 sum(pg_total_relation_size(oid))::bigint AS bytes \
             FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace \
             GROUP BY 1 ORDER BY 2 DESC, 1";
        let tables = rows::all(&self.db, select, []).await?;
        let select = "SELECT at, bytes FROM database_size WHERE at >= $1 ORDER BY at LIMIT 1";
        let first: Option<SizeRow> =
            rows::first(&self.db, select, [(now - GROWTH_OVER).into()]).await?;
        let growth_per_day = first.and_then(|first| growth(first.bytes, bytes, now - first.at));
        Ok(DatabaseSize { bytes, tables, growth_per_day })
    }
}

/// Bytes a day; absent after too short a time.
fn growth(before: i64, after: i64, over: Duration) -> Option<i64> {
    let seconds = i128::from(over.whole_seconds());
    let long_enough = over >= LEAST_GROWTH_OVER;
    let a_day = || i128::from(after - before) * 86_400 / seconds;
    long_enough.then(|| i64::try_from(a_day()).unwrap_or(i64::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn growth_is_given_for_a_day_and_not_after_minutes() {
        assert_eq!(growth(1_000, 3_000, Duration::hours(12)), Some(4_000));
        assert_eq!(growth(3_000, 1_000, Duration::hours(48)), Some(-1_000));
        assert_eq!(growth(0, 1 << 40, Duration::minutes(30)), None);
    }
}
