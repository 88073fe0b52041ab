//! Packets as Itinera sends and reads them: IPv4 (RFC 791) and IPv6 (RFC 8200), their ICMP
//! (RFC 792, RFC 4443) with its extensions (RFC 4884), UDP (RFC 768) and TCP (RFC 9293);
//! and what neighbours announce of themselves (IEEE 802.1AB).
//!
//! This crate promises no sockets, no clock, no allocation beyond the packets it builds and
//! the few objects it reads, and no panic on any octets: hostile input is refused with the layer, the offset and the sizes.
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
pub mod extension;
pub mod icmp;
pub mod ip;
pub mod ipv4;
pub mod ipv6;
pub mod lldp;
pub mod reader;
pub mod stamp;
pub mod tcp;
pub mod udp;

pub use icmp::Icmp;
pub use ip::{Addresses, IpHeader};
pub use ipv4::Ipv4Header;
pub use ipv6::Ipv6Header;
pub use reader::{Layer, ParseError, Reader};
pub use tcp::TcpHeader;
pub use udp::UdpHeader;
