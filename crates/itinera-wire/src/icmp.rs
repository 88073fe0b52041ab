//! ICMP messages of either version (RFC 792, RFC 4443): the ones a prober sends and understands.
//!
//! The two versions say the same things with other numbers, and ICMPv6 sums the addresses in
//! as well; [`Icmp`] is what they say.

use crate::checksum;
use crate::extension;
use crate::ip::Addresses;
use crate::reader::{Layer, ParseError, Reader};

/// Length of the header in front of payload or quote.
pub const HEADER_LEN: usize = 8;
const CHECKSUM: std::ops::Range<usize> = 2..4;

/// The type numbers of a version.
struct Types {
    echo_request: u8,
    echo_reply: u8,
    unreachable: u8,
    time_exceeded: u8,
    too_big: Option<u8>,
    /// The octet that states the quote's length, and the octets of one unit (RFC 4884, 4).
    quote_length: (usize, usize),
}

/// RFC 792.
const V4: Types = Types {
    echo_request: 8,
    echo_reply: 0,
    unreachable: 3,
    time_exceeded: 11,
    too_big: None,
    quote_length: (5, 4),
};
/// RFC 4443.
const V6: Types = Types {
    echo_request: 128,
    echo_reply: 129,
    unreachable: 1,
    time_exceeded: 3,
    too_big: Some(2),
    quote_length: (4, 8),
};
/// "Fragmentation needed", the code of IPv4 that says what IPv6 has a type for (RFC 1191).
const FRAGMENTATION_NEEDED: u8 = 4;

impl Types {
    const fn of(addresses: Addresses) -> &'static Self {
        match addresses {
            Addresses::V4 { .. } => &V4,
            Addresses::V6 { .. } => &V6,
        }
    }
}

/// The "destination unreachable" code of a version that says: the host is there, the port is not.
pub const fn port_unreachable(addresses: Addresses) -> u8 {
    match addresses {
        Addresses::V4 { .. } => 3,
        Addresses::V6 { .. } => 4,
    }
}

/// What an ICMP error says about the packet that caused it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Quote<'a> {
    /// The packet's beginning; with extensions behind it perhaps padded with zeros.
    pub datagram: &'a [u8],
    /// The extension structure (RFC 4884), to be read by [`crate::extension::parse`]; empty
    /// where there is none.
    pub extensions: &'a [u8],
}

impl<'a> Quote<'a> {
    /// A quote without extensions.
    pub const fn plain(datagram: &'a [u8]) -> Self {
        Self { datagram, extensions: &[] }
    }

    /// Tells quote and extensions apart by the stated length, else, as RFC 4884 section 5.5 has
    /// it for older routers, by what stands behind 128 octets.
    fn split(octets: &'a [u8], stated: usize) -> Self {
        let at = if stated > 0 { stated } else { extension::QUOTED_LEN };
        let (datagram, rest) = octets.split_at_checked(at).unwrap_or((octets, &[]));
        let believed = !rest.is_empty() && (stated > 0 || extension::parse(rest).is_ok());
        if believed { Self { datagram, extensions: rest } } else { Self::plain(octets) }
    }

    /// Appends it; gives the units to state as its length.
    fn emit(self, unit: usize, out: &mut Vec<u8>) -> u8 {
        out.extend_from_slice(self.datagram);
        if self.extensions.is_empty() {
            return 0;
        }
        let padded = self.datagram.len().max(extension::QUOTED_LEN).next_multiple_of(unit);
        let zeros = padded.saturating_sub(self.datagram.len());
        out.resize(out.len().saturating_add(zeros), 0);
        out.extend_from_slice(self.extensions);
        u8::try_from(padded.checked_div(unit).unwrap_or(0)).unwrap_or(u8::MAX)
    }
}

