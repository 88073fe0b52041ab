//! Classes of delay: short ones exactly, longer ones by their leading bits, so that neighbours differ
//! by 1.6 % at most.

/// Leading bits of the usual classes.
const BITS: u32 = 6;

/// The largest class there is.
pub const MOST: u16 = class_of(u32::MAX);

/// The class of a delay, in any unit.
pub const fn class_of(us: u32) -> u16 {
    split::<BITS>(us).0
}

/// The middle of a class, in the same unit: wrong by 0.8 % at most.
pub const fn middle_of(class: u16) -> u32 {
    let (start, bits) = start_of::<BITS>(class);
    start + ((1 << bits) >> 1)
}

/// The class of a number by its first bit and the `LEADING` bits behind it, and how many lower bits do
/// not matter for that.
#[allow(clippy::cast_possible_truncation, reason = "there are at most 32 times 2^LEADING classes")]
pub const fn split<const LEADING: u32>(value: u32) -> (u16, u32) {
    if value < 1 << LEADING {
        return (value as u16, 0);
    }
    let bits = value.ilog2() - LEADING;
    (((bits << LEADING) + (value >> bits)) as u16, bits)
}

/// The smallest number of a class of [`split`], and the number of lower bits. For a class that no
/// number has, some number.
pub const fn start_of<const LEADING: u32>(class: u16) -> (u32, u32) {
    let class = class as u32;
    if class < 2 << LEADING {
        return (class, 0);
    }
    let bits = (class >> LEADING) - 1;
    let leading = (1 << LEADING) + class % (1 << LEADING);
    match 1u32.checked_shl(bits) {
        Some(unit) => (leading.wrapping_mul(unit), bits),
        None => (0, 0),
    }
}

/// The class at a percentile of counted classes, in order of class, by nearest rank; absent without any.
pub fn percentile(counts: impl Iterator<Item = (u16, u32)> + Clone, percent: u8) -> Option<u16> {
    let all: u64 = counts.clone().map(|(_, number)| u64::from(number)).sum();
    let rank = all.checked_sub(1)? * u64::from(percent.min(100)) / 100;
    let mut before = 0;
    let mut counts = counts;
    let at_rank = counts.find(|(_, number)| {
        before += u64::from(*number);
        before > rank
    });
    at_rank.map(|(class, _)| class)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_are_in_order_and_narrow() {
        let mut before = 0;
        for us in (0..4_000).chain((0..600).map(|n| 4_000 + n * n * n)).chain([u32::MAX]) {
            let class = class_of(us);
            assert!(class >= before, "{us}");
            before = class;
            let error = f64::from(middle_of(class).abs_diff(us)) / f64::from(us.max(1));
            assert!(error <= 0.008, "{us} is {} of class {class}", middle_of(class));
            let (class, bits) = split::<2>(us);
            let (start, same) = start_of::<2>(class);
            assert_eq!((us >> bits << bits, bits), (start, same), "{us}");
        }
        for class in [MOST + 1, 5_000, u16::MAX] {
            let (_, bits) = start_of::<BITS>(class);
            assert!(bits < 32, "{class}");
        }
    }
}
