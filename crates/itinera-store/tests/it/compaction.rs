//! Rounds in blocks are read like live ones, by every reader and at every stage of compaction.

use super::robust::raw;
use super::{
    Fixture, batch, checkpoint, fixture, join, log_after, measuring, nothing, rounds_in, watched,
};
use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, PathId};
use itinera_model::path::Family;
use itinera_model::round::{Clocks, HopCounts, Lateness, Round};
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_store::{
    Compacted, EachApart, JudgeWrite, LogEntry, LoggedRound, Retention, Store, StoreError,
};
use sea_orm::{ConnectionTrait, TransactionTrait};
use std::collections::BTreeMap;
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

const DAYS: u16 = 14;
const EVERY: Duration = Duration::minutes(170);

/// The day before is over for long enough at any time of the test.
fn noon() -> OffsetDateTime {
    OffsetDateTime::now_utc().date().midnight().assume_utc() + Duration::hours(12)
}

/// A batch of two paths: four rounds each of six hops, with loss, refusals and delays that differ.
fn varied(agent: AgentId, paths: &[PathId], seq: u64, at: OffsetDateTime) -> Batch {
    let mut mixed = seq;
    let mut draw = |below: u64| {
        mixed = (mixed ^ 0x9E37_79B9).wrapping_mul(0xBF58_476D_1CE4_E5B9).rotate_left(29);
        u32::try_from(mixed % below).unwrap()
    };
    let plain = batch(agent, paths[0], seq, WallTime::from(at));
    let known = &plain.paths;
    let mut varied = Batch::new(agent, plain.boot, seq);
    for (path, nth) in paths.iter().flat_map(|path| (0..4).map(move |nth| (path, nth))) {
        let hop = |hop: u32, draw: &mut dyn FnMut(u64) -> u32| {
            let answered = if draw(9) == 0 { 0b01 } else { 0b11 };
            let delay = |draw: &mut dyn FnMut(u64) -> u32| Micros::new(hop * 3_000 + draw(900));
            HopCounts {
                sent: 2,
                answered,
                rtt: (0..u16::count_ones(answered)).map(|_| delay(draw)).collect(),
                unreachable: if draw(40) == 0 { vec![(1, 2)] } else { Vec::new() },
                ..HopCounts::default()
            }
        };
        let wall = WallTime::from(at - Duration::seconds(40 - 10 * nth));
        let late = draw(3) > 0;
        let round = Round {
            path: *path,
            number: seq * 4 + nth.cast_unsigned(),
            clocks: Clocks {
                wall,
                tick: Tick::from_nanos(seq * 60_000_000_007 + u64::from(draw(5_000))),
                offset_us: (draw(4) > 0).then_some(-120),
                ..known.rounds[0].clocks
            },
            reading: known.rounds[0].reading.filter(|_| draw(2) > 0),
            lateness: late.then(|| Lateness { timer_us: draw(900), read_us: draw(90), link_us: 0 }),
            hops: (0..6).map(|number| hop(number, &mut draw)).collect(),
            ..known.rounds[0].clone()
        };
        let (flow, resolution) = (&known.flows[0], &known.resolutions[0]);
        varied.paths.add(round, flow, resolution, &known.routes[0], &known.readings[0]);
    }
    varied
}

/// All rounds as each reader gives them.
#[derive(Debug, PartialEq)]
struct Everything {
    between: Vec<LoggedRound>,
    paged: Vec<LoggedRound>,
    recorded: usize,
    log: Vec<LogEntry>,
}

