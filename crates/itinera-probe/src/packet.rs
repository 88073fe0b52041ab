//! Probe packets and the reading of answers to them.

use crate::sweep::SweepConfig;
use itinera_model::path::Method;
use itinera_wire::{Addresses, Icmp, IpHeader, UdpHeader, icmp, ip, udp};
use std::net::{IpAddr, Ipv6Addr};

/// What an answer says about the probe it answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum AnswerKind {
    /// A router on the way: the hop limit ran out there.
    Transit,
    /// The target itself.
    Arrived,
    /// Somebody refused to carry it on (destination unreachable): no success, whoever says it.
    Refused {
        /// ICMP code, of the version the path uses.
        code: u8,
    },
}

/// An answer to one of this flow's probes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Answer {
    pub(crate) seq: u16,
    pub(crate) responder: IpAddr,
    pub(crate) kind: AnswerKind,
}

/// Appends the probe with identity `seq` (1..=0xfffe) to `out`.
///
/// All fields that load balancers use are the same for every `seq`: addresses, ports or ICMP
/// identifier, ICMP checksum, traffic class, flow label, length. The identity is the ICMP
/// sequence number or the UDP checksum, both within the 8 octets that the shortest quote returns
/// (RFC 792).
pub(crate) fn emit(config: &SweepConfig, hop_limit: u8, seq: u16, out: &mut Vec<u8>) {
    let addresses = config.addresses;
    let (own, other) = (config.source_port, config.destination_port);
    let mut transport = Vec::with_capacity(usize::from(config.size_bytes));
    let headers = addresses.header_len() + udp::HEADER_LEN;
    let payload = usize::from(config.size_bytes).saturating_sub(headers);
    let protocol = match config.method {
        Method::IcmpEcho => {
            let data = icmp::steering_data(addresses, own, seq, other, payload);
            Icmp::EchoRequest { id: own, seq, data: &data }.emit(addresses, &mut transport);
            addresses.icmp()
        }
        Method::Udp => {
            let payload = u16::try_from(payload).unwrap_or(u16::MAX);
            udp::emit_steered(addresses, (own, other), payload, seq, &mut transport);
            ip::UDP
        }
    };
    let label = (u32::from(own) << 4) ^ u32::from(other);
    let header = IpHeader::new(addresses, protocol, hop_limit, config.dscp << 2, label, seq);
    header.emit(&transport, out);
}

/// Reads an incoming IP packet as an answer to this flow; nothing when it is none.
pub(crate) fn read_answer(config: &SweepConfig, packet: &[u8]) -> Option<Answer> {
    let (outer, payload) = IpHeader::parse(packet).ok()?;
    if !outer.is_icmp() {
        return None;
    }
    let message = Icmp::parse(outer.addresses(), payload).ok()?;
    read_icmp(config, outer.addresses().source(), message)
}

/// Reads an incoming ICMPv6 message without its IP header likewise.
pub(crate) fn read_message(config: &SweepConfig, from: Ipv6Addr, message: &[u8]) -> Option<Answer> {
    matches!(config.addresses, Addresses::V6 { .. }).then_some(())?;
    read_icmp(config, from.into(), Icmp::parse_verified_v6(message).ok()?)
}

fn read_icmp(config: &SweepConfig, responder: IpAddr, message: Icmp<'_>) -> Option<Answer> {
    let addresses = config.addresses;
    let target = addresses.destination();
    let (kind, quote) = match message {
        Icmp::EchoReply { id, seq, .. } => {
            let ours = config.method == Method::IcmpEcho
                && id == config.source_port
                && responder == target;
            return ours.then_some(Answer { seq, responder, kind: AnswerKind::Arrived });
        }
        Icmp::TimeExceeded { code: 0, quote } => (AnswerKind::Transit, quote),
        Icmp::Unreachable { code, quote } => {
            let arrived = config.method == Method::Udp
                && code == icmp::port_unreachable(addresses)
                && responder == target;
            (if arrived { AnswerKind::Arrived } else { AnswerKind::Refused { code } }, quote)
        }
        _ => return None,
    };
    let (inner, transport) = IpHeader::parse_quoted(quote).ok()?;
    if inner.addresses() != addresses {
        return None;
    }
    let seq = match config.method {
        Method::IcmpEcho if inner.is_icmp() => {
            let (id, seq) = icmp::quoted_echo(addresses, transport)?;
            (id == config.source_port).then_some(seq)?
        }
        Method::Udp if inner.protocol() == ip::UDP => {
            let (header, _) = UdpHeader::parse(transport).ok()?;
            let ports = (header.source_port, header.destination_port);
            (ports == (config.source_port, config.destination_port)).then_some(header.checksum)?
        }
        _ => return None,
    };
    Some(Answer { seq, responder, kind })
}