/// An ICMP message. Unknown types and codes are values, not errors.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Icmp<'a> {
    /// Asks for an echo.
    EchoRequest {
        /// Identifier.
        id: u16,
        /// Sequence number.
        seq: u16,
        /// Data, returned by the answer.
        data: &'a [u8],
    },
    /// Answers to a request.
    EchoReply {
        /// Identifier.
        id: u16,
        /// Sequence number.
        seq: u16,
        /// The request's data.
        data: &'a [u8],
    },
    /// The packet's time to live or hop limit ran out.
    TimeExceeded {
        /// 0 in transit, 1 in reassembly.
        code: u8,
        /// What is quoted.
        quote: Quote<'a>,
    },
    /// Destination unreachable.
    Unreachable {
        /// Which kind (RFC 792, RFC 1122, RFC 1812; RFC 4443 section 3.1).
        code: u8,
        /// What is quoted.
        quote: Quote<'a>,
    },
    /// Too big for the next link and not to be cut (RFC 1191, RFC 8201).
    TooBig {
        /// The next link's MTU in octets; 0 from routers older than RFC 1191.
        mtu: u32,
        /// What is quoted.
        quote: Quote<'a>,
    },
    /// Anything else.
    Other {
        /// Type.
        kind: u8,
        /// Code.
        code: u8,
    },
}

/// What an ICMPv6 checksum adds for the addresses; nothing in ICMPv4.
fn pseudo_sum(addresses: Addresses, length: usize) -> u16 {
    match addresses {
        Addresses::V4 { .. } => 0,
        Addresses::V6 { .. } => {
            let length = u16::try_from(length).unwrap_or(u16::MAX);
            addresses.pseudo_header(addresses.icmp(), length)
        }
    }
}

impl<'a> Icmp<'a> {
    /// Reads a message that fills `octets` and travelled between these addresses.
    ///
    /// # Errors
    /// [`ParseError`] when the header is incomplete or the checksum does not match.
    pub fn parse(addresses: Addresses, octets: &'a [u8]) -> Result<Self, ParseError> {
        let sum = checksum::add(pseudo_sum(addresses, octets.len()), checksum::sum(octets));
        let message = Self::read(Types::of(addresses), octets)?;
        if sum == 0xffff { Ok(message) } else { Err(ParseError::Checksum { layer: Layer::Icmp }) }
    }

    /// Reads an ICMPv6 message as raw sockets give it: without its IP header, its checksum
    /// verified by the kernel (RFC 3542 section 3.1).
    ///
    /// # Errors
    /// [`ParseError`] when the header is incomplete.
    pub fn parse_verified_v6(octets: &'a [u8]) -> Result<Self, ParseError> {
        Self::read(&V6, octets)
    }

    /// Reads a message without judging its checksum, to see cheaply whose it may be.
    ///
    /// # Errors
    /// [`ParseError`] when the header is incomplete.
    pub fn parse_unverified(addresses: Addresses, octets: &'a [u8]) -> Result<Self, ParseError> {
        Self::read(Types::of(addresses), octets)
    }

    fn read(types: &Types, octets: &'a [u8]) -> Result<Self, ParseError> {
        let mut reader = Reader::new(Layer::Icmp, octets);
        let kind = reader.u8()?;
        let code = reader.u8()?;
        reader.skip(CHECKSUM.len())?;
        let word = reader.take::<4>()?;
        let [first, second, third, fourth] = word;
        let (id, seq) = (u16::from_be_bytes([first, second]), u16::from_be_bytes([third, fourth]));
        let rest = reader.rest();
        let (at, unit) = types.quote_length;
        let stated = octets.get(at).map_or(0, |units| usize::from(*units).saturating_mul(unit));
        let quote = Quote::split(rest, stated);
        let is_four = types.too_big.is_none();
        Ok(match kind {
            _ if kind == types.echo_request => Self::EchoRequest { id, seq, data: rest },
            _ if kind == types.echo_reply => Self::EchoReply { id, seq, data: rest },
            _ if kind == types.time_exceeded => Self::TimeExceeded { code, quote },
            _ if kind == types.unreachable && is_four && code == FRAGMENTATION_NEEDED => {
                Self::TooBig { mtu: u32::from(seq), quote }
            }
            _ if kind == types.unreachable => Self::Unreachable { code, quote },
            // The whole word is the MTU: there is no room to state a length.
            _ if Some(kind) == types.too_big => {
                Self::TooBig { mtu: u32::from_be_bytes(word), quote: Quote::plain(rest) }
            }
            kind => Self::Other { kind, code },
        })
    }

