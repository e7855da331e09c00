//! Sums of floating-point numbers that do not depend on their order, and are rounded once.
//!
//! A finite number is a whole multiple of 2⁻¹⁰⁷⁴, so the sum is added up in whole numbers (Kulisch & Snyder, "The exact dot product as basic
//! tool for long interval arithmetic", 2011), in digits of 32 bits of which each has room to spare in a wider one.

/// Digits of 32 bits for all that 2³⁰ times 2³² numbers may add up to, from 2⁻¹⁰⁷⁴ to 2¹⁰²⁴.
const DIGITS: usize = 68;
const BITS: u32 = 32;
/// After so many numbers digits could run over, and what they have above 32 bits is carried.
const BETWEEN_CARRIES: u32 = 1 << 29;

/// A sum so far.
#[derive(Clone, Debug)]
pub(super) struct ExactSum {
    digits: [i64; DIGITS],
    added: u32,
}

impl Default for ExactSum {
    fn default() -> Self {
        Self { digits: [0; DIGITS], added: 0 }
    }
}

impl ExactSum {
    /// Adds a finite number.
    pub fn add(&mut self, number: f64) {
        let bits = number.to_bits();
        let exponent = (bits >> 52 & 0x7ff) as usize;
        let fraction = bits & ((1 << 52) - 1);
        // Subnormal numbers have the exponent of the least others, and no bit before the fraction.
        let mantissa = if exponent == 0 { fraction } else { fraction | 1 << 52 };
        let shift = exponent.max(1) - 1;
        let mut rest = u128::from(mantissa) << (shift % BITS as usize);
        let mut digit = shift / BITS as usize;
        while rest > 0 {
            let part = i64::try_from(rest & u128::from(u32::MAX)).expect("32 bits");
            self.digits[digit] += if number < 0.0 { -part } else { part };
            rest >>= BITS;
            digit += 1;
        }
        self.added += 1;
        if self.added == BETWEEN_CARRIES {
            self.carry();
        }
    }

    /// Leaves each digit between 0 and 2³², but for the last, which has the sign.
    fn carry(&mut self) {
        for place in 0..DIGITS - 1 {
            let above = self.digits[place] >> BITS;
            self.digits[place] -= above << BITS;
            self.digits[place + 1] += above;
        }
        self.added = 0;
    }

    /// The sum, rounded to the nearest number, to the even one of two; infinite if it is too large.
    pub fn rounded(mut self) -> f64 {
        self.carry();
        let is_negative = self.digits[DIGITS - 1] < 0;
        if is_negative {
            self.digits.iter_mut().for_each(|digit| *digit = -*digit);
            self.carry();
        }
        let bit = |place: usize| self.digits[place / BITS as usize] >> (place % BITS as usize) & 1;
        let Some(top) = (0..DIGITS * BITS as usize).rev().find(|place| bit(*place) == 1) else { return 0.0 };
        // 53 bits from the highest on, as far as there are.
        let low = top.saturating_sub(52);
        let mut mantissa =
            (low..=top).rev().fold(0_u64, |whole, place| whole << 1 | bit(place).cast_unsigned());
        if low > 0 && bit(low - 1) == 1 {
            let is_more = (0..low - 1).any(|place| bit(place) == 1);
            mantissa += u64::from(is_more || mantissa & 1 == 1);
        }
        // Whole numbers up to 2⁵³ times a power of two are floats, or too large.
        let exponent = i32::try_from(low).unwrap_or(i32::MAX) - 1074;
        let sum = libm::ldexp(mantissa as f64, exponent);
        if is_negative { -sum } else { sum }
    }
}

#[cfg(test)]
#[expect(clippy::float_cmp, reason = "sums are the same to the last bit")]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sum(numbers: &[f64]) -> f64 {
        let mut sum = ExactSum::default();
        for number in numbers {
            sum.add(*number);
        }
        sum.rounded()
    }

    proptest! {
        #[test]
        fn one_number_is_itself(number in prop::num::f64::NORMAL | prop::num::f64::SUBNORMAL | prop::num::f64::ZERO) {
            prop_assert_eq!(sum(&[number]), number);
        }

        /// Multiples of 2⁻¹⁰ that fit whole numbers of 128 bits: as these add up, converted once.
        #[test]
        fn a_sum_is_rounded_once(numbers in prop::collection::vec(any::<i64>(), 0..40), far in 0_i32..60) {
            let numbers: Vec<i64> = numbers.into_iter().map(|number| number >> (far % 50)).collect();
            // Of a number of 64 bits two floats are that it is made of.
            let parts = numbers.iter().flat_map(|number| [(number >> 32) as f64 * 4_294_967_296.0, (number & 0xffff_ffff) as f64]);
            let parts: Vec<_> = parts.map(|part| part / 1024.0).collect();
            let whole: i128 = numbers.iter().map(|number| i128::from(*number)).sum();
            prop_assert_eq!(sum(&parts), whole as f64 / 1024.0);
        }

        #[test]
        fn the_order_does_not_matter(
            numbers in prop::collection::vec(prop::num::f64::NORMAL | prop::num::f64::SUBNORMAL, 0..40),
            seed in any::<prop::sample::Index>(),
        ) {
            let mut turned = numbers.clone();
            if !turned.is_empty() {
                let at = seed.index(turned.len());
                turned.rotate_left(at);
                turned.reverse();
            }
            prop_assert_eq!(sum(&numbers).to_bits(), sum(&turned).to_bits());
            turned.extend(numbers.iter().map(|number| -number));
            prop_assert_eq!(sum(&turned), 0.0);
        }
    }

    #[test]
    fn small_numbers_are_not_lost_between_large_ones() {
        assert_eq!(sum(&[1e300, 1.0, -1e300]), 1.0);
        assert_eq!(sum(&[1.0, f64::EPSILON / 2.0]), 1.0);
        assert_eq!(sum(&[1.0, f64::EPSILON / 2.0, f64::MIN_POSITIVE]), 1.0 + f64::EPSILON);
        assert_eq!(sum(&[f64::MAX, f64::MAX]), f64::INFINITY);
        assert_eq!(sum(&[f64::MAX, f64::MAX, -f64::MAX]), f64::MAX);
    }
}
