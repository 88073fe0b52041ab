//! Numbers without pattern that are a function of what names them.

/// The next of a sequence of numbers without pattern.
///
/// Source: G. L. Steele, D. Lea, C. H. Flood, Fast splittable pseudorandom number generators (2014).
pub(super) const fn split_mix(state: &mut u64) -> u64 {
    *state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
    let z = (*state ^ (*state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}
