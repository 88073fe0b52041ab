//! What a hop sweep is told once.

use itinera_model::path::Method;
use itinera_model::route::Flow;
use itinera_model::unit::{HopLimit, Micros};
use itinera_wire::Addresses;

/// Settings of one hop sweep: one path, one flow.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SweepConfig {
    /// Sender's and target's address.
    pub addresses: Addresses,
    /// ICMP echo or UDP.
    pub method: Method,
    /// UDP source port or ICMP identifier.
    pub source_port: u16,
    /// UDP destination port, or the ICMP checksum all probes carry (neither 0 nor 0xffff).
    pub destination_port: u16,
    /// Differentiated services code point, 0..=63.
    pub dscp: u8,
    /// Length of the whole IP packet in octets: 30..=1500, from 50 in IPv6.
    pub size_bytes: u16,
    /// From the start of one round to the next, before a jitter of a tenth either way.
    pub interval: Micros,
    /// Probes for each hop in a round, 1..=16.
    pub probes_per_hop: u8,
    /// An answer after this is late.
    pub timeout: Micros,
    /// The last hop limit tried.
    pub last_hop: HopLimit,
    /// Where chance begins.
    pub seed: u64,
}

/// Why a configuration cannot be driven.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SweepConfigError {
    /// Probes per hop outside 1..=16.
    #[error("probes per hop {0} is outside 1..=16")]
    ProbesPerHop(u8),
    /// Too short for its headers and ten octets, or over 1500.
    #[error("packet size {0} is outside {1}..=1500 octets")]
    Size(u16, u16),
    /// DSCP outside 0..=63.
    #[error("DSCP {0} is outside 0..=63")]
    Dscp(u8),
    /// An interval under 100 ms.
    #[error("interval {0} is under 100 ms")]
    Interval(Micros),
    /// A timeout of zero or over 10 s.
    #[error("timeout {0} is outside 1 ms to 10 s")]
    Timeout(Micros),
    /// An ICMP checksum that ones' complement cannot tell from its negative zero.
    #[error("the constant ICMP checksum may not be 0 or 0xffff")]
    Checksum,
}

impl SweepConfig {
    /// Checks every bound.
    ///
    /// # Errors
    /// [`SweepConfigError`] naming the first field out of bounds.
    pub fn check(&self) -> Result<(), SweepConfigError> {
        let constant = self.destination_port;
        let least = self.least_size();
        if !(1..=16).contains(&self.probes_per_hop) {
            Err(SweepConfigError::ProbesPerHop(self.probes_per_hop))
        } else if !(least..=1500).contains(&self.size_bytes) {
            Err(SweepConfigError::Size(self.size_bytes, least))
        } else if self.dscp > 63 {
            Err(SweepConfigError::Dscp(self.dscp))
        } else if self.interval < Micros::from_millis(100) {
            Err(SweepConfigError::Interval(self.interval))
        } else if !(1_000..=10_000_000).contains(&self.timeout.as_micros()) {
            Err(SweepConfigError::Timeout(self.timeout))
        } else if self.method == Method::IcmpEcho && (constant == 0 || constant == 0xffff) {
            Err(SweepConfigError::Checksum)
        } else {
            Ok(())
        }
    }

    /// Octets of an IP header, a transport header, and the two that steer the checksum.
    const fn least_size(&self) -> u16 {
        match self.addresses {
            Addresses::V4 { .. } => 30,
            Addresses::V6 { .. } => 50,
        }
    }

    /// The flow all its probes belong to.
    pub const fn flow(&self) -> Flow {
        Flow {
            source: self.addresses.source(),
            destination: self.addresses.destination(),
            method: self.method,
            source_port: self.source_port,
            destination_port: self.destination_port,
            dscp: self.dscp,
        }
    }
}
