//! Processes that tests start, and that end with them whatever happens: when the test passes, when
//! it panics, and when the test program itself is killed.

use crate::support::{eventually, free_ports, itinera, signal};
use rustix::process::Signal;
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long a process may take to end before it is killed.
const END_LIMIT: Duration = Duration::from_secs(60);

/// A process of the binary under test.
#[derive(Debug)]
pub(crate) struct Background(Option<Child>);

impl Background {
    /// Starts `command` with `--stop-with-parent`: it also ends when the pipe to it does.
    pub(crate) fn start(command: &mut Command) -> Self {
        command.arg("--stop-with-parent").stdin(Stdio::piped());
        Self(Some(command.spawn().unwrap()))
    }

    /// Ends it as it should end; gives how it did.
    pub(crate) fn stop(mut self, by: Signal) -> ExitStatus {
        let child = self.0.take().unwrap();
        signal(&child, by);
        ended(child)
    }

    /// Kills it without warning.
    pub(crate) fn kill(mut self) {
        let mut child = self.0.take().unwrap();
        child.kill().unwrap();
        child.wait().unwrap();
    }
}

impl Drop for Background {
    fn drop(&mut self) {
        if let Some(child) = self.0.take() {
            signal(&child, Signal::TERM);
            ended(child);
        }
    }
}

/// Waits for its end, and kills it when that does not come.
fn ended(mut child: Child) -> ExitStatus {
    let begun = Instant::now();
    while begun.elapsed() < END_LIMIT {
        if let Some(status) = child.try_wait().unwrap() {
            return status;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    child.kill().unwrap();
    child.wait().unwrap()
}

/// A simulated internet, and the address that it listens on. The certificate of its services'
/// authority is in `authority.pem`.
pub(crate) fn simulation(place: &Path, world: &str) -> (Background, String) {
    let file = place.join("world.toml");
    std::fs::write(&file, world).unwrap();
    let [port] = free_ports();
    let listen = format!("127.0.0.1:{port}");
    let mut command = itinera();
    command.arg("simulate").arg(&file).args(["--seed", "5", "--listen", &listen]);
    command.arg("--authority").arg(place.join("authority.pem"));
    let simulation = Background::start(command.stdout(Stdio::null()).stderr(Stdio::null()));
    eventually("the simulation", Duration::from_secs(60), || {
        place.join("authority.pem").exists().then_some(())
    });
    (simulation, listen)
}

/// Demonstrations that run at one time: in a debug build one takes up to a core, and there are two,
/// of which another test has the other.
const DEMONSTRATIONS: usize = 1;
static RUNNING: Mutex<usize> = Mutex::new(0);
static ENDED: Condvar = Condvar::new();

/// The permit to run one demonstration.
#[derive(Debug)]
pub(crate) struct Turn;

impl Turn {
    /// Waits for one.
    pub(crate) fn take() -> Self {
        let running = RUNNING.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = ENDED.wait_while(running, |running| *running >= DEMONSTRATIONS);
        *waited.unwrap_or_else(PoisonError::into_inner) += 1;
        Self
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        *RUNNING.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
        ENDED.notify_one();
    }
}
