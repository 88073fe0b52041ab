//! The command line, as a plain record.

mod agent;
mod measuring;

use clap::{Args, Parser, Subcommand, ValueEnum};
use itinera_model::role::Role;
use std::net::SocketAddr;
use std::path::PathBuf;

pub(crate) use crate::accuracy::AccuracyCommand;
pub(crate) use crate::client::watches::{SuppressionsCommand, WatchesCommand};
pub(crate) use agent::{AgentCommand, JoinArgs, RunArgs};
pub(crate) use measuring::{OutwardArgs, SurveyArgs, SurveyCommand, ThroughputArgs};

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
    /// Commits that could not be judged: recorded, left out of judgement, tried again on demand
    SetAside {
        #[command(subcommand)]
        command: SetAsideCommand,
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
pub(crate) enum SetAsideCommand {
    /// List them, the newest first
    List,
    /// Have a commit judged again
    Retry {
        /// Its number, as `set-aside list` shows it
        commit: i64,
    },
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
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
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
