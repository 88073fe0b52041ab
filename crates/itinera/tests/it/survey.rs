//! `itinera survey` on a simulated internet: what users and programs get, and what is kept.

use crate::processes::simulation;
use crate::support::{Ran, directory, run};
use pcap_file::pcapng::{Block, PcapNgReader};
use serde_json::Value;

/// s, edge (translates and marks), b balances over c and d; c loses; e is small; t.
const WORLD: &str = r#"name = "small"
site = [{ id = "s", name = "S", address = "10.0.0.2" }]
target = [{ id = "t", name = "T", address = "198.18.0.9", tcp_open = [443], ignores = ["echo"] }]
router = [
  { id = "edge", address = "10.0.0.1", translates_to = "100.64.0.1", marks_dscp = 0 },
  { id = "b", address = "198.18.0.2", balances = "flow" },
  { id = "c", address = "198.18.0.3" },
  { id = "d", address = "198.18.0.4" },
  { id = "e", address = "198.18.0.5", rate_limits = [0.5, 0.6], labels = [24001] },
]
link = [
  { between = ["s", "edge"], delay_ms = 1.0 },
  { between = ["edge", "b"], delay_ms = 1.0 },
  { between = ["b", "c"], delay_ms = 1.0 },
  { between = ["b", "d"], delay_ms = 1.0 },
  { between = ["c", "e"], delay_ms = 1.0 },
  { between = ["d", "e"], delay_ms = 1.0 },
  { between = ["e", "t"], delay_ms = 1.0, mtu = 1400 },
]
fault = [{ from = "c", to = "e", at_s = [0, 0], loss = [0.4, 0.4] }]
"#;
const OWNERS: &str = "prefix,as_number,owner,contact\n198.18.0.0/24,64500,Northmere Carriage,\n";

fn survey(simulation: &str, more: &[&str]) -> Ran {
    let mut arguments = vec!["survey", "run", "198.18.0.9", "--method", "tcp-syn", "--port", "443"];
    arguments.extend(["--simulation", simulation, "--address", "10.0.0.2"]);
    arguments.extend([
        "--hop-answers-per-s",
        "1000",
        "--interval-ms",
        "200",
        "--timeout-ms",
        "500",
    ]);
    arguments.extend(more);
    run(&arguments)
}

