//! Incidents and the news of them.

use super::{Chosen, Fixture, Lasting, fixture, nothing};
use itinera_model::alarm::{Alarm, AlarmEffect, AlarmKey, AlarmKind, AlarmState, Severity};
use itinera_model::event::EventEffect;
use itinera_model::finding::{Cause, FaultDirection, LossCounts, Place};
use itinera_model::id::IncidentId;
use itinera_model::incident::TimelineKind;
use itinera_model::unit::{Micros, WallTime};
use itinera_store::{
    Complaint, Correlation, EachApart, IncidentRefused, JudgeWrite, Since, Store, StoreError, Topic,
};
use time::OffsetDateTime;
use uuid::Uuid;

pub(crate) fn alarm(hop: u8) -> Alarm {
    let address = |last| [198, 18, 64, last].into();
    let place = Place::Link { from: address(hop), to: address(hop + 1), silent_between: 0 };
    let now_us = OffsetDateTime::now_utc().unix_timestamp_nanos() / 1_000;
    let at = WallTime::from_unix_micros(i64::try_from(now_us).unwrap());
    Alarm {
        key: AlarmKey { kind: AlarmKind::LimitHeldOver, cause: Cause::Loss, place },
        severity: Severity::Major,
        since: at,
        raised_at: at,
        confidence_ppm: 990_000,
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
    }
}

pub(crate) struct Judging {
    token: i64,
    cursor: i64,
}

impl Judging {
    pub(crate) async fn begin(store: &Store) -> Self {
        let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
        Self { token, cursor: 0 }
    }

    /// Writes alarms: each joins the incident that is open, or opens one of its own.
    pub(crate) async fn write(&mut self, store: &Store, alarms: Vec<AlarmEffect>, together: bool) {
        let write = JudgeWrite { alarms, ..nothing(self.cursor, self.cursor + 1) };
        self.commit(store, write, together).await;
    }

    /// Writes events: each joins the incident that is open.
    pub(crate) async fn write_events(&mut self, store: &Store, occurred: Vec<EventEffect>) {
        let write = JudgeWrite { occurred, ..nothing(self.cursor, self.cursor + 1) };
        self.commit(store, write, true).await;
    }

    async fn commit(&mut self, store: &Store, write: JudgeWrite, together: bool) {
        if together {
            let choose = |open: &[IncidentId]| (open.first().copied(), Vec::new());
            self.commit_by(store, write, &mut Chosen { open: Vec::new(), choose }).await;
        } else {
            self.commit_by(store, write, &mut EachApart).await;
        }
    }

    async fn commit_by(&mut self, store: &Store, write: JudgeWrite, by: &mut dyn Correlation) {
        self.cursor = write.to;
        store.commit_judgement(self.token, &write, by).await.unwrap();
    }
}

async fn kinds(store: &Store, id: IncidentId) -> Vec<(String, TimelineKind)> {
    let events = store.incident_events(id).await.unwrap();
    events.into_iter().map(|event| (event.user, event.kind)).collect()
}