    /// Appends the message between these addresses to `out`.
    pub fn emit(&self, addresses: Addresses, out: &mut Vec<u8>) {
        let types = Types::of(addresses);
        let (at, unit) = types.quote_length;
        let start = out.len();
        let mut begin = |kind: u8, code: u8, word: [u8; 4]| {
            out.extend_from_slice(&[kind, code, 0, 0]);
            out.extend_from_slice(&word);
        };
        let echo = |id: u16, seq: u16| (u32::from(id) << 16 | u32::from(seq)).to_be_bytes();
        let mut units = 0;
        match *self {
            Self::EchoRequest { id, seq, data } => {
                begin(types.echo_request, 0, echo(id, seq));
                out.extend_from_slice(data);
            }
            Self::EchoReply { id, seq, data } => {
                begin(types.echo_reply, 0, echo(id, seq));
                out.extend_from_slice(data);
            }
            Self::TimeExceeded { code, quote } => {
                begin(types.time_exceeded, code, [0; 4]);
                units = quote.emit(unit, out);
            }
            Self::Unreachable { code, quote } => {
                begin(types.unreachable, code, [0; 4]);
                units = quote.emit(unit, out);
            }
            Self::TooBig { mtu, quote } => match types.too_big {
                Some(kind) => {
                    begin(kind, 0, mtu.to_be_bytes());
                    out.extend_from_slice(quote.datagram);
                }
                None => {
                    let mtu = u32::from(u16::try_from(mtu).unwrap_or(u16::MAX));
                    begin(types.unreachable, FRAGMENTATION_NEEDED, mtu.to_be_bytes());
                    units = quote.emit(unit, out);
                }
            },
            Self::Other { kind, code } => begin(kind, code, [0; 4]),
        }
        let message = out.get_mut(start..).unwrap_or_default();
        if units > 0
            && let Some(slot) = message.get_mut(at)
        {
            *slot = units;
        }
        let sum = checksum::add(pseudo_sum(addresses, message.len()), checksum::sum(message));
        if let Some(slot) = message.get_mut(CHECKSUM) {
            slot.copy_from_slice(&checksum::field(sum).to_be_bytes());
        }
    }
}

/// Identifier, sequence number and checksum of an echo request quoted in an ICMP error, which may be
/// cut off right behind them; absent when it is none.
pub fn quoted_echo(addresses: Addresses, quoted_transport: &[u8]) -> Option<(u16, u16, u16)> {
    let [_, _, high, low] = *quoted_transport.first_chunk::<4>()?;
    match Icmp::read(Types::of(addresses), quoted_transport).ok()? {
        Icmp::EchoRequest { id, seq, .. } => Some((id, seq, u16::from_be_bytes([high, low]))),
        _ => None,
    }
}

