//! Sums up evidence by the minute, a day after the end of its day, and reads it in either form.

use crate::context::Shared;
use itinera_analysis::{
    EvidenceError, HourBlock, MinuteSummary, PairCounts, PairEvidence, PublishedMinute,
};
use itinera_model::evidence::EvidenceSubject;
use itinera_model::id::{PairId, PathId};
use itinera_store::{EvidenceRow, Store, StoreError, SubjectNo};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use time::OffsetDateTime;

/// Paths that are read at once: 1,440 rows of a day each.
const PATHS_AT_ONCE: i64 = 20;
/// Rows that came late and are added at once.
const LATE_AT_ONCE: i64 = 2_000;
/// How long the work may go on before others get their turn: the next call continues.
const AT_MOST: Duration = Duration::from_secs(20);
const HOUR_S: i64 = 3_600;
const MINUTE_S: i64 = 60;

/// Subject and beginning of an hour.
type Key = (SubjectNo, OffsetDateTime);

/// The sums of an hour.
#[derive(Debug, Clone)]
enum Hour {
    Path(HourBlock),
    /// By minute.
    Pair(PairEvidence),
}

impl Hour {
    fn empty(subject: SubjectNo) -> Self {
        match subject {
            SubjectNo::Path(_) => Self::Path(HourBlock::default()),
            SubjectNo::Pair(_) => Self::Pair(PairEvidence::default()),
        }
    }

    fn read(row: &EvidenceRow) -> Result<Self, StoreError> {
        let read = match row.subject {
            SubjectNo::Path(_) => HourBlock::from_bytes(&row.content).map(Self::Path),
            SubjectNo::Pair(_) => PairEvidence::from_bytes(&row.content).map(Self::Pair),
        };
        read.map_err(unreadable)
    }

    /// Takes a published minute, or adds a part of one.
    fn take(&mut self, minute: u8, row: &EvidenceRow) -> Result<(), EvidenceError> {
        match self {
            Self::Path(block) => {
                let summary = PublishedMinute::from_bytes(&row.content)?.summary();
                match row.part {
                    0 => block.replace(minute, summary),
                    _ => block.add(minute, &summary),
                }
            }
            Self::Pair(minutes) => {
                let counts = PairEvidence::from_bytes(&row.content)?.sum();
                match row.part {
                    0 => minutes.replace(minute, counts),
                    _ => minutes.add(minute, &counts),
                }
            }
        }
        Ok(())
    }

    fn to_bytes(&self) -> Vec<u8> {
        match self {
            Self::Path(block) => block.to_bytes(),
            Self::Pair(minutes) => minutes.to_bytes(),
        }
    }
}

fn unreadable(error: EvidenceError) -> StoreError {
    tracing::error!(error = &error as &dyn std::error::Error, "unreadable evidence");
    StoreError::Corrupt { what: "evidence" }
}

/// The hour that holds a time, and the number of its minute in it.
fn place(at: OffsetDateTime) -> (OffsetDateTime, u8) {
    let second = at.unix_timestamp().rem_euclid(HOUR_S);
    let hour = at - time::Duration::seconds(second);
    (hour, u8::try_from(second / MINUTE_S).unwrap_or(0))
}

/// Adds minutes to hours. A minute that cannot be read is left out, and said.
fn add(hours: &mut BTreeMap<Key, Hour>, minutes: &[EvidenceRow]) {
    for row in minutes {
        let (hour, minute) = place(row.start_at);
        let hour = hours.entry((row.subject, hour)).or_insert_with(|| Hour::empty(row.subject));
        if let Err(error) = hour.take(minute, row) {
            let error = &error as &dyn std::error::Error;
            tracing::error!(error, of = ?row.subject, at = %row.start_at, "evidence left out");
        }
    }
}

fn rows_of(hours: BTreeMap<Key, Hour>) -> Vec<EvidenceRow> {
    let row = |((subject, start_at), hour): (Key, Hour)| EvidenceRow {
        subject,
        start_at,
        part: 0,
        content: hour.to_bytes(),
    };
    hours.into_iter().map(row).collect()
}

/// Computes off the async runtime.
async fn apart<T: Send + 'static>(
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, StoreError> {
    let done = tokio::task::spawn_blocking(work).await;
    done.map_err(|_| StoreError::Corrupt { what: "evidence" })
}

/// The duty: sums up for as long as it may; the next call continues.
pub(crate) async fn sum_up(shared: Arc<Shared>) -> Result<(), StoreError> {
    sum_up_days(&shared.store, shared.clock.now(), AT_MOST).await.map(drop)
}

