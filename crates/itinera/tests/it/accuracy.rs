//! The accuracy bench as users run it.

use crate::support::{directory, run};
use serde_json::Value;

const SMALL: [&str; 8] = ["--worlds", "2", "--cases", "1", "--calm-minutes", "1", "--setup", "a"];

fn scores(more: &[&str]) -> Value {
    let arguments = [&["accuracy", "run", "--format", "json"], SMALL.as_slice(), more].concat();
    let mut report = run(&arguments).json();
    // What it costs differs from run to run.
    let costs = report.as_object_mut().unwrap().remove("costs").unwrap();
    for cost in costs.as_array().unwrap() {
        assert!(cost["us_per_round"].as_f64() > Some(0.0), "{cost}");
    }
    report
}

#[test]
fn the_rule_beats_the_naive_reading_and_the_oracle_both() {
    let report = run(&["accuracy", "run", "--format", "json"]).json();
    let part = &report["parts"][0];
    let all = part["paired"].as_array().unwrap();
    for paired in all.iter().filter(|it| it["than"] == "naive" || it["than"] == "per-path") {
        let low = paired["link"]["low"].as_f64().unwrap();
        assert!(
            low > 0.0,
            "{} is not surely better than {}: {paired}",
            paired["better"],
            paired["than"]
        );
        // The slower oracles are asked about some cases only.
        let is_slow = paired["better"].as_str().unwrap().starts_with("oracle, ");
        let least = if is_slow { 15 } else { 40 };
        assert!(paired["link"]["cases"].as_u64().unwrap() >= least, "{paired}");
    }
    assert_eq!(all.len(), 10, "each of five against each of the others");
    let costs = report["costs"].as_array().unwrap().iter().map(|it| it["candidate"].as_str());
    assert_eq!(costs.collect::<Vec<_>>(), [None, Some("naive"), Some("per-path")]);
    let published: Value =
        serde_json::from_str(include_str!("../../../../docs/accuracy.schema.json")).unwrap();
    let schema = run(&["accuracy", "schema"]).json();
    assert_eq!(schema, published, "docs/accuracy.schema.json is not up to date");
    crate::survey::keeps_to(&schema, &schema, &report, "report");
}

#[test]
fn scores_do_not_depend_on_threads_slices_or_interruption() {
    let one = scores(&["--threads", "1"]);
    assert_eq!(scores(&["--threads", "2"]), one);
    let place = directory();
    let kept = place.path().join("kept").display().to_string();
    for slice in ["2/2", "1/2"] {
        scores(&["--keep", &kept, "--slice", slice]);
    }
    let mut added = run(&["accuracy", "report", &kept, "--format", "json"]).json();
    let costs = added.as_object_mut().unwrap().remove("costs").unwrap();
    assert_eq!(costs, Value::Array(Vec::new()), "nothing was run");
    assert_eq!(added, one);
    // What is kept is not run again, and a file that was cut off is named.
    // A candidate that is missing is run by itself, in the worlds that are kept.
    let rule = std::fs::read_dir(&kept).unwrap().flatten().map(|entry| entry.path());
    let rule = rule.filter(|file| file.to_string_lossy().contains("per-path")).collect::<Vec<_>>();
    assert_eq!(rule.len(), 2);
    rule.iter().for_each(|file| std::fs::remove_file(file).unwrap());
    assert_eq!(scores(&["--keep", &kept]), one);
    let again = run(&[&["accuracy", "run", "--keep", &kept], SMALL.as_slice()].concat());
    assert!(again.err.contains("2 worlds are kept from before."), "{again:?}");
    assert!(again.out.contains("phantoms per 1,000 path-days"), "{again:?}");
    let file = std::fs::read_dir(&kept).unwrap().flatten().next().unwrap().path();
    std::fs::write(&file, "{").unwrap();
    let broken = run(&["accuracy", "report", &kept]);
    assert_eq!(broken.code, Some(5), "{broken:?}");
    assert!(broken.err.contains(&file.display().to_string()), "{broken:?}");
}

