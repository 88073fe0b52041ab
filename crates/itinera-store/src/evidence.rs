//! Evidence: what each path and pair showed by the minute, and after a day by the minute in rows of an hour.
//!
//! Contents are judgement's own; here they are kept by day, and replaced by their sums, compressed.

use crate::packing::{Packing, Unpacking};
use crate::partitions::{EVIDENCE, day_of, name_of};
use crate::rounds::snapshot;
use crate::statement::sql;
use crate::times::offset;
use crate::{Store, StoreError, rows};
use itinera_model::evidence::EvidenceSubject;
use itinera_model::id::PathId;
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, FromQueryResult, TransactionTrait};
use time::{Date, Duration, OffsetDateTime};

/// Evidence stays as it was published for so long after the end of its day.
const FINE_FOR: Duration = Duration::days(1);
/// Sums are written once and read rarely.
const HOUR_LEVEL: i32 = 15;

/// Evidence as judgement published it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EvidenceWrite {
    /// What it is of.
    pub subject: EvidenceSubject,
    /// Number of the minute since 1970.
    pub minute: i64,
    /// Absent for the whole minute, else the number of a part that is added to it.
    pub part: Option<i64>,
    /// What is recorded; absent where that is to be deleted.
    pub content: Option<Vec<u8>>,
}

/// What evidence is of, by its number. Paths come before pairs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SubjectNo {
    /// A path.
    Path(i32),
    /// A pair.
    Pair(i32),
}

/// Kinds as they are stored.
const PATH: i16 = 0;
const PAIR: i16 = 1;

impl SubjectNo {
    const FIRST: Self = Self::Path(0);

    const fn parts(self) -> (i16, i32) {
        match self {
            Self::Path(no) => (PATH, no),
            Self::Pair(no) => (PAIR, no),
        }
    }

    fn of(kind: i16, no: i32) -> Result<Self, StoreError> {
        match kind {
            PATH => Ok(Self::Path(no)),
            PAIR => Ok(Self::Pair(no)),
            _ => Err(StoreError::corrupt("kind of evidence")),
        }
    }
}

/// Evidence as it is recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EvidenceRow {
    /// What it is of.
    pub subject: SubjectNo,
    /// Where the minute or the hour begins.
    pub start_at: OffsetDateTime,
    /// 0 for all of the minute or hour, which stands in the place of what was known of it; else the
    /// number of a part that is added.
    pub part: i64,
    /// What judgement published, or the sum that it was replaced by.
    pub content: Vec<u8>,
}

/// Evidence of one subject over some time.
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
    /// The last path or pair that is summed up already.
    pub subject: SubjectNo,
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
}

#[derive(FromQueryResult)]
struct Row {
    kind: i16,
    subject_no: i32,
    start_at: OffsetDateTime,
    part: i64,
    content: Vec<u8>,
}

#[derive(FromQueryResult)]
struct PublishedRow {
    path_id: Uuid,
    minute: i64,
    content: Vec<u8>,
}

#[derive(FromQueryResult)]
struct MergeRow {
    kind: i16,
    subject_no: i32,
    rows: i64,
}

/// Rows as they are given, the content read by this.
fn read(
    rows: Vec<Row>,
    mut content: impl FnMut(Vec<u8>) -> Result<Vec<u8>, StoreError>,
) -> Result<Vec<EvidenceRow>, StoreError> {
    let read = |row: Row| {
        let content = content(row.content)?;
        let subject = SubjectNo::of(row.kind, row.subject_no)?;
        Ok(EvidenceRow { subject, start_at: row.start_at, part: row.part, content })
    };
    rows.into_iter().map(read).collect()
}

/// Minutes, which are not compressed.
fn minutes_of(rows: Vec<Row>) -> Result<Vec<EvidenceRow>, StoreError> {
    read(rows, Ok)
}

