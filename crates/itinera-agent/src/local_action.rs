//! The action that a site permits its agent while it is cut off: one program, started seldom and for a limited
//! time. An agent is cut off when it has reached neither the service nor any target beyond its own
//! link for some time, though it probed some: a service that is down alone, or a planned pause of
//! measurement meanwhile, is no reason to restart an uplink.

use crate::clock::AgentClock;
use itinera_model::host_facts::{ActionOutcome, LocalAction};
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::watch;

/// How often it is looked whether the agent is cut off.
const LOOK: Duration = Duration::from_secs(1);
const DAY_US: i64 = 86_400_000_000;
/// So many rounds without an answer show that targets are out of reach.
const ROUNDS: u32 = 3;

/// What a site permits a cut-off agent.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, try_from = "Permitted")]
pub struct CutOffAction {
    /// An absolute path.
    program: PathBuf,
    /// No shell reads them.
    arguments: Vec<String>,
    after: Duration,
    wait: Duration,
    at_most_per_day: u32,
    timeout: Duration,
}

/// The same as it is written.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Permitted {
    command: Vec<String>,
    #[serde(default = "after_s")]
    after_s: u32,
    #[serde(default = "wait_s")]
    wait_s: u32,
    #[serde(default = "at_most_per_day")]
    at_most_per_day: u32,
    #[serde(default = "timeout_s")]
    timeout_s: u32,
}

const fn after_s() -> u32 {
    300
}
const fn wait_s() -> u32 {
    1_800
}
const fn at_most_per_day() -> u32 {
    3
}
const fn timeout_s() -> u32 {
    60
}

impl TryFrom<Permitted> for CutOffAction {
    type Error = String;

    fn try_from(it: Permitted) -> Result<Self, String> {
        let mut words = it.command.into_iter();
        let program = words.next().map(PathBuf::from).filter(|program| program.is_absolute());
        let program = program.ok_or("command: the program must be an absolute path")?;
        for (field, value, least, most) in [
            ("after_s", it.after_s, 10, 86_400),
            ("wait_s", it.wait_s, 60, 86_400),
            ("at_most_per_day", it.at_most_per_day, 1, 48),
            ("timeout_s", it.timeout_s, 1, 600),
        ] {
            if !(least..=most).contains(&value) {
                return Err(format!("{field}: {value} is not within {least} to {most}"));
            }
        }
        let seconds = |value: u32| Duration::from_secs(value.into());
        Ok(Self {
            program,
            arguments: words.collect(),
            after: seconds(it.after_s),
            wait: seconds(it.wait_s),
            at_most_per_day: it.at_most_per_day,
            timeout: seconds(it.timeout_s),
        })
    }
}

/// When the agent last reached something.
#[derive(Debug)]
pub(crate) struct Contact {
    begun: Instant,
    /// Milliseconds from then to the newest answer of the service or of a target.
    newest_ms: AtomicU64,
    /// Rounds to targets without an answer since then.
    unanswered: AtomicU32,
}

impl Contact {
    /// A boot that begins counts as contact: the agent waits before it calls itself cut off.
    pub(crate) fn new() -> Self {
        Self { begun: Instant::now(), newest_ms: AtomicU64::new(0), unanswered: AtomicU32::new(0) }
    }

    /// The service or a target has answered.
    pub(crate) fn made(&self) {
        let ms = u64::try_from(self.begun.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.newest_ms.fetch_max(ms, Ordering::Relaxed);
        self.unanswered.store(0, Ordering::Relaxed);
    }

    /// A round reached its target behind so many hops, or did not reach it.
    pub(crate) fn measured(&self, reached_at: Option<u8>) {
        match reached_at {
            // What is on the agent's own link answers also when the uplink is down.
            Some(0 | 1) => {}
            Some(_) => self.made(),
            None => {
                self.unanswered.fetch_add(1, Ordering::Relaxed);
            }
        }
    }

    /// For how long nothing has answered; nothing before some rounds show it.
    fn lost_for(&self) -> Duration {
        if self.unanswered.load(Ordering::Relaxed) < ROUNDS {
            return Duration::ZERO;
        }
        let newest = Duration::from_millis(self.newest_ms.load(Ordering::Relaxed));
        self.begun.elapsed().saturating_sub(newest)
    }
}

/// The actions of the last day, the oldest first, as they are kept on disk, so that an agent that restarts stays
/// within its bounds.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Taken {
    actions: Vec<LocalAction>,
}

