//! An installation that begins with a day of the past: filled once, by the service's own judgement.

use crate::support::{Ran, Service, WORLD, directory, itinera, raw_request, with_token};
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};

/// Fills the installation of a service that is stopped.
fn backfill(service: &Service, world: &std::path::Path, more: &[&str]) -> Ran {
    let mut command = itinera();
    command.arg("backfill").arg(world).args(more);
    command.arg("--config").arg(service.path().join("service.toml"));
    command.arg("--data").arg(service.data()).args(["--format", "json"]);
    command.output().unwrap().into()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_new_installation_is_filled_with_a_day_once() {
    let mut service = Service::start();
    let place = directory();
    let world = place.path().join("world.toml");
    std::fs::write(&world, WORLD).unwrap();
    tokio::task::block_in_place(|| service.stop());
    let nobody = backfill(&service, &world, &["--days", "1"]);
    assert_eq!(nobody.code, Some(1), "no agent has joined: {nobody:?}");
    let missing = backfill(&service, &place.path().join("none.toml"), &[]);
    assert_eq!(missing.code, Some(5), "{missing:?}");
    let never = backfill(&service, &world, &["--days", "0"]);
    assert_eq!(never.code, Some(2), "{never:?}");

    tokio::task::block_in_place(|| service.restart());
    service.join("Eskerry", "eskerry").await;
    let running = backfill(&service, &world, &["--days", "1"]);
    assert_eq!(running.code, Some(1), "the service runs: {running:?}");
    tokio::task::block_in_place(|| service.stop());
    let wanted = ["--days", "1", "--interval-s", "3600", "--seed", "3"];
    let today = OffsetDateTime::now_utc().date().to_string();
    let filled = backfill(&service, &world, &wanted).json();
    let (paths, rounds) = (filled["paths"].as_u64().unwrap(), filled["rounds"].as_u64().unwrap());
    assert_eq!(filled["complete"], true);
    assert!(paths >= 8 && (paths * 23..=paths * 26).contains(&rounds), "{filled}");
    let again = backfill(&service, &world, &wanted);
    assert_eq!(again.code, Some(1), "it has measurements: {again:?}");

    tokio::task::block_in_place(|| service.restart());
    let status = service.json(&["status"]);
    assert_eq!(status["rounds"].as_u64(), Some(rounds), "{status}");
    let listed = service.json(&["paths"]);
    let id = listed.as_array().unwrap()[0]["id"].as_str().unwrap().to_owned();
    let history = service.json(&["history", &id, "--days", "2"]);
    let points = history["points"].as_array().unwrap();
    let first = points.iter().find(|point| point["rounds"].as_u64() > Some(0)).unwrap();
    let at = OffsetDateTime::parse(first["at"].as_str().unwrap(), &Rfc3339).unwrap();
    let ago = OffsetDateTime::now_utc() - at;
    assert!(ago > Duration::hours(22) && ago < Duration::hours(25), "{first}");
    let summed: u64 = points.iter().filter_map(|point| point["rounds"].as_u64()).sum();
    assert!((23..=26).contains(&summed), "{summed}");
    // The same day by row: from rounds where it is short, summed up where it is long.
    let weave = |span_s: u32| {
        let place = format!("GET /api/v1/paths/{id}/weave?span_s={span_s}");
        let answer =
            raw_request(&service.api(), &place, &with_token(&service.token(), "127.0.0.1"));
        let body = answer.split_once("\r\n\r\n").unwrap().1;
        serde_json::from_str::<serde_json::Value>(body).unwrap()
    };
    let (hours, days) = (weave(6 * 3_600), weave(2 * 86_400));
    assert_eq!((hours["summed"].as_bool(), days["summed"].as_bool()), (Some(false), Some(true)));
    let rows = |weave: &serde_json::Value| weave["rows"].as_array().unwrap().len();
    assert!((5..=7).contains(&rows(&hours)), "{hours}");
    // A row of 32 minutes each hour.
    assert_eq!((days["row_s"].as_u64(), rows(&days)), (Some(1_920), points.len()), "{days}");
    assert_eq!(hours["hops"], days["hops"]);
    let last = days["rows"].as_array().unwrap().last().unwrap();
    assert_eq!(last["cells"].as_array().unwrap().len(), days["hops"].as_array().unwrap().len());
    // What the service judges of it again is what was judged in virtual time.
    let data = service.data().display().to_string();
    let recompute = |more: &[&str]| {
        let of = ["recompute", "--data", &data, "--format", "json"];
        tokio::task::block_in_place(|| crate::support::run(&[&of[..], more].concat()).json())
    };
    let recomputed = recompute(&[]);
    assert_eq!(recomputed["rounds"].as_u64(), Some(rounds), "{recomputed}");
    // And what it judges from the state at midnight on.
    let of_today = recompute(&["--from", &today]);
    assert!(of_today["rounds"].as_u64() < Some(rounds), "{of_today}");
}
