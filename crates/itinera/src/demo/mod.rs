//! `itinera demo`: service, simulated internet and its agents as processes of their
//! own, until Ctrl-C.

mod children;
mod directory;
mod planned_work;
mod receivers;

use crate::args::DemoArgs;
use crate::client::Client;
use crate::client::sign_in::{token_by_password, write_secret};
use crate::exit::{Code, Failure};
use crate::output::{Format, Output};
use crate::signals::stop_requested;
use crate::simulate::drawn_seed;
use children::{Child, Children};
use directory::Directory;
use itinera_simnet::{Endpoint, Scenario, Simnet};
use receivers::{mail_server, name_receivers};
use std::net::TcpListener;
use std::path::Path;
use std::time::{Duration, Instant};
use time::OffsetDateTime;

/// The world that is shown, and what users may look for in it.
#[derive(Debug)]
pub(crate) struct Story {
    world: String,
    owners: String,
    service: String,
    watch: &'static str,
    /// A calendar announces planned work.
    plans: bool,
}

const WATCH: &str = "after 1.5 minutes one link begins to lose packets in the forward direction. An alarm\n\
     \x20         names the link and its owner about a minute later. A silent hop beside it and a\n\
     \x20         rate-limiting router upstream are not blamed.";
const WATCH_ANOTHER: &str = "the end of world.toml lists the faults and their times.";

impl Story {
    /// Names of its files in a directory.
    pub(crate) const WORLD: &str = "world.toml";
    pub(crate) const OWNERS: &str = "owners.csv";
    pub(crate) const SERVICE: &str = "service.toml";

    /// The story in a directory, or the one that is built in.
    fn read(directory: Option<&Path>) -> Result<Self, Failure> {
        let Some(directory) = directory else {
            return Ok(Self {
                world: include_str!("../../../../demo/world.toml").to_owned(),
                owners: include_str!("../../../../demo/owners.csv").to_owned(),
                service: include_str!("../../../../demo/service.toml").to_owned(),
                watch: WATCH,
                plans: true,
            });
        };
        let read = |name: &str| {
            let file = directory.join(name);
            std::fs::read_to_string(&file).map_err(|error| {
                let text = format!("cannot read {}", file.display());
                Failure::new(Code::BadFile, error).context(text)
            })
        };
        Ok(Self {
            world: read(Self::WORLD)?,
            owners: read(Self::OWNERS)?,
            service: read(Self::SERVICE)?,
            watch: WATCH_ANOTHER,
            plans: false,
        })
    }
}

/// Name of the process that fills in a past.
const BACKFILL: &str = "backfill";
const READY_LIMIT: Duration = Duration::from_secs(60);
const FIRST_ROUNDS_LIMIT: Duration = Duration::from_secs(30);

/// Ports of console and API, agents, simulation; of the test receivers of webhooks, mail and syslog.
struct Ports([u16; 6]);

impl Ports {
    const USUAL: [u16; 6] = [7480, 7481, 7482, 7483, 7484, 7485];

    fn choose(any: bool) -> Result<Self, Failure> {
        // Held together until all are known, so that they differ.
        let mut held = Vec::new();
        for usual in Self::USUAL {
            let listener =
                if any { free_listener() } else { TcpListener::bind(("127.0.0.1", usual)) };
            held.push(listener.map_err(|error| {
                let text = format!(
                    "port {usual} is taken; end what listens there, or take free ports with --any-port"
                );
                Failure::new(Code::Failed, error).context(text)
            })?);
        }
        let mut ports = [0; 6];
        for (port, listener) in ports.iter_mut().zip(&held) {
            *port = listener.local_addr()?.port();
        }
        Ok(Self(ports))
    }

    fn api(&self) -> String {
        format!("http://127.0.0.1:{}", self.0[0])
    }

    const fn webhooks(&self) -> u16 {
        self.0[3]
    }

    const fn mail(&self) -> u16 {
        self.0[4]
    }

    const fn syslog(&self) -> u16 {
        self.0[5]
    }
}

/// A free port below those that the kernel gives to outgoing connections: it is let go and taken
/// again by a child, and must not be given away in between.
fn free_listener() -> std::io::Result<TcpListener> {
    let mut last = std::io::Error::from(std::io::ErrorKind::AddrInUse);
    for _ in 0..100 {
        let [high, low, ..] = *uuid::Uuid::new_v4().as_bytes();
        let port = 20_000 + u16::from_be_bytes([high, low]) % 12_000;
        match TcpListener::bind(("127.0.0.1", port)) {
            Ok(listener) => return Ok(listener),
            Err(error) => last = error,
        }
    }
    Err(last)
}

