//! How near the words of a query stand to each other: an addend to the score, never negative and bounded.
//!
//! ```text
//! proximity = ln((α + e^−δ) / α)
//! ```
//!
//! δ is the least distance, in positions, of two different words of the query in one column; α is 0.3. Source: T. Tao,
//! C. Zhai, "An Exploration of Proximity Measures in Information Retrieval" (SIGIR 2007), shifted so that far apart is 0.

/// α.
pub const ALPHA: f64 = 0.3;

/// What no proximity exceeds: that of words at the same place.
pub const GREATEST: f32 = 1.466_338;

/// The proximity of two words that stand so far from each other.
///
/// ```
/// use nut_cellar_core::rank::proximity;
///
/// assert!(proximity::of(1) > proximity::of(2));
/// assert!(proximity::of(40) < 1e-6);
/// ```
#[expect(clippy::cast_possible_truncation, reason = "the one rounding to f32")]
pub fn of(distance: u32) -> f32 {
    libm::log((ALPHA + libm::exp(-f64::from(distance))) / ALPHA) as f32
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked by hand: ln(1.3/0.3), ln((0.3 + 0.367879)/0.3), ln((0.3 + 0.018316)/0.3).
    #[test]
    fn the_numbers_are_those_worked_by_hand() {
        for (distance, worked) in [(0, 1.466_337), (1, 0.800_325), (4, 0.059_258)] {
            assert!((of(distance) - worked).abs() < 1e-5, "{distance}: {}", of(distance));
        }
        assert!((0..100).all(|distance| of(distance + 1) <= of(distance) && of(distance) <= GREATEST));
        assert!(of(u32::MAX) >= 0.0);
    }
}
