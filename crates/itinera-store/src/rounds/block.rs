//! Blocks of rounds as they are recorded: columns and classes of delays compressed (zstd), the lower
//! bits of delays as they are.

use crate::StoreError;
use crate::packing::{Packing, Unpacking};
use itinera_model::round_block::{self, RoundBlock, StoredRound};
use itinera_model::varint::{self, Reader};

/// A block is written once.
const LEVEL: i32 = 12;

/// Writes blocks one after the other.
pub(super) struct BlockPacking(Packing);

impl BlockPacking {
    pub(super) fn new() -> Result<Self, StoreError> {
        Ok(Self(Packing::with_level(LEVEL)?))
    }

    /// The block of some rounds: two lengths, then its three parts.
    pub(super) fn pack(&mut self, rounds: &[StoredRound]) -> Result<Vec<u8>, StoreError> {
        let block = round_block::encode(rounds);
        let columns = self.0.octets(&block.columns)?;
        let classes = self.0.octets(&block.classes)?;
        let mut out = Vec::with_capacity(columns.len() + classes.len() + block.bits.len() + 8);
        varint::put(&mut out, columns.len() as u64);
        varint::put(&mut out, classes.len() as u64);
        for part in [&columns, &classes, &block.bits] {
            out.extend(part);
        }
        Ok(out)
    }
}

/// The rounds of a block.
pub(super) fn unpack(
    unpacking: &mut Unpacking,
    content: &[u8],
) -> Result<Vec<StoredRound>, StoreError> {
    let corrupt = |_| StoreError::corrupt("block of rounds");
    let mut reader = Reader::new(content);
    let mut length = || reader.typed::<usize>("length").map_err(corrupt);
    let (columns, classes) = (length()?, length()?);
    let columns = unpacking.octets(reader.take(columns).map_err(corrupt)?)?;
    let classes = unpacking.octets(reader.take(classes).map_err(corrupt)?)?;
    let block = RoundBlock { columns, classes, bits: reader.rest().to_vec() };
    round_block::decode(&block).map_err(|_| StoreError::corrupt("block of rounds"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_is_read_again_and_a_damaged_one_is_refused() {
        let round =
            |number| StoredRound { number, commit_no: number / 3, ..StoredRound::default() };
        let rounds: Vec<StoredRound> = (0..60).map(round).collect();
        let packed = BlockPacking::new().unwrap().pack(&rounds).unwrap();
        assert!(packed.len() < 200, "{}", packed.len());
        let mut unpacking = Unpacking::new().unwrap();
        assert_eq!(unpack(&mut unpacking, &packed).unwrap(), rounds);
        for end in 0..packed.len() {
            assert!(unpack(&mut unpacking, &packed[..end]).is_err(), "{end}");
        }
        let mut longer = packed;
        longer.push(1);
        assert!(unpack(&mut unpacking, &longer).is_err());
    }
}
