//! What operators do with alarms.

use super::events::{asking, event};
use super::review::{Judging, alarm};
use super::*;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::incident::TimelineKind;
use itinera_model::role::Role;
use itinera_model::triage::{Act, HandlingChange, OperatorAction, OperatorState};
use itinera_store::{
    AlarmChange, AlarmOutcome, AlarmRefused, AlarmRequest, AssigneeFilter, EventQuery,
};
use std::collections::BTreeSet;

fn request(change: AlarmChange, text: &str) -> AlarmRequest {
    let act = Act { by: "ailsa".to_owned(), at: OffsetDateTime::now_utc().into() };
    AlarmRequest { change, text: text.to_owned(), act }
}

fn handling(change: HandlingChange) -> AlarmRequest {
    request(AlarmChange::Handling(change), "")
}

/// Changes one alarm.
async fn change(store: &Store, root: Uuid, request: &AlarmRequest) -> AlarmOutcome {
    store.change_alarms(&BTreeSet::from([root]), request).await.unwrap()[&root]
}

async fn ids(store: &Store, which: &AlarmQuery) -> Vec<Uuid> {
    let rows = store.alarm_page(which, OffsetDateTime::now_utc(), None, 10).await.unwrap();
    let id = |rows: AlarmRows| match rows {
        AlarmRows::Paths(record) => record.id.as_uuid(),
        AlarmRows::Events(events) => events[0].id.as_uuid(),
    };
    rows.into_iter().map(id).collect()
}

async fn actions(store: &Store, root: Uuid) -> Vec<(String, OperatorAction)> {
    let actions = store.alarm_actions(vec![root]).await.unwrap().remove(&root);
    actions.unwrap_or_default().into_iter().map(|it| (it.user, it.action)).collect()
}

async fn state(store: &Store, root: Uuid) -> OperatorState {
    let handlings = store.handlings(vec![root]).await.unwrap();
    let now = OffsetDateTime::now_utc().into();
    handlings.get(&root).map_or(OperatorState::None, |handling| handling.state(now))
}