fn hours_of(rows: Vec<Row>) -> Result<Vec<EvidenceRow>, StoreError> {
    let mut unpacking = Unpacking::new()?;
    read(rows, |content| unpacking.octets(&content))
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
    let start =
        |it: &EvidenceWrite| offset(WallTime::from_unix_seconds(it.minute.saturating_mul(60)));
    let keys = |of: &[&EvidenceWrite]| -> [Value; 4] {
        let id = |it: &&EvidenceWrite| match it.subject {
            EvidenceSubject::Path(path) => (PATH, path.as_uuid()),
            EvidenceSubject::Pair(pair) => (PAIR, pair.as_uuid()),
        };
        let (kinds, ids): (Vec<i16>, Vec<Uuid>) = of.iter().map(id).unzip();
        [
            kinds.into(),
            ids.into(),
            of.iter().map(|it| start(it)).collect::<Vec<_>>().into(),
            of.iter().map(|it| it.part.unwrap_or(0)).collect::<Vec<_>>().into(),
        ]
    };
    let (there, gone): (Vec<_>, Vec<_>) = evidence.iter().partition(|it| it.content.is_some());
    if !gone.is_empty() {
        let delete = "DELETE FROM evidence e USING \
                 unnest($1::smallint[], $2::uuid[], $3::timestamptz[], $4::bigint[]) \
                     AS d(kind, id, start_at, part) \
                 LEFT JOIN path p ON p.id = d.id LEFT JOIN pair q ON q.id = d.id \
             WHERE e.kind = d.kind AND e.subject_no = coalesce(p.no, q.no) \
                 AND e.start_at = d.start_at AND e.part = d.part";
        txn.execute_raw(sql(delete, keys(&gone))).await?;
    }
    // They are compact already.
    let contents: Vec<Vec<u8>> = there.iter().filter_map(|it| it.content.clone()).collect();
    if !contents.is_empty() {
        let upsert = "INSERT INTO evidence (kind, subject_no, start_at, part, content) \
             SELECT n.kind, coalesce(p.no, q.no), n.start_at, n.part, n.content \
             FROM unnest($1::smallint[], $2::uuid[], $3::timestamptz[], $4::bigint[], $5::bytea[]) \
                     AS n(kind, id, start_at, part, content) \
                 LEFT JOIN path p ON p.id = n.id LEFT JOIN pair q ON q.id = n.id \
             WHERE coalesce(p.no, q.no) IS NOT NULL \
             ON CONFLICT (kind, subject_no, start_at, part) \
                 DO UPDATE SET content = excluded.content";
        let [kinds, ids, starts, parts] = keys(&there);
        txn.execute_raw(sql(upsert, [kinds, ids, starts, parts, contents.into()])).await?;
    }
    Ok(())
}

impl Store {
    /// The evidence of a path or pair of the minutes that begin between two times, and of the hours
    /// that do.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn evidence(
        &self,
        subject: EvidenceSubject,
        (from, to): (OffsetDateTime, OffsetDateTime),
    ) -> Result<EvidenceRange, StoreError> {
        let (kind, table, id) = match subject {
            EvidenceSubject::Path(path) => (PATH, "path", path.as_uuid()),
            EvidenceSubject::Pair(pair) => (PAIR, "pair", pair.as_uuid()),
        };
        let txn = snapshot(&self.db, EVIDENCE).await?;
        let values: [Value; 4] = [kind.into(), id.into(), from.into(), to.into()];
        let condition = format!(
            "e.kind = $1 AND e.subject_no = (SELECT no FROM {table} WHERE id = $2) \
                 AND e.start_at >= $3 AND e.start_at < $4"
        );
        let select =
            format!("SELECT e.* FROM evidence e WHERE {condition} ORDER BY e.start_at, e.part");
        let minutes = rows::all(&txn, &select, values.clone()).await?;
        // The minutes of a day that is being summed up are all there still.
        let select = format!(
            "SELECT e.*, 0::bigint AS part FROM evidence_hour e WHERE {condition} \
                 AND (e.start_at AT TIME ZONE 'UTC')::date NOT IN (SELECT day FROM evidence_merge) \
             ORDER BY e.start_at"
        );
        let hours = rows::all(&txn, &select, values).await?;
        txn.commit().await?;
        Ok(EvidenceRange { minutes: minutes_of(minutes)?, hours: hours_of(hours)? })
    }

    /// What was published of minutes of paths, which are given by their numbers since 1970; those that
    /// are summed up already have nothing.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn published_minutes(
        &self,
        minutes: &[(PathId, i64)],
    ) -> Result<Vec<(PathId, i64, Vec<u8>)>, StoreError> {
        let select = "SELECT k.id AS path_id, k.minute, e.content \
             FROM unnest($1::uuid[], $2::bigint[]) AS k(id, minute) JOIN path p ON p.id = k.id \
                 JOIN evidence e ON e.kind = $3 AND e.subject_no = p.no AND e.part = 0 \
                     AND e.start_at = to_timestamp(k.minute * 60) \
             ORDER BY k.id, k.minute";
        let (paths, numbers): (Vec<Uuid>, Vec<i64>) =
            minutes.iter().map(|(path, minute)| (path.as_uuid(), *minute)).unzip();
        let values = [paths.into(), numbers.into(), PATH.into()];
        let rows: Vec<PublishedRow> = rows::all(&self.judge, select, values).await?;
        let minute = |row: PublishedRow| (PathId::from_uuid(row.path_id), row.minute, row.content);
        Ok(rows.into_iter().map(minute).collect())
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
        let select = "SELECT kind, subject_no, rows FROM evidence_merge WHERE day = $1";
        let begun: Option<MergeRow> = rows::first(&self.db, select, [day.into()]).await?;
        Ok(Some(match begun {
            None => EvidenceDay { day, subject: SubjectNo::FIRST, rows: 0 },
            Some(MergeRow { kind, subject_no, rows }) => {
                EvidenceDay { day, subject: SubjectNo::of(kind, subject_no)?, rows }
            }
        }))
    }

    /// The evidence of the next paths and pairs of a day, by subject and time; empty after the last.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn evidence_of_day(
        &self,
        day: EvidenceDay,
        subjects: i64,
    ) -> Result<Vec<EvidenceRow>, StoreError> {
        let select = "WITH subject AS ( \
                 SELECT 0::smallint AS kind, no FROM path UNION ALL SELECT 1::smallint, no FROM pair), \
             next AS (SELECT kind, no FROM subject s WHERE (kind, no) > ($1, $2) \
                     AND EXISTS (SELECT FROM evidence x WHERE x.kind = s.kind \
                         AND x.subject_no = s.no AND x.start_at >= $3 AND x.start_at < $4) \
                 ORDER BY kind, no LIMIT $5) \
             SELECT e.* FROM next n JOIN evidence e ON e.kind = n.kind AND e.subject_no = n.no \
                 AND e.start_at >= $3 AND e.start_at < $4 \
             ORDER BY e.kind, e.subject_no, e.start_at, e.part";
        let (from, to) = (midnight(day.day), midnight(day.day) + Duration::days(1));
        let (kind, no) = day.subject.parts();
        let values = [kind.into(), no.into(), from.into(), to.into(), subjects.into()];
        minutes_of(rows::all(&self.db, select, values).await?)
    }

    /// Records the hours that `read` rows of a day up to a subject are summed up in; gives the day
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
        (subject, read): (SubjectNo, usize),
    ) -> Result<EvidenceDay, StoreError> {
        let rows = day.rows.saturating_add(i64::try_from(read).unwrap_or(i64::MAX));
        let txn = self.db.begin().await?;
        write_hours(&txn, hours).await?;
        let upsert = "INSERT INTO evidence_merge (day, kind, subject_no, rows) \
             VALUES ($1, $2, $3, $4) ON CONFLICT (day) DO UPDATE SET kind = excluded.kind, \
                 subject_no = excluded.subject_no, rows = excluded.rows";
        let (kind, no) = subject.parts();
        let values = [day.day.into(), kind.into(), no.into(), rows.into()];
        txn.execute_raw(sql(upsert, values)).await?;
        txn.commit().await?;
        Ok(EvidenceDay { subject, rows, ..day })
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
            "UPDATE evidence_merge SET kind = 0, subject_no = 0, rows = 0 WHERE day = $1"
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
        let select = "SELECT kind, subject_no, start_at, part, content FROM evidence_default \
             WHERE start_at < $1 ORDER BY kind, subject_no, start_at, part LIMIT $2";
        let before = now - FINE_FOR - Duration::days(1);
        let late: Vec<Row> = rows::all(&self.db, select, [before.into(), limit.into()]).await?;
        let minutes = minutes_of(late)?;
        let select = "SELECT DISTINCT e.*, 0::bigint AS part FROM evidence_hour e \
                 JOIN unnest($1::smallint[], $2::int[], $3::timestamptz[]) AS k(kind, no, start_at) \
                     ON e.kind = k.kind AND e.subject_no = k.no \
                         AND e.start_at = date_trunc('hour', k.start_at, 'UTC')";
        let [kinds, nos, starts, _] = keys(&minutes);
        let hours = hours_of(rows::all(&self.db, select, [kinds, nos, starts]).await?)?;
        Ok(LateEvidence { minutes, hours })
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
             USING unnest($1::smallint[], $2::int[], $3::timestamptz[], $4::bigint[]) \
                 AS d(kind, no, start_at, part) \
             WHERE e.kind = d.kind AND e.subject_no = d.no AND e.start_at = d.start_at \
                 AND e.part = d.part";
        txn.execute_raw(sql(delete, keys(&late.minutes))).await?;
        txn.commit().await?;
        Ok(())
    }
}

