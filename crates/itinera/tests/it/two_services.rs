//! Two services on one database: each knows what the other does, and each can work alone.

use crate::ingest::{compressed, join_all, live_only};
use crate::support::{PATIENCE, Service, directory, eventually, raw_request, run, with_token};
use itinera_agent::{Exchange, Identity};
use itinera_lab::Density;
use itinera_model::unit::Tick;
use itinera_store::cluster::Cluster;
use std::time::Duration;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// The duties that one service does for both, and whether this one does.
fn leads(service: &Service, duty: &str) -> Option<bool> {
    let head = with_token(&service.token(), "127.0.0.1");
    let text = raw_request(&service.api(), "GET /metrics", &head);
    let name = format!("itinera_duty_leads{{duty=\"{duty}\"}} ");
    text.lines().find_map(|line| Some(line.strip_prefix(&name)? == "1"))
}

fn unjudged(service: &Service) -> bool {
    service.json(&["status"])["unjudged_commits"] != 0
}

/// Passwords are tried at both in turn; the answer's status.
fn try_wrong_password(service: &Service) -> String {
    let body = "{\"name\":\"administrator\",\"password\":\"not the password\"}";
    let head = format!(
        "Host: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: \
         close\r\n\r\n{body}",
        body.len()
    );
    let answer = raw_request(&service.api(), "POST /api/v1/session", &head);
    answer.split(' ').nth(1).unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_services_on_one_database_are_one_installation() {
    let database = directory();
    let cluster = Cluster::start(database.path()).await.unwrap();
    let url = Cluster::url_in(database.path());
    let on_database = |text: &str| format!("database = \"{url}\"\n{text}");
    let mut first = tokio::task::block_in_place(|| Service::start_with(on_database));
    let lab = itinera_lab::run(&live_only(), 2, &Density::default(), Tick::from_millis(60_000));
    let (names, identities) = join_all(&first, &lab).await;
    let second = tokio::task::block_in_place(|| first.start_another());
    let at = |service: &Service, of: &Identity| {
        let mut identity = of.clone();
        identity.service = service.agents_url();
        Exchange::of(&identity).unwrap()
    };
    let send = async |service: &Service, batches: &[itinera_model::batch::Batch]| {
        for batch in batches {
            let of = identities.iter().find(|of| of.agent == batch.agent).unwrap();
            at(service, of).upload(compressed(batch)).await.unwrap();
        }
    };

    // One judges, and one does each job.
    tokio::task::block_in_place(|| {
        for duty in ["judging", "watches"] {
            eventually("one of both to lead", PATIENCE, || {
                let both = [leads(&first, duty)?, leads(&second, duty)?];
                (both[0] != both[1]).then_some(())
            });
        }
    });

    // An agent that waits at one of them hears of a change at the other.
    let of = identities.iter().find(|of| of.site == "Eskerry").unwrap();
    let waiting = at(&second, of);
    let version = waiting.schedule(0, &[]).await.unwrap().unwrap().version;
    let waits = tokio::spawn(async move { waiting.schedule(version, &[]).await });
    let until = (OffsetDateTime::now_utc() + Duration::from_secs(3_600)).format(&Rfc3339).unwrap();
    let pause = ["--site", "Eskerry", "--until", &until, "--reason", "test"];
    first.json(&[&["suppressions", "add"][..], &pause].concat());
    let heard = waits.await.unwrap().unwrap().unwrap();
    assert!(heard.version > version);

    // Wrong passwords count together.
    let statuses = |service: &Service| (0..4).map(|_| try_wrong_password(service)).collect();
    let refused: Vec<String> = tokio::task::block_in_place(|| statuses(&first));
    assert_eq!(refused, ["403"; 4]);
    let refused: Vec<String> = tokio::task::block_in_place(|| statuses(&second));
    assert_eq!(refused, ["403"; 4]);
    for service in [&first, &second] {
        assert_eq!(tokio::task::block_in_place(|| try_wrong_password(service)), "429");
    }

    // What either takes in is judged, also when the one that judges is killed.
    let batches = lab.batches(&names, 10);
    let (early, late) = batches.split_at(batches.len() / 2);
    send(&second, early).await;
    tokio::task::block_in_place(|| {
        eventually("judgement by one of them", PATIENCE, || (!unjudged(&second)).then_some(()));
        first.kill();
    });
    send(&second, late).await;
    tokio::task::block_in_place(|| {
        eventually("judgement by the other", PATIENCE, || (!unjudged(&second)).then_some(()));
        assert_eq!(leads(&second, "judging"), Some(true));
        let recomputed = run(&["recompute", "--database", &url]);
        assert_eq!(recomputed.code, Some(0), "{recomputed:?}");
    });
    drop((first, second));
    cluster.stop().await.unwrap();
}