#[tokio::test]
async fn an_action_is_in_the_alarm_its_incident_and_the_audit_and_filters_find_it() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.add_user("ailsa", Role::Analyst, "h", "first start").await.unwrap();
    let mut judging = Judging::begin(&store).await;
    for hop in [1, 2, 3] {
        judging.write(&store, vec![AlarmEffect::Raised(alarm(hop))], false).await;
    }
    let all = ids(&store, &AlarmQuery::default()).await;
    let until = OffsetDateTime::now_utc() + Duration::hours(1);
    let shelve = HandlingChange::Shelve { until: until.into(), reason: "known".to_owned() };
    let assign = HandlingChange::Assign(Some("ailsa".to_owned()));
    let acknowledge = request(AlarmChange::Handling(HandlingChange::Acknowledge), "seen\0");
    assert_eq!(change(&store, all[0], &acknowledge).await, AlarmOutcome::Done);
    assert_eq!(change(&store, all[0], &acknowledge).await, AlarmOutcome::Unchanged);
    assert_eq!(change(&store, all[0], &handling(assign)).await, AlarmOutcome::Done);
    assert_eq!(change(&store, all[1], &handling(shelve)).await, AlarmOutcome::Done);

    use OperatorAction::{Acknowledged, Assigned};
    let by_ailsa = |action| ("ailsa".to_owned(), action);
    assert_eq!(actions(&store, all[0]).await, [Acknowledged, Assigned].map(by_ailsa));
    let first = &store.alarm_actions(vec![all[0]]).await.unwrap()[&all[0]][0];
    assert_eq!(first.detail["text"], "seen\\x00", "what the database cannot hold is escaped");
    let Some(AlarmRows::Paths(record)) = store.alarm(all[0]).await.unwrap() else { panic!() };
    let timeline = store.incident_events(record.incident.unwrap()).await.unwrap();
    let kinds: Vec<_> = timeline.iter().map(|it| (it.user.as_str(), it.kind)).collect();
    let expected = [TimelineKind::AlarmAcknowledged, TimelineKind::AlarmAssigned];
    assert_eq!(kinds[2..], expected.map(|kind| ("ailsa", kind)));
    let audit = store.audit_entries(None, 10).await.unwrap();
    let audit: Vec<_> = audit.iter().map(|it| (it.action.name(), it.object.as_str())).collect();
    let expected = [("alarm-shelved", "2"), ("alarm-assigned", "3"), ("alarm-acknowledged", "3")];
    assert_eq!(audit[..3], expected);

    let states = |states: &[OperatorState]| AlarmQuery {
        states: Some(states.to_vec()),
        ..AlarmQuery::default()
    };
    use OperatorState::{Ack, None as NoState, Shelved};
    assert_eq!(ids(&store, &states(&[NoState, Ack])).await, [all[0], all[2]]);
    assert_eq!(ids(&store, &states(&[Shelved])).await, [all[1]]);
    let to = |assignee| AlarmQuery { assignee: Some(assignee), ..AlarmQuery::default() };
    assert_eq!(ids(&store, &to(AssigneeFilter::User("ailsa".to_owned()))).await, [all[0]]);
    assert_eq!(ids(&store, &to(AssigneeFilter::Unassigned)).await, all[1..]);
    let severe =
        |severity| AlarmQuery { severities: Some(vec![severity]), ..AlarmQuery::default() };
    assert_eq!(ids(&store, &severe(Severity::Major)).await, all);
    assert_eq!(ids(&store, &severe(Severity::Minor)).await, Vec::<Uuid>::new());
    let later = until + Duration::seconds(1);
    let page = store.alarm_page(&states(&[Shelved]), later, None, 10).await.unwrap();
    assert_eq!(page, [], "it is over");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_closed_alarm_is_reopened_when_it_returns_or_its_severity_rises() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    let one = Alarm { severity: Severity::Minor, ..alarm(1) };
    judging.write(&store, vec![AlarmEffect::Raised(one.clone())], false).await;
    let root = ids(&store, &AlarmQuery::default()).await[0];
    let close = handling(HandlingChange::Close);
    assert_eq!(change(&store, root, &close).await, AlarmOutcome::Done);
    let acknowledge = handling(HandlingChange::Acknowledge);
    let closed = AlarmOutcome::Refused(AlarmRefused::Closed);
    assert_eq!(change(&store, root, &acknowledge).await, closed);
    let at = |minutes: i64| one.raised_at.plus_micros(minutes * 60_000_000);
    let changed = |severity, minutes| AlarmEffect::Changed {
        alarm: Alarm { severity, ..one.clone() },
        at: at(minutes),
    };
    judging.write(&store, vec![changed(Severity::Minor, 1)], false).await;
    assert_eq!(state(&store, root).await, OperatorState::Closed, "it is as bad as it was");
    judging.write(&store, vec![changed(Severity::Major, 2)], false).await;
    assert_eq!(state(&store, root).await, OperatorState::None);

    assert_eq!(change(&store, root, &close).await, AlarmOutcome::Done);
    let cleared = AlarmEffect::Cleared { key: one.key, at: at(3) };
    judging.write(&store, vec![changed(Severity::Minor, 3), cleared], false).await;
    assert_eq!(state(&store, root).await, OperatorState::Closed);
    let again = AlarmEffect::RaisedAgain { alarm: one.clone(), at: at(4) };
    judging.write(&store, vec![again], false).await;
    assert_eq!(state(&store, root).await, OperatorState::None);
    use OperatorAction::{Closed, Reopened};
    let expected =
        [("ailsa", Closed), ("Itinera", Reopened), ("ailsa", Closed), ("Itinera", Reopened)];
    let expected = expected.map(|(user, action)| (user.to_owned(), action));
    assert_eq!(actions(&store, root).await, expected);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_attached_alarm_is_in_the_other_incident_and_an_empty_one_closes() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    for hop in [1, 2] {
        judging.write(&store, vec![AlarmEffect::Raised(alarm(hop))], false).await;
    }
    let incidents = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    let [newer, older] = incidents.as_slice() else { panic!("{}", incidents.len()) };
    let root = newer.alarms[0].id.as_uuid();
    let attach = |incident| request(AlarmChange::Attach(incident), "one cause");
    assert_eq!(change(&store, root, &attach(older.id)).await, AlarmOutcome::Done);
    assert_eq!(change(&store, root, &attach(older.id)).await, AlarmOutcome::Unchanged);
    let kinds = async |id| {
        let timeline = store.incident_events(id).await.unwrap();
        timeline.into_iter().map(|entry| entry.kind).collect::<Vec<_>>()
    };
    assert_eq!(store.incident(older.id).await.unwrap().unwrap().alarms.len(), 2);
    assert_eq!(kinds(older.id).await.last(), Some(&TimelineKind::AlarmAttached));
    let left = [TimelineKind::AlarmAttached, TimelineKind::Closed];
    assert_eq!(kinds(newer.id).await[2..], left);

    let refused = async |change: AlarmChange| {
        let roots = BTreeSet::from([root]);
        let error = store.change_alarms(&roots, &request(change, "")).await.unwrap_err();
        let StoreError::Alarm(refused) = error else { panic!("{error}") };
        refused
    };
    let unknown = AlarmChange::Attach(IncidentId::from_uuid(Uuid::from_u128(9)));
    assert_eq!(refused(unknown).await, AlarmRefused::UnknownIncident);
    assert_eq!(refused(AlarmChange::Attach(newer.id)).await, AlarmRefused::IncidentClosed);
    let stranger = HandlingChange::Assign(Some("stranger".to_owned()));
    assert_eq!(refused(AlarmChange::Handling(stranger)).await, AlarmRefused::UnknownUser);

    let stranger = Uuid::from_u128(9);
    let roots = BTreeSet::from([root, stranger]);
    let outcomes =
        store.change_alarms(&roots, &handling(HandlingChange::Acknowledge)).await.unwrap();
    assert_eq!(outcomes[&root], AlarmOutcome::Done);
    assert_eq!(outcomes[&stranger], AlarmOutcome::Refused(AlarmRefused::Unknown));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn events_of_one_cause_in_one_incident_are_one_alarm_by_the_first() {
    let Fixture { cluster, store, _data } = fixture().await;
    let agent = asking(&store).await;
    let mut judging = Judging::begin(&store).await;
    let of = |subject: &str, group: &str| {
        let event = event(EventKind::ReceiveErrors, Some(Severity::Major), agent);
        let key = EventKey { subject: subject.to_owned(), ..event.key.clone() };
        Event { key, group: group.to_owned(), ..event }
    };
    let events = [of("eth0", "one"), of("eth1", "one"), of("eth2", "other")];
    let began: Vec<_> = events.iter().cloned().map(EventEffect::Began).collect();
    judging.write_events(&store, began).await;
    let every = AlarmQuery::default();
    let all = ids(&store, &every).await;
    assert_eq!(all.len(), 2);
    assert_eq!(store.status_counts().await.unwrap().open_alarms, 2);
    let recorded = store.events(EventQuery::default(), None, 10).await.unwrap();
    let row = |subject: &str| {
        let found = recorded.iter().find(|it| it.event.key.subject == subject);
        (found.unwrap().id, found.unwrap().root)
    };
    let root = row("eth0").0;
    assert_eq!([row("eth0").1, row("eth1").1], [root, root]);
    let by_any = [row("eth0").0, row("eth1").0].map(|id| id.as_uuid());
    let (by_id, _) = store.alarms_named(by_any.to_vec(), vec![]).await.unwrap();
    assert_eq!(by_any.map(|id| by_id[&id]), [root.as_uuid(); 2]);

    // Its first event ends, another one lasts: the alarm is open, and is that of before.
    let close = handling(HandlingChange::Close);
    assert_eq!(change(&store, root.as_uuid(), &close).await, AlarmOutcome::Done);
    let ended = EventEffect::Ended { key: events[0].key.clone(), at: events[0].raised_at };
    judging.write_events(&store, vec![ended]).await;
    let open = AlarmQuery { lasting: Lasting::OPEN, ..AlarmQuery::default() };
    assert_eq!(ids(&store, &open).await, all);
    let Some(AlarmRows::Events(rows)) = store.alarm(by_any[1]).await.unwrap() else { panic!() };
    assert_eq!(rows.len(), 2);
    // What becomes worse reopens it, and what begins again.
    let worse = Event { severity: Some(Severity::Critical), ..events[1].clone() };
    let changed = EventEffect::Changed { event: worse, at: events[1].raised_at };
    judging.write_events(&store, vec![changed]).await;
    assert_eq!(state(&store, root.as_uuid()).await, OperatorState::None);
    assert_eq!(change(&store, root.as_uuid(), &close).await, AlarmOutcome::Done);
    judging.write_events(&store, vec![EventEffect::Began(events[0].clone())]).await;
    assert_eq!(state(&store, root.as_uuid()).await, OperatorState::None);
    assert_eq!(ids(&store, &every).await, all);
    let pages = async |before| store.alarm_page(&every, OffsetDateTime::now_utc(), before, 1).await;
    let first = pages(None).await.unwrap();
    let [AlarmRows::Events(rows)] = first.as_slice() else { panic!("{first:?}") };
    let last = (rows[0].event.raised_at.date_time().unwrap(), rows[0].id.as_uuid());
    let second = pages(Some(last)).await.unwrap();
    assert_eq!(second.len(), 1);
    assert_ne!(first, second);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_alarm_names_earlier_ones_at_its_place_with_what_was_found() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    let at = |alarm: &Alarm, hours: i64| alarm.raised_at.plus_micros(hours * 3_600_000_000);
    let mut ids_by_time = Vec::new();
    for hours in [-3, -2, -1, 0] {
        let mut one = alarm(1);
        one.raised_at = at(&one, hours);
        let cleared =
            AlarmEffect::Cleared { key: one.key, at: at(&one, 0).plus_micros(60_000_000) };
        judging
            .write(&store, vec![AlarmEffect::Raised(one), AlarmEffect::Raised(alarm(9))], false)
            .await;
        let open =
            ids(&store, &AlarmQuery { lasting: Lasting::OPEN, ..AlarmQuery::default() }).await;
        let newest = store.alarms(Lasting::OPEN, 10).await.unwrap();
        let newest = newest.iter().find(|it| it.alarm.key == alarm(1).key).unwrap();
        ids_by_time.push((newest.id.as_uuid(), newest.no));
        assert!(open.contains(&newest.id.as_uuid()));
        let other = AlarmEffect::Cleared { key: alarm(9).key, at: at(&alarm(9), 0) };
        judging.write(&store, vec![cleared, other], false).await;
    }
    let close = request(AlarmChange::Handling(HandlingChange::Close), "card replaced");
    assert_eq!(change(&store, ids_by_time[1].0, &close).await, AlarmOutcome::Done);
    let asked: Vec<Uuid> = ids_by_time.iter().map(|(id, _)| *id).collect();
    let earlier = store.earlier_alarms(asked.clone()).await.unwrap();
    assert_eq!(earlier.get(&asked[0]), None, "it was the first");
    let of_last = &earlier[&asked[3]];
    let numbers: Vec<i64> = of_last.last.iter().map(|it| it.no).collect();
    assert_eq!((of_last.count, numbers), (3, [2, 1, 0].map(|n| ids_by_time[n].1).to_vec()));
    let closings: Vec<_> = of_last.last.iter().map(|it| it.closing.as_deref()).collect();
    assert_eq!(closings, [None, Some("card replaced"), None]);
    assert_eq!(earlier[&asked[1]].count, 1);
    cluster.stop().await.unwrap();
}
