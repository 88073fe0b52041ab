//! `agent`: joining, and measuring for a service.

use clap::{Args, Subcommand};
use itinera_agent::ClockError;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum AgentCommand {
    /// Join a service by a one-time code
    Join(JoinArgs),
    /// Measure, spool and upload until told to stop
    Run(RunArgs),
    /// Say what an agent can do on this machine, and what would grant the rest
    Check,
    /// Print a systemd unit that runs the agent with the least privilege
    Unit {
        /// Directory of the agent's identity and spool
        #[arg(long, default_value = "/var/lib/itinera-agent", value_name = "DIR")]
        data: PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct JoinArgs {
    /// The code that `itinera join-code` printed
    pub(crate) code: String,
    /// Where the service listens for agents, such as https://198.51.100.7:7481
    #[arg(long, value_name = "URL")]
    pub(crate) service: String,
    /// Directory of this agent's identity and spool
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
    /// Trust who signed services' certificates with these (PEM) instead of whom the machine trusts
    #[arg(long, value_name = "FILE", env = "ITINERA_AGENT_TRUST")]
    pub(crate) trust: Option<PathBuf>,
    /// Directory of this agent's identity and spool
    #[arg(
        long,
        env = "ITINERA_AGENT_DATA",
        default_value = "/var/lib/itinera-agent",
        value_name = "DIR"
    )]
    pub(crate) data: PathBuf,
    /// What the site allows, whatever the service asks: targets, methods, rates (TOML)
    #[arg(long, env = "ITINERA_AGENT_LIMITS", value_name = "FILE")]
    pub(crate) limits: Option<PathBuf>,
    /// Octets the spool may take on disk
    #[arg(long, default_value_t = 64 << 20, value_name = "BYTES")]
    pub(crate) spool_max_bytes: u64,
    /// Probe a simulated internet at this loopback address instead of the real one
    #[arg(long, requires = "address", value_name = "HOST:PORT")]
    pub(crate) simulation: Option<SocketAddr>,
    /// What the clock is off there: milliseconds ahead, and parts in a million that it drifts
    #[arg(long, requires = "simulation", value_name = "MS,PPM", value_parser = clock_error)]
    pub(crate) clock_error: Option<ClockError>,
    /// This agent's address in the simulated internet; once for each version of IP
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
