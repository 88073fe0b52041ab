//! Probe packets and the reading of answers to them.

use crate::{Input, Report};
use itinera_model::path::Method;
use itinera_model::reading::{
    AnswerForm, CarriedInterface, CarriedLabel, HopReading, MAX_LABELS, MAX_NAME,
};
use itinera_model::route::Flow;
use itinera_model::text;
use itinera_model::unreachable;
use itinera_wire::extension::{self, InterfaceRole, Object};
use itinera_wire::icmp::Quote;
use itinera_wire::tcp::{self, Role};
use itinera_wire::{Addresses, Icmp, IpHeader, TcpHeader, UdpHeader, checksum, icmp, ip, udp};
use std::net::IpAddr;
use std::ops::RangeInclusive;

/// What all probes of one engine have in common.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProbeSpec {
    /// Sender's and target's address.
    pub addresses: Addresses,
    /// ICMP echo, UDP or TCP SYN.
    pub method: Method,
    /// Destination port, or the ICMP checksum all probes carry (neither 0 nor 0xffff).
    pub destination_port: u16,
    /// UDP to a port that answers by itself: one probe at a time may get that far, since a
    /// datagram does not say which one it answers. TCP is always probed so.
    pub port_answers: bool,
    /// Differentiated services code point, 0..=63.
    pub dscp: u8,
    /// Length of the whole IP packet in octets: 30..=65000, more for IPv6 and TCP.
    pub size_bytes: u16,
    /// Forbid routers to cut probes into fragments.
    pub dont_fragment: bool,
    /// A part of TCP sequence numbers, so that answers to others are not taken for ours.
    pub secret: u16,
}

/// Why probes cannot be sent as wished.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ProbeSpecError {
    /// Too short for its headers, or longer than probes are.
    #[error("packet size {size} is outside {least}..={LARGEST} octets")]
    Size {
        /// As wished.
        size: u16,
        /// The least for this method and version of IP.
        least: u16,
    },
    /// DSCP outside 0..=63.
    #[error("DSCP {0} is outside 0..=63")]
    Dscp(u8),
    /// An ICMP checksum that ones' complement cannot tell from its negative zero.
    #[error("the constant ICMP checksum may not be 0 or 0xffff")]
    Checksum,
}

/// The longest probe, in octets with its IP header.
pub const LARGEST: u16 = 9_216;

impl ProbeSpec {
    /// Checks every bound.
    ///
    /// # Errors
    /// [`ProbeSpecError`] naming the first field out of bounds.
    pub fn check(&self) -> Result<(), ProbeSpecError> {
        let constant = self.destination_port;
        let (size, least) = (self.size_bytes, self.least_size());
        if !(least..=LARGEST).contains(&size) {
            Err(ProbeSpecError::Size { size, least })
        } else if self.dscp > 63 {
            Err(ProbeSpecError::Dscp(self.dscp))
        } else if self.method == Method::IcmpEcho && (constant == 0 || constant == 0xffff) {
            Err(ProbeSpecError::Checksum)
        } else {
            Ok(())
        }
    }

    /// Octets of an IP header, a transport header, and, but for TCP, the two that steer the
    /// checksum.
    pub const fn least_size(&self) -> u16 {
        let header: u16 = match self.addresses {
            Addresses::V4 { .. } => 20,
            Addresses::V6 { .. } => 40,
        };
        match self.method {
            Method::IcmpEcho | Method::Udp => header + 10,
            Method::TcpSyn => header + 20,
        }
    }

    /// True when a probe that gets as far as the target must be alone on its flow.
    pub const fn arrives_alone(&self) -> bool {
        match self.method {
            Method::IcmpEcho => false,
            Method::Udp => self.port_answers,
            Method::TcpSyn => true,
        }
    }

    /// True when even the target answers by an ICMP error, which hosts limit as routers do.
    pub const fn asks_for_errors(&self) -> bool {
        matches!(self.method, Method::Udp) && !self.port_answers
    }

    /// The flow of the probes with this source port or identifier.
    pub const fn flow(&self, source_port: u16) -> Flow {
        Flow {
            source: self.addresses.source(),
            destination: self.addresses.destination(),
            method: self.method,
            source_port,
            destination_port: self.destination_port,
            dscp: self.dscp,
        }
    }
}

/// What an answer says about the probe it answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum AnswerKind {
    /// A router on the route: the hop limit ran out there.
    Transit,
    /// The target itself.
    Arrived,
    /// A node refused to forward it (destination unreachable): no success, whichever node answers.
    Refused {
        /// ICMP code, of the version the path uses; [`unreachable::TOO_BIG`] in IPv6.
        code: u8,
    },
}

