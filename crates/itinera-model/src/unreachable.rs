//! What a "destination unreachable" means, by its own code.

use crate::path::Family;

/// Stands for ICMPv6 "packet too big", which is a type of its own and has no code; in IPv4 the
/// same is code 4 of "destination unreachable".
pub const TOO_BIG: u8 = 255;

/// In words that go behind "says:". Unknown codes are named by their number.
///
/// Source: RFC 792, RFC 1122 section 3.2.2.1, RFC 1812 section 5.2.7.1 for IPv4; RFC 4443
/// section 3.1, RFC 6550 and RFC 8883 for IPv6.
pub fn meaning(family: Family, code: u8) -> String {
    let known = match family {
        Family::Ipv4 => match code {
            0 => "no route to that network",
            1 => "that host does not answer on its own network",
            2 => "the host does not speak that protocol",
            3 => "no service listens on that port",
            4 => "too big to go on without being cut",
            5 => "the source route failed",
            6 => "that network is unknown",
            7 => "that host is unknown",
            8 => "the sender is isolated",
            9 => "that network is prohibited by an administrator",
            10 => "that host is prohibited by an administrator",
            11 => "no route to that network for this type of service",
            12 => "no route to that host for this type of service",
            13 => "a filter prohibits it",
            14 => "that precedence is not allowed for the host",
            15 => "the precedence is too low for this network",
            _ => "",
        },
        Family::Ipv6 => match code {
            0 => "no route to that network",
            1 => "a filter prohibits it",
            2 => "beyond the scope of the sender's address",
            3 => "that host does not answer on its own network",
            4 => "no service listens on that port",
            5 => "the sender's address is refused by policy",
            6 => "the route rejects it",
            7 => "the source route failed",
            8 => "its headers are too long",
            TOO_BIG => "too big to go on without being cut",
            _ => "",
        },
    };
    if known.is_empty() { format!("unreachable, code {code}") } else { known.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_code_has_a_meaning_of_its_own() {
        for (family, codes) in [(Family::Ipv4, 0..=16), (Family::Ipv6, 0..=9)] {
            let count = codes.clone().count();
            let words: BTreeSet<String> = codes.map(|code| meaning(family, code)).collect();
            assert_eq!(words.len(), count, "{words:?}");
        }
        assert_eq!(meaning(Family::Ipv6, 9), "unreachable, code 9");
    }
}
