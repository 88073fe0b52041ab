//! A private PostgreSQL cluster in a data directory, run as a child process.
//!
//! Reached by a Unix socket inside the directory and by nothing else; run with data checksums,
//! as the unprivileged account `postgres` when the caller is root, which PostgreSQL itself
//! refuses to be.

use rustix::process::{Pid, Signal, kill_process};
use std::fs::{self, File, TryLockError};
use std::io;
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};
use std::time::Duration;
use tokio::process::Child;
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep};

const ACCOUNT: &str = "postgres";
/// The longest path a Unix socket may have (unix(7): 108 bytes with the final NUL).
const MAX_SOCKET_PATH: usize = 107;
const START_LIMIT: Duration = Duration::from_secs(60);
const STOP_LIMIT: Duration = Duration::from_secs(20);

/// Why the private cluster does not run.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ClusterError {
    /// PostgreSQL's server programs are not installed.
    #[error(
        "PostgreSQL's server programs are missing: apt-get install postgresql, or set a database URL"
    )]
    NotInstalled,
    /// There is no account to run it as.
    #[error("there is no account {ACCOUNT:?} to run PostgreSQL as: apt-get install postgresql")]
    NoAccount,
    /// The directory's path is too long for a socket in it.
    #[error(
        "{path:?} is too long a path for a socket in it ({MAX_SOCKET_PATH} bytes at most): choose a shorter data directory"
    )]
    PathTooLong {
        /// The socket's path.
        path: PathBuf,
    },
    /// The account cannot reach the directory.
    #[error(
        "account {ACCOUNT:?} cannot reach {path:?}: choose a data directory all of whose parents it may enter"
    )]
    Unreachable {
        /// The directory.
        path: PathBuf,
    },
    /// The directory was made by another major version.
    #[error("the data directory was made by PostgreSQL {found}, whose programs are not installed")]
    OtherVersion {
        /// The version that made it.
        found: String,
    },
    /// A file operation failed.
    #[error("{doing} {path:?}")]
    File {
        /// What was tried.
        doing: &'static str,
        /// On what.
        path: PathBuf,
        /// Why it failed.
        #[source]
        source: io::Error,
    },
    /// A program failed.
    #[error("{program} failed ({status}): {last_words}")]
    Program {
        /// Which.
        program: &'static str,
        /// How.
        status: String,
        /// The end of what it said.
        last_words: String,
    },
    /// Its server belongs to a process that runs.
    #[error("another process uses the data directory {path:?}; stop it first")]
    InUse {
        /// The directory.
        path: PathBuf,
    },
    /// It does not become ready, or does not stop.
    #[error("PostgreSQL is not {state} after {seconds} s: see {log:?}")]
    Timeout {
        /// What was waited for.
        state: &'static str,
        /// How long.
        seconds: u64,
        /// Where it writes.
        log: PathBuf,
    },
}

/// Takes a data directory for this process, until the file is closed. A server that is found running in it
/// then was left by a process that is gone.
fn lock(data: &Path) -> Result<File, ClusterError> {
    let name = data.join("cluster.lock");
    let lock = File::create(&name).map_err(file("cannot make", &name))?;
    match lock.try_lock() {
        Ok(()) => Ok(lock),
        Err(TryLockError::WouldBlock) => Err(ClusterError::InUse { path: data.to_owned() }),
        Err(TryLockError::Error(error)) => Err(file("cannot lock", &name)(error)),
    }
}

fn file(doing: &'static str, path: &Path) -> impl FnOnce(io::Error) -> ClusterError {
    let path = path.to_owned();
    move |source| ClusterError::File { doing, path, source }
}

/// A running private cluster. Dropping it asks the server to stop without waiting for it;
/// [`stop`](Self::stop) waits.
#[derive(Debug)]
pub struct Cluster {
    child: Child,
    directory: PathBuf,
    log: PathBuf,
    /// Keeps the log within bounds; ends with this.
    _rotating: JoinSet<()>,
    /// Held as long as the server is ours.
    _lock: File,
}

/// The account of the server: absent for the current one.
#[derive(Debug, Clone, Copy)]
struct Account {
    uid: u32,
    gid: u32,
}

