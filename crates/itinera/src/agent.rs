//! `itinera agent join` and `itinera agent run`.

use crate::args::{JoinArgs, RunArgs};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use crate::signals::stop_requested;
use itinera_agent::{AgentConfig, AgentError, ExchangeError, Link};
use itinera_model::JoinCode;
use tokio::sync::watch;

fn failed(error: AgentError) -> Failure {
    let code = match &error {
        AgentError::Exchange(ExchangeError::Refused(_)) => Code::Refused,
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

pub(crate) async fn run(args: &RunArgs) -> Result<(), Failure> {
    let link = match args.simulation {
        Some(simulation) => Link::simulated(simulation, args.address.clone()).await,
        None => Link::kernel(),
    };
    let link = link.map_err(|error| Failure::new(Code::Failed, error))?;
    let config =
        AgentConfig { directory: args.data.clone(), spool_max_bytes: args.spool_max_bytes };
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
