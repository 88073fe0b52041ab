//! `itinera backup` and `itinera restore`.

use crate::args::{BackupArgs, RestoreArgs};
use crate::client::show::utc;
use crate::exit::{Code, Failure};
use crate::output::Output;
use crate::serve;
use indicatif::{DecimalBytes, ProgressBar, ProgressStyle};
use itinera_service::Config;
use itinera_service::backup::{self, BackupError};
use itinera_store::cluster::Cluster;

/// What a failure means for the exit code.
fn failure(error: BackupError) -> Failure {
    let code = match error {
        BackupError::Damaged { .. } | BackupError::TooNew { .. } => Code::BadFile,
        BackupError::Exists(_)
        | BackupError::DirectoryNotEmpty(_)
        | BackupError::DatabaseNotEmpty => Code::Refused,
        BackupError::Store(_) => Code::Unreachable,
        _ => Code::Failed,
    };
    Failure::new(code, error)
}

/// A bar on standard error, where that is a terminal.
fn bar(template: &str, length: Option<u64>) -> ProgressBar {
    let bar = ProgressBar::no_length();
    if let Some(length) = length {
        bar.set_length(length);
    }
    bar.with_style(
        ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar()),
    )
}

pub(crate) async fn backup(args: &BackupArgs, output: &Output) -> Result<(), Failure> {
    let Config { data, database, .. } = serve::configured(&args.of)?;
    let url = database.unwrap_or_else(|| Cluster::url_in(&data));
    let bar = bar("{elapsed_precise}  {bytes} of the database read, {bytes_per_sec}", None);
    let hears = bar.clone();
    let made = backup::backup(&data, &url, &args.file, args.overwrite, move |bytes| {
        hears.set_position(bytes);
    });
    let made = made.await;
    bar.finish_and_clear();
    let made = made.map_err(|error| match error {
        BackupError::Store(_) => failure(error).context(
            "cannot read the database: the service must be running (see --data, --database, --config)",
        ),
        error => failure(error),
    })?;
    if output.is_json() {
        return output.json(&made);
    }
    output.line(&format!(
        "Backup of {} in {}: {}, from {} of the database.\n\
         It holds the authority's key: keep it as you keep a password.",
        utc(made.about.made_at),
        args.file.display(),
        DecimalBytes(made.bytes),
        DecimalBytes(made.database_bytes),
    ))
}

pub(crate) async fn restore(args: &RestoreArgs, output: &Output) -> Result<(), Failure> {
    let size = std::fs::metadata(&args.file).map_err(|error| {
        Failure::new(Code::BadFile, error).context(format!("cannot read {}", args.file.display()))
    })?;
    // The file is checked before it is restored: it is read twice.
    let bar = bar("{wide_bar} {percent} %, {eta} left", Some(size.len() * 2));
    let hears = bar.clone();
    let restored =
        backup::restore(&args.file, &args.data, args.database.as_deref(), move |bytes| {
            hears.set_position(bytes);
        });
    let restored = restored.await;
    bar.finish_and_clear();
    let restored = restored.map_err(failure)?;
    if output.is_json() {
        return output.json(&restored);
    }
    let database = if args.database.is_some() { " --database URL" } else { "" };
    output.line(&format!(
        "Restored {} rounds and {} agents from the backup of {}.\n\
         Start the service: itinera serve --data {}{database} --config FILE",
        restored.rounds,
        restored.agents,
        utc(restored.about.made_at),
        args.data.display()
    ))
}
