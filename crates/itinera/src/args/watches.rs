//! Arguments of `itinera watches` and `itinera suppressions`.

use super::NumberOrId;
use clap::Subcommand;

/// Watches.
#[derive(Debug, Subcommand)]
pub(crate) enum WatchesCommand {
    /// List watches, newest first
    List,
    /// Measure a path more often for a limited time
    Start {
        /// Id of the path, or its last characters as `paths` shows them
        path: String,
        /// Interval between rounds in seconds
        #[arg(long, default_value_t = 1.0, value_name = "SECONDS")]
        every: f64,
        /// Duration in minutes
        #[arg(long = "for", default_value_t = 60, value_name = "MINUTES")]
        minutes: u32,
        /// End time, such as 2026-01-31T14:05:00Z
        #[arg(long, value_name = "TIME", conflicts_with = "minutes")]
        until: Option<String>,
        /// Reason
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// Show a watch with its results
    Show {
        /// Number or id
        number: NumberOrId,
    },
    /// Pause a watch: the path is measured at its usual interval
    Pause {
        /// Number or id
        number: NumberOrId,
    },
    /// Resume a paused watch
    Resume {
        /// Number or id
        number: NumberOrId,
    },
    /// End a watch now
    End {
        /// Number or id
        number: NumberOrId,
    },
    /// Attach a watch to an incident
    Attach {
        /// Number or id
        number: NumberOrId,
        /// Number of the incident, or its id
        #[arg(long, value_name = "NUMBER")]
        incident: NumberOrId,
    },
}

/// Suppressions.
#[derive(Debug, Subcommand)]
pub(crate) enum SuppressionsCommand {
    /// List current and future pauses
    List,
    /// Plan a pause of measurement: everywhere, for one site or for one target
    Add {
        /// Pause only measurements from this site
        #[arg(long)]
        site: Option<String>,
        /// Pause only measurements to this target
        #[arg(long)]
        target: Option<String>,
        /// Start time, such as 2026-01-31T14:05:00Z (default: now)
        #[arg(long, value_name = "TIME")]
        from: Option<String>,
        /// End time
        #[arg(long, value_name = "TIME")]
        until: String,
        /// Reason
        #[arg(long)]
        reason: String,
    },
    /// End a pause now, or cancel a future one
    Lift {
        /// Number or id
        number: NumberOrId,
    },
}
