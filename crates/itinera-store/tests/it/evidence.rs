//! Evidence: what is recorded, replaced, summed up and deleted.

use super::{Fixture, fixture, join_as, measuring, nothing};
use itinera_model::evidence::EvidenceSubject;
use itinera_model::id::PathId;
use itinera_model::path::Family;
use itinera_store::{
    EachApart, EvidenceRow, EvidenceWrite, JudgeWrite, NewEntry, PairSpec, Retention, Store,
    SubjectNo,
};
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

fn evidence(path: PathId, at: OffsetDateTime, content: Option<&[u8]>) -> EvidenceWrite {
    let content = content.map(<[u8]>::to_vec);
    EvidenceWrite {
        subject: EvidenceSubject::Path(path),
        minute: at.unix_timestamp() / 60,
        part: None,
        content,
    }
}

async fn write(store: &Store, token: i64, cursor: i64, evidence: Vec<EvidenceWrite>) {
    let write = JudgeWrite { evidence, ..nothing(cursor, cursor) };
    store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
}

fn contents(rows: &[EvidenceRow]) -> Vec<&[u8]> {
    rows.iter().map(|row| row.content.as_slice()).collect()
}

#[tokio::test]
async fn the_last_word_on_a_minute_counts_and_parts_stand_beside_it() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (_, path) = measuring(&store).await;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let now = OffsetDateTime::now_utc().replace_nanosecond(0).unwrap();
    let now = now - Duration::seconds(now.unix_timestamp() % 60);
    // No day has a partition for a year ago, or for the year 2106 of a wrong clock.
    let times = [now - Duration::days(365), now, now + Duration::days(29_000)];
    for (at, content) in times.into_iter().zip([b"old", b"now", b"far"]) {
        write(&store, token, 0, vec![evidence(path, at, Some(content))]).await;
    }
    let part = EvidenceWrite { part: Some(77), ..evidence(path, now, Some(b"late")) };
    write(&store, token, 0, vec![evidence(path, now, Some(b"new")), part]).await;
    let all = (times[0], times[2] + Duration::minutes(1));
    let read = store.evidence(EvidenceSubject::Path(path), all).await.unwrap();
    assert_eq!(contents(&read.minutes), [&b"old"[..], b"new", b"late", b"far"]);
    assert_eq!(read.minutes.iter().map(|it| it.start_at).collect::<Vec<_>>()[1..3], [now, now]);
    write(&store, token, 0, vec![evidence(path, times[2], None)]).await;
    let read = store.evidence(EvidenceSubject::Path(path), (now, all.1)).await.unwrap();
    assert_eq!(contents(&read.minutes), [&b"new"[..], b"late"]);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_day_is_summed_up_once_it_is_complete_and_its_minutes_are_deleted() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (_, path) = measuring(&store).await;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let today = OffsetDateTime::now_utc().date().midnight().assume_utc();
    let minutes = [0, 1, 61].map(|minutes| today + Duration::minutes(minutes));
    let of_day = minutes.map(|at| evidence(path, at, Some(b"one")));
    store.log(token, NewEntry::Clock, today + Duration::hours(47)).await.unwrap();
    let first = JudgeWrite { evidence: of_day.to_vec(), ..nothing(0, 1) };
    store.commit_judgement(token, &first, &mut EachApart).await.unwrap();
    let much_later = today + Duration::days(9);
    assert_eq!(store.evidence_day(much_later).await.unwrap(), None, "judgement is not as far");
    store.log(token, NewEntry::Clock, today + Duration::hours(48)).await.unwrap();
    store.commit_judgement(token, &nothing(1, 2), &mut EachApart).await.unwrap();
    assert_eq!(store.evidence_day(today + Duration::hours(47)).await.unwrap(), None);
    let day = store.evidence_day(much_later).await.unwrap().unwrap();
    assert_eq!(day.day, today.date());

    let rows = store.evidence_of_day(day, 10).await.unwrap();
    assert_eq!(contents(&rows), [b"one"; 3]);
    let hours = [0, 1].map(|hour| EvidenceRow {
        subject: rows[0].subject,
        start_at: today + Duration::hours(hour),
        part: 0,
        content: b"sum".to_vec(),
    });
    let summed = store.put_evidence_hours(day, &hours, (rows[0].subject, 3)).await.unwrap();
    assert_eq!(store.evidence_of_day(summed, 10).await.unwrap(), []);
    assert_eq!(store.evidence_day(much_later).await.unwrap(), Some(summed), "continues there");
    let span = (today, today + Duration::days(1));
    let read = store.evidence(EvidenceSubject::Path(path), span).await.unwrap();
    assert_eq!((read.minutes.len(), read.hours.len()), (3, 0), "nothing is there twice");

    // More came meanwhile: all of it again.
    let late = EvidenceWrite { part: Some(5), ..evidence(path, minutes[2], Some(b"late")) };
    write(&store, token, 2, vec![late]).await;
    assert!(!store.drop_evidence_day(summed).await.unwrap());
    let again = store.evidence_day(much_later).await.unwrap().unwrap();
    assert_eq!(store.evidence_of_day(again, 10).await.unwrap().len(), 4);
    let read = store.evidence(EvidenceSubject::Path(path), span).await.unwrap();
    assert_eq!((read.minutes.len(), read.hours.len()), (4, 0));
    let summed = store.put_evidence_hours(again, &hours, (rows[0].subject, 4)).await.unwrap();
    assert!(store.drop_evidence_day(summed).await.unwrap());
    assert_eq!(store.evidence_day(much_later).await.unwrap(), None);
    let read = store.evidence(EvidenceSubject::Path(path), span).await.unwrap();
    assert_eq!((read.minutes, contents(&read.hours)), (vec![], vec![&b"sum"[..]; 2]));

    // What comes after that is added to the hour that it belongs to.
    let later = EvidenceWrite { part: Some(6), ..evidence(path, minutes[1], Some(b"later")) };
    write(&store, token, 2, vec![later]).await;
    let late = store.late_evidence(much_later, 10).await.unwrap();
    assert_eq!(contents(&late.minutes), [b"later"]);
    assert_eq!(late.hours, hours[..1]);
    let hour = EvidenceRow { content: b"both".to_vec(), ..hours[0].clone() };
    store.put_late_evidence(&late, &[hour]).await.unwrap();
    assert_eq!(store.late_evidence(much_later, 10).await.unwrap().minutes, []);
    let read = store.evidence(EvidenceSubject::Path(path), span).await.unwrap();
    assert_eq!((read.minutes, contents(&read.hours)), (vec![], vec![&b"both"[..], b"sum"]));

    let keep = Retention { rounds_days: 1, findings_days: 2, rollups_days: 400 };
    store.apply_retention(keep, today + Duration::days(2)).await.unwrap();
    assert_eq!(
        store.evidence(EvidenceSubject::Path(path), span).await.unwrap().hours.len(),
        2,
        "two days are kept"
    );
    let deleted = store.apply_retention(keep, today + Duration::days(3)).await.unwrap();
    assert!(deleted.partitions.iter().any(|name| name.starts_with("evidence_hour_")));
    assert_eq!(store.evidence(EvidenceSubject::Path(path), span).await.unwrap().hours, []);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn pairs_have_evidence_beside_paths_with_the_same_number() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (agent, path) = measuring(&store).await;
    let other = join_as(&store, 8).await;
    let spec = PairSpec {
        sender: agent,
        reflector: other,
        family: Family::Ipv4,
        sender_address: [10, 1, 0, 2].into(),
        reflector_address: [10, 2, 0, 2].into(),
        is_hidden: false,
    };
    store.set_pairs(&[spec], false).await.unwrap();
    let pair = EvidenceSubject::Pair(store.pairs().await.unwrap()[0].id);
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let today = OffsetDateTime::now_utc().date().midnight().assume_utc();
    let of_path = evidence(path, today, Some(b"path"));
    let of_pair =
        EvidenceWrite { subject: pair, content: Some(b"pair".to_vec()), ..of_path.clone() };
    store.log(token, NewEntry::Clock, today + Duration::hours(48)).await.unwrap();
    let first = JudgeWrite { evidence: vec![of_path, of_pair.clone()], ..nothing(0, 1) };
    store.commit_judgement(token, &first, &mut EachApart).await.unwrap();
    let span = (today, today + Duration::hours(1));
    for (subject, content) in [(EvidenceSubject::Path(path), b"path"), (pair, b"pair")] {
        let read = store.evidence(subject, span).await.unwrap();
        assert_eq!(contents(&read.minutes), [content]);
    }
    let mut day = store.evidence_day(today + Duration::days(9)).await.unwrap().unwrap();
    let mut subjects = Vec::new();
    while let Some(row) = store.evidence_of_day(day, 1).await.unwrap().first() {
        subjects.push((row.subject, row.content.clone()));
        let hours = [EvidenceRow { content: b"sum".to_vec(), ..row.clone() }];
        day = store.put_evidence_hours(day, &hours, (row.subject, 1)).await.unwrap();
    }
    assert!(matches!(subjects[..], [(SubjectNo::Path(_), _), (SubjectNo::Pair(1), _)]));
    assert!(store.drop_evidence_day(day).await.unwrap());
    let read = store.evidence(pair, span).await.unwrap();
    assert_eq!((read.minutes, contents(&read.hours)), (vec![], vec![&b"sum"[..]]));
    write(&store, token, 1, vec![EvidenceWrite { content: None, ..of_pair }]).await;
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_day_gets_its_partition_although_it_has_evidence_already() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (_, path) = measuring(&store).await;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let now = OffsetDateTime::now_utc();
    let at = (now.date() + Duration::days(20)).midnight().assume_utc() + Duration::hours(5);
    write(&store, token, 0, vec![evidence(path, at, Some(b"ahead"))]).await;
    store.make_partitions(now + Duration::days(15)).await.unwrap();
    let read =
        store.evidence(EvidenceSubject::Path(path), (at, at + Duration::minutes(1))).await.unwrap();
    assert_eq!(contents(&read.minutes), [b"ahead"]);
    let late = store.late_evidence(at + Duration::days(60), 10).await.unwrap();
    assert_eq!(late.minutes, [], "it is in the partition of its day");
    cluster.stop().await.unwrap();
}
