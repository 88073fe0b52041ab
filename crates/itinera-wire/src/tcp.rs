//! TCP segments as far as a prober needs them: it sends SYN and reads what comes back (RFC 9293).

use crate::checksum;
use crate::ip::{self, Addresses};
use crate::reader::{Layer, ParseError, Reader};

/// Length of a header without options.
pub const HEADER_LEN: usize = 20;
/// Length of the option that announces the largest segment (RFC 9293 section 3.7.1).
pub const MAX_SEGMENT_LEN: usize = 4;

const CHECKSUM: std::ops::Range<usize> = 16..18;
const RESET: u8 = 0x04;
const SYN: u8 = 0x02;
const ACK: u8 = 0x10;

/// What the flags make of a segment, as far as it matters here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Asks for a connection.
    Syn,
    /// Accepts one.
    SynAck,
    /// Refuses or breaks one.
    Reset,
    /// Anything else.
    Other,
}

/// A TCP header without its options.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TcpHeader {
    /// Sender's port.
    pub source_port: u16,
    /// Receiver's port.
    pub destination_port: u16,
    /// Sequence number.
    pub sequence: u32,
    /// Acknowledgment number; meaningful in [`Role::SynAck`] and most resets.
    pub acknowledgment: u32,
    /// What it is.
    pub role: Role,
}

impl TcpHeader {
    /// Reads a header and passes over its options. The checksum is not judged: segments that
    /// never left the machine carry an unfinished one (checksum offload).
    ///
    /// # Errors
    /// [`ParseError`] when octets are missing or the header length is impossible.
    pub fn parse(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        let mut reader = Reader::new(Layer::Tcp, octets);
        let (source_port, destination_port) = (reader.u16()?, reader.u16()?);
        let (sequence, acknowledgment) = (reader.u32()?, reader.u32()?);
        let length = usize::from(reader.u8()? >> 4).saturating_mul(4);
        let flags = reader.u8()?;
        reader.skip(6)?;
        let options = length.checked_sub(HEADER_LEN).ok_or_else(|| ParseError::Field {
            layer: Layer::Tcp,
            field: "header length",
            value: u32::try_from(length).unwrap_or(u32::MAX),
        })?;
        reader.skip(options)?;
        let role = match flags & (SYN | ACK | RESET) {
            SYN => Role::Syn,
            both if both == SYN | ACK => Role::SynAck,
            reset if reset & RESET != 0 => Role::Reset,
            _ => Role::Other,
        };
        let header = Self { source_port, destination_port, sequence, acknowledgment, role };
        Ok((header, reader.rest()))
    }

    /// Appends a segment between these addresses with `data` behind its header. Those that ask
    /// or accept announce the largest segment that Ethernet carries when told to `announce` it.
    pub fn emit(&self, addresses: Addresses, announce: bool, data: &[u8], out: &mut Vec<u8>) {
        let flags = match self.role {
            Role::Syn => SYN,
            Role::SynAck => SYN | ACK,
            Role::Reset => RESET | ACK,
            Role::Other => ACK,
        };
        let start = out.len();
        out.extend_from_slice(&self.source_port.to_be_bytes());
        out.extend_from_slice(&self.destination_port.to_be_bytes());
        out.extend_from_slice(&self.sequence.to_be_bytes());
        out.extend_from_slice(&self.acknowledgment.to_be_bytes());
        let words: u8 = if announce { 6 } else { 5 };
        out.extend_from_slice(&[words << 4, flags]);
        // Window, checksum, urgent pointer.
        out.extend_from_slice(&[0xff, 0xff, 0, 0, 0, 0]);
        if announce {
            let largest: u16 = match addresses {
                Addresses::V4 { .. } => 1460,
                Addresses::V6 { .. } => 1440,
            };
            out.extend_from_slice(&[2, 4]);
            out.extend_from_slice(&largest.to_be_bytes());
        }
        out.extend_from_slice(data);
        let segment = out.get_mut(start..).unwrap_or_default();
        let length = u16::try_from(segment.len()).unwrap_or(u16::MAX);
        let pseudo = addresses.pseudo_header(ip::TCP, length);
        let field = checksum::field(checksum::add(pseudo, checksum::sum(segment)));
        if let Some(slot) = segment.get_mut(CHECKSUM) {
            slot.copy_from_slice(&field.to_be_bytes());
        }
    }
}

/// Ports and sequence number of a segment quoted in an ICMP error, which may be cut off right
/// behind them (RFC 792).
///
/// # Errors
/// [`ParseError`] when fewer than eight octets are there.
pub fn quoted(octets: &[u8]) -> Result<(u16, u16, u32), ParseError> {
    let mut reader = Reader::new(Layer::Tcp, octets);
    Ok((reader.u16()?, reader.u16()?, reader.u32()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ip::tests::any_addresses;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn parse_after_emit_returns_the_segment_with_a_valid_checksum(
            addresses in any_addresses(), ports: (u16, u16), numbers: (u32, u32), which in 0usize..4,
            announce: bool, data in prop::collection::vec(any::<u8>(), 0..40),
        ) {
            let header = TcpHeader {
                source_port: ports.0,
                destination_port: ports.1,
                sequence: numbers.0,
                acknowledgment: numbers.1,
                role: [Role::Syn, Role::SynAck, Role::Reset, Role::Other][which],
            };
            let mut octets = Vec::new();
            header.emit(addresses, announce, &data, &mut octets);
            prop_assert_eq!(TcpHeader::parse(&octets), Ok((header, data.as_slice())));
            prop_assert_eq!(quoted(&octets[..8]), Ok((ports.0, ports.1, numbers.0)));
            let length = u16::try_from(octets.len()).unwrap();
            let pseudo = addresses.pseudo_header(ip::TCP, length);
            prop_assert_eq!(checksum::add(pseudo, checksum::sum(&octets)), 0xffff);
        }

        #[test]
        fn any_octets_are_read_calmly(octets in prop::collection::vec(any::<u8>(), 0..80)) {
            if let Ok((_, rest)) = TcpHeader::parse(&octets) {
                prop_assert!(octets.len() >= HEADER_LEN + rest.len());
            }
            prop_assert_eq!(quoted(&octets).is_ok(), octets.len() >= 8);
        }
    }
}
