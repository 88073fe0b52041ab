//! Translation of addresses and ports (RFC 3022, RFC 5508), as the router at the edge of a site
//! does it for IPv4.

use itinera_wire::{Addresses, IpHeader, checksum, ip, ipv4};
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};

/// First port given where the sender's own is taken.
const FIRST_SPARE: u16 = 50_000;
const SOURCE: std::ops::Range<usize> = 12..16;
const DESTINATION: std::ops::Range<usize> = 16..20;

/// An address with a port or identifier, and its protocol.
type Point = (u8, Ipv4Addr, u16);

/// The table of one router.
#[derive(Debug, Clone, Default)]
pub(crate) struct Translations {
    outbound: BTreeMap<Point, u16>,
    inbound: BTreeMap<(u8, u16), (Ipv4Addr, u16)>,
}

impl Translations {
    /// Gives a packet that leaves another sender. False when it cannot be translated.
    pub(crate) fn on_leaving(&mut self, packet: &mut [u8], outside: Ipv4Addr) -> bool {
        let Some((protocol, inside, port)) = point(packet, Side::Source) else {
            return false;
        };
        let known = self.outbound.get(&(protocol, inside, port)).copied();
        let given = known.unwrap_or_else(|| self.give(protocol, inside, port));
        rewrite(packet, Side::Source, outside, given).is_some()
    }

    fn give(&mut self, protocol: u8, inside: Ipv4Addr, port: u16) -> u16 {
        let candidates = std::iter::once(port).chain(FIRST_SPARE..=u16::MAX);
        let mut free = candidates.filter(|port| !self.inbound.contains_key(&(protocol, *port)));
        let given = free.next().unwrap_or(port);
        self.outbound.insert((protocol, inside, port), given);
        self.inbound.insert((protocol, given), (inside, port));
        given
    }

    /// Gives a packet that comes back its receiver inside; what ICMP errors quote as well where
    /// `restores`. False when no packet from inside matches it.
    pub(crate) fn on_coming_back(&self, packet: &mut [u8], restores: bool) -> bool {
        self.come_back(packet, restores).is_some()
    }

    fn come_back(&self, packet: &mut [u8], restores: bool) -> Option<()> {
        if let Some((protocol, _, port)) = point(packet, Side::Destination) {
            let (inside, own) = self.inbound.get(&(protocol, port)).copied()?;
            return rewrite(packet, Side::Destination, inside, own);
        }
        // An error: the quote names the flow.
        let quote = packet.get(ipv4::HEADER_LEN + 8..)?;
        let (protocol, _, port) = point(quote, Side::Source)?;
        let (inside, own) = self.inbound.get(&(protocol, port)).copied()?;
        packet.get_mut(DESTINATION)?.copy_from_slice(&inside.octets());
        mend_header(packet)?;
        if restores {
            rewrite(packet.get_mut(ipv4::HEADER_LEN + 8..)?, Side::Source, inside, own)?;
            mend_icmp(packet)?;
        }
        Some(())
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Side {
    Source,
    Destination,
}

/// Where the port or identifier stands in a transport header, and where its checksum.
fn places(protocol: u8, side: Side, first: u8) -> Option<(usize, usize)> {
    let port = if side == Side::Source { 0 } else { 2 };
    match (protocol, first) {
        (ip::UDP, _) => Some((port, 6)),
        (ip::TCP, _) => Some((port, 16)),
        // Echo request and reply.
        (ipv4::ICMP, 0 | 8) => Some((4, 2)),
        _ => None,
    }
}

fn point(packet: &[u8], side: Side) -> Option<Point> {
    let (header, transport) = IpHeader::parse_quoted(packet).ok()?;
    let Addresses::V4 { source, destination } = header.addresses() else {
        return None;
    };
    let address = if side == Side::Source { source } else { destination };
    let (at, _) = places(header.protocol(), side, *transport.first()?)?;
    let port = u16::from_be_bytes(*transport.get(at..)?.first_chunk()?);
    Some((header.protocol(), address, port))
}

/// Puts another address and port in, and mends the checksums by what has changed (RFC 1624).
fn rewrite(packet: &mut [u8], side: Side, address: Ipv4Addr, port: u16) -> Option<()> {
    let (header, transport) = IpHeader::parse_quoted(packet).ok()?;
    let protocol = header.protocol();
    let (at, sum_at) = places(protocol, side, *transport.first()?)?;
    let start = packet.len() - transport.len();
    let range = if side == Side::Source { SOURCE } else { DESTINATION };
    let before = checksum::sum(packet.get(range.clone())?);
    packet.get_mut(range)?.copy_from_slice(&address.octets());
    let slot = packet.get_mut(start + at..)?.first_chunk_mut::<2>()?;
    let old_port = u16::from_be_bytes(*slot);
    *slot = port.to_be_bytes();
    // The pseudo header is part of the sums of UDP and TCP, and of ICMP's in IPv4 not.
    let pseudo = protocol != ipv4::ICMP;
    let gone = if pseudo { checksum::add(before, old_port) } else { old_port };
    let came = if pseudo { checksum::add(checksum::sum(&address.octets()), port) } else { port };
    // A short quote may end before the checksum.
    if let Some(field) =
        packet.get_mut(start + sum_at..).and_then(|rest| rest.first_chunk_mut::<2>())
    {
        let sum = checksum::add(checksum::add(!u16::from_be_bytes(*field), !gone), came);
        *field = (!sum).to_be_bytes();
    }
    mend_header(packet)
}

fn mend_header(packet: &mut [u8]) -> Option<()> {
    let mut header = *packet.first_chunk::<{ ipv4::HEADER_LEN }>()?;
    header[10..12].fill(0);
    let field = checksum::field(checksum::sum(&header));
    packet.get_mut(10..12)?.copy_from_slice(&field.to_be_bytes());
    Some(())
}

fn mend_icmp(packet: &mut [u8]) -> Option<()> {
    let message = packet.get_mut(ipv4::HEADER_LEN..)?;
    message.get_mut(2..4)?.fill(0);
    let field = checksum::field(checksum::sum(message));
    message.get_mut(2..4)?.copy_from_slice(&field.to_be_bytes());
    Some(())
}

/// True for what a translator at the edge of a site hides.
pub(crate) const fn is_inside(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(four) => four.is_private(),
        IpAddr::V6(_) => false,
    }
}
