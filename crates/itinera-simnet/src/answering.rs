//! What nodes answer: routers to packets that run out on them, hosts to what they are asked.

use crate::scenario::Protocol;
use crate::world::{Host, Node};
use itinera_wire::extension::{self, Label, Object, QUOTED_LEN};
use itinera_wire::icmp::Quote;
use itinera_wire::tcp::Role;
use itinera_wire::{Addresses, Icmp, IpHeader, TcpHeader, UdpHeader, checksum, icmp, ip};

/// Bytes of the offending transport that answers quote (RFC 792).
const QUOTED_TRANSPORT: usize = 8;
/// Sequence number of every host's acceptance of a connection.
const FIRST_SEQUENCE: u32 = 1;

/// An answer, before it is known from which address it leaves.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Answer {
    EchoReply { id: u16, seq: u16, data: Vec<u8> },
    TimeExceeded { datagram: Vec<u8>, extensions: Vec<u8> },
    Unreachable { code: u8, datagram: Vec<u8> },
    TooBig { mtu: u32, datagram: Vec<u8> },
    Tcp(TcpHeader),
    Datagram { ports: (u16, u16), payload: Vec<u8> },
}

impl Answer {
    /// Its protocol and its bytes between these addresses.
    pub(crate) fn emit(&self, back: Addresses) -> (u8, Vec<u8>) {
        let mut out = Vec::new();
        let message = match self {
            Self::EchoReply { id, seq, data } => Icmp::EchoReply { id: *id, seq: *seq, data },
            Self::TimeExceeded { datagram, extensions } => {
                Icmp::TimeExceeded { code: 0, quote: Quote { datagram, extensions } }
            }
            Self::Unreachable { code, datagram } => {
                Icmp::Unreachable { code: *code, quote: Quote::plain(datagram) }
            }
            Self::TooBig { mtu, datagram } => {
                Icmp::TooBig { mtu: *mtu, quote: Quote::plain(datagram) }
            }
            Self::Tcp(header) => {
                header.emit(back, header.role == Role::SynAck, &[], &mut out);
                return (ip::TCP, out);
            }
            Self::Datagram { ports: (from, to), payload } => {
                let length = u16::try_from(payload.len() + 8).unwrap_or(u16::MAX);
                for field in [*from, *to, length, 0] {
                    out.extend_from_slice(&field.to_be_bytes());
                }
                out.extend_from_slice(payload);
                let pseudo = back.pseudo_header(ip::UDP, length);
                let field = checksum::field(checksum::add(pseudo, checksum::sum(&out)));
                // Zero would mean that there is none (RFC 768).
                let field = if field == 0 { 0xffff } else { field };
                out[6..8].copy_from_slice(&field.to_be_bytes());
                return (ip::UDP, out);
            }
        };
        message.emit(back, &mut out);
        (back.icmp(), out)
    }
}

/// The beginning of a packet as errors quote it.
pub(crate) fn quote_of(addresses: Addresses, packet: &[u8]) -> Vec<u8> {
    packet.get(..addresses.header_len() + QUOTED_TRANSPORT).unwrap_or(packet).to_vec()
}

/// What a router says to a packet that runs out on it, with what it likes to add.
pub(crate) fn time_exceeded(router: &Node, addresses: Addresses, packet: &[u8]) -> Answer {
    let mut datagram = quote_of(addresses, packet);
    if let Some(shown) = router.quotes_hop_limit {
        let at = match addresses {
            Addresses::V4 { .. } => 8,
            Addresses::V6 { .. } => 7,
        };
        datagram[at] = shown;
    }
    let mut extensions = Vec::new();
    if !router.labels.is_empty() {
        let last = router.labels.len() - 1;
        let labels = router.labels.iter().enumerate().map(|(index, label)| Label {
            label: *label & 0x000f_ffff,
            traffic_class: 0,
            bottom: index == last,
            ttl: 1,
        });
        extension::emit(&[Object::Labels(labels.collect())], &mut extensions);
        // A router that adds extensions quotes as much as they leave room for.
        datagram.extend(packet.iter().skip(datagram.len()));
        datagram.truncate(QUOTED_LEN);
    }
    Answer::TimeExceeded { datagram, extensions }
}

/// What a host answers: echo to echo (RFC 1122 section 3.2.2.6, RFC 4443 section 4.2), its
/// service or "port unreachable" to UDP (RFC 1122 section 4.1.3.1, RFC 4443 section 3.1), an
/// acceptance or a reset to TCP SYN (RFC 9293 section 3.5).
pub(crate) fn of_host(
    host: &Host,
    header: &IpHeader,
    payload: &[u8],
    packet: &[u8],
) -> Option<Answer> {
    let addresses = header.addresses();
    let ignores = |protocol| host.ignores.contains(&protocol);
    if header.is_icmp() {
        return match Icmp::parse(addresses, payload).ok()? {
            Icmp::EchoRequest { id, seq, data } if !ignores(Protocol::Echo) => {
                Some(Answer::EchoReply { id, seq, data: data.to_vec() })
            }
            _ => None,
        };
    }
    match header.protocol() {
        ip::UDP if !ignores(Protocol::Udp) => {
            let (udp, data) = UdpHeader::parse(payload).ok()?;
            if host.udp_open.contains(&udp.destination_port) {
                let ports = (udp.destination_port, udp.source_port);
                return Some(Answer::Datagram { ports, payload: data.to_vec() });
            }
            let code = icmp::port_unreachable(addresses);
            Some(Answer::Unreachable { code, datagram: quote_of(addresses, packet) })
        }
        ip::TCP if !ignores(Protocol::Tcp) => {
            let (syn, _) = TcpHeader::parse(payload).ok()?;
            (syn.role == Role::Syn).then_some(())?;
            let open = host.tcp_open.contains(&syn.destination_port);
            Some(Answer::Tcp(TcpHeader {
                source_port: syn.destination_port,
                destination_port: syn.source_port,
                sequence: if open { FIRST_SEQUENCE } else { 0 },
                acknowledgment: syn.sequence.wrapping_add(1),
                role: if open { Role::SynAck } else { Role::Reset },
            }))
        }
        _ => None,
    }
}

/// A number that is the same for all packets of a flow: of addresses, protocol, and ports, or
/// what stands in their place in ICMP.
///
/// Source: G. Fowler, L. C. Noll, K.-P. Vo, FNV-1a, draft-eastlake-fnv; then mixed as in
/// SplitMix64 so that every bit counts.
pub(crate) fn flow_hash(salt: u64, packet: &[u8]) -> Option<u64> {
    let (header, transport) = IpHeader::parse(packet).ok()?;
    let addresses = header.addresses();
    let words = transport.first_chunk::<4>().copied().unwrap_or_default();
    let text = (addresses.source(), addresses.destination());
    let mut hash = 0xcbf2_9ce4_8422_2325 ^ salt;
    let mut eat = |octet: u8| {
        hash = (hash ^ u64::from(octet)).wrapping_mul(0x0000_0100_0000_01b3);
    };
    for address in [text.0, text.1] {
        match address {
            std::net::IpAddr::V4(four) => four.octets().into_iter().for_each(&mut eat),
            std::net::IpAddr::V6(six) => six.octets().into_iter().for_each(&mut eat),
        }
    }
    eat(header.protocol());
    words.into_iter().for_each(&mut eat);
    hash = (hash ^ (hash >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    hash = (hash ^ (hash >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    Some(hash ^ (hash >> 31))
}