async fn everything(
    store: &Store,
    paths: &[PathId],
    span: (OffsetDateTime, OffsetDateTime),
) -> Everything {
    let (mut paged, mut after) = (Vec::new(), None);
    loop {
        let page = store.rounds_page(paths[1], span, after, 37).await.unwrap();
        paged.extend(page.rounds);
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    let (mut reader, mut log) = (store.log_reader(), Vec::new());
    loop {
        let cursor = log.last().map_or(0, |last: &LogEntry| last.commit_no);
        let entries = reader.after(cursor, 11).await.unwrap();
        if entries.is_empty() {
            break;
        }
        log.extend(entries);
    }
    Everything {
        between: store.rounds_between(paths, span.0, span.1).await.unwrap(),
        paged,
        recorded: store.rounds_of(paths[0]).await.unwrap().len(),
        log,
    }
}

/// Probes sent, answered, and the sum of delays, by path, hour and hop.
type Counts = BTreeMap<(PathId, i64, usize), [u64; 3]>;

fn counts(rounds: &[LoggedRound]) -> Counts {
    let mut counts = Counts::new();
    for round in rounds {
        let hour = round.measured_at.as_unix_micros().div_euclid(3_600_000_000);
        for (nth, hop) in round.hops.iter().enumerate() {
            let sum = counts.entry((round.path, hour, nth)).or_default();
            let delays = hop.rtt.iter().map(|delay| u64::from(delay.as_micros())).sum();
            let of = [u64::from(hop.sent), u64::from(hop.answers()), delays];
            for (sum, more) in sum.iter_mut().zip(of) {
                *sum += more;
            }
        }
    }
    counts
}

/// Judges commits and sums them up.
async fn judge_all(store: &Store, from: i64, to: i64) {
    while store.roll_up().await.unwrap() {}
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let all = JudgeWrite { checkpoint: Some(checkpoint(1)), ..nothing(from, to) };
    store.commit_judgement(token, &all, &mut EachApart).await.unwrap();
}

#[tokio::test]
async fn a_fortnight_reads_the_same_live_in_part_and_in_blocks() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut plan = watched(2_000);
    plan.sites[0].families.push(Family::Ipv6);
    store.reconcile(&plan).await.unwrap();
    let agent = join(&store).await;
    let tasks = store.schedule_for(agent).await.unwrap().tasks;
    let paths: Vec<PathId> = tasks.iter().map(|task| task.path).collect();
    assert_eq!(paths.len(), 2);
    let now = noon();
    let first = now - Duration::days(DAYS.into());
    let mut seq = 0;
    let mut at = first;
    while at < now {
        let batch = varied(agent, &paths, seq, at);
        assert_eq!(store.commit_batch(agent, &batch, at).await.unwrap().stored, 8);
        (seq, at) = (seq + 1, at + EVERY);
    }
    assert_eq!(store.compact_next(now).await.unwrap(), Compacted::Nothing, "nothing is judged");
    judge_all(&store, 0, seq.cast_signed()).await;
    let batches = usize::try_from(seq).unwrap();
    let span = (first - Duration::hours(1), now + Duration::hours(1));
    let live = everything(&store, &paths, span).await;
    assert_eq!((live.between.len(), live.recorded), (8 * batches, 4 * batches));
    assert_eq!(live.paged.len(), live.recorded);

    let (mut parts, mut days) = (0, Vec::new());
    loop {
        let compacted = store.compact_next(now).await.unwrap();
        match compacted {
            Compacted::Nothing => break,
            Compacted::Part(_) => parts += 1,
            Compacted::Day(day) => days.push(day),
        }
        // In the middle of a day, and just behind one.
        if parts == 5 || (matches!(compacted, Compacted::Day(_)) && days.len() == 3) {
            assert_eq!(everything(&store, &paths, span).await, live, "{parts} {days:?}");
        }
    }
    assert!(days.is_sorted() && days.len() == usize::from(DAYS), "{days:?}");
    assert!(parts <= batches + days.len(), "time without batches is passed over: {parts}");
    let blocks = everything(&store, &paths, span).await;
    assert_eq!(counts(&blocks.between), counts(&live.between));
    assert_eq!(blocks, live);
    let some = (first + Duration::days(2), first + Duration::days(3));
    let day = store.rounds_between(&paths[..1], some.0, some.1).await.unwrap();
    let expected = live.between.iter().filter(|round| {
        let at = WallTime::from(some.0)..=WallTime::from(some.1);
        round.path == paths[0] && at.contains(&round.measured_at)
    });
    assert_eq!(day, expected.cloned().collect::<Vec<_>>());
    // A batch that is sent again is known although its rounds are in a block.
    let again = varied(agent, &paths, 3, now);
    assert!(store.commit_batch(agent, &again, now).await.unwrap().duplicate);

    let size = store.database_size(now).await.unwrap();
    assert!(size.tables.iter().any(|table| table.name == "round_block" && table.bytes > 0));
    let keep = Retention { rounds_days: 2, findings_days: 90, rollups_days: 400 };
    for _ in 0..8 {
        store.apply_retention(keep, now).await.unwrap();
    }
    let left = everything(&store, &paths, span).await;
    assert!((1..=8 * 24).contains(&left.between.len()), "{}", left.between.len());
    assert!(live.between.ends_with(&left.between[left.between.len() / 2..]));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_unreadable_round_is_compacted_as_it_is_and_a_reader_only_delays_the_end() {
    let fixture = fixture().await;
    let store = &fixture.store;
    let (agent, path) = measuring(store).await;
    let now = noon();
    let before = now - Duration::days(2);
    for seq in 0..3 {
        let batch = varied(agent, &[path], seq, before);
        store.commit_batch(agent, &batch, before).await.unwrap();
    }
    judge_all(store, 0, 3).await;
    let raw = raw(&fixture).await;
    // One row cannot be read at all, another has hops that cannot.
    let poison = "WITH two AS (SELECT content, row_number() OVER (ORDER BY content) AS nth \
             FROM round WHERE commit_no = 2) \
         UPDATE round r SET content = CASE nth WHEN 1 THEN '\\xff' || r.content \
             ELSE r.content || '\\xff' END \
         FROM two WHERE r.commit_no = 2 AND r.content = two.content AND nth <= 2";
    raw.execute_unprepared(poison).await.unwrap();
    let readable = log_after(store, 2, 1).await;
    assert_eq!(rounds_in(&readable[0]).len(), 4);

    let reading = raw.begin().await.unwrap();
    reading.execute_unprepared("SELECT count(*) FROM round").await.unwrap();
    let mut ended = None;
    for _ in 0..200 {
        match store.compact_next(now).await {
            Ok(Compacted::Part(_)) => {}
            other => {
                ended = Some(other);
                break;
            }
        }
    }
    let waited = ended.unwrap().unwrap_err();
    assert!(matches!(waited, StoreError::Database(_)), "{waited:?}");
    reading.commit().await.unwrap();
    assert!(matches!(store.compact_next(now).await.unwrap(), Compacted::Day(_)));
    assert_eq!(log_after(store, 2, 1).await, readable);
    let error = store.log_reader().between((0, 2), 10).await.unwrap_err();
    assert!(!error.may_pass(), "the same error as before: {error:?}");
    let first = store.log_reader().between((0, 1), 10).await.unwrap();
    assert_eq!(rounds_in(&first[0]).len(), 4, "its neighbours are read");

    // Rounds that came into a day outside the order of commits are not dropped with it.
    let yesterday = now - Duration::days(1);
    store.commit_batch(agent, &varied(agent, &[path], 9, yesterday), yesterday).await.unwrap();
    judge_all(store, 3, 4).await;
    assert!(matches!(store.compact_next(now).await.unwrap(), Compacted::Part(_)));
    assert!(matches!(store.compact_next(now).await.unwrap(), Compacted::Part(_)));
    let copied = "INSERT INTO round SELECT * FROM round WHERE commit_no = 4 LIMIT 1";
    raw.execute_unprepared(copied).await.unwrap();
    let refused = store.compact_next(now).await.unwrap_err();
    assert!(matches!(refused, StoreError::Corrupt { .. }), "{refused:?}");
    assert_eq!(rounds_in(&log_after(store, 3, 1).await[0]).len(), 5);
    raw.close().await.unwrap();
    fixture.cluster.stop().await.unwrap();
}
