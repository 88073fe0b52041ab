//! Rules of alarms from files: refused, saved, applied, tried on the past, and taken back.

use crate::demonstration::{Demonstration, at_owner};
use crate::support::{PATIENCE, directory, eventually};
use serde_json::Value;
use std::path::{Path, PathBuf};

/// It draws a live fault inside Northmere Carriage.
const SEED: u64 = 2;
const QUIET: &str = "Stannoch Halls";
const WATCHED: &str = "Lowtide Mobile";

/// Faults at one owner are quiet the whole day, those at another are critical from the first path on.
const RULES: &str = r#"
[[rules]]
name = "Halls are quiet"
owners = [64510]
quiet.hours = { from = "00:00", to = "00:00", zone = "UTC" }

[[rules]]
name = "Lowtide is critical"
owners = [64498]
limits = { hold_windows = 2 }
severity.least = [{ severity = "critical", paths = 1 }]
"#;

/// No fault of this test holds for an hour.
const PATIENT: &str = r#"{ "rules": [{ "name": "Patient", "limits": { "hold_windows": 360 } }] }"#;

fn written(place: &Path, name: &str, text: &str) -> PathBuf {
    let file = place.join(name);
    std::fs::write(&file, text).unwrap();
    file
}

/// Rules that cannot be used, or of a version that is not the newest, leave everything as it is.
fn refuses(demonstration: &Demonstration, place: &Path) {
    let save = |name: &str, text: &str| {
        let file = written(place, name, text);
        demonstration.run(&["rules", "save", &file.display().to_string()])
    };
    for (name, text, code, place) in [
        ("odd.toml", "[[rules]]\nname = \"A\"\nsitse = []\n", 5, "line 3"),
        ("odd.json", r#"{ "rules": [{ "name": "A" }] }"#, 5, "rule 1"),
        (
            "site.json",
            &PATIENT.replace("\"limits\"", "\"sites\": [\"Nowhere\"], \"limits\""),
            4,
            "sites",
        ),
        ("old.json", &PATIENT.replacen('{', "{ \"version\": 7,", 1), 4, "version 0"),
    ] {
        let ran = save(name, text);
        assert_eq!(ran.code, Some(code), "{name}: {ran:?}");
        assert!(ran.err.contains(place), "{name}: {ran:?}");
    }
    assert_eq!(demonstration.client(&["rules", "show"])["version"], 0);
}

/// Rules are added, put in order, tried and removed one by one.
fn changes_one_rule(demonstration: &Demonstration) {
    let set = |arguments: &[&str]| demonstration.client(&[&["rules", "set"], arguments].concat());
    let names = |rules: &Value| {
        let rules = rules["rules"].as_array().unwrap().iter();
        rules.map(|rule| rule["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    set(&["Voice", "--service", "Bridge Voice", "--loss", "1%", "--least", "major"]);
    let hours = ["--quiet", "22:00-06:00", "--zone", "Europe/London", "--quiet-most", "minor"];
    let both = set(&[&["Nights", "--site", "Eskerry", "--first"], &hours[..]].concat());
    assert_eq!(names(&both), ["Nights", "Voice"]);
    assert_eq!(both["rules"][1]["limits"]["loss_ratio"], 0.01);
    assert_eq!(both["rules"][0]["quiet"]["hours"]["from"], "22:00");
    let tried = set(&["Voice", "--hold", "360", "--only-try", "1"]);
    assert_eq!(tried["tried"]["alarms"], 0, "{tried}");
    let left = demonstration.client(&["rules", "remove", "Nights"]);
    assert_eq!(names(&left), ["Voice"]);
    assert_eq!(demonstration.run(&["rules", "remove", "Nights"]).code, Some(4));
}

#[test]
fn rules_of_a_file_apply_are_tried_on_the_past_and_are_taken_back() {
    let place = directory();
    let demonstration = Demonstration::with_two_faults_soon(SEED, place.path());
    refuses(&demonstration, place.path());
    let rules = written(place.path(), "rules.toml", RULES).display().to_string();
    let saved = demonstration.client(&["rules", "save", &rules, "--text", "first rules"]);
    assert_eq!((&saved["version"], &saved["text"]), (&1.into(), &"first rules".into()));

    let (quiet, watched) = eventually("both alarms", PATIENCE, || {
        let alarms = demonstration.client(&["alarms", "--open"]);
        let is_shelved = |alarm: &&Value| alarm["handling"]["state"] == "shelved";
        let quiet = at_owner(&alarms, QUIET).iter().find(is_shelved)?.clone();
        Some((quiet, at_owner(&alarms, WATCHED).first()?.clone()))
    });
    assert_eq!(quiet["handling"]["shelve_reason"], "Quiet hours: Halls are quiet");
    assert_eq!(quiet["handling"]["shelved_by"], "Itinera");
    let by = "Lowtide is critical";
    assert_eq!(
        (&watched["perceived_severity"], &watched["severity_by"]),
        (&"critical".into(), &by.into())
    );
    assert_eq!(
        (&watched["limits_by"], &watched["handling"]["state"]),
        (&by.into(), &"none".into())
    );

    let patient = written(place.path(), "patient.json", PATIENT).display().to_string();
    let tried = demonstration.client(&["rules", "try", &patient, "--days", "1"]);
    let in_force = &tried["in_force"];
    assert_eq!(tried["tried"]["alarms"], 0, "{tried}");
    assert!(
        in_force["alarms"].as_u64().unwrap() >= 2 && in_force["quiet"].as_u64().unwrap() >= 1,
        "{tried}"
    );
    let items = tried["items"].as_array().unwrap();
    assert!(items.iter().all(|it| it["raised_by"] == "only-in-force"), "{tried}");
    let of_rule = |it: &&Value| it["severity_by"] == by && it["severity"] == "critical";
    assert!(items.iter().any(|it| of_rule(&it)), "{tried}");
    let unchanged = demonstration.client(&["rules", "try", &rules, "--days", "1"]);
    assert_eq!(unchanged["tried"], unchanged["in_force"]);

    let restored = demonstration.client(&["rules", "restore", "0"]);
    assert_eq!((&restored["version"], &restored["rules"]), (&2.into(), &serde_json::json!([])));
    eventually("no quiet hours", PATIENCE, || {
        let alarm = demonstration.client(&["alarms", &quiet["no"].to_string()]);
        (alarm["handling"]["state"] == "none").then_some(())
    });
    changes_one_rule(&demonstration);
    let versions = demonstration.client(&["rules", "versions"]);
    let numbers: Vec<&Value> =
        versions.as_array().unwrap().iter().map(|it| &it["version"]).collect();
    assert_eq!(numbers, [5, 4, 3, 2, 1]);
    demonstration.stop();
}
