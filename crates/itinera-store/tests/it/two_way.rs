//! Pairs of agents and their rounds.

use super::{Fixture, fixture, join_as, watched};
use itinera_model::batch::Batch;
use itinera_model::diagnosis::DiagnosisTask;
use itinera_model::id::{AgentId, BootId, DiagnosisId, PairId};
use itinera_model::path::Family;
use itinera_model::rollup::RollupSpan;
use itinera_model::round::{Clocks, StampSource};
use itinera_model::two_way::{Direction, OneWay, PairRoute, TwoWayRound};
use itinera_model::unit::{Tick, WallTime};
use itinera_store::{LogEntry, PairSpec};
use strum::VariantArray;
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

fn round(pair: PairId, number: u64, boot: BootId) -> TwoWayRound {
    TwoWayRound {
        pair,
        number,
        clocks: Clocks {
            boot,
            tick: Tick::from_millis(number),
            wall: WallTime::default(),
            offset_us: Some(80_000),
            offset_error_us: Some(500),
        },
        source: [10, 1, 0, 2].into(),
        destination: [10, 2, 0, 2].into(),
        stamps: StampSource::Virtual,
        lateness: None,
        dscp: 46,
        sent: 20,
        interval_ms: 1_000,
        bursts: 0,
        longest_burst: 0,
        undetermined: 1,
        forward: OneWay { arrived: 18, lost: 1, ..OneWay::default() },
        return_: OneWay { arrived: 17, lost: 1, ..OneWay::default() },
        round_trip_us: Some([900, 950, 1_200]),
        clock: None,
        synchronised_us: None,
    }
}

fn batch(agent: AgentId, seq: u64, rounds: Vec<PairId>) -> Batch {
    let boot = BootId::from_uuid(Uuid::from_u128(5));
    let mut batch = Batch::new(agent, boot, seq);
    batch.two_way = rounds.into_iter().zip(seq * 10..).map(|(p, n)| round(p, n, boot)).collect();
    batch.check().unwrap();
    batch
}