#[test]
fn a_survey_says_what_is_wrong_and_what_is_not_and_keeps_the_packets() {
    let place = directory();
    let (_simulation, listen) = simulation(place.path(), WORLD);
    let file = place.path().join("kept.itinera");
    let owners = place.path().join("owners.csv");
    std::fs::write(&owners, OWNERS).unwrap();
    let (kept, owners) = (file.display().to_string(), owners.display().to_string());
    let mut more = vec!["--branches", "--mtu", "--rounds", "60", "--probes-per-hop", "2"];
    more.extend(["--dscp", "46", "--owners", &owners, "--save", &kept, "--format", "json"]);
    let ran = survey(&listen, &more);
    assert_eq!(ran.code, Some(0), "{}", ran.err);
    let report: Value = serde_json::from_str(&ran.out).unwrap();
    let members = report["members"].as_array().unwrap();
    assert_eq!(members.len(), 2, "{report:#}");
    let lossy: Vec<_> = members.iter().filter(|member| !member["finding"].is_null()).collect();
    assert_eq!(lossy.len(), 1, "one member loses, the other does not: {report:#}");
    assert_eq!(lossy[0]["finding"]["place"]["from"], "198.18.0.3");
    assert_eq!(lossy[0]["finding"]["place"]["to"], "198.18.0.5");
    let schema = run(&["survey", "schema"]);
    let schema: Value = serde_json::from_str(&schema.out).unwrap();
    keeps_to(&schema, &schema, &report, "report with a finding");
    assert_eq!(report["balancers"][0]["balancing"], "per-flow");
    assert_eq!(report["mtu_bytes"], 1400);
    let codes = |messages: &Value| -> Vec<String> {
        let codes = messages.as_array().into_iter().flatten().map(|one| one["code"].as_str());
        codes.map(|code| code.unwrap().to_owned()).collect()
    };
    assert_eq!(codes(&lossy[0]["messages"])[0], "loss-located", "{report:#}");
    let found: Vec<String> = members.iter().flat_map(|one| codes(&one["messages"])).collect();
    assert!(found.contains(&"hops-rate-limited".to_owned()), "{found:?}");
    let owner = &lossy[0]["messages"][0]["headline"];
    assert!(owner.as_str().unwrap().contains("inside Northmere Carriage"), "{owner}");
    let notes = codes(&report["notes"]);
    for code in [
        "dscp-rewritten",
        "mpls-labels",
        "port-open",
        "member-routes",
        "traffic-balanced",
        "path-mtu",
    ] {
        assert!(notes.contains(&code.to_owned()), "{code}: {report:#}");
    }
    let note = |code: &str| {
        let notes = report["notes"].as_array().unwrap();
        notes.iter().find(|note| note["code"] == code).unwrap()["parameters"].clone()
    };
    assert_eq!(note("dscp-rewritten")["seen_at"]["address"], "198.18.0.2");
    assert_eq!(note("mpls-labels")["labels"], serde_json::json!([24_001]));
    assert_eq!(note("path-mtu")["limit"]["by"], "198.18.0.5");
    // The same is said of what was kept, and the packets are there.
    let again = run(&["survey", "show", &kept, "--owners", &owners, "--format", "json"]);
    assert_eq!(again.out, ran.out);
    let text = run(&["survey", "show", &kept]);
    assert!(
        text.out.contains("Flow ") && text.out.contains("rate-limits its answers"),
        "{}",
        text.out
    );
    let packets = place.path().join("kept.pcapng");
    let written = run(&["survey", "packets", &kept, &packets.display().to_string()]);
    assert_eq!(written.code, Some(0), "{}", written.err);
    let mut reader = PcapNgReader::new(std::fs::File::open(&packets).unwrap()).unwrap();
    let mut count = 0;
    while let Some(block) = reader.next_block() {
        if let Block::EnhancedPacket(packet) = block.unwrap() {
            itinera_wire::IpHeader::parse(&packet.data).unwrap();
            count += 1;
        }
    }
    assert!(count > 600, "{count} packets");
}

#[test]
fn reports_keep_to_the_published_schema() {
    let place = directory();
    let (_simulation, listen) = simulation(place.path(), WORLD);
    let schema = run(&["survey", "schema"]);
    let published = include_str!("../../../../docs/survey.schema.json");
    let schema: Value = serde_json::from_str(&schema.out).unwrap();
    let published: Value = serde_json::from_str(published).unwrap();
    assert_eq!(schema, published, "docs/survey.schema.json is not up to date");
    let ran = survey(&listen, &["--rounds", "2", "--size-bytes", "64,900", "--format", "json"]);
    let report: Value = serde_json::from_str(&ran.out).unwrap();
    keeps_to(&schema, &schema, &report, "report");
    assert_eq!(report["sizes"].as_array().unwrap().len(), 2);
}

/// The parts of a schema that hold for a value: references are followed, alternatives are chosen by
/// their tag.
fn parts<'a>(schema: &'a Value, part: &'a Value, value: &Value) -> Vec<&'a Value> {
    if let Some(name) = part["$ref"].as_str() {
        return parts(schema, schema.pointer(&name[1..]).unwrap(), value);
    }
    if let Some(all) = part["allOf"].as_array() {
        return all.iter().flat_map(|part| parts(schema, part, value)).collect();
    }
    let Some(choices) = part["oneOf"].as_array() else { return vec![part] };
    if value.is_null() {
        return Vec::new();
    }
    let fits = |choice: &&Value| {
        ["kind", "code", "state", "reason"].iter().any(|tag| {
            let word = &choice["properties"][tag]["enum"][0];
            !word.is_null() && *word == value[tag]
        })
    };
    let referred = |choice: &&Value| choice.get("$ref").is_some();
    let fitting = choices.iter().find(fits).or_else(|| choices.iter().find(referred));
    parts(schema, fitting.unwrap(), value)
}