pub(crate) async fn run(args: &DemoArgs) -> Result<(), Failure> {
    let output = Output::new(Format::Table);
    let story = Story::read(args.world.as_deref())?;
    let directory = Directory::open(args.data.as_deref(), args.fresh)?;
    let ports = Ports::choose(args.any_port)?;
    let seed = args.seed.unwrap_or_else(drawn_seed);
    let mut children = Children::new(directory.logs());
    let stop = stop_requested(args.stop_with_parent);
    tokio::pin!(stop);
    let demo = Demo { output: &output, story: &story, directory: &directory, ports: &ports, seed };
    let outcome = tokio::select! {
        outcome = demo.run_until_stopped(args.backfill_days, &mut children) => outcome,
        stopped = &mut stop => stopped.map_err(Failure::from),
    };
    output.line("Stopping agents, simulation, service and cluster ...")?;
    let stopped = children.stop().await;
    if stopped.is_ok() {
        output.line("Stopped. What was recorded is kept; --fresh discards it.")?;
    }
    outcome.and(stopped)
}

/// What is shown, and where.
struct Demo<'a> {
    output: &'a Output,
    story: &'a Story,
    directory: &'a Directory,
    ports: &'a Ports,
    seed: u64,
}

impl Demo<'_> {
    /// Starts everything and then watches it; ends only by failing.
    async fn run_until_stopped(
        &self,
        backfill_days: Option<u16>,
        children: &mut Children,
    ) -> Result<(), Failure> {
        let Self { output, story, directory, ports, seed } = *self;
        let scenario = Scenario::parse(&story.world).map_err(|error| {
            Failure::new(Code::BadFile, error).context("the demonstration's world")
        })?;
        let sites = Simnet::new(&scenario, seed).sites().to_vec();
        let kept = if directory.is_kept() { "continues an earlier run" } else { "new" };
        output.line(&format!("Data in {} ({kept})", directory.path().display()))?;
        directory.write(Story::WORLD, &story.world)?;

        if let Some(days) = backfill_days {
            self.backfill(days, &sites, children).await?;
        }
        let step = Step::begin(output, "Starting PostgreSQL and the service")?;
        let client = start_service(directory, &story.service, ports, children).await?;
        step.done()?;

        close_earlier(output, &client).await?;
        self.import_owners(&client, None).await?;

        name_receivers(&client, directory, ports).await?;

        let step = Step::begin(
            output,
            &format!("Starting the simulated internet ({}), seed {seed}", scenario.name),
        )?;
        start_simulation(directory, ports, seed, children)?;
        wait_for(children, READY_LIMIT, "the simulated internet", async || {
            directory.authority().exists().then_some(())
        })
        .await?;
        step.done()?;
        if story.plans {
            planned_work::plan(&client, directory).await?;
        }

        for site in &sites {
            let step = Step::begin(output, &format!("Starting the agent at {}", site.name))?;
            join_agent(&client, directory, ports, site, children).await?;
            start_agent(directory, ports, site, children)?;
            step.done()?;
        }
        self.wait_for_measurements(&client, children).await?;
        self.say_where()?;
        watch(output, children).await
    }

    /// Has agents join, and fills the installation with measurements of so many days before they
    /// begin.
    async fn backfill(
        &self,
        days: u16,
        sites: &[Endpoint],
        children: &mut Children,
    ) -> Result<(), Failure> {
        let Self { output, story, directory, ports, seed } = *self;
        if directory.is_kept() {
            let text = "--backfill-days: this data directory has measurements already; \
                 discard them with --fresh, or take another directory with --data";
            return Err(Failure::say(Code::Failed, text));
        }
        let step = Step::begin(output, "Starting the service so that agents join")?;
        let client = start_service(directory, &story.service, ports, children).await?;
        for site in sites {
            join_agent(&client, directory, ports, site, children).await?;
        }
        step.done()?;
        let begin = OffsetDateTime::now_utc() - time::Duration::days(i64::from(days) + 1);
        self.import_owners(&client, Some(begin)).await?;
        children.stop().await?;

        let step = Step::begin(output, "Filling in measurements of the days before")?;
        output.line("")?;
        let file = |name: &str| directory.path().join(name).display().to_string();
        let (world, config, data) = (file(Story::WORLD), file(Story::SERVICE), file("service"));
        let (days, seed) = (days.to_string(), seed.to_string());
        children.start_shown(
            BACKFILL,
            &[
                "backfill",
                &world,
                "--days",
                &days,
                "--seed",
                &seed,
                "--config",
                &config,
                "--data",
                &data,
                "--stop-with-parent",
            ],
        )?;
        children.wait_for_end(BACKFILL).await?;
        step.done()
    }

    /// Imports the owner map where the service does not have it.
    async fn import_owners(
        &self,
        client: &Client,
        valid_from: Option<OffsetDateTime>,
    ) -> Result<(), Failure> {
        let owners = &self.story.owners;
        let step = Step::begin(self.output, "Importing the owner map")?;
        self.directory.write(Story::OWNERS, owners)?;
        let lines = owners.lines().count().saturating_sub(1);
        if client.get("/status").await?["owner_map"]["entries"] != lines {
            let content = owners.as_bytes().to_vec();
            client.import_owners(Story::OWNERS, content, valid_from).await?;
        }
        step.done()
    }

    async fn wait_for_measurements(
        &self,
        client: &Client,
        children: &mut Children,
    ) -> Result<(), Failure> {
        let step = Step::begin(self.output, "Waiting for the first measurements")?;
        let began = client.get("/status").await?["rounds"].as_i64().unwrap_or(0);
        wait_for(children, FIRST_ROUNDS_LIMIT, "the first measurements", async || {
            let state = client.get("/status").await.ok()?;
            (state["rounds"].as_i64()? > began).then_some(())
        })
        .await?;
        step.done()
    }

    /// Says where everything is.
    fn say_where(&self) -> Result<(), Failure> {
        let Self { output, story, directory, ports, .. } = *self;
        let program = std::env::current_exe()?;
        let here = std::env::current_dir()?;
        let program = program.strip_prefix(&here).unwrap_or(&program);
        output.line(&format!("\nConsole:  {}/", ports.api()))?;
        match directory.first_administrator() {
            Ok((name, password)) => {
                output.line(&format!("Sign in:  {name}, password {password}"))?;
            }
            Err(_) => output.line("Sign in:  with the password that was set")?,
        }
        output.line(&format!(
            "Client:   {} status --api {} --token-file {}",
            program.display(),
            ports.api(),
            directory.token().display()
        ))?;
        output.line(&format!(
            "Notices:  http://127.0.0.1:{}/ shows what the test receivers have received",
            ports.webhooks()
        ))?;
        output.line(&format!("Watch:    {}\nPress Ctrl-C to stop.", story.watch))
    }
}

