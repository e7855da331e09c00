//! Lots that are drawn: the same for the same seed, on every machine.

/// `SplitMix64` (G. Steele, D. Lea, C. Flood, "Fast Splittable Pseudorandom Number Generators", 2014).
#[derive(Clone, Debug)]
pub(super) struct Lots(pub u64);

impl Lots {
    /// 64 random bits.
    pub fn bits(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `bound`; 0 below 0. It is fair but for what 64 bits are too few for.
    pub fn below(&mut self, bound: u64) -> u64 {
        u64::try_from((u128::from(self.bits()) * u128::from(bound)) >> 64).unwrap_or_default()
    }

    /// A place among so many, which are not none.
    pub fn place(&mut self, of: usize) -> usize {
        usize::try_from(self.below(of as u64)).unwrap_or_default()
    }
}
