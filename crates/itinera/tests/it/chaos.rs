//! Service, agents and database are killed at random moments. Afterwards every round that an agent
//! issued is recorded exactly once, the stored log, judged again, gives what is recorded, and every notice has
//! arrived under its one id.
//!
//! Few kills in the suite. For many, printed:
//! `ITINERA_CHAOS_KILLS=60 cargo test --package itinera --test it chaos -- --nocapture`
//! (`ITINERA_CHAOS_SEED` draws others).
#![allow(clippy::print_stdout, reason = "the long form prints")]

use crate::outage::{faster, logged, rounds, wait_for_more, waiting_in};
use crate::processes::Background;
use crate::support::{PATIENCE, Service, WORLD, directory, eventually, free_ports, run};
use itinera_model::notice::{DeliveryState, NoticeKind};
use itinera_store::cluster::Cluster;
use itinera_store::{NoticeQuery, NoticeRecord, Store};
use itinera_testserver::receivers::{Habit, Inbox, Secrets, serve_webhooks};
use rustix::process::{Pid, Signal, kill_process};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use uuid::Uuid;

const SITES: [(&str, &str); 2] =
    [("Alderskay Head Office", "10.1.0.2"), ("Carrock Pier", "10.3.0.2")];

/// Numbers that look random: SplitMix64.
pub(crate) struct Draw(pub(crate) u64);

impl Draw {
    /// A number below `end`.
    fn below(&mut self, end: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        (mixed ^ (mixed >> 31)) % end
    }

    pub(crate) fn pause(&mut self, most_ms: u64) {
        std::thread::sleep(Duration::from_millis(self.below(most_ms)));
    }
}

pub(crate) fn setting(name: &str, usual: u64) -> u64 {
    std::env::var(name).map_or(usual, |value| value.parse().unwrap())
}

/// An agent that can be killed and started again.
struct Agent {
    process: Option<Background>,
    place: PathBuf,
    listen: String,
    site: usize,
}

impl Agent {
    fn start(&mut self) {
        let data = self.place.join("agent").display().to_string();
        let arguments = ["agent", "run", "--data", &data, "--simulation", &self.listen];
        let address = ["--address", SITES[self.site].1];
        let log = self.place.join("agent.log");
        self.process = Some(logged(&[&arguments[..], &address[..]].concat(), &log));
    }
}

/// Processes of the server in a directory: the postmaster first.
fn server_processes(cluster: &Path) -> Vec<i32> {
    let file = std::fs::read_to_string(cluster.join("postmaster.pid")).unwrap_or_default();
    let Some(server) = file.lines().next().and_then(|pid| pid.trim().parse::<i32>().ok()) else {
        return Vec::new();
    };
    let children = std::fs::read_to_string(format!("/proc/{server}/task/{server}/children"));
    let children = children.unwrap_or_default();
    let children = children.split_whitespace().filter_map(|pid| pid.parse().ok());
    std::iter::once(server).chain(children).collect()
}

fn kill(process: i32) {
    // Gone by itself is as good.
    let _gone = kill_process(Pid::from_raw(process).unwrap(), Signal::KILL);
}

/// The world with a fault on the line of one site from the beginning.
fn world() -> String {
    let late = "at_s = [240, 240]\nfor_s = 900\nloss = [0.08, 0.12]";
    assert!(WORLD.contains(late));
    WORLD.replace(late, "at_s = [5, 5]\nfor_s = 900\nloss = [0.3, 0.3]")
}

/// Everything that is killed.
struct Installation {
    database: tempfile::TempDir,
    cluster: Option<Cluster>,
    service: Service,
    agents: Vec<Agent>,
}

impl Installation {
    fn kill_one(&mut self, draw: &mut Draw, runtime: &tokio::runtime::Runtime) -> String {
        let directory = self.database.path().join("cluster");
        match draw.below(8) {
            0 | 1 => {
                self.service.kill();
                draw.pause(1_500);
                self.service.restart();
                "service".to_owned()
            }
            2 | 3 => {
                let which = usize::try_from(draw.below(2)).unwrap();
                let agent = &mut self.agents[which];
                agent.process.take().unwrap().kill();
                draw.pause(1_500);
                agent.start();
                format!("agent at {}", SITES[which].0)
            }
            4..=6 => {
                let processes = server_processes(&directory);
                let backends = processes.get(1..).unwrap_or_default();
                let count = u64::try_from(backends.len()).unwrap().max(1);
                if let Some(one) = backends.get(usize::try_from(draw.below(count)).unwrap()) {
                    kill(*one);
                }
                "process of the database".to_owned()
            }
            _ => {
                kill(server_processes(&directory)[0]);
                drop(self.cluster.take());
                draw.pause(1_500);
                let started = runtime.block_on(Cluster::start(self.database.path()));
                self.cluster = Some(started.unwrap());
                "postmaster".to_owned()
            }
        }
    }
}

/// Numbers of recorded rounds by path and run of the agent.
async fn recorded(store: &Store) -> BTreeMap<(Uuid, Uuid), Vec<i64>> {
    let mut numbers: BTreeMap<(Uuid, Uuid), Vec<i64>> = BTreeMap::new();
    for path in store.paths(None, 1_000).await.unwrap() {
        for round in store.rounds_of(path.id).await.unwrap() {
            numbers.entry((path.id.as_uuid(), round.boot)).or_default().push(round.number);
        }
    }
    numbers
}

/// Starts a receiver that takes everything, and names it to the service.
pub(crate) fn receive(service: &Service, runtime: &tokio::runtime::Runtime) -> Inbox {
    let inbox = Inbox::default();
    let port = runtime.block_on(async {
        let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0)).await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let (habit, origin) = (Habit::Good.into(), format!("http://127.0.0.1:{port}"));
        serve_webhooks(listener, &origin, (inbox.clone(), habit, Secrets::None), None);
        port
    });
    let url = format!("http://127.0.0.1:{port}/webhook");
    service.json(&["receivers", "add", "Desk", "--webhook", &url]);
    inbox
}

