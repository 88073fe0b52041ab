//! Backup of an installation into one file, and restore from it.
//!
//! A backup holds the database as a consistent snapshot, and the authority's key and certificate.
//! Agents of the installation accept a restored service without joining again.

mod archive;

use archive::{MAX_PART, Writer};
use itinera_store::cluster::{Cluster, ClusterError};
use itinera_store::dump::{Dump, Load};
use itinera_store::{Store, StoreError, applied_migrations, is_empty, known_migrations};
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use time::OffsetDateTime;

/// Version of the format.
const FORMAT: u32 = 1;
/// The first part: what the backup is.
const ABOUT: &str = "backup.json";
/// Files of the data directory that are kept.
const AUTHORITY: [&str; 2] = ["authority.key", "authority.crt"];
/// Parts of the database, numbered.
const DATABASE: &str = "database/";

/// Why a backup or a restore failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BackupError {
    /// A file operation failed.
    #[error("cannot {doing} {path:?}")]
    File {
        /// What was tried.
        doing: &'static str,
        /// On what.
        path: PathBuf,
        /// Why it failed.
        #[source]
        source: io::Error,
    },
    /// The file exists.
    #[error("{0:?} exists: choose another name, or use --overwrite")]
    Exists(PathBuf),
    /// There is no database of Itinera.
    #[error("the database is not one of Itinera: check --data, --database or --config")]
    NotItinera,
    /// The file is not a complete backup.
    #[error("the backup is unusable: {reason}. Nothing was restored")]
    Damaged {
        /// What is wrong with it.
        reason: String,
    },
    /// A newer program wrote it.
    #[error("the backup needs a newer Itinera (it was made by {made_by}). Nothing was restored")]
    TooNew {
        /// The version that wrote it.
        made_by: String,
    },
    /// The directory has something in it.
    #[error("{0:?} is not empty: restore into a new directory")]
    DirectoryNotEmpty(PathBuf),
    /// The database has something in it.
    #[error("the database is not empty: restore into a new one")]
    DatabaseNotEmpty,
    /// A given database was filled in part.
    #[error("the restore failed, and the database holds a part of it: drop it and make a new one")]
    FilledInPart(#[source] Box<Self>),
    /// PostgreSQL or one of its programs failed.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The database failed.
    #[error("the database failed")]
    Store(#[from] StoreError),
    /// The work was cut off.
    #[error("the work was cut off")]
    CutOff,
}

fn file(doing: &'static str, path: &Path) -> impl FnOnce(io::Error) -> BackupError {
    let path = path.to_owned();
    move |source| BackupError::File { doing, path, source }
}

/// What a backup is, as its first part says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct About {
    format: u32,
    /// Version of Itinera that wrote it.
    pub made_by: String,
    /// When its snapshot was taken.
    #[serde(with = "time::serde::rfc3339")]
    pub made_at: OffsetDateTime,
    /// Changes of the schema that the database has.
    migrations: Vec<String>,
}

/// A finished backup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Made {
    /// What it is.
    pub about: About,
    /// Size of the file in bytes.
    pub bytes: u64,
    /// Size of the database's stream in bytes.
    pub database_bytes: u64,
}

/// A finished restore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Restored {
    /// The backup.
    pub about: About,
    /// Rounds in the database.
    pub rounds: i64,
    /// Agents in the database.
    pub agents: usize,
}

/// Runs blocking work off the async runtime.
async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, BackupError> + Send + 'static,
) -> Result<T, BackupError> {
    tokio::task::spawn_blocking(work).await.map_err(|_| BackupError::CutOff)?
}

/// Writes a backup of the installation in `data` with the database of `url`, while it runs.
/// `progress` hears of the bytes of the database read so far.
///
/// # Errors
/// [`BackupError`] saying what to do about it. No file is left, or the old one.
pub async fn backup(
    data: &Path,
    url: &str,
    to: &Path,
    overwrite: bool,
    progress: impl FnMut(u64) + Send + 'static,
) -> Result<Made, BackupError> {
    if to.exists() && !overwrite {
        return Err(BackupError::Exists(to.to_owned()));
    }
    let migrations = applied_migrations(url).await?;
    if migrations.is_empty() {
        return Err(BackupError::NotItinera);
    }
    let made_by = env!("CARGO_PKG_VERSION").to_owned();
    let about = About { format: FORMAT, made_by, made_at: OffsetDateTime::now_utc(), migrations };
    let (data, url, to) = (data.to_owned(), url.to_owned(), to.to_owned());
    blocking(move || write(about, &data, &url, &to, progress)).await
}

