//! Probe engines as state machines.
//!
//! This crate promises no sockets, no clock, no threads and no chance of its own: time, packets
//! and a seed come in, packets to send, events and the next deadline come out.
//!
//! # Driving an engine
//! 1. Give it one [`Input`] with the present [`Tick`].
//! 2. Drain `poll_transmit`, which asks the agent's [`Budget`], and report each packet's fate as [`Input::Sent`] or
//!    [`Input::NotSent`].
//! 3. Drain `poll_event`.
//! 4. Read `poll_deadline` and come back by then with [`Input::Deadline`], or earlier with news.
//!
//! Early, repeated and spurious deadlines are harmless. The same configuration and the same
//! inputs give the same outputs, so a log of inputs replays a bug.

mod about;
pub mod branches;
mod budget;
mod flight;
pub mod mtu;
mod packet;
mod patience;
pub mod sweep;
mod timer;
pub mod two_way;

use itinera_model::Tick;
use std::net::IpAddr;

pub use about::About;
pub use branches::{Branches, BranchesConfig, BranchesConfigError};
pub use budget::{Admission, Asked, Budget};
pub use mtu::{MtuConfig, MtuConfigError, MtuSearch};
pub use packet::{LARGEST, ProbeSpec, ProbeSpecError};
pub use sweep::{HopSweep, Sweep, SweepConfig, SweepConfigError};

/// Names one packet between `poll_transmit` and its outcome.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Token(pub(crate) u16);

/// What every engine offers to its driver. Events are each engine's own.
pub trait Engine: Send {
    /// Takes one fact. True for a packet that answers one of its probes.
    fn handle(&mut self, now: Tick, input: Input<'_>) -> bool;

    /// The next packet to send now, as far as the agent's budget admits it, written to `out`
    /// (cleared first).
    fn poll_transmit(&mut self, now: Tick, budget: &mut Budget, out: &mut Vec<u8>)
    -> Option<Token>;

    /// When it wants to be called again; absent once it has stopped.
    fn poll_deadline(&self) -> Option<Tick>;

    /// Where its packets go, for one that sends to several: where the last one did.
    fn destination(&self) -> IpAddr;
}

/// What routers and hosts say of a probe, in either version of IP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Report {
    /// Its hop limit ran out.
    TimeExceeded,
    /// It cannot be delivered.
    Unreachable {
        /// Why.
        code: u8,
    },
    /// It is too big for the next link.
    TooBig {
        /// The next link's MTU in octets; 0 where it is not stated.
        mtu: u32,
    },
}

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
    /// What a router said of a probe, as error queues give it: without the message itself, and
    /// without the quoted IP header.
    Report {
        /// When it came in.
        stamp: Tick,
        /// The sender.
        from: IpAddr,
        /// Hop limit that was left in it.
        hop_limit: Option<u8>,
        /// What.
        report: Report,
        /// The probe's protocol number.
        protocol: u8,
        /// The probe's source port or identifier.
        port: u16,
        /// The probe from its transport header on, as far as it was quoted; a UDP checksum of 0
        /// is to be computed.
        transport: &'a [u8],
    },
    /// A payload came in without its IP header, ICMPv6 with its checksum verified, as the kernel's
    /// raw sockets (RFC 3542 section 3) and datagram sockets give it.
    Payload {
        /// When it came in.
        stamp: Tick,
        /// Its protocol number.
        protocol: u8,
        /// The sender.
        from: IpAddr,
        /// Hop limit that was left.
        hop_limit: Option<u8>,
        /// Traffic class it came with, where the kernel gives it (RFC 3542 section 6.5).
        traffic_class: Option<u8>,
        /// The payload.
        payload: &'a [u8],
    },
    /// A packet left at this time. May be said again with a better stamp.
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
