//! Room for the rounds of coming days: one partition a day and table.
//!
//! A partition is made apart and then attached, which waits for no reader and no writer of the
//! table (PostgreSQL manual, ALTER TABLE, ATTACH PARTITION).

use crate::error::is_lock_timeout;
use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use std::collections::BTreeSet;
use std::ops::Range;
use time::{Date, Duration, OffsetDateTime};

/// Days for which there is room beside the present one.
const AHEAD: i64 = 7;
/// The tables of the log, which are partitioned by day of receipt.
pub(crate) const LOG_TABLES: [&str; 5] =
    [ROUND, "two_way_round", "pair_route", "check_round", "host_facts_round"];
/// Live rounds, and those of days that are over. A day's partition for these is made when the first of
/// them is written.
pub(crate) const ROUND: &str = "round";
pub(crate) const ROUND_BLOCK: &str = "round_block";
/// The tables of evidence, which are partitioned by day of measurement. Each has a partition for
/// times that no other holds.
pub(crate) const EVIDENCE: &str = "evidence";
pub(crate) const EVIDENCE_HOUR: &str = "evidence_hour";
const TABLES: [&str; 7] = [
    LOG_TABLES[0],
    LOG_TABLES[1],
    LOG_TABLES[2],
    LOG_TABLES[3],
    LOG_TABLES[4],
    EVIDENCE,
    EVIDENCE_HOUR,
];
/// How often a lock that others hold is tried for.
const TRIES: usize = 5;

/// Name of a table's partition of a day.
pub(crate) fn name_of(table: &str, day: Date) -> String {
    format!("{table}_{:04}{:02}{:02}", day.year(), u8::from(day.month()), day.day())
}

/// The day of a table's partition; absent for other names.
pub(crate) fn day_of(table: &str, partition: &str) -> Option<Date> {
    let digits = partition.strip_prefix(table)?.strip_prefix('_')?;
    let number = |range: Range<usize>| digits.get(range)?.parse::<u16>().ok();
    let month = u8::try_from(number(4..6)?).ok()?.try_into().ok()?;
    let day = u8::try_from(number(6..8)?).ok()?;
    let day = Date::from_calendar_date(number(0..4)?.into(), month, day).ok()?;
    (name_of(table, day) == partition).then_some(day)
}

impl Store {
    /// Makes the partitions for the day of `now` and the week after it (UTC), or later where the clock
    /// of the log is ahead, so that no round waits for one.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn make_partitions(&self, now: OffsetDateTime) -> Result<(), StoreError> {
        self.make_partitions_from(self.log_day(now).await?).await
    }

    /// The day of a commit that is received now: the log's own clock may be ahead.
    pub(crate) async fn log_day(&self, now: OffsetDateTime) -> Result<Date, StoreError> {
        let select = "SELECT greatest(last_received_at, $1) FROM meta";
        let at: Option<OffsetDateTime> = rows::value(&self.db, select, [now.into()]).await?;
        Ok(at.unwrap_or(now).date())
    }

    pub(crate) async fn make_partitions_from(&self, first: Date) -> Result<(), StoreError> {
        let select = "SELECT relname FROM pg_class WHERE relname ~ '_[0-9]{8}$' AND relispartition";
        let names: Vec<String> = rows::column(&self.db, select, []).await?;
        let there: BTreeSet<String> = names.into_iter().collect();
        for day in (0..=AHEAD).filter_map(|ahead| first.checked_add(Duration::days(ahead))) {
            for table in TABLES {
                let partition = name_of(table, day);
                if !there.contains(&partition) {
                    self.make_partition(table, &partition, day).await?;
                }
            }
        }
        Ok(())
    }

    /// Makes the partition of a table for a day where it is not there.
    pub(crate) async fn make_partition(
        &self,
        table: &str,
        name: &str,
        day: Date,
    ) -> Result<(), StoreError> {
        let Some(next) = day.checked_add(Duration::days(1)) else { return Ok(()) };
        let mut tried = 0;
        loop {
            tried += 1;
            let made = async {
                let txn = self.db.begin().await?;
                // Two services may make it at one time.
                let one_at_a_time = "SET LOCAL lock_timeout = '2s'; \
                     SELECT pg_advisory_xact_lock(hashtext('partition'))";
                txn.execute_unprepared(one_at_a_time).await?;
                let select = sql("SELECT to_regclass($1) IS NULL", [name.into()]);
                let row = txn.query_one_raw(select).await?;
                if row.is_some_and(|row| row.try_get_by_index(0).unwrap_or(false)) {
                    let moved = match table {
                        EVIDENCE | EVIDENCE_HOUR => format!(
                            "WITH moved AS (DELETE FROM {table}_default \
                                 WHERE start_at >= '{day} 00:00:00+00' \
                                     AND start_at < '{next} 00:00:00+00' RETURNING *) \
                             INSERT INTO {name} SELECT * FROM moved;"
                        ),
                        _ => String::new(),
                    };
                    let statements = format!(
                        "CREATE TABLE {name} (LIKE {table} INCLUDING DEFAULTS INCLUDING CONSTRAINTS \
                             INCLUDING STORAGE); \
                         {moved} ALTER TABLE {table} ATTACH PARTITION {name} \
                             FOR VALUES FROM ('{day} 00:00:00+00') TO ('{next} 00:00:00+00')"
                    );
                    txn.execute_unprepared(&statements).await?;
                }
                txn.commit().await
            };
            match made.await {
                Err(error) if is_lock_timeout(&error) && tried < TRIES => {}
                made => return Ok(made?),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use time::Month;

    #[test]
    fn a_partition_has_the_day_of_its_name() {
        let day = Date::from_calendar_date(2026, Month::March, 9).unwrap();
        assert_eq!(day_of("round", &name_of("round", day)), Some(day));
        assert_eq!(day_of("round", &name_of("two_way_round", day)), None);
        for other in
            ["round", "round_2026030", "round_20261309", "round_20260230", "round_202603091"]
        {
            assert_eq!(day_of("round", other), None, "{other}");
        }
    }
}
