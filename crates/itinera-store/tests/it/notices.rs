//! The outbox: notices that follow from alarms, their deliveries, and receivers.

use super::review::{Judging, alarm};
use super::*;
use itinera_model::id::{NoticeId, ReceiverId};
use itinera_model::incident::TimelineKind;
use itinera_model::notice::{Channel, DeliveryState, NoticeKind, Receiver};
use itinera_model::triage::{Act, HandlingChange};
use itinera_store::{
    AlarmChange, AlarmRequest, Attempt, Claim, Composed, DueNotice, NoticeQuery, ReceiverRefused,
    Retried, TagOf, Tagged,
};
use std::collections::BTreeSet;

const LASTS: std::time::Duration = std::time::Duration::from_secs(60);

fn receiver(name: &str, channel: Channel) -> Receiver {
    Receiver { name: name.to_owned(), enabled: true, channel, routes: Vec::new() }
}

pub(crate) fn webhook() -> Channel {
    Channel::Webhook { url: "https://desk.corriven.example/".to_owned() }
}

pub(crate) async fn add(store: &Store, name: &str, channel: Channel) -> ReceiverId {
    let added = store.add_receiver(&receiver(name, channel), Some("5ecret"), "ailsa").await;
    added.unwrap().id
}

/// Notices that are due within an hour.
async fn due(store: &Store) -> Vec<DueNotice> {
    let later = OffsetDateTime::now_utc() + Duration::hours(1);
    store.due_notices(later, 100).await.unwrap()
}

async fn due_kinds(store: &Store) -> Vec<NoticeKind> {
    due(store).await.into_iter().map(|notice| notice.kind).collect()
}

/// Composes all notices that are due within an hour, for these receivers.
pub(crate) async fn compose(store: &Store, receivers: &[ReceiverId]) -> Vec<NoticeId> {
    let mut ids = Vec::new();
    for notice in due(store).await {
        let content = serde_json::json!({ "headline": "a\0b" });
        let (severity, receivers) = (notice.severity, receivers.to_vec());
        let composed = Composed { id: notice.id, severity, content, receivers };
        let now = OffsetDateTime::now_utc();
        store.record_composed(&composed, now).await.unwrap();
        // Another process has composed it already: nothing is doubled.
        store.record_composed(&composed, now).await.unwrap();
        ids.push(notice.id);
    }
    ids
}

pub(crate) async fn claims(store: &Store) -> Vec<Claim> {
    store.claim_deliveries(Vec::new(), LASTS, 10).await.unwrap()
}

async fn states(store: &Store) -> Vec<DeliveryState> {
    let notices = store.notices(NoticeQuery::default(), 100).await.unwrap();
    let deliveries = notices.into_iter().rev().flat_map(|notice| notice.deliveries);
    deliveries.map(|delivery| delivery.state).collect()
}

fn cleared(alarm: &Alarm) -> AlarmEffect {
    AlarmEffect::Cleared { key: alarm.key, at: alarm.raised_at.plus_micros(60_000_000) }
}

fn again(alarm: &Alarm) -> AlarmEffect {
    AlarmEffect::RaisedAgain { alarm: alarm.clone(), at: alarm.raised_at.plus_micros(120_000_000) }
}

