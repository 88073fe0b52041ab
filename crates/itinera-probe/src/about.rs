//! The target or port that a received packet is about, read cheaply: an agent with many engines need not offer it
//! to all of them.

use crate::Input;
use itinera_wire::{Addresses, Icmp, IpHeader};
use std::net::IpAddr;

/// The probe that an answer may belong to. Translated addresses and rewritten quotes may hide one or the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct About {
    /// Where the probe went.
    pub target: Option<IpAddr>,
    /// Our port or identifier in it.
    pub port: Option<u16>,
}

impl About {
    /// Reads what came in; nothing for what cannot be an answer to a probe.
    pub fn of(input: &Input<'_>) -> Option<Self> {
        match *input {
            Input::Datagram { packet, .. } => {
                let (header, payload) = IpHeader::parse(packet).ok()?;
                let from = header.addresses().source();
                if header.is_icmp() {
                    // Its checksum is checked by the engine that takes it.
                    return Self::of_icmp(header.addresses(), from, payload);
                }
                Some(Self { target: Some(from), port: pair(payload, 2) })
            }
            Input::Payload { protocol, from, payload, .. } => {
                let any = Addresses::try_new(from, from)?;
                if protocol == any.icmp() {
                    return Self::of_icmp(any, from, payload);
                }
                Some(Self { target: Some(from), port: pair(payload, 2) })
            }
            Input::Report { port, .. } => Some(Self { target: None, port: Some(port) }),
            Input::Sent { .. } | Input::NotSent { .. } | Input::Deadline | Input::Stop => None,
        }
    }

    fn of_icmp(addresses: Addresses, from: IpAddr, payload: &[u8]) -> Option<Self> {
        match Icmp::parse_unverified(addresses, payload).ok()? {
            Icmp::EchoReply { id, .. } => Some(Self { target: Some(from), port: Some(id) }),
            Icmp::TimeExceeded { quote, .. }
            | Icmp::Unreachable { quote, .. }
            | Icmp::TooBig { quote, .. } => {
                let (header, transport) = IpHeader::parse_quoted(quote.datagram).ok()?;
                let at = if header.is_icmp() { 4 } else { 0 };
                let target = Some(header.addresses().destination());
                Some(Self { target, port: pair(transport, at) })
            }
            Icmp::EchoRequest { .. } | Icmp::Other { .. } => None,
        }
    }
}

/// Two octets as a number.
fn pair(octets: &[u8], at: usize) -> Option<u16> {
    octets.get(at..)?.first_chunk().copied().map(u16::from_be_bytes)
}
