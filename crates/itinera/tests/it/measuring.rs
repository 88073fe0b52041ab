//! Measurements that analysts start: two-way measurement, watches, and
//! nothing where they say so.

use crate::demonstration::Demonstration;
use crate::support::{PATIENCE, WORLD, directory, eventually};
use itinera_simnet::{Scenario, Simnet};
use serde_json::Value;
use std::time::Duration;

const SEED: u64 = 3;

/// How much a site's clock is ahead at the start, in microseconds.
fn clock_of(site: &Value) -> i64 {
    let net = Simnet::new(&Scenario::parse(WORLD).unwrap(), SEED);
    let found = net.sites().iter().find(|known| known.name == *site.as_str().unwrap()).cloned();
    found.unwrap().clock_offset_us
}

fn items(value: &Value) -> Vec<Value> {
    value.as_array().unwrap().clone()
}

/// What was seen last, printed where the test fails.
#[derive(Default)]
struct Seen(std::cell::RefCell<String>);

impl Seen {
    fn note(&self, what: &str) {
        what.clone_into(&mut self.0.borrow_mut());
    }
}

impl Drop for Seen {
    #[allow(clippy::print_stderr, reason = "a failed test says why")]
    fn drop(&mut self) {
        if std::thread::panicking() {
            eprintln!("seen last: {}", self.0.borrow());
        }
    }
}

/// Each end reports the route of what it sends.
fn each_end_reports_its_route(demonstration: &Demonstration, number: &str) {
    let seen = Seen::default();
    eventually("routes of a pair", PATIENCE, || {
        let pair = demonstration.client(&["pairs", number]);
        let routes = [&pair["forward_route"]["hops"], &pair["return_route"]["hops"]];
        seen.note(&format!("routes of pair {number}: {routes:?}"));
        let hops = routes.map(|hops| hops.as_array().map_or(&[][..], Vec::as_slice));
        let named = |hop: &&Value| !hop["owner"].is_null();
        let known = hops.iter().all(|hops| hops.iter().filter(named).count() >= 2);
        let [forward, back] = hops;
        assert!(!known || forward[0]["address"] != back[0]["address"], "{pair}");
        known.then_some(())
    });
}

#[test]
fn pairs_watches_and_suppressions_do_what_analysts_ask() {
    let demonstration = Demonstration::start(directory(), SEED, &[]);
    let client = |arguments: &[&str]| demonstration.client(arguments);

    // Both directions, before anything is wrong.
    let seen = Seen::default();
    let pairs = eventually("pairs to be measured", PATIENCE, || {
        let pairs = items(&client(&["pairs"]));
        let rounds = pairs.iter().map(|pair| format!("{} {}", pair["no"], pair["rounds"]));
        seen.note(&format!("rounds by pair: {}", rounds.collect::<Vec<_>>().join(", ")));
        let enough = |pair: &Value| pair["rounds"].as_u64().unwrap() >= 5;
        // Two sites have IPv6.
        let both = pairs.iter().any(|pair| pair["family"] == "ipv6");
        (both && pairs.len() >= 8 && pairs.iter().all(enough)).then_some(pairs)
    });
    for pair in &pairs {
        assert_ne!(pair["near"], pair["far"]);
        for direction in ["forward", "return"] {
            assert!(pair[direction]["loss_ratio"].as_f64().unwrap() < 0.05, "{pair}");
            assert!(pair[direction]["hops"].as_u64().unwrap() >= 3, "{pair}");
        }
        let truth = clock_of(&pair["far"]) - clock_of(&pair["near"]);
        let said = pair["clock_offset_us"].as_i64().unwrap();
        let error = pair["clock_offset_error_us"].as_i64().unwrap();
        // The programs do not start at the same moment: up to five drift for a minute meanwhile.
        assert!((said - truth).abs() <= error + 3_000, "{truth} {pair}");
    }

    // Summed up by direction.
    let number = pairs[0]["no"].to_string();
    eventually("sums of a pair", PATIENCE, || {
        let history = client(&["history", "--pair", &number]);
        let point = history["points"].as_array().unwrap().last()?.clone();
        let arrived = |name: &str| point[name]["arrived"].as_u64().unwrap();
        (arrived("forward") > 0 && arrived("return") > 0).then_some(())
    });

    each_end_reports_its_route(&demonstration, &number);

    // A path more densely for a limited time, within an incident.
    let path = items(&client(&["paths"])).remove(0);
    let id = path["id"].as_str().unwrap();
    let start = ["watches", "start", id, "--every", "0.5", "--for", "5", "--reason", "slow"];
    let watch = client(&start);
    assert_eq!((&watch["state"], &watch["path"]), (&"running".into(), &path["id"]));
    let number = watch["no"].to_string();
    let id = watch["id"].as_str().unwrap();
    let of_watch = |what: &str| client(&["watches", what, id]);
    eventually("rounds of the watch", PATIENCE, || {
        let rounds = of_watch("show")["found"]["rounds"].as_u64().unwrap();
        // Usually one every two seconds.
        (rounds >= 12).then_some(())
    });
    assert_eq!(of_watch("pause")["state"], "paused");
    assert_eq!(of_watch("resume")["state"], "running");
    let (site, service) = (path["site"].as_str().unwrap(), path["service"].as_str().unwrap());
    let incident = client(&["incidents", "open", "--site", site, "--service", service]);
    let incident_no = incident["no"].to_string();
    let incident_id = incident["id"].as_str().unwrap();
    client(&["watches", "attach", &number, "--incident", incident_id]);
    assert_eq!(of_watch("end")["state"], "over");
    eventually("the watch's summary to be kept", PATIENCE, || {
        let listed = items(&client(&["watches", "list"]));
        listed[0]["found"]["notes"].as_array().cloned()
    });
    let attached = client(&["incidents", "show", &incident_no])["watches"][0].clone();
    assert_eq!(attached["no"], watch["no"]);
    assert!(attached["found"]["rounds"].as_u64().unwrap() >= 12);

    // Nothing from one site, until that is lifted.
    let newest = |site: &str| {
        let paths = items(&client(&["paths"]));
        let from = paths.into_iter().filter(|path| path["site"] == site);
        from.filter_map(|path| path["latest"]["until"].as_str().map(str::to_owned)).max().unwrap()
    };
    let until = "2199-01-01T00:00:00Z";
    let add = ["suppressions", "add", "--site", "Dunverra", "--reason", "work", "--until"];
    let refused = demonstration.run(&[&add[..], &[until]].concat());
    assert!(refused.err.contains("90 days"), "{}", refused.err);
    let soon = time::OffsetDateTime::now_utc() + time::Duration::hours(1);
    let soon = soon.format(&time::format_description::well_known::Rfc3339).unwrap();
    let made = client(&[&add[..], &[soon.as_str()]].concat());
    std::thread::sleep(Duration::from_secs(15));
    let before = newest("Dunverra");
    std::thread::sleep(Duration::from_secs(22));
    assert_eq!(newest("Dunverra"), before, "nothing more was measured there");
    assert!(newest("Eskerry") > before);
    client(&["suppressions", "lift", &made["no"].to_string()]);
    eventually("measuring to go on", PATIENCE, || (newest("Dunverra") > before).then_some(()));
    demonstration.stop();
}
