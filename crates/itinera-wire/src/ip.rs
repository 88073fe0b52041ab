//! Either version of IP, where the difference does not matter.

use crate::checksum;
use crate::ipv4::{self, Ipv4Header};
use crate::ipv6::{self, Ipv6Header};
use crate::reader::{Layer, ParseError, Reader};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Protocol number of UDP in both versions.
pub const UDP: u8 = 17;
/// Protocol number of TCP in both versions.
pub const TCP: u8 = 6;

/// Sender and receiver, which are always of one version.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Addresses {
    /// IPv4.
    V4 {
        /// Sender.
        source: Ipv4Addr,
        /// Receiver.
        destination: Ipv4Addr,
    },
    /// IPv6.
    V6 {
        /// Sender.
        source: Ipv6Addr,
        /// Receiver.
        destination: Ipv6Addr,
    },
}

impl Addresses {
    /// Two addresses of one version; nothing for two that are not.
    pub const fn try_new(source: IpAddr, destination: IpAddr) -> Option<Self> {
        match (source, destination) {
            (IpAddr::V4(source), IpAddr::V4(destination)) => Some(Self::V4 { source, destination }),
            (IpAddr::V6(source), IpAddr::V6(destination)) => Some(Self::V6 { source, destination }),
            _ => None,
        }
    }

    /// Sender.
    pub const fn source(self) -> IpAddr {
        match self {
            Self::V4 { source, .. } => IpAddr::V4(source),
            Self::V6 { source, .. } => IpAddr::V6(source),
        }
    }

    /// Receiver.
    pub const fn destination(self) -> IpAddr {
        match self {
            Self::V4 { destination, .. } => IpAddr::V4(destination),
            Self::V6 { destination, .. } => IpAddr::V6(destination),
        }
    }

    /// Protocol number of ICMP in this version.
    pub const fn icmp(self) -> u8 {
        match self {
            Self::V4 { .. } => ipv4::ICMP,
            Self::V6 { .. } => ipv6::ICMP,
        }
    }

    /// Octets of an IP header without options or extension headers.
    pub const fn header_len(self) -> usize {
        match self {
            Self::V4 { .. } => ipv4::HEADER_LEN,
            Self::V6 { .. } => ipv6::HEADER_LEN,
        }
    }

    /// The sum over the pseudo header of a transport (RFC 768; RFC 8200 section 8.1). `length` is
    /// the transport's header and data in octets.
    pub fn pseudo_header(self, protocol: u8, length: u16) -> u16 {
        let both = match self {
            Self::V4 { source, destination } => {
                checksum::add(checksum::sum(&source.octets()), checksum::sum(&destination.octets()))
            }
            Self::V6 { source, destination } => {
                checksum::add(checksum::sum(&source.octets()), checksum::sum(&destination.octets()))
            }
        };
        checksum::add(both, checksum::add(u16::from(protocol), length))
    }
}

/// An IP header of either version.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum IpHeader {
    /// RFC 791.
    V4(Ipv4Header),
    /// RFC 8200.
    V6(Ipv6Header),
}

impl IpHeader {
    /// A header for a packet of our own. `label` becomes the flow label (lower 20 bits,
    /// RFC 6437) in IPv6, where it must be the same for a whole flow, and is no part of IPv4;
    /// `identification` is no part of IPv6.
    pub const fn new(
        addresses: Addresses,
        protocol: u8,
        hop_limit: u8,
        traffic_class: u8,
        label: u32,
        identification: u16,
    ) -> Self {
        match addresses {
            Addresses::V4 { source, destination } => Self::V4(Ipv4Header {
                source,
                destination,
                protocol,
                ttl: hop_limit,
                traffic_class,
                identification,
                dont_fragment: false,
            }),
            Addresses::V6 { source, destination } => Self::V6(Ipv6Header {
                source,
                destination,
                protocol,
                hop_limit,
                traffic_class,
                flow_label: label & ipv6::FLOW_LABEL,
            }),
        }
    }

    /// Reads a whole packet; gives its header and its payload without link padding.
    ///
    /// # Errors
    /// [`ParseError`] of the version that the first octet names.
    pub fn parse(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        match version(octets)? {
            6 => Ipv6Header::parse(octets).map(|(header, rest)| (Self::V6(header), rest)),
            _ => Ipv4Header::parse(octets).map(|(header, rest)| (Self::V4(header), rest)),
        }
    }

    /// Reads a packet quoted in an ICMP error, which may be cut off anywhere behind its header.
    ///
    /// # Errors
    /// [`ParseError`] when the header itself is incomplete or impossible.
    pub fn parse_quoted(octets: &[u8]) -> Result<(Self, &[u8]), ParseError> {
        match version(octets)? {
            6 => Ipv6Header::parse_quoted(octets).map(|(header, rest)| (Self::V6(header), rest)),
            _ => Ipv4Header::parse_quoted(octets).map(|(header, rest)| (Self::V4(header), rest)),
        }
    }

    /// Appends this header and the payload to `out`.
    pub fn emit(&self, payload: &[u8], out: &mut Vec<u8>) {
        match self {
            Self::V4(header) => header.emit(payload, out),
            Self::V6(header) => header.emit(payload, out),
        }
    }

    /// This header, forbidding routers to cut the packet into fragments. In IPv6 none may
    /// anyway (RFC 8200 section 5).
    #[must_use]
    pub const fn unfragmented(self) -> Self {
        match self {
            Self::V4(header) => Self::V4(Ipv4Header { dont_fragment: true, ..header }),
            six @ Self::V6(_) => six,
        }
    }

