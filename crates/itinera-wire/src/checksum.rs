//! The Internet checksum (RFC 1071) and how to steer it.

/// The ones' complement sum of these octets, padded with a zero octet when odd.
pub fn sum(octets: &[u8]) -> u16 {
    let (pairs, rest) = octets.as_chunks::<2>();
    let mut total = pairs.iter().fold(0u16, |acc, pair| add(acc, u16::from_be_bytes(*pair)));
    if let [last] = rest {
        total = add(total, u16::from_be_bytes([*last, 0]));
    }
    total
}

/// Ones' complement addition.
pub const fn add(a: u16, b: u16) -> u16 {
    let (low, carry) = a.overflowing_add(b);
    low.wrapping_add(carry as u16)
}

/// The checksum field that goes with a sum over everything else.
pub const fn field(sum: u16) -> u16 {
    !sum
}

/// The two octets which, added to `sum`, make the checksum field equal `wanted`.
///
/// Limits: `wanted` 0xffff is the same number as 0 in ones' complement; UDP cannot carry 0.
pub const fn steer(sum: u16, wanted: u16) -> u16 {
    add(!wanted, !sum)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_example_of_rfc_1071_section_3() {
        assert_eq!(sum(&[0x00, 0x01, 0xf2, 0x03, 0xf4, 0xf5, 0xf6, 0xf7]), 0xddf2);
    }

    proptest! {
        #[test]
        fn a_steered_packet_has_the_wanted_checksum(
            octets in prop::collection::vec(any::<u8>(), 0..64),
            wanted in 1u16..0xffff,
        ) {
            let partial = sum(&octets);
            let steered = add(partial, steer(partial, wanted));
            prop_assert_eq!(field(steered), wanted);
        }
    }
}
