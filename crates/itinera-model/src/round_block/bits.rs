//! Numbers bit by bit: as many bits as asked for, and noise in Golomb-Rice codes.

/// A parameter is written with so many bits; the largest stands for "all are zero".
const PARAMETER_BITS: u32 = 6;
const NO_NOISE: u32 = 63;
/// A number in a Golomb-Rice code with a parameter has at most so many ones before its lower bits; a
/// larger one is written in full behind them.
const MOST_ONES: u32 = 24;

/// Writes bits, the lowest of each number first.
#[derive(Debug, Default)]
pub(super) struct BitWriter {
    out: Vec<u8>,
    held: u64,
    count: u32,
}

impl BitWriter {
    /// Appends the lower `bits` bits of a number, 32 at most.
    #[allow(clippy::cast_possible_truncation, reason = "eight bits at a time are meant")]
    pub(super) fn put(&mut self, value: u32, bits: u32) {
        let mask = (1u64 << bits) - 1;
        self.held |= (u64::from(value) & mask) << self.count;
        self.count += bits;
        while self.count >= 8 {
            self.out.push(self.held as u8);
            self.held >>= 8;
            self.count -= 8;
        }
    }

    /// Appends the lower `bits` bits of a number, 64 at most.
    #[allow(clippy::cast_possible_truncation, reason = "32 bits at a time are meant")]
    fn put_long(&mut self, value: u64, bits: u32) {
        self.put(value as u32, bits.min(32));
        self.put((value >> 32) as u32, bits.saturating_sub(32));
    }

    /// What was written, the last byte filled up.
    pub(super) fn end(mut self) -> Vec<u8> {
        let rest = (8 - self.count % 8) % 8;
        self.put(0, rest);
        self.out
    }
}

/// Reads what [`BitWriter`] wrote.
#[derive(Debug)]
pub(super) struct BitReader<'a> {
    bytes: std::slice::Iter<'a, u8>,
    held: u64,
    count: u32,
}

impl<'a> BitReader<'a> {
    /// Reads these from the front.
    pub(super) fn new(bytes: &'a [u8]) -> Self {
        Self { bytes: bytes.iter(), held: 0, count: 0 }
    }

    /// True when nothing but the rest of a byte is left.
    pub(super) fn is_at_end(&self) -> bool {
        self.held == 0 && self.bytes.as_slice().is_empty()
    }

    /// The next `bits` bits, 32 at most; absent behind the end.
    #[allow(clippy::cast_possible_truncation, reason = "at most 32 bits are left by the mask")]
    pub(super) fn take(&mut self, bits: u32) -> Option<u32> {
        while self.count < bits {
            self.held |= u64::from(*self.bytes.next()?) << self.count;
            self.count += 8;
        }
        let value = self.held & ((1u64 << bits) - 1);
        self.held >>= bits;
        self.count -= bits;
        Some(value as u32)
    }

    /// The next `bits` bits, 64 at most; absent behind the end.
    fn take_long(&mut self, bits: u32) -> Option<u64> {
        let low = self.take(bits.min(32))?;
        let high = self.take(bits.saturating_sub(32))?;
        Some(u64::from(high) << 32 | u64::from(low))
    }
}

/// Bits of a number in the code of a parameter.
const fn code_bits(value: u64, parameter: u32) -> u64 {
    let ones = value >> parameter;
    if ones < MOST_ONES as u64 { ones + 1 + parameter as u64 } else { MOST_ONES as u64 + 64 }
}

/// Appends numbers, the parameter that makes them shortest first; nothing else where all are zero.
pub(super) fn put_noise(bits: &mut BitWriter, values: &[u64]) {
    let length =
        |parameter: u32| -> u64 { values.iter().map(|value| code_bits(*value, parameter)).sum() };
    if values.iter().all(|value| *value == 0) {
        return bits.put(NO_NOISE, PARAMETER_BITS);
    }
    let parameter = (0..NO_NOISE).min_by_key(|parameter| length(*parameter)).unwrap_or(0);
    bits.put(parameter, PARAMETER_BITS);
    for value in values {
        let ones = u32::try_from(value >> parameter).unwrap_or(MOST_ONES).min(MOST_ONES);
        bits.put((1 << ones) - 1, ones);
        if ones < MOST_ONES {
            bits.put(0, 1);
            bits.put_long(*value, parameter);
        } else {
            bits.put_long(*value, 64);
        }
    }
}

/// Reads as many numbers.
pub(super) fn take_noise(bits: &mut BitReader<'_>, count: usize) -> Option<Vec<u64>> {
    let parameter = bits.take(PARAMETER_BITS)?;
    if parameter == NO_NOISE {
        return Some(vec![0; count]);
    }
    let mut values = Vec::with_capacity(count);
    for _ in 0..count {
        let mut ones = 0;
        while ones < MOST_ONES && bits.take(1)? == 1 {
            ones += 1;
        }
        values.push(if ones < MOST_ONES {
            (u64::from(ones) << parameter) | bits.take_long(parameter)?
        } else {
            bits.take_long(64)?
        });
    }
    Some(values)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn noise_is_read_as_it_was_written(
            values in prop::collection::vec(prop_oneof![0u64..4_000, any::<u64>()], 0..40),
        ) {
            let mut bits = BitWriter::default();
            put_noise(&mut bits, &values);
            bits.put(0b101, 3);
            let bytes = bits.end();
            let mut reader = BitReader::new(&bytes);
            prop_assert_eq!(take_noise(&mut reader, values.len()), Some(values));
            prop_assert_eq!(reader.take(3), Some(0b101));
            prop_assert!(reader.is_at_end());
            prop_assert_eq!(reader.take(8), None);
        }
    }

    #[test]
    fn noise_takes_little_more_than_its_bits() {
        let mut bits = BitWriter::default();
        put_noise(&mut bits, &[0; 60]);
        assert_eq!(bits.end().len(), 1);
        let mut bits = BitWriter::default();
        let values: Vec<u64> = (0..64).map(|nth| nth * 37 % 64).collect();
        put_noise(&mut bits, &values);
        // Six bits each have no shorter form.
        let bytes = bits.end().len();
        assert!((48..=60).contains(&bytes), "{bytes}");
    }
}