/// Kinds, numbers, times and parts as arrays.
fn keys(rows: &[EvidenceRow]) -> [Value; 4] {
    let (kinds, nos): (Vec<i16>, Vec<i32>) = rows.iter().map(|row| row.subject.parts()).unzip();
    [
        kinds.into(),
        nos.into(),
        rows.iter().map(|row| row.start_at).collect::<Vec<_>>().into(),
        rows.iter().map(|row| row.part).collect::<Vec<_>>().into(),
    ]
}

async fn write_hours(txn: &DatabaseTransaction, hours: &[EvidenceRow]) -> Result<(), StoreError> {
    let mut packing = Packing::with_level(HOUR_LEVEL)?;
    let contents = hours.iter().map(|it| packing.octets(&it.content));
    let contents: Vec<Vec<u8>> = contents.collect::<Result<_, _>>()?;
    let upsert = "INSERT INTO evidence_hour (kind, subject_no, start_at, content) \
         SELECT * FROM unnest($1::smallint[], $2::int[], $3::timestamptz[], $4::bytea[]) \
         ON CONFLICT (kind, subject_no, start_at) DO UPDATE SET content = excluded.content";
    let (kinds, nos): (Vec<i16>, Vec<i32>) = hours.iter().map(|it| it.subject.parts()).unzip();
    let values: [Value; 4] = [
        kinds.into(),
        nos.into(),
        hours.iter().map(|it| it.start_at).collect::<Vec<_>>().into(),
        contents.into(),
    ];
    txn.execute_raw(sql(upsert, values)).await?;
    Ok(())
}
