//! Events other than loss and delay: the events of the demo come to be named with their
//! right causes, and nothing else is.

use crate::demonstration::Demonstration;
use crate::support::{PATIENCE, SERVICE, WORLD, directory, eventually};
use serde_json::Value;
use std::time::Duration;

const OWNERS: &str = include_str!("../../../../demo/owners.csv");

/// The demonstration's world without its live fault, and with everything else sooner.
fn sooner() -> String {
    let mut world = WORLD.replace("loss = [0.15, 0.25]", "loss = [0, 0]");
    for (late, soon) in [
        ("at_s = 150, for_s = 1200", "at_s = 60, for_s = 1200"),
        ("at_s = [240, 240]", "at_s = [70, 70]"),
        ("at_s = 330", "at_s = 80"),
        ("at_s = [420, 420]", "at_s = [90, 90]"),
    ] {
        assert!(world.contains(late), "{late}");
        world = world.replace(late, soon);
    }
    world
}

fn text(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}

fn names(value: &Value) -> Vec<&str> {
    value.as_array().into_iter().flatten().map(text).collect()
}

/// The code of each open incident's message.
fn causes(incidents: &Value) -> Vec<String> {
    const KNOWN: [&str; 5] =
        ["transfer-slow", "receive-errors", "dns-stale", "mtu-black-hole", "route-not-intended"];
    let cause = |incident: &Value| {
        let code = text(&incident["message"]["code"]);
        assert!(KNOWN.contains(&code), "nothing of the kind happens: {incident}");
        code.to_owned()
    };
    let mut causes: Vec<_> = incidents.as_array().unwrap().iter().map(cause).collect();
    causes.sort_unstable();
    causes
}

fn diagnosis(
    demonstration: &Demonstration,
    target: &str,
    site: &str,
    more: &[&str],
) -> (i32, Value) {
    let arguments = [&["diagnose", target, "--from", site, "--format", "json"], more].concat();
    let ran = demonstration.run(&arguments);
    let diagnosis = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{ran:?}"));
    (ran.code.unwrap(), diagnosis)
}

/// A demonstration of the hurried world, with the directory its story lies in.
fn hurried() -> (Demonstration, tempfile::TempDir) {
    let story = directory();
    let service =
        SERVICE.replace("every_s = 15", "every_s = 6").replace("every_s = 20", "every_s = 8");
    let positions = "addresses = [\"198.18.128.30\", \"2001:db8:128::30\"]";
    assert!(service.contains(positions));
    // No owner of this name is on any route to it.
    let intended = format!("{positions}\n[target.intended]\nowners = [64599]\n");
    let service = service.replace(positions, &intended);
    for (file, words) in
        [("world.toml", sooner()), ("owners.csv", OWNERS.to_owned()), ("service.toml", service)]
    {
        std::fs::write(story.path().join(file), words).unwrap();
    }
    let world = story.path().display().to_string();
    (Demonstration::start(directory(), 3, &["--world", &world]), story)
}

/// Looked at from the machines themselves, by one command each.
fn looks_find_it(demonstration: &Demonstration, incident: &Value) {
    let number = incident["no"].to_string();
    let attached = ["--incident", number.as_str()];
    let found = |target, site, more: &[&str], code, part| {
        let (said, diagnosis) = diagnosis(demonstration, target, site, more);
        assert_eq!((said, text(&diagnosis["part"])), (code, part), "{diagnosis}");
        assert!(diagnosis["conclusion"]["broken"].is_string(), "{diagnosis}");
        assert!(text(&diagnosis["text"]).lines().all(|line| line.chars().count() <= 100));
    };
    std::thread::scope(|scope| {
        scope.spawn(|| found("Seat Booking", "Eskerry", &attached, 12, "names"));
        scope.spawn(|| found("Gate Scanning", "Carrock Pier", &[], 10, "machine"));
        scope.spawn(|| found("Harbour Weather", "Dunverra", &[], 14, "service"));
        scope.spawn(|| found("Crew Mail", "Brannock Quay", &[], 13, "network"));
    });
    let shown = demonstration.run(&["incidents", "show", &number]);
    assert!(shown.out.contains("Diagnosis from Eskerry"), "{shown:?}");
}

