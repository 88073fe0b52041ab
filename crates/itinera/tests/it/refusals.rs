//! Wrong flags, dead servers, unknown ids, broken files, damaged batches, used codes: each a
//! clear message and its exit code, and nothing lost.

use crate::support::{Ran, Service, WORLD, directory, free_ports, raw_request, run, with_token};
use itinera_agent::{Exchange, ExchangeError};
use itinera_model::batch::Batch;
use itinera_model::codec::encode;
use itinera_model::id::{AgentId, BootId};
use std::time::Duration;
use uuid::Uuid;

fn refused(ran: &Ran, code: i32, words: &[&str]) {
    assert_eq!(ran.code, Some(code), "{ran:?}");
    for word in words {
        assert!(ran.err.contains(word), "{word:?} is missing: {ran:?}");
    }
    assert!(!ran.err.contains("panicked"), "{ran:?}");
}

#[test]
fn bad_command_lines_are_explained() {
    refused(&run(&["alarms", "--opne"]), 2, &["--opne", "--open"]);
    refused(&run(&["alarms", "ack"]), 2, &["NUMBER"]);
    refused(&run(&["alarms", "assign", "1"]), 2, &["--to", "--me", "--none"]);
    refused(&run(&["alarms", "shelve", "1", "--reason", "x"]), 2, &["--for", "--until"]);
    refused(&run(&["statu"]), 2, &["statu", "status"]);
    refused(&run(&["join-code"]), 2, &["--site"]);
    refused(&run(&["agent", "run", "--simulation", "127.0.0.1:1"]), 2, &["--address"]);
    refused(&run(&["recompute"]), 2, &["--data"]);
    refused(&run(&["status", "--format", "xml"]), 2, &["xml", "json"]);
}

#[test]
fn a_missing_or_foreign_server_is_an_error() {
    let [port] = free_ports();
    let nobody = format!("http://127.0.0.1:{port}");
    refused(&run(&["status", "--api", &nobody]), 3, &["cannot reach", &nobody, "is it running?"]);
    refused(&run(&["status", "--api", "nonsense"]), 3, &["nonsense", "http://127.0.0.1:7480"]);
}

#[test]
fn broken_files_name_their_line() {
    let place = directory();
    let file = |name: &str, text: &str| {
        let path = place.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.display().to_string()
    };
    let scenario = file(
        "world.toml",
        &WORLD.replacen("between = [\"br1\", \"br3\"]", "between = [\"br1\", \"br9\"]", 1),
    );
    let line = WORLD.lines().position(|line| line.contains("\"br1\", \"br3\"")).unwrap() + 1;
    refused(
        &run(&["simulate", &scenario, "--check"]),
        5,
        &["world.toml", &format!("line {line}"), "between", "br9"],
    );
    refused(&run(&["simulate", "/nowhere.toml"]), 5, &["cannot read /nowhere.toml"]);
    let config = file("service.toml", "[[site]]\nname = \"A\"\n[schedule]\ninterval_ms = 1\n");
    refused(
        &run(&["config", "check", &config]),
        5,
        &["service.toml", "line 4", "interval_ms is 1"],
    );
    refused(&run(&["serve", "--config", &config]), 5, &["line 4"]);
    let nobody = place.path().join("nobody").display().to_string();
    refused(
        &run(&[
            "agent",
            "run",
            "--data",
            &nobody,
            "--simulation",
            "127.0.0.1:1",
            "--address",
            "10.1.0.2",
        ]),
        5,
        &["itinera agent join"],
    );
}

