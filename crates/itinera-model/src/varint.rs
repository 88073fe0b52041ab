//! Unsigned numbers of variable length, LEB128 (DWARF 5, section 7.6), in bytes.

/// Why bytes could not be read as numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum VarintError {
    /// The bytes end inside a number.
    #[error("the bytes end too early at byte {offset}")]
    Truncated {
        /// Where reading stopped.
        offset: usize,
    },
    /// A number that its field cannot hold.
    #[error("impossible {field} at byte {offset}")]
    Range {
        /// Which field.
        field: &'static str,
        /// Where it ends.
        offset: usize,
    },
    /// Bytes after the last number.
    #[error("{count} bytes left over")]
    Trailing {
        /// How many.
        count: usize,
    },
}

/// Appends a number.
#[allow(clippy::cast_possible_truncation, reason = "seven bits at a time are meant")]
pub fn put(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        out.push((value as u8 & 0x7f) | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

/// The zig-zag form of a signed number: small for small numbers of both signs.
pub const fn zigzag(value: i64) -> u64 {
    ((value << 1) ^ (value >> 63)).cast_unsigned()
}

/// The number of a zig-zag form.
pub const fn from_zigzag(zigzag: u64) -> i64 {
    let half = (zigzag >> 1).cast_signed();
    if zigzag & 1 == 1 { !half } else { half }
}

/// Appends a signed number as its zig-zag form.
pub fn put_signed(out: &mut Vec<u8>, value: i64) {
    put(out, zigzag(value));
}

/// Reads bytes from the front.
#[derive(Debug, Clone, Copy)]
pub struct Reader<'a> {
    bytes: &'a [u8],
    offset: usize,
}

impl<'a> Reader<'a> {
    /// Reads these.
    pub const fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, offset: 0 }
    }

    /// One byte.
    ///
    /// # Errors
    /// [`VarintError::Truncated`].
    pub fn byte(&mut self) -> Result<u8, VarintError> {
        let byte = self.bytes.get(self.offset).copied();
        let byte = byte.ok_or(VarintError::Truncated { offset: self.offset })?;
        self.offset += 1;
        Ok(byte)
    }

    /// The next `count` bytes.
    ///
    /// # Errors
    /// [`VarintError::Truncated`].
    pub fn take(&mut self, count: usize) -> Result<&'a [u8], VarintError> {
        let end = self.offset.checked_add(count);
        let taken = end.and_then(|end| self.bytes.get(self.offset..end));
        let taken = taken.ok_or(VarintError::Truncated { offset: self.bytes.len() })?;
        self.offset += count;
        Ok(taken)
    }

    /// All bytes that are left.
    pub fn rest(&mut self) -> &'a [u8] {
        let rest = self.bytes.get(self.offset..).unwrap_or_default();
        self.offset = self.bytes.len();
        rest
    }

    /// A number of at most `max`.
    ///
    /// # Errors
    /// [`VarintError`].
    pub fn number(&mut self, field: &'static str, max: u64) -> Result<u64, VarintError> {
        let mut value = 0u64;
        for shift in (0..64).step_by(7) {
            let byte = self.byte()?;
            let bits = u64::from(byte & 0x7f);
            if (bits << shift) >> shift != bits {
                break;
            }
            value |= bits << shift;
            if byte & 0x80 == 0 {
                return if value <= max { Ok(value) } else { Err(self.range(field)) };
            }
        }
        Err(self.range(field))
    }

    /// A number that its type holds.
    ///
    /// # Errors
    /// [`VarintError`].
    pub fn typed<T: TryFrom<u64>>(&mut self, field: &'static str) -> Result<T, VarintError> {
        let value = self.number(field, u64::MAX)?;
        T::try_from(value).map_err(|_| self.range(field))
    }

    /// A signed number in zig-zag form.
    ///
    /// # Errors
    /// [`VarintError`].
    pub fn signed(&mut self, field: &'static str) -> Result<i64, VarintError> {
        self.number(field, u64::MAX).map(from_zigzag)
    }

    /// The error that a field is impossible, here.
    pub const fn range(&self, field: &'static str) -> VarintError {
        VarintError::Range { field, offset: self.offset }
    }

    /// Demands that everything was read.
    ///
    /// # Errors
    /// [`VarintError::Trailing`].
    pub const fn end(&self) -> Result<(), VarintError> {
        match self.bytes.len() - self.offset {
            0 => Ok(()),
            count => Err(VarintError::Trailing { count }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_written_is_read(unsigned in any::<u64>(), signed in any::<i64>()) {
            let mut out = Vec::new();
            put(&mut out, unsigned);
            put_signed(&mut out, signed);
            let mut reader = Reader::new(&out);
            prop_assert_eq!(reader.number("unsigned", u64::MAX), Ok(unsigned));
            prop_assert_eq!(reader.signed("signed"), Ok(signed));
            prop_assert_eq!(reader.end(), Ok(()));
        }
    }

    #[test]
    fn what_is_missing_too_large_or_left_over_is_refused() {
        let mut reader = Reader::new(&[0x80]);
        assert_eq!(reader.number("it", 9), Err(VarintError::Truncated { offset: 1 }));
        let mut reader = Reader::new(&[10, 0]);
        assert_eq!(reader.number("it", 9), Err(VarintError::Range { field: "it", offset: 1 }));
        assert_eq!(reader.end(), Err(VarintError::Trailing { count: 1 }));
        assert_eq!(reader.typed::<u8>("it"), Ok(0));
        let eleven = [0xFF; 11];
        assert!(Reader::new(&eleven).number("it", u64::MAX).is_err());
        assert!(Reader::new(&eleven).take(12).is_err());
    }
}
