//! ICMPv4 messages (RFC 792): the ones a prober sends and understands.

use crate::checksum;
use crate::reader::{Layer, ParseError, Reader};

/// Destination unreachable code 3: the host is there, the port is not.
pub const PORT_UNREACHABLE: u8 = 3;
/// Length of the header in front of payload or quote.
pub const HEADER_LEN: usize = 8;
const CHECKSUM: std::ops::Range<usize> = 2..4;

const ECHO_REPLY: u8 = 0;
const UNREACHABLE: u8 = 3;
const ECHO_REQUEST: u8 = 8;
const TIME_EXCEEDED: u8 = 11;

/// An ICMPv4 message. Unknown types and codes are values, not errors.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Icmpv4<'a> {
    /// Type 8.
    EchoRequest {
        /// Identifier.
        id: u16,
        /// Sequence number.
        seq: u16,
        /// Data, returned by the answer.
        data: &'a [u8],
    },
    /// Type 0.
    EchoReply {
        /// Identifier.
        id: u16,
        /// Sequence number.
        seq: u16,
        /// The request's data.
        data: &'a [u8],
    },
    /// Type 11.
    TimeExceeded {
        /// 0 in transit, 1 in reassembly.
        code: u8,
        /// The offending packet's beginning.
        quote: &'a [u8],
    },
    /// Type 3.
    Unreachable {
        /// Which kind (RFC 792, RFC 1122, RFC 1812).
        code: u8,
        /// The offending packet's beginning.
        quote: &'a [u8],
    },
    /// Anything else.
    Other {
        /// Type.
        kind: u8,
        /// Code.
        code: u8,
    },
}

impl<'a> Icmpv4<'a> {
    /// Reads a message that fills `octets`.
    ///
    /// # Errors
    /// [`ParseError`] when the header is incomplete or the checksum does not match.
    pub fn parse(octets: &'a [u8]) -> Result<Self, ParseError> {
        let mut reader = Reader::new(Layer::Icmpv4, octets);
        let kind = reader.u8()?;
        let code = reader.u8()?;
        reader.skip(CHECKSUM.len())?;
        let id = reader.u16()?;
        let seq = reader.u16()?;
        if checksum::sum(octets) != 0xffff {
            return Err(ParseError::Checksum { layer: Layer::Icmpv4 });
        }
        let rest = reader.rest();
        Ok(match kind {
            ECHO_REQUEST => Self::EchoRequest { id, seq, data: rest },
            ECHO_REPLY => Self::EchoReply { id, seq, data: rest },
            TIME_EXCEEDED => Self::TimeExceeded { code, quote: rest },
            UNREACHABLE => Self::Unreachable { code, quote: rest },
            kind => Self::Other { kind, code },
        })
    }

    /// Appends the message to `out`.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let (kind, code, id, seq, rest) = match *self {
            Self::EchoRequest { id, seq, data } => (ECHO_REQUEST, 0, id, seq, data),
            Self::EchoReply { id, seq, data } => (ECHO_REPLY, 0, id, seq, data),
            Self::TimeExceeded { code, quote } => (TIME_EXCEEDED, code, 0, 0, quote),
            Self::Unreachable { code, quote } => (UNREACHABLE, code, 0, 0, quote),
            Self::Other { kind, code } => (kind, code, 0, 0, &[][..]),
        };
        let start = out.len();
        out.extend_from_slice(&[kind, code, 0, 0]);
        out.extend_from_slice(&id.to_be_bytes());
        out.extend_from_slice(&seq.to_be_bytes());
        out.extend_from_slice(rest);
        let message = out.get_mut(start..).unwrap_or_default();
        let field = checksum::field(checksum::sum(message));
        if let Some(slot) = message.get_mut(CHECKSUM) {
            slot.copy_from_slice(&field.to_be_bytes());
        }
    }
}

/// The identifier and sequence number of an echo request quoted in an ICMP error, which may be
/// cut off right behind them; absent when it is none.
pub fn quoted_echo(quoted_transport: &[u8]) -> Option<(u16, u16)> {
    let mut reader = Reader::new(Layer::Icmpv4, quoted_transport);
    let kind = reader.u8().ok()?;
    reader.skip(3).ok()?;
    let id = reader.u16().ok()?;
    let seq = reader.u16().ok()?;
    (kind == ECHO_REQUEST).then_some((id, seq))
}

/// Data for an echo request of `len` octets that gives the whole message the checksum `wanted`
/// whatever `seq` is, so that load balancers which look at it see one flow.
///
/// Shape: two steering octets, then zeros; at least two octets long.
pub fn steering_data(id: u16, seq: u16, wanted: u16, len: usize) -> Vec<u8> {
    let first = u16::from_be_bytes([ECHO_REQUEST, 0]);
    let rest = checksum::add(first, checksum::add(id, seq));
    let mut data = checksum::steer(rest, wanted).to_be_bytes().to_vec();
    data.resize(len.max(2), 0);
    data
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn parse_after_emit_returns_the_message(
            which in 0u8..4, a: u16, b: u16, rest in prop::collection::vec(any::<u8>(), 0..40), bit: usize,
        ) {
            let [code, _] = a.to_be_bytes();
            let rest = rest.as_slice();
            let message = match which {
                0 => Icmpv4::EchoRequest { id: a, seq: b, data: rest },
                1 => Icmpv4::EchoReply { id: a, seq: b, data: rest },
                2 => Icmpv4::TimeExceeded { code, quote: rest },
                _ => Icmpv4::Unreachable { code, quote: rest },
            };
            let mut octets = Vec::new();
            message.emit(&mut octets);
            prop_assert_eq!(Icmpv4::parse(&octets), Ok(message));
            let bit = bit % (octets.len() * 8);
            octets[bit / 8] ^= 1 << (bit % 8);
            prop_assert!(Icmpv4::parse(&octets).is_err());
        }

        #[test]
        fn steered_echo_requests_keep_one_checksum(id: u16, seq: u16, wanted in 1u16..0xffff) {
            let data = steering_data(id, seq, wanted, 8);
            let mut octets = Vec::new();
            Icmpv4::EchoRequest { id, seq, data: &data }.emit(&mut octets);
            prop_assert_eq!(u16::from_be_bytes([octets[2], octets[3]]), wanted);
            prop_assert_eq!(quoted_echo(&octets[..8]), Some((id, seq)));
        }

        #[test]
        fn any_octets_are_read_calmly(octets in prop::collection::vec(any::<u8>(), 0..80)) {
            if octets.len() < HEADER_LEN {
                prop_assert!(Icmpv4::parse(&octets).is_err());
                prop_assert!(quoted_echo(&octets).is_none());
            }
        }
    }
}
