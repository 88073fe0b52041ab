//! How protocol messages are encoded: a version byte, then CBOR (RFC 8949).

use crate::id::{PairId, PathId};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// The codec version byte in front of every protocol message.
pub const CODEC: u8 = 1;

/// Why a message could not be read or may not be believed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DecodeError {
    /// Nothing there.
    #[error("message is empty")]
    Empty,
    /// A codec version this build does not speak.
    #[error("codec version {found}, this build speaks {CODEC}")]
    Version {
        /// The version byte.
        found: u8,
    },
    /// Not CBOR (RFC 8949), or not of the expected shape.
    #[error("malformed CBOR")]
    Cbor(#[source] ciborium::de::Error<std::io::Error>),
    /// A field that contradicts another.
    #[error("round {number} of path {path}: {reason}")]
    Round {
        /// The round's path.
        path: PathId,
        /// The round's number.
        number: u64,
        /// What is wrong with it.
        reason: &'static str,
    },
    /// A field of a two-way round that contradicts another.
    #[error("round {number} of pair {pair}: {reason}")]
    TwoWay {
        /// The round's pair.
        pair: PairId,
        /// The round's number.
        number: u64,
        /// What is wrong with it.
        reason: &'static str,
    },
}

/// Encodes a protocol message: the codec byte, then CBOR.
///
/// # Panics
/// When a message's own encoding fails, which plain data cannot.
pub fn encode<T: Serialize>(message: &T) -> Vec<u8> {
    let mut out = Vec::with_capacity(512);
    out.push(CODEC);
    #[allow(clippy::expect_used, reason = "plain data into a growing vector cannot fail")]
    ciborium::into_writer(message, &mut out).expect("encoding plain data into memory");
    out
}

/// Decodes a protocol message and demands that nothing is left over.
///
/// # Errors
/// [`DecodeError`] on an empty message, another codec version, or anything but one well-formed
/// value of the expected shape.
pub fn decode<T: DeserializeOwned>(octets: &[u8]) -> Result<T, DecodeError> {
    let (version, mut body) = octets.split_first().ok_or(DecodeError::Empty)?;
    if *version != CODEC {
        return Err(DecodeError::Version { found: *version });
    }
    let message = ciborium::from_reader(&mut body).map_err(DecodeError::Cbor)?;
    if body.is_empty() {
        Ok(message)
    } else {
        let text = format!("{} bytes left over", body.len());
        Err(DecodeError::Cbor(ciborium::de::Error::Semantic(None, text)))
    }
}
