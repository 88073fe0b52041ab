//! Classes of delay: short ones exactly, longer ones by their leading bits, so that neighbours differ
//! by 1.6 % at most.

const PER_DOUBLING: u32 = 1 << BITS;
const BITS: u32 = 6;

/// The largest class there is.
pub const MOST: u16 = class_of(u32::MAX);

/// The class of a delay, in any unit.
#[allow(clippy::cast_possible_truncation, reason = "there are 27 times 64 classes")]
pub const fn class_of(us: u32) -> u16 {
    if us < PER_DOUBLING {
        return us as u16;
    }
    let shift = us.ilog2() - BITS;
    ((shift + 1) * PER_DOUBLING + (us >> shift) - PER_DOUBLING) as u16
}

/// The middle of a class, in the same unit: wrong by 0.8 % at most.
pub const fn middle_of(class: u16) -> u32 {
    let class = class as u32;
    if class < 2 * PER_DOUBLING {
        return class;
    }
    let shift = class / PER_DOUBLING - 1;
    let low = (PER_DOUBLING + class % PER_DOUBLING) << shift;
    low + (1 << (shift - 1))
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
        }
    }
}
