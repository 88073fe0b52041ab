//! Arguments of `itinera backup` and `itinera restore`.

use clap::Args;
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct BackupArgs {
    /// File to write; it holds the authority's key, and only your account can read it
    pub(crate) file: PathBuf,
    /// Replace the file if it exists
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Configuration file of the service
    #[arg(long, env = "ITINERA_CONFIG", value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// Data directory of the running service; overrides the configuration file
    #[arg(long, env = "ITINERA_DATA", value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// PostgreSQL URL; overrides the configuration file (default: the private cluster in the data directory)
    #[arg(long, env = "ITINERA_DATABASE", value_name = "URL", hide_env_values = true)]
    pub(crate) database: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct RestoreArgs {
    /// File that `itinera backup` wrote
    pub(crate) file: PathBuf,
    /// Data directory to make; it must be empty or absent
    #[arg(long, value_name = "DIR")]
    pub(crate) data: PathBuf,
    /// URL of an empty PostgreSQL database (default: a new private cluster in the data directory)
    #[arg(long, value_name = "URL")]
    pub(crate) database: Option<String>,
}
