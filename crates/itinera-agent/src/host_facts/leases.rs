//! Leases of addresses, as the usual clients leave them in files.

use itinera_model::host_facts::{Lease, MAX_ITEMS};
use std::fs;
use std::path::Path;

/// Bytes of a lease file regarded at most.
const MAX_FILE: usize = 64 * 1_024;

/// The lease of an interface, from the network daemon's files or the DHCP client's.
pub(super) fn of(index: u32, name: &str) -> Option<Lease> {
    let kept = read(Path::new(&format!("/run/systemd/netif/leases/{index}")));
    let by_daemon = kept.and_then(|text| from_assignments(&text, name));
    by_daemon.or_else(|| {
        let files = [
            format!("/var/lib/dhcp/dhclient.{name}.leases"),
            "/var/lib/dhcp/dhclient.leases".to_owned(),
        ];
        files.iter().find_map(|file| from_statements(&read(Path::new(file))?, name))
    })
}

fn read(file: &Path) -> Option<String> {
    let mut octets = fs::read(file).ok()?;
    // The newest lease stands last.
    let surplus = octets.len().saturating_sub(MAX_FILE);
    octets.drain(..surplus);
    Some(String::from_utf8_lossy(&octets).into_owned())
}

/// Lines such as `SERVER_ADDRESS=198.18.0.1`.
fn from_assignments(text: &str, name: &str) -> Option<Lease> {
    let value = |key: &str| {
        text.lines().take(MAX_ITEMS).find_map(|line| line.strip_prefix(key)?.strip_prefix('='))
    };
    let server = value("SERVER_ADDRESS").and_then(|server| server.parse().ok());
    let lifetime_s = value("LIFETIME").and_then(|seconds| seconds.parse().ok());
    (server.is_some() || lifetime_s.is_some()).then(|| Lease {
        interface: name.to_owned(),
        server,
        lifetime_s,
    })
}

/// Blocks of `lease { interface "eth0"; option dhcp-server-identifier 198.18.0.1; }`.
fn from_statements(text: &str, name: &str) -> Option<Lease> {
    let newest = text.rsplit("lease {").find(|block| block.contains(&format!("\"{name}\"")))?;
    let value = |key: &str| {
        newest.split([';', '\n', '}']).find_map(|line| line.trim().strip_prefix(key)).map(str::trim)
    };
    Some(Lease {
        interface: name.to_owned(),
        server: value("option dhcp-server-identifier ").and_then(|server| server.parse().ok()),
        lifetime_s: value("option dhcp-lease-time ").and_then(|seconds| seconds.parse().ok()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_file_is_read_calmly(text in "(lease \\{|\"eth0\"|option dhcp-lease-time |SERVER_ADDRESS|=|;|\\PC{0,5}|\n){0,60}") {
            let found = [from_assignments(&text, "eth0"), from_statements(&text, "eth0")];
            for lease in found.into_iter().flatten() {
                prop_assert_eq!(lease.interface, "eth0");
            }
        }
    }

    #[test]
    fn both_forms_are_read_and_the_newest_counts() {
        let text = "# private\nADDRESS=198.18.0.9\nSERVER_ADDRESS=198.18.0.1\nLIFETIME=3600\n";
        let lease = from_assignments(text, "eth0").unwrap();
        assert_eq!((lease.server, lease.lifetime_s), (Some([198, 18, 0, 1].into()), Some(3_600)));
        assert_eq!(from_assignments("rubbish", "eth0"), None);
        let text = "lease {\n interface \"eth0\";\n option dhcp-server-identifier 198.18.0.1;\n}\n\
             lease {\n interface \"eth0\";\n option dhcp-lease-time 600;\n \
             option dhcp-server-identifier 198.18.0.2;\n}\nlease {\n interface \"eth1\";\n}\n";
        let lease = from_statements(text, "eth0").unwrap();
        assert_eq!((lease.server, lease.lifetime_s), (Some([198, 18, 0, 2].into()), Some(600)));
        assert_eq!(from_statements(text, "wlan0"), None);
    }
}
