//! The local limits file: what a site allows its agent, whatever the service asks.

use crate::plan::Plan;
use ipnet::IpNet;
use itinera_model::batch::RefusedTask;
use itinera_model::check::CheckTask;
use itinera_model::path::Method;
use itinera_model::protocol::{Pacing, Task};
use itinera_model::throughput::ThroughputOrder;
use itinera_model::two_way::Ticket;
use serde::Deserialize;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

const SECONDS_A_DAY: u64 = 86_400;

/// A limits file that cannot be followed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LimitsError {
    /// It cannot be read.
    #[error("cannot read the limits file {0}")]
    Read(PathBuf, #[source] std::io::Error),
    /// It is not what it should be.
    #[error("limits file {file}: line {line}: {reason}")]
    Wrong {
        /// The file.
        file: PathBuf,
        /// Line, from 1.
        line: usize,
        /// What is wrong there.
        reason: String,
    },
}

/// What a site allows. Absent parts allow everything.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct LocalLimits {
    /// Prefixes that may be probed.
    pub targets: Option<Vec<IpNet>>,
    /// Methods that may be used.
    pub methods: Option<Vec<Method>>,
    /// Whether packets may be exchanged with other agents.
    pub two_way: Option<bool>,
    /// Probes a second in all.
    pub probes_per_s: Option<u32>,
    /// Bytes sent a day in all.
    pub bytes_per_day: Option<u64>,
    /// Whether services may be asked by their own protocols.
    pub checks: Option<bool>,
    /// Whether open sockets may be listed.
    pub sockets: Option<bool>,
    /// Bytes that measurements of throughput may take in 24 hours; none at all where 0.
    pub throughput_bytes_per_day: Option<u64>,
}

impl LocalLimits {
    /// Reads a file (TOML 1.0).
    ///
    /// # Errors
    /// [`LimitsError`] naming file and line.
    pub fn read(file: &Path) -> Result<Self, LimitsError> {
        let text = std::fs::read_to_string(file)
            .map_err(|error| LimitsError::Read(file.to_owned(), error))?;
        toml::from_str(&text).map_err(|error| {
            let offset = error.span().map_or(0, |span| span.start);
            let line = text.get(..offset).unwrap_or_default().matches('\n').count() + 1;
            let reason = error.message().to_owned();
            LimitsError::Wrong { file: file.to_owned(), line, reason }
        })
    }

    pub(crate) fn forbids(&self, address: IpAddr) -> Option<String> {
        let within = |allowed: &Vec<IpNet>| allowed.iter().any(|prefix| prefix.contains(&address));
        let forbidden = self.targets.as_ref().is_some_and(|allowed| !within(allowed));
        forbidden.then(|| format!("the site does not allow probing {address}"))
    }

    fn refusal_of_pair(&self, ticket: &Ticket) -> Option<String> {
        if self.two_way == Some(false) {
            return Some("the site does not allow two-way measurement".to_owned());
        }
        self.forbids(ticket.peer_address)
    }

    /// Why it may not be measured how much gets through, after so many bytes in 24 hours.
    pub(crate) fn refusal_of_throughput(
        &self,
        order: &ThroughputOrder,
        spent: u64,
    ) -> Option<String> {
        match self.throughput_bytes_per_day {
            Some(most) if order.most_bytes.saturating_add(spent) > most => Some(format!(
                "the site allows {most} bytes of throughput measurement in 24 hours, {spent} are used"
            )),
            _ => self.forbids(order.peer_address),
        }
    }

    /// Why a check may not be asked.
    pub(crate) fn refusal_of_check(&self, task: &CheckTask) -> Option<String> {
        if self.checks == Some(false) {
            return Some("the site does not allow services to be asked".to_owned());
        }
        task.address.and_then(|address| self.forbids(address))
    }

    fn refusal(&self, task: &Task) -> Option<String> {
        if let Some(reason) = self.forbids(task.address) {
            return Some(reason);
        }
        if self.methods.as_ref().is_some_and(|allowed| !allowed.contains(&task.method)) {
            return Some(format!("the site does not allow {}", task.method));
        }
        None
    }

    /// What of a plan may be done, within what it may cost: refused tasks are taken out, and
    /// given with the reason; budgets become the smaller ones; where the bytes a day would not
    /// suffice, rounds are made as much rarer as needed.
    pub(crate) fn apply(&self, mut schedule: Plan) -> (Plan, Vec<RefusedTask>) {
        let mut refused = Vec::new();
        schedule.tasks.retain(|task| match self.refusal(task) {
            Some(reason) => {
                refused.push(RefusedTask::of_path(task.path, reason));
                false
            }
            None => true,
        });
        schedule.tickets.retain(|ticket| match self.refusal_of_pair(ticket) {
            Some(reason) => {
                refused.push(RefusedTask::of_pair(ticket.pair, reason));
                false
            }
            None => true,
        });
        if let Some(most) = self.probes_per_s {
            let agent_per_s = schedule.pacing.agent_per_s.min(most);
            schedule.pacing = Pacing { agent_per_s, ..schedule.pacing };
        }
        if let Some(most) = self.bytes_per_day {
            let tasks = schedule.tasks.iter().map(bytes_per_day);
            let wanted: u64 = tasks.chain(schedule.tickets.iter().map(pair_bytes_per_day)).sum();
            if wanted > most {
                for ticket in &mut schedule.tickets {
                    let interval = u64::from(ticket.interval_ms).saturating_mul(wanted);
                    let interval = interval.div_ceil(most.max(1));
                    ticket.interval_ms = u32::try_from(interval).unwrap_or(u32::MAX);
                }
                for task in &mut schedule.tasks {
                    let interval = u64::from(task.interval_ms).saturating_mul(wanted);
                    let interval = interval.div_ceil(most.max(1));
                    task.interval_ms = u32::try_from(interval).unwrap_or(u32::MAX);
                }
            }
        }
        (schedule, refused)
    }
}

