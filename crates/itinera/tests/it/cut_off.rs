//! An agent that is cut off takes the action that its limits file permits, and reports it later.

use crate::outage::{faster, logged, rounds, wait_for_more};
use crate::processes::Background;
use crate::support::{PATIENCE, Service, WORLD, eventually, free_ports};
use std::path::Path;
use std::time::Duration;

const SITE: &str = "Alderskay Head Office";
/// Longer than the agent waits until it calls itself cut off.
const ONLY_THE_SERVICE_IS_DOWN: Duration = Duration::from_secs(14);

fn simulate(place: &Path, listen: &str) -> Background {
    let world = place.join("world.toml").display().to_string();
    let arguments = ["simulate", &world, "--seed", "2", "--listen", listen];
    logged(&arguments, &place.join("simulation.log"))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_agent_that_reaches_nothing_takes_its_permitted_action_once_and_reports_it() {
    let mut service = tokio::task::block_in_place(|| Service::start_with(faster));
    service.join(SITE, "agent").await;
    let place = service.path().to_owned();
    std::fs::write(place.join("world.toml"), WORLD).unwrap();
    let [port] = free_ports();
    let listen = format!("127.0.0.1:{port}");
    let acted = place.join("acted");
    let limits = place.join("limits.toml");
    let command = format!("echo restarted >> {}", acted.display());
    let permits = "after_s = 10\nwait_s = 3600\n";
    let text =
        format!("[cut_off_action]\ncommand = [\"/bin/sh\", \"-c\", \"{command}\"]\n{permits}");
    std::fs::write(&limits, text).unwrap();
    tokio::task::block_in_place(|| {
        let simulation = simulate(&place, &listen);
        let (data, limits) = (place.join("agent"), limits.display().to_string());
        let data = data.display().to_string();
        let mut arguments = vec!["agent", "run", "--data", &data, "--simulation", &listen];
        arguments.extend(["--address", "10.1.0.2", "--address", "fd00:1::2", "--limits", &limits]);
        let agent = logged(&arguments, &place.join("agent.log"));
        wait_for_more(&service, 60);
        eventually("host facts", PATIENCE, || {
            let facts = service.client(&["host-facts", SITE, "--format", "json"]);
            (facts.code == Some(0)).then_some(())
        });

        // Targets answer: a service that is down is no reason to act.
        let before = rounds(&service);
        service.kill();
        std::thread::sleep(ONLY_THE_SERVICE_IS_DOWN);
        assert!(!acted.exists());

        drop(simulation);
        eventually("the action", PATIENCE, || acted.exists().then_some(()));
        let _simulation = simulate(&place, &listen);
        service.restart();
        let event = eventually("the report of the action", PATIENCE, || {
            let events = service.json(&["events"]);
            let mut events = events.as_array().cloned().unwrap_or_default().into_iter();
            events.find(|event| event["kind"] == "local-action")
        });
        let action = &event["message"]["parameters"]["action"];
        assert_eq!((&action["program"], &action["number"]), (&"sh".into(), &1.into()));
        assert_eq!(action["outcome"]["what"], "succeeded");
        assert!(action["cut_off_s"].as_u64() >= Some(10), "{event}");
        assert_eq!(event["site"], SITE);
        wait_for_more(&service, before + 60);
        assert_eq!(std::fs::read_to_string(&acted).unwrap(), "restarted\n", "once");
        drop(agent);
    });
}