impl Cluster {
    /// Starts the cluster in `data`, making it first where there is none, and ending what a
    /// killed run has left behind.
    ///
    /// # Errors
    /// [`ClusterError`] saying what to do about it.
    pub async fn start(data: &Path) -> Result<Self, ClusterError> {
        fs::create_dir_all(data).map_err(file("cannot make", data))?;
        let data = data.canonicalize().map_err(file("cannot find", data))?;
        let directory = data.join("cluster");
        let socket = directory.join(".s.PGSQL.5432");
        if socket.as_os_str().len() > MAX_SOCKET_PATH {
            return Err(ClusterError::PathTooLong { path: socket });
        }
        let lock = lock(&data)?;
        let account = account()?;
        let programs = programs_for(&directory)?;
        if !directory.join("PG_VERSION").exists() {
            make(&programs, &data, &directory, account).await?;
        }
        own(&directory, account)?;
        check_reachable(&directory, account)?;
        end_leftovers(&directory).await?;
        let log = data.join("cluster.log");
        let child = spawn(&programs, &directory, &log, account)?;
        let mut rotating = JoinSet::new();
        rotating.spawn(keep_rotated(log.clone()));
        let mut cluster = Self { child, directory, log, _rotating: rotating, _lock: lock };
        cluster.wait_until_ready().await?;
        Ok(cluster)
    }

    /// The URL of a database in a cluster that runs in `data`.
    pub fn url_in(data: &Path) -> String {
        let directory = data.canonicalize().unwrap_or_else(|_| data.to_owned()).join("cluster");
        let host: String = directory
            .to_string_lossy()
            .bytes()
            .map(|octet| match octet {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' => {
                    char::from(octet).to_string()
                }
                other => format!("%{other:02X}"),
            })
            .collect();
        format!("postgres://{ACCOUNT}@{host}/postgres")
    }

    /// Waits until the server ends, which it should not do by itself.
    ///
    /// # Errors
    /// [`ClusterError::File`] when the child cannot be waited for.
    ///
    /// # Cancel safety
    /// Safe: dropping the future only stops the waiting.
    pub async fn ended(&mut self) -> Result<ExitStatus, ClusterError> {
        self.child.wait().await.map_err(file("cannot wait for the server in", &self.directory))
    }

    /// Stops the server: open sessions are ended, everything committed is on disk.
    ///
    /// # Errors
    /// [`ClusterError::Timeout`] when it does not stop.
    pub async fn stop(mut self) -> Result<(), ClusterError> {
        if let Some(pid) = self.child.id() {
            // Already gone is as good.
            let _gone = signal(pid, Signal::INT);
        }
        match tokio::time::timeout(STOP_LIMIT, self.child.wait()).await {
            Ok(_) => Ok(()),
            Err(_) => Err(self.timeout("stopped", STOP_LIMIT)),
        }
    }

    async fn wait_until_ready(&mut self) -> Result<(), ClusterError> {
        let pid_file = self.directory.join("postmaster.pid");
        let begun = Instant::now();
        while begun.elapsed() < START_LIMIT {
            if let Ok(Some(status)) = self.child.try_wait() {
                let last_words = last_words(&self.log);
                let status = status.to_string();
                return Err(ClusterError::Program { program: "postgres", status, last_words });
            }
            let text = fs::read_to_string(&pid_file).unwrap_or_default();
            let ours =
                text.lines().next().and_then(|pid| pid.trim().parse().ok()) == self.child.id();
            if ours && text.lines().nth(7).is_some_and(|status| status.trim() == "ready") {
                return Ok(());
            }
            sleep(Duration::from_millis(30)).await;
        }
        Err(self.timeout("ready", START_LIMIT))
    }

    fn timeout(&self, state: &'static str, limit: Duration) -> ClusterError {
        ClusterError::Timeout { state, seconds: limit.as_secs(), log: self.log.clone() }
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        if let Some(pid) = self.child.id() {
            let _gone = signal(pid, Signal::INT);
        }
    }
}

fn signal(pid: u32, signal: Signal) -> io::Result<()> {
    let pid = i32::try_from(pid).ok().and_then(Pid::from_raw);
    let pid = pid.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidInput))?;
    Ok(kill_process(pid, signal)?)
}

fn account() -> Result<Option<Account>, ClusterError> {
    if !rustix::process::geteuid().is_root() {
        return Ok(None);
    }
    let passwd = Path::new("/etc/passwd");
    let text = fs::read_to_string(passwd).map_err(file("cannot read", passwd))?;
    let fields = text.lines().map(|line| line.split(':').collect::<Vec<_>>());
    let account = fields.filter(|fields| fields.first() == Some(&ACCOUNT)).find_map(|fields| {
        Some(Account { uid: fields.get(2)?.parse().ok()?, gid: fields.get(3)?.parse().ok()? })
    });
    account.map(Some).ok_or(ClusterError::NoAccount)
}

