//! `itinera diagnose` with no service: on simulated internets that are broken in one place each, it
//! names that place, and its exit code names the part at fault.

use crate::processes::simulation;
use crate::support::{Ran, directory, itinera, run};
use std::time::{Duration, Instant};

const WORLD: &str = r#"name = "diagnosis"
site = [{ id = "s", name = "S", address = "10.0.0.2", host_facts = { resolvers = ["198.18.1.53"], speed_mbit_s = 1000 } }]
target = [
  { id = "t", name = "T", address = "198.18.2.9" },
  { id = "r", name = "R", address = "198.18.1.53" },
]
router = [
  { id = "gw", address = "10.0.0.1" },
  { id = "a", address = "198.18.1.1" },
  { id = "b", address = "198.18.1.2" },
  { id = "c", address = "198.18.2.1" },
  { id = "d", address = "198.18.2.2" },
]
link = [
  { between = ["s", "gw"], delay_ms = 0.5 },
  { between = ["gw", "a"], delay_ms = 2.0 },
  { between = ["a", "b"], delay_ms = 1.0 },
  { between = ["a", "r"], delay_ms = 1.0 },
  { between = ["b", "c"], delay_ms = 3.0 },
  { between = ["c", "d"], delay_ms = 1.0 },
  { between = ["d", "t"], delay_ms = 1.0 },
]
record = [{ name = "t.corriven.example", addresses = ["198.18.2.9"], ttl_s = 60 }]
[[service]]
at = "r"
port = 53
speaks = "name"
[[service]]
at = "t"
port = 443
speaks = "web"
tls = "good"
name = "t.corriven.example"
"#;
const OWNERS: &str = "prefix,as_number,owner,contact\n198.18.1.0/24,64500,Lowtide Mobile,\n\
     198.18.2.0/24,64510,Stannoch Halls,\n";

fn diagnosis(world: &str, target: &str) -> (Ran, Duration) {
    let place = directory();
    let (_simulation, listen) = simulation(place.path(), world);
    let owners = place.path().join("owners.csv");
    std::fs::write(&owners, OWNERS).unwrap();
    let begun = Instant::now();
    let ran = itinera()
        .args(["diagnose", target, "--simulation", &listen, "--address", "10.0.0.2", "--owners"])
        .arg(&owners)
        .arg("--trust")
        .arg(place.path().join("authority.pem"))
        .output()
        .unwrap();
    (ran.into(), begun.elapsed())
}

#[test]
fn the_first_broken_step_and_its_part_are_named() {
    let fault = |from: &str, to: &str, what: &str| {
        format!("{WORLD}[[fault]]\nfrom = \"{from}\"\nto = \"{to}\"\nat_s = [0, 0]\n{what}\n")
    };
    let with = |from: &str, to: &str| {
        assert!(WORLD.contains(from), "{from}");
        WORLD.replacen(from, to, 1)
    };
    let url = "https://t.corriven.example/";
    let cases = [
        ("all is well", WORLD.to_owned(), url, 0, "No fault found"),
        (
            "damaged frames",
            fault("gw", "s", "loss = [0.2, 0.2]\ndamages_frames = true"),
            url,
            10,
            "Fault at own link",
        ),
        (
            "a black hole behind the gateway's door",
            fault("s", "gw", "loss = [1, 1]"),
            url,
            11,
            "Fault at gateway",
        ),
        ("no such name", WORLD.to_owned(), "https://other.corriven.example/", 12, "Fault at name"),
        (
            "a silent resolver",
            with("speaks = \"name\"", "speaks = \"name\"\ndoes = \"silent\""),
            url,
            12,
            "Fault at resolvers",
        ),
        (
            "loss at the boundary",
            fault("b", "c", "loss = [0.5, 0.5]"),
            url,
            13,
            "Fault at provider edge",
        ),
        (
            "large packets vanish",
            fault("d", "t", "swallows_over = 1000"),
            "t.corriven.example:25",
            13,
            "Fault at application",
        ),
        (
            "a port that refuses",
            with("tls = \"good\"", "tls = \"good\"\ndoes = \"refuse\""),
            url,
            14,
            "Fault at target by TCP",
        ),
        (
            "an expired certificate",
            with("tls = \"good\"", "tls = \"expired\""),
            url,
            14,
            "Fault at TLS",
        ),
        (
            "a failing page",
            with("tls = \"good\"", "tls = \"good\"\ndoes = \"fail\""),
            url,
            14,
            "Fault at application",
        ),
    ];
    std::thread::scope(|scope| {
        for (case, world, target, code, words) in cases {
            scope.spawn(move || {
                let mail = "[[service]]\nat = \"t\"\nport = 25\nspeaks = \"mail\"\n";
                let (ran, took) = diagnosis(&format!("{world}{mail}"), target);
                assert_eq!(ran.code, Some(code), "{case}: {ran:?}");
                assert!(ran.out.contains(words), "{case}: {ran:?}");
                assert!(took < Duration::from_secs(45), "{case}: {took:?} on a busy machine");
                assert!(!ran.out.contains('\u{1b}'), "{case}: pasted as it is");
            });
        }
    });
}

#[test]
fn what_hostile_servers_say_does_nothing_to_the_terminal() {
    let hostile = WORLD.replacen("tls = \"good\"", "tls = \"good\"\ndoes = \"hostile\"", 1);
    let ftp = "[[service]]\nat = \"t\"\nport = 21\nspeaks = \"ftp\"\ndoes = \"hostile\"\n";
    let (ran, _) = diagnosis(&format!("{hostile}{ftp}"), "t.corriven.example:21");
    assert_eq!(ran.code, Some(0), "{ran:?}");
    assert!(!ran.out.chars().any(|c| c.is_control() && c != '\n'), "{ran:?}");
}

#[test]
fn an_impossible_diagnosis_is_an_error() {
    for (target, words) in [
        ("ftp://t.corriven.example/", "begins with \"ftp\""),
        ("t.corriven.example:0x50", "is no name, address or URL"),
        ("", "is no name, address or URL"),
    ] {
        let ran = run(&["diagnose", target]);
        assert_eq!(ran.code, Some(1), "{ran:?}");
        assert!(ran.err.contains(words), "{target}: {ran:?}");
    }
    let nobody = ["diagnose", "x.example", "--simulation", "127.0.0.1:9", "--address", "10.9.0.1"];
    let ran = run(&nobody);
    assert!(ran.code == Some(1) && ran.err.contains("knows no machine here"), "{ran:?}");
    let ran = run(&["diagnose", "x", "--trust", "/nowhere/authority.pem"]);
    assert!(ran.code == Some(5) && ran.err.contains("/nowhere/authority.pem"), "{ran:?}");
}
