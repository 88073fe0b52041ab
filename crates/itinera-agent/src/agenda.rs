//! The deadline of each engine, and the engines that a received packet may concern: with many paths
//! only engines that may have something to do are asked.

use crate::driver::EngineKey;
use itinera_model::unit::Tick;
use itinera_probe::About;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;

/// The engines' deadlines, targets and ports.
#[derive(Debug, Default)]
pub(crate) struct Agenda {
    order: BTreeSet<(Tick, EngineKey)>,
    entered: HashMap<EngineKey, Tick>,
    by_target: HashMap<IpAddr, Vec<EngineKey>>,
    by_port: BTreeMap<u16, Vec<EngineKey>>,
}

impl Agenda {
    /// Enters an engine that probes a target, from this port on.
    pub(crate) fn admit(&mut self, key: EngineKey, target: IpAddr, port: u16) {
        self.by_target.entry(target).or_default().push(key);
        self.by_port.entry(port).or_default().push(key);
    }

    /// Enters when an engine wants to be served next.
    pub(crate) fn enter(&mut self, key: EngineKey, at: Option<Tick>) {
        if let Some(before) = self.entered.remove(&key) {
            self.order.remove(&(before, key));
        }
        if let Some(at) = at {
            self.entered.insert(key, at);
            self.order.insert((at, key));
        }
    }

    /// When the first of them wants to be served.
    pub(crate) fn next(&self) -> Option<Tick> {
        self.order.first().map(|(at, _)| *at)
    }

    /// Those that want to be served by now.
    pub(crate) fn due(&self, now: Tick) -> Vec<EngineKey> {
        self.order.range(..=(now, EngineKey::MAX)).map(|(_, key)| *key).collect()
    }

    /// The engines that it may concern by its target.
    pub(crate) fn of_target(&self, about: About) -> Vec<EngineKey> {
        let found = about.target.and_then(|target| self.by_target.get(&target));
        found.cloned().unwrap_or_default()
    }

    /// The engines that it may concern by its port, where each has `flows` ports.
    pub(crate) fn of_port(&self, about: About, flows: u16) -> Vec<EngineKey> {
        let Some(port) = about.port else { return Vec::new() };
        let first = port.saturating_sub(flows.saturating_sub(1));
        self.by_port.range(first..=port).flat_map(|(_, keys)| keys.iter().copied()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_is_due_and_who_may_be_meant() {
        let mut agenda = Agenda::default();
        let target = |last: u8| IpAddr::from([198, 18, 0, last]);
        for (key, port) in [(1, 40_300), (2, 40_600), (3, 40_900)] {
            agenda.admit(key, target(u8::try_from(key).unwrap() % 2), port);
            agenda.enter(key, Some(Tick::from_millis(key * 10)));
        }
        assert_eq!(agenda.next(), Some(Tick::from_millis(10)));
        assert_eq!(agenda.due(Tick::from_millis(20)), [1, 2]);
        agenda.enter(1, Some(Tick::from_millis(50)));
        agenda.enter(2, None);
        assert_eq!(
            (agenda.next(), agenda.due(Tick::from_millis(20))),
            (Some(Tick::from_millis(30)), vec![])
        );
        let about = |target, port| About { target, port };
        assert_eq!(agenda.of_target(about(Some(target(1)), None)), [1, 3]);
        assert!(agenda.of_target(about(Some(target(9)), Some(1))).is_empty());
        assert_eq!(agenda.of_port(about(None, Some(40_300)), 256), [1]);
        assert_eq!(agenda.of_port(about(None, Some(40_300 + 255)), 256), [1]);
        assert!(agenda.of_port(about(None, Some(40_300 + 256)), 256).is_empty());
        assert!(agenda.of_port(about(Some(target(1)), None), 256).is_empty());
    }
}