async fn start_service(
    directory: &Directory,
    service: &str,
    ports: &Ports,
    children: &mut Children,
) -> Result<Client, Failure> {
    let [api, agents, ..] = ports.0;
    let mail = if service.contains("[mail]") { String::new() } else { mail_server(ports) };
    let config = format!(
        "listen = \"127.0.0.1:{api}\"\nlisten_agents = \"127.0.0.1:{agents}\"\n{service}{mail}"
    );
    let service = directory.write(Story::SERVICE, &config)?;
    let data = directory.path().join("service").display().to_string();
    let arguments = ["serve", "--config", &service, "--data", &data, "--stop-with-parent"];
    children.start("service", &arguments)?;
    let stranger = Client::new(&ports.api(), None)?;
    // Not being let in is a sign of life as well.
    wait_for(children, READY_LIMIT, "the service", async || match stranger.get("/session").await {
        Err(failure) if failure.is_unreachable() => None,
        _ => Some(()),
    })
    .await?;
    let token = token(directory, &stranger).await?;
    Client::new(&ports.api(), Some(&token))
}

/// Closes what an earlier run left open: the story begins again.
async fn close_earlier(output: &Output, client: &Client) -> Result<(), Failure> {
    let open = client.all_pages("/incidents?limit=500&open=true").await?;
    let of_alarms = open.as_array().into_iter().flatten().filter(|i| i["origin"] == "alarms");
    for incident in of_alarms {
        let words = serde_json::json!({ "text": "The demonstration was started again." });
        let id = incident["id"].as_str().unwrap_or_default();
        client.post(&format!("/incidents/{id}/close"), &words).await?;
        output.line(&format!("Closed incident {} of an earlier run.", incident["no"]))?;
    }
    Ok(())
}

/// The demonstration's own sign-in: the token of an earlier run, or a new one.
async fn token(directory: &Directory, stranger: &Client) -> Result<String, Failure> {
    let path = directory.token();
    if let Ok(token) = std::fs::read_to_string(&path) {
        return Ok(token);
    }
    let (name, password) = directory.first_administrator()?;
    let made = token_by_password(stranger, &name, &password, "demonstration", 366).await?;
    let token = made["token"].as_str().unwrap_or_default().to_owned();
    write_secret(&path, &token)?;
    Ok(token)
}

