//! The demonstration's processes: each this very program, with a log of its own.

use crate::exit::{Code, Failure};
use rustix::process::{Pid, Signal, kill_process};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::{ExitStatus, Stdio};
use std::time::Duration;
use tokio::process::{Child as Process, Command};

/// How long a child may take to end after being asked to.
const PATIENCE: Duration = Duration::from_secs(30);
/// How often children are looked at.
const GLANCE: Duration = Duration::from_millis(100);

/// Processes in the order of their start; stopped in the reverse order.
pub(super) struct Children {
    logs: PathBuf,
    running: Vec<(String, Process)>,
}

/// A child that has ended.
pub(super) struct Child {
    name: String,
    log: PathBuf,
    status: ExitStatus,
}

impl Child {
    pub(super) fn name(&self) -> &str {
        &self.name
    }

    pub(super) const fn status(&self) -> ExitStatus {
        self.status
    }

    pub(super) fn log(&self) -> &Path {
        &self.log
    }
}

impl Children {
    pub(super) const fn new(logs: PathBuf) -> Self {
        Self { logs, running: Vec::new() }
    }

    pub(super) fn logs(&self) -> String {
        self.logs.display().to_string()
    }

    fn log(&self, name: &str) -> PathBuf {
        self.logs.join(format!("{name}.log"))
    }

    fn command(&self, name: &str, arguments: &[&str]) -> Result<Command, Failure> {
        let log = File::create(self.log(name))?;
        let mut command = Command::new(std::env::current_exe()?);
        command
            .args(arguments)
            // The children follow our arguments, not what happens to be in the environment.
            .env_remove("ITINERA_DATA")
            .env_remove("ITINERA_DATABASE")
            .env_remove("ITINERA_CONFIG")
            .stdout(log.try_clone()?)
            .stderr(log)
            // Ctrl-C on our terminal is for us; we stop them in order.
            .process_group(0);
        Ok(command)
    }

    /// Starts a process that is to run as long as we do. Its standard input is ours to hold:
    /// when we are killed, it ends, and the process with it.
    pub(super) fn start(&mut self, name: &str, arguments: &[&str]) -> Result<(), Failure> {
        let child = self.command(name, arguments)?.stdin(Stdio::piped()).spawn()?;
        self.running.push((name.to_owned(), child));
        Ok(())
    }

    /// Starts a process as [`Self::start`] does; what it writes to standard error is shown.
    pub(super) fn start_shown(&mut self, name: &str, arguments: &[&str]) -> Result<(), Failure> {
        let mut command = self.command(name, arguments)?;
        let child = command.stdin(Stdio::piped()).stderr(Stdio::inherit()).spawn()?;
        self.running.push((name.to_owned(), child));
        Ok(())
    }

    /// Waits for the end of a process that was started; any other that ends before it is a failure.
    pub(super) async fn wait_for_end(&mut self, name: &str) -> Result<(), Failure> {
        loop {
            if let Some(ended) = self.ended() {
                if ended.name() == name && ended.status().success() {
                    return Ok(());
                }
                return Err(Failure::say(Code::Failed, ended.words()));
            }
            tokio::time::sleep(GLANCE).await;
        }
    }

    /// Runs a process to its end.
    pub(super) async fn run_to_end(&self, name: &str, arguments: &[&str]) -> Result<(), Failure> {
        let status = self.command(name, arguments)?.stdin(Stdio::null()).status().await?;
        if status.success() {
            return Ok(());
        }
        let said = std::fs::read_to_string(self.log(name)).unwrap_or_default();
        Err(Failure::say(Code::Failed, format!("{name} failed ({status}): {}", said.trim())))
    }

    /// A child that has ended since the last call.
    pub(super) fn ended(&mut self) -> Option<Child> {
        let found = self.running.iter_mut().enumerate().find_map(|(index, (_, child))| {
            child.try_wait().ok().flatten().map(|status| (index, status))
        });
        let (index, status): (usize, ExitStatus) = found?;
        let (name, _) = self.running.remove(index);
        Some(Child { log: self.log(&name), name, status })
    }

    /// Asks every child to end, last started first, and waits for each.
    pub(super) async fn stop(&mut self) -> Result<(), Failure> {
        let mut stubborn = Vec::new();
        while let Some((name, mut child)) = self.running.pop() {
            if let Some(pid) = child.id().and_then(|pid| Pid::from_raw(pid.cast_signed())) {
                // Already gone is as good.
                let _gone = kill_process(pid, Signal::TERM);
            }
            if tokio::time::timeout(PATIENCE, child.wait()).await.is_err() {
                let _gone = child.kill().await;
                stubborn.push(name);
            }
        }
        if stubborn.is_empty() {
            return Ok(());
        }
        let text = format!("{} did not end when asked to and was killed", stubborn.join(", "));
        Err(Failure::say(Code::Failed, text))
    }
}