/// A diagnosis starts a two-way measurement between two agents that are no partners.
fn the_return_route_is_measured(demonstration: &Demonstration) {
    let pairs = demonstration.client(&["pairs"]);
    let paired = |a: &str, b: &str| {
        let is = |pair: &Value, near: &str, far: &str| pair["near"] == near && pair["far"] == far;
        pairs.as_array().unwrap().iter().any(|pair| is(pair, a, b) || is(pair, b, a))
    };
    let sites = ["Alderskay Head Office", "Brannock Quay", "Dunverra", "Eskerry", "Ferrish Holm"];
    let mut all = sites.into_iter().flat_map(|a| sites.map(|b| (a, b)));
    let (from, to) = all.find(|(a, b)| a != b && !paired(a, b)).expect("three partners of five");
    eventually("packets back from the other end", PATIENCE, || {
        let (_, diagnosis) = diagnosis(demonstration, to, from, &[]);
        let code = |step: &str| {
            let steps = diagnosis["steps"].as_array().unwrap();
            let step = steps.iter().find(|one| one["step"] == step);
            text(&step.unwrap_or_else(|| panic!("no such step: {diagnosis}"))["code"]).to_owned()
        };
        assert_eq!(code("target-echo"), "target-echo", "{diagnosis}");
        // A starved machine may be too slow for one diagnosis; the next finds them.
        (code("return-route") == "return-counted").then_some(())
    });
    let itself = demonstration.run(&["diagnose", to, "--from", to]);
    assert!(itself.err.contains(": name another site"), "{itself:?}");
}

/// How a conversation would sound, in both directions.
fn voice_is_heard(demonstration: &Demonstration) {
    let pairs = demonstration.client(&["pairs"]);
    let four = |pair: &&Value| {
        pair["family"] == "ipv4" && pair["near"] != "Carrock Pier" && pair["far"] != "Carrock Pier"
    };
    // One that is measured all the time, not for a diagnosis.
    let rounds = |pair: &&Value| pair["rounds"].as_u64();
    let pair = pairs.as_array().unwrap().iter().filter(four).max_by_key(rounds).unwrap();
    let number = pair["no"].to_string();
    demonstration.client(&["pairs", text(&pair["id"]), "--voice", "60"]);
    let pair = eventually("a voice-like stream", PATIENCE, || {
        let pair = demonstration.client(&["pairs", &number]);
        (!pair["voice"].is_null()).then_some(pair)
    });
    for direction in ["forward", "return"] {
        let heard = &pair["voice"][direction];
        assert_eq!(text(&heard["fitness"]), "fit", "{heard}");
        assert!((80.0..93.3).contains(&heard["r"].as_f64().unwrap()), "{heard}");
    }
    // As it was at a time.
    let series = pair["series"].as_array().unwrap();
    let last = text(&series.last().unwrap()["at"]);
    let then = demonstration.client(&["pairs", "--at", last]);
    let same = |one: &&Value| one["no"] == pair["no"];
    let rounds = then.as_array().unwrap().iter().find(same).unwrap()["rounds"].as_u64();
    assert!((1..=series.len() as u64).contains(&rounds.unwrap()), "{then}");
    let early = "2020-03-01T10:00:00Z";
    assert_eq!(demonstration.client(&["pairs", "--at", early]).as_array().unwrap().len(), 0);
    let none = demonstration.client(&["host-facts", "Carrock Pier", "--at", early]);
    assert!(none["at"].is_null(), "{none}");
}

/// How much gets through, by either protocol.
fn throughput_is_told(demonstration: &Demonstration) {
    for by in ["tcp", "udp"] {
        let run = ["throughput", "--from", "Brannock Quay", "--to", "Dunverra", "--by", by];
        let run = demonstration.client(
            &[&run[..], &["--seconds", "2", "--most-bytes", "1000000", "--rate-mbit-s", "2"]]
                .concat(),
        );
        assert!(run["got_bit_s"].as_u64().unwrap() > 500_000, "{run}");
        assert!(run["carried_out_bytes"].as_u64() >= run["received_bytes"].as_u64(), "{run}");
    }
}

