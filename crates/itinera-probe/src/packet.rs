//! Probe packets and the reading of answers to them.

use crate::sweep::SweepConfig;
use itinera_model::path::Method;
use itinera_wire::{Icmpv4, Ipv4Header, UdpHeader, icmpv4, ipv4, udp};
use std::net::Ipv4Addr;

/// What an answer says about the probe it answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum AnswerKind {
    /// A router on the way: the time to live ran out there (RFC 792 type 11).
    Transit,
    /// The target itself.
    Arrived,
    /// Somebody refused to carry it on (RFC 792 type 3): no success, whoever says it.
    Refused {
        /// ICMP code.
        code: u8,
    },
}

/// An answer to one of this flow's probes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Answer {
    pub(crate) seq: u16,
    pub(crate) responder: Ipv4Addr,
    pub(crate) kind: AnswerKind,
}

/// Appends the probe with identity `seq` (1..=0xfffe) to `out`.
///
/// All fields that load balancers use are the same for every `seq`: addresses, ports or ICMP
/// identifier, ICMP checksum, type of service, length. The identity is the ICMP sequence number
/// or the UDP checksum, both within the 8 octets that the shortest quote returns (RFC 792).
pub(crate) fn emit(config: &SweepConfig, ttl: u8, seq: u16, out: &mut Vec<u8>) {
    let mut transport = Vec::with_capacity(usize::from(config.size_bytes));
    let payload = config.size_bytes.saturating_sub(28);
    let (protocol, addresses) = match config.method {
        Method::IcmpEcho => {
            let (id, sum) = (config.source_port, config.destination_port);
            let data = icmpv4::steering_data(id, seq, sum, usize::from(payload));
            Icmpv4::EchoRequest { id, seq, data: &data }.emit(&mut transport);
            (ipv4::ICMP, (config.source, config.destination))
        }
        Method::Udp => {
            let addresses = (config.source, config.destination);
            let ports = (config.source_port, config.destination_port);
            udp::emit_steered(addresses, ports, payload, seq, &mut transport);
            (ipv4::UDP, addresses)
        }
    };
    let header = Ipv4Header {
        source: addresses.0,
        destination: addresses.1,
        protocol,
        ttl,
        traffic_class: config.dscp << 2,
        identification: seq,
        dont_fragment: false,
    };
    header.emit(&transport, out);
}

/// Reads an incoming IP packet as an answer to this flow; nothing when it is none.
pub(crate) fn read_answer(config: &SweepConfig, packet: &[u8]) -> Option<Answer> {
    let (outer, payload) = Ipv4Header::parse(packet).ok()?;
    if outer.protocol != ipv4::ICMP {
        return None;
    }
    let responder = outer.source;
    let (kind, quote) = match Icmpv4::parse(payload).ok()? {
        Icmpv4::EchoReply { id, seq, .. } => {
            let ours = config.method == Method::IcmpEcho
                && id == config.source_port
                && responder == config.destination;
            return ours.then_some(Answer { seq, responder, kind: AnswerKind::Arrived });
        }
        Icmpv4::TimeExceeded { code: 0, quote } => (AnswerKind::Transit, quote),
        Icmpv4::Unreachable { code, quote } => {
            let arrived = config.method == Method::Udp
                && code == icmpv4::PORT_UNREACHABLE
                && responder == config.destination;
            (if arrived { AnswerKind::Arrived } else { AnswerKind::Refused { code } }, quote)
        }
        _ => return None,
    };
    let (inner, transport) = Ipv4Header::parse_quoted(quote).ok()?;
    if inner.destination != config.destination || inner.source != config.source {
        return None;
    }
    let seq = match (config.method, inner.protocol) {
        (Method::IcmpEcho, ipv4::ICMP) => {
            let (id, seq) = icmpv4::quoted_echo(transport)?;
            (id == config.source_port).then_some(seq)?
        }
        (Method::Udp, ipv4::UDP) => {
            let (header, _) = UdpHeader::parse(transport).ok()?;
            let ports = (header.source_port, header.destination_port);
            (ports == (config.source_port, config.destination_port)).then_some(header.checksum)?
        }
        _ => return None,
    };
    Some(Answer { seq, responder, kind })
}
