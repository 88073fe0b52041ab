//! Any octets as packets: parsed calmly.
#![no_main]

use itinera_wire::{Addresses, Icmp, IpHeader, TcpHeader, UdpHeader, extension};
use libfuzzer_sys::fuzz_target;
use std::net::Ipv4Addr;

fuzz_target!(|octets: &[u8]| {
    if let Ok((header, payload)) = IpHeader::parse(octets) {
        let _any = Icmp::parse(header.addresses(), payload);
    }
    let (source, destination) = (Ipv4Addr::LOCALHOST, Ipv4Addr::LOCALHOST);
    if let Ok(Icmp::TimeExceeded { quote, .. }) =
        Icmp::parse(Addresses::V4 { source, destination }, octets)
    {
        let _any = IpHeader::parse_quoted(quote.datagram);
        let _any = extension::parse(quote.extensions);
    }
    let _any = Icmp::parse_verified_v6(octets);
    let _any = TcpHeader::parse(octets);
    let _any = UdpHeader::parse(octets);
    let _any = extension::parse(octets);
});
