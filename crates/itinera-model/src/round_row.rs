//! The packed form of a live round: what its row holds beside path, time of receipt and commit.
//!
//! Shape: version byte; a byte of bits that say which of offset, its error, reading, hop limit of the target
//! and the three numbers of lateness are there; then number, tick, time of receipt less wall clock, flow,
//! resolution, route, stamps, and those that are there in this order; the packed hops ([`crate::packed`])
//! fill the rest. Numbers are unsigned LEB128 (DWARF 5, section 7.6); wall clock and offset in zig-zag form.

use crate::round_block::StoredRound;
use crate::varint::{Reader, VarintError, put, put_signed};

/// The version byte written. No packed hops begin with it.
const VERSION: u8 = 0x81;
/// Numbers of eight bytes, the most significant first, as rows of columns were turned into packed ones.
const WIDE: u8 = 0x80;
/// Stands for an absent number in the wide form.
const ABSENT: i64 = i64::MIN;

/// Why a row could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum RowError {
    /// Not the numbers expected.
    #[error("packed round")]
    Numbers(#[from] VarintError),
    /// A version this build does not read.
    #[error("packed round of version {found}, this build reads {VERSION}")]
    Version {
        /// The version byte.
        found: u8,
    },
}

/// Place of the wall clock among the numbers, and of the offset among those that may be absent: these two are
/// signed.
const WALL: usize = 2;
const OFFSET: usize = 0;

/// The numbers that are always there, in the order of [`of_numbers`].
const fn numbers(round: &StoredRound) -> [i64; 7] {
    let StoredRound { number, tick_ns, wall_us, flow_no, resolution_no, route_no, stamps, .. } =
        *round;
    [number, tick_ns, wall_us, flow_no, resolution_no, route_no, stamps]
}

/// The numbers that may be absent, in the order of their bits.
const fn optional(round: &StoredRound) -> [Option<i64>; 7] {
    let [timer, read, link] = round.late_us;
    let StoredRound { offset_us, offset_error_us, reading_no, reached_at, .. } = *round;
    [offset_us, offset_error_us, reading_no, reached_at, timer, read, link]
}

/// Packs a round; its time of receipt and commit are not in it.
pub fn pack(round: &StoredRound) -> Vec<u8> {
    let mut out = Vec::with_capacity(48 + round.hops.len());
    let optional = optional(round);
    out.push(VERSION);
    out.push(optional.iter().zip(0..).map(|(it, bit)| u8::from(it.is_some()) << bit).sum());
    for (nth, number) in numbers(round).into_iter().enumerate() {
        match nth {
            WALL => put_signed(&mut out, round.received_us.wrapping_sub(number)),
            _ => put(&mut out, number.cast_unsigned()),
        }
    }
    for (bit, number) in optional.into_iter().enumerate() {
        match (bit, number) {
            (_, None) => {}
            (OFFSET, Some(number)) => put_signed(&mut out, number),
            (_, Some(number)) => put(&mut out, number.cast_unsigned()),
        }
    }
    out.extend(&round.hops);
    out
}

/// Reads a packed round that was received at a time, in microseconds since 1970, in a commit.
///
/// # Errors
/// [`RowError`] on another version, missing bytes, or a number its field cannot hold. Whether the hops can
/// be read is not looked at.
pub fn unpack(content: &[u8], received_us: i64, commit_no: i64) -> Result<StoredRound, RowError> {
    let mut reader = Reader::new(content);
    let mut round = match reader.byte()? {
        VERSION => read(&mut reader, received_us)?,
        WIDE => read_wide(&mut reader)?,
        found => return Err(RowError::Version { found }),
    };
    (round.received_us, round.commit_no) = (received_us, commit_no);
    round.hops = reader.rest().to_vec();
    Ok(round)
}

/// A round of its numbers, in the order in which rows hold them.
fn of_numbers(
    [number, tick_ns, wall_us, flow_no, resolution_no, route_no, stamps]: [i64; 7],
    [offset_us, offset_error_us, reading_no, reached_at, timer, read, link]: [Option<i64>; 7],
) -> StoredRound {
    StoredRound {
        number,
        tick_ns,
        wall_us,
        offset_us,
        offset_error_us,
        flow_no,
        resolution_no,
        route_no,
        reading_no,
        reached_at,
        stamps,
        late_us: [timer, read, link],
        ..StoredRound::default()
    }
}

