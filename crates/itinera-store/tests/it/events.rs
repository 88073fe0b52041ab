//! Checks, host facts, events and diagnoses in the database.

use super::*;
use itinera_model::check::{Ask, CheckResult, CheckRound, Step, Why};
use itinera_model::diagnosis::{DiagnosisReport, DiagnosisTask, DiagnosisUpdate, Part, StepKind};
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::host_facts::{HostFacts, HostFactsRound};
use itinera_model::id::DiagnosisId;
use itinera_model::incident::TimelineKind;
use itinera_model::message::Message;
use itinera_model::throughput::{By, ThroughputRound, ThroughputWord};
use itinera_store::{CheckSpec, EventQuery, ThroughputSpec};

fn clocks(batch: &Batch) -> Clocks {
    let wall = WallTime::from_unix_seconds(1_700_000_000);
    Clocks {
        boot: batch.boot,
        tick: Tick::from_millis(1),
        wall,
        offset_us: None,
        offset_error_us: None,
    }
}

pub(crate) async fn asking(store: &Store) -> AgentId {
    let mut all = watched(2_000);
    all.targets[0].checks = vec![CheckSpec {
        ask: Ask::Connect { port: 443 },
        host: None,
        interval_ms: 10_000,
        raise_after: 3,
        families: Vec::new(),
    }];
    store.reconcile(&all).await.unwrap();
    join(store).await
}

#[tokio::test]
async fn results_and_host_facts_are_the_agents_own_and_come_in_the_order_of_commits() {
    let Fixture { cluster, store, _data } = fixture().await;
    let agent = asking(&store).await;
    let schedule = store.schedule_for(agent).await.unwrap();
    let [task] = schedule.checks.as_slice() else { panic!("{:?}", schedule.checks) };
    assert_eq!((task.interval_ms, task.paths.len()), (10_000, 1), "IPv4 only, as its site");
    assert_eq!(task.address, Some([198, 18, 128, 10].into()));
    let again = store.schedule_for(agent).await.unwrap();
    assert_eq!(again.checks[0].check, task.check, "a question keeps its name");
    let mut batch = Batch::new(agent, BootId::from_uuid(Uuid::from_u128(5)), 0);
    let clocks = clocks(&batch);
    let result = CheckResult::broke(Step::Connect, Why::Refused);
    let round =
        |check, number| CheckRound { check, number, clocks, result: result.clone(), late_us: None };
    let stranger = itinera_model::id::CheckId::from_uuid(Uuid::from_u128(9));
    batch.checks = vec![round(task.check, 0), round(stranger, 0), round(task.check, 1)];
    let host_facts = HostFacts { host_name: "pier".into(), ..HostFacts::default() };
    batch.host_facts = vec![HostFactsRound { clocks, host_facts, gateway: None }];
    let committed = store.commit_batch(agent, &batch, OffsetDateTime::now_utc()).await.unwrap();
    assert_eq!((committed.stored, committed.refused), (3, 1));
    assert!(store.commit_batch(agent, &batch, OffsetDateTime::now_utc()).await.unwrap().duplicate);
    let log = log_after(&store, 0, 10).await;
    let report = log[0].report().unwrap();
    assert_eq!((log.len(), report.checks.len(), report.host_facts.len()), (1, 2, 1));
    assert_eq!(report.checks[1].round.number, 1);
    assert_eq!(report.host_facts[0].round.host_facts.host_name, "pier");
    let now = OffsetDateTime::now_utc();
    let (from, to) = (now - Duration::hours(1), now + Duration::hours(1));
    let newest = store.checked_between(&[task.check], from, to, 1).await.unwrap();
    assert_eq!(newest[&task.check][0].round.number, 1);
    assert_eq!(store.host_facts_between(agent, from, to).await.unwrap().len(), 1);
    // What is not asked any more is inactive, and its record stays.
    store.reconcile(&watched(2_000)).await.unwrap();
    assert!(store.schedule_for(agent).await.unwrap().checks.is_empty());
    assert!(!store.checks().await.unwrap()[0].active);
    cluster.stop().await.unwrap();
}

pub(crate) fn event(kind: EventKind, severity: Option<Severity>, agent: AgentId) -> Event {
    let at = WallTime::from_unix_micros(
        i64::try_from(OffsetDateTime::now_utc().unix_timestamp_nanos() / 1_000).unwrap(),
    );
    Event {
        key: EventKey { kind, agent, subject: "eth0".into() },
        part: Part::Machine,
        severity,
        since: at,
        raised_at: at,
        group: "machine".into(),
        message: Message::NothingAttached,
        service: None,
        check: None,
        own_addresses: vec![],
        route: vec![],
    }
}