    /// True when no router may cut the packet into fragments.
    pub const fn is_unfragmented(&self) -> bool {
        match self {
            Self::V4(header) => header.dont_fragment,
            Self::V6(_) => true,
        }
    }

    /// The identification of IPv4; no part of IPv6.
    pub const fn identification(&self) -> Option<u16> {
        match self {
            Self::V4(header) => Some(header.identification),
            Self::V6(_) => None,
        }
    }

    /// Sender and receiver.
    pub const fn addresses(&self) -> Addresses {
        match *self {
            Self::V4(Ipv4Header { source, destination, .. }) => {
                Addresses::V4 { source, destination }
            }
            Self::V6(Ipv6Header { source, destination, .. }) => {
                Addresses::V6 { source, destination }
            }
        }
    }

    /// The payload's protocol number; in IPv6 that behind all extension headers.
    pub const fn protocol(&self) -> u8 {
        match self {
            Self::V4(header) => header.protocol,
            Self::V6(header) => header.protocol,
        }
    }

    /// True for the ICMP of its own version.
    pub const fn is_icmp(&self) -> bool {
        self.protocol() == self.addresses().icmp()
    }

    /// Time to live, or hop limit.
    pub const fn hop_limit(&self) -> u8 {
        match self {
            Self::V4(header) => header.ttl,
            Self::V6(header) => header.hop_limit,
        }
    }

    /// DSCP (upper six bits) and ECN (lower two).
    pub const fn traffic_class(&self) -> u8 {
        match self {
            Self::V4(header) => header.traffic_class,
            Self::V6(header) => header.traffic_class,
        }
    }
}

fn version(octets: &[u8]) -> Result<u8, ParseError> {
    Reader::new(Layer::Ip, octets).u8().map(|first| first >> 4)
}

/// Puts another DSCP into a packet in place and leaves the ECN bits, as networks that mark
/// do (RFC 2474). Gives nothing when there is no header.
pub fn rewrite_dscp(packet: &mut [u8], dscp: u8) -> Option<()> {
    match version(packet).ok()? {
        6 => {
            // Version and upper class bits in the first octet, the rest in the second.
            let first = packet.first_chunk_mut::<2>()?;
            let [zero, one] = *first;
            let class = (dscp << 2) | ((one >> 4) & 3);
            *first = [(zero & 0xf0) | (class >> 4), (class << 4) | (one & 0x0f)];
        }
        _ => {
            let class = packet.get_mut(1)?;
            *class = (dscp << 2) | (*class & 3);
            ipv4::mend_checksum(packet)?;
        }
    }
    Some(())
}

/// Takes one from a packet's time to live or hop limit in place, as a router does. Gives the new
/// value, or nothing when it was 0 or 1 already.
pub fn decrement_hop_limit(packet: &mut [u8]) -> Option<u8> {
    match version(packet).ok()? {
        6 => ipv6::decrement_hop_limit(packet),
        _ => ipv4::decrement_ttl(packet),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::*;

    prop_compose! {
        /// Addresses of either version.
        pub(crate) fn any_addresses()(six: bool, s: u128, d: u128) -> Addresses {
            if six {
                Addresses::V6 { source: s.into(), destination: d.into() }
            } else {
                let four = |bits: u128| Ipv4Addr::from((bits >> 96) as u32);
                Addresses::V4 { source: four(s), destination: four(d) }
            }
        }
    }

    proptest! {
        #[test]
        fn either_version_is_read_as_it_was_written(
            addresses in any_addresses(), protocol in 60u8..=255, hop_limit in 2u8..=255, class: u8,
            label in 0u32..1 << 20, id: u16, payload in prop::collection::vec(any::<u8>(), 0..40),
        ) {
            // Numbers that IPv6 takes for extension headers are another test's.
            prop_assume!(![60, 135, 139, 140].contains(&protocol));
            let header = IpHeader::new(addresses, protocol, hop_limit, class, label, id);
            let mut packet = Vec::new();
            header.emit(&payload, &mut packet);
            prop_assert_eq!(IpHeader::parse(&packet), Ok((header, payload.as_slice())));
            prop_assert_eq!(IpHeader::parse_quoted(&packet), Ok((header, payload.as_slice())));
            prop_assert_eq!(header.addresses(), addresses);
            prop_assert_eq!(packet.len(), addresses.header_len() + payload.len());
            let mut marked = packet.clone();
            rewrite_dscp(&mut marked, 46).unwrap();
            let seen = IpHeader::parse(&marked).unwrap().0;
            prop_assert_eq!(seen.traffic_class(), 46 << 2 | class & 3);
            rewrite_dscp(&mut marked, class >> 2).unwrap();
            prop_assert_eq!(&marked, &packet);
            prop_assert_eq!(decrement_hop_limit(&mut packet), Some(hop_limit - 1));
            prop_assert_eq!(IpHeader::parse(&packet).unwrap().0.hop_limit(), hop_limit - 1);
        }

        #[test]
        fn any_octets_are_read_calmly(octets in prop::collection::vec(any::<u8>(), 0..120)) {
            for (_, payload) in [IpHeader::parse(&octets), IpHeader::parse_quoted(&octets)].into_iter().flatten() {
                prop_assert!(payload.len() < octets.len());
            }
        }
    }

    #[test]
    fn two_versions_are_no_pair() {
        let (four, six) = (Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into());
        assert_eq!(Addresses::try_new(four, six), None);
        assert_eq!(Addresses::try_new(six, six).unwrap().icmp(), 58);
    }
}
