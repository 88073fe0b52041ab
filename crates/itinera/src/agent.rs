//! `itinera agent join` and `itinera agent run`.

use crate::args::{JoinArgs, RunArgs};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use crate::signals::stop_requested;
use itinera_agent::{
    Ability, AgentConfig, AgentError, Announcements, ExchangeError, Link, LinkError, LocalLimits,
    Place, RawSockets, abilities, drop_capabilities, unit,
};
use itinera_model::JoinCode;
use std::sync::Arc;
use tokio::sync::watch;

fn failed(error: AgentError) -> Failure {
    let code = match &error {
        AgentError::Exchange(ExchangeError::Refused { .. }) => Code::Refused,
        AgentError::Exchange(_) | AgentError::Unproved(_) => Code::Unreachable,
        AgentError::Identity(_) => Code::BadFile,
        _ => Code::Failed,
    };
    Failure::new(code, error)
}

pub(crate) async fn join(args: &JoinArgs, output: &Output) -> Result<(), Failure> {
    let code: JoinCode = args.code.parse().map_err(|error| Failure::new(Code::Refused, error))?;
    let joined = itinera_agent::join(&code, &args.service, &args.data).await.map_err(failed)?;
    if output.is_json() {
        let joined = serde_json::json!({ "agent": joined.agent, "site": joined.site });
        return output.json(&joined);
    }
    output.line(&format!(
        "This agent has joined as {} at {}. Start it with: itinera agent run --data {}",
        joined.agent,
        plain(&joined.site),
        args.data.display()
    ))
}

/// What only privilege opens; nothing of it where there is none.
#[derive(Default)]
pub(crate) struct Privileged {
    sockets: Option<RawSockets>,
    announced: Option<Announcements>,
}

/// Opens what needs privilege and gives the privilege up, before any other thread is made that
/// would keep it.
pub(crate) fn prepare(args: &RunArgs) -> Result<Privileged, Failure> {
    let mut opened = Privileged::default();
    if args.simulation.is_none() {
        opened.sockets = match RawSockets::open(None) {
            Err(LinkError::NotPermitted(_)) => None,
            sockets => Some(sockets.map_err(|error| Failure::new(Code::Failed, error))?),
        };
        opened.announced = Announcements::open().ok();
    }
    drop_capabilities().map_err(|error| {
        Failure::new(Code::Failed, std::io::Error::from(error))
            .context("cannot give up privileges that are no longer needed")
    })?;
    Ok(opened)
}

pub(crate) fn check(output: &Output) -> Result<(), Failure> {
    let abilities = abilities();
    output.either(&abilities, |output| {
        let row = |ability: &Ability| {
            let has = if ability.has { "yes" } else { "no" };
            let grant = ability.grant.clone().unwrap_or_default();
            vec![ability.name.to_owned(), has.to_owned(), ability.used_for.to_owned(), grant]
        };
        output
            .table(&["ability", "there", "for", "granted by"], abilities.iter().map(row).collect())
    })
}

pub(crate) fn print_unit(output: &Output, data: &std::path::Path) -> Result<(), Failure> {
    let program = std::env::current_exe()?;
    output.line(unit(&program, data).trim_end())
}

pub(crate) async fn run(args: &RunArgs, opened: Privileged) -> Result<(), Failure> {
    let link = match (args.simulation, opened.sockets) {
        (Some(simulation), _) => Link::simulated(simulation, args.address.clone()).await,
        (None, Some(sockets)) => Link::raw(sockets),
        (None, None) => {
            tracing::warn!(
                "no raw sockets: probing by echo and UDP only, see `itinera agent check`"
            );
            Link::plain()
        }
    };
    let link = link.map_err(|error| Failure::new(Code::Failed, error))?;
    let limits = args.limits.as_deref().map(LocalLimits::read).transpose();
    let limits = limits.map_err(|error| Failure::new(Code::BadFile, error))?.unwrap_or_default();
    let clock_error = args.clock_error.unwrap_or_default();
    let config = AgentConfig {
        directory: args.data.clone(),
        spool_max_bytes: args.spool_max_bytes,
        limits,
        clock_error,
        place: match args.simulation {
            Some(simulation) => Place::Simulated(simulation, args.address.clone()),
            None => Place::Kernel { interface: None, announced: opened.announced },
        },
        roots: Arc::new(crate::diagnose::roots(args.trust.as_deref())?),
    };
    let (stop, stopped) = watch::channel(false);
    let with_parent = args.stop_with_parent;
    tokio::spawn(async move {
        if let Err(error) = stop_requested(with_parent).await {
            tracing::error!(%error, "signals cannot be received");
        }
        tracing::info!("stopping");
        stop.send_replace(true);
        std::future::pending::<()>().await;
    });
    itinera_agent::run(&config, link, stopped).await.map_err(failed)
}
