//! `itinera survey`: one path measured once, by the engines and judgement of agent and service.

mod live;
mod packets;
mod record;
mod report;
mod show;

use crate::args::{SurveyArgs, SurveyCommand};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use crate::signals::stop_requested;
use itinera_agent::{Link, LinkError, RawSockets, SurveyError, SurveyPlan, SurveyProgress, survey};
use itinera_model::owner::OwnerMap;
use itinera_model::path::Family;
use itinera_model::protocol::Pacing;
use itinera_model::unit::{HopLimit, Micros};
use itinera_service::owner_csv;
use live::Live;
use record::Record;
use report::Report;
use std::net::IpAddr;
use std::path::Path;
use tokio::sync::{mpsc, watch};
use uuid::Uuid;

pub(crate) async fn run(command: SurveyCommand, output: &Output) -> Result<(), Failure> {
    match command {
        SurveyCommand::Run(args) => measure(&args, output).await,
        SurveyCommand::Show { file, owners } => {
            let map = owner_map(owners.as_deref())?;
            print(output, &report::of(&Record::read(&file)?, &map))
        }
        SurveyCommand::Packets { file, to } => {
            let record = Record::read(&file)?;
            packets::write(&record, record::create(&to)?)?;
            let count = record.packets.len();
            if output.is_json() {
                return output.json(&serde_json::json!({ "packets": count }));
            }
            output
                .line(&format!("{count} packets written to {}.", plain(&to.display().to_string())))
        }
        SurveyCommand::Schema => {
            output.json(&crate::schema::of::<Report>("itinera survey run --format json"))
        }
    }
}

pub(crate) fn owner_map(file: Option<&Path>) -> Result<OwnerMap, Failure> {
    let Some(file) = file else {
        return Ok(OwnerMap::default());
    };
    let cannot = || format!("cannot read {}", file.display());
    let text = std::fs::read(file)
        .map_err(|error| Failure::new(Code::BadFile, error).context(cannot()))?;
    let read = owner_csv::read(&text)
        .map_err(|reason| Failure::say(Code::BadFile, reason).context(cannot()))?;
    for refused in &read.refused {
        tracing::warn!(
            line = refused.line,
            reason = refused.reason,
            "line of the owner map not taken"
        );
    }
    Ok(OwnerMap::new(read.entries))
}

/// The target's address and, where it was one, its name.
async fn resolve(args: &SurveyArgs) -> Result<(Option<String>, IpAddr), Failure> {
    let wanted = |address: &IpAddr| args.family.is_none_or(|family| family == Family::of(*address));
    if let Ok(address) = args.target.parse::<IpAddr>() {
        return if wanted(&address) {
            Ok((None, address))
        } else {
            let text = format!("{address} is not of the version of IP that --family asks for");
            Err(Failure::say(Code::Failed, text))
        };
    }
    let target = args.target.clone();
    let found = tokio::net::lookup_host((target.as_str(), 0)).await.map_err(|error| {
        let text = format!("the name {target:?} does not resolve; nothing was probed");
        Failure::new(Code::Failed, error).context(text)
    })?;
    let address = found.map(|address| address.ip()).find(wanted).ok_or_else(|| {
        let text = format!("the name {target:?} has no address of that version of IP");
        Failure::say(Code::Failed, text)
    })?;
    Ok((Some(target), address))
}

fn plan(
    args: &SurveyArgs,
    size_bytes: u16,
    (name, address): (Option<String>, IpAddr),
    chance: u128,
) -> Result<SurveyPlan, Failure> {
    let hop = |limit| {
        HopLimit::try_new(limit).ok_or_else(|| {
            Failure::say(Code::Failed, format!("hop limit {limit} is outside 1..=64"))
        })
    };
    if !(0.000_001..=0.5).contains(&args.miss) {
        let text = format!("--miss {} is outside 0.000001 to 0.5", args.miss);
        return Err(Failure::say(Code::Failed, text));
    }
    if !(0.01..=10_000.0).contains(&args.hop_answers_per_s) {
        let text =
            format!("--hop-answers-per-s {} is outside 0.01 to 10000", args.hop_answers_per_s);
        return Err(Failure::say(Code::Failed, text));
    }
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "both are checked to be small and positive"
    )]
    let (error_ppm, hop_per_1000_s) =
        ((args.miss * 1e6) as u32, (args.hop_answers_per_s * 1e3) as u32);
    Ok(SurveyPlan {
        name,
        address,
        source: args.source,
        method: args.method,
        port: args.port,
        dscp: args.dscp,
        size_bytes,
        dont_fragment: args.dont_fragment,
        hops: (hop(args.first_hop)?, hop(args.last_hop)?),
        probes_per_hop: args.probes_per_hop,
        interval: Micros::from_millis(args.interval_ms),
        timeout: Micros::from_millis(args.timeout_ms),
        rounds: (args.rounds > 0).then_some(args.rounds),
        branches_error_ppm: args.branches.then_some(error_ppm),
        mtu_up_to: args.mtu.then_some(args.mtu_up_to),
        pacing: Pacing { hop_per_1000_s, ..Pacing::default() },
        capture: args.save.is_some(),
        chance,
    })
}

