//! What a person measures at once: `survey`, `outward` and `throughput`.

use clap::{Args, Subcommand};
use itinera_model::path::{Family, Method};
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum SurveyCommand {
    /// Measure, and show what is found while it is found
    Run(Box<SurveyArgs>),
    /// Show again what `run --save` has kept
    Show {
        /// The record
        file: PathBuf,
        /// An owner map as CSV: prefix, as_number, owner, contact
        #[arg(long, value_name = "FILE")]
        owners: Option<PathBuf>,
    },
    /// Write the probes and answers of a record as pcapng, for packet analysers
    Packets {
        /// The record
        file: PathBuf,
        /// The file to write; it must not exist
        to: PathBuf,
    },
    /// Print the JSON Schema of what `run --format json` prints
    Schema,
}

#[derive(Debug, Args)]
pub(crate) struct SurveyArgs {
    /// Name or address
    pub(crate) target: String,
    /// How to probe: icmp-echo, udp or tcp-syn
    #[arg(long, default_value = "icmp-echo")]
    pub(crate) method: Method,
    /// Port of UDP or TCP probes; by UDP one that nobody serves where absent
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) port: Option<u16>,
    /// Which address of a name: ipv4 or ipv6; the first one it gives where absent
    #[arg(long, value_parser = family)]
    pub(crate) family: Option<Family>,
    /// Own address that probes leave from
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) source: Option<IpAddr>,
    /// Interface that probes leave by
    #[arg(long, value_name = "NAME", conflicts_with = "simulation")]
    pub(crate) interface: Option<String>,
    /// Length of the IP packet in octets; several, by commas, are measured one after the other
    #[arg(long, default_value = "64", value_name = "BYTES", value_delimiter = ',')]
    pub(crate) size_bytes: Vec<u16>,
    /// Differentiated services code point, 0 to 63
    #[arg(long, default_value_t = 0, value_parser = clap::value_parser!(u8).range(..64))]
    pub(crate) dscp: u8,
    /// Forbid routers to cut probes into fragments
    #[arg(long)]
    pub(crate) dont_fragment: bool,
    /// First hop limit tried
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..65))]
    pub(crate) first_hop: u8,
    /// Last hop limit tried
    #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u8).range(1..65))]
    pub(crate) last_hop: u8,
    /// Probes for each hop in a round
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..17))]
    pub(crate) probes_per_hop: u8,
    /// Rounds; 0: until Ctrl-C
    #[arg(long, default_value_t = 20)]
    pub(crate) rounds: u64,
    /// From round to round, in milliseconds
    #[arg(long, default_value_t = 1000, value_name = "MS")]
    pub(crate) interval_ms: u32,
    /// The longest wait for an answer, in milliseconds; less once the path is known
    #[arg(long, default_value_t = 2000, value_name = "MS")]
    pub(crate) timeout_ms: u32,
    /// Find all ways of load balancing first, and measure them in turn
    #[arg(long)]
    pub(crate) branches: bool,
    /// Chance to miss a way behind any one hop, with --branches
    #[arg(long, default_value_t = 0.01, value_name = "SHARE", requires = "branches")]
    pub(crate) miss: f64,
    /// Find the largest packet that gets through
    #[arg(long)]
    pub(crate) mtu: bool,
    /// The largest packet tried, with --mtu
    #[arg(long, default_value_t = 1500, value_name = "BYTES", requires = "mtu")]
    pub(crate) mtu_up_to: u16,
    /// How often one hop is asked for an answer, at most, in a second
    #[arg(long, default_value_t = 1.0, value_name = "RATE")]
    pub(crate) hop_answers_per_s: f64,
    /// An owner map as CSV: prefix, as_number, owner, contact
    #[arg(long, value_name = "FILE")]
    pub(crate) owners: Option<PathBuf>,
    /// Keep everything, packets included, in this file; it must not exist
    #[arg(long, value_name = "FILE")]
    pub(crate) save: Option<PathBuf>,
    /// Probe a simulated internet at this loopback address instead of the real one
    #[arg(long, requires = "address", value_name = "HOST:PORT")]
    pub(crate) simulation: Option<SocketAddr>,
    /// Own address in the simulated internet; once for each version of IP
    #[arg(long, requires = "simulation", value_name = "ADDRESS")]
    pub(crate) address: Vec<IpAddr>,
}

#[derive(Debug, Args)]
pub(crate) struct OutwardArgs {
    /// A URL, a name or an address, with a port where it is not that of the web: crew-mail.example:25;
    /// with --from the name of a service, of a target, or of another site with an agent
    pub(crate) target: String,
    /// From the agent at this site, which the service asks, instead of from this machine
    #[arg(long, value_name = "SITE", conflicts_with_all = ["simulation", "interface", "trust", "owners", "port", "family"])]
    pub(crate) from: Option<String>,
    /// Attach it to the incident of this number
    #[arg(long, requires = "from", value_name = "NUMBER")]
    pub(crate) incident: Option<i64>,
    /// The port, where the target does not say
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) port: Option<u16>,
    /// Over this version of IP
    #[arg(long, value_parser = family)]
    pub(crate) family: Option<Family>,
    /// An owner map, to say whose hops they are (CSV)
    #[arg(long, value_name = "FILE")]
    pub(crate) owners: Option<PathBuf>,
    /// Trust who signed with these certificates (PEM) instead of whom the machine trusts
    #[arg(long, value_name = "FILE")]
    pub(crate) trust: Option<PathBuf>,
    /// Probe hops by this interface
    #[arg(long, conflicts_with = "simulation")]
    pub(crate) interface: Option<String>,
    /// From inside a simulated internet at this loopback address
    #[arg(long, requires = "address", value_name = "HOST:PORT")]
    pub(crate) simulation: Option<SocketAddr>,
    /// This machine's address in the simulated internet; once for each version of IP
    #[arg(long, requires = "simulation", value_name = "ADDRESS")]
    pub(crate) address: Vec<IpAddr>,
}

#[derive(Debug, Args)]
pub(crate) struct ThroughputArgs {
    /// Measure from the agent at this site
    #[arg(long, value_name = "SITE", requires = "to")]
    pub(crate) from: Option<String>,
    /// To the agent at this one
    #[arg(long, value_name = "SITE", requires = "from")]
    pub(crate) to: Option<String>,
    /// tcp or udp
    #[arg(long, default_value = "tcp", value_parser = ["tcp", "udp"])]
    pub(crate) by: String,
    /// At most so long
    #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u8).range(1..=30))]
    pub(crate) seconds: u8,
    /// At most so many octets
    #[arg(long, default_value_t = 20_000_000)]
    pub(crate) most_bytes: u64,
    /// Rate by UDP, in megabits a second
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
