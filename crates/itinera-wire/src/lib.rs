//! Packets as Itinera sends and reads them: IPv4 (RFC 791), ICMPv4 (RFC 792) and UDP (RFC 768).
//!
//! This crate promises no sockets, no clock, no allocation beyond the packets it builds, and no
//! panic on any octets: hostile input is refused with the layer, the offset and the sizes.
#![deny(clippy::indexing_slicing, clippy::arithmetic_side_effects)]
#![cfg_attr(
    test,
    allow(
        clippy::indexing_slicing,
        clippy::arithmetic_side_effects,
        reason = "tests may fail loudly"
    )
)]

pub mod checksum;
pub mod icmpv4;
pub mod ipv4;
pub mod reader;
pub mod udp;

pub use icmpv4::Icmpv4;
pub use ipv4::Ipv4Header;
pub use reader::{Layer, ParseError, Reader};
pub use udp::UdpHeader;
