//! Probe engines as state machines.
//!
//! This crate promises no sockets, no clock, no threads and no chance of its own: time, packets
//! and a seed come in, packets to send, events and the next deadline come out.
//!
//! # Driving an engine
//! 1. Give it one [`Input`] with the present [`Tick`].
//! 2. Drain `poll_transmit` and report each packet's fate as [`Input::Sent`] or
//!    [`Input::NotSent`].
//! 3. Drain `poll_event`.
//! 4. Read `poll_deadline` and come back by then with [`Input::Deadline`], or earlier with news.
//!
//! Early, repeated and spurious deadlines are harmless. The same configuration and the same
//! inputs give the same outputs, so a log of inputs replays a bug.

mod packet;
pub mod sweep;
mod timer;

use itinera_model::Tick;
use std::net::Ipv6Addr;

pub use sweep::{HopSweep, Sweep, SweepConfig, SweepConfigError};

/// Names one packet between `poll_transmit` and its outcome.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Token(pub(crate) u16);

/// A fact given to an engine.
#[derive(Debug, Clone, Copy)]
pub enum Input<'a> {
    /// A whole IP packet came in. `stamp` may be earlier than `now`: the kernel knew first.
    Datagram {
        /// When it came in.
        stamp: Tick,
        /// The packet.
        packet: &'a [u8],
    },
    /// An ICMPv6 message came in without its IP header and with its checksum verified, as the
    /// kernel's raw sockets give it (RFC 3542 section 3).
    Message {
        /// When it came in.
        stamp: Tick,
        /// Who sent it.
        from: Ipv6Addr,
        /// The message.
        message: &'a [u8],
    },
    /// A packet left at this time.
    Sent {
        /// Which.
        token: Token,
        /// When.
        stamp: Tick,
    },
    /// A packet could not leave: it was never sent, so it cannot be lost.
    NotSent {
        /// Which.
        token: Token,
    },
    /// The deadline that `poll_deadline` named has come, or perhaps not yet.
    Deadline,
    /// End now: settle every round that has begun and begin no more.
    Stop,
}