#[test]
fn a_case_is_described_and_its_world_is_readable_by_other_commands() {
    let place = directory();
    let world = place.path().join("world");
    let picture = place.path().join("case.svg");
    let (world, picture) = (world.display().to_string(), picture.display().to_string());
    let told = run(&[
        "accuracy",
        "case",
        "--seed",
        "5",
        "--number",
        "3",
        "--family",
        "addresses",
        "--svg",
        &picture,
        "--world",
        &world,
    ]);
    assert!(told.out.contains("World 5 of the family addresses"), "{told:?}");
    assert!(told.out.contains("itinera demo --world"), "{told:?}");
    let drawn = std::fs::read_to_string(&picture).unwrap();
    assert!(drawn.starts_with("<svg xmlns"), "{drawn}");
    let scenario = format!("{world}/world.toml");
    let checked = run(&["simulate", &scenario, "--check"]);
    assert!(checked.out.contains("is valid"), "{checked:?}");
    let service = format!("{world}/service.toml");
    let checked = run(&["config", "check", &service]);
    assert_eq!(checked.code, Some(0), "{checked:?}");
}

#[test]
fn wrong_requests_are_explained() {
    for (arguments, words) in [
        (&["accuracy", "run", "--slice", "3/2"][..], "K is between 1 and N"),
        (&["accuracy", "run", "--family", "odd"], "plain, noise, bursts"),
        (&["accuracy", "case", "--seed", "4"], "--number"),
    ] {
        let ran = run(arguments);
        assert_eq!(ran.code, Some(2), "{ran:?}");
        assert!(ran.err.contains(words), "{ran:?}");
    }
    let unknown = run(&["accuracy", "run", "--candidates", "odd"]);
    assert!(unknown.code == Some(1) && unknown.err.contains("per-path, and none"), "{unknown:?}");
    let place = directory();
    let empty = place.path().display().to_string();
    let ran = run(&["accuracy", "report", &empty]);
    assert!(ran.code == Some(5) && ran.err.contains("holds no records"), "{ran:?}");
    let nothing = run(&["demo", "--world", &empty, "--data", &format!("{empty}/d")]);
    assert!(nothing.code == Some(5) && nothing.err.contains("world.toml"), "{nothing:?}");
}

#[test]
fn a_confidence_is_fitted_on_its_split_and_scored_on_others() {
    let place = directory();
    let kept = place.path().join("kept").display().to_string();
    let of = |split: &str| {
        let names =
            ["--split", split, "--candidates", "naive", "--oracle-cases", "0", "--keep", &kept];
        let small = ["--worlds", "3", "--cases", "30", "--calm-minutes", "0", "--setup", "a"];
        let suite = ["--suite", "daily", "--family", "plain"];
        let ran = run(&[&["accuracy", "run"], &names[..], &small[..], &suite[..]].concat());
        assert_eq!(ran.code, Some(0), "{ran:?}");
    };
    let calibrate = ["accuracy", "calibrate", &kept, "--candidate", "naive"];
    of("tune");
    let none = run(&calibrate);
    assert_eq!(none.code, Some(1), "nothing to fit by: {none:?}");
    of("calibrate");
    let fitted = run(&calibrate).json();
    assert_eq!(fitted["seeds"].as_array().unwrap().len(), 3, "{fitted}");
    let file = place.path().join("naive.json");
    std::fs::write(&file, fitted.to_string()).unwrap();
    let name = file.display().to_string();
    let report = ["accuracy", "report", &kept, "--calibration", &name, "--format", "json"];
    let report = run(&report).json();
    let all = report["parts"][0]["scores"].as_array().unwrap();
    let error = |name: &str| {
        let own = all.iter().find(|it| it["candidate"] == name).unwrap();
        own["calibration_link"]["value"].as_f64().unwrap()
    };
    let [before, after] = ["naive", "naive, calibrated"].map(error);
    assert!(before > 0.8 && after < 0.2, "{before} and {after}");
    let older = fitted.to_string().replace("\"version\":", "\"version\":1");
    for (text, code) in [(older.as_str(), 5), ("{", 5)] {
        std::fs::write(&file, text).unwrap();
        let refused = run(&["accuracy", "report", &kept, "--calibration", &name]);
        assert_eq!(refused.code, Some(code), "{refused:?}");
    }
}
