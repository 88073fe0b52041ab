//! Arguments of `itinera alarms`.

use super::number_or_id::NumberOrId;
use super::range::{RangeArgs, time_of};
use clap::{ArgGroup, Args, Subcommand};
use time::OffsetDateTime;

/// Alarms that are shown, or what is done with some.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct AlarmsArgs {
    #[command(subcommand)]
    pub(crate) action: Option<AlarmAction>,
    #[command(flatten)]
    pub(crate) shown: ShownAlarms,
}

/// Which alarms are shown.
#[derive(Debug, Args)]
pub(crate) struct ShownAlarms {
    /// Number of the alarm as the list shows it, or its id
    #[arg(conflicts_with_all = ["open", "operator_state", "severity", "class", "assignee", "unassigned"])]
    pub(crate) number: Option<NumberOrId>,
    /// Show only open alarms
    #[arg(long)]
    pub(crate) open: bool,
    /// Show only alarms in these operator states
    #[arg(long, value_name = "STATE", value_delimiter = ',',
        value_parser = ["none", "ack", "shelved", "closed"])]
    pub(crate) operator_state: Vec<String>,
    /// Show only alarms of these severities
    #[arg(long, value_name = "SEVERITY", value_delimiter = ',',
        value_parser = ["critical", "major", "minor"])]
    pub(crate) severity: Vec<String>,
    /// Show only alarms of paths, of events, or of the service itself
    #[arg(long, value_name = "CLASS", value_delimiter = ',',
        value_parser = ["path", "event", "service"])]
    pub(crate) class: Vec<String>,
    /// Show only alarms assigned to this user
    #[arg(long, value_name = "NAME", conflicts_with = "unassigned")]
    pub(crate) assignee: Option<String>,
    /// Show only alarms that are not assigned
    #[arg(long)]
    pub(crate) unassigned: bool,
    #[command(flatten)]
    pub(crate) during: RangeArgs,
}

/// The alarms that something is done with.
#[derive(Debug, Args)]
pub(crate) struct SomeAlarms {
    /// Numbers or ids
    #[arg(required = true, value_name = "NUMBER")]
    pub(crate) numbers: Vec<NumberOrId>,
    /// Note on this action
    #[arg(long, default_value = "")]
    pub(crate) text: String,
}

/// What is done with alarms.
#[derive(Debug, Subcommand)]
pub(crate) enum AlarmAction {
    /// Acknowledge alarms
    Ack(SomeAlarms),
    /// Withdraw the acknowledgement of alarms
    Unack(SomeAlarms),
    /// Assign alarms to a user
    #[command(group = ArgGroup::new("assignee").required(true).multiple(false))]
    Assign {
        #[command(flatten)]
        of: SomeAlarms,
        /// Name of the user
        #[arg(long, group = "assignee", value_name = "NAME")]
        to: Option<String>,
        /// Assign them to yourself
        #[arg(long, group = "assignee")]
        me: bool,
        /// Take the assignment back
        #[arg(long, group = "assignee")]
        none: bool,
    },
    /// Shelve alarms for a time: lists of open work leave them out
    #[command(group = ArgGroup::new("time").required(true).multiple(false))]
    Shelve {
        /// Numbers or ids
        #[arg(required = true, value_name = "NUMBER")]
        numbers: Vec<NumberOrId>,
        /// Duration in minutes
        #[arg(long = "for", group = "time", value_name = "MINUTES")]
        minutes: Option<u32>,
        /// End time, such as 2026-01-31T14:05:00Z
        #[arg(long, group = "time", value_parser = time_of, value_name = "TIME")]
        until: Option<OffsetDateTime>,
        /// Reason
        #[arg(long)]
        reason: String,
    },
    /// Unshelve alarms before that time
    Unshelve(SomeAlarms),
    /// Close alarms; an alarm that is raised again, or with a higher severity, reopens
    Close(SomeAlarms),
    /// Reopen closed alarms
    Reopen(SomeAlarms),
    /// Attach alarms to an incident
    Attach {
        #[command(flatten)]
        of: SomeAlarms,
        /// Number of the incident, or its id
        #[arg(long, value_name = "NUMBER")]
        incident: NumberOrId,
    },
}
