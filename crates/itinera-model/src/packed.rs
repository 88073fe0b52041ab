//! The packed form of a round's hops: what a row in the store holds.
//!
//! Shape: version octet, hop count, then per hop `sent`, answered bitmap, counts of late,
//! duplicate and elsewhere, number of refusing codes with (code, count) each, then one delay
//! per answered bit. All numbers are unsigned LEB128 (DWARF 5, section 7.6); delays are in
//! microseconds, each but a hop's first as zig-zag difference to the one before.

use crate::round::HopCounts;
use crate::unit::Micros;
use crate::varint::{Reader, VarintError, put, put_signed};

/// The version octet written.
pub const VERSION: u8 = 2;
/// The oldest version still read: without reordered and ambiguous answers.
const OLDEST: u8 = 1;
const MAX_HOPS: u64 = 64;

/// Why packed octets could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum UnpackError {
    /// Not the numbers expected.
    #[error("packed hops")]
    Numbers(#[from] VarintError),
    /// A version this build does not read.
    #[error("packed hops of version {found}, this build reads {VERSION}")]
    Version {
        /// The version octet.
        found: u8,
    },
}

fn read_hop(reader: &mut Reader<'_>, version: u8) -> Result<HopCounts, VarintError> {
    let sent = reader.typed("sent")?;
    let answered: u16 = reader.typed("answered bitmap")?;
    let late = reader.typed("late")?;
    let duplicate = reader.typed("duplicate")?;
    let elsewhere = reader.typed("elsewhere")?;
    let (reordered, ambiguous) = match version {
        OLDEST => (0, 0),
        _ => (reader.typed("reordered")?, reader.typed("ambiguous")?),
    };
    let codes = reader.number("refusals", 16)?;
    let mut unreachable = Vec::new();
    for _ in 0..codes {
        unreachable.push((reader.typed("refusal code")?, reader.typed("refusal count")?));
    }
    let mut rtt = Vec::new();
    let mut last = 0i64;
    for _ in 0..answered.count_ones() {
        last = last.saturating_add(reader.signed("delay")?);
        let us = u32::try_from(last).map_err(|_| reader.range("delay"))?;
        rtt.push(Micros::new(us));
    }
    Ok(HopCounts {
        sent,
        answered,
        rtt,
        late,
        duplicate,
        elsewhere,
        reordered,
        ambiguous,
        unreachable,
    })
}

/// Packs hops. Delays beyond the answered bits are not written.
pub fn pack(hops: &[HopCounts]) -> Vec<u8> {
    let mut out = vec![VERSION];
    put(&mut out, hops.len() as u64);
    for hop in hops {
        put(&mut out, u64::from(hop.sent));
        put(&mut out, u64::from(hop.answered));
        put(&mut out, u64::from(hop.late));
        put(&mut out, u64::from(hop.duplicate));
        put(&mut out, u64::from(hop.elsewhere));
        put(&mut out, u64::from(hop.reordered));
        put(&mut out, u64::from(hop.ambiguous));
        put(&mut out, hop.unreachable.len() as u64);
        for (code, count) in &hop.unreachable {
            put(&mut out, u64::from(*code));
            put(&mut out, u64::from(*count));
        }
        let mut last = 0i64;
        for rtt in hop.rtt.iter().take(hop.answered.count_ones() as usize) {
            let us = i64::from(rtt.as_micros());
            put_signed(&mut out, us - last);
            last = us;
        }
    }
    out
}

/// Reads packed hops back.
///
/// # Errors
/// [`UnpackError`] on another version, missing or left-over octets, or a number its field
/// cannot hold; nothing is guessed.
pub fn unpack(octets: &[u8]) -> Result<Vec<HopCounts>, UnpackError> {
    let mut reader = Reader::new(octets);
    let found = reader.byte()?;
    if !(OLDEST..=VERSION).contains(&found) {
        return Err(UnpackError::Version { found });
    }
    let count = reader.number("hop count", MAX_HOPS)?;
    let hops = (0..count).map(|_| read_hop(&mut reader, found)).collect::<Result<Vec<_>, _>>()?;
    reader.end()?;
    Ok(hops)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_hop() -> impl Strategy<Value = HopCounts> {
        let rare = prop::collection::vec((any::<u8>(), any::<u8>()), 0..4);
        (any::<u8>(), any::<u16>(), any::<[u8; 5]>(), rare, any::<[u32; 16]>()).prop_map(
            |(
                sent,
                answered,
                [late, duplicate, elsewhere, reordered, ambiguous],
                unreachable,
                delays,
            )| HopCounts {
                sent,
                answered,
                rtt: delays[..answered.count_ones() as usize]
                    .iter()
                    .map(|us| Micros::new(*us))
                    .collect(),
                late,
                duplicate,
                elsewhere,
                reordered,
                ambiguous,
                unreachable,
            },
        )
    }

    proptest! {
        #[test]
        fn unpacking_returns_what_was_packed(hops in prop::collection::vec(any_hop(), 0..64)) {
            prop_assert_eq!(unpack(&pack(&hops)), Ok(hops));
        }

        #[test]
        fn every_truncation_is_refused(hops in prop::collection::vec(any_hop(), 1..8)) {
            let whole = pack(&hops);
            for end in 0..whole.len() {
                prop_assert!(unpack(&whole[..end]).is_err());
            }
        }

        #[test]
        fn any_octets_are_read_calmly(octets in prop::collection::vec(any::<u8>(), 0..256)) {
            if let Ok(hops) = unpack(&octets) {
                prop_assert!(hops.len() <= 64);
            }
        }
    }

    #[test]
    fn the_version_before_is_still_read() {
        // One hop: two sent, both answered after 5 and 7 us, one late, one duplicate, none elsewhere.
        let old = [1, 1, 2, 3, 1, 1, 0, 0, 10, 4];
        let hops = unpack(&old).unwrap();
        assert_eq!((hops[0].sent, hops[0].late, hops[0].duplicate), (2, 1, 1));
        assert_eq!(hops[0].rtt, vec![Micros::new(5), Micros::new(7)]);
    }

    #[test]
    fn octets_left_over_are_named() {
        let mut whole = pack(&[]);
        whole.push(7);
        assert_eq!(unpack(&whole), Err(UnpackError::Numbers(VarintError::Trailing { count: 1 })));
    }
}
