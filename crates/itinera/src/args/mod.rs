//! The command line, as a plain record.

pub(crate) mod accuracy;
mod agent;
mod alarms;
mod backup;
mod calendars;
mod measuring;
mod notices;
mod number_or_id;
mod range;
mod rules;
mod watches;

use crate::output::Format;
use accuracy::AccuracyCommand;
use clap::{Args, Parser, Subcommand};
use itinera_model::role::Role;
use std::net::SocketAddr;
use std::path::PathBuf;
use time::Date;
use time::format_description::well_known::Iso8601;

pub(crate) use agent::{AgentCommand, JoinArgs, RunArgs};
pub(crate) use alarms::{AlarmAction, AlarmsArgs, ShownAlarms, SomeAlarms};
pub(crate) use backup::{BackupArgs, RestoreArgs};
pub(crate) use calendars::{CalendarsCommand, PlannedWorkArgs};
pub(crate) use measuring::{DiagnoseArgs, SurveyArgs, SurveyCommand, ThroughputArgs};
pub(crate) use notices::{NewReceiverArgs, NoticesCommand, ReceiversCommand};
pub(crate) use number_or_id::NumberOrId;
pub(crate) use range::{AtArgs, CountsArgs, EventsArgs, HandOverArgs, HistoryArgs, RangeArgs};
pub(crate) use rules::{RulesChange, RulesCommand, SetRuleArgs};
pub(crate) use watches::{SuppressionsCommand, WatchesCommand};

const EXIT_CODES: &str = "Exit codes:
  0  success
  1  other failure
  2  wrong command line
  3  service unreachable or unable to answer
  4  request refused: not signed in, unknown id, bad input, used or expired code
  5  invalid file: configuration, scenario, identity
  6  a recomputation differs from the database
 10  diagnosis: fault on this machine or its link
 11  diagnosis: fault at the gateway or inside the site
 12  diagnosis: fault at the resolvers or the name
 13  diagnosis: fault in the network
 14  diagnosis: fault at the target or its service";

