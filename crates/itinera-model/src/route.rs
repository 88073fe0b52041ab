//! Flow, resolution and route: what a round used and saw, each identified by its content.

use crate::id::ContentId;
use crate::path::Method;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// The header fields load balancers look at, constant within a round.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Flow {
    /// Sender's address.
    pub source: IpAddr,
    /// Address probed.
    pub destination: IpAddr,
    /// Transport.
    pub method: Method,
    /// Source port, or the ICMP identifier.
    pub source_port: u16,
    /// Destination port, or the ICMP checksum that is held constant.
    pub destination_port: u16,
    /// Differentiated services code point.
    pub dscp: u8,
}

/// The address a target stood for when a round was sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Resolution {
    /// The name that was asked for; absent when the target is given by address.
    pub name: Option<String>,
    /// The address used.
    pub address: IpAddr,
}

/// The answering address of each hop in order, from hop limit 1.
///
/// An absent address is a hop that has never answered on this route. Answers missing in one
/// round live in the round, so that a lost answer mints no new route.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Route {
    /// Address by hop; the last is the destination's when it was reached.
    pub hops: Vec<Option<IpAddr>>,
}

fn push_address(out: &mut Vec<u8>, address: IpAddr) {
    match address {
        IpAddr::V4(v4) => {
            out.push(4);
            out.extend(v4.octets());
        }
        IpAddr::V6(v6) => {
            out.push(6);
            out.extend(v6.octets());
        }
    }
}

/// What tells the flows of one path apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct FlowKey {
    /// Source port, or the ICMP identifier.
    pub source_port: u16,
    /// Destination port, or the ICMP checksum.
    pub destination_port: u16,
}

impl Flow {
    /// What tells it from the other flows of its path.
    pub const fn key(&self) -> FlowKey {
        FlowKey { source_port: self.source_port, destination_port: self.destination_port }
    }

    /// Identity over the canonical encoding.
    pub fn id(&self) -> ContentId {
        let mut out = b"flow1".to_vec();
        push_address(&mut out, self.source);
        push_address(&mut out, self.destination);
        out.push(match self.method {
            Method::IcmpEcho => 1,
            Method::Udp => 17,
            Method::TcpSyn => 6,
        });
        out.extend(self.source_port.to_be_bytes());
        out.extend(self.destination_port.to_be_bytes());
        out.push(self.dscp);
        ContentId::of(&out)
    }
}

impl Resolution {
    /// Identity over the canonical encoding.
    pub fn id(&self) -> ContentId {
        let mut out = b"reso1".to_vec();
        push_address(&mut out, self.address);
        if let Some(name) = &self.name {
            out.extend(name.to_ascii_lowercase().as_bytes());
        }
        ContentId::of(&out)
    }
}

impl Route {
    /// Identity over the canonical addresses.
    pub fn id(&self) -> ContentId {
        let mut out = b"rout1".to_vec();
        for hop in &self.hops {
            match hop {
                Some(address) => push_address(&mut out, *address),
                None => out.push(0),
            }
        }
        ContentId::of(&out)
    }

    /// This route with what one more round saw, or the round's own when they contradict.
    ///
    /// `seen` holds the responder by hop, absent where no answer came. A missing answer leaves
    /// the known address; a new answer at a silent hop completes the route; a different answer
    /// or another length (with the destination `reached`) is another route.
    pub fn observed(&self, seen: &[Option<IpAddr>], reached: bool) -> Self {
        let contradicts =
            self.hops.iter().zip(seen).any(
                |(known, now)| matches!((known, now), (Some(known), Some(now)) if known != now),
            );
        let another_length = reached && !self.hops.is_empty() && seen.len() != self.hops.len();
        if contradicts || another_length {
            return Self { hops: seen.to_vec() };
        }
        let mut hops = self.hops.clone();
        if seen.len() > hops.len() {
            hops.resize(seen.len(), None);
        }
        for (known, now) in hops.iter_mut().zip(seen) {
            *known = known.or(*now);
        }
        Self { hops }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hop(last: u8) -> Option<IpAddr> {
        Some(IpAddr::from([198, 18, 0, last]))
    }

    #[test]
    fn a_lost_answer_mints_no_new_route() {
        let known = Route::default().observed(&[hop(1), hop(2), hop(3)], true);
        let again = known.observed(&[hop(1), None, hop(3)], true);
        assert_eq!(known.id(), again.id());
    }

    #[test]
    fn a_silent_hop_that_answers_completes_the_route() {
        let known = Route::default().observed(&[hop(1), None, hop(3)], true);
        let full = known.observed(&[None, hop(2), hop(3)], true);
        assert_eq!(full.hops, vec![hop(1), hop(2), hop(3)]);
    }

    #[test]
    fn another_responder_or_length_is_another_route() {
        let known = Route::default().observed(&[hop(1), hop(2), hop(9)], true);
        assert_eq!(known.observed(&[None, hop(7), hop(9)], true).hops, vec![None, hop(7), hop(9)]);
        assert_eq!(known.observed(&[hop(1), hop(9)], true).hops, vec![hop(1), hop(9)]);
    }
}
