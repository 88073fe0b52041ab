//! Alarms of the service itself.

use super::events::event;
use super::notices::{add, claims, compose, webhook};
use super::review::{Judging, alarm};
use super::*;
use itinera_model::alarm::AlarmClass;
use itinera_model::event::{Event, EventEffect, EventKind};
use itinera_model::notice::NoticeKind;
use itinera_store::{Attempt, EventQuery, NoticeQuery};

#[tokio::test]
async fn a_fault_of_the_service_is_an_alarm_with_an_incident_and_a_notice_and_no_site() {
    let Fixture { cluster, store, _data } = fixture().await;
    let nobody = AgentId::from_uuid(Uuid::nil());
    let now = OffsetDateTime::now_utc();
    let behind = event(EventKind::JudgementBehind, Some(Severity::Major), nobody);
    let effects = [EventEffect::Began(behind.clone())];
    store.record_self_alarms(&effects, now, &mut EachApart).await.unwrap();
    assert_eq!(store.open_self_alarms().await.unwrap(), std::slice::from_ref(&behind));

    let of_class = async |class| {
        let which = AlarmQuery { classes: Some(vec![class]), ..AlarmQuery::default() };
        store.alarm_page(&which, now, None, 10).await.unwrap()
    };
    assert_eq!(of_class(AlarmClass::Path).await, []);
    assert_eq!(of_class(AlarmClass::Event).await, []);
    let page = of_class(AlarmClass::Service).await;
    let [AlarmRows::Events(rows)] = &page[..] else { panic!("{page:?}") };
    assert_eq!((&rows[0].event, &rows[0].site), (&behind, &None));
    let incidents = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    assert_eq!(incidents[0].faults, rows[..]);
    let notices = store.notices(NoticeQuery::default(), 10).await.unwrap();
    let kinds: Vec<NoticeKind> = notices.iter().map(|notice| notice.kind).collect();
    assert_eq!(kinds, [NoticeKind::Raised]);
    // Events of agents are another list, and judgement knows of neither.
    assert_eq!(store.events(EventQuery::default(), None, 10).await.unwrap(), []);
    assert_eq!(store.recorded().await.unwrap().events, []);

    let (key, at) = (behind.key.clone(), behind.raised_at);
    let worse = Event { severity: Some(Severity::Critical), ..behind };
    let worse = [EventEffect::Changed { event: worse, at }];
    store.record_self_alarms(&worse, now, &mut EachApart).await.unwrap();
    let open = store.open_self_alarms().await.unwrap();
    assert_eq!(open[0].severity, Some(Severity::Critical));
    let ended = [EventEffect::Ended { key, at }];
    store.record_self_alarms(&ended, now, &mut EachApart).await.unwrap();
    assert_eq!(store.open_self_alarms().await.unwrap(), []);
    let history = store.alarm_states(vec![rows[0].id.as_uuid()]).await.unwrap();
    let states: Vec<_> = history.values().flatten().map(|it| (it.state, it.severity)).collect();
    use itinera_model::alarm::AlarmState::{Cleared, Open};
    let critical = Some(Severity::Critical);
    assert_eq!(states, [(Open, Some(Severity::Major)), (Open, critical), (Cleared, critical)]);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn how_the_service_stands_is_read_from_the_database() {
    let Fixture { cluster, store, _data } = fixture().await;
    let fresh = store.health().await.unwrap();
    assert_eq!((fresh.unjudged_commits, fresh.oldest_unjudged_s, fresh.agents), (0, 0.0, 0));
    store.reconcile(&watched(2_000)).await.unwrap();
    let agent = join(&store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    let earlier = OffsetDateTime::now_utc() - Duration::seconds(90);
    store.make_partitions(earlier).await.unwrap();
    store.commit_batch(agent, &batch(agent, path, 0, earlier.into()), earlier).await.unwrap();
    let health = store.health().await.unwrap();
    assert_eq!((health.unjudged_commits, health.agents, health.agents_late), (1, 1, 1));
    assert!((90.0..300.0).contains(&health.oldest_unjudged_s), "{health:?}");
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    store.set_commit_aside(token, 1, 1, "unreadable").await.unwrap();
    let health = store.health().await.unwrap();
    assert_eq!((health.unjudged_commits, health.set_aside_commits), (0, 1));
    assert_eq!(health.set_aside_error.as_deref(), Some("unreadable"));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_receiver_fails_while_its_notices_of_incidents_are_not_delivered() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (desk, other) =
        (add(&store, "Desk", webhook()).await, add(&store, "Other", webhook()).await);
    let mut judging = Judging::begin(&store).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(1))], false).await;
    compose(&store, &[desk, other]).await;
    assert_eq!(store.failing_receivers().await.unwrap(), []);
    for claim in claims(&store).await {
        let attempt = if claim.receiver.name == "Desk" {
            Attempt::Failed { reason: "403".to_owned() }
        } else {
            Attempt::Sent { answer: None }
        };
        store.record_attempt(claim.id, &attempt).await.unwrap();
    }
    let failing = store.failing_receivers().await.unwrap();
    let failing: Vec<_> = failing
        .iter()
        .map(|it| (it.receiver.as_str(), it.deliveries, it.reason.as_str()))
        .collect();
    assert_eq!(failing, [("Desk", 1, "403")]);
    store.remove_receiver(desk, "ailsa").await.unwrap();
    assert_eq!(store.failing_receivers().await.unwrap(), []);
    cluster.stop().await.unwrap();
}
