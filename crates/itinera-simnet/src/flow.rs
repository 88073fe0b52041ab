//! What a bundle of lines tells flows apart by.

use crate::life::Draws;
use itinera_wire::{IpHeader, ip};
use std::net::IpAddr;

/// Addresses, protocol and, where there are any, ports.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct FlowKey {
    addresses: [u64; 2],
    protocol: u8,
    ports: u32,
}

fn word(address: IpAddr) -> u64 {
    match address {
        IpAddr::V4(four) => u64::from(four.to_bits()),
        IpAddr::V6(six) => {
            let bits = six.to_bits();
            #[allow(clippy::cast_possible_truncation, reason = "both halves are used")]
            let (high, low) = ((bits >> 64) as u64, bits as u64);
            high.rotate_left(17) ^ low
        }
    }
}

impl FlowKey {
    /// The key of a whole packet; absent for what is no IP packet.
    pub(crate) fn of(packet: &[u8]) -> Option<Self> {
        let (header, transport) = IpHeader::parse(packet).ok()?;
        let addresses = header.addresses();
        let ports = transport.first_chunk::<4>().map_or(0, |octets| u32::from_be_bytes(*octets));
        let ports = if matches!(header.protocol(), ip::UDP | ip::TCP) { ports } else { 0 };
        Some(Self::new(addresses.source(), addresses.destination(), header.protocol(), ports))
    }

    pub(crate) fn new(source: IpAddr, destination: IpAddr, protocol: u8, ports: u32) -> Self {
        Self { addresses: [word(source), word(destination)], protocol, ports }
    }

    /// True for connections: their packets follow each other closely.
    pub(crate) const fn is_stream(&self) -> bool {
        self.protocol == ip::TCP
    }

    /// The stream that this key names under another.
    pub(crate) fn under(&self, of: Draws) -> Draws {
        let [source, destination] = self.addresses;
        let rest = u64::from(self.protocol) << 32 | u64::from(self.ports);
        of.under(source).under(destination).under(rest)
    }
}
