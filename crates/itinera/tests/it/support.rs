//! Runs the binary with a clean environment, and services in directories of their own.

use crate::processes::Background;
use itinera_agent::Identity;
use itinera_model::JoinCode;
use serde_json::Value;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

pub(crate) const SERVICE: &str = include_str!("../../../../demo/service.toml");
pub(crate) const WORLD: &str = include_str!("../../../../demo/world.toml");

/// A directory that the database's own account may enter.
pub(crate) fn directory() -> TempDir {
    let directory = tempfile::tempdir().unwrap();
    std::fs::set_permissions(directory.path(), PermissionsExt::from_mode(0o755)).unwrap();
    directory
}

pub(crate) fn itinera() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_itinera"));
    for (name, _) in std::env::vars().filter(|(name, _)| name.starts_with("ITINERA")) {
        command.env_remove(name);
    }
    command.stdin(Stdio::null());
    command
}

/// The outcome of one run.
#[derive(Debug)]
pub(crate) struct Ran {
    pub(crate) code: Option<i32>,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl From<Output> for Ran {
    fn from(output: Output) -> Self {
        Self {
            code: output.status.code(),
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
        }
    }
}

impl Ran {
    pub(crate) fn json(&self) -> Value {
        assert_eq!(self.code, Some(0), "{self:?}");
        serde_json::from_str(&self.out).unwrap()
    }
}

pub(crate) fn run(arguments: &[&str]) -> Ran {
    itinera().args(arguments).output().unwrap().into()
}

/// Runs a command with this on its standard input.
pub(crate) fn fed(command: &mut Command, input: &str) -> Ran {
    let command = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    child.stdin.take().unwrap().write_all(format!("{input}\n").as_bytes()).unwrap();
    child.wait_with_output().unwrap().into()
}

/// How long to wait for what surely comes, on a machine that is robbed of its time.
pub(crate) const PATIENCE: Duration = Duration::from_secs(300);

/// Waits until `ask` has an answer.
pub(crate) fn eventually<T>(what: &str, limit: Duration, mut ask: impl FnMut() -> Option<T>) -> T {
    let begun = Instant::now();
    while begun.elapsed() < limit {
        if let Some(answer) = ask() {
            return answer;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    panic!("{what} did not come within {limit:?}");
}

/// Free ports below those that the kernel gives to outgoing connections, so that nothing takes
/// them before the service does.
pub(crate) fn free_ports<const N: usize>() -> [u16; N] {
    let held: [TcpListener; N] = std::array::from_fn(|_| {
        let candidates = std::iter::repeat_with(|| {
            let [high, low, ..] = *uuid::Uuid::new_v4().as_bytes();
            TcpListener::bind(("127.0.0.1", 20_000 + u16::from_be_bytes([high, low]) % 12_000))
        });
        candidates.take(100).find_map(Result::ok).unwrap()
    });
    std::array::from_fn(|n| held[n].local_addr().unwrap().port())
}

/// The header lines of a request with a token to a host.
pub(crate) fn with_token(token: &Path, host: &str) -> String {
    let token = std::fs::read_to_string(token).unwrap();
    format!("Host: {host}\r\nAuthorization: Bearer {token}")
}

/// One request over a bare connection; gives the whole answer as it came.
pub(crate) fn raw_request(api: &str, request: &str, more: &str) -> String {
    let mut stream = TcpStream::connect(api.replace("http://", "")).unwrap();
    let head = format!("{request} HTTP/1.1\r\n{more}\r\nConnection: close\r\n\r\n");
    stream.write_all(head.as_bytes()).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

/// A service process over a data directory; killed when dropped.
pub(crate) struct Service {
    /// Absent while it is killed. Before its directory, so that it ends first.
    process: Option<Background>,
    directory: TempDir,
    ports: [u16; 2],
}

/// Signs in as the first administrator of a service; gives a file with a token.
fn first_token(api: &str, place: &Path) -> PathBuf {
    let first = std::fs::read_to_string(place.join("data/first-administrator")).unwrap();
    let (name, password) = first.trim().split_once('\n').unwrap();
    let home = place.join("home");
    let mut sign_in = itinera();
    sign_in.args(["sign-in", "--name", name, "--password-stdin", "--api", api]);
    let ran = fed(sign_in.env("XDG_CONFIG_HOME", &home), password);
    assert_eq!(ran.code, Some(0), "{ran:?}");
    let kept = std::fs::read_to_string(home.join("itinera/sign-ins.json")).unwrap();
    let kept: Value = serde_json::from_str(&kept).unwrap();
    let file = place.join("token");
    std::fs::write(&file, kept[api]["token"].as_str().unwrap()).unwrap();
    file
}

impl Service {
    pub(crate) fn start() -> Self {
        Self::start_with(str::to_owned)
    }

    /// Starts with the demonstration's configuration as `changed` makes it.
    pub(crate) fn start_with(changed: impl FnOnce(&str) -> String) -> Self {
        let directory = directory();
        let ports = free_ports();
        let text = format!(
            "listen = \"127.0.0.1:{}\"\nlisten_agents = \"127.0.0.1:{}\"\n{}",
            ports[0],
            ports[1],
            changed(SERVICE)
        );
        std::fs::write(directory.path().join("service.toml"), text).unwrap();
        let process = Some(Self::spawn(directory.path()));
        let service = Self { directory, ports, process };
        service.wait();
        first_token(&service.api(), service.path());
        service
    }

    /// Starts another service with the same configuration and authority, but for its ports.
    pub(crate) fn start_another(&self) -> Self {
        let directory = directory();
        let ports = free_ports();
        let mut text = std::fs::read_to_string(self.path().join("service.toml")).unwrap();
        for (own, others) in self.ports.into_iter().zip(ports) {
            text = text.replace(&format!(":{own}\""), &format!(":{others}\""));
        }
        std::fs::write(directory.path().join("service.toml"), text).unwrap();
        std::fs::create_dir(directory.path().join("data")).unwrap();
        for file in ["data/authority.key", "data/authority.crt", "token"] {
            std::fs::copy(self.path().join(file), directory.path().join(file)).unwrap();
        }
        let process = Some(Self::spawn(directory.path()));
        let service = Self { directory, ports, process };
        service.wait();
        service
    }

    fn spawn(directory: &Path) -> Background {
        let log = std::fs::File::options()
            .create(true)
            .append(true)
            .open(directory.join("service.log"))
            .unwrap();
        let mut serve = itinera();
        serve.arg("serve").arg("--config").arg(directory.join("service.toml"));
        serve.arg("--data").arg(directory.join("data")).stderr(log).stdout(Stdio::null());
        Background::start(&mut serve)
    }

    fn wait(&self) {
        eventually("the service", PATIENCE, || {
            // Not being let in is a sign of life as well.
            TcpStream::connect(("127.0.0.1", self.ports[0])).ok().map(drop)
        });
    }

    pub(crate) fn data(&self) -> PathBuf {
        self.directory.path().join("data")
    }

    pub(crate) fn path(&self) -> &Path {
        self.directory.path()
    }

    /// The file with the first administrator's token.
    pub(crate) fn token(&self) -> PathBuf {
        self.path().join("token")
    }

    pub(crate) fn log(&self) -> String {
        std::fs::read_to_string(self.directory.path().join("service.log")).unwrap()
    }

    pub(crate) fn api(&self) -> String {
        format!("http://127.0.0.1:{}", self.ports[0])
    }

    pub(crate) fn agents_url(&self) -> String {
        format!("https://127.0.0.1:{}", self.ports[1])
    }

    /// Runs a command of the client against this service.
    pub(crate) fn client(&self, arguments: &[&str]) -> Ran {
        let mut command = itinera();
        command.args(arguments).args(["--api", &self.api(), "--token-file"]).arg(self.token());
        command.output().unwrap().into()
    }

    pub(crate) fn json(&self, arguments: &[&str]) -> Value {
        self.client(&[arguments, &["--format", "json"]].concat()).json()
    }

    pub(crate) fn join_code(&self, site: &str, lifetime_s: u32) -> String {
        let lifetime = lifetime_s.to_string();
        let answer = self.json(&["join-code", "--site", site, "--lifetime-s", &lifetime]);
        answer["code"].as_str().unwrap().to_owned()
    }

    /// Joins as an agent at a site, in this process.
    pub(crate) async fn join(&self, site: &str, name: &str) -> Identity {
        let code: JoinCode = self.join_code(site, 60).parse().unwrap();
        let directory = self.directory.path().join(name);
        itinera_agent::join(&code, &self.agents_url(), &directory).await.unwrap()
    }

    /// Kills it without warning.
    pub(crate) fn kill(&mut self) {
        self.process.take().unwrap().kill();
    }

    /// Ends it as it should end, with its database.
    pub(crate) fn stop(&mut self) {
        let ended = self.process.take().unwrap().stop(rustix::process::Signal::TERM);
        assert!(ended.success(), "{ended}");
    }

    /// Kills it without warning and starts it again on what it left.
    pub(crate) fn kill_and_restart(&mut self) {
        self.kill();
        self.restart();
    }

    /// Starts it again on what it left.
    pub(crate) fn restart(&mut self) {
        self.process = Some(Self::spawn(self.directory.path()));
        self.wait();
    }
}

pub(crate) fn signal(child: &Child, signal: rustix::process::Signal) {
    let pid = rustix::process::Pid::from_child(child);
    let _gone = rustix::process::kill_process(pid, signal);
}

pub(crate) fn terminate(child: &Child) {
    signal(child, rustix::process::Signal::TERM);
}

/// Processes with this place in their command line or working directory.
pub(crate) fn processes_of(place: &Path) -> Vec<String> {
    let place = place.display().to_string();
    let entries = std::fs::read_dir("/proc").unwrap().flatten();
    let lines = entries.filter_map(|entry| {
        let line = std::fs::read(entry.path().join("cmdline")).ok()?;
        let line = String::from_utf8_lossy(&line).replace('\0', " ");
        let cwd = std::fs::read_link(entry.path().join("cwd")).ok();
        let there = cwd.is_some_and(|cwd| cwd.display().to_string().starts_with(&place));
        (!line.is_empty() && (line.contains(&place) || there)).then_some(line)
    });
    lines.collect()
}
