//! Arguments of `itinera backup` and `itinera restore`.

use super::InstallationArgs;
use clap::Args;
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct BackupArgs {
    /// File to write; it holds the authority's key, and only your account can read it
    pub(crate) file: PathBuf,
    /// Replace the file if it exists
    #[arg(long)]
    pub(crate) overwrite: bool,
    #[command(flatten)]
    pub(crate) of: InstallationArgs,
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