impl Taken {
    /// Which action of the last 24 hours another would be at `now`; absent where it is not permitted.
    fn next(&mut self, permitted: &CutOffAction, lost_for: Duration, now: WallTime) -> Option<u32> {
        // A clock that was set back does not make them newer than now.
        self.actions.retain(|action| now.micros_since(action.began_at).abs() < DAY_US);
        let number = u32::try_from(self.actions.len()).unwrap_or(u32::MAX).saturating_add(1);
        let since_last = self.actions.last().map(|last| now.micros_since(last.began_at).abs());
        let wait_us = i64::try_from(permitted.wait.as_micros()).unwrap_or(i64::MAX);
        (lost_for >= permitted.after
            && number <= permitted.at_most_per_day
            && since_last.is_none_or(|since| since >= wait_us))
        .then_some(number)
    }
}

/// Looks after an agent that may be cut off.
pub(crate) struct CutOffWatch {
    permitted: CutOffAction,
    contact: Arc<Contact>,
    clock: Arc<AgentClock>,
    file: PathBuf,
    taken: Taken,
    last: watch::Sender<Option<LocalAction>>,
}

impl CutOffWatch {
    /// A watch that keeps its record in a directory, and the last action.
    pub(crate) fn new(
        permitted: CutOffAction,
        (contact, clock): (Arc<Contact>, Arc<AgentClock>),
        directory: &Path,
    ) -> (Self, watch::Receiver<Option<LocalAction>>) {
        let file = directory.join("cut-off-actions.json");
        let taken = read(&file);
        let (last, shown) = watch::channel(taken.actions.last().cloned());
        (Self { permitted, contact, clock, file, taken, last }, shown)
    }

    /// Looks for ever, and acts where the agent is cut off.
    pub(crate) async fn watch(mut self) {
        loop {
            tokio::time::sleep(LOOK).await;
            let now = self.clock.wall_now();
            let lost_for = self.contact.lost_for();
            if let Some(number) = self.taken.next(&self.permitted, lost_for, now) {
                self.act(number, lost_for, now).await;
            }
        }
    }

    async fn act(&mut self, number: u32, lost_for: Duration, now: WallTime) {
        let program = self.permitted.program.file_name().unwrap_or_default();
        let mut action = LocalAction {
            program: program.to_string_lossy().into_owned(),
            began_at: now,
            cut_off_s: u32::try_from(lost_for.as_secs()).unwrap_or(u32::MAX),
            took_ms: 0,
            outcome: ActionOutcome::Interrupted,
            number,
        };
        // Recorded first: a program that ends the agent, or the machine, is not run again at once.
        self.taken.actions.push(action.clone());
        if let Err(error) = write(&self.file, &self.taken) {
            tracing::error!(%error, "cut off; the action cannot be recorded and is not taken");
            self.taken.actions.pop();
            return;
        }
        tracing::warn!(program = action.program, number, "cut off: the permitted action is taken");
        let begun = Instant::now();
        action.outcome = run(&self.permitted).await;
        action.took_ms = u32::try_from(begun.elapsed().as_millis()).unwrap_or(u32::MAX);
        self.taken.actions.pop();
        self.taken.actions.push(action.clone());
        if let Err(error) = write(&self.file, &self.taken) {
            tracing::warn!(%error, "what came of the action cannot be recorded");
        }
        self.last.send_replace(Some(action));
    }
}

async fn run(permitted: &CutOffAction) -> ActionOutcome {
    let mut command = tokio::process::Command::new(&permitted.program);
    command.args(&permitted.arguments);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
    let mut child = match command.spawn() {
        Ok(child) => child,
        Err(error) => return ActionOutcome::NotStarted { reason: error.to_string() },
    };
    match tokio::time::timeout(permitted.timeout, child.wait()).await {
        Ok(Ok(status)) if status.success() => ActionOutcome::Succeeded,
        Ok(Ok(status)) => ActionOutcome::Failed { code: status.code() },
        Ok(Err(error)) => ActionOutcome::NotStarted { reason: error.to_string() },
        Err(_) => ActionOutcome::TimedOut,
    }
}