#[tokio::test]
async fn a_notice_is_written_with_the_alarm_and_what_passes_unsaid_stays_unsaid() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    let (one, two) = (alarm(1), alarm(2));
    use NoticeKind::{Cleared, Raised, RaisedAgain, Worsened};
    judging.write(&store, vec![AlarmEffect::Raised(one.clone())], true).await;
    judging.write(&store, vec![AlarmEffect::Raised(two.clone())], true).await;
    assert_eq!(due_kinds(&store).await, [Raised], "one incident, one notice");
    assert_eq!(due(&store).await[0].severity, Some(Severity::Major));
    let now = OffsetDateTime::now_utc();
    assert_eq!(store.due_notices(now, 10).await.unwrap(), [], "it waits for the whole fault");
    judging.write(&store, vec![cleared(&one), cleared(&two)], true).await;
    assert_eq!(due_kinds(&store).await, [], "it was over before it was said");

    judging.write(&store, vec![again(&one)], true).await;
    assert_eq!(compose(&store, &[]).await.len(), 1);
    let worse = Alarm { severity: Severity::Critical, ..one.clone() };
    let at = one.raised_at.plus_micros(130_000_000);
    judging.write(&store, vec![AlarmEffect::Changed { alarm: worse.clone(), at }], true).await;
    assert_eq!(due_kinds(&store).await, [Worsened]);
    compose(&store, &[]).await;
    judging.write(&store, vec![cleared(&worse)], true).await;
    assert_eq!(due_kinds(&store).await, [Cleared]);
    let soon = OffsetDateTime::now_utc() + Duration::seconds(60);
    assert_eq!(store.due_notices(soon, 10).await.unwrap(), [], "it may return");
    judging.write(&store, vec![again(&worse)], true).await;
    assert_eq!(due_kinds(&store).await, [], "it has returned");
    judging.write(&store, vec![cleared(&worse)], true).await;
    compose(&store, &[]).await;
    judging.write(&store, vec![again(&worse)], true).await;
    assert_eq!(due_kinds(&store).await, [RaisedAgain]);
    let late = alarm(9);
    let cleared_at = late.raised_at.plus_micros(1_000_000);
    let recorded = AlarmEffect::Recorded { alarm: late, cleared_at };
    judging.write(&store, vec![recorded], false).await;
    assert_eq!(due_kinds(&store).await, [RaisedAgain], "a fault of the past is not said");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn what_operators_set_aside_is_said_when_the_shelf_expires() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(1))], true).await;
    let open = store.alarms(Lasting::OPEN, 10).await.unwrap();
    let roots = BTreeSet::from([open[0].id.as_uuid()]);
    let until = OffsetDateTime::now_utc() + Duration::minutes(5);
    let shelve = HandlingChange::Shelve { until: until.into(), reason: "known".to_owned() };
    let act = Act { by: "ailsa".to_owned(), at: OffsetDateTime::now_utc().into() };
    let change = AlarmChange::Handling(shelve);
    let request = AlarmRequest { change, text: String::new(), act };
    store.change_alarms(&roots, &request).await.unwrap();
    assert_eq!(due_kinds(&store).await, []);
    let (minute, before) = (Duration::minutes(1), until - Duration::minutes(2));
    store.note_expired_shelves(before, before + minute).await.unwrap();
    assert_eq!(due_kinds(&store).await, [], "it is still on the shelf");
    store.note_expired_shelves(before, until + minute).await.unwrap();
    assert_eq!(due_kinds(&store).await, [NoticeKind::Raised]);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_alarm_that_is_attached_elsewhere_leaves_no_notice_of_its_own() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(1))], false).await;
    compose(&store, &[]).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(2))], false).await;
    let incidents = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    let moved = incidents[0].alarms[0].id.as_uuid();
    let change = AlarmChange::Attach(incidents[1].id);
    let act = Act { by: "ailsa".to_owned(), at: OffsetDateTime::now_utc().into() };
    let request = AlarmRequest { change, text: String::new(), act };
    store.change_alarms(&BTreeSet::from([moved]), &request).await.unwrap();
    assert_eq!(due_kinds(&store).await, []);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_delivery_is_claimed_once_tried_again_and_recorded_in_the_incident() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    let desk = add(&store, "Desk", webhook()).await;
    let other = add(&store, "Other", webhook()).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(1))], true).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(2))], false).await;
    let notices = compose(&store, &[desk, other]).await;
    // Two processes ask at one time: each delivery goes to one, and one at a time to a receiver.
    let second = Store::open(&Cluster::url_in(_data.path())).await.unwrap();
    let (a, b) = tokio::join!(claims(&store), claims(&second));
    let claimed: Vec<Claim> = a.into_iter().chain(b).collect();
    let ids: BTreeSet<Uuid> = claimed.iter().map(|claim| claim.id).collect();
    assert_eq!(ids.len(), claimed.len(), "claimed twice");
    let of_desk = claimed.iter().find(|claim| claim.receiver_id == desk).unwrap();
    assert_eq!(of_desk.secret.as_deref(), Some("5ecret"));
    assert_eq!(of_desk.content["headline"], "a\\x00b");
    let busy = vec![desk.as_uuid()];
    let free = store.claim_deliveries(busy, LASTS, 10).await.unwrap();
    assert!(free.iter().all(|claim| claim.receiver_id == other));

    let at = OffsetDateTime::now_utc() - Duration::seconds(1);
    let reason = "greylisted".to_owned();
    store.record_attempt(of_desk.id, &Attempt::Again { reason, at }).await.unwrap();
    let retried = claims(&store).await;
    let retried = retried.iter().find(|claim| claim.id == of_desk.id).unwrap();
    assert_eq!((retried.attempts, retried.notice), (1, of_desk.notice), "one id");
    let answer = Some("200 OK".to_owned());
    let sent = Attempt::Sent { answer };
    store.record_attempt(of_desk.id, &sent).await.unwrap();
    store.record_attempt(of_desk.id, &sent).await.unwrap();
    let incidents = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    let mut entries = Vec::new();
    for incident in incidents {
        let timeline = store.incident_events(incident.id).await.unwrap();
        entries.extend(timeline.into_iter().filter(|it| it.kind == TimelineKind::NoticeSent));
    }
    assert_eq!(entries.len(), 1, "a late word of the first attempt changes nothing");
    assert_eq!(entries[0].body["receiver"], "Desk");
    assert!(notices.contains(&of_desk.notice));
    second.close().await.unwrap();
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn what_was_given_up_is_tried_again_on_demand_and_a_removed_receiver_is_sent_nothing() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (desk, other) =
        (add(&store, "Desk", webhook()).await, add(&store, "Other", webhook()).await);
    for receiver in [desk, other, desk] {
        store.test_receiver(receiver, "ailsa").await.unwrap();
    }
    let due = due(&store).await;
    assert_eq!(due.iter().map(|it| it.receiver).collect::<Vec<_>>(), [desk, other, desk].map(Some));
    for notice in due {
        let (content, receivers) = (serde_json::json!({}), vec![notice.receiver.unwrap()]);
        let composed = Composed { id: notice.id, severity: None, content, receivers };
        store.record_composed(&composed, OffsetDateTime::now_utc()).await.unwrap();
    }
    for claim in claims(&store).await {
        let failed = Attempt::Failed { reason: "403".to_owned() };
        store.record_attempt(claim.id, &failed).await.unwrap();
    }
    use DeliveryState::{Failed, Skipped, Waiting};
    assert_eq!(states(&store).await, [Failed, Failed, Waiting]);
    let late = async || store.status_counts().await.unwrap().late_deliveries;
    assert_eq!(late().await, 2);
    let failed = NoticeQuery { state: Some(Failed), ..NoticeQuery::default() };
    assert_eq!(store.notices(failed, 10).await.unwrap().len(), 2);
    assert_eq!(store.failing_receivers().await.unwrap(), [], "tests do not count");
    let of_other = Retried { receiver: Some(other), notice: None };
    assert_eq!(store.retry_deliveries(of_other, "ailsa").await.unwrap(), 1);
    assert_eq!(states(&store).await, [Failed, Waiting, Waiting]);
    assert_eq!(store.retry_deliveries(Retried::default(), "ailsa").await.unwrap(), 1);
    assert_eq!(store.retry_deliveries(Retried::default(), "ailsa").await.unwrap(), 0);

    let renamed = receiver("Other", webhook());
    let taken = store.change_receiver(desk, &renamed, None, false, "ailsa").await.unwrap_err();
    assert!(matches!(taken, StoreError::Receiver(ReceiverRefused::NameTaken)), "{taken:?}");
    store.remove_receiver(desk, "ailsa").await.unwrap();
    assert_eq!(states(&store).await, [Skipped, Waiting, Skipped]);
    let other_fails = Attempt::Failed { reason: "403".to_owned() };
    for claim in claims(&store).await {
        store.record_attempt(claim.id, &other_fails).await.unwrap();
    }
    assert_eq!(late().await, 1);
    let gone = store.remove_receiver(desk, "ailsa").await.unwrap_err();
    assert!(matches!(gone, StoreError::Receiver(ReceiverRefused::Unknown)), "{gone:?}");
    let left = store.receivers().await.unwrap();
    assert_eq!(left.iter().map(|it| it.id).collect::<Vec<_>>(), [other]);
    store.remove_receiver(other, "ailsa").await.unwrap();
    assert_eq!(late().await, 0, "a receiver that was removed is missed no more");
    add(&store, "Desk", webhook()).await;
    let audit = store.audit_entries(None, 100).await.unwrap();
    assert!(audit.iter().all(|entry| !entry.detail.to_string().contains("5ecret")));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_action_is_asked_for_no_more_often_than_its_limit() {
    let Fixture { cluster, store, _data } = fixture().await;
    let url = "https://actions.corriven.example/uplink".to_owned();
    let action = add(&store, "Uplink", Channel::Action { url, per_hour: 2 }).await;
    for _ in 0..3 {
        store.test_receiver(action, "ailsa").await.unwrap();
    }
    compose(&store, &[action]).await;
    use DeliveryState::{Skipped, Waiting};
    assert_eq!(states(&store).await, [Waiting, Waiting, Skipped]);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_secret_is_kept_until_a_new_one_is_asked_for() {
    let Fixture { cluster, store, _data } = fixture().await;
    let desk = add(&store, "Desk", webhook()).await;
    let change = async |channel, secret: Option<&str>, replaces| {
        let (changed, secret) = (receiver("Desk", channel), secret.map(str::to_owned));
        store.change_receiver(desk, &changed, secret, replaces, "ailsa").await.unwrap().1
    };
    assert_eq!(change(webhook(), Some("new"), false).await, None);
    assert_eq!(change(webhook(), Some("new"), true).await.as_deref(), Some("new"));
    let to = vec!["desk@corriven.example".to_owned()];
    assert_eq!(change(Channel::Mail { to }, None, false).await, None);
    let back = change(webhook(), Some("third"), false).await;
    assert_eq!(back.as_deref(), Some("third"), "it had none any more");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn tags_are_of_sites_and_services_as_configured_last() {
    let Fixture { cluster, store, _data } = fixture().await;
    let tagged =
        |kind, name: &str, tag: &str| Tagged { tag: tag.to_owned(), kind, name: name.to_owned() };
    let names = |name: &str| vec![name.to_owned()];
    let tags = [tagged(TagOf::Site, "Eskerry", "harbour"), tagged(TagOf::Site, "Eskerry", "north")];
    store.replace_tags(&tags).await.unwrap();
    assert_eq!(store.tags_of(&names("Eskerry"), &[]).await.unwrap(), ["harbour", "north"]);
    assert!(store.tags_of(&[], &names("Eskerry")).await.unwrap().is_empty(), "no service");
    store.replace_tags(&[tagged(TagOf::Service, "Crew Mail", "north")]).await.unwrap();
    let both = store.tags_of(&names("Eskerry"), &names("Crew Mail")).await.unwrap();
    assert_eq!(both, ["north"]);
    cluster.stop().await.unwrap();
}
