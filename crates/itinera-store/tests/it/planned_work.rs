//! Calendars of planned work.

use super::review::{Judging, alarm};
use super::*;
use itinera_store::{CalendarSpec, PlannedWork};

fn spec(name: &str) -> CalendarSpec {
    CalendarSpec {
        name: name.to_owned(),
        url: None,
        site: None,
        owner: Some(64_510),
        zone: "UTC".to_owned(),
        content: "BEGIN:VCALENDAR\0".to_owned(),
    }
}

fn work(uid: &str, from: OffsetDateTime) -> PlannedWork {
    PlannedWork {
        uid: uid.to_owned(),
        starts_at: from,
        ends_at: from + Duration::hours(1),
        summary: format!("work {uid}"),
        sites: vec!["Eskerry".to_owned()],
        owners: vec![64_510, 4_200_000_000],
    }
}

#[tokio::test]
async fn a_calendar_is_replaced_keeps_what_it_had_and_says_what_it_explained() {
    let Fixture { cluster, store, _data } = fixture().await;
    let now = OffsetDateTime::now_utc().replace_nanosecond(0).unwrap();
    let next = now + Duration::minutes(15);
    let lasting = async |at| store.planned_work(at, at, 10).await.unwrap();
    store.save_calendar(&spec("Halls"), &[work("1", now)], next, "ailsa").await.unwrap();
    store.save_calendar(&spec("Other"), &[work("1", now)], now, "ailsa").await.unwrap();
    let works = lasting(now + Duration::minutes(30)).await;
    assert_eq!(works.len(), 2);
    assert_eq!(works[0].work, work("1", now));
    assert_eq!(lasting(now + Duration::minutes(90)).await, []);

    let mut judging = Judging::begin(&store).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(1))], true).await;
    let raised = &store.alarms(Lasting::OPEN, 10).await.unwrap()[0];
    let root = raised.id.as_uuid();
    let halls = works.iter().find(|it| it.calendar == "Halls").unwrap();
    assert!(store.record_explained(halls, root, now).await.unwrap());
    assert!(!store.record_explained(halls, root, now).await.unwrap(), "once");

    // Its events are replaced; what it explained stays with the event that stays.
    let again = [work("1", now), work("2", now + Duration::days(1))];
    store.save_calendar(&spec("Halls"), &again, next, "bran").await.unwrap();
    let works = lasting(now).await;
    let halls = works.iter().find(|it| it.calendar == "Halls").unwrap();
    assert_eq!(halls.explained, [(root, raised.no)]);

    let due = store.due_calendars(now).await.unwrap();
    assert_eq!(due.iter().map(|it| it.name.as_str()).collect::<Vec<_>>(), ["Other"]);
    store.record_calendar("Other", Err("answered 404"), next).await.unwrap();
    let calendars = store.calendars().await.unwrap();
    let failed = calendars.iter().find(|it| it.name == "Other").unwrap();
    assert_eq!((failed.error.as_deref(), failed.occurrences), (Some("answered 404"), 1));
    store.record_calendar("Other", Ok(("BEGIN", &[])), next).await.unwrap();
    let calendars = store.calendars().await.unwrap();
    let fetched = calendars.iter().find(|it| it.name == "Other").unwrap();
    assert_eq!((fetched.error.as_deref(), fetched.occurrences), (None, 0));

    assert!(store.remove_calendar("Halls", "bran").await.unwrap());
    assert!(!store.remove_calendar("Halls", "bran").await.unwrap());
    assert_eq!(lasting(now).await, []);
    cluster.stop().await.unwrap();
}
