//! The local limits file: what a site allows its agent, whatever the service asks.

use crate::local_action::CutOffAction;
use ipnet::IpNet;
use itinera_model::check::CheckTask;
use itinera_model::path::Method;
use itinera_model::protocol::Task;
use itinera_model::throughput::ThroughputOrder;
use itinera_model::two_way::Ticket;
use serde::Deserialize;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

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
    /// What the agent may do while it is cut off; nothing where absent.
    pub cut_off_action: Option<CutOffAction>,
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

    /// Why packets may not be exchanged with this agent.
    pub(crate) fn refusal_of_pair(&self, ticket: &Ticket) -> Option<String> {
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

    /// Why a path may not be probed.
    pub(crate) fn refusal(&self, task: &Task) -> Option<String> {
        if let Some(reason) = self.forbids(task.address) {
            return Some(reason);
        }
        if self.methods.as_ref().is_some_and(|allowed| !allowed.contains(&task.method)) {
            return Some(format!("the site does not allow {}", task.method));
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::throughput::{By, Side};

    fn limits(text: &str) -> Result<LocalLimits, LimitsError> {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), text).unwrap();
        LocalLimits::read(file.path())
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
    fn mistakes_name_their_line() {
        for (text, line) in [("probes_per_s = 5\ntargest = []\n", 2), ("targets = [\"x\"]", 1)] {
            let LimitsError::Wrong { line: said, .. } = limits(text).unwrap_err() else {
                panic!("{text}");
            };
            assert_eq!(said, line, "{text}");
        }
    }
}