/// Which probe an answer speaks of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Witness {
    /// This one.
    One(u16),
    /// One of the two: transport and IP header disagree, since something was rewritten.
    Either(u16, u16),
    /// The one in flight to the target: the answer does not say which.
    Arrival,
}

/// An answer to one of this engine's probes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Answer {
    /// Source port or identifier of the flow it belongs to.
    pub(crate) port: u16,
    pub(crate) witness: Witness,
    pub(crate) responder: IpAddr,
    pub(crate) kind: AnswerKind,
    pub(crate) reading: HopReading,
}

/// Appends the probe with identity `seq` (1..=0xfffe) on the flow of `port` to `out`.
///
/// All fields that load balancers use are the same for every `seq` of a flow: addresses, ports
/// or ICMP identifier, ICMP checksum, traffic class, flow label, length. The identity is the
/// ICMP sequence number, the UDP checksum, or the upper half of the TCP sequence number, all
/// within the 8 octets that the shortest quote returns (RFC 792); IPv4 repeats it in the
/// identification, which translators of addresses leave alone.
pub(crate) fn emit(
    spec: &ProbeSpec,
    port: u16,
    hop_limit: u8,
    seq: u16,
    size_bytes: u16,
    out: &mut Vec<u8>,
) {
    let addresses = spec.addresses;
    let other = spec.destination_port;
    let mut transport = Vec::with_capacity(usize::from(size_bytes));
    let headers = addresses.header_len() + udp::HEADER_LEN;
    let payload = usize::from(size_bytes).saturating_sub(headers);
    let protocol = match spec.method {
        Method::IcmpEcho => {
            let data = icmp::steering_data(addresses, port, seq, other, payload);
            Icmp::EchoRequest { id: port, seq, data: &data }.emit(addresses, &mut transport);
            addresses.icmp()
        }
        Method::Udp => {
            let payload = u16::try_from(payload).unwrap_or(u16::MAX);
            udp::emit_steered(addresses, (port, other), payload, seq, &mut transport);
            ip::UDP
        }
        Method::TcpSyn => {
            let header = TcpHeader {
                source_port: port,
                destination_port: other,
                sequence: sequence(spec, seq),
                acknowledgment: 0,
                role: Role::Syn,
            };
            let room =
                usize::from(size_bytes).saturating_sub(addresses.header_len() + tcp::HEADER_LEN);
            let announce = room >= tcp::MAX_SEGMENT_LEN;
            let data = if announce { room - tcp::MAX_SEGMENT_LEN } else { room };
            header.emit(addresses, announce, &vec![0; data], &mut transport);
            ip::TCP
        }
    };
    let label = (u32::from(port) << 4) ^ u32::from(other);
    let header = IpHeader::new(addresses, protocol, hop_limit, spec.dscp << 2, label, seq);
    let header = if spec.dont_fragment { header.unfragmented() } else { header };
    header.emit(&transport, out);
}

/// A TCP sequence number: the identity above, the secret below with room for what a probe of
/// any length adds to it in the acknowledgment.
fn sequence(spec: &ProbeSpec, seq: u16) -> u32 {
    u32::from(seq) << 16 | u32::from(spec.secret & 0x7fff)
}

/// The identity in a TCP sequence number of ours, to which the other side has added so much.
fn from_sequence(spec: &ProbeSpec, sequence: u32, added: RangeInclusive<u32>) -> Option<u16> {
    let secret = u32::from(spec.secret & 0x7fff);
    let [a, b, ..] = sequence.to_be_bytes();
    let ours = added.contains(&(sequence & 0xffff).checked_sub(secret)?);
    ours.then_some(u16::from_be_bytes([a, b]))
}

/// Reads an incoming IP packet as an answer to this engine; nothing when it is none.
pub(crate) fn read_packet(spec: &ProbeSpec, packet: &[u8]) -> Option<Answer> {
    let (outer, payload) = IpHeader::parse(packet).ok()?;
    let from = outer.addresses().source();
    let left = Some(outer.hop_limit());
    if outer.is_icmp() {
        let message = Icmp::parse(outer.addresses(), payload).ok()?;
        return read_icmp(spec, from, left, message);
    }
    read_transport(spec, outer.protocol(), from, left, payload)
}

/// Reads a payload likewise that comes without its IP header, as the kernel's sockets give it,
/// ICMPv6 with its checksum verified (RFC 3542 section 3).
pub(crate) fn read_payload(
    spec: &ProbeSpec,
    protocol: u8,
    from: IpAddr,
    hop_limit: Option<u8>,
    payload: &[u8],
) -> Option<Answer> {
    (from.is_ipv6() == matches!(spec.addresses, Addresses::V6 { .. })).then_some(())?;
    if protocol == spec.addresses.icmp() {
        let message = match spec.addresses {
            Addresses::V4 { .. } => Icmp::parse(spec.addresses, payload),
            Addresses::V6 { .. } => Icmp::parse_verified_v6(payload),
        };
        return read_icmp(spec, from, hop_limit, message.ok()?);
    }
    read_transport(spec, protocol, from, hop_limit, payload)
}

