//! The demonstration's directory: found, locked, discarded when asked.

use crate::exit::{Code, Failure};
use itinera_agent::Identity;
use itinera_simnet::Endpoint;
use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};

/// Marks a directory as a demonstration's own, so that nothing else is ever discarded.
const MARK: &str = "demonstration.lock";

pub(super) struct Directory {
    path: PathBuf,
    kept: bool,
    /// Held as long as we run.
    _lock: File,
}

/// For root a place that the database's own account can reach, which a home directory is not.
fn usual() -> Result<PathBuf, Failure> {
    if rustix::process::geteuid().is_root() {
        return Ok(PathBuf::from("/var/lib/itinera-demo"));
    }
    let home = std::env::var_os("HOME").ok_or_else(|| {
        Failure::say(Code::Failed, "HOME is not set; name a directory with --data DIR")
    })?;
    Ok(PathBuf::from(home).join(".local/share/itinera-demo"))
}

impl Directory {
    /// Where the simulation writes the CA certificate of its services.
    pub(super) fn authority(&self) -> PathBuf {
        self.path.join("authority.pem")
    }

    /// Where the test receivers find the secrets of webhooks.
    pub(super) fn receiver_secrets(&self) -> PathBuf {
        self.path.join("receiver-secrets.json")
    }

    pub(super) fn open(wanted: Option<&Path>, fresh: bool) -> Result<Self, Failure> {
        let path = wanted.map_or_else(usual, |path| Ok(path.to_owned()))?;
        let name = path.display().to_string();
        let failed = |doing: &str| {
            let text = format!("cannot {doing} {name}");
            move |error: std::io::Error| Failure::new(Code::Failed, error).context(text)
        };
        fs::create_dir_all(&path).map_err(failed("make"))?;
        let path = path.canonicalize().map_err(failed("find"))?;
        let mark = path.join(MARK);
        let ours = mark.exists();
        let empty = fs::read_dir(&path).map_err(failed("read"))?.next().is_none();
        if !ours && !empty {
            let text = format!(
                "{name} holds something else than a demonstration; name another with --data DIR"
            );
            return Err(Failure::say(Code::Failed, text));
        }
        let lock = File::create(&mark).map_err(failed("write to"))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let text = format!(
                    "another demonstration runs in {name}; end it, or name another directory with --data DIR"
                );
                return Err(Failure::say(Code::Failed, text));
            }
            Err(TryLockError::Error(error)) => return Err(failed("lock")(error)),
        }
        if fresh {
            for entry in fs::read_dir(&path).map_err(failed("read"))?.flatten() {
                let entry_path = entry.path();
                let removed = match entry.file_name() == MARK {
                    true => Ok(()),
                    false if entry_path.is_dir() => fs::remove_dir_all(&entry_path),
                    false => fs::remove_file(&entry_path),
                };
                removed.map_err(failed("discard what is in"))?;
            }
        }
        fs::create_dir_all(path.join("logs")).map_err(failed("write to"))?;
        let kept = path.join("service").exists();
        Ok(Self { path, kept, _lock: lock })
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    pub(super) const fn is_kept(&self) -> bool {
        self.kept
    }

    /// Data directory of the agent of a site.
    pub(super) fn agent(&self, site: &Endpoint) -> PathBuf {
        self.path().join("agents").join(&site.id)
    }

    pub(super) fn logs(&self) -> PathBuf {
        self.path.join("logs")
    }

    /// Where the demonstration's token is kept.
    pub(super) fn token(&self) -> PathBuf {
        self.path.join("token")
    }

    /// Name and password of the first administrator, until the password is changed.
    pub(super) fn first_administrator(&self) -> Result<(String, String), Failure> {
        let path = self.path.join("service/first-administrator");
        let text = fs::read_to_string(&path).map_err(|error| {
            let text = format!("cannot read {}; start with --fresh", path.display());
            Failure::new(Code::Failed, error).context(text)
        })?;
        let (name, password) = text.trim().split_once('\n').unwrap_or_default();
        Ok((name.to_owned(), password.to_owned()))
    }

    /// Writes a file of ours; gives its name.
    pub(super) fn write(&self, name: &str, text: &str) -> Result<String, Failure> {
        let path = self.path.join(name);
        fs::write(&path, text)?;
        Ok(path.display().to_string())
    }

    /// Tells an agent that joined in an earlier run where the service is now.
    pub(super) fn point_agent(&self, data: &Path, service: &str) -> Result<(), Failure> {
        let moved = Identity::read(data).and_then(|identity| identity.moved_to(service, data));
        moved.map_err(|error| Failure::new(Code::BadFile, error))
    }
}
