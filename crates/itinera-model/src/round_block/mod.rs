//! Rounds of one path in columns, without loss: the compact form in which they are kept behind the
//! live ones.
//!
//! Neighbours in most columns are alike or repeat, so that a general compressor finds what can be saved.
//! It finds nothing in noise, which is apart, bit by bit: clocks and lateness as differences in Golomb-Rice
//! codes (Rice, IEEE Transactions on Communications, 1971), with the parameter that makes a column
//! shortest; each delay as its hop's smallest of the block plus a class ([`split`]) and the bits below.

mod bits;

use bits::{BitReader, BitWriter, put_noise, take_noise};

use crate::delay_class::{split, start_of};
use crate::packed;
use crate::round::HopCounts;
use crate::unit::Micros;
use crate::varint::{Reader, VarintError, from_zigzag, put, put_signed, zigzag};

/// The version written and read.
const VERSION: u8 = 1;
/// Leading bits of the classes of delays.
const LEADING: u32 = 2;
/// The largest class that a number has.
const MOST_CLASS: u8 = 123;
const MOST_HOPS: u64 = 64;
/// A round and a hop take so many bytes at least.
const ROUND_BYTES: u64 = 7;
const HOP_BYTES: u64 = 8;

/// A round as it is recorded. What it refers to is given by number.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct StoredRound {
    /// When it was received by the service's clock, in microseconds since 1970.
    pub received_us: i64,
    /// Its commit.
    pub commit_no: i64,
    /// Its number within path and boot.
    pub number: i64,
    /// The agent's monotonic time, in nanoseconds.
    pub tick_ns: i64,
    /// The agent's wall clock, in microseconds since 1970.
    pub wall_us: i64,
    /// Estimated service clock minus agent clock, in microseconds.
    pub offset_us: Option<i64>,
    /// Bound of that estimate's error, in microseconds.
    pub offset_error_us: Option<i64>,
    /// Number of its flow.
    pub flow_no: i64,
    /// Number of its resolution.
    pub resolution_no: i64,
    /// Number of its route.
    pub route_no: i64,
    /// Number of its reading.
    pub reading_no: Option<i64>,
    /// Hop limit at which the target answered.
    pub reached_at: Option<i64>,
    /// Where the stamps of its delays came from, by code.
    pub stamps: i64,
    /// How late the agent's program was with timers, reading and its simulated link, in microseconds.
    pub late_us: [Option<i64>; 3],
    /// What each hop gave ([`packed`]). Bytes that are not packed hops are kept as they are.
    pub hops: Vec<u8>,
}

/// A block of rounds in three parts.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct RoundBlock {
    /// All but the delays: to be compressed.
    pub columns: Vec<u8>,
    /// Classes of delays, by hop and round: to be compressed by itself.
    pub classes: Vec<u8>,
    /// Noise, which does not compress: clocks, lateness, and the lower bits of delays.
    pub bits: Vec<u8>,
}

/// Why a block could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BlockError {
    /// Not the numbers expected.
    #[error("block of rounds")]
    Numbers(#[from] VarintError),
    /// A version this build does not read.
    #[error("block of rounds of version {found}, this build reads {VERSION}")]
    Version {
        /// The version byte.
        found: u8,
    },
    /// Bits that no block has.
    #[error("impossible bits in a block of rounds")]
    Bits,
}

/// A column of numbers that may be absent.
struct Column {
    name: &'static str,
    /// How many neighbours predict a number: none, the one before, or the two before.
    order: u8,
    /// What is left then is noise.
    is_noise: bool,
    get: fn(&StoredRound) -> Option<i64>,
    set: fn(&mut StoredRound, Option<i64>),
}

impl Column {
    /// How many of so many numbers are written as bytes: of noise, those that nothing predicts yet.
    fn bytes(&self, count: usize) -> usize {
        if self.is_noise { count.min(self.order.into()) } else { count }
    }
}