/// Data for an echo request of `len` octets that gives the whole message the checksum `wanted`
/// whatever `seq` is, so that load balancers which look at it see one flow.
///
/// Shape: two steering octets, then zeros; at least two octets long.
pub fn steering_data(addresses: Addresses, id: u16, seq: u16, wanted: u16, len: usize) -> Vec<u8> {
    let len = len.max(2);
    let first = u16::from_be_bytes([Types::of(addresses).echo_request, 0]);
    let message = checksum::add(first, checksum::add(id, seq));
    let rest = checksum::add(pseudo_sum(addresses, len.saturating_add(HEADER_LEN)), message);
    let mut data = checksum::steer(rest, wanted).to_be_bytes().to_vec();
    data.resize(len, 0);
    data
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::extension::tests::any_objects;
    use crate::ip::tests::any_addresses;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn parse_after_emit_returns_the_message(
            addresses in any_addresses(), which in 0u8..5, a: u16, b: u16,
            rest in prop::collection::vec(any::<u8>(), 0..40), bit: usize,
        ) {
            let [code, _] = a.to_be_bytes();
            let code = if code == FRAGMENTATION_NEEDED { 0 } else { code };
            let rest = rest.as_slice();
            let quote = Quote::plain(rest);
            let message = match which {
                0 => Icmp::EchoRequest { id: a, seq: b, data: rest },
                1 => Icmp::EchoReply { id: a, seq: b, data: rest },
                2 => Icmp::TimeExceeded { code, quote },
                3 => Icmp::TooBig { mtu: u32::from(b), quote },
                _ => Icmp::Unreachable { code, quote },
            };
            let mut octets = Vec::new();
            message.emit(addresses, &mut octets);
            prop_assert_eq!(Icmp::parse(addresses, &octets), Ok(message));
            let bit = bit % (octets.len() * 8);
            octets[bit / 8] ^= 1 << (bit % 8);
            prop_assert!(Icmp::parse(addresses, &octets).is_err());
        }

        #[test]
        fn extensions_are_found_behind_a_quote_of_any_length(
            addresses in any_addresses(), datagram in prop::collection::vec(1u8..=255, 1..300),
            objects in any_objects(), unstated: bool,
        ) {
            let mut extensions = Vec::new();
            extension::emit(&objects, &mut extensions);
            let unstated = unstated && datagram.len() <= extension::QUOTED_LEN;
            let message =
                Icmp::TimeExceeded { code: 0, quote: Quote { datagram: &datagram, extensions: &extensions } };
            let mut octets = Vec::new();
            message.emit(addresses, &mut octets);
            if unstated {
                // As routers older than RFC 4884 send it.
                octets[Types::of(addresses).quote_length.0] = 0;
                octets[CHECKSUM].fill(0);
                let sum = checksum::add(pseudo_sum(addresses, octets.len()), checksum::sum(&octets));
                octets[CHECKSUM].copy_from_slice(&checksum::field(sum).to_be_bytes());
            }
            let Ok(Icmp::TimeExceeded { quote, .. }) = Icmp::parse(addresses, &octets) else {
                return Err(TestCaseError::fail("not read back"));
            };
            prop_assert_eq!(&quote.datagram[..datagram.len()], datagram.as_slice());
            prop_assert!(quote.datagram[datagram.len()..].iter().all(|octet| *octet == 0));
            prop_assert_eq!(extension::parse(quote.extensions), Ok(objects));
        }

        #[test]
        fn steered_echo_requests_keep_one_checksum(
            addresses in any_addresses(), id: u16, seq: u16, wanted in 1u16..0xffff,
        ) {
            let data = steering_data(addresses, id, seq, wanted, 8);
            let mut octets = Vec::new();
            Icmp::EchoRequest { id, seq, data: &data }.emit(addresses, &mut octets);
            prop_assert_eq!(u16::from_be_bytes([octets[2], octets[3]]), wanted);
            prop_assert_eq!(quoted_echo(addresses, &octets[..8]), Some((id, seq, wanted)));
        }

        #[test]
        fn any_octets_are_read_calmly(
            addresses in any_addresses(), octets in prop::collection::vec(any::<u8>(), 0..80),
        ) {
            if octets.len() < HEADER_LEN {
                prop_assert!(Icmp::parse(addresses, &octets).is_err());
                prop_assert!(Icmp::parse_verified_v6(&octets).is_err());
                prop_assert!(quoted_echo(addresses, &octets).is_none());
            }
        }
    }

    #[test]
    fn a_message_of_one_version_is_none_of_the_other() {
        let four =
            Addresses::V4 { source: [10, 0, 0, 1].into(), destination: [10, 0, 0, 2].into() };
        let mut octets = Vec::new();
        Icmp::EchoRequest { id: 1, seq: 2, data: b"xy" }.emit(four, &mut octets);
        assert_eq!(octets[0], 8);
        let six = Addresses::V6 { source: 1.into(), destination: 2.into() };
        assert!(Icmp::parse(six, &octets).is_err());
        assert!(quoted_echo(six, &octets).is_none());
    }
}
