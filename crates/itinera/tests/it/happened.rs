//! What happens besides loss and delay: the demonstration's events come to be named with their
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

/// What each open incident is about, in the words that name its cause.
fn causes(incidents: &Value) -> Vec<&'static str> {
    let known = [
        "The content of Harbour Weather comes slowly",
        "Frames arrive damaged at Carrock Pier's own agent",
        "Resolver 198.18.48.53 goes on giving",
        "Full-sized packets from",
    ];
    let cause = |incident: &Value| {
        let said = text(&incident["sentence"]);
        let cause = known.into_iter().find(|cause| said.starts_with(cause));
        cause.unwrap_or_else(|| panic!("nothing of the kind happens: {incident}"))
    };
    let mut causes: Vec<_> = incidents.as_array().unwrap().iter().map(cause).collect();
    causes.sort_unstable();
    causes
}

fn look(demonstration: &Demonstration, target: &str, site: &str, more: &[&str]) -> (i32, Value) {
    let arguments = [&["outward", target, "--from", site, "--format", "json"], more].concat();
    let ran = demonstration.run(&arguments);
    let look = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{ran:?}"));
    (ran.code.unwrap(), look)
}

#[test]
fn each_thing_that_happens_is_named_with_its_cause_and_nothing_else_is() {
    let story = directory();
    let service =
        SERVICE.replace("every_s = 15", "every_s = 6").replace("every_s = 20", "every_s = 8");
    for (file, words) in
        [("world.toml", sooner()), ("owners.csv", OWNERS.to_owned()), ("service.toml", service)]
    {
        std::fs::write(story.path().join(file), words).unwrap();
    }
    let world = story.path().display().to_string();
    let demonstration = Demonstration::start(directory(), 3, &["--world", &world]);
    let open = || demonstration.client(&["incidents", "list", "--open"]);
    let incidents = eventually("four incidents", PATIENCE, || {
        let incidents = open();
        (causes(&incidents).len() == 4).then_some(incidents)
    });
    let all = causes(&incidents);
    assert!(all.windows(2).all(|two| two[0] != two[1]), "one incident each: {all:?}");
    // Everybody who sees it belongs to it, and nobody opens another.
    let of = |cause: &str| {
        let incidents = open();
        let all = incidents.as_array().unwrap().clone();
        all.into_iter().find(|incident| text(&incident["sentence"]).starts_with(cause)).unwrap()
    };
    eventually("both sites that the resolver leads astray", PATIENCE, || {
        let stale = of("Resolver 198.18.48.53");
        (names(&stale["sites"]) == ["Eskerry", "Ferrish Holm"]).then_some(())
    });
    eventually("the weather's slowness everywhere", PATIENCE, || {
        let slow = of("The content of Harbour Weather");
        assert_eq!(names(&slow["services"]), ["Harbour Weather"]);
        (names(&slow["sites"]).len() >= 5).then_some(())
    });
    assert_eq!(names(&of("Frames arrive damaged")["sites"]), ["Carrock Pier"]);
    assert_eq!(names(&of("Full-sized")["services"]), ["Crew Mail"]);
    std::thread::sleep(Duration::from_secs(30));
    assert_eq!(causes(&open()), all, "nothing else has come");

    // Looked at from the machines themselves, by one command each.
    let number = of("Resolver 198.18.48.53")["no"].to_string();
    std::thread::scope(|scope| {
        let look = |target, site, code, part: &'static str, more: Vec<&'static str>| {
            let (said, look) = look(&demonstration, target, site, &more);
            assert_eq!((said, text(&look["part"])), (code, part), "{look}");
            assert!(text(&look["sentence"]).starts_with("Broken: "), "{look}");
            assert!(text(&look["text"]).lines().all(|line| line.chars().count() <= 100));
        };
        let attached = vec!["--incident", Box::leak(number.clone().into_boxed_str())];
        scope.spawn(move || look("Seat Booking", "Eskerry", 12, "names", attached));
        scope.spawn(move || look("Gate Scanning", "Carrock Pier", 10, "machine", Vec::new()));
        scope.spawn(move || look("Harbour Weather", "Dunverra", 14, "service", Vec::new()));
        scope.spawn(move || look("Crew Mail", "Brannock Quay", 13, "network", Vec::new()));
    });
    let id = text(&of("Resolver 198.18.48.53")["id"]).to_owned();
    let attached = demonstration.run(&["incidents", "show", &number]);
    assert!(attached.out.contains("Looked outward from Eskerry"), "{id}: {attached:?}");

    // The commands for people say the same.
    let around = demonstration.run(&["surroundings", "Carrock Pier"]);
    assert!(around.out.contains("10.3.0.1") && around.out.contains("1000 Mb/s"), "{around:?}");
    let events = demonstration.run(&["events", "--trouble"]);
    assert!(events.out.contains("name-stale (names)"), "{events:?}");
    let checks = demonstration.client(&["checks"]);
    let mail = checks.as_array().unwrap().iter().find(|check| check["kind"] == "mail").unwrap();
    let shown = demonstration.run(&["checks", &mail["no"].to_string()]);
    assert!(shown.out.contains("full-sized ones do not"), "{shown:?}");
    demonstration.stop();
}