macro_rules! column {
    ($name:ident, $order:literal, $is_noise:literal) => {
        Column {
            name: stringify!($name),
            order: $order,
            is_noise: $is_noise,
            get: |round| Some(round.$name),
            set: |round, value| round.$name = value.unwrap_or(0),
        }
    };
    ($name:ident?, $order:literal, $is_noise:literal) => {
        Column {
            name: stringify!($name),
            order: $order,
            is_noise: $is_noise,
            get: |round| round.$name,
            set: |round, value| round.$name = value,
        }
    };
    ($name:ident[$index:literal], $order:literal, $is_noise:literal) => {
        Column {
            name: stringify!($name),
            order: $order,
            is_noise: $is_noise,
            get: |round| round.$name[$index],
            set: |round, value| round.$name[$index] = value,
        }
    };
}

const COLUMNS: [Column; 16] = [
    column!(commit_no, 1, false),
    column!(received_us, 2, true),
    column!(number, 2, false),
    column!(wall_us, 2, true),
    // Both clocks of an agent run alike.
    Column {
        name: "tick_ns",
        order: 1,
        is_noise: true,
        get: |round| Some(round.tick_ns.wrapping_sub(round.wall_us.wrapping_mul(1_000))),
        set: |round, value| {
            round.tick_ns = value.unwrap_or(0).wrapping_add(round.wall_us.wrapping_mul(1_000));
        },
    },
    column!(offset_us?, 1, true),
    column!(offset_error_us?, 1, true),
    column!(flow_no, 1, false),
    column!(resolution_no, 1, false),
    column!(route_no, 1, false),
    column!(reading_no?, 1, false),
    column!(reached_at?, 1, false),
    column!(stamps, 1, false),
    column!(late_us[0], 0, true),
    column!(late_us[1], 0, true),
    column!(late_us[2], 0, true),
];

/// What is expected of the next number, from those before it.
#[derive(Debug, Default)]
struct Expected {
    last: Option<i64>,
    step: i64,
}

impl Expected {
    fn next(&self, order: u8) -> i64 {
        let last = self.last.unwrap_or(0);
        match order {
            0 => 0,
            1 => last,
            _ => last.wrapping_add(self.step),
        }
    }

    fn take(&mut self, value: i64) {
        self.step = self.last.map_or(0, |last| value.wrapping_sub(last));
        self.last = Some(value);
    }
}

/// Fields of a hop that are one number each.
struct HopColumn {
    name: &'static str,
    get: fn(&HopCounts) -> u16,
    set: fn(&mut HopCounts, u16) -> Option<()>,
}

macro_rules! hop_column {
    ($name:ident) => {
        HopColumn {
            name: stringify!($name),
            get: |hop| hop.$name.into(),
            set: |hop, value| {
                hop.$name = value.try_into().ok()?;
                Some(())
            },
        }
    };
}

const HOP_COLUMNS: [HopColumn; 7] = [
    hop_column!(sent),
    hop_column!(answered),
    hop_column!(late),
    hop_column!(duplicate),
    hop_column!(elsewhere),
    hop_column!(reordered),
    hop_column!(ambiguous),
];

/// The hops of a round, where packing them gives the same bytes again.
fn hops_of(round: &StoredRound) -> Option<Vec<HopCounts>> {
    packed::unpack(&round.hops).ok().filter(|hops| packed::pack(hops) == round.hops)
}

/// Each hop of the rounds that have one at this place.
fn at(rounds: &[Option<Vec<HopCounts>>], hop: usize) -> impl Iterator<Item = &HopCounts> {
    rounds.iter().flatten().filter_map(move |hops| hops.get(hop))
}