/// Bytes that a task sends a day at most: as if every round were whole, and the way as long as
/// it may be.
fn bytes_per_day(task: &Task) -> u64 {
    let hops = u64::from(task.last_hop.min(TYPICAL_LONG));
    let round = hops * u64::from(task.probes_per_hop) * u64::from(task.size_bytes);
    round.saturating_mul(SECONDS_A_DAY * 1_000) / u64::from(task.interval_ms.max(1))
}

/// Bytes that a pair sends a day from one end: as many back as there.
fn pair_bytes_per_day(ticket: &Ticket) -> u64 {
    u64::from(ticket.size_bytes) * SECONDS_A_DAY * 1_000 / u64::from(ticket.interval_ms.max(1))
}

/// Ways are seldom longer: what lies behind the target is not probed.
const TYPICAL_LONG: u8 = 20;

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::PathId;
    use itinera_model::throughput::{By, Side};
    use uuid::Uuid;

    fn limits(text: &str) -> Result<LocalLimits, LimitsError> {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), text).unwrap();
        LocalLimits::read(file.path())
    }

    fn schedule() -> Plan {
        let task = |number, address: [u8; 4], method| Task {
            path: PathId::from_uuid(Uuid::from_u128(number)),
            address: address.into(),
            method,
            port: None,
            dscp: 0,
            size_bytes: 64,
            interval_ms: 10_000,
            probes_per_hop: 3,
            timeout_ms: 1_000,
            last_hop: 30,
            full_every: 1,
            name: None,
            denser: None,
        };
        let ticket = crate::ticket::tests::ticket();
        Plan {
            tickets: vec![ticket],
            tasks: vec![
                task(1, [198, 18, 128, 10], Method::IcmpEcho),
                task(2, [192, 0, 2, 1], Method::IcmpEcho),
                task(3, [198, 18, 128, 10], Method::Udp),
            ],
            pacing: Pacing::default(),
            enumerate_every_s: 0,
        }
    }

    #[test]
    fn the_service_cannot_widen_what_the_site_allows() {
        let limits =
            limits("targets = [\"198.18.0.0/15\"]\nmethods = [\"icmp-echo\"]\nprobes_per_s = 5\n");
        let (allowed, refused) = limits.unwrap().apply(schedule());
        assert_eq!((allowed.tickets.len(), allowed.tasks.len()), (1, 1));
        assert_eq!(allowed.pacing.agent_per_s, 5);
        let reasons: Vec<&str> = refused.iter().map(|refused| refused.reason.as_str()).collect();
        assert_eq!(
            reasons,
            ["the site does not allow probing 192.0.2.1", "the site does not allow udp"]
        );
        let (same, none) = LocalLimits::default().apply(schedule());
        assert_eq!((same, none.len()), (schedule(), 0));
    }

    #[test]
    fn throughput_is_refused_beyond_the_sites_octets_for_a_day() {
        let order = ThroughputOrder {
            most_bytes: 20_000_000,
            peer_address: [198, 18, 0, 2].into(),
            ..crate::throughput::tests::order(Side::Sends, By::Tcp, 1)
        };
        let allowed = limits("throughput_bytes_per_day = 50_000_000").unwrap();
        assert_eq!(allowed.refusal_of_throughput(&order, 30_000_000), None);
        let reason = allowed.refusal_of_throughput(&order, 30_000_001).unwrap();
        assert!(reason.contains("50000000 bytes"), "{reason}");
        let elsewhere = limits("targets = [\"192.0.2.0/24\"]").unwrap();
        assert!(elsewhere.refusal_of_throughput(&order, 0).is_some());
        assert_eq!(LocalLimits::default().refusal_of_throughput(&order, u64::MAX), None);
    }

    #[test]
    fn a_site_may_do_without_two_way_measurement() {
        for text in ["two_way = false", "targets = [\"198.18.0.0/24\"]"] {
            let (allowed, refused) = limits(text).unwrap().apply(schedule());
            assert!(allowed.tickets.is_empty(), "{text}");
            assert!(refused.iter().any(|refused| refused.pair.is_some()), "{text}");
        }
        let ticket = &schedule().tickets[0];
        let before = pair_bytes_per_day(ticket);
        let (after, _) = limits("bytes_per_day = 20_000_000").unwrap().apply(schedule());
        assert!(pair_bytes_per_day(&after.tickets[0]) < before / 10);
    }

    #[test]
    fn too_many_octets_make_rounds_rarer() {
        let before: u64 = schedule().tasks.iter().map(bytes_per_day).sum();
        let wanted = Plan { tickets: Vec::new(), ..schedule() };
        let (after, _) = limits("bytes_per_day = 20_000_000").unwrap().apply(wanted);
        let sent: u64 = after.tasks.iter().map(bytes_per_day).sum();
        assert!(before > 90_000_000 && sent <= 20_000_000 && sent > 19_000_000, "{before} {sent}");
        assert_eq!(after.tasks.len(), 3);
    }

    #[test]
    fn mistakes_name_their_line() {
        for (text, line) in [("probes_per_s = 5\ntargest = []\n", 2), ("targets = [\"x\"]", 1)] {
            let LimitsError::Wrong { line: said, .. } = limits(text).unwrap_err() else {
                panic!("{text}");
            };
            assert_eq!(said, line, "{text}");
        }
    }
}