/// No directory can be made in a proc file system.
#[test]
fn an_impossible_data_directory_is_an_error() {
    refused(&run(&["serve", "--data", "/proc/itinera"]), 1, &["/proc/itinera"]);
    let place = directory();
    std::fs::write(place.path().join("other"), "mine").unwrap();
    let name = place.path().display().to_string();
    refused(&run(&["demo", "--any-port", "--fresh", "--data", &name]), 1, &["something else"]);
    assert_eq!(std::fs::read_to_string(place.path().join("other")).unwrap(), "mine");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_refuses_what_is_wrong_and_keeps_what_is_right() {
    let service = Service::start();
    tokio::task::block_in_place(|| {
        unknown_ids(&service);
        owner_maps(&service);
        join_codes(&service);
        second_service(&service);
        raw_requests(&service);
    });
    batches(&service).await;
}

fn unknown_ids(service: &Service) {
    let unknown = "01890000-0000-7000-8000-000000000000";
    refused(&service.client(&["path", unknown]), 4, &[unknown, "404", "request"]);
    for numbered in [
        &["alarms", "999"][..],
        &["events", "999"],
        &["incidents", "show", "999"],
        &["checks", "999"],
        &["pairs", "999"],
        &["watches", "show", "999"],
        &["suppressions", "lift", "999"],
    ] {
        refused(&service.client(numbered), 4, &["999", "404", "request"]);
        let mut by_id = numbered.to_vec();
        by_id.pop();
        by_id.push(unknown);
        refused(&service.client(&by_id), 4, &["404", "request"]);
    }
    refused(&service.client(&["alarms", "1/close"]), 2, &["1/close", "number", "id"]);
    refused(&service.client(&["path", "ffff"]), 4, &["ffff", "itinera paths"]);
    refused(&service.client(&["path", &"x\u{1b}[31m".repeat(9)]), 4, &["no path's id ends in"]);
    refused(&service.client(&["join-code", "--site", "Atlantis"]), 4, &["site", "Carrock Pier"]);
    let away = ["join-code", "--site", "Carrock Pier", "--lifetime-s", "0"];
    refused(&service.client(&away), 4, &["lifetime_s: 0"]);
}

fn owner_maps(service: &Service) {
    let good = service.path().join("owners.csv").display().to_string();
    let text = "prefix,as_number,owner,contact\n198.18.0.0/15,64496,Brackwater,x\nnowhere,1,Y,z\n";
    std::fs::write(&good, text).unwrap();
    let imported = service.json(&["owners", "import", &good]);
    assert_eq!(imported["accepted"], 1);
    assert_eq!(imported["refused_lines"][0]["line"], 3);
    std::fs::write(&good, "prefix,owner\n").unwrap();
    refused(&service.client(&["owners", "import", &good]), 4, &["line 1", "as_number, contact"]);
    refused(
        &service.client(&["owners", "import", "/nowhere.csv"]),
        5,
        &["cannot read /nowhere.csv"],
    );
    assert_eq!(service.json(&["status"])["owner_map"]["entries"], 1, "the good import stays");
}

fn join_codes(service: &Service) {
    let join = |code: &str, place: &str| {
        let place = service.path().join(place).display().to_string();
        run(&["agent", "join", code, "--service", &service.agents_url(), "--data", &place])
    };
    let code = service.join_code("Carrock Pier", 60);
    assert_eq!(join(&code, "first").code, Some(0));
    refused(&join(&code, "first"), 5, &["holds an agent's identity already"]);
    refused(&join(&code, "second"), 4, &["has been used", "itinera join-code"]);
    let expired = service.join_code("Carrock Pier", 1);
    std::thread::sleep(Duration::from_millis(1_200));
    refused(&join(&expired, "second"), 4, &["has expired"]);
    let (secret, pin) = code.split_once('-').unwrap();
    let unknown = format!("{}-{pin}", secret.chars().rev().collect::<String>());
    let other = join(&unknown, "second");
    // Reversed, the last letter's spare bits may make it no code at all.
    assert!(other.code == Some(4) && other.err.contains("join code"), "{other:?}");
    let fresh = service.join_code("Carrock Pier", 60);
    let (secret, _) = fresh.split_once('-').unwrap();
    let elsewhere = format!("{secret}-{}", "A".repeat(26));
    refused(&join(&elsewhere, "second"), 3, &["cannot reach the service"]);
    refused(&join("rubbish", "second"), 4, &["not a join code"]);
    assert_eq!(join(&fresh, "second").code, Some(0), "a refused try uses no code up");
    assert_eq!(service.json(&["agents"])["items"].as_array().unwrap().len(), 2);
}

fn second_service(service: &Service) {
    let config = service.path().join("service.toml").display().to_string();
    let place = directory();
    let data = place.path().join("data").display().to_string();
    refused(&run(&["serve", "--config", &config, "--data", &data]), 1, &["cannot listen on"]);
}

fn raw_requests(service: &Service) {
    for (request, host, status, code) in [
        ("GET /api/v1/status", "itinera.example", "403", "foreign-host"),
        ("DELETE /api/v1/status", "127.0.0.1", "405", "method-not-allowed"),
        ("GET /api/v2/status", "127.0.0.1", "404", "unknown-place"),
        ("GET /api/v1/paths?limit=x", "127.0.0.1", "422", "bad-input"),
        ("GET /api/v1/paths/x/weave", "127.0.0.1", "404", "unknown-id"),
        ("GET /api/v1/paths/x/then?at=now", "127.0.0.1", "422", "bad-input"),
        ("GET /api/v1/incidents/x", "127.0.0.1", "404", "unknown-id"),
    ] {
        let head = with_token(&service.token(), host);
        let answer = raw_request(&service.api(), request, &head);
        assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{request}: {answer}");
        assert!(answer.contains("application/problem+json"), "{request}: {answer}");
        assert!(answer.contains(&format!("\"code\":\"{code}\"")), "{request}: {answer}");
    }
}

fn batch(agent: AgentId) -> Batch {
    Batch::new(agent, BootId::from_uuid(Uuid::now_v7()), 0)
}

async fn batches(service: &Service) {
    let identity = service.join("Brannock Quay", "uploader").await;
    let exchange = Exchange::of(&identity).unwrap();
    let good = zstd::encode_all(encode(&batch(identity.agent)).as_slice(), 3).unwrap();
    let refusal = async |octets: Vec<u8>, words: &str| match exchange.upload(octets).await {
        Err(ExchangeError::Refused { detail, .. }) => assert!(detail.contains(words), "{detail}"),
        other => panic!("{words}: {other:?}"),
    };
    refusal(b"nonsense".to_vec(), "batch").await;
    refusal(good[..good.len() / 2].to_vec(), "batch").await;
    refusal(zstd::encode_all(&b"\x01\xff\xff"[..], 3).unwrap(), "malformed CBOR").await;
    refusal(zstd::encode_all(&b"\x09"[..], 3).unwrap(), "codec version 9").await;
    let bomb = zstd::encode_all(vec![0u8; 40 << 20].as_slice(), 3).unwrap();
    refusal(bomb, "unpacks to more than").await;
    let strangers = batch(AgentId::from_uuid(Uuid::now_v7()));
    let strangers = zstd::encode_all(encode(&strangers).as_slice(), 3).unwrap();
    let other = exchange.upload(strangers).await;
    let Err(ExchangeError::Refused { code, .. }) = &other else { panic!("{other:?}") };
    assert_eq!(code, "other-agent", "put aside by agents, since it stays refused");
    assert!(!exchange.upload(good.clone()).await.unwrap().duplicate);
    assert!(exchange.upload(good).await.unwrap().duplicate);
    assert!(!service.log().contains("panicked"), "{}", service.log());
}