/// Writes rounds of one path as a block. They are best given in the order of receipt.
pub fn encode(rounds: &[StoredRound]) -> RoundBlock {
    let (mut out, mut bits) = (vec![VERSION], BitWriter::default());
    put(&mut out, rounds.len() as u64);
    for column in &COLUMNS {
        let mut expected = Expected::default();
        let absent = rounds.iter().filter(|round| (column.get)(round).is_none()).count();
        put(&mut out, absent as u64);
        if absent > 0 && absent < rounds.len() {
            out.extend(rounds.iter().map(|round| u8::from((column.get)(round).is_some())));
        }
        let mut differences = Vec::with_capacity(rounds.len());
        for value in rounds.iter().filter_map(column.get) {
            differences.push(value.wrapping_sub(expected.next(column.order)));
            expected.take(value);
        }
        let (first, others) = differences.split_at(column.bytes(differences.len()));
        first.iter().for_each(|difference| put_signed(&mut out, *difference));
        if column.is_noise {
            let others: Vec<u64> = others.iter().map(|difference| zigzag(*difference)).collect();
            put_noise(&mut bits, &others);
        }
    }
    let hops: Vec<Option<Vec<HopCounts>>> = rounds.iter().map(hops_of).collect();
    for (round, hops) in rounds.iter().zip(&hops) {
        match hops {
            Some(hops) => put(&mut out, hops.len() as u64 + 1),
            None => {
                put(&mut out, 0);
                put(&mut out, round.hops.len() as u64);
                out.extend(&round.hops);
            }
        }
    }
    let most = hops.iter().flatten().map(Vec::len).max().unwrap_or(0);
    for column in &HOP_COLUMNS {
        for hop in (0..most).flat_map(|hop| at(&hops, hop)) {
            put(&mut out, (column.get)(hop).into());
        }
    }
    for hop in (0..most).flat_map(|hop| at(&hops, hop)) {
        put(&mut out, hop.unreachable.len() as u64);
        for (code, count) in &hop.unreachable {
            out.extend([*code, *count]);
        }
    }
    let mut classes = Vec::new();
    for hop in 0..most {
        let delays = || at(&hops, hop).flat_map(|hop| &hop.rtt).map(|delay| delay.as_micros());
        let least = delays().min().unwrap_or(0);
        put(&mut out, least.into());
        for delay in delays() {
            let above = delay - least;
            let (class, below) = split::<LEADING>(above);
            classes.push(u8::try_from(class).unwrap_or(MOST_CLASS));
            bits.put(above, below);
        }
    }
    RoundBlock { columns: out, classes, bits: bits.end() }
}

/// Reads the rounds of a block, in the order in which they were given.
///
/// # Errors
/// [`BlockError`] on another version, missing or left-over bytes, or a number its field cannot hold;
/// nothing is guessed.
pub fn decode(block: &RoundBlock) -> Result<Vec<StoredRound>, BlockError> {
    let mut reader = Reader::new(&block.columns);
    let found = reader.byte()?;
    if found != VERSION {
        return Err(BlockError::Version { found });
    }
    let bytes = block.columns.len() as u64;
    let count = reader.number("number of rounds", bytes / ROUND_BYTES)?;
    let mut rounds: Vec<StoredRound> = (0..count).map(|_| StoredRound::default()).collect();
    let mut bits = BitReader::new(&block.bits);
    for column in &COLUMNS {
        read_column(&mut reader, &mut bits, column, &mut rounds)?;
    }
    let mut hops: Vec<Option<Vec<HopCounts>>> = Vec::with_capacity(rounds.len());
    let mut room = bytes / HOP_BYTES;
    for round in &mut rounds {
        let number = reader.number("number of hops", MOST_HOPS.min(room) + 1)?;
        room -= number.saturating_sub(1);
        hops.push(match number.checked_sub(1) {
            Some(number) => Some((0..number).map(|_| HopCounts::default()).collect()),
            None => {
                let length: usize = reader.typed("length of hops")?;
                round.hops = reader.take(length)?.to_vec();
                None
            }
        });
    }
    let most = hops.iter().flatten().map(Vec::len).max().unwrap_or(0);
    for column in &HOP_COLUMNS {
        each_hop(&mut hops, most, |hop| {
            let value = reader.typed(column.name)?;
            Ok((column.set)(hop, value).ok_or_else(|| reader.range(column.name))?)
        })?;
    }
    each_hop(&mut hops, most, |hop| {
        let codes = reader.number("refusals", u8::MAX.into())?;
        for _ in 0..codes {
            hop.unreachable.push((reader.byte()?, reader.byte()?));
        }
        Ok(())
    })?;
    let mut classes = block.classes.iter();
    read_delays(&mut reader, &mut classes, &mut bits, &mut hops, most)?;
    reader.end()?;
    // At most the rest of a byte is left.
    if classes.next().is_some() || !bits.is_at_end() {
        return Err(BlockError::Bits);
    }
    for (round, hops) in rounds.iter_mut().zip(&hops) {
        if let Some(hops) = hops {
            round.hops = packed::pack(hops);
        }
    }
    Ok(rounds)
}

