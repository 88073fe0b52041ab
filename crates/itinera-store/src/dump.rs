//! The whole database as a stream, by PostgreSQL's own programs.
//!
//! The stream has pg_dump's custom format: a consistent snapshot, taken while the service runs.

use crate::cluster::{self, ClusterError};
use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::process::{Child, Command, Stdio};
use url::Url;

/// Bytes of a program's errors that are shown at most.
const MAX_WORDS: u64 = 2_000;

/// A program of PostgreSQL that reads or writes a stream.
#[derive(Debug)]
struct Program {
    name: &'static str,
    child: Child,
    /// What it writes to standard error: a file, so that it never waits for a reader.
    errors: File,
}

impl Program {
    /// Starts a program on a database. The password goes by the environment, which only this
    /// account may read.
    fn start(
        name: &'static str,
        database: &str,
        arguments: &[&str],
        streams: (Stdio, Stdio),
    ) -> Result<Self, ClusterError> {
        let failed = |reason: String| ClusterError::Program {
            program: name,
            status: "not started".to_owned(),
            last_words: reason,
        };
        let mut url = Url::parse(database).map_err(|error| failed(error.to_string()))?;
        let mut command = Command::new(cluster::newest_programs()?.join(name));
        if let Some(password) = url.password().map(str::to_owned) {
            command.env("PGPASSWORD", password);
            // Refused only by URLs that cannot have a password.
            let _removed = url.set_password(None);
        }
        let errors = tempfile::tempfile().map_err(|error| failed(error.to_string()))?;
        let copy = errors.try_clone().map_err(|error| failed(error.to_string()))?;
        let (stdin, stdout) = streams;
        command.env("LC_ALL", "C").args(arguments).arg("--dbname").arg(url.as_str());
        command.stdin(stdin).stdout(stdout).stderr(copy);
        let child = command.spawn().map_err(|error| failed(error.to_string()))?;
        Ok(Self { name, child, errors })
    }

    /// Waits for its end.
    fn finish(mut self) -> Result<(), ClusterError> {
        let ended = self.child.wait();
        if ended.as_ref().is_ok_and(std::process::ExitStatus::success) {
            return Ok(());
        }
        let mut words = Vec::new();
        let _unread = self.errors.rewind();
        let _unread = (&self.errors).take(MAX_WORDS).read_to_end(&mut words);
        let status = ended.map_or_else(|error| error.to_string(), |status| status.to_string());
        let last_words = String::from_utf8_lossy(&words).trim().replace('\n', "; ");
        Err(ClusterError::Program { program: self.name, status, last_words })
    }
}

/// A database that is being read.
#[derive(Debug)]
pub struct Dump(Program);

impl Dump {
    /// Begins to read the database of a URL.
    ///
    /// # Errors
    /// [`ClusterError::NotInstalled`], [`ClusterError::Program`].
    pub fn start(database: &str) -> Result<Self, ClusterError> {
        let arguments = ["--format=custom", "--compress=0", "--no-owner", "--no-privileges"];
        Program::start("pg_dump", database, &arguments, (Stdio::null(), Stdio::piped())).map(Self)
    }

    /// Ends it; what was read is complete where this succeeds.
    ///
    /// # Errors
    /// [`ClusterError::Program`] with what the program said.
    pub fn finish(self) -> Result<(), ClusterError> {
        self.0.finish()
    }
}

impl Read for Dump {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.0.child.stdout.as_mut().map_or(Ok(0), |stdout| stdout.read(buffer))
    }
}

/// A database that is being filled. Not in one transaction, which would hold a lock on every
/// partition of years; a load that fails leaves a part.
#[derive(Debug)]
pub struct Load(Program);

impl Load {
    /// Begins to fill the empty database of a URL.
    ///
    /// # Errors
    /// [`ClusterError::NotInstalled`], [`ClusterError::Program`].
    pub fn start(database: &str) -> Result<Self, ClusterError> {
        let arguments = ["--exit-on-error", "--no-owner", "--no-privileges"];
        let streams = (Stdio::piped(), Stdio::null());
        Program::start("pg_restore", database, &arguments, streams).map(Self)
    }

    /// Ends the stream and waits until everything is loaded.
    ///
    /// # Errors
    /// [`ClusterError::Program`] with what the program said.
    pub fn finish(mut self) -> Result<(), ClusterError> {
        drop(self.0.child.stdin.take());
        self.0.finish()
    }
}

impl Write for Load {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let closed = || io::Error::from(io::ErrorKind::BrokenPipe);
        self.0.child.stdin.as_mut().ok_or_else(closed)?.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.child.stdin.as_mut().map_or(Ok(()), Write::flush)
    }
}
