//! IPv4 headers (RFC 791).

use crate::checksum;
use crate::reader::{Layer, ParseError, Reader};
use std::net::Ipv4Addr;

/// Protocol number of ICMP.
pub const ICMP: u8 = 1;
/// Length of a header without options.
pub const HEADER_LEN: usize = 20;

/// Octet range of the time to live.
const TTL: usize = 8;
const CHECKSUM: std::ops::Range<usize> = 10..12;

/// An IPv4 header without options. Options are skipped on parsing and never emitted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ipv4Header {
    /// Sender.
    pub source: Ipv4Addr,
    /// Receiver.
    pub destination: Ipv4Addr,
    /// Payload's protocol number; unknown ones are values, not errors.
    pub protocol: u8,
    /// Time to live.
    pub ttl: u8,
    /// DSCP (upper six bits, RFC 2474) and ECN (lower two, RFC 3168).
    pub traffic_class: u8,
    /// Identification.
    pub identification: u16,
    /// The don't-fragment flag.
    pub dont_fragment: bool,
}

/// How much of the packet must be there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Extent {
    Whole,
    Quoted,
}

impl Ipv4Header {
    /// Reads a whole packet; gives its header and its payload without link padding.
    ///
    /// # Errors
    /// [`ParseError`] when octets are missing, the version or a length is impossible, or the
    /// header checksum does not match.
    pub fn parse(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        Self::parse_extent(octets, Extent::Whole)
    }

    /// Reads a packet quoted in an ICMP error: cut off anywhere behind its header, and with
    /// fields that routers changed on the route, so that the checksum is not regarded.
    ///
    /// # Errors
    /// [`ParseError`] when the header itself is incomplete or impossible.
    pub fn parse_quoted(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        Self::parse_extent(octets, Extent::Quoted)
    }

    fn parse_extent(octets: &[u8], extent: Extent) -> Result<(Self, &[u8]), ParseError> {
        let wrong = |field, value: usize| ParseError::Field {
            layer: Layer::Ipv4,
            field,
            value: u32::try_from(value).unwrap_or(u32::MAX),
        };
        let mut reader = Reader::new(Layer::Ipv4, octets);
        let first = reader.u8()?;
        if first >> 4 != 4 {
            return Err(wrong("version", usize::from(first >> 4)));
        }
        let header_len = usize::from(first & 0x0f).saturating_mul(4);
        if header_len < HEADER_LEN {
            return Err(wrong("header length", header_len));
        }
        let traffic_class = reader.u8()?;
        let total_len = usize::from(reader.u16()?);
        let identification = reader.u16()?;
        let flags = reader.u16()?;
        let ttl = reader.u8()?;
        let protocol = reader.u8()?;
        reader.skip(CHECKSUM.len())?;
        let source = Ipv4Addr::from(reader.take::<4>()?);
        let destination = Ipv4Addr::from(reader.take::<4>()?);
        reader.skip(header_len.saturating_sub(HEADER_LEN))?;
        let available = reader.rest();
        let payload = match extent {
            Extent::Quoted => available,
            Extent::Whole => {
                let header = octets.get(..header_len).unwrap_or(octets);
                if checksum::sum(header) != 0xffff {
                    return Err(ParseError::Checksum { layer: Layer::Ipv4 });
                }
                let payload_len = total_len
                    .checked_sub(header_len)
                    .ok_or_else(|| wrong("total length", total_len))?;
                available.get(..payload_len).ok_or(ParseError::Short {
                    layer: Layer::Ipv4,
                    offset: header_len,
                    needed: payload_len,
                    actual: available.len(),
                })?
            }
        };
        let header = Self {
            source,
            destination,
            protocol,
            ttl,
            traffic_class,
            identification,
            dont_fragment: flags & 0x4000 != 0,
        };
        Ok((header, payload))
    }