/// Every notice has arrived, perhaps twice under its id; no incident was raised twice.
pub(crate) fn each_notice_has_arrived(notices: &[NoticeRecord], inbox: &Inbox) {
    let received: BTreeSet<String> = inbox.all().into_iter().filter_map(|it| it.id).collect();
    let ids: BTreeSet<String> = notices.iter().map(|notice| notice.id.to_string()).collect();
    assert_eq!(received, ids);
    let raised = notices.iter().filter(|notice| notice.kind == NoticeKind::Raised);
    let raised: Vec<_> = raised.filter_map(|notice| notice.incident_no).collect();
    let incidents: BTreeSet<_> = raised.iter().collect();
    assert_eq!(raised.len(), incidents.len(), "an incident was raised twice: {raised:?}");
    assert!(!raised.is_empty(), "no notice of the fault");
    println!("{} notices, received {} times", ids.len(), inbox.all().len());
}

/// Waits until nothing is to be composed or sent.
pub(crate) fn settled(store: &Store, runtime: &tokio::runtime::Runtime) -> Vec<NoticeRecord> {
    eventually("the deliveries", PATIENCE, || {
        let notices = runtime.block_on(store.notices(NoticeQuery::default(), 1_000)).ok()?;
        let is_sent = |notice: &NoticeRecord| {
            let mut deliveries = notice.deliveries.iter();
            notice.content.is_some() && deliveries.all(|it| it.state == DeliveryState::Sent)
        };
        (!notices.is_empty() && notices.iter().all(is_sent)).then_some(notices)
    })
}

#[test]
fn what_is_killed_at_random_loses_nothing_and_doubles_nothing() {
    let kills = setting("ITINERA_CHAOS_KILLS", 12);
    let seed = setting("ITINERA_CHAOS_SEED", 1);
    let mut draw = Draw(seed);
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let database = directory();
    let cluster = runtime.block_on(Cluster::start(database.path())).unwrap();
    let url = Cluster::url_in(database.path());
    // Alarms come soon, so that some of the kills are around their notices.
    let soon = "[limits]\nhold_windows = 1\nclear_windows = 1\n";
    let configured = |text: &str| format!("database = \"{url}\"\n{}\n{soon}", faster(text));
    let service = Service::start_with(configured);
    let inbox = receive(&service, &runtime);
    let file = service.path().join("world.toml");
    std::fs::write(&file, world()).unwrap();
    let [port] = free_ports();
    let listen = format!("127.0.0.1:{port}");
    let file = file.display().to_string();
    let simulate = ["simulate", &file, "--seed", "2", "--listen", &listen];
    let _simulation = logged(&simulate, &service.path().join("simulation.log"));
    let mut agents = Vec::new();
    for (site, (name, _)) in SITES.into_iter().enumerate() {
        let place = service.path().join(format!("site-{site}"));
        std::fs::create_dir(&place).unwrap();
        runtime.block_on(service.join(name, &format!("site-{site}/agent")));
        let mut agent = Agent { process: None, place, listen: listen.clone(), site };
        agent.start();
        agents.push(agent);
    }
    let mut all = Installation { database, cluster: Some(cluster), service, agents };
    wait_for_more(&all.service, 60);

    let begun = Instant::now();
    for nth in 1..=kills {
        draw.pause(4_000);
        let what = all.kill_one(&mut draw, &runtime);
        println!("{:6.1} s  {nth:3} of {kills}  {what}", begun.elapsed().as_secs_f64());
    }
    eventually("a notice of the fault", PATIENCE, || (!inbox.all().is_empty()).then_some(()));
    eventually("the service to answer", PATIENCE, || (rounds(&all.service) > 0).then_some(()));
    wait_for_more(&all.service, rounds(&all.service) + 120);
    for agent in &mut all.agents {
        let data = agent.place.join("agent");
        eventually("the spool to be handed over", PATIENCE, || {
            (waiting_in(&data).len() <= 1).then_some(())
        });
        assert!(agent.process.take().unwrap().stop(Signal::TERM).success());
        assert_eq!(waiting_in(&data), Vec::<PathBuf>::new(), "left in the spool");
    }
    eventually("judgement of everything", PATIENCE, || {
        (all.service.json(&["status"])["unjudged_commits"] == 0).then_some(())
    });
    let status = all.service.json(&["status"]);
    assert_eq!(status["set_aside_commits"], 0, "{status}");

    let store = runtime.block_on(Store::open(&url)).unwrap();
    let recorded = runtime.block_on(recorded(&store));
    let rounds: usize = recorded.values().map(Vec::len).sum();
    for ((path, boot), numbers) in &recorded {
        let issued: Vec<i64> = (0..i64::try_from(numbers.len()).unwrap()).collect();
        assert_eq!(*numbers, issued, "path {path}, run {boot}");
    }
    println!("{rounds} rounds of {} runs and paths, each once", recorded.len());
    let recomputed = run(&["recompute", "--database", &url, "--format", "json"]);
    assert_eq!(recomputed.code, Some(0), "{recomputed:?}");
    let recomputed = recomputed.json();
    assert!(recomputed["findings"]["recorded"].as_u64() > Some(0), "{recomputed}");
    let kinds = ["findings", "alarms", "events"].map(|kind| recomputed[kind]["recorded"].clone());
    println!("findings, alarms, events as recomputed: {kinds:?}");
    each_notice_has_arrived(&settled(&store, &runtime), &inbox);
    drop(all.service);
    runtime.block_on(all.cluster.unwrap().stop()).unwrap();
}
