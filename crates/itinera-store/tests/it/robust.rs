//! What must not stop the database: foreign text, clocks that are set, commits that cannot be judged,
//! agents that alternate, clusters that were killed while they were made.

use super::*;
use itinera_model::diagnosis::Part;
use itinera_model::event::{Event, EventEffect, EventKey, EventKind};
use itinera_model::host_facts::{HostFacts, HostFactsRound};
use itinera_model::message::{Message, RecordedWords};
use itinera_model::reading::CarriedInterface;
use itinera_model::round_block::StoredRound;
use itinera_model::round_row;
use itinera_store::cluster::ClusterError;
use sea_orm::{ConnectionTrait, Database, DatabaseConnection};

pub(crate) async fn raw(fixture: &Fixture) -> DatabaseConnection {
    Database::connect(Cluster::url_in(fixture._data.path())).await.unwrap()
}

fn micros(at: OffsetDateTime) -> WallTime {
    WallTime::from_unix_micros(i64::try_from(at.unix_timestamp_nanos() / 1_000).unwrap())
}

#[tokio::test]
async fn text_with_nul_is_recorded_and_judged() {
    let fixture = fixture().await;
    let store = &fixture.store;
    store.reconcile(&watched(2_000)).await.unwrap();
    let agent = join(store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    let mut batch = batch(agent, path, 0, WallTime::default());
    let interface = CarriedInterface {
        name: Some("xe\0-0".to_owned()),
        index: None,
        address: None,
        mtu_bytes: None,
    };
    batch.paths.readings[0].hops[0].interface = Some(interface);
    let reading = batch.paths.readings[0].id();
    batch.paths.rounds.iter_mut().for_each(|round| round.reading = Some(reading));
    batch.refused = vec![RefusedTask::of_path(path, "no\0t".to_owned())];
    let host_facts = HostFacts { host_name: "pi\0er".to_owned(), ..HostFacts::default() };
    let clocks = batch.paths.rounds[0].clocks;
    batch.host_facts = vec![HostFactsRound { clocks, host_facts, gateway: None }];
    let now = OffsetDateTime::now_utc();
    let committed = store.commit_batch(agent, &batch, now).await.unwrap();
    assert_eq!((committed.stored, committed.refused), (3, 0));
    let log = log_after(store, 0, 10).await;
    assert_eq!(
        log[0].report().unwrap().host_facts[0].round.host_facts.host_name,
        "pi\0er",
        "kept as it came"
    );
    let read = store.latest_read(path, now).await.unwrap().unwrap();
    let name = read.reading.hops[0].interface.as_ref().unwrap().name.clone().unwrap();
    assert_eq!(itinera_model::text::to_octets(&name), b"xe\0-0", "nothing of it is lost");
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let event = Event {
        key: EventKey { kind: EventKind::ReceiveErrors, agent, subject: "et\0h".to_owned() },
        part: Part::Machine,
        severity: Some(Severity::Major),
        since: micros(now),
        raised_at: micros(now),
        group: "machine\0".to_owned(),
        message: Message::Recorded(RecordedWords { words: "Receive errors on et\0h.".into() }),
        service: Some("Crew\0Mail".to_owned()),
        check: None,
        own_addresses: vec![],
        route: vec![],
    };
    let key = event.key.clone();
    let began = JudgeWrite { occurred: vec![EventEffect::Began(event)], ..nothing(0, 1) };
    store.commit_judgement(token, &began, &mut EachApart).await.unwrap();
    assert_eq!(store.incidents(Lasting::OPEN, None, 10).await.unwrap().len(), 1);
    let ended = EventEffect::Ended { key, at: micros(now) };
    let ended = JudgeWrite { occurred: vec![ended], ..nothing(1, 2) };
    store.commit_judgement(token, &ended, &mut EachApart).await.unwrap();
    let which = itinera_store::EventQuery { lasting: Lasting::OPEN, ..Default::default() };
    assert_eq!(
        store.events(which, None, 10).await.unwrap().len(),
        0,
        "the same key was found again"
    );
    fixture.cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_clock_that_is_set_neither_turns_the_log_back_nor_lacks_room() {
    let fixture = fixture().await;
    let store = &fixture.store;
    store.reconcile(&watched(2_000)).await.unwrap();
    let agent = join(store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    let now = OffsetDateTime::now_utc();
    // A day ahead, back again, and so far ahead that no partition exists for it.
    let days = [0, 1, 0, 0, 40, 0];
    let clocks: Vec<OffsetDateTime> = days
        .iter()
        .zip(0..)
        .map(|(d, s)| now + Duration::days(*d) + Duration::seconds(s))
        .collect();
    for (at, seq) in clocks.iter().zip(0..) {
        let batch = batch(agent, path, seq, micros(*at));
        assert_eq!(store.commit_batch(agent, &batch, *at).await.unwrap().stored, 2);
    }
    let mut received: Vec<_> = store.rounds_of(path).await.unwrap();
    received.sort_by_key(|round| round.commit_no);
    assert!(received.is_sorted_by_key(|round| round.received_at), "{received:?}");
    let log = log_after(store, 0, 10).await;
    let judged: Vec<_> = log.iter().map(|entry| entry.received_at).collect();
    let said: Vec<_> = clocks.iter().map(|at| micros(*at)).collect();
    assert_eq!(judged, said, "judgement goes by what the clock said");
    assert_eq!(log.iter().map(|entry| rounds_in(entry).len()).sum::<usize>(), 12);
    // Pages of any size give the same rounds once each.
    let span = (now - Duration::hours(1), now + Duration::days(60));
    let whole = store.rounds_page(path, span, None, 100).await.unwrap();
    assert_eq!((whole.rounds.len(), whole.next), (12, None));
    let (mut paged, mut after) = (Vec::new(), None);
    loop {
        let page = store.rounds_page(path, span, after, 5).await.unwrap();
        paged.extend(page.rounds);
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    assert_eq!(paged, whole.rounds);
    // Partitions exist a week ahead, and making them again changes nothing.
    store.make_partitions(now).await.unwrap();
    let raw = raw(&fixture).await;
    let count = "SELECT count(*) AS n FROM pg_inherits WHERE inhparent = 'round'::regclass";
    let statement = sea_orm::Statement::from_string(sea_orm::DbBackend::Postgres, count);
    let row = raw.query_one_raw(statement).await.unwrap().unwrap();
    let partitions: i64 = row.try_get("", "n").unwrap();
    assert!(partitions >= 16, "{partitions}");
    raw.close().await.unwrap();
    fixture.cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_commit_is_set_aside_with_its_error_and_comes_back_on_demand() {
    let fixture = fixture().await;
    let store = &fixture.store;
    store.reconcile(&watched(2_000)).await.unwrap();
    let agent = join(store).await;
    let path = store.schedule_for(agent).await.unwrap().tasks[0].path;
    for seq in 0..3 {
        let batch = batch(agent, path, seq, WallTime::default());
        store.commit_batch(agent, &batch, OffsetDateTime::now_utc()).await.unwrap();
    }
    let raw = raw(&fixture).await;
    raw.execute_unprepared("UPDATE round SET content = '\\xff' || content WHERE commit_no = 1")
        .await
        .unwrap();
    let token = store.lead_judgement(Uuid::from_u128(1)).await.unwrap().unwrap();
    let error = store.log_reader().after(0, 1).await.unwrap_err();
    assert!(!error.may_pass(), "{error:?}");
    store.set_commit_aside(token, 1, 3, &"long ".repeat(1_000)).await.unwrap();
    let again = store.set_commit_aside(token, 1, 3, "again").await;
    assert!(again.is_err(), "the cursor stands behind it");
    let other = store.set_commit_aside(token + 1, 2, 3, "not the leader").await;
    assert!(matches!(other, Err(StoreError::Fenced)));
    assert_eq!(store.judge_memory().await.unwrap().judged, 1);
    let log = log_after(store, 0, 10).await;
    assert_eq!(log.iter().map(|entry| entry.commit_no).collect::<Vec<_>>(), [2, 3]);
    let [kept] = store.commits_set_aside().await.unwrap().try_into().unwrap();
    assert_eq!((kept.commit_no, kept.site.as_str(), kept.rounds), (1, "Eskerry", 2));
    assert_eq!(kept.error.len(), 2_000);
    assert_eq!(store.status_counts().await.unwrap().set_aside_commits, 1);
    assert_eq!(store.status_counts().await.unwrap().rounds, 6, "its rounds are recorded");
    let now = OffsetDateTime::now_utc();
    assert!(!store.retry_commit(2, "Ailsa", now).await.unwrap());
    // Asked for twice, it is one entry.
    assert!(store.retry_commit(1, "Ailsa", now).await.unwrap());
    assert!(store.retry_commit(1, "Ailsa", now).await.unwrap());
    assert!(store.commits_set_aside().await.unwrap()[0].retry);
    assert!(store.log_reader().after(3, 1).await.is_err());
    let before = store.log_reader().between((0, 3), 10).await.unwrap();
    assert_eq!(before.len(), 2, "what was judged can be read although the next cannot");
    store.commit_judgement(token, &nothing(1, 3), &mut EachApart).await.unwrap();
    store.set_commit_aside(token, 4, 3, "still").await.unwrap();
    let [kept] = store.commits_set_aside().await.unwrap().try_into().unwrap();
    assert_eq!((kept.commit_no, kept.retry, kept.error.as_str()), (1, false, "still"));
    assert_eq!(log_after(store, 3, 10).await[0].content, LogContent::Clock, "a vain try");
    let mended = "UPDATE round SET content = substring(content FROM 2) WHERE commit_no = 1";
    raw.execute_unprepared(mended).await.unwrap();
    assert!(store.retry_commit(1, "Ailsa", now).await.unwrap());
    let log = log_after(store, 0, 10).await;
    let rounds: Vec<_> = log.iter().map(|it| (it.commit_no, rounds_in(it).len())).collect();
    assert_eq!(rounds, [(2, 2), (3, 2), (4, 0), (5, 2)], "in the place of the second try");
    store.commit_judgement(token, &nothing(3, 5), &mut EachApart).await.unwrap();
    assert_eq!(store.commits_set_aside().await.unwrap(), []);
    assert_eq!(log_after(store, 0, 10).await, log, "and it stays there");
    raw.close().await.unwrap();
    fixture.cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_agent_that_alternates_its_addresses_wakes_the_others_a_few_times() {
    let fixture = fixture().await;
    let store = &fixture.store;
    store.reconcile(&watched(2_000)).await.unwrap();
    let (one, two) = (join_as(store, 1).await, join_as(store, 2).await);
    let public = |last: u8| [192, 0, 2, last].into();
    store.heard_from(one, public(1)).await.unwrap();
    let before = store.schedule_version().await.unwrap();
    let mut woken = 0;
    for round in 0..40 {
        let moved = store.heard_from(two, public(1 + round % 2)).await.unwrap();
        let noted = store.note_addresses(two, &[public(10 + round % 2)]).await.unwrap();
        woken += usize::from(moved.is_some()) + usize::from(noted);
    }
    assert!((1..=6).contains(&woken), "{woken}");
    assert!(store.schedule_version().await.unwrap() <= before + 6);
    fixture.cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_cluster_whose_making_was_killed_is_made_again() {
    let data = tempfile::tempdir().unwrap();
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(data.path(), mode).unwrap();
    // What initdb leaves when it is killed half-way.
    let new = data.path().join("cluster.new");
    std::fs::create_dir_all(new.join("base/1")).unwrap();
    std::fs::write(new.join("PG_VERSION"), "15\n").unwrap();
    std::fs::write(new.join("base/1/1259"), [0; 8_192]).unwrap();
    std::fs::create_dir(data.path().join("cluster")).unwrap();
    let cluster = Cluster::start(data.path()).await.unwrap();
    let store = Store::open(&Cluster::url_in(data.path())).await.unwrap();
    store.is_alive().await.unwrap();
    assert!(!new.exists());
    cluster.stop().await.unwrap();
    let log = data.path().join("cluster.log");
    let before = std::fs::metadata(&log).unwrap().len();
    assert!(before > 0);
    Cluster::start(data.path()).await.unwrap().stop().await.unwrap();
    assert!(std::fs::metadata(&log).unwrap().len() > before, "an earlier run's log is kept");
}

#[tokio::test]
async fn a_cluster_that_another_process_uses_is_left_alone() {
    let Fixture { cluster, store, _data } = fixture().await;
    let taken = Cluster::start(_data.path()).await.unwrap_err();
    assert!(matches!(taken, ClusterError::InUse { .. }), "{taken:?}");
    store.is_alive().await.unwrap();
    cluster.stop().await.unwrap();
    Cluster::start(_data.path()).await.unwrap().stop().await.unwrap();
}

/// Windows were rows of their own: which minutes have any is kept, and they are made again from evidence.
#[tokio::test]
async fn windows_of_the_version_before_keep_their_minutes() {
    let fixture = fixture().await;
    let db = raw(&fixture).await;
    for statement in [
        include_str!("../../src/migration/m0025_down.sql"),
        include_str!("../../src/migration/m0024_down.sql"),
        include_str!("../../src/migration/m0023_down.sql"),
        include_str!("../../src/migration/m0022_down.sql"),
        include_str!("../../src/migration/m0021_down.sql"),
        include_str!("../../src/migration/m0020_down.sql"),
        "DELETE FROM seaql_migrations WHERE version >= 'm0020';
         INSERT INTO path_window SELECT gen_random_uuid(), n, '10.0.0.2', '\\x0100'
             FROM unnest('{-1, 11, 12}'::bigint[]) n;",
    ] {
        db.execute_unprepared(statement).await.unwrap();
    }
    let store = Store::open(&Cluster::url_in(fixture._data.path())).await.unwrap();
    let minutes = store.judge_memory().await.unwrap().checkpoint.minutes;
    let mut numbers: Vec<i64> = minutes.iter().map(|it| it.minute).collect();
    numbers.sort_unstable();
    assert_eq!(numbers, [-1, 1, 2]);
    assert!(minutes.iter().all(|it| it.content.is_empty()));
    fixture.cluster.stop().await.unwrap();
}

/// What an early version recorded.
const EARLY_ROWS: &str = "DELETE FROM seaql_migrations WHERE version >= 'm0008';
    INSERT INTO person (id, name, role, password, active, created_at)
        VALUES (gen_random_uuid(), 'bran', 'analyst', 'h', true, now());
    INSERT INTO audit (at, person, action, object, detail)
        VALUES (now(), 'bran', 'person-added', 'bran', '{}'),
            (now(), 'bran', 'look-asked', '1', '{}');
    INSERT INTO event (id, key, agent_id, raised_at, body)
        SELECT gen_random_uuid(), k.key, a.id, now(), jsonb_build_object('key', k.key,
            'part', 'names', 'severity', 'major', 'since', 0, 'raised_at', 0, 'group', 'g',
            'words', 'Resolver 198.18.48.53 is behind. Names lead astray.',
            'service', null, 'check', null, 'own_addresses', '[]'::jsonb)
        FROM agent a, LATERAL (SELECT jsonb_build_object(
            'kind', 'name-stale', 'agent', a.id, 'subject', 's') AS key) k;
    INSERT INTO incident (id, opened_at, complaint, evidence)
        VALUES (gen_random_uuid(), now(), '{\"site\": \"Eskerry\", \"person\": \"bran\"}',
            '{\"cause\": \"site\", \"sentences\": [\"All suffered.\", \"Look there.\"]}');
    INSERT INTO incident_event (id, incident_id, at, person, kind, body)
        SELECT gen_random_uuid(), id, now(), 'bran', 'outward-asked', '{\"outward\": 1}'
        FROM incident;
    INSERT INTO round (received_at, commit_no, path_no, number, tick_ns, wall_us, offset_us,
            offset_error_us, flow_no, resolution_no, route_no, reached_at, stamps,
            timer_late_us, read_late_us, hops)
        VALUES (now(), 7, 1, 11, 12, -13, -14, 15, 16, 17, 18, 20, 2, 21, 22, '\\x030000');";

/// The round of [`EARLY_ROWS`].
fn early_round() -> StoredRound {
    StoredRound {
        received_us: 5,
        commit_no: 7,
        number: 11,
        tick_ns: 12,
        wall_us: -13,
        offset_us: Some(-14),
        offset_error_us: Some(15),
        flow_no: 16,
        resolution_no: 17,
        route_no: 18,
        reading_no: None,
        reached_at: Some(20),
        stamps: 2,
        late_us: [Some(21), Some(22), None],
        hops: vec![3, 0, 0],
    }
}

/// An early version called users persons, diagnoses outward and host facts around.
#[tokio::test]
async fn a_database_of_an_early_version_is_migrated() {
    let fixture = fixture().await;
    let db = raw(&fixture).await;
    fixture.store.reconcile(&watched(2_000)).await.unwrap();
    join(&fixture.store).await;
    for down in [
        include_str!("../../src/migration/m0025_down.sql"),
        include_str!("../../src/migration/m0024_down.sql"),
        include_str!("../../src/migration/m0023_down.sql"),
        include_str!("../../src/migration/m0022_down.sql"),
        include_str!("../../src/migration/m0021_down.sql"),
        include_str!("../../src/migration/m0020_down.sql"),
        include_str!("../../src/migration/m0019_down.sql"),
        include_str!("../../src/migration/m0018_down.sql"),
        include_str!("../../src/migration/m0017_down.sql"),
        include_str!("../../src/migration/m0016_down.sql"),
        include_str!("../../src/migration/m0015_down.sql"),
        include_str!("../../src/migration/m0014_down.sql"),
        include_str!("../../src/migration/m0013_down.sql"),
        include_str!("../../src/migration/m0012_down.sql"),
        include_str!("../../src/migration/m0011_down.sql"),
        include_str!("../../src/migration/m0010_down.sql"),
        include_str!("../../src/migration/m0009_down.sql"),
        include_str!("../../src/migration/m0008_down.sql"),
    ] {
        db.execute_unprepared(down).await.unwrap();
    }
    db.execute_unprepared(EARLY_ROWS).await.unwrap();
    let store = Store::open(&Cluster::url_in(fixture._data.path())).await.unwrap();
    assert_eq!(store.users().await.unwrap()[0].name, "bran");
    let actions = store.audit_entries(None, 10).await.unwrap();
    let actions: Vec<_> = actions.iter().map(|entry| entry.action.name()).collect();
    assert_eq!(actions[..2], ["diagnosis-started", "user-added"]);
    let one = |select: &'static str| {
        let db = db.clone();
        async move {
            db.query_one_raw(sea_orm::Statement::from_string(sea_orm::DbBackend::Postgres, select))
                .await
                .unwrap()
                .unwrap()
        }
    };
    let content: Vec<u8> = one("SELECT content AS it FROM round").await.try_get("", "it").unwrap();
    assert_eq!(round_row::unpack(&content, 5, 7), Ok(early_round()));
    let complaint: String =
        one("SELECT complaint->>'user' AS it FROM incident").await.try_get("", "it").unwrap();
    assert_eq!(complaint, "bran");
    let kind: String = one("SELECT kind || (body->>'diagnosis') AS it FROM incident_event")
        .await
        .try_get("", "it")
        .unwrap();
    assert_eq!(kind, "diagnosis-started1");
    let evidence = "SELECT evidence#>>'{message,parameters,words}' AS it FROM incident";
    let words: String = one(evidence).await.try_get("", "it").unwrap();
    assert_eq!(words, "All suffered. Look there.");
    let events = store.events(itinera_store::EventQuery::default(), None, 10).await.unwrap();
    assert_eq!(events[0].event.key.kind, EventKind::DnsStale);
    let Message::Recorded(recorded) = &events[0].event.message else { panic!("{events:?}") };
    assert_eq!(recorded.words, "Resolver 198.18.48.53 is behind. Names lead astray.");
    let partitions = "SELECT count(*) AS it FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
        WHERE i.inhparent = 'host_facts_round'::regclass AND c.relname NOT LIKE 'host_facts_round%'";
    let misnamed: i64 = one(partitions).await.try_get("", "it").unwrap();
    assert_eq!(misnamed, 0);
    db.close().await.unwrap();
    fixture.cluster.stop().await.unwrap();
}