fn write(
    about: About,
    data: &Path,
    url: &str,
    to: &Path,
    mut progress: impl FnMut(u64),
) -> Result<Made, BackupError> {
    let parent = to.parent().filter(|parent| !parent.as_os_str().is_empty());
    let parent = parent.unwrap_or_else(|| Path::new("."));
    let unwritable = || file("write", to);
    // Readable by this account only, and never a part of a backup under its name.
    let draft = tempfile::NamedTempFile::new_in(parent).map_err(unwritable())?;
    let mut writer = Writer::new(BufWriter::new(draft)).map_err(unwritable())?;
    let words = serde_json::to_vec(&about).map_err(io::Error::other).map_err(unwritable())?;
    writer.add(ABOUT, &words).map_err(unwritable())?;
    for name in AUTHORITY {
        let path = data.join(name);
        let content = fs::read(&path).map_err(file("read", &path))?;
        writer.add(name, &content).map_err(unwritable())?;
    }
    let mut dump = Dump::start(url)?;
    let mut database_bytes = 0;
    for number in 0u64.. {
        let mut content = Vec::new();
        let read = (&mut dump).take(MAX_PART).read_to_end(&mut content);
        read.map_err(file("read the database for", to))?;
        if content.is_empty() {
            break;
        }
        writer.add(&format!("{DATABASE}{number:08}"), &content).map_err(unwritable())?;
        database_bytes += content.len() as u64;
        progress(database_bytes);
    }
    dump.finish()?;
    let written = writer.finish().map_err(unwritable())?;
    let draft = written.into_inner().map_err(io::IntoInnerError::into_error);
    let draft = draft.map_err(unwritable())?;
    draft.as_file().sync_all().map_err(unwritable())?;
    let bytes = draft.as_file().metadata().map_err(unwritable())?.len();
    draft.persist(to).map_err(|error| file("write", to)(error.error))?;
    File::open(parent).and_then(|parent| parent.sync_all()).map_err(unwritable())?;
    Ok(Made { about, bytes, database_bytes })
}

/// Restores a backup into the directory `data`, which must be empty or absent, and into the database
/// of `url`, or a new private cluster in the directory. The whole file is checked before anything is
/// written. `progress` hears of the bytes of the file read so far, which is read twice.
///
/// # Errors
/// [`BackupError`] saying what to do about it. The directory is left as it was; a given database is
/// left in part after [`BackupError::FilledInPart`].
pub async fn restore(
    from: &Path,
    data: &Path,
    url: Option<&str>,
    progress: impl Fn(u64) + Clone + Send + 'static,
) -> Result<Restored, BackupError> {
    let existed = data.exists();
    if existed && fs::read_dir(data).map_err(file("read", data))?.next().is_some() {
        return Err(BackupError::DirectoryNotEmpty(data.to_owned()));
    }
    if let Some(url) = url
        && !is_empty(url).await?
    {
        return Err(BackupError::DatabaseNotEmpty);
    }
    let (path, heard) = (from.to_owned(), progress.clone());
    let (about, authority) = blocking(move || check(&path, &heard)).await?;
    fs::create_dir_all(data).map_err(file("make", data))?;
    let restored = fill(from, data, url, authority, progress).await;
    if restored.is_err() {
        // What is left of it is of no use, and would refuse the next attempt.
        let _left = clear(data, existed);
    }
    let (rounds, agents) = restored?;
    Ok(Restored { about, rounds, agents })
}

fn clear(data: &Path, existed: bool) -> io::Result<()> {
    if !existed {
        return fs::remove_dir_all(data);
    }
    for entry in fs::read_dir(data)? {
        let path = entry?.path();
        if path.is_dir() { fs::remove_dir_all(path)? } else { fs::remove_file(path)? }
    }
    Ok(())
}

