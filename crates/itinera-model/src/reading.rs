//! What the answers of each hop contain apart from address and time: the length of the return route,
//! the probe as it arrived there, and extensions of the router.
//!
//! These things hardly change from round to round, so they are identified by their content like
//! a route, and a round refers to them.

use crate::codec::encode;
use crate::id::ContentId;
use crate::unit::HopLimit;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Labels kept of one answer.
pub const MAX_LABELS: usize = 16;
/// Bytes kept of an interface's name.
pub const MAX_NAME: usize = 256;

/// How an answer was given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerForm {
    /// "Time exceeded": a router on the route.
    TimeExceeded,
    /// "Destination unreachable", by its code.
    Unreachable,
    /// "Too big" for the next link.
    TooBig,
    /// An echo reply.
    EchoReply,
    /// "Port unreachable" from the target itself: the host is there.
    PortUnreachable,
    /// A datagram from the port probed.
    Datagram,
    /// A connection accepted: the port is open.
    SynAck,
    /// A connection refused: the host is there, the port is closed or guarded.
    Reset,
}

/// A label that a packet carried when it came in (RFC 4950).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct CarriedLabel {
    /// The label, 20 bits.
    pub label: u32,
    /// Traffic class, 3 bits.
    pub traffic_class: u8,
    /// Time to live in the label.
    pub ttl: u8,
}

/// The interface by which a packet came in, as its router describes it (RFC 5837).
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct CarriedInterface {
    /// Its name: foreign text.
    pub name: Option<String>,
    /// Its number in the router's own table.
    pub index: Option<u32>,
    /// Its address.
    pub address: Option<IpAddr>,
    /// Its MTU in bytes.
    pub mtu_bytes: Option<u32>,
}

/// What the newest answers of one hop said. Absent: no answer said anything about it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct HopReading {
    /// How it answered.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub form: Option<AnswerForm>,
    /// Hop limit that was left in its answer when it came in.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reply_hop_limit: Option<u8>,
    /// Hop limit of the probe as quoted: 1 (or 0) where it ran out; more where hops on the route
    /// did not count it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quoted_hop_limit: Option<u8>,
    /// DSCP of the probe as it arrived there, 0..=63.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quoted_dscp: Option<u8>,
    /// ECN bits of the probe as it arrived there, 0..=3.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quoted_ecn: Option<u8>,
    /// The sender's address of the probe as it arrived there, where it is not ours: addresses
    /// are translated on the route.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub translated_source: Option<IpAddr>,
    /// True when ports, identifier or checksum of the probe were others when it arrived there.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub rewritten: bool,
    /// Labels that the probe carried, outermost first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<CarriedLabel>,
    /// The interface it came in by.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interface: Option<CarriedInterface>,
    /// The MTU that a "too big" answer states, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next_mtu_bytes: Option<u32>,
}

/// Initial hop limits in use (RFC 1700 lists 64; others are customary).
const INITIAL: [u8; 4] = [32, 64, 128, 255];

impl HopReading {
    /// Routers on the return route, inferred: senders begin at one of a few customary hop limits.
    /// Absent without an answer.
    pub fn hops_back(&self) -> Option<u8> {
        let left = self.reply_hop_limit?;
        let initial = INITIAL.into_iter().find(|initial| *initial >= left)?;
        Some(initial - left)
    }

    /// Hops before this one that did not count the hop limit down, inferred from the quote: the
    /// inside of a tunnel.
    pub fn hidden_before(&self) -> u8 {
        match self.form {
            Some(AnswerForm::TimeExceeded) => {
                self.quoted_hop_limit.map_or(0, |left| left.saturating_sub(1))
            }
            _ => 0,
        }
    }
}

/// What the answers said, by hop limit from 1.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Reading {
    /// By hop.
    pub hops: Vec<HopReading>,
}

impl Reading {
    /// Identity over the encoding.
    pub fn id(&self) -> ContentId {
        ContentId::of(&[b"read1".as_slice(), &encode(self)].concat())
    }

    /// True when nothing in it is larger than a router's answer can make it.
    pub fn is_bounded(&self) -> bool {
        let short = |interface: &CarriedInterface| {
            interface.name.as_ref().is_none_or(|name| name.len() <= MAX_NAME)
        };
        self.hops.len() <= usize::from(HopLimit::MAX)
            && self.hops.iter().all(|hop| {
                hop.labels.len() <= MAX_LABELS && hop.interface.as_ref().is_none_or(short)
            })
    }

    /// This reading with what newer answers said; hops without a newer answer keep what they had.
    #[must_use]
    pub fn observed(&self, seen: Vec<Option<HopReading>>) -> Self {
        let mut hops = self.hops.clone();
        hops.resize_with(seen.len(), HopReading::default);
        for (known, now) in hops.iter_mut().zip(seen) {
            if let Some(now) = now {
                *known = now;
            }
        }
        Self { hops }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::decode;

    #[test]
    fn return_hops_are_counted_from_the_nearest_usual_hop_limit() {
        let back = |left| HopReading { reply_hop_limit: left, ..HopReading::default() }.hops_back();
        assert_eq!(back(None), None);
        for (left, hops) in [(64, 0), (57, 7), (250, 5), (120, 8), (255, 0), (30, 2)] {
            assert_eq!(back(Some(left)), Some(hops), "{left}");
        }
    }

    #[test]
    fn only_an_expired_hop_limit_shows_hidden_hops() {
        let quoted = |form, left| HopReading {
            form: Some(form),
            quoted_hop_limit: Some(left),
            ..HopReading::default()
        };
        assert_eq!(quoted(AnswerForm::TimeExceeded, 1).hidden_before(), 0);
        assert_eq!(quoted(AnswerForm::TimeExceeded, 4).hidden_before(), 3);
        assert_eq!(quoted(AnswerForm::PortUnreachable, 60).hidden_before(), 0);
    }

    #[test]
    fn silence_keeps_what_was_read_and_absent_parts_cost_nothing() {
        let hop = |dscp| HopReading { quoted_dscp: Some(dscp), ..HopReading::default() };
        let first = Reading::default().observed(vec![Some(hop(46)), Some(hop(0))]);
        let second = first.observed(vec![None, Some(hop(8)), None]);
        assert_eq!(second.hops, vec![hop(46), hop(8), HopReading::default()]);
        assert_ne!(first.id(), second.id());
        assert_eq!(decode::<Reading>(&encode(&second)).unwrap(), second);
        assert!(encode(&second).len() < 60);
    }
}