/// A command that runs as the account, knows nothing of our environment, and gets no signal
/// meant for our terminal.
fn command(program: &Path, directory: &Path, account: Option<Account>) -> Command {
    let mut command = Command::new(program);
    command.env_clear().env("LC_ALL", "C").env("TZ", "UTC").current_dir(directory);
    command.stdin(Stdio::null()).process_group(0);
    if let Some(Account { uid, gid }) = account {
        command.uid(uid).gid(gid);
    }
    command
}

fn check_reachable(directory: &Path, account: Option<Account>) -> Result<(), ClusterError> {
    let probe = command(Path::new("/bin/true"), directory, account).status();
    match probe {
        Ok(_) => Ok(()),
        Err(_) => Err(ClusterError::Unreachable { path: directory.to_owned() }),
    }
}

/// Directories that may hold PostgreSQL's programs, newest version first.
fn program_directories() -> Vec<(String, PathBuf)> {
    let entries = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let mut found: Vec<(String, PathBuf)> = entries
        .map(|entry| (entry.file_name().to_string_lossy().into_owned(), entry.path().join("bin")))
        .filter(|(_, bin)| bin.join("postgres").exists() && bin.join("initdb").exists())
        .collect();
    found.sort_by_key(|(version, _)| std::cmp::Reverse(version.parse::<u32>().unwrap_or(0)));
    found
}

/// The directory of the newest installed programs.
pub(crate) fn newest_programs() -> Result<PathBuf, ClusterError> {
    let newest = program_directories().into_iter().next();
    newest.map(|(_, bin)| bin).ok_or(ClusterError::NotInstalled)
}

fn programs_for(directory: &Path) -> Result<PathBuf, ClusterError> {
    let Ok(made_by) = fs::read_to_string(directory.join("PG_VERSION")) else {
        return newest_programs();
    };
    let installed = program_directories();
    if installed.is_empty() {
        return Err(ClusterError::NotInstalled);
    }
    let found = made_by.trim().to_owned();
    let fitting = installed.into_iter().find(|(version, _)| *version == found);
    fitting.map(|(_, bin)| bin).ok_or(ClusterError::OtherVersion { found })
}

/// Gives a directory to the account, for it alone.
fn own(directory: &Path, account: Option<Account>) -> Result<(), ClusterError> {
    if let Some(Account { uid, gid }) = account {
        chown(directory, Some(uid), Some(gid)).map_err(file("cannot give away", directory))?;
    }
    let private = fs::Permissions::from_mode(0o700);
    fs::set_permissions(directory, private).map_err(file("cannot protect", directory))
}

/// Makes the cluster beside its place and moves it there when it is whole: a run that is killed
/// meanwhile leaves nothing that looks like a cluster.
async fn make(
    programs: &Path,
    data: &Path,
    directory: &Path,
    account: Option<Account>,
) -> Result<(), ClusterError> {
    let new = data.join("cluster.new");
    end_making(&new).await?;
    match fs::remove_dir_all(&new) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            return Err(file("cannot remove", &new)(error));
        }
        _ => {}
    }
    fs::create_dir(&new).map_err(file("cannot make", &new))?;
    own(&new, account)?;
    check_reachable(&new, account)?;
    let output = command(&programs.join("initdb"), &new, account)
        .args(["--encoding=UTF8", "--locale=C", "--data-checksums", "--auth=trust", "--username"])
        .arg(ACCOUNT)
        .arg("--pgdata")
        .arg(&new)
        .output()
        .map_err(file("cannot run initdb for", &new))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr).trim().replace('\n', "; ");
        let status = output.status.to_string();
        return Err(ClusterError::Program { program: "initdb", status, last_words: said });
    }
    fs::rename(&new, directory).map_err(file("cannot move the new cluster to", directory))?;
    File::open(data).and_then(|data| data.sync_all()).map_err(file("cannot sync", data))
}

/// Ends what a killed run has left making a cluster.
async fn end_making(new: &Path) -> Result<(), ClusterError> {
    let begun = Instant::now();
    while begun.elapsed() < STOP_LIMIT {
        let left = processes_in(new);
        if left.is_empty() {
            return Ok(());
        }
        left.iter().for_each(|pid| {
            let _gone = signal(*pid, Signal::KILL);
        });
        sleep(Duration::from_millis(50)).await;
    }
    let log = new.to_owned();
    Err(ClusterError::Timeout { state: "stopped", seconds: STOP_LIMIT.as_secs(), log })
}

/// The log of the server may take so many bytes, and so many earlier ones are kept.
const MAX_LOG: u64 = 10 << 20;
const KEPT_LOGS: u32 = 4;
const LOOK_AT_LOG: Duration = Duration::from_secs(60);