#[tokio::test]
async fn a_fault_opens_an_incident_a_notice_does_not() {
    let Fixture { cluster, store, _data } = fixture().await;
    let agent = asking(&store).await;
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let fault = event(EventKind::ReceiveErrors, Some(Severity::Major), agent);
    let known = event(EventKind::CheckMismatch, None, agent);
    let change = event(EventKind::HostFactsChanged, None, agent);
    let worse = Event { severity: Some(Severity::Major), ..known.clone() };
    let (key, at) = (fault.key.clone(), fault.raised_at);
    let steps = [
        vec![EventEffect::Began(fault), EventEffect::Began(known), EventEffect::Occurred(change)],
        vec![EventEffect::Changed { event: worse, at }],
        vec![EventEffect::Ended { key, at }],
    ];
    let (mut open, mut alarms) = (Vec::new(), Vec::new());
    for (from, occurred) in (0..).zip(steps) {
        let write = JudgeWrite { occurred, ..nothing(from, from + 1) };
        store.commit_judgement(token, &write, &mut EachApart).await.unwrap();
        open.push(store.incidents(Lasting::OPEN, None, 10).await.unwrap().len());
        alarms.push(store.status_counts().await.unwrap().open_alarms);
    }
    assert_eq!(alarms, [1, 2, 1], "faults of events count as alarms while they last");
    assert_eq!(open, [1, 2, 2], "an event that becomes a fault opens one then");
    let events = store.events(EventQuery::default(), None, 10).await.unwrap();
    let states = store.alarm_states(events.iter().map(|it| it.id.as_uuid()).collect()).await;
    let states = states.unwrap();
    let of = |kind| {
        let event = events.iter().find(|it| it.event.key.kind == kind).unwrap();
        let states = states[&event.id.as_uuid()].iter();
        states.map(|it| (it.state, it.severity)).collect::<Vec<_>>()
    };
    let major = Some(Severity::Major);
    let fault = [(AlarmState::Open, major), (AlarmState::Cleared, major)];
    assert_eq!(of(EventKind::ReceiveErrors), fault);
    let became_one = [(AlarmState::Open, None), (AlarmState::Open, major)];
    assert_eq!(of(EventKind::CheckMismatch), became_one);
    assert_eq!(of(EventKind::HostFactsChanged), [(AlarmState::Cleared, None)]);
    let incidents = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    let first = incidents.last().unwrap();
    assert_eq!(first.faults.len(), 1);
    assert!(first.faults[0].ended_at.is_some());
    let timeline = store.incident_events(first.id).await.unwrap();
    let kinds: Vec<TimelineKind> = timeline.into_iter().map(|entry| entry.kind).collect();
    let all_kinds = [TimelineKind::Opened, TimelineKind::EventBegan, TimelineKind::EventEnded];
    assert_eq!(kinds, all_kinds);
    let count = async |which| store.events(which, None, 10).await.unwrap().len();
    let all = EventQuery::default();
    assert_eq!(count(all).await, 3);
    assert_eq!(count(EventQuery { lasting: Lasting::OPEN, ..all }).await, 1);
    assert_eq!(count(EventQuery { faults: true, ..all }).await, 2);
    // One still lasts, the others have ended.
    let began = events.iter().filter_map(|it| it.event.raised_at.date_time());
    let (first_at, last_at) = (began.clone().min().unwrap(), began.max().unwrap());
    let before = Some(first_at - Duration::seconds(1));
    let lasted = |from, to| EventQuery { lasting: Lasting { open: false, from, to }, ..all };
    assert_eq!(count(lasted(before, before)).await, 0);
    assert_eq!(count(lasted(before, Some(last_at))).await, 3);
    assert_eq!(count(lasted(Some(last_at + Duration::days(1)), None)).await, 1);
    assert_eq!(count(EventQuery { incident: Some(first.id), ..all }).await, 1);
    let newest = store.events(all, None, 1).await.unwrap().remove(0);
    let at = OffsetDateTime::from_unix_timestamp_nanos(
        i128::from(newest.event.raised_at.as_unix_micros()) * 1_000,
    );
    let rest = store.events(all, Some((at.unwrap(), newest.id)), 10).await.unwrap();
    assert_eq!(rest.len(), 2, "pages follow each other");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_diagnosis_is_ordered_reported_and_done_once() {
    let Fixture { cluster, store, _data } = fixture().await;
    let agent = asking(&store).await;
    let order = DiagnosisTask {
        id: DiagnosisId::from_uuid(Uuid::from_u128(3)),
        target: "Seat Booking".into(),
        address: Some([198, 18, 128, 10].into()),
        name: None,
        family: Family::Ipv4,
        asks: vec![Ask::Connect { port: 443 }],
        not_after: WallTime::from_unix_seconds(4_000_000_000),
    };
    let before = store.schedule_version().await.unwrap();
    let version = store.order_diagnosis(agent, &order, "Ailsa", None, None).await.unwrap();
    assert_eq!(version, Some(before + 1), "the agent is told");
    assert_eq!(store.schedule_for(agent).await.unwrap().diagnoses, std::slice::from_ref(&order));
    let words = [
        DiagnosisUpdate::Looking(StepKind::Gateway),
        DiagnosisUpdate::Failed("no route".into()),
        DiagnosisUpdate::Looking(StepKind::OwnStack),
    ];
    for (seq, word) in (0..).zip(words) {
        let mut batch = Batch::new(agent, BootId::from_uuid(Uuid::from_u128(5)), seq);
        batch.diagnoses = vec![DiagnosisReport { id: order.id, word }];
        store.commit_batch(agent, &batch, OffsetDateTime::now_utc()).await.unwrap();
    }
    let record = store.diagnoses(Some(order.id), None, 1).await.unwrap().remove(0);
    assert!(record.done_at.is_some() && record.observed.is_none());
    assert_eq!(record.progress, Some(DiagnosisUpdate::Failed("no route".into())), "done is done");
    assert!(store.schedule_for(agent).await.unwrap().diagnoses.is_empty());
    // Another agent's word about it counts for nothing.
    let other = join_as(&store, 8).await;
    let next = DiagnosisTask { id: DiagnosisId::from_uuid(Uuid::from_u128(4)), ..order };
    store.order_diagnosis(agent, &next, "Ailsa", None, None).await.unwrap();
    let mut batch = Batch::new(other, BootId::from_uuid(Uuid::from_u128(6)), 0);
    let word = DiagnosisUpdate::Failed("forged".into());
    batch.diagnoses = vec![DiagnosisReport { id: next.id, word }];
    store.commit_batch(other, &batch, OffsetDateTime::now_utc()).await.unwrap();
    let record = store.diagnoses(Some(next.id), None, 1).await.unwrap().remove(0);
    assert_eq!((record.done_at, record.progress), (None, None));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn throughput_takes_turns_and_only_its_sender_may_say_what_came_of_it() {
    let Fixture { cluster, store, _data } = fixture().await;
    let sender = asking(&store).await;
    let receiver = join_as(&store, 8).await;
    let spec = ThroughputSpec {
        by: By::Udp,
        seconds: 2,
        most_bytes: 1_000_000,
        rate_bit_s: 2_000_000,
        least_bit_s: Some(1_000_000),
        raise_after: 3,
    };
    let soon = OffsetDateTime::now_utc() + Duration::minutes(5);
    let order = async |not_after| {
        let ends = (sender, receiver);
        store.order_throughput(ends, &spec, Some("administrator"), not_after).await.unwrap().0
    };
    let late = order(OffsetDateTime::now_utc() - Duration::minutes(1)).await;
    let (first, second) = (order(soon).await, order(soon).await);
    let turn = async || store.throughput_turn().await.unwrap().map(|run| run.id);
    assert_eq!(turn().await, Some(first), "what is too late has no turn");
    let said = |id, by: AgentId, seq| {
        let mut batch = Batch::new(by, BootId::from_uuid(Uuid::from_u128(5)), seq);
        let word = ThroughputWord::Measured {
            sent_bytes: 500_000,
            received_bytes: 450_000,
            took_us: Micros::from_millis(2_000),
            packets: 100,
            lost: 10,
        };
        let clocks = clocks(&batch);
        batch.throughput = vec![ThroughputRound { id, clocks, word, carried_bytes: None }];
        batch
    };
    store
        .commit_batch(receiver, &said(first, receiver, 0), OffsetDateTime::now_utc())
        .await
        .unwrap();
    assert_eq!(turn().await, Some(first), "the receiver's word is not taken");
    store.commit_batch(sender, &said(first, sender, 0), OffsetDateTime::now_utc()).await.unwrap();
    assert_eq!(turn().await, Some(second));
    let all = store.throughput(10).await.unwrap();
    let of = |id| all.iter().find(|run| run.id == id).unwrap();
    assert_eq!((of(first).rate_bit_s(), of(second).rate_bit_s()), (Some(1_800_000), None));
    assert_eq!(of(late).done_at, None);
    assert_eq!(of(first).spec, spec);
    cluster.stop().await.unwrap();
}