/// Reads what a router said of a probe, as error queues give it.
pub(crate) fn read_report(spec: &ProbeSpec, input: &Input<'_>) -> Option<Answer> {
    let Input::Report { from, hop_limit, report, protocol, port, transport, .. } = *input else {
        return None;
    };
    let target = spec.addresses.destination();
    let (kind, form) = match report {
        Report::TimeExceeded => (AnswerKind::Transit, AnswerForm::TimeExceeded),
        Report::TooBig { .. } => {
            (AnswerKind::Refused { code: spec.too_big_code() }, AnswerForm::TooBig)
        }
        Report::Unreachable { code } => spec.unreachable(code, from == target),
    };
    let mut reading =
        HopReading { form: Some(form), reply_hop_limit: hop_limit, ..HopReading::default() };
    if let Report::TooBig { mtu } = report {
        reading.next_mtu_bytes = Some(mtu).filter(|mtu| *mtu > 0);
    }
    let witness = match spec.method {
        Method::IcmpEcho if protocol == spec.addresses.icmp() => {
            Witness::One(icmp::quoted_echo(spec.addresses, transport)?.1)
        }
        Method::Udp if protocol == ip::UDP => {
            let (header, payload) = UdpHeader::parse(transport).ok()?;
            (header.destination_port == spec.destination_port).then_some(())?;
            // Without the octets that steer the checksum nothing tells which probe it was.
            let has_identity = payload.len() >= 2;
            if has_identity {
                Witness::One(udp_identity(spec, port, payload))
            } else {
                Witness::Arrival
            }
        }
        _ => return None,
    };
    Some(Answer { port, witness, responder: from, kind, reading })
}

/// The checksum, which is the identity, of our datagram that begins with this payload: zeros
/// follow the octets that steer it.
fn udp_identity(spec: &ProbeSpec, port: u16, payload: &[u8]) -> u16 {
    let headers = spec.addresses.header_len() + udp::HEADER_LEN;
    let length = usize::from(spec.size_bytes).saturating_sub(headers) + udp::HEADER_LEN;
    let length = u16::try_from(length).unwrap_or(u16::MAX);
    let ports = checksum::add(port, spec.destination_port);
    let header = checksum::add(checksum::add(ports, length), checksum::sum(payload));
    checksum::field(checksum::add(spec.addresses.pseudo_header(ip::UDP, length), header))
}

impl ProbeSpec {
    const fn too_big_code(&self) -> u8 {
        match self.addresses {
            Addresses::V4 { .. } => 4,
            Addresses::V6 { .. } => unreachable::TOO_BIG,
        }
    }

    /// What "unreachable" means: from the target itself it may be that its port is not served.
    fn unreachable(&self, code: u8, from_target: bool) -> (AnswerKind, AnswerForm) {
        let arrived = self.method != Method::IcmpEcho
            && code == icmp::port_unreachable(self.addresses)
            && from_target;
        if arrived {
            (AnswerKind::Arrived, AnswerForm::PortUnreachable)
        } else {
            (AnswerKind::Refused { code }, AnswerForm::Unreachable)
        }
    }
}

/// An answer of the target's own transport.
fn read_transport(
    spec: &ProbeSpec,
    protocol: u8,
    from: IpAddr,
    hop_limit: Option<u8>,
    payload: &[u8],
) -> Option<Answer> {
    (from == spec.addresses.destination()).then_some(())?;
    let (port, witness, form) = match (spec.method, protocol) {
        (Method::Udp, ip::UDP) => {
            let (header, _) = UdpHeader::parse(payload).ok()?;
            (header.source_port == spec.destination_port).then_some(())?;
            (header.destination_port, Witness::Arrival, AnswerForm::Datagram)
        }
        (Method::TcpSyn, ip::TCP) => {
            let (header, _) = TcpHeader::parse(payload).ok()?;
            (header.source_port == spec.destination_port).then_some(())?;
            let form = match header.role {
                Role::SynAck => AnswerForm::SynAck,
                Role::Reset => AnswerForm::Reset,
                Role::Syn | Role::Other => return None,
            };
            // The SYN itself, and as much of its data as the target takes.
            let added = 1..=1 + u32::from(spec.size_bytes);
            let acknowledged = from_sequence(spec, header.acknowledgment, added);
            let witness = acknowledged.map_or(Witness::Arrival, Witness::One);
            (header.destination_port, witness, form)
        }
        _ => return None,
    };
    let reading =
        HopReading { form: Some(form), reply_hop_limit: hop_limit, ..HopReading::default() };
    Some(Answer { port, witness, responder: from, kind: AnswerKind::Arrived, reading })
}

