//! Owners, and the map from address to owner.

use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// The network responsible for an address.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Owner {
    /// Autonomous system number (RFC 6793).
    pub as_number: u32,
    /// Name.
    pub name: String,
    /// Contact.
    pub contact: String,
}

/// One line of an owner map.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnerEntry {
    /// The addresses it speaks of.
    pub prefix: IpNet,
    /// Their owner.
    pub owner: Owner,
}

/// Turns addresses into owners by the longest matching prefix.
#[derive(Debug, Clone, Default)]
pub struct OwnerMap {
    entries: BTreeMap<IpNet, Owner>,
    /// Prefix lengths that occur, longest first: one look each finds the longest match.
    lengths: Vec<u8>,
}

impl OwnerMap {
    /// A map of these entries, in any order; of two with one prefix the later one holds.
    pub fn new(entries: Vec<OwnerEntry>) -> Self {
        let lengths: BTreeSet<u8> = entries.iter().map(|entry| entry.prefix.prefix_len()).collect();
        let entries = entries.into_iter().map(|entry| (entry.prefix.trunc(), entry.owner));
        Self { entries: entries.collect(), lengths: lengths.into_iter().rev().collect() }
    }

    /// The owner of an address; absent where the map is silent.
    pub fn owner_of(&self, address: IpAddr) -> Option<&Owner> {
        self.lengths.iter().find_map(|length| {
            let prefix = IpNet::new(address, *length).ok()?;
            self.entries.get(&prefix.trunc())
        })
    }

    /// The owners, in order of their prefixes, each as often as it has one.
    pub fn owners(&self) -> impl Iterator<Item = &Owner> {
        self.entries.values()
    }

    /// The owner with an AS number; absent where no entry has it.
    pub fn owner_numbered(&self, as_number: u32) -> Option<&Owner> {
        self.entries.values().find(|owner| owner.as_number == as_number)
    }

    /// Number of entries.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// True when nothing was imported.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }
}

/// True for addresses that belong to a site or its access provider by definition: private
/// (RFC 1918), shared (RFC 6598) and unique local (RFC 4193) space.
pub fn is_private(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => {
            let [a, b, ..] = v4.octets();
            v4.is_private() || (a == 100 && (64..128).contains(&b))
        }
        IpAddr::V6(v6) => v6.segments()[0] & 0xfe00 == 0xfc00,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_prefix_wins_and_silence_stays_silent() {
        let entry = |prefix: &str, name: &str| OwnerEntry {
            prefix: prefix.parse().unwrap(),
            owner: Owner { as_number: 64496, name: name.into(), contact: String::new() },
        };
        let map = OwnerMap::new(vec![
            entry("198.18.0.0/15", "wide"),
            entry("198.18.4.0/24", "narrow"),
            entry("2001:db8::/32", "six"),
        ]);
        let name = |a: [u8; 4]| map.owner_of(a.into()).map(|o| o.name.as_str());
        assert_eq!(name([198, 18, 4, 1]), Some("narrow"));
        assert_eq!(name([198, 19, 0, 1]), Some("wide"));
        assert_eq!(name([192, 0, 2, 1]), None);
        let six = map.owner_of("2001:db8::1".parse().unwrap());
        assert_eq!(six.map(|owner| owner.name.as_str()), Some("six"));
    }

    #[test]
    fn shared_and_private_space_is_recognised_at_its_edges() {
        for (address, private) in [
            ("100.64.0.0", true),
            ("100.127.255.255", true),
            ("100.128.0.0", false),
            ("172.31.0.1", true),
            ("fd00::1", true),
            ("2001:db8::1", false),
        ] {
            assert_eq!(is_private(address.parse().unwrap()), private, "{address}");
        }
    }
}