fn start_simulation(
    directory: &Directory,
    ports: &Ports,
    seed: u64,
    children: &mut Children,
) -> Result<(), Failure> {
    let world = directory.path().join(Story::WORLD).display().to_string();
    let listen = format!("127.0.0.1:{}", ports.0[2]);
    let (seed, authority) = (seed.to_string(), directory.authority().display().to_string());
    // An older one would be trusted by the first agent until the simulation has written its own.
    match std::fs::remove_file(&authority) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error.into()),
        _ => {}
    }
    let [webhooks, mail, syslog] =
        [ports.webhooks(), ports.mail(), ports.syslog()].map(|port| format!("127.0.0.1:{port}"));
    let secrets = directory.receiver_secrets().display().to_string();
    let arguments = [
        "simulate",
        &world,
        "--seed",
        &seed,
        "--listen",
        &listen,
        "--authority",
        &authority,
        "--webhooks",
        &webhooks,
        "--mail",
        &mail,
        "--syslog",
        &syslog,
        "--receiver-secrets",
        &secrets,
        "--stop-with-parent",
    ];
    children.start("simulation", &arguments)
}

/// Has the agent of a site join, where it has not; otherwise tells it where the service is now.
async fn join_agent(
    client: &Client,
    directory: &Directory,
    ports: &Ports,
    site: &Endpoint,
    children: &Children,
) -> Result<(), Failure> {
    let data = directory.agent(site);
    let service = format!("https://127.0.0.1:{}", ports.0[1]);
    if data.join("identity.json").exists() {
        return directory.point_agent(&data, &service);
    }
    let wanted = serde_json::json!({ "site": site.name });
    let answer = client.post("/join-codes", &wanted).await?;
    let code = answer["code"].as_str().unwrap_or_default().to_owned();
    let data = data.display().to_string();
    let arguments = ["agent", "join", &code, "--service", &service, "--data", &data];
    children.run_to_end(&format!("join-{}", site.id), &arguments).await
}

fn start_agent(
    directory: &Directory,
    ports: &Ports,
    site: &Endpoint,
    children: &mut Children,
) -> Result<(), Failure> {
    let simulation = ports.0[2];
    let data_text = directory.agent(site).display().to_string();
    let simulation = format!("127.0.0.1:{simulation}");
    let addresses: Vec<String> = site.addresses.iter().map(ToString::to_string).collect();
    let authority = directory.authority().display().to_string();
    let mut arguments = vec![
        "agent",
        "run",
        "--trust",
        &authority,
        "--data",
        &data_text,
        "--simulation",
        &simulation,
        "--stop-with-parent",
    ];
    let clock_error = format!(
        "--clock-error={},{}",
        site.clock_offset_us as f64 / 1e3,
        f64::from(site.clock_drift_ppb) / 1e3
    );
    arguments.push(&clock_error);
    for address in &addresses {
        arguments.extend(["--address", address]);
    }
    children.start(&format!("agent-{}", site.id), &arguments)
}

/// Asks again and again until there is an answer; a child that ends meanwhile ends the waiting.
async fn wait_for<T>(
    children: &mut Children,
    limit: Duration,
    what: &str,
    mut ask: impl AsyncFnMut() -> Option<T>,
) -> Result<T, Failure> {
    let begun = Instant::now();
    while begun.elapsed() < limit {
        if let Some(answer) = ask().await {
            return Ok(answer);
        }
        if let Some(ended) = children.ended() {
            return Err(Failure::say(Code::Failed, ended.words()));
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let text = format!(
        "{what} did not come within {} s; see the logs in {}",
        limit.as_secs(),
        children.logs()
    );
    Err(Failure::say(Code::Failed, text))
}

/// Says when a child dies. Without the service there is nothing left to show.
async fn watch(output: &Output, children: &mut Children) -> Result<(), Failure> {
    loop {
        if let Some(ended) = children.ended() {
            if ended.name() == "service" {
                return Err(Failure::say(Code::Failed, ended.words()));
            }
            output.line(&format!("{}. The other processes continue.", ended.words()))?;
        }
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}

/// A long step: said when it begins, timed when it is done.
struct Step<'a> {
    output: &'a Output,
    begun: Instant,
}

impl<'a> Step<'a> {
    fn begin(output: &'a Output, what: &str) -> Result<Self, Failure> {
        output.part(&format!("{what} ... "))?;
        Ok(Self { output, begun: Instant::now() })
    }

    fn done(self) -> Result<(), Failure> {
        self.output.line(&format!("ready ({:.1} s)", self.begun.elapsed().as_secs_f64()))
    }
}

impl Child {
    fn words(&self) -> String {
        format!(
            "{} ended unexpectedly ({}); its log: {}",
            self.name(),
            self.status(),
            self.log().display()
        )
    }
}