    /// Appends this header and the payload to `out`. A payload that IPv4 cannot carry is cut.
    pub fn emit(&self, payload: &[u8], out: &mut Vec<u8>) {
        let room = usize::from(u16::MAX).saturating_sub(HEADER_LEN);
        let payload = payload.get(..room).unwrap_or(payload);
        let total = u16::try_from(payload.len().saturating_add(HEADER_LEN)).unwrap_or(u16::MAX);
        let flags: u16 = if self.dont_fragment { 0x4000 } else { 0 };
        let [total_high, total_low] = total.to_be_bytes();
        let [id_high, id_low] = self.identification.to_be_bytes();
        let [flags_high, flags_low] = flags.to_be_bytes();
        let [s0, s1, s2, s3] = self.source.octets();
        let [d0, d1, d2, d3] = self.destination.octets();
        let mut header = [
            0x45,
            self.traffic_class,
            total_high,
            total_low,
            id_high,
            id_low,
            flags_high,
            flags_low,
            self.ttl,
            self.protocol,
            0,
            0,
            s0,
            s1,
            s2,
            s3,
            d0,
            d1,
            d2,
            d3,
        ];
        let field = checksum::field(checksum::sum(&header));
        if let Some(slot) = header.get_mut(CHECKSUM) {
            slot.copy_from_slice(&field.to_be_bytes());
        }
        out.extend_from_slice(&header);
        out.extend_from_slice(payload);
    }
}

/// Takes one from the time to live of a packet in place, as a router does (RFC 1812, 5.3.1),
/// and mends the checksum. Gives the new value, or nothing when it was 0 or 1 already.
pub fn decrement_ttl(packet: &mut [u8]) -> Option<u8> {
    let ttl = packet.get_mut(TTL)?;
    let next = ttl.checked_sub(1).filter(|ttl| *ttl > 0)?;
    *ttl = next;
    mend_checksum(packet)?;
    Some(next)
}

/// Makes the header checksum of a packet without options right again.
pub(crate) fn mend_checksum(packet: &mut [u8]) -> Option<()> {
    packet.get_mut(CHECKSUM)?.fill(0);
    let field = checksum::field(checksum::sum(packet.get(..HEADER_LEN)?));
    packet.get_mut(CHECKSUM)?.copy_from_slice(&field.to_be_bytes());
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    prop_compose! {
        fn any_header()(s: u32, d: u32, protocol: u8, ttl: u8, class: u8, id: u16, df: bool) -> Ipv4Header {
            Ipv4Header {
                source: s.into(), destination: d.into(), protocol, ttl, traffic_class: class,
                identification: id, dont_fragment: df,
            }
        }
    }

    proptest! {
        #[test]
        fn parse_after_emit_returns_the_packet(
            header in any_header(), payload in prop::collection::vec(any::<u8>(), 0..64), padding in 0usize..8,
        ) {
            let mut packet = Vec::new();
            header.emit(&payload, &mut packet);
            packet.resize(packet.len() + padding, 0);
            prop_assert_eq!(Ipv4Header::parse(&packet), Ok((header, payload.as_slice())));
        }

        #[test]
        fn every_truncation_and_flipped_header_bit_is_refused(
            header in any_header(), payload in prop::collection::vec(any::<u8>(), 0..32), bit in 0usize..160,
        ) {
            let mut packet = Vec::new();
            header.emit(&payload, &mut packet);
            for end in 0..packet.len() {
                prop_assert!(Ipv4Header::parse(&packet[..end]).is_err());
            }
            packet[bit / 8] ^= 1 << (bit % 8);
            prop_assert!(Ipv4Header::parse(&packet).is_err());
        }

        #[test]
        fn a_decremented_packet_still_parses(header in any_header()) {
            let mut packet = Vec::new();
            header.emit(&[1, 2, 3], &mut packet);
            let after = decrement_ttl(&mut packet);
            prop_assert_eq!(after, (header.ttl > 1).then(|| header.ttl - 1));
            let (read, _) = Ipv4Header::parse(&packet).unwrap();
            prop_assert_eq!(read.ttl, after.unwrap_or(header.ttl));
        }

        #[test]
        fn any_octets_are_read_calmly(octets in prop::collection::vec(any::<u8>(), 0..80)) {
            if let Ok((_, payload)) = Ipv4Header::parse_quoted(&octets) {
                prop_assert!(payload.len() < octets.len());
            }
        }
    }
}