/// The record; what cannot be read is none.
fn read(file: &Path) -> Taken {
    let text = std::fs::read(file).unwrap_or_default();
    serde_json::from_slice(&text).unwrap_or_default()
}

/// Replaces the record as a whole.
fn write(file: &Path, taken: &Taken) -> std::io::Result<()> {
    let new = file.with_extension("new");
    std::fs::write(&new, serde_json::to_vec(taken)?)?;
    std::fs::rename(&new, file)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn permitted(text: &str) -> Result<CutOffAction, toml::de::Error> {
        toml::from_str(text)
    }

    fn at(second: i64) -> WallTime {
        WallTime::from_unix_seconds(1_700_000_000 + second)
    }

    fn action(second: i64) -> LocalAction {
        LocalAction {
            program: "restart".to_owned(),
            began_at: at(second),
            cut_off_s: 300,
            took_ms: 1,
            outcome: ActionOutcome::Succeeded,
            number: 1,
        }
    }

    #[test]
    fn mistakes_are_named() {
        let text = "command = [\"/sbin/restart\", \"wan0\"]";
        let good = permitted(text).unwrap();
        assert_eq!((good.after.as_secs(), good.at_most_per_day), (300, 3));
        for (wrong, field) in [
            ("command = []", "command"),
            ("command = [\"restart\"]", "absolute"),
            (&format!("{text}\nafter_s = 5"), "after_s"),
            (&format!("{text}\nwait_s = 5"), "wait_s"),
            (&format!("{text}\nat_most_per_day = 0"), "at_most_per_day"),
            (&format!("{text}\ntimeout_s = 601"), "timeout_s"),
            (&format!("{text}\nshell = true"), "shell"),
        ] {
            let error = permitted(wrong).unwrap_err().to_string();
            assert!(error.contains(field), "{error}");
        }
    }

    #[test]
    fn an_action_is_due_when_nothing_answers_and_bounded_by_wait_and_day() {
        let it = permitted("command = [\"/sbin/restart\"]\nat_most_per_day = 2").unwrap();
        let lost = Duration::from_secs(300);
        let mut taken = Taken::default();
        assert_eq!(taken.next(&it, Duration::from_secs(299), at(0)), None);
        assert_eq!(taken.next(&it, lost, at(0)), Some(1));
        taken.actions.push(action(0));
        assert_eq!(taken.next(&it, lost, at(1_799)), None);
        assert_eq!(taken.next(&it, lost, at(-1_799)), None, "a clock that was set back");
        assert_eq!(taken.next(&it, lost, at(1_800)), Some(2));
        taken.actions.push(action(1_800));
        assert_eq!(taken.next(&it, lost, at(40_000)), None, "two a day");
        assert_eq!(taken.next(&it, lost, at(86_400)), Some(2), "the first is a day old");
    }

    #[test]
    fn only_rounds_without_an_answer_show_that_the_agent_is_cut_off() {
        let contact =
            Contact { begun: Instant::now() - Duration::from_secs(900), ..Contact::new() };
        assert_eq!(contact.lost_for(), Duration::ZERO, "nothing was measured");
        for reached_at in [None, Some(1), None, Some(1)] {
            contact.measured(reached_at);
        }
        assert_eq!(contact.lost_for(), Duration::ZERO, "two rounds, and the gateway answers");
        contact.measured(None);
        assert!(contact.lost_for() >= Duration::from_secs(900));
        contact.measured(Some(7));
        assert_eq!(contact.lost_for(), Duration::ZERO);
    }

    #[tokio::test]
    async fn a_program_that_takes_too_long_is_ended() {
        let run_for = async |command: &str| {
            let text = format!("timeout_s = 1\ncommand = {command}");
            run(&permitted(&text).unwrap()).await
        };
        assert_eq!(run_for("[\"/bin/true\"]").await, ActionOutcome::Succeeded);
        let failed = ActionOutcome::Failed { code: Some(3) };
        assert_eq!(run_for("[\"/bin/sh\", \"-c\", \"exit 3\"]").await, failed);
        assert_eq!(run_for("[\"/bin/sleep\", \"60\"]").await, ActionOutcome::TimedOut);
        let missing = run_for("[\"/no/such/program\"]").await;
        assert!(matches!(missing, ActionOutcome::NotStarted { .. }), "{missing:?}");
    }
}
