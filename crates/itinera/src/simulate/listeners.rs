//! The sockets that receive what arrives at an address of the simulated internet.

use std::collections::{BTreeMap, VecDeque};
use std::net::{IpAddr, SocketAddr};

/// The most sockets of one address. The sockets that sent last are kept: an agent has one for
/// probes, one for services, and some that live for one check. A socket of a killed process
/// leaves so.
const MOST: usize = 16;

/// The sockets of each address. All of them receive each packet, as raw sockets of one machine do.
#[derive(Debug)]
pub(super) struct Listeners(BTreeMap<IpAddr, VecDeque<SocketAddr>>);

impl Listeners {
    pub(super) const fn new() -> Self {
        Self(BTreeMap::new())
    }

    /// A socket receives what arrives at `address` from now on.
    pub(super) fn add(&mut self, address: IpAddr, socket: SocketAddr) {
        let sockets = self.0.entry(address).or_default();
        if sockets.front() != Some(&socket) {
            sockets.retain(|known| *known != socket);
            sockets.push_front(socket);
            sockets.truncate(MOST);
        }
    }

    /// A socket has closed.
    pub(super) fn remove(&mut self, socket: SocketAddr) {
        for sockets in self.0.values_mut() {
            sockets.retain(|known| *known != socket);
        }
    }

    /// The sockets of an address, the one that sent last first.
    pub(super) fn of(&self, address: IpAddr) -> impl Iterator<Item = &SocketAddr> {
        self.0.get(&address).into_iter().flatten()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn socket(port: u16) -> SocketAddr {
        ([127, 0, 0, 1], port).into()
    }

    #[test]
    fn closed_sockets_receive_nothing_and_the_oldest_are_dropped() {
        let address: IpAddr = [192, 0, 2, 1].into();
        let other: IpAddr = [192, 0, 2, 2].into();
        let mut listeners = Listeners::new();
        for port in [1, 2, 1, 3] {
            listeners.add(address, socket(port));
        }
        listeners.add(other, socket(3));
        assert_eq!(listeners.of(address).copied().collect::<Vec<_>>(), [3, 1, 2].map(socket));
        listeners.remove(socket(3));
        assert_eq!(listeners.of(address).copied().collect::<Vec<_>>(), [1, 2].map(socket));
        assert_eq!(listeners.of(other).count(), 0);
        for port in 10..10 + 20 {
            listeners.add(address, socket(port));
        }
        assert_eq!(listeners.of(address).count(), MOST);
        assert_eq!(listeners.of(address).next(), Some(&socket(29)));
    }
}
