//! Arguments of `itinera rules`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Rules of alarms.
#[derive(Debug, Subcommand)]
pub(crate) enum RulesCommand {
    /// Show the rules, in order
    Show {
        /// Number of the version (default: the newest)
        #[arg(id = "number", value_name = "VERSION")]
        version: Option<i64>,
    },
    /// List saved versions
    Versions,
    /// Try rules on stored findings: count the alarms that they would have raised
    Try {
        /// File with all rules, in JSON or, named *.toml, in TOML; `-` reads JSON from standard input
        file: PathBuf,
        /// Days up to now
        #[arg(long, default_value_t = 7, value_parser = clap::value_parser!(u16).range(1..=90))]
        days: u16,
    },
    /// Save rules as the next version
    Save {
        /// File with all rules, in JSON or, named *.toml, in TOML; `-` reads JSON from standard input
        file: PathBuf,
        #[command(flatten)]
        change: RulesChange,
    },
    /// Add a rule at the end, or replace the rule of this name where it is
    Set(Box<SetRuleArgs>),
    /// Remove a rule
    Remove {
        /// Its name
        name: String,
        #[command(flatten)]
        change: RulesChange,
    },
    /// Save the rules of an earlier version as the next version
    Restore {
        /// Number of the version; 0 has no rules
        #[arg(id = "number", value_name = "VERSION")]
        version: i64,
        #[command(flatten)]
        change: RulesChange,
    },
}

/// A change of rules.
#[derive(Debug, Args)]
pub(crate) struct RulesChange {
    /// What is changed, and why
    #[arg(long, default_value = "", value_name = "TEXT", hide_default_value = true)]
    pub(crate) text: String,
}

/// A share such as `0.01` or `1%`.
fn ratio_of(text: &str) -> Result<f64, String> {
    let (number, scale) = match text.strip_suffix('%') {
        Some(per_cent) => (per_cent, 0.01),
        None => (text, 1.0),
    };
    let ratio = number.trim().parse::<f64>().map(|number| number * scale);
    let ratio = ratio.map_err(|_| format!("{text:?} is no share such as 0.01 or 1%"))?;
    if (0.0..=1.0).contains(&ratio) { Ok(ratio) } else { Err("a share is at most 100%".to_owned()) }
}

/// One rule.
#[derive(Debug, Args)]
pub(crate) struct SetRuleArgs {
    /// Name
    pub(crate) name: String,
    /// Apply it to paths from these sites
    #[arg(long, value_name = "NAME")]
    pub(crate) site: Vec<String>,
    /// Apply it to paths to these services
    #[arg(long, value_name = "NAME")]
    pub(crate) service: Vec<String>,
    /// Apply it to sites or services with these tags
    #[arg(long, value_name = "TAG")]
    pub(crate) tag: Vec<String>,
    /// Apply it where an owner with one of these AS numbers is at fault
    #[arg(long, value_name = "NUMBER")]
    pub(crate) owner: Vec<u32>,
    /// Raise alarms from this loss, such as 0.01 or 1%
    #[arg(long, value_name = "SHARE", value_parser = ratio_of)]
    pub(crate) loss: Option<f64>,
    /// Raise alarms from this added delay
    #[arg(long, value_name = "MS")]
    pub(crate) added_delay: Option<u32>,
    /// Raise alarms from this confidence, such as 0.95 or 95%
    #[arg(long, value_name = "SHARE", value_parser = ratio_of)]
    pub(crate) confidence: Option<f64>,
    /// Raise alarms after so many windows of ten seconds over the limit
    #[arg(long, value_name = "WINDOWS")]
    pub(crate) hold: Option<u32>,
    /// Clear alarms after so many windows of ten seconds without it
    #[arg(long, value_name = "WINDOWS")]
    pub(crate) clear: Option<u32>,
    /// Give alarms at least this severity
    #[arg(long, value_parser = ["critical", "major", "minor"])]
    pub(crate) least: Option<String>,
    /// Give them that severity from so many sites
    #[arg(long, value_name = "COUNT", requires = "least")]
    pub(crate) from_sites: Option<u32>,
    /// Give them that severity from so many services
    #[arg(long, value_name = "COUNT", requires = "least")]
    pub(crate) from_services: Option<u32>,
    /// Give them that severity from so many paths
    #[arg(long, value_name = "COUNT", requires = "least")]
    pub(crate) from_paths: Option<u32>,
    /// Give alarms at most this severity
    #[arg(long, value_parser = ["critical", "major", "minor"])]
    pub(crate) most: Option<String>,
    /// Shelve alarms that are raised within these hours, such as 22:00-06:00
    #[arg(long, value_name = "FROM-TO", requires = "zone")]
    pub(crate) quiet: Option<String>,
    /// Days on which the quiet hours begin, such as monday,friday (default: every day)
    #[arg(long, value_name = "DAYS", value_delimiter = ',', requires = "quiet")]
    pub(crate) days: Vec<String>,
    /// Time zone of the quiet hours, such as Europe/London
    #[arg(long, value_name = "ZONE", requires = "quiet")]
    pub(crate) zone: Option<String>,
    /// Shelve only alarms of at most this severity
    #[arg(long, value_parser = ["critical", "major", "minor"], requires = "quiet")]
    pub(crate) quiet_most: Option<String>,
    /// Put it before all other rules
    #[arg(long)]
    pub(crate) first: bool,
    /// Only try the changed rules on the findings of so many days; save nothing
    #[arg(long, value_name = "DAYS", value_parser = clap::value_parser!(u16).range(1..=90))]
    pub(crate) only_try: Option<u16>,
    #[command(flatten)]
    pub(crate) change: RulesChange,
}