#[tokio::test]
async fn pairs_are_measured_by_their_sender_alone_and_come_and_go_with_the_schedule() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    let (one, two) = (join_as(&store, 1).await, join_as(&store, 2).await);
    assert!(store.partner_candidates().await.unwrap().is_empty(), "no agent reported an address");
    let address = [10, 1, 0, 2].into();
    assert!(store.note_addresses(one, &[address]).await.unwrap());
    assert!(!store.note_addresses(one, &[address]).await.unwrap(), "said before");
    let candidates = store.partner_candidates().await.unwrap();
    assert_eq!((candidates.len(), candidates[0].agent), (1, one));

    let spec = PairSpec {
        sender: one,
        reflector: two,
        family: Family::Ipv4,
        sender_address: address,
        reflector_address: [10, 2, 0, 2].into(),
        is_hidden: false,
    };
    let before = store.schedule_version().await.unwrap();
    let pairs = [spec.clone()];
    assert_eq!(store.set_pairs(&pairs, false).await.unwrap(), Some(before + 1));
    assert_eq!(store.set_pairs(&pairs, false).await.unwrap(), None, "nothing has changed");
    assert_eq!(store.set_pairs(&pairs, true).await.unwrap(), Some(before + 2), "other keys");
    let pair = store.pairs_of(two).await.unwrap().remove(0);
    assert_eq!((&pair.spec, pair.active, pair.sender_site.as_str()), (&spec, true, "Eskerry"));

    let committed = store
        .commit_batch(one, &batch(one, 0, vec![pair.id; 3]), OffsetDateTime::now_utc())
        .await
        .unwrap();
    assert_eq!((committed.stored, committed.refused), (3, 0));
    assert!(
        store
            .commit_batch(one, &batch(one, 0, vec![pair.id; 3]), OffsetDateTime::now_utc())
            .await
            .unwrap()
            .duplicate
    );
    // The reflector reports nothing about the pair, and no agent about one that does not exist.
    let committed = store
        .commit_batch(two, &batch(two, 0, vec![pair.id]), OffsetDateTime::now_utc())
        .await
        .unwrap();
    assert_eq!((committed.stored, committed.refused), (0, 1));
    let nobody = PairId::from_uuid(Uuid::nil());
    let committed = store
        .commit_batch(one, &batch(one, 1, vec![nobody, pair.id]), OffsetDateTime::now_utc())
        .await
        .unwrap();
    assert_eq!((committed.stored, committed.refused), (1, 1));

    let now = OffsetDateTime::now_utc();
    let (from, to) = (now - Duration::minutes(1), now + Duration::minutes(1));
    let mut found = store.two_way_between(&[pair.id], from, to).await.unwrap();
    let rounds = found.remove(&pair.id).unwrap();
    assert_eq!(rounds.iter().map(|round| round.number).collect::<Vec<_>>(), [0, 1, 2, 11]);
    assert_eq!(rounds[0], round(pair.id, 0, rounds[0].clocks.boot));
    // The sender's clock says 1970, and by its offset 80 ms more.
    assert!(!store.roll_up().await.unwrap() && !store.roll_up().await.unwrap());
    let of_1970 = (OffsetDateTime::UNIX_EPOCH, OffsetDateTime::UNIX_EPOCH + Duration::days(1));
    for span in RollupSpan::VARIANTS {
        let summed = store.pair_rollups(pair.id, *span, of_1970.0, of_1970.1).await.unwrap();
        let [of_all] = summed.as_slice() else { panic!("{summed:?}") };
        let sum = &of_all.rollup;
        assert_eq!((of_all.start_at, sum.rounds, sum.undetermined), (of_1970.0, 4, 4));
        assert_eq!((sum.forward.arrived, sum.return_.arrived), (4 * 18, 4 * 17));
    }
    let agent = store.agents().await.unwrap().into_iter().find(|agent| agent.id == one).unwrap();
    assert_eq!(agent.clock_offset_us, Some(80_000), "a batch of pairs alone tells of the clock");

    store.set_pairs(&[], false).await.unwrap();
    assert!(store.pairs_of(two).await.unwrap().is_empty());
    assert!(!store.pairs().await.unwrap()[0].active, "its record stays");
    store.set_pairs(&pairs, false).await.unwrap();
    assert_eq!(store.pairs_of(one).await.unwrap()[0].id, pair.id, "the same pair again");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_route_of_a_pair_is_recorded_from_the_agent_that_sends_in_its_direction() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    let (one, two) = (join_as(&store, 1).await, join_as(&store, 2).await);
    let spec = PairSpec {
        sender: one,
        reflector: two,
        family: Family::Ipv4,
        sender_address: [10, 1, 0, 2].into(),
        reflector_address: [10, 2, 0, 2].into(),
        is_hidden: false,
    };
    store.set_pairs(&[spec], false).await.unwrap();
    let pair = store.pairs_of(two).await.unwrap().remove(0).id;
    let boot = BootId::from_uuid(Uuid::from_u128(5));
    let route = |direction, last: u8, second| PairRoute {
        pair,
        direction,
        clocks: Clocks { wall: WallTime::from_unix_seconds(second), ..round(pair, 0, boot).clocks },
        hops: vec![Some([198, 18, 0, last].into()), None, Some([198, 18, 1, last].into())],
    };
    let commit = async |agent, seq, routes: &[PairRoute]| {
        let batch = Batch { pair_routes: routes.to_vec(), ..Batch::new(agent, boot, seq) };
        batch.check().unwrap();
        let committed = store.commit_batch(agent, &batch, OffsetDateTime::now_utc()).await.unwrap();
        (committed.stored, committed.refused)
    };
    let forward = [Direction::Forward, Direction::Return].map(|it| route(it, 1, 100));
    assert_eq!(commit(one, 0, &forward).await, (1, 1), "the sender sends forward only");
    assert_eq!(commit(one, 1, &[route(Direction::Forward, 2, 90)]).await, (1, 0));
    let back = route(Direction::Return, 3, 110);
    assert_eq!(commit(two, 0, &[back.clone(), forward[0].clone()]).await, (1, 1));
    let now = OffsetDateTime::now_utc();
    let known = store.pair_routes(pair, now).await.unwrap();
    let known: Vec<&PairRoute> = known.values().map(|it| &it.route).collect();
    assert_eq!(known, [&forward[0], &back], "the one measured later, though it came earlier");
    let later = store.pair_routes(pair, now + Duration::hours(3)).await.unwrap();
    assert_eq!(later.len(), 0, "it may be another by then");
    let log = store.log_reader().after(0, 100).await.unwrap();
    let logged = log.iter().filter_map(LogEntry::report).map(|report| report.pair_routes.len());
    assert_eq!(logged.collect::<Vec<_>>(), [1, 1, 1]);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_pair_that_is_not_chosen_is_measured_during_a_diagnosis() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    let (one, two) = (join_as(&store, 1).await, join_as(&store, 2).await);
    let spec = PairSpec {
        sender: one,
        reflector: two,
        family: Family::Ipv4,
        sender_address: [10, 1, 0, 2].into(),
        reflector_address: [10, 2, 0, 2].into(),
        is_hidden: false,
    };
    let look = async |number: u128, until| {
        let order = DiagnosisTask {
            id: DiagnosisId::from_uuid(Uuid::from_u128(number)),
            target: "the agent at Dunverra".into(),
            address: Some(spec.other_end(one)),
            name: None,
            family: Family::Ipv4,
            asks: Vec::new(),
            not_after: WallTime::from_unix_seconds(4_000_000_000),
        };
        let version = store.order_diagnosis(one, &order, "Ailsa", None, Some((&spec, until))).await;
        assert!(version.unwrap().is_some(), "the agents are told");
    };
    let now = OffsetDateTime::now_utc();
    look(1, now - Duration::seconds(1)).await;
    assert!(store.pairs_of(one).await.unwrap().is_empty(), "its time is over");
    look(2, now + Duration::hours(1)).await;
    for agent in [one, two] {
        let pair = store.pairs_of(agent).await.unwrap().remove(0);
        assert_eq!((pair.no, pair.active, pair.is_measured(now)), (1, false, true));
    }
    let pair = store.pairs_of(one).await.unwrap().remove(0).id;
    let voice = store.make_voice(pair, now + Duration::minutes(1), "Ailsa").await.unwrap();
    assert!(voice.is_some(), "it may be a voice-like stream while it is measured");
    // Who chooses partners neither ends it nor is told that anything changed.
    assert_eq!(store.set_pairs(&[], false).await.unwrap(), None);
    assert_eq!(store.pairs_of(two).await.unwrap().len(), 1);
    store.set_pairs(std::slice::from_ref(&spec), false).await.unwrap();
    look(3, now + Duration::hours(1)).await;
    assert!(store.pairs_of(two).await.unwrap()[0].active, "a look ends nothing either");
    cluster.stop().await.unwrap();
}