async fn link(args: &SurveyArgs) -> Result<Link, Failure> {
    let link = match args.simulation {
        Some(simulation) => Link::simulated(simulation, args.address.clone()).await,
        None => match RawSockets::open(args.interface.as_deref()) {
            Err(LinkError::NotPermitted(_)) if args.interface.is_none() => Link::plain(),
            sockets => sockets.and_then(Link::raw),
        },
    };
    link.map_err(|error| Failure::new(Code::Failed, error))
}

async fn measure(args: &SurveyArgs, output: &Output) -> Result<(), Failure> {
    let map = owner_map(args.owners.as_deref())?;
    let target = resolve(args).await?;
    let chance = Uuid::new_v4().as_u128();
    let mut plans = Vec::new();
    for (nth, size) in args.size_bytes.iter().enumerate() {
        let mut plan = plan(args, *size, target.clone(), chance)?;
        if nth > 0 {
            // What does not depend on the size is found once.
            (plan.branches_error_ppm, plan.mtu_up_to) = (None, None);
        }
        plans.push(plan);
    }
    let file = match args.save.as_deref() {
        Some(name) => Some((record::create(name)?, name)),
        None => None,
    };
    let mut record = Record {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        name: target.0,
        address: target.1,
        method: args.method,
        port: args.port,
        dscp: args.dscp,
        ensemble: None,
        path_mtu: None,
        by_size: Vec::new(),
        packets: Vec::new(),
    };
    let (stop, stopped) = watch::channel(false);
    let waiting = tokio::spawn(async move {
        if let Err(error) = stop_requested(false).await {
            tracing::error!(%error, "signals cannot be received");
        }
        stop.send_replace(true);
        std::future::pending::<()>().await;
    });
    let mut live = Live::new(output, args.rounds);
    let mut outcome = Ok(());
    for plan in &plans {
        outcome =
            one_size(plan, link(args).await?, &mut record, &mut live, &map, stopped.clone()).await;
        if outcome.is_err() || *stopped.borrow() {
            break;
        }
    }
    waiting.abort();
    live.clear();
    if let Err(error) = outcome {
        // Nothing was measured: an empty file has no use.
        if let Some((_, name)) = file {
            let _left_behind = std::fs::remove_file(name);
        }
        return Err(Failure::new(Code::Failed, error));
    }
    if let Some((file, name)) = file {
        record.write(file, name)?;
    }
    print(output, &report::of(&record, &map))
}

async fn one_size(
    plan: &SurveyPlan,
    link: Link,
    record: &mut Record,
    live: &mut Live,
    map: &OwnerMap,
    stopped: watch::Receiver<bool>,
) -> Result<(), SurveyError> {
    let (news, mut heard) = mpsc::channel(64);
    let surveying = survey(link, plan, news, stopped);
    tokio::pin!(surveying);
    loop {
        tokio::select! {
            Some(news) = heard.recv() => regard(news, plan, record, live, map),
            kept = &mut surveying => {
                while let Ok(news) = heard.try_recv() {
                    regard(news, plan, record, live, map);
                }
                record.add_packets(kept?.packets);
                return Ok(());
            }
        }
    }
}

fn regard(
    news: SurveyProgress,
    plan: &SurveyPlan,
    record: &mut Record,
    live: &mut Live,
    map: &OwnerMap,
) {
    match news {
        SurveyProgress::Branching(hop, probes) => {
            live.say(&format!("Searching member routes: hop {hop}, {probes} probes sent"));
        }
        SurveyProgress::Sizing(floor, ceiling) => {
            let of =
                |size: Option<u16>| size.map_or_else(|| "?".to_owned(), |size| size.to_string());
            live.say(&format!(
                "Searching the path MTU: {} bytes arrive, {} do not",
                of(floor),
                of(ceiling)
            ));
        }
        SurveyProgress::Branches(found) => record.ensemble = Some(found),
        SurveyProgress::Mtu(found) => record.path_mtu = Some(found),
        SurveyProgress::Round(round) => {
            record.add_round(plan.size_bytes, *round);
            live.draw(record, map);
        }
    }
}

fn print(output: &Output, report: &Report) -> Result<(), Failure> {
    output.either(report, |output| show::all(output, report))
}