#[tokio::test]
async fn an_alarm_that_ties_incidents_makes_one_of_those_that_no_user_has_worked_on() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    for hop in [1, 2, 3] {
        judging.write(&store, vec![AlarmEffect::Raised(alarm(hop))], false).await;
    }
    let before = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    let [third, second, first] = [0, 1, 2].map(|index: usize| before[index].id);
    store.add_note(second, "the ferry's cable?", "ailsa").await.unwrap();
    // A later alarm of the same write is put where the earlier one has moved the others.
    let choose = |open: &[IncidentId]| {
        let mut open = open.to_vec();
        open.dedup();
        (open.first().copied(), open.split_off(1))
    };
    let raised = vec![AlarmEffect::Raised(alarm(4)), AlarmEffect::Raised(alarm(5))];
    let write = JudgeWrite { alarms: raised, ..nothing(judging.cursor, judging.cursor + 1) };
    judging.commit_by(&store, write, &mut Chosen { open: Vec::new(), choose }).await;
    let open = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    let alarms: Vec<_> = open.iter().map(|it| (it.id, it.alarms.len())).collect();
    assert_eq!(alarms, [(second, 1), (first, 4)]);
    let empty: Vec<_> = kinds(&store, third).await.into_iter().map(|(_, kind)| kind).collect();
    assert_eq!(empty[2..], [TimelineKind::AlarmAttached, TimelineKind::Closed]);
    let timeline = store.incident_events(first).await.unwrap();
    let attached = timeline.iter().find(|it| it.kind == TimelineKind::AlarmAttached).unwrap();
    assert_eq!((attached.user.as_str(), &attached.body["alarm_no"]), ("Itinera", &3.into()));
    assert_eq!(attached.body["from"], serde_json::json!(third));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_incident_closes_when_all_of_it_has_been_over_for_half_an_hour() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    let (one, other) = (alarm(1), alarm(2));
    let raised = vec![AlarmEffect::Raised(one.clone()), AlarmEffect::Raised(other.clone())];
    judging.write(&store, raised, true).await;
    let at = |minutes: i64| one.raised_at.plus_micros(minutes * 60_000_000);
    let cleared = |alarm: &Alarm, minutes| AlarmEffect::Cleared { key: alarm.key, at: at(minutes) };
    judging.write(&store, vec![cleared(&one, 1)], true).await;
    let open_after = async |minutes: i64| {
        let now = at(minutes).date_time().unwrap();
        store.close_settled_incidents(now).await.unwrap();
        store.incidents(Lasting::OPEN, None, 10).await.unwrap().len()
    };
    assert_eq!(open_after(90).await, 1, "one alarm is open");
    judging.write(&store, vec![cleared(&other, 100)], true).await;
    assert_eq!(open_after(129).await, 1);
    assert_eq!(open_after(131).await, 0);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn alarms_join_incidents_that_users_comment_close_and_reopen() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(1))], true).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(2))], true).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(5))], false).await;
    let incidents = store.incidents(Lasting::OPEN, None, 10).await.unwrap();
    let alarms: Vec<usize> = incidents.iter().map(|incident| incident.alarms.len()).collect();
    assert_eq!((alarms, incidents[0].no), (vec![1, 2], 2));
    let first = incidents[1].id;
    let page = store
        .incidents(Lasting::default(), Some((incidents[0].opened_at, incidents[0].id)), 10)
        .await;
    assert_eq!(page.unwrap().len(), 1);

    store.add_note(first, "asked Northmere", "ailsa").await.unwrap();
    let cleared = AlarmEffect::Cleared { key: alarm(1).key, at: alarm(1).raised_at };
    judging.write(&store, vec![cleared], true).await;
    store.close_incident(first, "repaired", "ailsa").await.unwrap();
    let again = store.close_incident(first, "", "bran").await.unwrap_err();
    assert!(matches!(again, StoreError::Incident(IncidentRefused::Closed)), "{again}");
    // What is closed takes no more alarms, but of fault that began before.
    judging.write(&store, vec![AlarmEffect::Raised(alarm(3))], true).await;
    assert_eq!(store.incident(first).await.unwrap().unwrap().alarms.len(), 2);
    let earlier = Alarm { since: alarm(1).since.plus_micros(-60_000_000), ..alarm(7) };
    judging.write(&store, vec![AlarmEffect::Raised(earlier)], true).await;
    assert_eq!(store.incident(first).await.unwrap().unwrap().alarms.len(), 3);
    store.reopen_incident(first, "bran").await.unwrap();
    let words = kinds(&store, first).await;
    let words: Vec<_> = words.iter().map(|(user, kind)| (user.as_str(), *kind)).collect();
    assert_eq!(
        words,
        [
            ("Itinera", TimelineKind::Opened),
            ("Itinera", TimelineKind::AlarmRaised),
            ("Itinera", TimelineKind::AlarmRaised),
            ("ailsa", TimelineKind::Note),
            ("Itinera", TimelineKind::AlarmCleared),
            ("ailsa", TimelineKind::Closed),
            ("Itinera", TimelineKind::AlarmRaised),
            ("bran", TimelineKind::Reopened),
        ]
    );
    let unknown = IncidentId::from_uuid(Uuid::from_u128(9));
    let error = store.add_note(unknown, "x", "ailsa").await.unwrap_err();
    assert!(matches!(error, StoreError::Incident(IncidentRefused::Unknown)), "{error}");
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_complaint_keeps_its_evidence_and_news_is_numbered_without_gaps() {
    let Fixture { cluster, store, _data } = fixture().await;
    assert_eq!(store.changes_after(0, 10).await.unwrap(), Since::Changes(vec![]));
    let complaint = Complaint {
        site: "Eskerry".into(),
        service: "Seat Booking".into(),
        about: OffsetDateTime::from_unix_timestamp(1_700_000_000).unwrap(),
        words: "it is slow".into(),
        user: "ailsa".into(),
    };
    let evidence = serde_json::json!({ "frozen": true });
    let id = store.open_complaint(&complaint, evidence.clone()).await.unwrap();
    let record = store.incident(id).await.unwrap().unwrap();
    assert_eq!((record.complaint, record.evidence), (Some(complaint), Some(evidence)));
    // Several at once: the numbers still have no gap, and a reader who follows misses none.
    let reader = tokio::spawn({
        let store = store.clone();
        async move {
            let mut last = 0;
            while last < 61 {
                match store.changes_after(last, 100).await.unwrap() {
                    Since::Changes(more) => last = more.last().map_or(last, |change| change.no),
                    Since::Forgotten(head) => panic!("entry {head} was taken for a gap"),
                }
            }
        }
    });
    let notes = (0..60).map(|n| {
        let store = store.clone();
        tokio::spawn(async move { store.add_note(id, &format!("note {n}"), "ailsa").await })
    });
    for note in notes.collect::<Vec<_>>() {
        note.await.unwrap().unwrap();
    }
    reader.await.unwrap();
    let Since::Changes(news) = store.changes_after(0, 100).await.unwrap() else {
        panic!("nothing is forgotten yet");
    };
    assert_eq!(news.iter().map(|n| n.no).collect::<Vec<_>>(), (1..=61).collect::<Vec<_>>());
    assert!(news.iter().all(|n| n.topic == Topic::Incident && n.body["id"] == id.to_string()));
    // A reader ahead of the database, as after a restore, starts from the beginning.
    assert_eq!(store.changes_after(99, 10).await.unwrap(), Since::Forgotten(61));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_alarm_that_is_raised_again_opens_its_incident_again() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    let one = alarm(1);
    let at = |minutes: i64| one.raised_at.plus_micros(minutes * 60_000_000);
    let cleared = |minutes| AlarmEffect::Cleared { key: one.key, at: at(minutes) };
    judging.write(&store, vec![AlarmEffect::Raised(one.clone()), cleared(10)], true).await;
    let incident = store.incidents(Lasting::OPEN, None, 10).await.unwrap()[0].id;
    store.close_incident(incident, "it is over", "ailsa").await.unwrap();
    let worse = Alarm { severity: Severity::Critical, ..one.clone() };
    let again = AlarmEffect::RaisedAgain { alarm: worse.clone(), at: at(20) };
    judging.write(&store, vec![again], true).await;
    let open = store.alarms(Lasting::OPEN, 10).await.unwrap();
    assert_eq!(open.iter().map(|it| &it.alarm).collect::<Vec<_>>(), [&worse]);
    assert_eq!(open[0].incident, Some(incident));
    let corrected = AlarmEffect::Corrected { alarm: worse, cleared_at: at(40) };
    judging.write(&store, vec![cleared(30), corrected], true).await;
    assert_eq!(store.alarms(Lasting::default(), 10).await.unwrap().len(), 1);

    let id = open[0].id.as_uuid();
    let states = store.alarm_states(vec![id]).await.unwrap().remove(&id).unwrap();
    let states: Vec<_> = states.iter().map(|it| (WallTime::from(it.at), it.state)).collect();
    let (open, over) = (AlarmState::Open, AlarmState::Cleared);
    assert_eq!(states, [(at(0), open), (at(10), over), (at(20), open), (at(40), over)]);
    let kinds = kinds(&store, incident).await;
    let kinds: Vec<_> = kinds.iter().map(|(user, kind)| (user.as_str(), *kind)).collect();
    assert_eq!(
        kinds[2..],
        [
            ("ailsa", TimelineKind::Closed),
            ("Itinera", TimelineKind::AlarmCleared),
            ("Itinera", TimelineKind::Reopened),
            ("Itinera", TimelineKind::AlarmRaised),
            ("Itinera", TimelineKind::AlarmCleared),
        ]
    );
    cluster.stop().await.unwrap();
}
