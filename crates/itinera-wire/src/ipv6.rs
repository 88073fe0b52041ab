//! IPv6 headers (RFC 8200).

use crate::reader::{Layer, ParseError, Reader};
use std::net::Ipv6Addr;

/// Protocol number of ICMPv6.
pub const ICMP: u8 = 58;
/// Length of a header without extension headers.
pub const HEADER_LEN: usize = 40;
/// The bits of a flow label (RFC 6437).
pub const FLOW_LABEL: u32 = 0x000f_ffff;

const HOP_LIMIT: usize = 7;

/// An IPv6 header. Extension headers are skipped on parsing and never emitted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ipv6Header {
    /// Sender.
    pub source: Ipv6Addr,
    /// Receiver.
    pub destination: Ipv6Addr,
    /// The payload's protocol number, behind all extension headers; unknown ones are values.
    pub protocol: u8,
    /// Hop limit.
    pub hop_limit: u8,
    /// DSCP (upper six bits, RFC 2474) and ECN (lower two, RFC 3168).
    pub traffic_class: u8,
    /// Flow label, 20 bits.
    pub flow_label: u32,
}

impl Ipv6Header {
    /// Reads a whole packet; gives its header and its payload without link padding.
    ///
    /// # Errors
    /// [`ParseError`] when octets are missing or the version is another.
    pub fn parse(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        let (header, length, rest) = Self::fixed(octets)?;
        let payload = rest.get(..length).ok_or(ParseError::Short {
            layer: Layer::Ipv6,
            offset: HEADER_LEN,
            needed: length,
            actual: rest.len(),
        })?;
        header.behind_extensions(payload)
    }

    /// Reads a packet quoted in an ICMP error, cut off anywhere behind its fixed header.
    ///
    /// # Errors
    /// [`ParseError`] when the headers themselves are incomplete or impossible.
    pub fn parse_quoted(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        let (header, _, rest) = Self::fixed(octets)?;
        header.behind_extensions(rest)
    }

    fn fixed(octets: &[u8]) -> Result<(Self, usize, &[u8]), ParseError> {
        let mut reader = Reader::new(Layer::Ipv6, octets);
        let first = u32::from_be_bytes(reader.take()?);
        if first >> 28 != 6 {
            let value = first >> 28;
            return Err(ParseError::Field { layer: Layer::Ipv6, field: "version", value });
        }
        let length = usize::from(reader.u16()?);
        let protocol = reader.u8()?;
        let hop_limit = reader.u8()?;
        let source = Ipv6Addr::from(reader.take::<16>()?);
        let destination = Ipv6Addr::from(reader.take::<16>()?);
        let header = Self {
            source,
            destination,
            protocol,
            hop_limit,
            traffic_class: u8::try_from((first >> 20) & 0xff).unwrap_or_default(),
            flow_label: first & FLOW_LABEL,
        };
        Ok((header, length, reader.rest()))
    }

    /// Walks over extension headers (RFC 8200 section 4, RFC 7045) to the payload.
    fn behind_extensions(mut self, mut rest: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        // Hop-by-hop, routing, fragment, destination options, mobility, HIP, shim6.
        while matches!(self.protocol, 0 | 43 | 44 | 60 | 135 | 139 | 140) {
            let mut reader = Reader::new(Layer::Ipv6, rest);
            let next = reader.u8()?;
            let units = reader.u8()?;
            let more = if self.protocol == 44 { 0 } else { usize::from(units).saturating_mul(8) };
            reader.skip(more.saturating_add(6))?;
            rest = reader.rest();
            self.protocol = next;
        }
        Ok((self, rest))
    }

    /// Appends this header and the payload to `out`. A payload that IPv6 cannot carry is cut.
    pub fn emit(&self, payload: &[u8], out: &mut Vec<u8>) {
        let payload = payload.get(..usize::from(u16::MAX)).unwrap_or(payload);
        let length = u16::try_from(payload.len()).unwrap_or(u16::MAX);
        let first =
            (6 << 28) | (u32::from(self.traffic_class) << 20) | (self.flow_label & FLOW_LABEL);
        out.extend_from_slice(&first.to_be_bytes());
        out.extend_from_slice(&length.to_be_bytes());
        out.extend_from_slice(&[self.protocol, self.hop_limit]);
        out.extend_from_slice(&self.source.octets());
        out.extend_from_slice(&self.destination.octets());
        out.extend_from_slice(payload);
    }
}

/// Takes one from the hop limit of a packet in place, as a router does (RFC 8200 section 3).
/// Gives the new value, or nothing when it was 0 or 1 already.
pub fn decrement_hop_limit(packet: &mut [u8]) -> Option<u8> {
    let limit = packet.get_mut(HOP_LIMIT)?;
    let next = limit.checked_sub(1).filter(|limit| *limit > 0)?;
    *limit = next;
    Some(next)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packet(protocol: u8, payload: &[u8]) -> Vec<u8> {
        let header = Ipv6Header {
            source: "2001:db8::1".parse().unwrap(),
            destination: "2001:db8::2".parse().unwrap(),
            protocol,
            hop_limit: 7,
            traffic_class: 0xb8,
            flow_label: 0xabcde,
        };
        let mut out = Vec::new();
        header.emit(payload, &mut out);
        out
    }

    #[test]
    fn the_fields_stand_where_rfc_8200_section_3_puts_them() {
        let octets = packet(17, &[1, 2, 3]);
        assert_eq!(octets[..8], [0x6b, 0x8a, 0xbc, 0xde, 0, 3, 17, 7]);
        assert_eq!(octets[8..12], [0x20, 0x01, 0x0d, 0xb8]);
        let (header, payload) = Ipv6Header::parse(&octets).unwrap();
        assert_eq!((header.traffic_class, header.flow_label), (0xb8, 0xabcde));
        assert_eq!(payload, [1, 2, 3]);
    }

    #[test]
    fn extension_headers_are_walked_over() {
        // Hop-by-hop of 8 octets, then destination options of 16, then a fragment header.
        let mut payload = vec![60, 0, 1, 4, 0, 0, 0, 0];
        payload.extend([44, 1]);
        payload.extend([0; 14]);
        payload.extend([17, 0, 0, 0, 0, 0, 0, 9]);
        payload.extend([9, 9]);
        let octets = packet(0, &payload);
        let (header, rest) = Ipv6Header::parse(&octets).unwrap();
        assert_eq!((header.protocol, rest), (17, &[9, 9][..]));
        for end in 0..octets.len() {
            assert!(Ipv6Header::parse(&octets[..end]).is_err(), "{end} octets");
        }
        let cut = Ipv6Header::parse_quoted(&octets[..44]);
        assert!(matches!(cut, Err(ParseError::Short { .. })), "cut within an extension header");
    }
}
