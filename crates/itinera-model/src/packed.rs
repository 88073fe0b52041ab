//! The packed form of a round's hops: what a row in the store holds.
//!
//! Shape: version byte, hop count, the usual number of probes of a hop, and a bit for each hop that is
//! not usual: usual hops sent as many probes, had all of them answered, and nothing else. Then, by hop:
//! unless it is usual, `sent`, answered bitmap, counts of late, duplicate, elsewhere, reordered and
//! ambiguous, number of refusing codes with (code, count) each; and one delay per answered bit. All
//! numbers are unsigned LEB128 (DWARF 5, section 7.6); delays are in microseconds, each as zig-zag
//! difference to the one before.

use crate::round::HopCounts;
use crate::unit::Micros;
use crate::varint::{Reader, VarintError, put, put_signed};

/// The version byte written.
pub const VERSION: u8 = 3;
/// The version before: every hop in full, and each hop's delays by themselves.
const EVERY_HOP: u8 = 2;
/// The oldest version still read: as that, without reordered and ambiguous answers.
const OLDEST: u8 = 1;
const MAX_HOPS: usize = 64;

/// Why packed bytes could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum UnpackError {
    /// Not the numbers expected.
    #[error("packed hops")]
    Numbers(#[from] VarintError),
    /// A version this build does not read.
    #[error("packed hops of version {found}, this build reads {VERSION}")]
    Version {
        /// The version byte.
        found: u8,
    },
}

/// The fields of a hop without its delays.
fn read_fields(reader: &mut Reader<'_>, version: u8) -> Result<HopCounts, VarintError> {
    let sent = reader.typed("sent")?;
    let answered = reader.typed("answered bitmap")?;
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
    Ok(HopCounts {
        sent,
        answered,
        rtt: Vec::new(),
        late,
        duplicate,
        elsewhere,
        reordered,
        ambiguous,
        unreachable,
    })
}

/// The delays of a hop; `last` is the delay before.
fn read_delays(
    reader: &mut Reader<'_>,
    hop: &mut HopCounts,
    last: &mut i64,
) -> Result<(), VarintError> {
    let count = hop.answered.count_ones();
    hop.rtt.reserve_exact(count as usize);
    for _ in 0..count {
        *last = last.saturating_add(reader.signed("delay")?);
        let us = u32::try_from(*last).map_err(|_| reader.range("delay"))?;
        hop.rtt.push(Micros::new(us));
    }
    Ok(())
}

/// A hop that sent so many probes, had all of them answered, and nothing else; none has more probes
/// than the bitmap has bits.
fn usual_hop(sent: u8) -> Option<HopCounts> {
    let answered = u16::MAX.checked_shr(u16::BITS.checked_sub(sent.into())?).unwrap_or(0);
    Some(HopCounts { sent, answered, ..HopCounts::default() })
}

/// True where two hops differ in nothing but delays.
fn is_alike(hop: &HopCounts, usual: &HopCounts) -> bool {
    let HopCounts {
        sent, answered, rtt: _, late, duplicate, elsewhere, reordered, ambiguous, ..
    } = *hop;
    let rare = [late, duplicate, elsewhere, reordered, ambiguous];
    (sent, answered) == (usual.sent, usual.answered) && rare == [0; 5] && hop.unreachable.is_empty()
}

