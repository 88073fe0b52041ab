//! What judgement writes, and its lease.

use super::review::alarm;
use super::{Chosen, Fixture, Lasting, fixture, join, nothing, watched};
use itinera_model::alarm::{Alarm, AlarmEffect, AlarmState};
use itinera_model::finding::Assessment;
use itinera_model::id::{IncidentId, PathId};
use itinera_model::incident::TimelineKind;
use itinera_model::unit::WallTime;
use itinera_store::{EachApart, JudgeWrite};
use std::sync::{Arc, Barrier};
use uuid::Uuid;

fn assessment(path: PathId, rounds: u32) -> Assessment {
    Assessment {
        path,
        until: WallTime::default(),
        span_s: 60,
        rounds,
        end_sent: rounds,
        end_lost: 0,
        engine: 1,
        mapping: 0,
        hops: Vec::new(),
        finding: None,
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_lease_is_renewed_while_judgement_is_written() {
    let Fixture { cluster, store, _data } = fixture().await;
    let store = Arc::new(store);
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let is_writing = Arc::new(Barrier::new(2));
    let is_renewed = Arc::new(Barrier::new(2));
    let renewing = {
        let (store, is_writing, is_renewed) =
            (Arc::clone(&store), Arc::clone(&is_writing), Arc::clone(&is_renewed));
        tokio::spawn(async move {
            tokio::task::block_in_place(|| is_writing.wait());
            let renewed = store.renew_leadership(token).await;
            is_renewed.wait();
            renewed
        })
    };
    // The incident of an alarm is chosen in the middle of the transaction.
    let choose = |_: &[IncidentId]| {
        is_writing.wait();
        is_renewed.wait();
        (None, Vec::new())
    };
    let mut chosen = Chosen { open: Vec::new(), choose };
    let raised = JudgeWrite { alarms: vec![AlarmEffect::Raised(alarm(1))], ..nothing(0, 1) };
    store.commit_judgement(token, &raised, &mut chosen).await.unwrap();
    renewing.await.unwrap().unwrap();
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn of_several_windows_that_were_newest_the_last_is_a_paths_latest() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    let agent = join(&store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let judged = |window: i64, rounds| (window, true, Arc::new(assessment(path, rounds)));
    let write = JudgeWrite { assessed: vec![judged(7, 6), judged(8, 2)], ..nothing(0, 1) };
    store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
    let older = JudgeWrite { assessed: vec![judged(6, 5)], ..nothing(1, 2) };
    store.commit_judgement(token, &older, &mut EachApart).await.unwrap();
    let latest = store.paths(None, 10).await.unwrap();
    assert_eq!(latest[0].latest.as_ref().unwrap().rounds, 2);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_job_is_done_by_the_process_that_holds_its_lease() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (one, two) = (Uuid::from_u128(1), Uuid::from_u128(2));
    let hour = std::time::Duration::from_secs(3_600);
    assert!(store.take_lease("watches", one, hour).await.unwrap());
    assert!(store.take_lease("watches", one, hour).await.unwrap(), "its own is extended");
    assert!(!store.take_lease("watches", two, hour).await.unwrap());
    assert!(store.take_lease("partitions", two, hour).await.unwrap(), "another job");
    store.release_leases(Some(one)).await.unwrap();
    assert!(store.take_lease("watches", two, hour).await.unwrap());
    assert!(!store.take_lease("watches", one, hour).await.unwrap());
    store.release_leases(None).await.unwrap();
    assert!(store.take_lease("partitions", one, hour).await.unwrap());
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_fault_that_late_measurements_show_is_recorded_in_its_own_time() {
    let Fixture { cluster, store, _data } = fixture().await;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let late = Alarm { recorded_at: Some(WallTime::from_unix_seconds(1_800_000_000)), ..alarm(1) };
    let began = late.raised_at;
    let (cleared_at, later) = (began.plus_micros(60_000_000), began.plus_micros(90_000_000));
    let wider = Alarm { paths: vec![PathId::from_uuid(Uuid::from_u128(7))], ..late.clone() };
    let alarms = vec![
        AlarmEffect::Recorded { alarm: late, cleared_at },
        AlarmEffect::Corrected { alarm: wider.clone(), cleared_at: later },
    ];
    let write = JudgeWrite { alarms, ..nothing(0, 1) };
    store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
    assert_eq!(store.alarms(Lasting::OPEN, 10).await.unwrap(), [], "it was never open");
    let recorded = store.alarms(Lasting::default(), 10).await.unwrap().pop().unwrap();
    assert_eq!((&recorded.alarm, recorded.alarm.state(true)), (&wider, AlarmState::RecordedLate));
    assert_eq!(recorded.cleared_at.map(WallTime::from), Some(later));
    let timeline = store.incident_events(recorded.incident.unwrap()).await.unwrap();
    let entries: Vec<_> = timeline.iter().map(|it| (it.kind, WallTime::from(it.at))).collect();
    let expected = [
        (TimelineKind::Opened, began),
        (TimelineKind::AlarmRaised, began),
        (TimelineKind::AlarmCleared, cleared_at),
    ];
    assert_eq!(entries, expected);
    cluster.stop().await.unwrap();
}
