//! `itinera serve` and `itinera config check`.

use crate::args::{InstallationArgs, ServeArgs};
use crate::exit::{Code, Failure};
use crate::output::Output;
use crate::signals::stop_requested;
use itinera_service::{Config, Service};
use std::path::Path;

pub(crate) fn read(file: &Path) -> Result<Config, Failure> {
    let name = file.display().to_string();
    let text = std::fs::read_to_string(file).map_err(|error| {
        Failure::new(Code::BadFile, error).context(format!("cannot read {name}"))
    })?;
    Config::parse(&text).map_err(|error| Failure::say(Code::BadFile, format!("{name}, {error}")))
}

pub(crate) fn check(file: &Path, output: &Output) -> Result<(), Failure> {
    let config = read(file)?;
    let (sites, targets) = (config.plan.sites.len(), config.plan.targets.len());
    if output.is_json() {
        return output
            .json(&serde_json::json!({ "valid": true, "sites": sites, "targets": targets }));
    }
    output.line(&format!("{} is valid: {sites} sites, {targets} targets.", file.display()))
}

/// The configuration of the file, or the default one, with what the command line overrides.
pub(crate) fn configured(of: &InstallationArgs) -> Result<Config, Failure> {
    let mut config = match &of.config {
        Some(file) => read(file)?,
        None => Config::parse("").map_err(|error| Failure::new(Code::BadFile, error))?,
    };
    if let Some(data) = &of.data {
        config.data.clone_from(data);
    }
    config.database = of.database.clone().or(config.database);
    Ok(config)
}

pub(crate) async fn run(args: &ServeArgs) -> Result<(), Failure> {
    let config = configured(&args.of)?;
    let service = Service::start(&config, |step| tracing::info!("{step}"));
    let service = service.await.map_err(|error| Failure::new(Code::Failed, error))?;
    tracing::info!("console and API at http://{}", service.address());
    tracing::info!("agents at https://{}", service.agents_address());
    let with_parent = args.stop_with_parent;
    let until = async {
        if let Err(error) = stop_requested(with_parent).await {
            tracing::error!(%error, "signals cannot be received");
        }
        tracing::info!("stopping");
    };
    service.run(until).await.map_err(|error| Failure::new(Code::Failed, error))
}