fn read_column(
    reader: &mut Reader<'_>,
    bits: &mut BitReader<'_>,
    column: &Column,
    rounds: &mut [StoredRound],
) -> Result<(), BlockError> {
    let absent: usize = reader.typed(column.name)?;
    let there: Vec<bool> = match absent {
        0 => vec![true; rounds.len()],
        absent if absent >= rounds.len() => vec![false; rounds.len()],
        _ => reader.take(rounds.len())?.iter().map(|there| *there == 1).collect(),
    };
    let count = there.iter().filter(|there| **there).count();
    let bytes = column.bytes(count);
    let mut differences = Vec::with_capacity(count);
    for _ in 0..bytes {
        differences.push(reader.signed(column.name)?);
    }
    if column.is_noise {
        let noise = take_noise(bits, count - bytes).ok_or(BlockError::Bits)?;
        differences.extend(noise.into_iter().map(from_zigzag));
    }
    let mut expected = Expected::default();
    let mut differences = differences.into_iter();
    for (round, is_there) in rounds.iter_mut().zip(there) {
        let difference = if is_there { differences.next() } else { None };
        let value = difference.map(|difference| {
            let value = expected.next(column.order).wrapping_add(difference);
            expected.take(value);
            value
        });
        (column.set)(round, value);
    }
    Ok(())
}

/// Reads a field of each hop in the order of [`encode`].
fn each_hop(
    rounds: &mut [Option<Vec<HopCounts>>],
    most: usize,
    mut read: impl FnMut(&mut HopCounts) -> Result<(), BlockError>,
) -> Result<(), BlockError> {
    for nth in 0..most {
        for hop in rounds.iter_mut().flatten().filter_map(|hops| hops.get_mut(nth)) {
            read(hop)?;
        }
    }
    Ok(())
}