async fn keep_rotated(log: PathBuf) {
    loop {
        sleep(LOOK_AT_LOG).await;
        // Without room the log grows on; what is in it is worth more than the bound.
        let _no_room = rotate(&log, MAX_LOG);
    }
}

/// Copies a log that is over its bound to `.1`, earlier ones to the next number, and empties it: the
/// server appends to the same file.
fn rotate(log: &Path, max: u64) -> io::Result<()> {
    if !log.exists() || fs::metadata(log)?.len() <= max {
        return Ok(());
    }
    let earlier = |number: u32| log.with_extension(format!("log.{number}"));
    for number in (1..KEPT_LOGS).rev() {
        if earlier(number).exists() {
            fs::rename(earlier(number), earlier(number + 1))?;
        }
    }
    fs::copy(log, earlier(1))?;
    File::options().write(true).truncate(true).open(log).map(drop)
}

fn spawn(
    programs: &Path,
    directory: &Path,
    log: &Path,
    account: Option<Account>,
) -> Result<Child, ClusterError> {
    rotate(log, MAX_LOG).map_err(file("cannot rotate", log))?;
    let append = File::options().create(true).append(true).open(log);
    let out = append.map_err(file("cannot write", log))?;
    let err = out.try_clone().map_err(file("cannot write", log))?;
    let mut command = command(&programs.join("postgres"), directory, account);
    command.arg("-D").arg(directory).arg("-k").arg(directory).stdout(out).stderr(err);
    for setting in [
        "listen_addresses=",
        "unix_socket_permissions=0700",
        "max_connections=40",
        "shared_buffers=64MB",
        "max_wal_size=512MB",
        "autovacuum_naptime=30s",
    ] {
        command.arg("-c").arg(setting);
    }
    tokio::process::Command::from(command)
        .spawn()
        .map_err(file("cannot run postgres in", directory))
}

/// Processes that work in this directory: a server that outlived its service, or sessions that
/// outlived their server and would keep it from starting again.
fn processes_in(directory: &Path) -> Vec<u32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    let pids = entries.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    pids.filter(|pid| {
        fs::read_link(format!("/proc/{pid}/cwd")).is_ok_and(|cwd| cwd == directory)
            && fs::read_to_string(format!("/proc/{pid}/comm"))
                .is_ok_and(|c| c.starts_with("postgres") || c.starts_with("initdb"))
    })
    .collect()
}

async fn end_leftovers(directory: &Path) -> Result<(), ClusterError> {
    let pid_file = fs::read_to_string(directory.join("postmaster.pid")).unwrap_or_default();
    let server: Option<u32> = pid_file.lines().next().and_then(|pid| pid.trim().parse().ok());
    let begun = Instant::now();
    while begun.elapsed() < STOP_LIMIT {
        let left = processes_in(directory);
        if left.is_empty() {
            return Ok(());
        }
        match server.filter(|pid| left.contains(pid)) {
            Some(pid) => {
                let _gone = signal(pid, Signal::INT);
            }
            None => left.iter().for_each(|pid| {
                let _gone = signal(*pid, Signal::QUIT);
            }),
        }
        sleep(Duration::from_millis(100)).await;
    }
    let log = directory.join("../cluster.log");
    Err(ClusterError::Timeout { state: "stopped", seconds: STOP_LIMIT.as_secs(), log })
}

fn last_words(log: &Path) -> String {
    let text = fs::read_to_string(log).unwrap_or_default();
    let lines: Vec<&str> = text.lines().rev().take(3).collect();
    lines.into_iter().rev().collect::<Vec<_>>().join("; ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn a_log_over_its_bound_is_kept_under_a_number_and_appending_goes_on() {
        let place = tempfile::tempdir().unwrap();
        let log = place.path().join("cluster.log");
        let mut file = File::options().create(true).append(true).open(&log).unwrap();
        for round in 0..7 {
            writeln!(file, "round {round} of a log").unwrap();
            rotate(&log, 10).unwrap();
            assert_eq!(fs::metadata(&log).unwrap().len(), 0);
        }
        writeln!(file, "short").unwrap();
        rotate(&log, 10).unwrap();
        assert_eq!(fs::read_to_string(&log).unwrap(), "short\n");
        let kept = |number| fs::read_to_string(log.with_extension(format!("log.{number}")));
        assert_eq!(kept(1).unwrap(), "round 6 of a log\n");
        assert_eq!(kept(KEPT_LOGS).unwrap(), "round 3 of a log\n");
        assert!(kept(KEPT_LOGS + 1).is_err());
    }
}
