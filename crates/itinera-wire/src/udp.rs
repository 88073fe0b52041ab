//! UDP (RFC 768).

use crate::checksum;
use crate::ip::{self, Addresses};
use crate::reader::{Layer, ParseError, Reader};

/// Length of the header.
pub const HEADER_LEN: usize = 8;

/// A UDP header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UdpHeader {
    /// Sender's port.
    pub source_port: u16,
    /// Receiver's port.
    pub destination_port: u16,
    /// Length of header and payload in octets.
    pub length: u16,
    /// The checksum as carried.
    pub checksum: u16,
}

impl UdpHeader {
    /// Reads a header, which ICMP errors may quote without anything behind it. The checksum is
    /// not judged.
    ///
    /// # Errors
    /// [`ParseError`] when octets are missing or the length is shorter than the header.
    pub fn parse(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        let mut reader = Reader::new(Layer::Udp, octets);
        let header = Self {
            source_port: reader.u16()?,
            destination_port: reader.u16()?,
            length: reader.u16()?,
            checksum: reader.u16()?,
        };
        if usize::from(header.length) < HEADER_LEN {
            let value = u32::from(header.length);
            return Err(ParseError::Field { layer: Layer::Udp, field: "length", value });
        }
        Ok((header, reader.rest()))
    }
}

/// Appends a datagram of `payload_len` octets (at least 2) whose checksum is `checksum`.
///
/// The first two payload octets steer the sum, so that every probe of a flow carries its
/// identity in the checksum, which even the shortest quote (8 octets of transport) returns,
/// while ports and length stay constant. `checksum` must not be 0 (none) or 0xffff.
pub fn emit_steered(
    addresses: Addresses,
    ports: (u16, u16),
    payload_len: u16,
    checksum: u16,
    out: &mut Vec<u8>,
) {
    let payload_len = payload_len.clamp(2, 65_000);
    #[allow(clippy::arithmetic_side_effects, reason = "clamped to 65,000 above")]
    let length = payload_len + 8;
    let pseudo = addresses.pseudo_header(ip::UDP, length);
    let header = checksum::add(checksum::add(ports.0, ports.1), length);
    let steer = checksum::steer(checksum::add(pseudo, header), checksum);
    for field in [ports.0, ports.1, length, checksum, steer] {
        out.extend_from_slice(&field.to_be_bytes());
    }
    let zeros = usize::from(payload_len.saturating_sub(2));
    out.resize(out.len().saturating_add(zeros), 0);
}

/// Appends a datagram with this payload, of which at most 65,000 octets are taken.
pub fn emit(addresses: Addresses, ports: (u16, u16), payload: &[u8], out: &mut Vec<u8>) {
    let payload = payload.get(..65_000).unwrap_or(payload);
    let length = u16::try_from(payload.len().saturating_add(HEADER_LEN)).unwrap_or(u16::MAX);
    let pseudo = addresses.pseudo_header(ip::UDP, length);
    let header = checksum::add(checksum::add(ports.0, ports.1), length);
    let sum = checksum::add(checksum::add(pseudo, header), checksum::sum(payload));
    // A checksum of 0 would say that there is none.
    let checksum = match checksum::field(sum) {
        0 => 0xffff,
        field => field,
    };
    for field in [ports.0, ports.1, length, checksum] {
        out.extend_from_slice(&field.to_be_bytes());
    }
    out.extend_from_slice(payload);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ip::tests::any_addresses;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn steered_datagrams_have_a_valid_checksum(
            addresses in any_addresses(), ports: (u16, u16), len in 2u16..64, wanted in 1u16..0xffff,
        ) {
            let mut out = Vec::new();
            emit_steered(addresses, ports, len, wanted, &mut out);
            let (header, payload) = UdpHeader::parse(&out).unwrap();
            prop_assert_eq!(header.checksum, wanted);
            prop_assert_eq!(payload.len(), usize::from(len));
            let pseudo = addresses.pseudo_header(ip::UDP, header.length);
            prop_assert_eq!(checksum::add(pseudo, checksum::sum(&out)), 0xffff);
        }

        #[test]
        fn datagrams_have_a_valid_checksum(
            addresses in any_addresses(), ports: (u16, u16), payload in prop::collection::vec(any::<u8>(), 0..64),
        ) {
            let mut out = Vec::new();
            emit(addresses, ports, &payload, &mut out);
            let (header, carried) = UdpHeader::parse(&out).unwrap();
            prop_assert_eq!(carried, payload);
            prop_assert_ne!(header.checksum, 0);
            let pseudo = addresses.pseudo_header(ip::UDP, header.length);
            prop_assert_eq!(checksum::add(pseudo, checksum::sum(&out)), 0xffff);
        }

        #[test]
        fn short_headers_are_refused(octets in prop::collection::vec(any::<u8>(), 0..8)) {
            prop_assert!(UdpHeader::parse(&octets).is_err());
        }
    }
}
