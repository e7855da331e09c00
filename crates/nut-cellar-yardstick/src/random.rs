//! A small generator of random numbers whose sequence never changes: the demo's data depends on it.

/// `SplitMix64` (G. Steele, D. Lea, C. Flood, "Fast Splittable Pseudorandom Number Generators", 2014).
#[derive(Clone, Debug)]
pub struct Random(u64);

impl Random {
    /// The sequence of a seed.
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The sequence of a record: the same whatever came before it.
    pub fn for_record(seed: u64, record: u64) -> Self {
        let mut mix = Self(seed ^ record.wrapping_mul(0xd134_2543_de82_ef95));
        Self(mix.bits())
    }

    /// 64 random bits.
    pub fn bits(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number below `bound`, which is not 0.
    pub fn below(&mut self, bound: u64) -> u64 {
        self.bits() % bound
    }

    /// A number from 0 to just below 1.
    pub fn unit(&mut self) -> f64 {
        (self.bits() >> 11) as f64 / (1_u64 << 53) as f64
    }

    /// Whether something happens that happens `percent` times in a hundred.
    pub fn chance(&mut self, percent: u64) -> bool {
        self.below(100) < percent
    }

    /// A place among `count`, which is not 0.
    #[expect(clippy::missing_panics_doc, reason = "what is below a usize is one")]
    pub fn place(&mut self, count: usize) -> usize {
        usize::try_from(self.below(count as u64)).expect("below a usize")
    }

    /// One of several, which are not none.
    pub fn pick<T: Copy>(&mut self, from: &[T]) -> T {
        from[self.place(from.len())]
    }
}
