//! Arguments of `itinera calendars` and `itinera planned-work`.

use super::range::time_of;
use clap::{ArgGroup, Args, Subcommand};
use std::path::PathBuf;
use time::OffsetDateTime;

/// Calendars of planned work.
#[derive(Debug, Subcommand)]
pub(crate) enum CalendarsCommand {
    /// List calendars
    List,
    /// Save a calendar in iCalendar format, in place of an earlier one of this name
    #[command(group = ArgGroup::new("source").required(true).multiple(false))]
    Save {
        /// Name
        name: String,
        /// Read it from a file; `-` reads standard input
        #[arg(long, group = "source", value_name = "FILE")]
        file: Option<PathBuf>,
        /// Fetch it from a URL every 15 minutes
        #[arg(long, group = "source", value_name = "URL")]
        url: Option<String>,
        /// Site of its work, where an event names none
        #[arg(long, value_name = "NAME")]
        site: Option<String>,
        /// AS number of the owner that does its work, where an event names none
        #[arg(long, value_name = "NUMBER")]
        owner: Option<u32>,
        /// Time zone of times without one
        #[arg(long, default_value = "UTC", value_name = "ZONE")]
        zone: String,
    },
    /// Remove a calendar with its planned work
    Remove {
        /// Name
        name: String,
    },
}

/// Which planned work.
#[derive(Debug, Args)]
pub(crate) struct PlannedWorkArgs {
    /// Start of the range (default: a day ago)
    #[arg(long, value_parser = time_of, value_name = "TIME")]
    pub(crate) from: Option<OffsetDateTime>,
    /// End of the range (default: 14 days after the start)
    #[arg(long, value_parser = time_of, value_name = "TIME")]
    pub(crate) to: Option<OffsetDateTime>,
}
