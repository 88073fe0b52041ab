//! The packed form of a round's hops: what a row in the store holds.
//!
//! Shape: version octet, hop count, then per hop `sent`, answered bitmap, counts of late,
//! duplicate and elsewhere, number of refusing codes with (code, count) each, then one delay
//! per answered bit. All numbers are unsigned LEB128 (DWARF 5, section 7.6); delays are in
//! microseconds, each but a hop's first as zig-zag difference to the one before.

use crate::round::HopCounts;
use crate::unit::Micros;

/// The version octet written.
pub const VERSION: u8 = 2;
/// The oldest version still read: without reordered and ambiguous answers.
const OLDEST: u8 = 1;
const MAX_HOPS: u64 = 64;

/// Why packed octets could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum UnpackError {
    /// The octets end inside a number.
    #[error("packed hops end too early at octet {offset}")]
    Truncated {
        /// Where reading stopped.
        offset: usize,
    },
    /// A version this build does not read.
    #[error("packed hops of version {found}, this build reads {VERSION}")]
    Version {
        /// The version octet.
        found: u8,
    },
    /// A number that its field cannot hold.
    #[error("packed hops hold an impossible {field} at octet {offset}")]
    Range {
        /// Which field.
        field: &'static str,
        /// Where it ends.
        offset: usize,
    },
    /// Octets after the last hop.
    #[error("{count} octets left over after packed hops")]
    Trailing {
        /// How many.
        count: usize,
    },
}

fn put(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        #[allow(clippy::cast_possible_truncation, reason = "the low seven bits are meant")]
        out.push((value as u8 & 0x7f) | 0x80);
        value >>= 7;
    }
    #[allow(clippy::cast_possible_truncation, reason = "below 0x80 by the loop")]
    out.push(value as u8);
}

struct Cursor<'a> {
    octets: &'a [u8],
    offset: usize,
}

impl Cursor<'_> {
    fn octet(&mut self) -> Result<u8, UnpackError> {
        let octet = self.octets.get(self.offset).copied();
        let octet = octet.ok_or(UnpackError::Truncated { offset: self.offset })?;
        self.offset += 1;
        Ok(octet)
    }

    fn number(&mut self, field: &'static str, max: u64) -> Result<u64, UnpackError> {
        let mut value = 0u64;
        for shift in (0..63).step_by(7) {
            let octet = self.octet()?;
            value |= u64::from(octet & 0x7f) << shift;
            if octet & 0x80 == 0 {
                return if value <= max {
                    Ok(value)
                } else {
                    Err(UnpackError::Range { field, offset: self.offset })
                };
            }
        }
        Err(UnpackError::Range { field, offset: self.offset })
    }

    fn small(&mut self, field: &'static str) -> Result<u8, UnpackError> {
        let value = self.number(field, u64::from(u8::MAX))?;
        u8::try_from(value).map_err(|_| UnpackError::Range { field, offset: self.offset })
    }

    fn hop(&mut self, version: u8) -> Result<HopCounts, UnpackError> {
        let sent = self.small("sent")?;
        let answered = self.number("answered bitmap", u64::from(u16::MAX))?;
        let answered = u16::try_from(answered)
            .map_err(|_| UnpackError::Range { field: "answered bitmap", offset: self.offset })?;
        let late = self.small("late")?;
        let duplicate = self.small("duplicate")?;
        let elsewhere = self.small("elsewhere")?;
        let (reordered, ambiguous) = match version {
            OLDEST => (0, 0),
            _ => (self.small("reordered")?, self.small("ambiguous")?),
        };
        let codes = self.number("refusals", 16)?;
        let mut unreachable = Vec::new();
        for _ in 0..codes {
            unreachable.push((self.small("refusal code")?, self.small("refusal count")?));
        }
        let mut rtt = Vec::new();
        let mut last = 0i64;
        for _ in 0..answered.count_ones() {
            let zigzag = self.number("delay", u64::from(u32::MAX) * 2 + 1)?;
            let half = i64::try_from(zigzag >> 1).unwrap_or(i64::MAX);
            last += if zigzag & 1 == 1 { -half - 1 } else { half };
            let us = u32::try_from(last)
                .map_err(|_| UnpackError::Range { field: "delay", offset: self.offset })?;
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
            let diff = us - last;
            put(&mut out, ((diff << 1) ^ (diff >> 63)).cast_unsigned());
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
    let mut cursor = Cursor { octets, offset: 0 };
    let found = cursor.octet()?;
    if !(OLDEST..=VERSION).contains(&found) {
        return Err(UnpackError::Version { found });
    }
    let count = cursor.number("hop count", MAX_HOPS)?;
    let hops = (0..count).map(|_| cursor.hop(found)).collect::<Result<Vec<_>, _>>()?;
    match octets.len() - cursor.offset {
        0 => Ok(hops),
        count => Err(UnpackError::Trailing { count }),
    }
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
        assert_eq!(unpack(&whole), Err(UnpackError::Trailing { count: 1 }));
    }
}