fn read(reader: &mut Reader<'_>, received_us: i64) -> Result<StoredRound, VarintError> {
    let there = reader.byte()?;
    let (mut numbers, mut optional) = ([0; 7], [None; 7]);
    for (nth, number) in numbers.iter_mut().enumerate() {
        *number = match nth {
            WALL => received_us.wrapping_sub(reader.signed("wall clock")?),
            _ => reader.number("number", u64::MAX)?.cast_signed(),
        };
    }
    for (bit, number) in optional.iter_mut().enumerate().filter(|(bit, _)| there >> bit & 1 == 1) {
        *number = Some(match bit {
            OFFSET => reader.signed("offset")?,
            _ => reader.number("number that may be absent", u64::MAX)?.cast_signed(),
        });
    }
    Ok(of_numbers(numbers, optional))
}

fn read_wide(reader: &mut Reader<'_>) -> Result<StoredRound, VarintError> {
    let mut next = || -> Result<i64, VarintError> {
        let octets = reader.take(8)?.iter();
        Ok(octets.fold(0, |number, octet| number << 8 | i64::from(*octet)))
    };
    let (mut numbers, mut optional) = ([0; 7], [None; 7]);
    for number in &mut numbers {
        *number = next()?;
    }
    for number in &mut optional {
        *number = Some(next()?).filter(|number| *number != ABSENT);
    }
    Ok(of_numbers(numbers, optional))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::packed;
    use crate::round::HopCounts;
    use proptest::prelude::*;

    fn any_round() -> impl Strategy<Value = StoredRound> {
        let hops = prop::collection::vec(any::<u8>(), 0..40);
        (any::<[i64; 2]>(), any::<[i64; 7]>(), any::<[Option<i64>; 7]>(), hops).prop_map(
            |([received_us, commit_no], numbers, optional, hops)| StoredRound {
                received_us,
                commit_no,
                hops,
                ..of_numbers(numbers, optional)
            },
        )
    }

    proptest! {
        #[test]
        fn a_packed_round_is_read_again(round in any_round()) {
            let packed = pack(&round);
            prop_assert_eq!(unpack(&packed, round.received_us, round.commit_no), Ok(round));
        }

        #[test]
        fn the_wide_form_is_read(mut round in any_round()) {
            let mut content = vec![WIDE];
            content.extend(numbers(&round).iter().flat_map(|number| number.to_be_bytes()));
            for number in optional(&round) {
                content.extend(number.unwrap_or(ABSENT).to_be_bytes());
            }
            content.extend(&round.hops);
            round.received_us = 7;
            round.commit_no = 9;
            prop_assert_eq!(unpack(&content, 7, 9), Ok(round));
        }

        #[test]
        fn a_truncated_row_is_refused_unless_only_hops_are_missing(round in any_round()) {
            let packed = pack(&round);
            for end in 0..packed.len() - round.hops.len() {
                prop_assert!(unpack(&packed[..end], round.received_us, 0).is_err());
            }
        }
    }

    #[test]
    fn packed_hops_are_no_row_and_a_row_is_no_packed_hops() {
        let hops = packed::pack(&[HopCounts::default()]);
        assert_eq!(unpack(&hops, 0, 0), Err(RowError::Version { found: packed::VERSION }));
        assert!(packed::unpack(&pack(&StoredRound::default())).is_err());
    }

    #[test]
    fn a_usual_row_is_short() {
        let round = StoredRound {
            received_us: 1_760_000_002_000_000,
            number: 40_000,
            tick_ns: 400_000_000_000_000,
            wall_us: 1_760_000_000_000_000,
            offset_us: Some(-300),
            offset_error_us: Some(500),
            flow_no: 9_000,
            resolution_no: 100,
            route_no: 2_000,
            reading_no: Some(50),
            reached_at: Some(20),
            stamps: 2,
            late_us: [Some(60), Some(150), Some(0)],
            ..StoredRound::default()
        };
        assert_eq!(pack(&round).len(), 32);
    }
}