/// Every field a value has is described, and every field that is required is there.
pub(crate) fn keeps_to(schema: &Value, part: &Value, value: &Value, place: &str) {
    let parts = parts(schema, part, value);
    match value {
        Value::Object(fields) => {
            for (name, field) in fields {
                let described = parts.iter().find_map(|part| part["properties"].get(name));
                let described =
                    described.unwrap_or_else(|| panic!("{place}.{name} is not described"));
                keeps_to(schema, described, field, &format!("{place}.{name}"));
            }
            let required = parts.iter().filter_map(|part| part["required"].as_array()).flatten();
            for name in required.filter_map(Value::as_str) {
                assert!(fields.contains_key(name), "{place}.{name} is missing");
            }
        }
        Value::Array(items) => {
            let described = parts.iter().find_map(|part| part.get("items"));
            let described = described.unwrap_or_else(|| panic!("{place} is no array"));
            items.iter().for_each(|item| keeps_to(schema, described, item, place));
        }
        _ => {}
    }
}

#[test]
fn an_impossible_survey_is_an_error_before_anything_is_sent() {
    let place = directory();
    let kept = place.path().join("kept.itinera");
    std::fs::write(&kept, "something else").unwrap();
    let kept = kept.display().to_string();
    let common = ["--simulation", "127.0.0.1:9", "--address", "10.0.0.2"];
    for (arguments, code, words) in [
        (vec!["survey", "run", "2001:db8::9"], 1, "no route to 2001:db8::9"),
        (vec!["survey", "run", "nowhere.invalid"], 1, "does not resolve; nothing was probed"),
        (vec!["survey", "run", "198.18.0.9", "--method", "tcp-syn"], 1, "give --port"),
        (
            vec!["survey", "run", "198.18.0.9", "--size-bytes", "20"],
            1,
            "packet size 20 is outside 30",
        ),
        (
            vec!["survey", "run", "198.18.0.9", "--first-hop", "9", "--last-hop", "3"],
            1,
            "lies behind",
        ),
        (vec!["survey", "run", "198.18.0.9", "--dscp", "64"], 2, "--dscp"),
        (vec!["survey", "run", "198.18.0.9", "--save", &kept], 5, "exists already"),
        (vec!["survey", "show", &kept], 5, "it is no record of a survey"),
    ] {
        let mut arguments = arguments;
        if arguments[1] == "run" {
            arguments.extend(common);
        }
        let ran = run(&arguments);
        assert_eq!(ran.code, Some(code), "{arguments:?}: {}", ran.err);
        assert!(ran.err.contains(words), "{arguments:?}: {}", ran.err);
    }
    assert_eq!(std::fs::read_to_string(&kept).unwrap(), "something else");
}

#[test]
fn damaged_records_are_refused_calmly() {
    let place = directory();
    let (_simulation, listen) = simulation(place.path(), WORLD);
    let kept = place.path().join("kept.itinera");
    let ran = survey(&listen, &["--rounds", "1", "--save", &kept.display().to_string()]);
    assert_eq!(ran.code, Some(0), "{}", ran.err);
    let whole = std::fs::read(&kept).unwrap();
    for at in (0..whole.len()).step_by(whole.len() / 12) {
        let damaged = place.path().join("damaged.itinera");
        let mut octets = whole.clone();
        octets[at] ^= 0x55;
        octets.truncate(whole.len() - at % 7);
        std::fs::write(&damaged, &octets).unwrap();
        let ran = run(&["survey", "show", &damaged.display().to_string()]);
        assert_eq!(ran.code, Some(5), "octet {at}: {} {}", ran.out, ran.err);
    }
}