fn read_icmp(
    spec: &ProbeSpec,
    responder: IpAddr,
    hop_limit: Option<u8>,
    message: Icmp<'_>,
) -> Option<Answer> {
    let addresses = spec.addresses;
    let target = addresses.destination();
    let mut reading = HopReading { reply_hop_limit: hop_limit, ..HopReading::default() };
    let (kind, form, quote) = match message {
        Icmp::EchoReply { id, seq, .. } => {
            let ours = spec.method == Method::IcmpEcho && responder == target;
            reading.form = Some(AnswerForm::EchoReply);
            let (witness, kind) = (Witness::One(seq), AnswerKind::Arrived);
            return ours.then_some(Answer { port: id, witness, responder, kind, reading });
        }
        Icmp::TimeExceeded { code: 0, quote } => {
            (AnswerKind::Transit, AnswerForm::TimeExceeded, quote)
        }
        Icmp::Unreachable { code, quote } => {
            let (kind, form) = spec.unreachable(code, responder == target);
            (kind, form, quote)
        }
        Icmp::TooBig { mtu, quote } => {
            reading.next_mtu_bytes = Some(mtu).filter(|mtu| *mtu > 0);
            (AnswerKind::Refused { code: spec.too_big_code() }, AnswerForm::TooBig, quote)
        }
        Icmp::EchoRequest { .. } | Icmp::TimeExceeded { .. } | Icmp::Other { .. } => return None,
    };
    reading.form = Some(form);
    let (port, witness) = read_quote(spec, quote, &mut reading)?;
    read_extensions(quote, &mut reading);
    Some(Answer { port, witness, responder, kind, reading })
}

/// Finds out which probe is quoted, and how it looked when it got there.
fn read_quote(
    spec: &ProbeSpec,
    quote: Quote<'_>,
    reading: &mut HopReading,
) -> Option<(u16, Witness)> {
    let (inner, transport) = IpHeader::parse_quoted(quote.datagram).ok()?;
    let (ours, theirs) = (spec.addresses, inner.addresses());
    (theirs.destination() == ours.destination()).then_some(())?;
    reading.quoted_hop_limit = Some(inner.hop_limit());
    reading.quoted_dscp = Some(inner.traffic_class() >> 2);
    reading.quoted_ecn = Some(inner.traffic_class() & 3);
    let translated = theirs.source() != ours.source();
    reading.translated_source = translated.then_some(theirs.source());
    let (port, seq) = match spec.method {
        Method::IcmpEcho if inner.is_icmp() => {
            let (id, seq, checksum) = icmp::quoted_echo(theirs, transport)?;
            reading.rewritten = checksum != spec.destination_port;
            (id, seq)
        }
        Method::Udp if inner.protocol() == ip::UDP => {
            let (header, _) = UdpHeader::parse(transport).ok()?;
            (header.destination_port == spec.destination_port).then_some(())?;
            (header.source_port, header.checksum)
        }
        Method::TcpSyn if inner.protocol() == ip::TCP => {
            let (port, other, sequence) = tcp::quoted(transport).ok()?;
            (other == spec.destination_port).then_some(())?;
            (port, from_sequence(spec, sequence, 0..=0)?)
        }
        _ => return None,
    };
    // A translator leaves the identification alone, but may have renewed a checksum.
    let witness = match inner.identification() {
        Some(other) if other != seq && spec.method == Method::Udp => {
            reading.rewritten = true;
            Witness::Either(seq, other)
        }
        _ => Witness::One(seq),
    };
    Some((port, witness))
}

/// Labels and the interface it came in by, where the router adds them. Malformed extensions add
/// nothing.
fn read_extensions(quote: Quote<'_>, reading: &mut HopReading) {
    if quote.extensions.is_empty() {
        return;
    }
    for object in extension::parse(quote.extensions).unwrap_or_default() {
        match object {
            Object::Labels(labels) if reading.labels.is_empty() => {
                let carried = labels.into_iter().take(MAX_LABELS).map(|label| CarriedLabel {
                    label: label.label,
                    traffic_class: label.traffic_class,
                    ttl: label.ttl,
                });
                reading.labels = carried.collect();
            }
            Object::Interface(interface) if interface.role == InterfaceRole::Incoming => {
                let name = interface.name.map(|octets| {
                    let mut name = text::from_octets(&octets);
                    name.truncate(name.floor_char_boundary(MAX_NAME));
                    name
                });
                reading.interface = Some(CarriedInterface {
                    name,
                    index: interface.index,
                    address: interface.address,
                    mtu_bytes: interface.mtu,
                });
            }
            Object::Labels(_) | Object::Interface(_) | Object::Other { .. } => {}
        }
    }
}
