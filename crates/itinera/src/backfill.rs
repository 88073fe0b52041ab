//! `itinera backfill`: measurements of past days from a simulated internet, by the ingest and the
//! judgement of the service.

use crate::args::BackfillArgs;
use crate::exit::{Code, Failure};
use crate::output::Output;
use crate::signals::stop_requested;
use crate::{serve, simulate};
use indicatif::{ProgressBar, ProgressStyle};
use itinera_lab::{Density, LabPath, LabRound, Names, VirtualRun, batch_of};
use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, PathId};
use itinera_model::path::Method;
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_service::backfill::{Backfill, BackfillAgent};
use itinera_simnet::Scenario;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};

/// The clock is moved by so much at a time; agents report as often.
const STEP: Duration = Duration::seconds(10);

/// A path by site, address of the target and method: what service and simulation agree on.
type Key = (String, IpAddr, Method);

fn key(path: &LabPath) -> Key {
    (path.site.name.clone(), path.addresses.destination(), path.method)
}

pub(crate) async fn run(args: &BackfillArgs, output: &Output) -> Result<(), Failure> {
    let config = serve::configured(&args.of)?;
    let scenario = simulate::read(&args.world)?;
    let seed = args.seed.unwrap_or_else(simulate::drawn_seed);
    let begin = OffsetDateTime::now_utc() - Duration::days(args.days.into());
    let begin = begin.truncate_to_second();
    let progress = progress();
    let opened = Backfill::open(&config, begin, |step| progress.set_message(step.to_owned()));
    let mut backfill = opened.await.map_err(|error| Failure::new(Code::Failed, error))?;
    let stop = stop_requested(args.stop_with_parent);
    let filled = fill(&mut backfill, &scenario, (seed, args.interval_s), begin, &progress, stop);
    let filled = filled.await;
    progress.set_message("closing");
    let closed = backfill.close().await;
    progress.finish_and_clear();
    let Filled { to, paths, rounds, is_complete } = filled?;
    closed.map_err(|error| Failure::new(Code::Failed, error))?;
    let text = |at: OffsetDateTime| at.format(&Rfc3339).unwrap_or_else(|_| at.to_string());
    let (from, to) = (text(begin), text(to));
    let value = json!({
        "from": from, "to": to, "complete": is_complete, "paths": paths, "rounds": rounds, "seed": seed,
    });
    let end = if is_complete { "" } else { " Stopped before the present." };
    output.either(&value, |output| {
        let text =
            format!("{rounds} rounds of {paths} paths from {from} to {to}, seed {seed}.{end}");
        output.line(&text)
    })
}

/// What was filled in.
struct Filled {
    to: OffsetDateTime,
    paths: usize,
    rounds: u64,
    /// Up to the present.
    is_complete: bool,
}

/// Fills an installation up to the present, or until it is to stop.
async fn fill(
    backfill: &mut Backfill,
    scenario: &Scenario,
    (seed, interval_s): (u64, u32),
    begin: OffsetDateTime,
    progress: &ProgressBar,
    stop: impl Future<Output = std::io::Result<()>>,
) -> Result<Filled, Failure> {
    let agents = backfill.agents().await.map_err(|error| Failure::new(Code::Failed, error))?;
    let wanted = paths_by_key(&agents);
    let density = density(&agents, interval_s);
    let epoch = WallTime::from(begin);
    let mut run =
        VirtualRun::new(scenario, seed, &density, epoch, |path| wanted.contains_key(&key(path)));
    let mut names = Names::default();
    for path in run.paths() {
        if let Some((agent, id)) = wanted.get(&key(path)) {
            names.agents.insert(path.agent, *agent);
            names.paths.insert(path.id, *id);
        }
    }
    if names.paths.is_empty() {
        let text = "no agent measures a target of this world. Start the service, let an agent join \
             at each site, stop the service, and try again";
        return Err(Failure::say(Code::Failed, text));
    }
    tokio::pin!(stop);
    let mut filled = Filled { to: begin, paths: names.paths.len(), rounds: 0, is_complete: false };
    for seq in 0.. {
        let (at, now) = (filled.to + STEP, OffsetDateTime::now_utc());
        let stopped = tokio::select! {
            biased;
            asked = &mut stop => { asked?; true }
            () = std::future::ready(()) => false,
        };
        filled.is_complete = at > now;
        if filled.is_complete || stopped {
            break;
        }
        let since = at - begin;
        let tick = Tick::from_millis(u64::try_from(since.whole_milliseconds()).unwrap_or(0));
        let settled = tokio::task::block_in_place(|| run.advance(tick));
        let batches = batches(&names, &settled, seq);
        let stepped = backfill.step(at, &batches).await;
        stepped.map_err(|error| Failure::new(Code::Failed, error))?;
        filled.to = at;
        filled.rounds += settled.len() as u64;
        let seconds = |span: Duration| u64::try_from(span.whole_seconds()).unwrap_or(0);
        progress.set_length(seconds(now - begin));
        progress.set_position(seconds(since));
        progress.set_message(format!("{} rounds", filled.rounds));
    }
    Ok(filled)
}

/// The paths that agents are to measure.
fn paths_by_key(agents: &[BackfillAgent]) -> BTreeMap<Key, (AgentId, PathId)> {
    let of_agent = |it: &BackfillAgent| {
        let (site, agent) = (it.site.clone(), it.agent);
        let path = move |task: &itinera_model::protocol::Task| {
            ((site.clone(), task.address, task.method), (agent, task.path))
        };
        it.tasks.iter().map(path).collect::<Vec<_>>()
    };
    agents.iter().flat_map(of_agent).collect()
}

/// How the agents are to probe, but from round to round this long.
fn density(agents: &[BackfillAgent], interval_s: u32) -> Density {
    let tasks = || agents.iter().flat_map(|agent| &agent.tasks);
    let methods: BTreeSet<Method> = tasks().map(|task| task.method).collect();
    let timeout_ms = tasks().map(|task| task.timeout_ms).max().unwrap_or(1_000);
    Density {
        methods: methods.into_iter().collect(),
        interval: Micros::from_millis(interval_s.saturating_mul(1_000)),
        probes_per_hop: tasks().map(|task| task.probes_per_hop).max().unwrap_or(1),
        timeout: Micros::from_millis(timeout_ms),
    }
}

/// Batches of rounds, one of each agent.
fn batches(names: &Names, rounds: &[LabRound], seq: u64) -> Vec<Batch> {
    let mut by_agent: BTreeMap<AgentId, Vec<&LabRound>> = BTreeMap::new();
    for round in rounds {
        by_agent.entry(round.agent).or_default().push(round);
    }
    by_agent.into_iter().map(|(agent, rounds)| batch_of(names, agent, seq, &rounds)).collect()
}

fn progress() -> ProgressBar {
    let bar = ProgressBar::new(1);
    if let Ok(style) = ProgressStyle::with_template("{bar:30} {percent:>3} %  {eta} left  {msg}") {
        bar.set_style(style);
    }
    bar
}