/// The commands in text form say the same.
fn commands_say_the_same(demonstration: &Demonstration) {
    let host_facts = demonstration.run(&["host-facts", "Carrock Pier"]);
    assert!(
        host_facts.out.contains("10.3.0.1") && host_facts.out.contains("1000 Mb/s"),
        "{host_facts:?}"
    );
    let events = demonstration.run(&["events", "--faults"]);
    let headline = "major     Stale DNS answer for ";
    assert!(events.out.contains(headline), "{events:?}");
    let wide = events.out.lines().all(|line| line.chars().count() <= 120);
    assert!(wide, "one or two lines each: {events:?}");
    let checks = demonstration.client(&["checks"]);
    let mail = checks.as_array().unwrap().iter().find(|check| check["kind"] == "mail").unwrap();
    let shown = demonstration.run(&["checks", &mail["no"].to_string()]);
    assert!(shown.out.contains("large packets lost"), "{shown:?}");
    let name = checks.as_array().unwrap().iter().find(|check| check["kind"] == "name").unwrap();
    let asked = demonstration.client(&["checks", text(&name["id"]), "--now"]);
    assert_ne!(asked["at"], name["at"], "{asked}");
}

/// The log, judged again, gives the same findings, alarms and events.
fn all_of_it_is_judged_alike_again(demonstration: &Demonstration) {
    let data = demonstration.service_data().display().to_string();
    let ran = crate::support::run(&["recompute", "--data", &data, "--format", "json"]);
    assert_eq!(ran.code, Some(0), "{ran:?}");
    let events = ran.json()["events"]["recorded"].as_u64();
    assert!(events >= Some(8), "{ran:?}");
}

#[test]
fn each_thing_that_happens_is_named_with_its_cause_and_nothing_else_is() {
    let (demonstration, _story) = hurried();
    let open = || demonstration.client(&["incidents", "list", "--open"]);
    let incidents = eventually("five incidents", PATIENCE, || {
        let incidents = open();
        (causes(&incidents).len() == 5).then_some(incidents)
    });
    let all = causes(&incidents);
    assert!(all.windows(2).all(|two| two[0] != two[1]), "one incident each: {all:?}");
    // Every site that sees it belongs to it, and no site opens another.
    let of = |cause: &str| {
        let incidents = open();
        let all = incidents.as_array().unwrap().clone();
        all.into_iter().find(|incident| text(&incident["message"]["code"]) == cause).unwrap()
    };
    eventually("both sites that the resolver leads astray", PATIENCE, || {
        let stale = of("dns-stale");
        (names(&stale["sites"]) == ["Eskerry", "Ferrish Holm"]).then_some(())
    });
    eventually("the weather's slowness everywhere", PATIENCE, || {
        let slow = of("transfer-slow");
        assert_eq!(names(&slow["services"]), ["Harbour Weather"]);
        (names(&slow["sites"]).len() >= 5).then_some(())
    });
    assert_eq!(names(&of("receive-errors")["sites"]), ["Carrock Pier"]);
    assert_eq!(names(&of("mtu-black-hole")["services"]), ["Crew Mail"]);
    assert_eq!(names(&of("route-not-intended")["services"]), ["Vessel Positions"]);
    let stale = of("dns-stale")["message"]["parameters"].clone();
    assert_eq!(stale["resolver"], "198.18.48.53", "{stale}");
    std::thread::sleep(Duration::from_secs(30));
    assert_eq!(causes(&open()), all, "nothing else has come");

    looks_find_it(&demonstration, &of("dns-stale"));
    the_return_route_is_measured(&demonstration);
    voice_is_heard(&demonstration);
    throughput_is_told(&demonstration);
    commands_say_the_same(&demonstration);
    all_of_it_is_judged_alike_again(&demonstration);
    demonstration.stop();
}
