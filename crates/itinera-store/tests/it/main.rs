//! The store on a real PostgreSQL, in a private cluster of each test's own.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests may fail loudly")]

mod compaction;
mod events;
mod evidence;
mod judgement;
mod notices;
mod planned_work;
mod retention;
mod review;
mod robust;
mod rules;
mod self_alarms;
mod triage;
mod two_way;
mod users;
mod watches;

use itinera_model::alarm::{Alarm, AlarmEffect, AlarmKey, AlarmKind, AlarmState, Severity};
use itinera_model::batch::{Batch, RefusedTask};
use itinera_model::checkpoint::{Checkpoint, StageState};
use itinera_model::event::Fault;
use itinera_model::finding::{Cause, FaultDirection, LossCounts, Place};
use itinera_model::id::{AgentId, BootId, IncidentId, PathId};
use itinera_model::owner::{Owner, OwnerEntry, OwnerMap};
use itinera_model::path::{Family, Method};
use itinera_model::protocol::{Pacing, Turn};
use itinera_model::reading::{HopReading, Reading};
use itinera_model::round::{Clocks, HopCounts, Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_store::cluster::Cluster;
use itinera_store::{
    AlarmQuery, AlarmRows, CodeRefused, Correlation, EachApart, JudgeWrite, KnownFault, Lasting,
    LogContent, LogEntry, LoggedRound, MeasurementPlan, NewAgent, NewEntry, NewImport, Schedule,
    SiteSpec, Store, StoreError, TargetSpec, TwoWaySchedule,
};
use time::{Duration, OffsetDateTime};
use uuid::Uuid;

struct Fixture {
    cluster: Cluster,
    store: Store,
    _data: tempfile::TempDir,
}

/// Every fault belongs to the incident that is open, where there is one, or to what `choose` gives.
struct Chosen<F> {
    open: Vec<IncidentId>,
    choose: F,
}

impl<F> Correlation for Chosen<F>
where
    F: Fn(&[IncidentId]) -> (Option<IncidentId>, Vec<IncidentId>) + Send,
{
    fn add(&mut self, known: KnownFault) {
        self.open.push(known.incident);
    }

    fn choose(&self, _: &Fault) -> (Option<IncidentId>, Vec<IncidentId>) {
        (self.choose)(&self.open)
    }

    fn merge(&mut self, from: IncidentId, into: IncidentId) {
        for incident in self.open.iter_mut().filter(|open| **open == from) {
            *incident = into;
        }
    }

    fn clear(&mut self) {
        self.open.clear();
    }
}

/// A judge that has nothing to say of some commits.
fn nothing(from: i64, to: i64) -> JudgeWrite {
    JudgeWrite { from, to, ..JudgeWrite::default() }
}

/// A checkpoint with one stage in this state.
fn checkpoint(content: u8) -> Checkpoint {
    let stage = StageState { stage: "alarms".to_owned(), version: 1, content: vec![content] };
    Checkpoint { stages: vec![stage], ..Checkpoint::default() }
}

/// Entries of the log.
async fn log_after(store: &Store, cursor: i64, limit: i64) -> Vec<LogEntry> {
    store.log_reader().after(cursor, limit).await.unwrap()
}

/// Rounds of an entry of the log.
fn rounds_in(entry: &LogEntry) -> &[LoggedRound] {
    entry.report().map_or(&[], |report| &report.rounds)
}

async fn fixture() -> Fixture {
    let data = tempfile::tempdir().unwrap();
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(data.path(), mode).unwrap();
    let cluster = Cluster::start(data.path()).await.unwrap();
    let store = Store::open(&Cluster::url_in(data.path())).await.unwrap();
    Fixture { cluster, store, _data: data }
}

fn watched(interval_ms: u32) -> MeasurementPlan {
    MeasurementPlan {
        sites: vec![SiteSpec {
            name: "Eskerry".into(),
            families: vec![Family::Ipv4],
            reached_at: Vec::new(),
            paired_with: Vec::new(),
        }],
        targets: vec![TargetSpec {
            name: "Seat Booking".into(),
            service: "Seat Booking".into(),
            addresses: vec![[198, 18, 128, 10].into(), "2001:db8:128::10".parse().unwrap()],
            methods: vec![Method::IcmpEcho],
            port: None,
            host: None,
            checks: Vec::new(),
            intended: None,
        }],
        schedule: Schedule {
            interval_ms,
            probes_per_hop: 2,
            timeout_ms: 1_000,
            size_bytes: 64,
            last_hop: 30,
            full_every: 1,
            pacing: Pacing::default(),
            enumerate_every_s: 0,
            two_way: TwoWaySchedule::default(),
            host_facts_every_s: 60,
        },
    }
}

async fn join(store: &Store) -> AgentId {
    join_as(store, 7).await
}

async fn join_as(store: &Store, secret: u8) -> AgentId {
    let site = store.sites().await.unwrap().remove(0);
    let now = OffsetDateTime::now_utc();
    store.add_join_code([secret; 32], &site, now, now + Duration::hours(1), "Ailsa").await.unwrap();
    let id = AgentId::from_uuid(Uuid::now_v7());
    let new = NewAgent { id, certificate_sha256: [secret; 32], version: "0".into() };
    store.redeem_join_code([secret; 32], &new, now).await.unwrap();
    id
}

/// An agent that has joined, and a path that it measures.
async fn measuring(store: &Store) -> (AgentId, PathId) {
    assert!(store.reconcile(&watched(2_000)).await.unwrap());
    let agent = join(store).await;
    (agent, store.schedule_for(agent).await.unwrap().tasks[0].path)
}

fn batch(agent: AgentId, path: PathId, seq: u64, wall: WallTime) -> Batch {
    let boot = BootId::from_uuid(Uuid::from_u128(5));
    let address = [198, 18, 128, 10].into();
    let flow = Flow {
        source: [10, 1, 0, 2].into(),
        destination: address,
        method: Method::IcmpEcho,
        source_port: 1,
        destination_port: 2,
        dscp: 0,
    };
    let resolution = Resolution { name: None, address };
    let route = Route { hops: vec![Some([10, 1, 0, 1].into()), Some(address)] };
    let hop =
        HopCounts { sent: 1, answered: 1, rtt: vec![Micros::new(900)], ..HopCounts::default() };
    let clocks =
        Clocks { boot, tick: Tick::from_millis(seq), wall, offset_us: None, offset_error_us: None };
    let read = HopReading { reply_hop_limit: Some(61), ..HopReading::default() };
    let reading = Reading { hops: vec![read] };
    let mut batch = Batch::new(agent, boot, seq);
    for number in [seq * 2, seq * 2 + 1] {
        let round = Round {
            path,
            number,
            clocks,
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: Some(reading.id()),
            reached_at: Some(2),
            stamps: StampSource::Virtual,
            lateness: None,
            hops: vec![hop.clone(), hop.clone()],
        };
        batch.paths.add(round, &flow, &resolution, &route, &reading);
    }
    batch
}

#[tokio::test]
async fn agents_behind_one_public_address_share_what_hops_answer() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    let (one, two) = (join_as(&store, 1).await, join_as(&store, 2).await);
    let turn = async |agent| store.schedule_for(agent).await.unwrap().pacing.hop_turn;
    let of = |index, of| Turn { index, of };
    let public = [192, 0, 2, 1].into();
    assert_eq!(store.heard_from(one, public).await.unwrap(), None, "it is alone there");
    assert_eq!(turn(one).await, of(0, 1));
    for agent in [one, two] {
        let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
        store
            .commit_batch(
                agent,
                &batch(agent, path, 0, WallTime::default()),
                OffsetDateTime::now_utc(),
            )
            .await
            .unwrap();
    }
    let before = store.schedule_version().await.unwrap();
    assert_eq!(store.heard_from(two, public).await.unwrap(), Some(before + 1));
    assert_eq!((turn(one).await, turn(two).await), (of(0, 2), of(1, 2)));
    assert_eq!(store.heard_from(two, public).await.unwrap(), None, "nothing has changed");
    let path = store.schedule_for(one).await.unwrap().tasks[0].path;
    let mut refusing = batch(one, path, 1, WallTime::default());
    refusing.refused = vec![RefusedTask::of_path(path, "not allowed".to_owned())];
    store.commit_batch(one, &refusing, OffsetDateTime::now_utc()).await.unwrap();
    let said = store.agents().await.unwrap().into_iter().find(|agent| agent.id == one).unwrap();
    assert_eq!(said.refused, refusing.refused);
    assert_eq!(store.heard_from(two, [192, 0, 2, 2].into()).await.unwrap(), Some(before + 2));
    assert_eq!((turn(one).await, turn(two).await), (of(0, 1), of(0, 1)));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_batch_is_stored_once_in_the_order_of_commits_whatever_its_clock_says() {
    let Fixture { cluster, store, _data } = fixture().await;
    assert!(store.reconcile(&watched(2_000)).await.unwrap());
    let agent = join(&store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    let walls = [0, 4_294_967_296, -1].map(WallTime::from_unix_seconds);
    for (wall, seq) in walls.into_iter().zip([2, 0, 1]) {
        let committed = store
            .commit_batch(agent, &batch(agent, path, seq, wall), OffsetDateTime::now_utc())
            .await
            .unwrap();
        assert_eq!((committed.duplicate, committed.stored, committed.refused), (false, 2, 0));
    }
    let again = batch(agent, path, 0, walls[0]);
    assert!(store.commit_batch(agent, &again, OffsetDateTime::now_utc()).await.unwrap().duplicate);

    let rounds = store.rounds_of(path).await.unwrap();
    assert_eq!(rounds.iter().map(|r| r.number).collect::<Vec<_>>(), [0, 1, 2, 3, 4, 5]);
    let log = log_after(&store, 0, 10).await;
    assert_eq!(log.iter().map(|entry| entry.commit_no).collect::<Vec<_>>(), [1, 2, 3]);
    assert_eq!(rounds_in(&log[0])[0].number, 4);
    assert_eq!(rounds_in(&log[0])[0].hops, batch(agent, path, 2, walls[0]).paths.rounds[0].hops);
    assert_eq!(log_after(&store, 2, 10).await.len(), 1);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn rounds_of_paths_that_are_not_the_agents_are_refused_and_counted() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    let agent = join(&store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    let mut mixed = batch(agent, path, 0, WallTime::default());
    mixed.paths.rounds[0].path = PathId::from_uuid(Uuid::from_u128(99));
    let committed = store.commit_batch(agent, &mixed, OffsetDateTime::now_utc()).await.unwrap();
    assert_eq!((committed.stored, committed.refused), (1, 1));
    assert_eq!(store.rounds_of(path).await.unwrap().len(), 1);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn join_codes_open_once_and_in_time() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    join(&store).await;
    let site = store.sites().await.unwrap().remove(0);
    let now = OffsetDateTime::now_utc();
    store.add_join_code([8; 32], &site, now, now, "Ailsa").await.unwrap();
    let new = |byte| NewAgent {
        id: AgentId::from_uuid(Uuid::now_v7()),
        certificate_sha256: [byte; 32],
        version: "0".into(),
    };
    for (secret, refusal) in [
        ([7; 32], CodeRefused::Used),
        ([8; 32], CodeRefused::Expired),
        ([9; 32], CodeRefused::Unknown),
    ] {
        let error = store.redeem_join_code(secret, &new(secret[0]), now).await.unwrap_err();
        assert!(matches!(error, StoreError::Code(code) if code == refusal), "{error}");
    }
    assert_eq!(store.agents().await.unwrap().len(), 1);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn only_the_leader_records_judgement_and_only_from_its_cursor() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (first, second) = (Uuid::from_u128(1), Uuid::from_u128(2));
    let token = store.lead_judgement(first).await.unwrap().unwrap();
    assert_eq!(store.lead_judgement(second).await.unwrap(), None);
    let write = nothing;
    store.commit_judgement(token, &write(0, 3), &mut EachApart).await.unwrap();
    let stale = store.commit_judgement(token, &write(0, 2), &mut EachApart).await.unwrap_err();
    assert!(matches!(stale, StoreError::Fenced));
    store.release_leases(Some(first)).await.unwrap();
    let next = store.lead_judgement(second).await.unwrap().unwrap();
    assert!(next > token);
    let fenced = store.commit_judgement(token, &write(3, 4), &mut EachApart).await.unwrap_err();
    assert!(matches!(fenced, StoreError::Fenced));
    assert_eq!(store.judge_memory().await.unwrap().judged, 3);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn migrations_go_up_down_and_up_and_an_unchanged_schedule_keeps_its_version() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.dismantle().await.unwrap();
    let store = Store::open(&Cluster::url_in(_data.path())).await.unwrap();
    assert!(store.reconcile(&watched(2_000)).await.unwrap());
    assert!(!store.reconcile(&watched(2_000)).await.unwrap());
    assert_eq!(store.schedule_version().await.unwrap(), 1);
    assert!(store.reconcile(&watched(3_000)).await.unwrap());
    assert_eq!(store.schedule_version().await.unwrap(), 2);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_cluster_whose_server_was_killed_starts_again_with_what_was_committed() {
    let Fixture { cluster, store, _data } = fixture().await;
    store.reconcile(&watched(2_000)).await.unwrap();
    let pid = std::fs::read_to_string(_data.path().join("cluster/postmaster.pid")).unwrap();
    let pid: i32 = pid.lines().next().unwrap().parse().unwrap();
    let pid = rustix::process::Pid::from_raw(pid).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::KILL).unwrap();
    drop((store, cluster));
    let cluster = Cluster::start(_data.path()).await.unwrap();
    let store = Store::open(&Cluster::url_in(_data.path())).await.unwrap();
    assert_eq!(store.sites().await.unwrap()[0].name, "Eskerry");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_owner_map_holds_for_its_own_time() {
    let Fixture { cluster, store, _data } = fixture().await;
    let now = OffsetDateTime::now_utc();
    for (name, age) in [("Fennel Fibre", 20), ("Skerry Cable", 10)] {
        let owner = Owner { as_number: 64497, name: name.into(), contact: String::new() };
        let new = NewImport {
            source: name.into(),
            sha256: [0; 32],
            valid_from: now - Duration::days(age),
            entries: vec![OwnerEntry { prefix: "198.18.0.0/15".parse().unwrap(), owner }],
        };
        store.import_owners(new, "Ailsa").await.unwrap();
    }
    for (age, owner) in [(30, None), (15, Some("Fennel Fibre")), (0, Some("Skerry Cable"))] {
        let import = store.owner_import_at(now - Duration::days(age)).await.unwrap();
        let map = match import {
            Some(import) => store.owner_map(import.id).await.unwrap(),
            None => OwnerMap::default(),
        };
        let found = map.owner_of([198, 18, 0, 1].into()).map(|owner| owner.name.as_str());
        assert_eq!(found, owner, "{age} days ago");
    }
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn alarms_open_and_clear_once_and_are_listed_by_when_they_were_open() {
    let Fixture { cluster, store, _data } = fixture().await;
    let place =
        Place::Link { from: [198, 18, 0, 1].into(), to: [198, 18, 0, 2].into(), silent_between: 0 };
    let key = AlarmKey { kind: AlarmKind::LimitHeldOver, cause: Cause::Loss, place };
    let at = WallTime::from_unix_seconds(1_700_000_000);
    let alarm = Alarm {
        key,
        severity: Severity::Major,
        since: at,
        raised_at: at,
        confidence_ppm: 950_000,
        loss_ppm: 200_000,
        loss_counts: LossCounts::default(),
        direction: FaultDirection::Undetermined,
        indistinguishable: Vec::new(),
        reasons: Vec::new(),
        added_delay_us: Micros::ZERO,
        worst_loss_ppm: 200_000,
        worst_added_delay_us: Micros::ZERO,
        no_data_since: None,
        recorded_at: None,
        applied: None,
        showing: vec![],
        paths: vec![],
    };
    let changed = Alarm { loss_ppm: 250_000, severity: Severity::Critical, ..alarm.clone() };
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let steps = [
        vec![
            AlarmEffect::Raised(alarm.clone()),
            AlarmEffect::Changed { alarm: changed.clone(), at: changed.raised_at },
        ],
        vec![
            AlarmEffect::Cleared { key, at: at.plus_micros(60_000_000) },
            AlarmEffect::Raised(alarm),
        ],
    ];
    for (from, alarms) in (0..).zip(steps) {
        let write = JudgeWrite { alarms, ..nothing(from, from + 1) };
        store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
    }
    let all = store.alarms(Lasting::default(), 10).await.unwrap();
    assert_eq!(all.len(), 2);
    let open = store.alarms(Lasting::OPEN, 10).await.unwrap();
    assert_eq!(open.len(), 1);
    let raised = OffsetDateTime::from_unix_timestamp(1_700_000_000).unwrap();
    let (last, every) = ((raised, all[0].id.as_uuid()), AlarmQuery::default());
    let before = store.alarm_page(&every, raised, Some(last), 10).await.unwrap();
    let [AlarmRows::Paths(first)] = before.as_slice() else { panic!("the second page") };
    // The first lasted for a minute, the second still does.
    let lasted = async |from_s: Option<i64>, to_s: Option<i64>| {
        let after = |s| raised + Duration::seconds(s);
        let which = Lasting { open: false, from: from_s.map(after), to: to_s.map(after) };
        store.alarms(which, 10).await.unwrap().len()
    };
    assert_eq!(lasted(Some(-60), Some(-1)).await, 0);
    assert_eq!(lasted(Some(-60), Some(0)).await, 2);
    assert_eq!(lasted(Some(60), None).await, 2);
    assert_eq!(lasted(Some(61), None).await, 1);
    let states = store.alarm_states(vec![first.id.as_uuid()]).await.unwrap();
    let states = states.into_values().flatten().map(|it| (it.state, it.severity));
    let (major, critical) = (Some(Severity::Major), Some(Severity::Critical));
    assert_eq!(
        states.collect::<Vec<_>>(),
        [(AlarmState::Open, major), (AlarmState::Open, critical), (AlarmState::Cleared, critical),]
    );
    assert_eq!(first.alarm, changed);
    assert!(first.cleared_at.is_some());
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn times_of_the_clock_are_entries_of_the_log_that_only_the_leader_writes() {
    let Fixture { cluster, store, _data } = fixture().await;
    let (agent, path) = measuring(&store).await;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let at = |second: i64| OffsetDateTime::from_unix_timestamp(1_700_000_000 + second).unwrap();
    store.log(token, NewEntry::Clock, at(0)).await.unwrap();
    let batch = batch(agent, path, 0, WallTime::from(at(1)));
    store.commit_batch(agent, &batch, at(1)).await.unwrap();
    store.log(token, NewEntry::Inventory(vec![5]), at(2)).await.unwrap();
    let log = log_after(&store, 0, 10).await;
    let agents = log.iter().map(|entry| (entry.commit_no, entry.report().map(|it| it.agent)));
    assert_eq!(agents.collect::<Vec<_>>(), [(1, None), (2, Some(agent)), (3, None)]);
    assert_eq!(log[2].content, LogContent::Inventory(vec![5]));
    assert_eq!(log[2].received_at, WallTime::from(at(2)));
    assert_eq!((rounds_in(&log[0]).len(), rounds_in(&log[1]).len()), (0, 2));
    assert_eq!(log_after(&store, 1, 1).await, log[1..2]);
    let fenced = store.log(token + 1, NewEntry::Clock, at(3)).await.unwrap_err();
    assert!(matches!(fenced, StoreError::Fenced), "{fenced}");
    assert_eq!(log_after(&store, 3, 10).await, [], "what is refused is not in the log");
    cluster.stop().await.unwrap();
}
