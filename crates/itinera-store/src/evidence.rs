//! Evidence: what each path showed by the minute, and after a day by the minute in rows of an hour.
//!
//! Contents are judgement's own; here they are compressed, kept by day, and replaced by their sums.

use crate::packing::Packing;
use crate::partitions::{EVIDENCE, day_of, name_of};
use crate::statement::sql;
use crate::times::offset;
use crate::{Store, StoreError, packing, rows};
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{AccessMode, DatabaseTransaction, FromQueryResult, IsolationLevel, TransactionTrait};
use time::{Date, Duration, OffsetDateTime};

/// Evidence stays as it was published for so long after the end of its day.
const FINE_FOR: Duration = Duration::days(1);
/// Sums are written once and read rarely.
const HOUR_LEVEL: i32 = 15;

/// Evidence of a path as judgement published it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EvidenceWrite {
    /// The path.
    pub path: PathId,
    /// Number of the minute since 1970.
    pub minute: i64,
    /// Absent for the whole minute, else the number of a part that is added to it.
    pub part: Option<i64>,
    /// What is recorded; absent where that is to be deleted.
    pub content: Option<Vec<u8>>,
}

/// Evidence of a path as it is recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EvidenceRow {
    /// Number of the path.
    pub path_no: i32,
    /// Where the minute or the hour begins.
    pub start_at: OffsetDateTime,
    /// What judgement published, or the sum that it was replaced by.
    pub content: Vec<u8>,
}

/// Evidence of a path over some time.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct EvidenceRange {
    /// By the minute; a minute may have several rows.
    pub minutes: Vec<EvidenceRow>,
    /// By the hour.
    pub hours: Vec<EvidenceRow>,
}

/// A day of which the evidence is to be summed up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EvidenceDay {
    /// The day.
    pub day: Date,
    /// The last path that is summed up already.
    pub path_no: i32,
    /// The rows read for that.
    rows: i64,
}

/// Evidence that came after that of its time was summed up.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LateEvidence {
    /// By the minute.
    pub minutes: Vec<EvidenceRow>,
    /// The sums of the hours that it belongs to, where there are some.
    pub hours: Vec<EvidenceRow>,
    keys: Vec<(i32, OffsetDateTime, i64)>,
}

#[derive(FromQueryResult)]
struct Row {
    path_no: i32,
    start_at: OffsetDateTime,
    content: Vec<u8>,
}

#[derive(FromQueryResult)]
struct PartRow {
    path_no: i32,
    start_at: OffsetDateTime,
    part: i64,
    content: Vec<u8>,
}

#[derive(FromQueryResult)]
struct MergeRow {
    path_no: i32,
    rows: i64,
}

fn unpacked(rows: Vec<Row>) -> Result<Vec<EvidenceRow>, StoreError> {
    let mut unpacking = packing::Unpacking::new()?;
    let unpacked = |row: Row| {
        let content = unpacking.octets(&row.content)?;
        Ok(EvidenceRow { path_no: row.path_no, start_at: row.start_at, content })
    };
    rows.into_iter().map(unpacked).collect()
}

fn midnight(day: Date) -> OffsetDateTime {
    day.midnight().assume_utc()
}

/// Records what judgement published. Of several words on one minute only the last may be given.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    evidence: &[EvidenceWrite],
) -> Result<(), StoreError> {
    if evidence.is_empty() {
        return Ok(());
    }
    let mut packing = Packing::new()?;
    let start =
        |it: &EvidenceWrite| offset(WallTime::from_unix_seconds(it.minute.saturating_mul(60)));
    let keys = |of: &[&EvidenceWrite]| -> [Value; 3] {
        [
            of.iter().map(|it| it.path.as_uuid()).collect::<Vec<_>>().into(),
            of.iter().map(|it| start(it)).collect::<Vec<_>>().into(),
            of.iter().map(|it| it.part.unwrap_or(0)).collect::<Vec<_>>().into(),
        ]
    };
    let (there, gone): (Vec<_>, Vec<_>) = evidence.iter().partition(|it| it.content.is_some());
    if !gone.is_empty() {
        let delete = "DELETE FROM evidence e USING path p, \
                 unnest($1::uuid[], $2::timestamptz[], $3::bigint[]) AS d(path_id, start_at, part) \
             WHERE p.id = d.path_id AND e.path_no = p.no AND e.start_at = d.start_at \
                 AND e.part = d.part";
        txn.execute_raw(sql(delete, keys(&gone))).await?;
    }
    let contents = there.iter().filter_map(|it| it.content.as_ref());
    let contents = contents.map(|it| packing.octets(it)).collect::<Result<Vec<_>, _>>()?;
    if !contents.is_empty() {
        let upsert = "INSERT INTO evidence (path_no, start_at, part, content) \
             SELECT p.no, n.start_at, n.part, n.content \
             FROM unnest($1::uuid[], $2::timestamptz[], $3::bigint[], $4::bytea[]) \
                     AS n(path_id, start_at, part, content) \
                 JOIN path p ON p.id = n.path_id \
             ON CONFLICT (path_no, start_at, part) DO UPDATE SET content = excluded.content";
        let [paths, starts, parts] = keys(&there);
        txn.execute_raw(sql(upsert, [paths, starts, parts, contents.into()])).await?;
    }
    Ok(())
}

