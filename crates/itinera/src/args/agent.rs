//! `agent`: joining, and measuring for a service.

use clap::{Args, Subcommand};
use itinera_agent::ClockError;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum AgentCommand {
    /// Join a service with a one-time code
    Join(JoinArgs),
    /// Measure and upload until stopped
    Run(RunArgs),
    /// Show which probe methods work on this machine and how to permit the others
    Check,
    /// Print a systemd unit that runs the agent with least privilege
    Unit {
        /// Directory of the agent's identity and spool
        #[arg(long, default_value = "/var/lib/itinera-agent", value_name = "DIR")]
        data: PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct JoinArgs {
    /// Code that `itinera join-code` printed
    pub(crate) code: String,
    /// URL of the service for agents, such as https://198.51.100.7:7481
    #[arg(long, value_name = "URL")]
    pub(crate) service: String,
    /// Directory of the agent's identity and spool
    #[arg(
        long,
        env = "ITINERA_AGENT_DATA",
        default_value = "/var/lib/itinera-agent",
        value_name = "DIR"
    )]
    pub(crate) data: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct RunArgs {
    /// CA certificates for checks of services (PEM) instead of those of the machine
    #[arg(long, value_name = "FILE", env = "ITINERA_AGENT_TRUST")]
    pub(crate) trust: Option<PathBuf>,
    /// Directory of the agent's identity and spool
    #[arg(
        long,
        env = "ITINERA_AGENT_DATA",
        default_value = "/var/lib/itinera-agent",
        value_name = "DIR"
    )]
    pub(crate) data: PathBuf,
    /// Local limits that the service cannot widen: targets, methods, rates (TOML)
    #[arg(long, env = "ITINERA_AGENT_LIMITS", value_name = "FILE")]
    pub(crate) limits: Option<PathBuf>,
    /// Largest size of the spool on disk in bytes
    #[arg(long, default_value_t = 64 << 20, value_name = "BYTES")]
    pub(crate) spool_max_bytes: u64,
    /// Probe a simulated internet at this loopback address
    #[arg(long, requires = "address", value_name = "HOST:PORT")]
    pub(crate) simulation: Option<SocketAddr>,
    /// Clock error in the simulation: offset in ms, drift in ppm
    #[arg(long, requires = "simulation", value_name = "MS,PPM", value_parser = clock_error)]
    pub(crate) clock_error: Option<ClockError>,
    /// Own address in the simulated internet, one per IP version
    #[arg(long, requires = "simulation", value_name = "ADDRESS")]
    pub(crate) address: Vec<IpAddr>,
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
}

/// Reads milliseconds and parts in a million, such as `-40.5,12`.
fn clock_error(text: &str) -> Result<ClockError, String> {
    let (offset, drift) = text.split_once(',').ok_or("MS,PPM is needed, such as -40.5,12")?;
    let number = |part: &str, most: f64| match part.trim().parse::<f64>() {
        Ok(number) if number.abs() <= most => Ok(number * 1e3),
        _ => Err(format!("{part:?} is no number between -{most} and {most}")),
    };
    #[allow(clippy::cast_possible_truncation, reason = "checked to be within a million")]
    Ok(ClockError {
        offset_us: number(offset, 1e6)? as i64,
        drift_ppb: number(drift, 500.0)? as i32,
    })
}
