//! What the tests of places share.
#![allow(dead_code, clippy::unwrap_used, reason = "each test uses a part, and fails by panicking")]

#[path = "../../../nut-cellar-core/tests/support/oracle.rs"]
pub mod oracle;

/// How many random histories there are: what `NUT_CELLAR_SEEDS` says, or so many.
pub fn seeds(usual: u64) -> u64 {
    std::env::var("NUT_CELLAR_SEEDS").map_or(usual, |seeds| seeds.parse().unwrap())
}

/// Pseudo-random numbers (xorshift64*), so that a failing seed can be run again.
pub struct Dice(pub u64);

impl Dice {
    pub fn roll(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) % sides
    }

    pub fn pick<T: Copy>(&mut self, from: &[T]) -> T {
        from[self.roll(from.len() as u64) as usize]
    }
}