impl Store {
    /// The evidence of a path of the minutes that begin between two times, and of the hours that do.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn evidence(
        &self,
        path: PathId,
        (from, to): (OffsetDateTime, OffsetDateTime),
    ) -> Result<EvidenceRange, StoreError> {
        let snapshot = (Some(IsolationLevel::RepeatableRead), Some(AccessMode::ReadOnly));
        let txn = self.db.begin_with_config(snapshot.0, snapshot.1).await?;
        let values: [Value; 3] = [path.as_uuid().into(), from.into(), to.into()];
        let select = "SELECT e.path_no, e.start_at, e.content FROM evidence e \
                 JOIN path p ON p.no = e.path_no \
             WHERE p.id = $1 AND e.start_at >= $2 AND e.start_at < $3 ORDER BY e.start_at, e.part";
        let minutes = rows::all(&txn, select, values.clone()).await?;
        // The minutes of a day that is being summed up are all there still.
        let select = "SELECT e.path_no, e.start_at, e.content FROM evidence_hour e \
                 JOIN path p ON p.no = e.path_no \
             WHERE p.id = $1 AND e.start_at >= $2 AND e.start_at < $3 \
                 AND (e.start_at AT TIME ZONE 'UTC')::date NOT IN (SELECT day FROM evidence_merge) \
             ORDER BY e.start_at";
        let hours = rows::all(&txn, select, values).await?;
        txn.commit().await?;
        Ok(EvidenceRange { minutes: unpacked(minutes)?, hours: unpacked(hours)? })
    }

    /// The oldest day of which the evidence is to be summed up at `now`: it ended more than a day
    /// ago, and judgement has come as far.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn evidence_day(
        &self,
        now: OffsetDateTime,
    ) -> Result<Option<EvidenceDay>, StoreError> {
        let select = "SELECT relname FROM pg_class WHERE relname ~ '^evidence_[0-9]{8}$' \
             AND relispartition ORDER BY relname LIMIT 1";
        let oldest: Option<String> = rows::value(&self.db, select, []).await?;
        let Some(day) = oldest.and_then(|name| day_of(EVIDENCE, &name)) else { return Ok(None) };
        let select = "SELECT max(coalesce(b.clock_at, b.received_at)) FROM ( \
                 (SELECT commit_no, clock_at, received_at FROM batch, judge \
                 WHERE commit_no <= cursor ORDER BY commit_no DESC LIMIT 1) \
                 UNION ALL (SELECT commit_no, clock_at, received_at FROM log_clock, judge \
                 WHERE commit_no <= cursor ORDER BY commit_no DESC LIMIT 1)) b";
        let judged: Option<Option<OffsetDateTime>> = rows::value(&self.db, select, []).await?;
        let Some(judged) = judged.flatten() else { return Ok(None) };
        let Some(next) = day.next_day() else { return Ok(None) };
        if midnight(next) + FINE_FOR > judged.min(now) {
            return Ok(None);
        }
        let select = "SELECT path_no, rows FROM evidence_merge WHERE day = $1";
        let begun: Option<MergeRow> = rows::first(&self.db, select, [day.into()]).await?;
        let MergeRow { path_no, rows } = begun.unwrap_or(MergeRow { path_no: 0, rows: 0 });
        Ok(Some(EvidenceDay { day, path_no, rows }))
    }

    /// The evidence of the next paths of a day, by path and time; empty after the last path.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn evidence_of_day(
        &self,
        day: EvidenceDay,
        paths: i64,
    ) -> Result<Vec<EvidenceRow>, StoreError> {
        let select = "SELECT e.path_no, e.start_at, e.content FROM evidence e \
             WHERE e.path_no = ANY(ARRAY(SELECT no FROM path WHERE no > $1 \
                     AND EXISTS (SELECT FROM evidence x WHERE x.path_no = no \
                         AND x.start_at >= $2 AND x.start_at < $3) \
                     ORDER BY no LIMIT $4)) \
                 AND e.start_at >= $2 AND e.start_at < $3 ORDER BY e.path_no, e.start_at, e.part";
        let (from, to) = (midnight(day.day), midnight(day.day) + Duration::days(1));
        let values = [day.path_no.into(), from.into(), to.into(), paths.into()];
        unpacked(rows::all(&self.db, select, values).await?)
    }

    /// Records the hours that `read` rows of the next paths of a day are summed up in; gives the day
    /// as it stands then.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn put_evidence_hours(
        &self,
        day: EvidenceDay,
        hours: &[EvidenceRow],
        (path_no, read): (i32, usize),
    ) -> Result<EvidenceDay, StoreError> {
        let rows = day.rows.saturating_add(i64::try_from(read).unwrap_or(i64::MAX));
        let txn = self.db.begin().await?;
        write_hours(&txn, hours).await?;
        let upsert = "INSERT INTO evidence_merge (day, path_no, rows) VALUES ($1, $2, $3) \
             ON CONFLICT (day) DO UPDATE SET path_no = excluded.path_no, rows = excluded.rows";
        txn.execute_raw(sql(upsert, [day.day.into(), path_no.into(), rows.into()])).await?;
        txn.commit().await?;
        Ok(EvidenceDay { path_no, rows, ..day })
    }

    /// Deletes the evidence of a day when its sums are all recorded. Where some of it came meanwhile,
    /// all of the day is to be summed up again, and nothing is deleted: false.
    ///
    /// # Errors
    /// [`StoreError::Database`], among others when the day is read for longer than two seconds.
    pub async fn drop_evidence_day(&self, day: EvidenceDay) -> Result<bool, StoreError> {
        let partition = name_of(EVIDENCE, day.day);
        let txn = self.db.begin().await?;
        txn.execute_unprepared("SET LOCAL lock_timeout = '2s'").await?;
        txn.execute_unprepared(&format!("LOCK TABLE {partition} IN ACCESS EXCLUSIVE MODE")).await?;
        let count: Option<i64> =
            rows::value(&txn, &format!("SELECT count(*) FROM {partition}"), []).await?;
        let complete = count == Some(day.rows);
        let done = if complete {
            txn.execute_unprepared(&format!("DROP TABLE {partition}")).await?;
            "DELETE FROM evidence_merge WHERE day = $1"
        } else {
            "UPDATE evidence_merge SET path_no = 0, rows = 0 WHERE day = $1"
        };
        txn.execute_raw(sql(done, [day.day.into()])).await?;
        txn.commit().await?;
        Ok(complete)
    }

    /// Evidence that came after the day of its measurement had been summed up, at most `limit` rows.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn late_evidence(
        &self,
        now: OffsetDateTime,
        limit: i64,
    ) -> Result<LateEvidence, StoreError> {
        let select = "SELECT path_no, start_at, part, content FROM evidence_default \
             WHERE start_at < $1 ORDER BY path_no, start_at, part LIMIT $2";
        let before = now - FINE_FOR - Duration::days(1);
        let late: Vec<PartRow> = rows::all(&self.db, select, [before.into(), limit.into()]).await?;
        let keys: Vec<_> = late.iter().map(|row| (row.path_no, row.start_at, row.part)).collect();
        let select = "SELECT DISTINCT e.path_no, e.start_at, e.content FROM evidence_hour e \
             JOIN unnest($1::int[], $2::timestamptz[]) AS k(path_no, start_at) \
                 ON e.path_no = k.path_no AND e.start_at = date_trunc('hour', k.start_at, 'UTC')";
        let values: [Value; 2] = [
            keys.iter().map(|key| key.0).collect::<Vec<_>>().into(),
            keys.iter().map(|key| key.1).collect::<Vec<_>>().into(),
        ];
        let hours = unpacked(rows::all(&self.db, select, values).await?)?;
        let minute = |row: PartRow| Row {
            path_no: row.path_no,
            start_at: row.start_at,
            content: row.content,
        };
        Ok(LateEvidence { minutes: unpacked(late.into_iter().map(minute).collect())?, hours, keys })
    }

    /// Records hours with late evidence in them, which is deleted.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn put_late_evidence(
        &self,
        late: &LateEvidence,
        hours: &[EvidenceRow],
    ) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        write_hours(&txn, hours).await?;
        let delete = "DELETE FROM evidence_default e \
             USING unnest($1::int[], $2::timestamptz[], $3::bigint[]) AS d(path_no, start_at, part) \
             WHERE e.path_no = d.path_no AND e.start_at = d.start_at AND e.part = d.part";
        let values: [Value; 3] = [
            late.keys.iter().map(|key| key.0).collect::<Vec<_>>().into(),
            late.keys.iter().map(|key| key.1).collect::<Vec<_>>().into(),
            late.keys.iter().map(|key| key.2).collect::<Vec<_>>().into(),
        ];
        txn.execute_raw(sql(delete, values)).await?;
        txn.commit().await?;
        Ok(())
    }
}

async fn write_hours(txn: &DatabaseTransaction, hours: &[EvidenceRow]) -> Result<(), StoreError> {
    let mut packing = Packing::with_level(HOUR_LEVEL)?;
    let contents = hours.iter().map(|it| packing.octets(&it.content));
    let contents: Vec<Vec<u8>> = contents.collect::<Result<_, _>>()?;
    let upsert = "INSERT INTO evidence_hour (path_no, start_at, content) \
         SELECT * FROM unnest($1::int[], $2::timestamptz[], $3::bytea[]) \
         ON CONFLICT (path_no, start_at) DO UPDATE SET content = excluded.content";
    let values: [Value; 3] = [
        hours.iter().map(|it| it.path_no).collect::<Vec<_>>().into(),
        hours.iter().map(|it| it.start_at).collect::<Vec<_>>().into(),
        contents.into(),
    ];
    txn.execute_raw(sql(upsert, values)).await?;
    Ok(())
}