/// Packs hops. Delays beyond the answered bits are not written.
pub fn pack(hops: &[HopCounts]) -> Vec<u8> {
    let with = |sent: u8| hops.iter().filter(|hop| hop.sent == sent).count();
    let usual_sent = hops.iter().map(|hop| hop.sent).max_by_key(|sent| (with(*sent), *sent));
    let usual_sent = usual_sent.unwrap_or(0);
    let usual = usual_hop(usual_sent);
    let is_usual = |hop: &HopCounts| usual.as_ref().is_some_and(|usual| is_alike(hop, usual));
    let mut out = Vec::with_capacity(4 + hops.len() * 5);
    out.push(VERSION);
    put(&mut out, hops.len() as u64);
    put(&mut out, usual_sent.into());
    for eight in hops.chunks(8) {
        let bits = eight.iter().zip(0..).map(|(hop, bit)| u8::from(!is_usual(hop)) << bit);
        out.push(bits.sum());
    }
    let mut last = 0i64;
    for hop in hops {
        if !is_usual(hop) {
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
        }
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
/// [`UnpackError`] on another version, missing or left-over bytes, or a number its field
/// cannot hold; nothing is guessed.
pub fn unpack(bytes: &[u8]) -> Result<Vec<HopCounts>, UnpackError> {
    let mut reader = Reader::new(bytes);
    let version = reader.byte()?;
    if !(OLDEST..=VERSION).contains(&version) {
        return Err(UnpackError::Version { found: version });
    }
    let count: usize = reader.typed("hop count")?;
    if count > MAX_HOPS {
        return Err(reader.range("hop count").into());
    }
    let (usual, in_full) = if version <= EVERY_HOP {
        (None, [].as_slice())
    } else {
        let usual = usual_hop(reader.typed("usual number of probes")?);
        (usual, reader.take(count.div_ceil(8))?)
    };
    let mut hops = Vec::with_capacity(count);
    let mut last = 0;
    for nth in 0..count {
        let usual = usual.as_ref().filter(|_| in_full[nth / 8] >> (nth % 8) & 1 == 0);
        let mut hop = match usual {
            Some(usual) => usual.clone(),
            None => read_fields(&mut reader, version)?,
        };
        if version <= EVERY_HOP {
            last = 0;
        }
        read_delays(&mut reader, &mut hop, &mut last)?;
        hops.push(hop);
    }
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
        fn any_bytes_are_read_calmly(bytes in prop::collection::vec(any::<u8>(), 0..256)) {
            if let Ok(hops) = unpack(&bytes) {
                prop_assert!(hops.len() <= 64);
            }
        }
    }

    #[test]
    fn versions_before_are_still_read() {
        // One hop: two sent, both answered after 5 and 7 us, one late, one duplicate, none elsewhere.
        let oldest = [1, 1, 2, 3, 1, 1, 0, 0, 10, 4];
        let hops = unpack(&oldest).unwrap();
        assert_eq!((hops[0].sent, hops[0].late, hops[0].duplicate), (2, 1, 1));
        assert_eq!(hops[0].rtt, vec![Micros::new(5), Micros::new(7)]);
        // Two hops, each with delays of its own; the first has an ambiguous answer.
        let before = [2, 2, 2, 3, 1, 1, 0, 0, 4, 0, 10, 4, 1, 1, 0, 0, 0, 0, 0, 0, 12];
        let two = unpack(&before).unwrap();
        assert_eq!((two[0].ambiguous, two[1].sent), (4, 1));
        assert_eq!((&two[0].rtt, &two[1].rtt), (&hops[0].rtt, &vec![Micros::new(6)]));
    }

    #[test]
    fn a_round_without_loss_takes_little_more_than_its_delays() {
        let hop = |nth: u32| HopCounts {
            sent: 1,
            answered: 1,
            rtt: vec![Micros::new(nth * 2_000)],
            ..HopCounts::default()
        };
        let mut hops: Vec<HopCounts> = (1..=20).map(hop).collect();
        assert_eq!(pack(&hops).len(), 6 + 20 * 2);
        hops[3] = HopCounts { sent: 1, ..HopCounts::default() };
        assert_eq!(unpack(&pack(&hops)), Ok(hops));
    }

    #[test]
    fn bytes_left_over_are_named() {
        let mut whole = pack(&[]);
        whole.push(7);
        assert_eq!(unpack(&whole), Err(UnpackError::Numbers(VarintError::Trailing { count: 1 })));
    }
}