/// Locates loss and delay on network paths: the link, its owner and the start time.
#[derive(Debug, Parser)]
#[command(name = "itinera", version, after_help = EXIT_CODES, propagate_version = true)]
pub(crate) struct Arguments {
    /// URL of the service's API
    #[arg(
        long,
        global = true,
        env = "ITINERA_API",
        default_value = "http://127.0.0.1:7480",
        value_name = "URL"
    )]
    pub(crate) api: String,
    /// File with an access token (default: the token that `itinera sign-in` saved)
    #[arg(long, global = true, env = "ITINERA_TOKEN_FILE", value_name = "FILE")]
    pub(crate) token_file: Option<PathBuf>,
    /// Output format
    #[arg(long, global = true, value_enum, default_value_t = Format::Table)]
    pub(crate) format: Format,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Sign in and save an access token that only your account can read
    SignIn {
        /// User name (default: ask)
        #[arg(long)]
        name: Option<String>,
        /// Read the password from standard input
        #[arg(long)]
        password_stdin: bool,
    },
    /// Sign out: revoke and delete the saved token
    SignOut,
    /// Manage access tokens for programs
    Tokens {
        #[command(subcommand)]
        command: TokensCommand,
    },
    /// Manage users
    Users {
        #[command(subcommand)]
        command: UsersCommand,
    },
    /// List changes made by users, newest first
    Audit,
    /// Show the status of the installation
    Status,
    /// List agents
    Agents,
    /// List paths with their findings
    Paths,
    /// Show one path hop by hop with its finding
    Path {
        /// Id of the path, or its last characters as `paths` shows them
        id: String,
    },
    /// Show loss and delay of a path, its member routes or a pair over time
    History(HistoryArgs),
    /// Count probes, answers and delays of a path by hop, or of a pair by direction
    Counts(CountsArgs),
    /// List alarms, newest first, show one, or acknowledge, assign, shelve, close and attach some
    Alarms(AlarmsArgs),
    /// Print what the next shift needs to know: what is open, who has it, what changed, what to watch
    HandOver(HandOverArgs),
    /// Print alarms, events and incidents as they arrive, until Ctrl-C
    Follow,
    /// Manage incidents: alarms of one cause, or a complaint
    Incidents {
        #[command(subcommand)]
        command: IncidentsCommand,
    },
    /// Manage calendars of planned work
    Calendars {
        #[command(subcommand)]
        command: CalendarsCommand,
    },
    /// List planned work with the alarms that it explains
    PlannedWork(PlannedWorkArgs),
    /// Manage rules of alarms: limits held over, severity by impact, quiet hours
    Rules {
        #[command(subcommand)]
        command: RulesCommand,
    },
    /// Manage receivers of notices: webhooks, actions, e-mail, syslog
    Receivers {
        #[command(subcommand)]
        command: ReceiversCommand,
    },
    /// List notices and their deliveries, or retry those that were given up
    Notices {
        #[command(subcommand)]
        command: NoticesCommand,
    },
    /// List checks of services by their own protocols
    Checks {
        /// Number of a check, or its id
        number: Option<NumberOrId>,
        /// Run the check now and wait for the result
        #[arg(long, requires = "number")]
        now: bool,
    },
    /// List or start throughput measurements between two agents
    Throughput(ThroughputArgs),
    /// List events of services, names, hosts and routes, newest first, or show one
    Events(EventsArgs),
    /// Show the host facts of an agent: interfaces, gateways, resolvers, neighbours
    HostFacts {
        /// Name of the agent's site
        site: String,
        #[command(flatten)]
        at: AtArgs,
    },
    /// List two-way measurements between agents, with each direction
    Pairs {
        /// Number of a pair, or its id
        number: Option<NumberOrId>,
        /// Send a voice-like stream for this time to rate voice quality
        #[arg(long, requires = "number", conflicts_with = "at", value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(10..=600))]
        voice: Option<u32>,
        #[command(flatten)]
        at: AtArgs,
    },
    /// Manage watches: paths measured more often for a limited time
    Watches {
        #[command(subcommand)]
        command: WatchesCommand,
    },
    /// Show size and growth of the database, and how long measurements are kept
    Storage,
    /// List or retry commits that judgement failed on and set aside
    SetAside {
        #[command(subcommand)]
        command: SetAsideCommand,
    },
    /// Manage planned pauses of measurement
    Suppressions {
        #[command(subcommand)]
        command: SuppressionsCommand,
    },
    /// Import owner maps
    Owners {
        #[command(subcommand)]
        command: OwnersCommand,
    },
    /// Create a one-time code for joining an agent
    JoinCode {
        /// Name of a configured site
        #[arg(long)]
        site: String,
        /// Validity in seconds
        #[arg(long, default_value_t = 3600, value_name = "SECONDS")]
        lifetime_s: u32,
    },
    /// Run the service
    Serve(ServeArgs),
    /// Write a backup of the running service into one file
    Backup(BackupArgs),
    /// Restore a backup into an empty data directory
    Restore(RestoreArgs),
    /// Check configuration files
    Config {
        #[command(subcommand)]
        command: ConfigCommand,
    },
    /// Measure one path once from this machine, without a service
    Survey {
        #[command(subcommand)]
        command: SurveyCommand,
    },
    /// Diagnose the connection to a service step by step, in half a minute
    Diagnose(DiagnoseArgs),
    /// Join, run and check the measuring agent
    Agent {
        #[command(subcommand)]
        command: AgentCommand,
    },
    /// Run a simulated internet from a scenario file on loopback
    Simulate(SimulateArgs),
    /// Fill a new installation with simulated measurements of past days
    Backfill(BackfillArgs),
    /// Run a service, a simulated internet and agents until Ctrl-C
    Demo(DemoArgs),
    /// Judge the stored log again and compare with what is recorded
    Recompute(RecomputeArgs),
    /// Measure the accuracy of localization on simulated worlds
    Accuracy {
        #[command(subcommand)]
        command: AccuracyCommand,
    },
    /// Print the OpenAPI description of the service's API
    ApiDescription,
    /// Print shell completions
    Completions {
        /// Shell
        shell: clap_complete::Shell,
    },
    /// Write manual pages
    Manual {
        /// Directory for the pages
        directory: PathBuf,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum IncidentsCommand {
    /// List incidents, newest first
    List {
        /// Show only open incidents
        #[arg(long)]
        open: bool,
        #[command(flatten)]
        during: RangeArgs,
    },
    /// Show an incident with its timeline and evidence
    Show {
        /// Number or id
        number: NumberOrId,
    },
    /// Open an incident from a complaint, with the measurements of that time
    Open {
        /// Site that reports the problem
        #[arg(long)]
        site: String,
        /// Service with the problem
        #[arg(long)]
        service: String,
        /// Start of the problem, such as 2026-01-31T14:05:00Z (default: now)
        #[arg(long, value_name = "TIME")]
        about: Option<String>,
        /// Description of the problem
        #[arg(long, default_value = "")]
        words: String,
    },
    /// Send a notice about an incident to a receiver; an action acts
    Notify {
        /// Number or id
        number: NumberOrId,
        /// Name of the receiver
        #[arg(long, value_name = "NAME")]
        receiver: String,
    },
    /// Add a note to an incident
    Note {
        /// Number or id
        number: NumberOrId,
        /// Text of the note
        text: String,
    },
    /// Close an incident
    Close {
        /// Number or id
        number: NumberOrId,
        /// Cause and action taken
        #[arg(long, default_value = "")]
        words: String,
    },
    /// Reopen a closed incident
    Reopen {
        /// Number or id
        number: NumberOrId,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum TokensCommand {
    /// List your tokens; administrators see all tokens
    List,
    /// Create a token; it is printed once
    Make {
        /// Purpose of the token
        name: String,
        /// Role: viewer, analyst or administrator (default: your own role)
        #[arg(long)]
        role: Option<Role>,
        /// Validity in days
        #[arg(long, default_value_t = 30, value_name = "DAYS")]
        lifetime_days: u16,
    },
    /// Revoke a token
    Revoke {
        /// Id
        id: String,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum UsersCommand {
    /// List users
    List,
    /// Add a user; asks for the password or reads it from standard input
    Add {
        /// Name for signing in
        name: String,
        /// Role: viewer, analyst or administrator
        #[arg(long)]
        role: Role,
    },
    /// Change a user
    #[command(group = clap::ArgGroup::new("what").required(true).multiple(true))]
    Change {
        /// Name for signing in
        name: String,
        /// Role: viewer, analyst or administrator
        #[arg(long, group = "what")]
        role: Option<Role>,
        /// false disables the user and ends all sessions of the user
        #[arg(long, group = "what", value_name = "BOOL")]
        active: Option<bool>,
        /// Set a new password; asks for it or reads it from standard input
        #[arg(long, group = "what")]
        password: bool,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum OwnersCommand {
    /// Import an owner map: CSV with the columns prefix, as_number, owner, contact
    Import {
        /// CSV file, or - for standard input
        file: PathBuf,
        /// Name of the source (default: the file name)
        #[arg(long)]
        source: Option<String>,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum ConfigCommand {
    /// Check a configuration file and print errors with line numbers
    Check {
        /// Configuration file
        file: PathBuf,
    },
}

/// Where the data of a service are.
#[derive(Debug, Args)]
pub(crate) struct InstallationArgs {
    /// Configuration file
    #[arg(long, env = "ITINERA_CONFIG", value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Data directory; overrides the configuration file
    #[arg(long, env = "ITINERA_DATA", value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// PostgreSQL URL; overrides the configuration file (default: a private cluster in the data directory)
    #[arg(long, env = "ITINERA_DATABASE", value_name = "URL", hide_env_values = true)]
    pub(crate) database: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct ServeArgs {
    #[command(flatten)]
    pub(crate) of: InstallationArgs,
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SetAsideCommand {
    /// List commits set aside, newest first
    List,
    /// Retry a commit
    Retry {
        /// Number of the commit, as `set-aside list` shows it
        commit: i64,
    },
}

#[derive(Debug, Args)]
pub(crate) struct SimulateArgs {
    /// Scenario file
    pub(crate) scenario: PathBuf,
    /// Random seed (default: random, printed at start)
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// Loopback address that receives IP packets in UDP datagrams
    #[arg(long, default_value = "127.0.0.1:7482", value_name = "HOST:PORT")]
    pub(crate) listen: SocketAddr,
    /// Run test receivers of notices: webhooks at /webhook and /action, and all that was received at /
    #[arg(long, value_name = "HOST:PORT")]
    pub(crate) webhooks: Option<SocketAddr>,
    /// Run a test mail server that keeps what it is sent
    #[arg(long, value_name = "HOST:PORT", requires = "webhooks")]
    pub(crate) mail: Option<SocketAddr>,
    /// Run a test syslog collector, by UDP and TCP
    #[arg(long, value_name = "HOST:PORT", requires = "webhooks")]
    pub(crate) syslog: Option<SocketAddr>,
    /// JSON file with the secrets of webhooks by the ids of their receivers
    #[arg(long, value_name = "FILE", requires = "webhooks")]
    pub(crate) receiver_secrets: Option<PathBuf>,
    /// Write the CA certificate of the simulated services to this file
    #[arg(long, value_name = "FILE")]
    pub(crate) authority: Option<PathBuf>,
    /// Check the file and exit
    #[arg(long)]
    pub(crate) check: bool,
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
}

#[derive(Debug, Args)]
pub(crate) struct BackfillArgs {
    /// Scenario file of the simulated internet; sites and targets as in the configuration
    #[arg(value_name = "FILE")]
    pub(crate) world: PathBuf,
    /// Range up to now in days
    #[arg(long, default_value_t = 7, value_parser = clap::value_parser!(u16).range(1..=400))]
    pub(crate) days: u16,
    /// Seconds from one round of a path to the next
    #[arg(long, default_value_t = 60, value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(1..=3_600))]
    pub(crate) interval_s: u32,
    /// Random seed (default: random, printed at the end)
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    #[command(flatten)]
    pub(crate) of: InstallationArgs,
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Data directory (default: /var/lib/itinera-demo for root, else below the home directory)
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// Delete the data of an earlier run
    #[arg(long)]
    pub(crate) fresh: bool,
    /// Random seed (default: random, printed at start)
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// Begin with measurements of so many days, which takes a few minutes for each
    #[arg(long, value_name = "DAYS", value_parser = clap::value_parser!(u16).range(1..=400))]
    pub(crate) backfill_days: Option<u16>,
    /// Use free ports instead of 7480 to 7482
    #[arg(long)]
    pub(crate) any_port: bool,
    /// Directory with another world: world.toml, owners.csv and service.toml, as
    /// `itinera accuracy case --world` writes them
    #[arg(long, value_name = "DIR")]
    pub(crate) world: Option<PathBuf>,
    /// Stop when standard input ends, as it does when the parent process is gone
    #[arg(long, hide = true)]
    pub(crate) stop_with_parent: bool,
}

#[derive(Debug, Args)]
pub(crate) struct RecomputeArgs {
    #[command(flatten)]
    pub(crate) of: DatabaseArgs,
    /// First day (UTC) to recompute, as 2026-03-09 (default: the first that is kept)
    #[arg(long, value_name = "DAY", value_parser = day)]
    pub(crate) from: Option<Date>,
}

#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct DatabaseArgs {
    /// URL of the database
    #[arg(long, env = "ITINERA_DATABASE", value_name = "URL", hide_env_values = true)]
    pub(crate) database: Option<String>,
    /// Data directory of a running service
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
}

fn day(text: &str) -> Result<Date, String> {
    let wrong = |_| "a day is written as 2026-03-09".to_owned();
    Date::parse(text, &Iso8601::DATE).map_err(wrong)
}
