//! Addresses of receivers: a name is resolved once, its addresses are checked, and the connection goes to
//! one of those, whatever the name resolves to later.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::net::TcpStream;

/// How long a name and a connection may take.
const LIMIT: Duration = Duration::from_secs(5);

/// Why a receiver is not reached.
#[derive(Debug, thiserror::Error)]
pub(super) enum AddressError {
    /// Its address is none that notices are sent to.
    #[error("{0} is no address that notices are sent to")]
    Refused(IpAddr),
    /// The name of a host resolves to this machine only.
    #[error("{0} resolves to no address that notices are sent to")]
    NoneLeft(String),
    /// The name of the host is not resolved.
    #[error("{0} is not resolved: {1}")]
    Unresolved(String, io::Error),
    /// No address accepts connections.
    #[error("no connection to {0}: {1}")]
    Unreachable(SocketAddr, io::Error),
}

/// Whether notices are sent to an address. Only an address that is written out, or `localhost`, is this
/// machine.
fn is_allowed(address: IpAddr, this_machine: bool) -> bool {
    let address = address.to_canonical();
    if address.is_loopback() {
        return this_machine;
    }
    let never = match address {
        IpAddr::V4(v4) => v4.is_link_local() || v4.is_broadcast() || v4.octets()[0] == 0,
        IpAddr::V6(v6) => v6.is_unicast_link_local(),
    };
    !(never || address.is_unspecified() || address.is_multicast())
}

/// Refuses an address that is written out and that notices are never sent to.
pub(super) fn check_literal(host: &str) -> Result<(), AddressError> {
    match literal(host) {
        Some(address) if !is_allowed(address, true) => Err(AddressError::Refused(address)),
        _ => Ok(()),
    }
}

fn literal(host: &str) -> Option<IpAddr> {
    host.trim_start_matches('[').trim_end_matches(']').parse().ok()
}

/// The addresses of a host that a connection may go to, in the order to try them.
pub(super) async fn pinned(host: &str, port: u16) -> Result<Vec<SocketAddr>, AddressError> {
    check_literal(host)?;
    if let Some(address) = literal(host) {
        return Ok(vec![SocketAddr::new(address, port)]);
    }
    let resolving = tokio::time::timeout(LIMIT, tokio::net::lookup_host((host, port)));
    let resolved = resolving.await.map_err(|_| io::Error::from(io::ErrorKind::TimedOut));
    let resolved = resolved.and_then(|resolved| resolved);
    let resolved = resolved.map_err(|error| AddressError::Unresolved(host.to_owned(), error))?;
    let this_machine = host.eq_ignore_ascii_case("localhost");
    let allowed: Vec<_> = resolved.filter(|it| is_allowed(it.ip(), this_machine)).collect();
    if allowed.is_empty() { Err(AddressError::NoneLeft(host.to_owned())) } else { Ok(allowed) }
}

/// A connection to the first address that accepts one.
pub(super) async fn connect(addresses: &[SocketAddr]) -> Result<TcpStream, AddressError> {
    let mut last = AddressError::NoneLeft("the host".to_owned());
    for address in addresses {
        let connecting = tokio::time::timeout(LIMIT, TcpStream::connect(address)).await;
        match connecting.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into())) {
            Ok(stream) => return Ok(stream),
            Err(error) => last = AddressError::Unreachable(*address, error),
        }
    }
    Err(last)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn notices_go_to_no_address_of_the_link_and_to_this_machine_only_where_it_is_meant() {
        for (address, written_out, named) in [
            ("198.51.100.7", true, true),
            ("10.1.2.3", true, true),
            ("2001:db8::7", true, true),
            ("127.0.0.1", true, false),
            ("::1", true, false),
            ("::ffff:127.0.0.1", true, false),
            ("169.254.169.254", false, false),
            ("::ffff:169.254.169.254", false, false),
            ("fe80::1", false, false),
            ("0.0.0.0", false, false),
            ("::", false, false),
            ("255.255.255.255", false, false),
            ("224.0.0.1", false, false),
            ("ff02::1", false, false),
        ] {
            let address: IpAddr = address.parse().unwrap();
            assert_eq!(is_allowed(address, true), written_out, "{address}");
            assert_eq!(is_allowed(address, false), named, "{address}");
            assert_eq!(pinned(&address.to_string(), 80).await.is_ok(), written_out, "{address}");
        }
        let local = pinned("localhost", 80).await.unwrap();
        assert!(!local.is_empty() && local.iter().all(|it| it.ip().is_loopback()));
    }
}