fn read_delays(
    reader: &mut Reader<'_>,
    classes: &mut std::slice::Iter<'_, u8>,
    bits: &mut BitReader<'_>,
    rounds: &mut [Option<Vec<HopCounts>>],
    most: usize,
) -> Result<(), BlockError> {
    for nth in 0..most {
        let least: u32 = reader.typed("least delay")?;
        for hop in rounds.iter_mut().flatten().filter_map(|hops| hops.get_mut(nth)) {
            for _ in 0..hop.answered.count_ones() {
                let class = classes.next().filter(|class| **class <= MOST_CLASS);
                let (start, below) = start_of::<LEADING>((*class.ok_or(BlockError::Bits)?).into());
                let low = bits.take(below).ok_or(BlockError::Bits)?;
                let delay = start.checked_add(low).and_then(|above| least.checked_add(above));
                hop.rtt.push(Micros::new(delay.ok_or(BlockError::Bits)?));
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn hop() -> impl Strategy<Value = HopCounts> {
        let rare = prop::collection::vec((any::<u8>(), any::<u8>()), 0..3);
        let delays = prop_oneof![prop::array::uniform16(0u32..2_000), any::<[u32; 16]>()];
        (any::<u8>(), any::<u16>(), any::<[u8; 5]>(), rare, delays).prop_map(
            |(
                sent,
                answered,
                [late, duplicate, elsewhere, reordered, ambiguous],
                codes,
                delays,
            )| {
                let answers = answered.count_ones() as usize;
                HopCounts {
                    sent,
                    answered,
                    rtt: delays[..answers].iter().map(|us| Micros::new(*us)).collect(),
                    late,
                    duplicate,
                    elsewhere,
                    reordered,
                    ambiguous,
                    unreachable: codes,
                }
            },
        )
    }

    fn round() -> impl Strategy<Value = StoredRound> {
        let hops = prop_oneof![
            4 => prop::collection::vec(hop(), 0..24).prop_map(|hops| packed::pack(&hops)),
            1 => prop::collection::vec(any::<u8>(), 0..40),
        ];
        let few = prop_oneof![3 => 0i64..5_000, 1 => any::<i64>()];
        let maybe = prop::option::of(any::<i64>());
        let numbers = prop::array::uniform9(few);
        (numbers, prop::array::uniform7(maybe), hops).prop_map(|(numbers, maybe, hops)| {
            StoredRound {
                received_us: numbers[0],
                commit_no: numbers[1],
                number: numbers[2],
                tick_ns: numbers[3],
                wall_us: numbers[4],
                offset_us: maybe[0],
                offset_error_us: maybe[1],
                flow_no: numbers[5],
                resolution_no: numbers[6],
                route_no: numbers[7],
                reading_no: maybe[2],
                reached_at: maybe[3],
                stamps: numbers[8],
                late_us: [maybe[4], maybe[5], maybe[6]],
                hops,
            }
        })
    }

    proptest! {
        #[test]
        fn reading_returns_what_was_written(rounds in prop::collection::vec(round(), 0..12)) {
            prop_assert_eq!(decode(&encode(&rounds)), Ok(rounds));
        }

        #[test]
        fn every_truncation_is_refused(rounds in prop::collection::vec(round(), 1..4)) {
            let whole = encode(&rounds);
            let part = |columns, classes, bits| RoundBlock {
                columns: whole.columns[..columns].to_vec(),
                classes: whole.classes[..classes].to_vec(),
                bits: whole.bits[..bits].to_vec(),
            };
            let ends = [whole.columns.len(), whole.classes.len(), whole.bits.len()];
            for end in 0..ends[0] {
                prop_assert!(decode(&part(end, ends[1], ends[2])).is_err());
            }
            for end in 0..ends[1] {
                prop_assert!(decode(&part(ends[0], end, ends[2])).is_err());
            }
            for end in 0..ends[2] {
                prop_assert!(decode(&part(ends[0], ends[1], end)).is_err());
            }
        }

        #[test]
        fn any_bytes_are_read_calmly(
            columns in prop::collection::vec(any::<u8>(), 0..256),
            rest in prop::collection::vec(any::<u8>(), 0..32),
        ) {
            let mut columns = columns;
            columns.insert(0, VERSION);
            let block = RoundBlock { columns, classes: rest.clone(), bits: rest };
            if let Ok(rounds) = decode(&block) {
                prop_assert!(rounds.len() <= 256 / 7);
            }
        }
    }

    #[test]
    fn the_largest_class_is_that_of_the_largest_number() {
        assert_eq!(split::<LEADING>(u32::MAX).0, u16::from(MOST_CLASS));
    }

    #[test]
    fn what_is_left_over_and_other_versions_are_refused() {
        let whole = encode(&[]);
        let with = |change: fn(&mut RoundBlock)| {
            let mut block = whole.clone();
            change(&mut block);
            decode(&block)
        };
        assert_eq!(with(|block| block.columns[0] = 2), Err(BlockError::Version { found: 2 }));
        assert!(matches!(with(|block| block.columns.push(0)), Err(BlockError::Numbers(_))));
        assert_eq!(with(|block| block.classes.push(0)), Err(BlockError::Bits));
        assert_eq!(with(|block| block.bits.push(0)), Err(BlockError::Bits));
    }
}
