//! Services of the simulated internet: protocol, port, behaviour and times.
//!
//! A test server is a pure conversation: bytes come in, acts go out. The owner of streams carries
//! them, secured by TLS where the service says so.

mod names;
mod speaking;
#[cfg(test)]
mod tests;

pub use names::answer;
pub use speaking::{Act, Conversation};

use crate::scenario::{
    Does, DoesEntry, NameEntry, Scenario, ServiceEntry, Speaks, TlsHabit, addresses_of,
};
use itinera_model::unit::Tick;
use std::net::IpAddr;

/// One service.
#[derive(Debug, Clone)]
pub struct Service {
    /// Where.
    pub addresses: Vec<IpAddr>,
    /// At which port.
    pub port: u16,
    /// The name it goes by.
    pub name: String,
    /// The certificate it shows; absent where it does not speak TLS.
    pub tls: Option<TlsHabit>,
    pub(crate) speaks: Speaks,
    pub(crate) entry: ServiceEntry,
    pub(crate) names: Vec<NameEntry>,
}

impl Service {
    /// The services of a scenario, in its order.
    pub(crate) fn all(scenario: &Scenario) -> Vec<Self> {
        let service = |entry: &ServiceEntry| {
            let host =
                scenario.targets.iter().find(|host| host.id.as_ref() == entry.at.as_ref())?;
            Some(Self {
                addresses: addresses_of(host.address.as_ref(), host.address6.as_ref()),
                port: *entry.port.as_ref(),
                name: entry.name.clone().unwrap_or_else(|| "service.corriven.example".to_owned()),
                tls: entry.tls,
                speaks: entry.speaks,
                entry: entry.clone(),
                names: scenario.names.clone(),
            })
        };
        scenario.services.iter().filter_map(service).collect()
    }

    /// It answers datagrams.
    pub fn is_resolver(&self) -> bool {
        self.speaks == Speaks::Name
    }

    /// The change that holds now.
    fn changed(&self, now: Tick) -> Option<&DoesEntry> {
        let begun = |at_s: f64| at_s * 1e9 <= now.as_nanos() as f64;
        let over = |at_s: f64, for_s: Option<f64>| for_s.is_some_and(|for_s| begun(at_s + for_s));
        let mut changes = self.entry.changes.iter();
        changes.rfind(|change| begun(change.at_s) && !over(change.at_s, change.for_s))
    }

    /// How it behaves now.
    pub(crate) fn does(&self, now: Tick) -> Does {
        self.changed(now).map_or(self.entry.does, |change| change.does)
    }

    /// Bytes a second at which it says its content now.
    pub(crate) fn rate_bytes_per_s(&self, now: Tick) -> Option<u64> {
        self.changed(now).map_or(self.entry.rate_bytes_per_s, |change| change.rate_bytes_per_s)
    }

    /// No program accepts connections there now.
    pub fn refuses(&self, now: Tick) -> bool {
        self.does(now) == Does::Refuse
    }
}
