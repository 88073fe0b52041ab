//! Arbitrary text in every foreign text of a batch, through ingest, judgement, API, client and log:
//! nothing stops, nothing is lost, and nothing reaches a terminal.

use crate::support::{PATIENCE, Service, eventually};
use itinera_agent::{Exchange, ExchangeError};
use itinera_model::batch::{Batch, RefusedTask};
use itinera_model::check::{
    Certificate, CheckDetails, CheckResult, CheckRound, Fetched, Step, TlsSeen, WebSeen, Why,
};
use itinera_model::codec::encode;
use itinera_model::diagnosis::{DiagnosisReport, DiagnosisUpdate};
use itinera_model::host_facts::{
    Announced, HostFacts, HostFactsRound, Interface, Lease, Neighbour, OpenSocket,
};
use itinera_model::id::{AgentId, BootId, CheckId, DiagnosisId, PathId, ThroughputId};
use itinera_model::path::Method;
use itinera_model::protocol::Schedule;
use itinera_model::reading::{CarriedInterface, HopReading, Reading};
use itinera_model::round::{Clocks, HopCounts, Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::text;
use itinera_model::throughput::{ThroughputRound, ThroughputWord};
use itinera_model::unit::{Micros, Tick, WallTime};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use std::net::IpAddr;
use uuid::Uuid;

const SITE: &str = "Carrock Pier";
/// Bytes of a text that every field takes.
const SHORT: usize = 200;

/// Texts that have stopped something once, and others by chance.
fn texts() -> Vec<String> {
    let nasty = [
        "a\0b",
        "\0",
        "\x1b[2J\x1b]0;x\x07",
        "pay\u{202e}evil\u{2028}",
        "a\nERROR b\r",
        "\\x00\\x5cx",
        "\u{9b}31m",
        "'; DROP TABLE round; --",
        "<img src=x onerror=alert(1)>",
    ];
    let mut runner = TestRunner::deterministic();
    let any = prop::collection::vec(any::<char>(), 1..60);
    let drawn = (0..4).map(|_| any.new_tree(&mut runner).unwrap().current());
    let drawn = drawn.map(|characters| characters.into_iter().collect());
    let mut all: Vec<String> = nasty.map(str::to_owned).into_iter().chain(drawn).collect();
    all.iter_mut().for_each(|text| text.truncate(text.floor_char_boundary(SHORT)));
    all
}

fn host_facts(text: &str) -> HostFacts {
    let (address, text): (IpAddr, String) = ([10, 3, 0, 9].into(), text.to_owned());
    HostFacts {
        host_name: text.clone(),
        interfaces: vec![Interface {
            name: text.clone(),
            hardware_address: Some(text.clone()),
            addresses: vec!["10.3.0.2/24".parse().unwrap()],
            ..Interface::default()
        }],
        neighbours: vec![Neighbour {
            address,
            hardware_address: Some(text.clone()),
            interface: text.clone(),
        }],
        resolvers: vec![address],
        leases: vec![Lease { interface: text.clone(), server: None, lifetime_s: None }],
        announced: vec![Announced {
            interface: text.clone(),
            system: text.clone(),
            port: text.clone(),
        }],
        sockets: Some(vec![OpenSocket { protocol: text, local: (address, 1).into(), peer: None }]),
        ..HostFacts::default()
    }
}

fn seen(text: &str) -> CheckDetails {
    let text_of = || text.to_owned();
    CheckDetails {
        said: Some(text_of()),
        tls: Some(TlsSeen {
            version: text_of(),
            chain: vec![Certificate {
                subject: text_of(),
                issuer: text_of(),
                names: vec![text_of()],
                not_before: WallTime::from_unix_seconds(0),
                not_after: WallTime::from_unix_seconds(1),
            }],
        }),
        web: Some(WebSeen {
            version: text_of(),
            redirects: vec![text_of()],
            resources: vec![Fetched {
                path: text_of(),
                begun_us: Micros::new(1),
                first_byte_us: None,
                took_us: Micros::new(2),
                size_bytes: 3,
                status: None,
                why: None,
            }],
            ..WebSeen::default()
        }),
        resolved: Vec::new(),
    }
}

fn batch(
    agent: AgentId,
    (path, destination): (PathId, IpAddr),
    check: CheckId,
    seq: u64,
    text: &str,
) -> Batch {
    let boot = BootId::from_uuid(Uuid::from_u128(77));
    let mut batch = Batch::new(agent, boot, seq);
    let now = time::OffsetDateTime::now_utc().unix_timestamp_nanos() / 1_000;
    let clocks = Clocks {
        boot,
        tick: Tick::from_millis(seq),
        wall: WallTime::from_unix_micros(i64::try_from(now).unwrap()),
        offset_us: Some(0),
        offset_error_us: None,
    };
    let flow = Flow {
        source: [10, 3, 0, 2].into(),
        destination,
        method: Method::IcmpEcho,
        source_port: 1,
        destination_port: 2,
        dscp: 0,
    };
    let resolution = Resolution { name: Some(text.to_owned()), address: destination };
    let route = Route { hops: vec![Some([10, 3, 0, 1].into()), Some(destination)] };
    let interface = CarriedInterface {
        name: Some(text.to_owned()),
        index: None,
        address: None,
        mtu_bytes: None,
    };
    let read = HopReading { interface: Some(interface), ..HopReading::default() };
    let reading = Reading { hops: vec![read] };
    let hop =
        HopCounts { sent: 1, answered: 1, rtt: vec![Micros::new(900)], ..HopCounts::default() };
    let round = Round {
        path,
        number: seq,
        clocks,
        flow: flow.id(),
        resolution: resolution.id(),
        route: route.id(),
        reading: Some(reading.id()),
        reached_at: Some(2),
        stamps: StampSource::Virtual,
        lateness: None,
        hops: vec![hop.clone(), hop],
    };
    batch.paths.add(round, &flow, &resolution, &route, &reading);
    batch.refused = vec![RefusedTask::of_path(path, text.to_owned())];
    let mut result = CheckResult::broke(Step::Greeting, Why::NotThisProtocol);
    result.seen = seen(text);
    batch.checks = vec![CheckRound { check, number: seq, clocks, result, late_us: None }];
    let round = |host_facts| HostFactsRound { clocks, host_facts, gateway: None };
    batch.host_facts = vec![round(host_facts(text))];
    // For orders that do not exist: their texts reach the database all the same.
    let id = DiagnosisId::from_uuid(Uuid::from_u128(seq.into()));
    batch.diagnoses = vec![DiagnosisReport { id, word: DiagnosisUpdate::Failed(text.to_owned()) }];
    let id = ThroughputId::from_uuid(Uuid::from_u128(seq.into()));
    let word = ThroughputWord::Failed(text.to_owned());
    batch.throughput = vec![ThroughputRound { id, clocks, word, carried_bytes: None }];
    batch
}

fn packed(batch: &Batch) -> Vec<u8> {
    zstd::encode_all(encode(batch).as_slice(), 3).unwrap()
}

fn task_of(schedule: &Schedule) -> (PathId, IpAddr) {
    let echo = schedule.tasks.iter().find(|task| task.method == Method::IcmpEcho).unwrap();
    (echo.path, echo.address)
}

/// Nothing in it moves a cursor or turns the direction of text.
fn check_quiet(what: &str, said: &str) {
    let odd = said.lines().find(|line| text::plain(line) != *line);
    assert_eq!(odd, None, "{what}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn foreign_text_stops_nothing_is_kept_and_does_nothing() {
    let service = Service::start();
    let identity = service.join(SITE, "agent").await;
    let exchange = Exchange::of(&identity).unwrap();
    let schedule = exchange.schedule(0, &[]).await.unwrap().unwrap();
    let (task, check) = (task_of(&schedule), schedule.checks[0].check);
    let texts = texts();
    for (seq, text) in (0..).zip(&texts) {
        let batch = batch(identity.agent, task, check, seq, text);
        let receipt = exchange.upload(packed(&batch)).await;
        let receipt = receipt.unwrap_or_else(|error| panic!("{text:?}: {error}"));
        assert_eq!((receipt.duplicate, receipt.refused_rounds), (false, 0), "{text:?}");
    }
    // Ten megabytes of text are no agent's: refused once and for all, and nothing else with it.
    let mut huge = batch(identity.agent, task, check, 99, "x");
    huge.host_facts[0].host_facts.host_name = "x".repeat(10 << 20);
    let refused = exchange.upload(packed(&huge)).await;
    let Err(ExchangeError::Refused { code, .. }) = &refused else { panic!("{refused:?}") };
    assert_eq!(code, "damaged-batch");
    tokio::task::block_in_place(|| shown(&service, &texts, task.0));
}

fn shown(service: &Service, texts: &[String], path: PathId) {
    eventually("judgement of everything", PATIENCE, || {
        let state = service.json(&["status"]);
        assert_eq!(state["set_aside_commits"], 0, "{}", service.log());
        (state["unjudged_commits"] == 0).then_some(())
    });
    let last = texts.last().unwrap();
    let host_facts = service.json(&["host-facts", SITE]);
    let kept = host_facts["host_name"].as_str().unwrap();
    assert!(kept == last || text::to_octets(kept) == last.as_bytes(), "{kept:?} for {last:?}");
    let events = service.json(&["events"]);
    assert!(events.as_array().unwrap().len() >= texts.len(), "each change is an event: {events}");
    let path = path.to_string();
    let checks = service.json(&["checks"]);
    let asked = |it: &&serde_json::Value| it["said"].is_string() || it["at"].is_string();
    let number = checks.as_array().or_else(|| checks["items"].as_array()).unwrap();
    let number = number.iter().find(asked).map_or(1, |it| it["no"].as_i64().unwrap_or(1));
    let number = number.to_string();
    for command in [
        &["agents"][..],
        &["host-facts", SITE],
        &["events"],
        &["checks"],
        &["checks", &number],
        &["path", &path],
        &["paths"],
        &["incidents", "list"],
    ] {
        for format in ["table", "json"] {
            let ran = service.client(&[command, &["--format", format]].concat());
            assert_eq!(ran.code, Some(0), "{command:?}: {ran:?}");
            check_quiet(&format!("{command:?} as {format}"), &ran.out);
        }
    }
    check_quiet("the service's log", &service.log());
}
