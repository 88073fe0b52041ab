//! The command line, as a plain record.

use clap::{Args, Parser, Subcommand, ValueEnum};
use itinera_agent::ClockError;
use itinera_model::path::{Family, Method};
use itinera_model::role::Role;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

pub(crate) use crate::accuracy::AccuracyCommand;
pub(crate) use crate::client::watches::{SuppressionsCommand, WatchesCommand};

const EXIT_CODES: &str = "Exit codes:
  0  done
  1  failed for another reason
  2  the command line is wrong
  3  the service cannot be reached, or is not well
  4  the service refuses: not signed in, an unknown id, bad input, a used or expired code
  5  a file is wrong: configuration, scenario, identity
  6  a recomputation differs from the record
 10  outward: broken on this machine or its own link
 11  outward: broken at the gateway or inside the site
 12  outward: broken at the resolvers or the name
 13  outward: broken in the network on the way
 14  outward: broken at the target or its service";

/// Where on a path loss and delay begin, whose it is, and since when.
#[derive(Debug, Parser)]
#[command(name = "itinera", version, after_help = EXIT_CODES, propagate_version = true)]
pub(crate) struct Arguments {
    /// Where the service listens for people and programs
    #[arg(
        long,
        global = true,
        env = "ITINERA_API",
        default_value = "http://127.0.0.1:7480",
        value_name = "URL"
    )]
    pub(crate) api: String,
    /// A file with a token to come in with; else what `itinera sign-in` has kept is used
    #[arg(long, global = true, env = "ITINERA_TOKEN_FILE", value_name = "FILE")]
    pub(crate) token_file: Option<PathBuf>,
    /// How to print
    #[arg(long, global = true, value_enum, default_value_t = Format::Table)]
    pub(crate) format: Format,
    #[command(subcommand)]
    pub(crate) command: Command,
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

