//! Arguments of `itinera receivers` and `itinera notices`.

use super::NumberOrId;
use clap::{ArgGroup, Args, Subcommand};
use std::path::PathBuf;

/// Receivers of notices.
#[derive(Debug, Subcommand)]
pub(crate) enum ReceiversCommand {
    /// List receivers with their routes
    List,
    /// Add a receiver
    Add(Box<NewReceiverArgs>),
    /// Replace a receiver by a JSON file, as `list --format json` prints one
    Change {
        /// Name or id
        name: String,
        /// The file; `-` reads standard input
        #[arg(long, value_name = "FILE")]
        file: PathBuf,
        /// Make a new secret
        #[arg(long)]
        new_secret: bool,
    },
    /// Send notices to a receiver again
    Enable {
        /// Name or id
        name: String,
    },
    /// Send no notices to a receiver
    Disable {
        /// Name or id
        name: String,
    },
    /// Remove a receiver; what waits for it is not sent
    Remove {
        /// Name or id
        name: String,
    },
    /// Send a test notice to a receiver and wait for the result
    Test {
        /// Name or id
        name: String,
    },
}

/// A receiver to add, with one route; from a file where it needs more.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("channel").required(true).multiple(false))]
pub(crate) struct NewReceiverArgs {
    /// Name
    #[arg(required_unless_present = "file", conflicts_with = "file")]
    pub(crate) name: Option<String>,
    /// Read the receiver from a JSON file; `-` reads standard input
    #[arg(long, group = "channel", value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// Send CloudEvents to this URL
    #[arg(long, group = "channel", value_name = "URL")]
    pub(crate) webhook: Option<String>,
    /// Request an action from this URL when alarms are raised, and record its answer
    #[arg(long, group = "channel", value_name = "URL")]
    pub(crate) action: Option<String>,
    /// Send e-mail to these addresses
    #[arg(long, group = "channel", value_name = "ADDRESS", value_delimiter = ',')]
    pub(crate) mail: Vec<String>,
    /// Send syslog messages to this host
    #[arg(long, group = "channel", value_name = "HOST:PORT")]
    pub(crate) syslog: Option<String>,
    /// Transport of syslog messages
    #[arg(long, default_value = "udp", requires = "syslog", value_parser = ["udp", "tcp", "tls"])]
    pub(crate) transport: String,
    /// Requests of an action within an hour, at most
    #[arg(long, default_value_t = 6, requires = "action", value_name = "COUNT")]
    pub(crate) per_hour: u16,
    /// Send only notices of at least this severity
    #[arg(long, value_parser = ["critical", "major", "minor"])]
    pub(crate) severity: Option<String>,
    /// Send only notices about these sites
    #[arg(long, value_name = "NAME")]
    pub(crate) site: Vec<String>,
    /// Send only notices about these services
    #[arg(long, value_name = "NAME")]
    pub(crate) service: Vec<String>,
    /// Send only notices about sites or services with these tags
    #[arg(long, value_name = "TAG")]
    pub(crate) tag: Vec<String>,
    /// Send only within these hours, such as 08:00-17:00; they may end on the next day
    #[arg(long, value_name = "FROM-TO", requires = "zone")]
    pub(crate) hours: Option<String>,
    /// Days on which the hours begin, such as monday,friday (default: every day)
    #[arg(long, value_name = "DAYS", value_delimiter = ',', requires = "hours")]
    pub(crate) days: Vec<String>,
    /// Time zone of the hours, such as Europe/London
    #[arg(long, value_name = "ZONE", requires = "hours")]
    pub(crate) zone: Option<String>,
}

/// Notices.
#[derive(Debug, Subcommand)]
pub(crate) enum NoticesCommand {
    /// List notices with their deliveries, newest first
    List {
        /// Show only notices with a delivery in this state
        #[arg(long, value_parser = ["waiting", "sent", "failed", "skipped"])]
        state: Option<String>,
        /// Show only notices about this incident
        #[arg(long, value_name = "NUMBER")]
        incident: Option<NumberOrId>,
        /// Notices shown, at most
        #[arg(long, default_value_t = 50, value_name = "COUNT", value_parser = clap::value_parser!(u16).range(1..=500))]
        limit: u16,
    },
    /// Show all that a notice says
    Show {
        /// Number
        number: i64,
    },
    /// Try deliveries again that were given up
    Retry {
        /// Only those of this notice
        #[arg(long, value_name = "NUMBER")]
        notice: Option<i64>,
        /// Only those to this receiver
        #[arg(long, value_name = "NAME")]
        receiver: Option<String>,
    },
}