/// Replaces the evidence of days that ended more than a day before `now` by sums of its minutes, and
/// begins nothing new after `at_most`; true when nothing is left to be summed up.
///
/// # Errors
/// [`StoreError`] when the database is away or a row cannot be read. What is done stays; the next call
/// continues.
pub async fn sum_up_days(
    store: &Store,
    now: OffsetDateTime,
    at_most: Duration,
) -> Result<bool, StoreError> {
    let begun = Instant::now();
    while let Some(mut day) = store.evidence_day(now).await? {
        loop {
            if begun.elapsed() >= at_most {
                return Ok(false);
            }
            let minutes = store.evidence_of_day(day, PATHS_AT_ONCE).await?;
            let Some(subject) = minutes.last().map(|last| last.subject) else { break };
            let read = minutes.len();
            let hours = apart(move || {
                let mut hours = BTreeMap::new();
                add(&mut hours, &minutes);
                rows_of(hours)
            });
            day = store.put_evidence_hours(day, &hours.await?, (subject, read)).await?;
        }
        if store.drop_evidence_day(day).await? {
            tracing::info!(day = %day.day, "evidence is summed up by the minute");
        } else {
            tracing::info!(day = %day.day, "evidence came meanwhile: the day is summed up again");
        }
    }
    loop {
        if begun.elapsed() >= at_most {
            return Ok(false);
        }
        let late = store.late_evidence(now, LATE_AT_ONCE).await?;
        if late.minutes.is_empty() {
            return Ok(true);
        }
        let known = late.clone();
        let hours = apart(move || {
            let mut hours = BTreeMap::new();
            for row in &known.hours {
                hours.insert((row.subject, row.start_at), Hour::read(row)?);
            }
            add(&mut hours, &known.minutes);
            Ok::<_, StoreError>(rows_of(hours))
        });
        store.put_late_evidence(&late, &hours.await??).await?;
    }
}

/// What a path showed in the minutes that begin between two times, in order.
pub(crate) async fn minutes(
    store: &Store,
    path: PathId,
    span: (OffsetDateTime, OffsetDateTime),
) -> Result<BTreeMap<OffsetDateTime, MinuteSummary>, StoreError> {
    let read = |row: &EvidenceRow| Ok(PublishedMinute::from_bytes(&row.content)?.summary());
    let read_hour = |row: &EvidenceRow| {
        let block = HourBlock::from_bytes(&row.content)?;
        Ok(block.minutes().map(|(minute, summary)| (minute, summary.clone())).collect())
    };
    by_minute(store, EvidenceSubject::Path(path), span, read, read_hour, MinuteSummary::merge).await
}

/// What a path showed in spans of so many seconds, by their beginning: spans begin at the same times
/// whatever range is asked for. The range is read by the day, so that its minutes need not fit into
/// memory together.
pub(crate) async fn spans(
    store: &Store,
    path: PathId,
    (from, to): (OffsetDateTime, OffsetDateTime),
    span_s: i64,
) -> Result<BTreeMap<OffsetDateTime, MinuteSummary>, StoreError> {
    let begin_of =
        |at: OffsetDateTime| at - time::Duration::seconds(at.unix_timestamp().rem_euclid(span_s));
    let mut spans: BTreeMap<OffsetDateTime, MinuteSummary> = BTreeMap::new();
    let mut read = from;
    while read < to {
        let until = to.min(read + time::Duration::days(1));
        for (at, minute) in minutes(store, path, (read, until)).await? {
            spans.entry(begin_of(at)).or_default().merge(&minute);
        }
        read = until;
    }
    Ok(spans)
}

/// What a pair exchanged in the minutes that begin between two times, in order.
pub(crate) async fn pair_minutes(
    store: &Store,
    pair: PairId,
    span: (OffsetDateTime, OffsetDateTime),
) -> Result<BTreeMap<OffsetDateTime, PairCounts>, StoreError> {
    let read = |row: &EvidenceRow| Ok(PairEvidence::from_bytes(&row.content)?.sum());
    let read_hour = |row: &EvidenceRow| {
        let minutes = PairEvidence::from_bytes(&row.content)?;
        Ok(minutes.iter().map(|(minute, counts)| (minute, counts.clone())).collect())
    };
    by_minute(store, EvidenceSubject::Pair(pair), span, read, read_hour, PairCounts::merge).await
}

