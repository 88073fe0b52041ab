//! A commit that judgement cannot read is set aside, later commits are judged, and a command has the
//! commit judged again. `/readyz` names the duty that is not done.

use crate::support::{PATIENCE, Service, eventually, raw_request};
use itinera_agent::Exchange;
use itinera_lab::{Density, LabRun, Names, run};
use itinera_model::batch::Batch;
use itinera_model::codec::encode;
use itinera_model::unit::Tick;
use itinera_simnet::Scenario;
use std::path::PathBuf;
use std::process::Command;

const SITE: &str = "Carrock Pier";

/// Runs a statement in the service's private cluster.
fn sql(service: &Service, statement: &str) {
    let versions = std::fs::read_dir("/usr/lib/postgresql").unwrap().flatten();
    let psql: PathBuf = versions.map(|v| v.path().join("bin/psql")).find(|p| p.exists()).unwrap();
    let cluster = service.data().canonicalize().unwrap().join("cluster");
    let ran = Command::new(psql)
        .args([
            "--no-psqlrc",
            "--quiet",
            "-v",
            "ON_ERROR_STOP=1",
            "-U",
            "postgres",
            "-d",
            "postgres",
        ])
        .arg("-h")
        .arg(cluster)
        .args(["-c", statement])
        .output()
        .unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
}

async fn batches(service: &Service) -> (Exchange, Vec<Batch>) {
    let live_only = crate::support::WORLD.split("# What services are there").next().unwrap();
    let scenario = Scenario::parse(live_only).unwrap();
    let lab: LabRun = run(&scenario, 2, &Density::default(), Tick::from_millis(20_000));
    let identity = service.join(SITE, "agent").await;
    let exchange = Exchange::of(&identity).unwrap();
    let schedule = exchange.schedule(0, &[]).await.unwrap().unwrap();
    let mut names = Names::default();
    let own = lab.paths.iter().filter(|path| path.site.name == SITE);
    for path in own {
        names.agents.insert(path.agent, identity.agent);
        let to = path.addresses.destination();
        let task = schedule.tasks.iter().find(|task| task.address == to).unwrap();
        names.paths.insert(path.id, task.path);
    }
    let all = lab.batches(&names, 8);
    (exchange, all.into_iter().filter(|batch| batch.agent == identity.agent).collect())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_commit_that_cannot_be_judged_is_left_out_and_taken_up_again() {
    let service = Service::start();
    let (exchange, batches) = batches(&service).await;
    assert!(batches.len() >= 5, "{}", batches.len());
    let sql = |statement: &str| tokio::task::block_in_place(|| sql(&service, statement));
    sql("CREATE FUNCTION spoil() RETURNS trigger LANGUAGE plpgsql AS \
         $$ BEGIN IF NEW.commit_no = (SELECT commit_no FROM batch ORDER BY commit_no OFFSET 2 LIMIT 1) \
         THEN NEW.content := NEW.content || '\\xff'; END IF; RETURN NEW; END $$; \
         CREATE TRIGGER spoil BEFORE INSERT ON round FOR EACH ROW EXECUTE FUNCTION spoil()");
    for batch in &batches {
        let octets = zstd::encode_all(encode(batch).as_slice(), 3).unwrap();
        assert_eq!(exchange.upload(octets).await.unwrap().refused_rounds, 0);
    }
    tokio::task::block_in_place(|| {
        eventually("judgement of all the others", PATIENCE, || {
            let state = service.json(&["status"]);
            (state["unjudged_commits"] == 0 && state["set_aside_commits"] == 1).then_some(())
        });
        let table = service.client(&["status"]);
        assert!(table.out.contains("set aside"), "{table:?}");
        let set_aside = service.json(&["set-aside", "list"]);
        let [item] = set_aside["items"].as_array().unwrap().as_slice() else {
            panic!("{set_aside}")
        };
        assert_eq!(item["site"], SITE);
        assert!(item["error"].as_str().unwrap().contains("packed hops"), "{item}");
        let head = crate::support::with_token(&service.token(), "127.0.0.1");
        let metrics = raw_request(&service.api(), "GET /metrics", &head);
        assert!(metrics.contains("itinera_set_aside_commits 1"), "{metrics}");
        let ready = raw_request(&service.api(), "GET /readyz", "Host: 127.0.0.1");
        assert!(ready.starts_with("HTTP/1.1 200"), "{ready}");
        let unknown = service.client(&["set-aside", "retry", "4000"]);
        assert_eq!(unknown.code, Some(4), "{unknown:?}");
    });
    let number = || service.json(&["set-aside", "list"])["items"][0]["commit_no"].to_string();
    let number = tokio::task::block_in_place(number);
    // Tried again as it is, it stays; mended, it is judged.
    tokio::task::block_in_place(|| {
        let first = service.json(&["set-aside", "list"])["items"][0]["at"].clone();
        assert_eq!(service.client(&["set-aside", "retry", &number]).code, Some(0));
        eventually("another failure", PATIENCE, || {
            let item = service.json(&["set-aside", "list"])["items"][0].clone();
            (item["retry"] == false && item["at"] != first).then_some(())
        });
    });
    sql(&format!(
        "UPDATE round SET content = substring(content FOR length(content) - 1) \
         WHERE commit_no = {number}"
    ));
    tokio::task::block_in_place(|| {
        assert_eq!(service.client(&["set-aside", "retry", &number]).code, Some(0));
        eventually("judgement of the mended commit", PATIENCE, || {
            (service.json(&["status"])["set_aside_commits"] == 0).then_some(())
        });
    });
    // The second try is in the log: judged again, it gives the same.
    let data = service.data().display().to_string();
    let recompute = || crate::support::run(&["recompute", "--data", &data]);
    let recomputed = tokio::task::block_in_place(recompute);
    assert_eq!(recomputed.code, Some(0), "{recomputed:?}");
    // A duty that is not done is named, while the service itself lives.
    sql("ALTER TABLE lease RENAME TO hidden");
    tokio::task::block_in_place(|| {
        let ask = |place: &str| raw_request(&service.api(), place, "Host: 127.0.0.1");
        eventually("word of judging", PATIENCE, || {
            let ready = ask("GET /readyz");
            (ready.starts_with("HTTP/1.1 503") && ready.contains("judging")).then_some(())
        });
        assert!(ask("GET /healthz").starts_with("HTTP/1.1 200"));
    });
    sql("ALTER TABLE hidden RENAME TO lease");
    tokio::task::block_in_place(|| {
        eventually("readiness", PATIENCE, || {
            let ready = raw_request(&service.api(), "GET /readyz", "Host: 127.0.0.1");
            ready.starts_with("HTTP/1.1 200").then_some(())
        });
    });
}
