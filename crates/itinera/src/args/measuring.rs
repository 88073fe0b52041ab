//! Measurements on demand: `survey`, `diagnose` and `throughput`.

use super::NumberOrId;
use clap::{Args, Subcommand};
use itinera_model::path::{Family, Method};
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum SurveyCommand {
    /// Measure and show results as they arrive
    Run(Box<SurveyArgs>),
    /// Show a saved record
    Show {
        /// File that `run --save` wrote
        file: PathBuf,
        /// Owner map as CSV: prefix, as_number, owner, contact
        #[arg(long, value_name = "FILE")]
        owners: Option<PathBuf>,
    },
    /// Write the packets of a saved record as pcapng
    Packets {
        /// File that `run --save` wrote
        file: PathBuf,
        /// Output file; it must not exist
        to: PathBuf,
    },
    /// Print the JSON Schema of the output of `run --format json`
    Schema,
}

#[derive(Debug, Args)]
pub(crate) struct SurveyArgs {
    /// Name or address
    pub(crate) target: String,
    /// Probe method: icmp-echo, udp or tcp-syn
    #[arg(long, default_value = "icmp-echo")]
    pub(crate) method: Method,
    /// Destination port of UDP or TCP probes (UDP default: an unused port)
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) port: Option<u16>,
    /// Address family of a name: ipv4 or ipv6 (default: the first address)
    #[arg(long, value_parser = family)]
    pub(crate) family: Option<Family>,
    /// Source address of probes
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) source: Option<IpAddr>,
    /// Interface for probes
    #[arg(long, value_name = "NAME", conflicts_with = "simulation")]
    pub(crate) interface: Option<String>,
    /// Size of the IP packet in bytes; separate several sizes by commas
    #[arg(long, default_value = "64", value_name = "BYTES", value_delimiter = ',')]
    pub(crate) size_bytes: Vec<u16>,
    /// Differentiated services code point, 0 to 63
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u8).range(..64))]
    pub(crate) dscp: u8,
    /// Set the don't-fragment flag
    #[arg(long)]
    pub(crate) dont_fragment: bool,
    /// First hop limit
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..65))]
    pub(crate) first_hop: u8,
    /// Last hop limit
    #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u8).range(1..65))]
    pub(crate) last_hop: u8,
    /// Probes per hop and round
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..17))]
    pub(crate) probes_per_hop: u8,
    /// Number of rounds; 0 runs until Ctrl-C
    #[arg(long, default_value_t = 20)]
    pub(crate) rounds: u64,
    /// Interval between rounds in milliseconds
    #[arg(long, default_value_t = 1000, value_name = "MS")]
    pub(crate) interval_ms: u32,
    /// Longest wait for an answer in milliseconds; shorter when the delay is known
    #[arg(long, default_value_t = 2000, value_name = "MS")]
    pub(crate) timeout_ms: u32,
    /// First find all member routes of load balancing, then measure each
    #[arg(long)]
    pub(crate) branches: bool,
    /// Probability of missing a member route behind one hop, with --branches
    #[arg(long, default_value_t = 0.01, value_name = "SHARE", requires = "branches")]
    pub(crate) miss: f64,
    /// Find the path MTU
    #[arg(long)]
    pub(crate) mtu: bool,
    /// Largest packet for the MTU search in bytes
    #[arg(long, default_value_t = 1500, value_name = "BYTES", requires = "mtu")]
    pub(crate) mtu_up_to: u16,
    /// Most answers requested of one hop per second
    #[arg(long, default_value_t = 1.0, value_name = "RATE")]
    pub(crate) hop_answers_per_s: f64,
    /// Owner map as CSV: prefix, as_number, owner, contact
    #[arg(long, value_name = "FILE")]
    pub(crate) owners: Option<PathBuf>,
    /// Save the record with all packets to this file; it must not exist
    #[arg(long, value_name = "FILE")]
    pub(crate) save: Option<PathBuf>,
    /// Probe a simulated internet at this loopback address
    #[arg(long, requires = "address", value_name = "HOST:PORT")]
    pub(crate) simulation: Option<SocketAddr>,
    /// Own address in the simulated internet, one per IP version
    #[arg(long, requires = "simulation", value_name = "ADDRESS")]
    pub(crate) address: Vec<IpAddr>,
}

#[derive(Debug, Args)]
pub(crate) struct DiagnoseArgs {
    /// URL, name or address, with a port if it is not a web service: crew-mail.example:25.
    /// With --from: name of a service, of a target, or of another site with an agent
    pub(crate) target: String,
    /// Run the diagnosis on the agent of this site instead of on this machine
    #[arg(long, value_name = "SITE", conflicts_with_all = ["simulation", "interface", "trust", "owners", "port", "family"])]
    pub(crate) from: Option<String>,
    /// Number of the incident that the diagnosis belongs to, or its id
    #[arg(long, requires = "from", value_name = "NUMBER")]
    pub(crate) incident: Option<NumberOrId>,
    /// Port, if the target does not state it
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) port: Option<u16>,
    /// IP version: ipv4 or ipv6
    #[arg(long, value_parser = family)]
    pub(crate) family: Option<Family>,
    /// Owner map as CSV, to name the owners of hops
    #[arg(long, value_name = "FILE")]
    pub(crate) owners: Option<PathBuf>,
    /// CA certificates to trust (PEM) instead of those of the machine
    #[arg(long, value_name = "FILE")]
    pub(crate) trust: Option<PathBuf>,
    /// Interface for probes
    #[arg(long, conflicts_with = "simulation")]
    pub(crate) interface: Option<String>,
    /// Run in a simulated internet at this loopback address
    #[arg(long, requires = "address", value_name = "HOST:PORT")]
    pub(crate) simulation: Option<SocketAddr>,
    /// Own address in the simulated internet, one per IP version
    #[arg(long, requires = "simulation", value_name = "ADDRESS")]
    pub(crate) address: Vec<IpAddr>,
}

#[derive(Debug, Args)]
pub(crate) struct ThroughputArgs {
    /// Site of the sending agent
    #[arg(long, value_name = "SITE", requires = "to")]
    pub(crate) from: Option<String>,
    /// Site of the receiving agent
    #[arg(long, value_name = "SITE", requires = "from")]
    pub(crate) to: Option<String>,
    /// Transport: tcp or udp
    #[arg(long, default_value = "tcp", value_parser = ["tcp", "udp"])]
    pub(crate) by: String,
    /// Longest duration in seconds
    #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u8).range(1..=30))]
    pub(crate) seconds: u8,
    /// Most bytes to send
    #[arg(long, default_value_t = 20_000_000)]
    pub(crate) most_bytes: u64,
    /// UDP rate in Mbit/s
    #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=1_000))]
    pub(crate) rate_mbit_s: u32,
}

fn family(text: &str) -> Result<Family, String> {
    match text {
        "ipv4" => Ok(Family::Ipv4),
        "ipv6" => Ok(Family::Ipv6),
        other => Err(format!("{other:?} is neither ipv4 nor ipv6")),
    }
}
