//! Contents that judgement writes for every round, compressed (zstd): the database would spend more
//! time on the same.

use crate::StoreError;
use itinera_model::codec::{decode, encode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use zstd::bulk::{Compressor, Decompressor};

/// The fastest of the usual levels.
const LEVEL: i32 = 1;
/// Most bytes of one content.
const MOST_BYTES: usize = 16 << 20;

/// Compresses contents one after the other.
pub(crate) struct Packing(Compressor<'static>);

impl Packing {
    pub(crate) fn new() -> Result<Self, StoreError> {
        Self::with_level(LEVEL)
    }

    pub(crate) fn with_level(level: i32) -> Result<Self, StoreError> {
        Ok(Self(Compressor::new(level).map_err(|_| StoreError::corrupt("compressor"))?))
    }

    pub(crate) fn octets(&mut self, content: &[u8]) -> Result<Vec<u8>, StoreError> {
        self.0.compress(content).map_err(|_| StoreError::corrupt("content to be compressed"))
    }

    pub(crate) fn value(&mut self, value: &impl Serialize) -> Result<Vec<u8>, StoreError> {
        self.octets(&encode(value))
    }
}

/// Reads contents that were compressed.
pub(crate) struct Unpacking(Decompressor<'static>);

impl Unpacking {
    pub(crate) fn new() -> Result<Self, StoreError> {
        Ok(Self(Decompressor::new().map_err(|_| StoreError::corrupt("decompressor"))?))
    }

    pub(crate) fn octets(&mut self, packed: &[u8]) -> Result<Vec<u8>, StoreError> {
        let size = Decompressor::upper_bound(packed).unwrap_or(MOST_BYTES).min(MOST_BYTES);
        self.0.decompress(packed, size).map_err(|_| StoreError::corrupt("compressed content"))
    }

    pub(crate) fn value<T: DeserializeOwned>(&mut self, packed: &[u8]) -> Result<T, StoreError> {
        decode(&self.octets(packed)?).map_err(|_| StoreError::corrupt("content"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_packed_is_read_again_and_what_is_not_is_refused() {
        let (mut packing, mut unpacking) = (Packing::new().unwrap(), Unpacking::new().unwrap());
        for content in [vec![], vec![7; 100_000], (0..=255).collect::<Vec<u8>>()] {
            let packed = packing.octets(&content).unwrap();
            assert_eq!(unpacking.octets(&packed).unwrap(), content);
        }
        let packed = packing.value(&("window", 3u8)).unwrap();
        assert_eq!(unpacking.value::<(String, u8)>(&packed).unwrap(), ("window".to_owned(), 3));
        assert!(unpacking.octets(b"not compressed").is_err());
        assert!(unpacking.octets(&packed[..packed.len() - 2]).is_err());
    }
}
