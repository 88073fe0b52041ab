//! What judgement writes, and its lease.

use super::review::alarm;
use super::{Fixture, apart, fixture, join, nothing, watched};
use itinera_model::alarm::AlarmEffect;
use itinera_model::event::Fault;
use itinera_model::finding::Assessment;
use itinera_model::id::{IncidentId, PathId};
use itinera_model::unit::WallTime;
use itinera_store::JudgeWrite;
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
    let choose = |_: &Fault, _: &[(IncidentId, Vec<Fault>)]| {
        is_writing.wait();
        is_renewed.wait();
        None
    };
    let raised = JudgeWrite { alarms: vec![AlarmEffect::Raised(alarm(1))], ..nothing(0, 1) };
    store.commit_judgement(token, &raised, &choose).await.unwrap();
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
    let judged = |window: i64, rounds| (window, true, assessment(path, rounds));
    let write = JudgeWrite { assessed: vec![judged(7, 6), judged(8, 2)], ..nothing(0, 1) };
    store.commit_judgement(token, &write, &apart).await.unwrap();
    let older = JudgeWrite { assessed: vec![judged(6, 5)], ..nothing(1, 2) };
    store.commit_judgement(token, &older, &apart).await.unwrap();
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