/// How results are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    Table,
    /// For programs: what the API gave
    Json,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Sign in: makes a token for this program and keeps it for your account's eyes only
    SignIn {
        /// Who; asked for where absent
        #[arg(long)]
        name: Option<String>,
        /// Read the password from standard input instead of asking for it
        #[arg(long)]
        password_stdin: bool,
    },
    /// Sign out: the kept token opens nothing any more
    SignOut,
    /// Tokens for programs
    Tokens {
        #[command(subcommand)]
        command: TokensCommand,
    },
    /// People who may sign in
    People {
        #[command(subcommand)]
        command: PeopleCommand,
    },
    /// List what people changed, newest first
    Audit,
    /// Say how everything is, in a sentence and a few counts
    State,
    /// List the agents
    Agents,
    /// List the paths with what is found on them
    Paths,
    /// Show one path hop by hop, with its finding
    Path {
        /// Its id, or the end of it as `paths` shows
        id: String,
    },
    /// List alarms, newest first
    Alarms {
        /// Only those that are open
        #[arg(long)]
        open: bool,
    },
    /// Follow what happens, as it happens, until Ctrl-C
    Follow,
    /// Incidents: alarms of one cause, or a complaint, reviewed together
    Incidents {
        #[command(subcommand)]
        command: IncidentsCommand,
    },
    /// What services answer by their own protocols, and how far that got
    Checks {
        /// The number of one check
        number: Option<i64>,
        /// Ask it at once, besides its schedule, and wait for what comes of it
        #[arg(long, requires = "number")]
        now: bool,
    },
    /// How much gets through between two agents: list, or measure now
    Throughput(ThroughputArgs),
    /// What happened: to services, names, agents' own lines, ways; newest first
    Events {
        /// Only what lasts
        #[arg(long)]
        lasting: bool,
        /// Only what is bad by itself
        #[arg(long)]
        trouble: bool,
    },
    /// What an agent finds around it: interfaces, gateways, resolvers, neighbours
    Surroundings {
        /// Name of its site
        site: String,
    },
    /// Both ways between agents, each direction by itself
    Pairs {
        /// The number of one pair
        number: Option<i64>,
        /// Make it a voice-like stream for so long, to hear how a conversation would sound
        #[arg(long, requires = "number", value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(10..=600))]
        voice: Option<u32>,
    },
    /// Watches: paths measured more densely for a while
    Watches {
        #[command(subcommand)]
        command: WatchesCommand,
    },
    /// Suppressions: whiles in which nothing is measured on purpose
    Suppressions {
        #[command(subcommand)]
        command: SuppressionsCommand,
    },
    /// Owner maps
    Owners {
        #[command(subcommand)]
        command: OwnersCommand,
    },
    /// Make a one-time code by which an agent joins
    JoinCode {
        /// Name of a configured site
        #[arg(long)]
        site: String,
        /// How long it opens, in seconds
        #[arg(long, default_value_t = 3600, value_name = "SECONDS")]
        lifetime_s: u32,
    },
    /// Run the service
    Serve(ServeArgs),
    /// Configuration files
    Config {
        #[command(subcommand)]
        command: ConfigCommand,
    },
    /// Measure one path once, with no service: hop by hop, with a finding in words
    Survey {
        #[command(subcommand)]
        command: SurveyCommand,
    },
    /// Is it the network at all? Step by step from this machine to a service, in half a minute
    Outward(OutwardArgs),
    /// The measuring agent
    Agent {
        #[command(subcommand)]
        command: AgentCommand,
    },
    /// Run a simulated internet from a scenario file, in real time on loopback
    Simulate(SimulateArgs),
    /// Run service, simulated internet and agents together until Ctrl-C
    Demonstrate(DemonstrateArgs),
    /// Compute all findings again from the record and compare
    Recompute(RecomputeArgs),
    /// Measure how well faults are located, on simulated worlds whose truth is known
    Accuracy {
        #[command(subcommand)]
        command: AccuracyCommand,
    },
    /// Print the OpenAPI description of the service's API
    ApiDescription,
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write manual pages, one for each command
    Manual {
        /// Directory that they are written into
        directory: PathBuf,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum IncidentsCommand {
    /// List incidents, newest first
    List {
        /// Only those that are not closed
        #[arg(long)]
        open: bool,
    },
    /// Show one with what happened and what was measured
    Show {
        /// Its number
        number: i64,
    },
    /// Open one from a complaint, with what was measured there and then
    Open {
        /// Name of the site it comes from
        #[arg(long)]
        site: String,
        /// Name of the service it is about
        #[arg(long)]
        service: String,
        /// Since about when, such as 2026-01-31T14:05:00Z; now where absent
        #[arg(long, value_name = "TIME")]
        about: Option<String>,
        /// In their own words
        #[arg(long, default_value = "")]
        words: String,
    },
    /// Write a note into one
    Note {
        /// Its number
        number: i64,
        /// The note
        text: String,
    },
    /// Close one
    Close {
        /// Its number
        number: i64,
        /// Cause, and what was done
        #[arg(long, default_value = "")]
        words: String,
    },
    /// Open a closed one again
    Reopen {
        /// Its number
        number: i64,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum TokensCommand {
    /// List tokens: your own, or everybody's for an administrator
    List,
    /// Make a token, shown once
    Make {
        /// What it is for
        name: String,
        /// What it may do at most: viewer, analyst or administrator; your own role where absent
        #[arg(long)]
        role: Option<Role>,
        /// How long it opens, in days
        #[arg(long, default_value_t = 30, value_name = "DAYS")]
        lifetime_days: u16,
    },
    /// Take a token back for good
    Revoke {
        /// Its id
        id: String,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum PeopleCommand {
    /// List everybody
    List,
    /// Add a person; the password is asked for, or read from standard input
    Add {
        /// The name they sign in with
        name: String,
        /// viewer, analyst or administrator
        #[arg(long)]
        role: Role,
    },
    /// Change a person
    #[command(group = clap::ArgGroup::new("what").required(true).multiple(true))]
    Change {
        /// The name they sign in with
        name: String,
        /// viewer, analyst or administrator
        #[arg(long, group = "what")]
        role: Option<Role>,
        /// false: they may not come in any more, and all of their sessions end
        #[arg(long, group = "what", value_name = "BOOL")]
        active: Option<bool>,
        /// Ask for another password, or read it from standard input
        #[arg(long, group = "what")]
        password: bool,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum OwnersCommand {
    /// Import an owner map: CSV with the columns prefix, as_number, owner, contact
    Import {
        /// The file; - for standard input
        file: PathBuf,
        /// What to call it; the file's name where absent
        #[arg(long)]
        source: Option<String>,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum ConfigCommand {
    /// Check a configuration file and say what is wrong with it, by line
    Check {
        /// The file
        file: PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct ServeArgs {
    /// Configuration file
    #[arg(long, env = "ITINERA_CONFIG", value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Data directory, over the file's
    #[arg(long, env = "ITINERA_DATA", value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// PostgreSQL, over the file's; without any, a private one runs in the data directory
    #[arg(long, env = "ITINERA_DATABASE", value_name = "URL", hide_env_values = true)]
    pub(crate) database: Option<String>,
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
}

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

fn family(text: &str) -> Result<Family, String> {
    match text {
        "ipv4" => Ok(Family::Ipv4),
        "ipv6" => Ok(Family::Ipv6),
        other => Err(format!("{other:?} is neither ipv4 nor ipv6")),
    }
}

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

#[derive(Debug, Args)]
pub(crate) struct SimulateArgs {
    /// Scenario file
    pub(crate) scenario: PathBuf,
    /// Where chance begins; drawn and printed where absent
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// Loopback address that takes whole IP packets in UDP datagrams
    #[arg(long, default_value = "127.0.0.1:7482", value_name = "HOST:PORT")]
    pub(crate) listen: SocketAddr,
    /// Write the certificate of whoever signs its services' certificates to this file
    #[arg(long, value_name = "FILE")]
    pub(crate) authority: Option<PathBuf>,
    /// Only check the file
    #[arg(long)]
    pub(crate) check: bool,
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
}

#[derive(Debug, Args)]
pub(crate) struct DemonstrateArgs {
    /// Data directory; /var/lib/itinera-demo for root, else one below the home directory
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// Discard what an earlier run has left
    #[arg(long)]
    pub(crate) fresh: bool,
    /// Where chance begins; drawn and printed where absent
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// Take free ports instead of 7480 to 7482
    #[arg(long)]
    pub(crate) any_port: bool,
    /// Another world, as `itinera accuracy case --world` writes it: world.toml, owners.csv and
    /// service.toml in this directory
    #[arg(long, value_name = "DIR")]
    pub(crate) world: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct RecomputeArgs {
    /// The record, by its database's URL
    #[arg(long, env = "ITINERA_DATABASE", value_name = "URL", hide_env_values = true)]
    pub(crate) database: Option<String>,
    /// The record of a service that runs with this data directory
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
}
