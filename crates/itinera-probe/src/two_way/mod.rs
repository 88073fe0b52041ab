//! Both directions between two agents, each direction by itself.
//!
//! A [`Sender`] sends numbered packets; a [`Reflector`] sends each back with its own number and
//! stamps. Since the reflector counts what it has sent, a gap in its numbers is a loss in the return
//! direction, and what it never counted was lost in the forward direction.
//!
//! Source: RFC 8762 (stateful reflector), RFC 8972 (session, class of service), RFC 7680 and RFC
//! 7679 (one-way loss and delay).

mod clocks;
mod ledger;
mod reflector;
mod sender;
#[cfg(test)]
mod tests;

use crate::Input;
use itinera_model::unit::Tick;
use itinera_wire::{Addresses, IpHeader, UdpHeader, ip, stamp};
use std::net::{IpAddr, SocketAddr};

pub use reflector::{MAX_SESSIONS, Reflector, Session};
pub use sender::{Sender, SenderConfig, SenderConfigError, TwoWay};

/// Hop limit of packets between agents: the largest, so that the number of hops can be computed.
const HOP_LIMIT: u8 = 255;

/// The clock that one's own stamps are of: ticks of the driver, put on the wall.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct OwnClock {
    /// What it showed at tick zero, in nanoseconds since 1970.
    pub unix_nanos_at_zero: i64,
    /// How much faster than the driver's ticks it runs, in parts per thousand million: 0 but in
    /// simulations.
    pub drift_ppb: i32,
}

impl OwnClock {
    /// What it shows at a tick, in nanoseconds since 1970.
    pub fn at(self, tick: Tick) -> i64 {
        let nanos = i64::try_from(tick.as_nanos()).unwrap_or(i64::MAX);
        let drift = i128::from(nanos) * i128::from(self.drift_ppb) / 1_000_000_000;
        let drift = i64::try_from(drift).unwrap_or(0);
        self.unix_nanos_at_zero.saturating_add(nanos).saturating_add(drift)
    }
}

/// A UDP datagram that came in for one of our ports.
#[derive(Debug, Clone, Copy)]
struct ReceivedDatagram<'a> {
    stamp: Tick,
    from: SocketAddr,
    /// Where it was sent to, as far as the kernel says.
    to: Option<IpAddr>,
    port: u16,
    hop_limit: Option<u8>,
    traffic_class: Option<u8>,
    payload: &'a [u8],
}

/// Reads a datagram out of what came in.
fn datagram<'a>(input: &Input<'a>) -> Option<ReceivedDatagram<'a>> {
    match *input {
        Input::Datagram { stamp, packet } => {
            let (header, transport) = IpHeader::parse(packet).ok()?;
            if header.protocol() != ip::UDP {
                return None;
            }
            let (udp, payload) = UdpHeader::parse(transport).ok()?;
            Some(ReceivedDatagram {
                stamp,
                from: SocketAddr::new(header.addresses().source(), udp.source_port),
                to: Some(header.addresses().destination()),
                port: udp.destination_port,
                hop_limit: Some(header.hop_limit()),
                traffic_class: Some(header.traffic_class()),
                payload,
            })
        }
        Input::Payload { stamp, protocol: ip::UDP, from, hop_limit, traffic_class, payload } => {
            let (udp, payload) = UdpHeader::parse(payload).ok()?;
            let from = SocketAddr::new(from, udp.source_port);
            let port = udp.destination_port;
            Some(ReceivedDatagram {
                stamp,
                from,
                to: None,
                port,
                hop_limit,
                traffic_class,
                payload,
            })
        }
        _ => None,
    }
}

/// Writes a datagram as a whole IP packet of `size_bytes`, or as few more as its content needs.
fn packet(
    addresses: Addresses,
    ports: (u16, u16),
    dscp: u8,
    size_bytes: u16,
    content: impl FnOnce(usize) -> Vec<u8>,
    out: &mut Vec<u8>,
) {
    let headers = addresses.header_len() + itinera_wire::udp::HEADER_LEN;
    let len = usize::from(size_bytes).saturating_sub(headers).max(stamp::LEAST_LEN);
    let mut transport = Vec::with_capacity(len + itinera_wire::udp::HEADER_LEN);
    itinera_wire::udp::emit(addresses, ports, &content(len), &mut transport);
    out.clear();
    let label = u32::from(ports.0) << 4 | u32::from(ports.1 & 0xf);
    IpHeader::new(addresses, ip::UDP, HOP_LIMIT, dscp << 2, label, 0).emit(&transport, out);
}
