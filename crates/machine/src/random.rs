//! Random numbers that a seed decides.

/// The SplitMix64 generator, by its state.
///
/// Source: Steele, Lea and Flood, "Fast Splittable Pseudorandom Number Generators", 2014.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct SplitMix64(pub u64);

impl SplitMix64 {
    /// The next number.
    pub fn next_number(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ z >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ z >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ z >> 31
    }
}