/// Evidence by the minute from both of its forms.
async fn by_minute<T: Default + Send + 'static>(
    store: &Store,
    subject: EvidenceSubject,
    (from, to): (OffsetDateTime, OffsetDateTime),
    read: impl Fn(&EvidenceRow) -> Result<T, EvidenceError> + Send + 'static,
    read_hour: impl Fn(&EvidenceRow) -> Result<Vec<(u8, T)>, EvidenceError> + Send + 'static,
    merge: impl Fn(&mut T, &T) + Send + 'static,
) -> Result<BTreeMap<OffsetDateTime, T>, StoreError> {
    // The hour that begins before the range reaches into it.
    let range = store.evidence(subject, (place(from).0, to)).await?;
    apart(move || {
        let mut minutes: BTreeMap<OffsetDateTime, T> = BTreeMap::new();
        for row in &range.hours {
            for (minute, sum) in read_hour(row).map_err(unreadable)? {
                minutes.insert(row.start_at + time::Duration::minutes(minute.into()), sum);
            }
        }
        for row in &range.minutes {
            let published = read(row).map_err(unreadable)?;
            if row.part == 0 {
                minutes.insert(row.start_at, published);
            } else {
                merge(minutes.entry(row.start_at).or_default(), &published);
            }
        }
        minutes.retain(|at, _| (from..to).contains(at));
        Ok(minutes)
    })
    .await?
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::Config;
    use crate::testing::{self, PLAN};
    use itinera_analysis::{AgentReport, Effect, Judge, JudgeInput, Observation};
    use itinera_model::id::ContentId;
    use itinera_model::round::StampSource;
    use itinera_model::route::FlowKey;
    use itinera_model::unit::WallTime;
    use itinera_store::cluster::Cluster;
    use itinera_store::{EachApart, EvidenceWrite, JudgeWrite, NewEntry};
    use std::net::IpAddr;
    use std::os::unix::fs::PermissionsExt;
    use uuid::Uuid;

    const DAYS: i64 = 14;
    const EVERY_S: i64 = 60;

    /// Counts by path, hour and hop: rounds, sent, lost, late, delays; and the sum of medians.
    type Counts = BTreeMap<(PathId, i64, usize), [u64; 4]>;

    async fn counted(
        store: &Store,
        of: &[PathId],
        span: (OffsetDateTime, OffsetDateTime),
    ) -> Counts {
        let mut counts = Counts::new();
        for path in of {
            for (at, summary) in minutes(store, *path, span).await.unwrap() {
                let hour = at.unix_timestamp().div_euclid(HOUR_S);
                for route in summary.routes() {
                    for (nth, hop) in route.hops.iter().enumerate() {
                        let sum = counts.entry((*path, hour, nth)).or_default();
                        let median = u64::from(hop.delay_us(50).unwrap_or(0));
                        let all = [hop.sent, hop.lost, hop.late()].map(u64::from);
                        for (sum, count) in sum.iter_mut().zip(all.into_iter().chain([median])) {
                            *sum += count;
                        }
                    }
                }
            }
        }
        counts
    }

    /// The evidence of rounds of both paths, as judgement publishes it.
    fn published(
        judge: &mut Judge,
        paths: &[PathId],
        seconds: impl Iterator<Item = i64>,
        received_at: impl Fn(i64) -> i64,
    ) -> Vec<EvidenceWrite> {
        let addresses: Vec<Option<IpAddr>> =
            (1..=6).map(|hop| Some(IpAddr::from([198, 18, 0, hop]))).collect();
        let mut last: BTreeMap<_, EvidenceWrite> = BTreeMap::new();
        for second in seconds {
            let hops: Vec<_> = (0..paths.len()).map(|path| testing::hops(path, second)).collect();
            let round = |(nth, path): (usize, &PathId)| Observation {
                path: *path,
                measured_at: WallTime::from_unix_seconds(second),
                number: second.cast_unsigned(),
                source: [10, 0, 0, 2].into(),
                flow: FlowKey::default(),
                route: ContentId::of(b"route"),
                addresses: &addresses,
                hops: &hops[nth],
                stamps: StampSource::Kernel,
                lateness: None,
                arrived_dscp: None,
            };
            let rounds: Vec<_> = paths.iter().enumerate().map(round).collect();
            let report = JudgeInput::Report(AgentReport::of_rounds(&rounds));
            let now = WallTime::from_unix_seconds(received_at(second));
            for effect in judge.step(report, now) {
                if let Effect::Evidence { subject, minute, part, content } = effect {
                    let write = EvidenceWrite { subject, minute, part, content };
                    last.insert((subject, minute, part), write);
                }
            }
        }
        last.into_values().collect()
    }

    #[tokio::test]
    async fn a_fortnight_has_the_same_counts_by_hop_and_hour_after_it_is_summed_up() {
        let data = tempfile::tempdir().unwrap();
        std::fs::set_permissions(data.path(), PermissionsExt::from_mode(0o755)).unwrap();
        let cluster = Cluster::start(data.path()).await.unwrap();
        let store = Store::open(&Cluster::url_in(data.path())).await.unwrap();
        let first = OffsetDateTime::now_utc().date().midnight().assume_utc();
        let config = Config::parse(PLAN).unwrap();
        store.reconcile(&config.plan).await.unwrap();
        let (_, paths) = testing::join(&store, first).await;
        let begin = first.unix_timestamp();
        let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
        let mut judge = Judge::default();
        for day in 0..=DAYS {
            let now = first + time::Duration::days(day);
            store.make_partitions(now).await.unwrap();
            store.log(token, NewEntry::Clock, now).await.unwrap();
            let seconds = begin + day * 86_400;
            // A few minutes of the day after the last complete its last minutes.
            let until = if day < DAYS { 86_400 } else { 600 };
            let seconds = (seconds..seconds + until).step_by(60);
            let evidence = published(&mut judge, &paths, seconds, |second| second + 2);
            let write = JudgeWrite { from: day, to: day + 1, evidence, ..JudgeWrite::default() };
            store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
        }
        let span = (first, first + time::Duration::days(DAYS));
        let before = counted(&store, &paths, span).await;
        let rounds = DAYS * 86_400 / EVERY_S;
        assert_eq!(before.len(), 2 * 6 * 24 * usize::try_from(DAYS).unwrap());
        let sent: u64 = before.values().map(|counts| counts[0]).sum();
        assert_eq!(sent, u64::try_from(rounds).unwrap() * 2 * 6 * 3);
        assert!(before.values().map(|counts| counts[1]).sum::<u64>() > 1_000);

        let long = Duration::from_secs(600);
        assert!(sum_up_days(&store, span.1, long).await.unwrap());
        let left = store.evidence(EvidenceSubject::Path(paths[0]), span).await.unwrap();
        let (minutes, hours) = (left.minutes.len(), left.hours.len());
        assert_eq!((minutes, hours), (24 * 60, 24 * 13), "the last day ended just now");
        assert_eq!(counted(&store, &paths, span).await, before);

        // A spool of the third day comes now, too late for the windows that are remembered.
        let late: Vec<i64> = (0..30).map(|nth| begin + 2 * 86_400 + nth * 20).collect();
        let now = begin + DAYS * 86_400 + 700;
        let evidence = published(&mut judge, &paths[..1], late.iter().copied(), |_| now);
        let parts = evidence.iter().filter(|it| it.part.is_some()).map(|it| it.minute * 60);
        let minutes: Vec<i64> = parts.map(|second| (second - begin) / 60 - 2 * 1_440).collect();
        assert_eq!((minutes.iter().min(), minutes.iter().max()), (Some(&0), Some(&9)));
        let write = JudgeWrite { from: DAYS + 1, to: DAYS + 1, evidence, ..JudgeWrite::default() };
        store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
        let with_late = counted(&store, &paths, span).await;
        let more = |counts: &Counts| counts.values().map(|counts| counts[0]).sum::<u64>() - sent;
        assert_eq!(more(&with_late), 30 * 6 * 3);
        assert!(sum_up_days(&store, span.1, long).await.unwrap());
        assert_eq!(counted(&store, &paths, span).await, with_late);

        // A minute that is published once more after that replaces what was known of it.
        let mut other = Judge::default();
        let of_a_day = (begin + 86_400..begin + 86_400 + 600).step_by(60);
        let again = published(&mut other, &paths, of_a_day, |second| second + 2);
        assert!(again.len() > 10 && again.iter().all(|it| it.part.is_none()));
        let (from, to) = (DAYS + 1, DAYS + 1);
        let write = JudgeWrite { from, to, evidence: again, ..JudgeWrite::default() };
        store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
        assert_eq!(counted(&store, &paths, span).await, with_late);
        assert!(sum_up_days(&store, span.1, long).await.unwrap());
        assert_eq!(counted(&store, &paths, span).await, with_late);
        cluster.stop().await.unwrap();
    }
}