/// The files of the authority, by name.
type Authority = Vec<(String, Vec<u8>)>;

/// A file that tells how much of it was read.
struct Counted<'a, F> {
    file: File,
    bytes: u64,
    progress: &'a F,
}

impl<F: Fn(u64)> Read for Counted<'_, F> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.file.read(buffer)?;
        self.bytes += read as u64;
        (self.progress)(self.bytes);
        Ok(read)
    }
}

fn open<'a, F: Fn(u64)>(
    from: &Path,
    before: u64,
    progress: &'a F,
) -> Result<BufReader<Counted<'a, F>>, BackupError> {
    let file = File::open(from).map_err(file("read", from))?;
    Ok(BufReader::with_capacity(1 << 20, Counted { file, bytes: before, progress }))
}

/// Reads a whole backup: what it is, and the authority's files.
fn check(from: &Path, progress: &impl Fn(u64)) -> Result<(About, Authority), BackupError> {
    let damaged = |reason: &str| BackupError::Damaged { reason: reason.to_owned() };
    let mut about: Option<About> = None;
    let mut authority = Authority::new();
    let mut database_bytes = 0;
    archive::read(open(from, 0, progress)?, |name, content| {
        if name == ABOUT {
            let read = serde_json::from_slice(content);
            about = Some(read.map_err(|_| damaged("it does not say what it is"))?);
        } else if AUTHORITY.contains(&name) {
            authority.push((name.to_owned(), content.to_vec()));
        } else if name.starts_with(DATABASE) {
            database_bytes += content.len();
        }
        Ok(())
    })?;
    let about = about.ok_or_else(|| damaged("it is no backup of Itinera"))?;
    let known = known_migrations();
    if about.format != FORMAT || about.migrations.iter().any(|step| !known.contains(step)) {
        return Err(BackupError::TooNew { made_by: about.made_by });
    }
    if authority.len() != AUTHORITY.len() || database_bytes == 0 {
        return Err(damaged("the authority or the database is missing"));
    }
    Ok((about, authority))
}

/// Fills the directory and the database; gives the rounds and agents there.
async fn fill(
    from: &Path,
    data: &Path,
    url: Option<&str>,
    authority: Authority,
    progress: impl Fn(u64) + Send + 'static,
) -> Result<(i64, usize), BackupError> {
    let (cluster, url) = match url {
        Some(url) => (None, url.to_owned()),
        None => (Some(Cluster::start(data).await?), Cluster::url_in(data)),
    };
    let filled = fill_database(from, &url, progress).await;
    let counts = match cluster {
        Some(cluster) => {
            let stopped = cluster.stop().await;
            let counts = filled?;
            stopped?;
            counts
        }
        None => filled.map_err(|error| BackupError::FilledInPart(Box::new(error)))?,
    };
    for (name, content) in authority {
        let path = data.join(name);
        crate::secret_file::write(&path, &content).map_err(file("write", &path))?;
    }
    Ok(counts)
}

async fn fill_database(
    from: &Path,
    url: &str,
    progress: impl Fn(u64) + Send + 'static,
) -> Result<(i64, usize), BackupError> {
    let (path, of) = (from.to_owned(), url.to_owned());
    blocking(move || load(&path, &of, &progress)).await?;
    let store = Store::open(url).await?;
    store.begin_after_restore().await?;
    let rounds = store.status_counts().await?.rounds;
    let agents = store.agents().await?.len();
    store.close().await?;
    Ok((rounds, agents))
}

fn load(from: &Path, url: &str, progress: &impl Fn(u64)) -> Result<(), BackupError> {
    let mut load = Load::start(url)?;
    let before = fs::metadata(from).map_err(file("read", from))?.len();
    let sent = archive::read(open(from, before, progress)?, |name, content| {
        if name.starts_with(DATABASE) {
            load.write_all(content).map_err(file("restore", from))?;
        }
        Ok(())
    });
    // A program that ended early says why; the broken pipe does not.
    let finished = load.finish();
    match sent {
        Err(error @ BackupError::Damaged { .. }) => Err(error),
        sent => finished.map_err(BackupError::from).and(sent),
    }
}
