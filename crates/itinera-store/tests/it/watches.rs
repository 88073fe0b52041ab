//! Watches and suppressions, and what they do to an agent's schedule.

use super::{Fixture, fixture, join, watched};
use itinera_model::id::{AgentId, IncidentId, PathId};
use itinera_store::{
    Complaint, NewSuppression, NewWatch, Store, StoreError, WatchChange, WatchQuery, WatchRefused,
};
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

fn new_watch(path: PathId, interval_ms: u32, seconds: i64) -> NewWatch {
    let begins_at = OffsetDateTime::now_utc();
    NewWatch {
        path,
        interval_ms,
        begins_at,
        ends_at: begins_at + Duration::seconds(seconds),
        reason: "slow in the evening".into(),
        user: "Ailsa".into(),
    }
}

async fn denser(store: &Store, agent: AgentId) -> Option<u32> {
    let schedule = store.schedule_for(agent).await.unwrap();
    schedule.tasks[0].denser.map(|denser| denser.interval_ms)
}

fn refused<T: std::fmt::Debug>(outcome: Result<T, StoreError>) -> WatchRefused {
    match outcome.unwrap_err() {
        StoreError::Watch(refused) => refused,
        other => panic!("{other}"),
    }
}

#[tokio::test]
async fn a_watch_makes_its_path_denser_while_it_runs_and_is_kept() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(10_000)).await.unwrap();
    let agent = join(&store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    assert_eq!(denser(&store, agent).await, None);
    let nowhere = new_watch(PathId::from_uuid(Uuid::nil()), 1_000, 60);
    assert_eq!(refused(store.start_watch(&nowhere).await), WatchRefused::UnknownPath);

    let before = store.schedule_version().await.unwrap();
    let (id, version) = store.start_watch(&new_watch(path, 1_000, 600)).await.unwrap();
    assert_eq!(version, Some(before + 1));
    let (other, _) = store.start_watch(&new_watch(path, 2_000, 900)).await.unwrap();
    assert_eq!(denser(&store, agent).await, Some(1_000), "the densest counts");
    let change = async |change| store.change_watch(id, change, "Ailsa").await;
    assert_eq!(refused(change(WatchChange::Resume).await), WatchRefused::Running);
    change(WatchChange::Pause).await.unwrap();
    assert_eq!(refused(change(WatchChange::Pause).await), WatchRefused::Paused);
    assert_eq!(denser(&store, agent).await, Some(2_000), "the other one continues");
    assert!(store.watch(id).await.unwrap().unwrap().is_paused());
    change(WatchChange::Resume).await.unwrap();
    assert_eq!(denser(&store, agent).await, Some(1_000));
    let paused = store.watch(id).await.unwrap().unwrap().pauses.remove(0);
    let record = store.watch(id).await.unwrap().unwrap();
    assert!(!record.covers(paused.from), "its pause is no part of it");
    assert!(record.covers(paused.until.unwrap()) && !record.covers(record.asked.ends_at));

    let nobody = IncidentId::from_uuid(Uuid::nil());
    let attach = |incident| WatchChange::Attach(incident);
    assert_eq!(refused(change(attach(nobody)).await), WatchRefused::UnknownIncident);
    let complaint = Complaint {
        site: "Eskerry".into(),
        service: "Seat Booking".into(),
        about: OffsetDateTime::now_utc(),
        words: "slow".into(),
        user: "Ailsa".into(),
    };
    let incident = store.open_complaint(&complaint, serde_json::json!({})).await.unwrap();
    change(attach(incident)).await.unwrap();
    let of_incident = WatchQuery { incident: Some(incident), ..WatchQuery::default() };
    let listed = store.watches(of_incident, None, 10).await.unwrap();
    assert_eq!((listed.len(), listed[0].incident.map(|(id, _)| id)), (1, Some(incident)));

    change(WatchChange::End).await.unwrap();
    assert_eq!(refused(change(WatchChange::Pause).await), WatchRefused::Over);
    assert_eq!(denser(&store, agent).await, Some(2_000));
    let over = store.watches_to_sum_up().await.unwrap();
    assert_eq!(over.iter().map(|watch| watch.id).collect::<Vec<_>>(), [id]);
    let summary = serde_json::json!({ "rounds": 3 });
    store.keep_watch_summary(id, summary.clone()).await.unwrap();
    assert!(store.watches_to_sum_up().await.unwrap().is_empty());
    let kept = store.watches(WatchQuery::default(), None, 10).await.unwrap();
    assert_eq!(kept.iter().map(|watch| watch.id).collect::<Vec<_>>(), [other, id]);
    assert_eq!(kept[1].summary, Some(summary));
    let audit = store.audit_entries(None, 20).await.unwrap();
    let ended = audit.iter().filter(|entry| entry.action.name().starts_with("watch-")).count();
    assert_eq!(ended, 6, "begun twice, paused, resumed, attached, ended");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_suppression_names_what_is_not_measured_and_can_be_lifted() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(10_000)).await.unwrap();
    let agent = join(&store).await;
    let schedule = store.schedule_for(agent).await.unwrap();
    let paths: Vec<PathId> = schedule.tasks.iter().map(|task| task.path).collect();
    let from = OffsetDateTime::now_utc();
    let of = |site: Option<&str>, target: Option<&str>| NewSuppression {
        site: site.map(str::to_owned),
        target: target.map(str::to_owned),
        from,
        until: from + Duration::hours(2),
        reason: "planned work".into(),
        user: "Ailsa".into(),
    };
    let mut ids = Vec::new();
    for (site, target, expected) in [
        (Some("Eskerry"), None, Some(vec![])),
        (None, Some("Seat Booking"), Some(paths.clone())),
        (Some("Dunverra"), None, None),
        (None, Some("Crew Mail"), None),
    ] {
        let before = store.schedule_version().await.unwrap();
        let (id, version) = store.suppress(&of(site, target)).await.unwrap();
        assert_eq!(version, Some(before + 1));
        let told = store.schedule_for(agent).await.unwrap().suppressions;
        assert_eq!(told.first().map(|rest| rest.paths.clone()), expected, "{site:?} {target:?}");
        ids.push(id);
        store.lift_suppression(id, "Ailsa").await.unwrap();
        assert!(store.schedule_for(agent).await.unwrap().suppressions.is_empty());
    }
    assert_eq!(
        refused(store.lift_suppression(ids[0], "Ailsa").await),
        WatchRefused::UnknownSuppression
    );
    // What is suppressed now is not missed.
    let missed = async || store.status_counts().await.unwrap().paths_without_rounds;
    assert_eq!(missed().await, i64::try_from(paths.len()).unwrap());
    store.suppress(&of(Some("Eskerry"), None)).await.unwrap();
    assert_eq!((missed().await, store.suppressions().await.unwrap().len()), (0, 1));
    cluster.stop().await.unwrap();
}
