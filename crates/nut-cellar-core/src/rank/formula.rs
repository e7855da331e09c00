//! BM25F: how much a word says about a record, with a weight for each column.
//!
//! For a query word t and a record d:
//!
//! ```text
//! tf~(t,d) = Σ_c  w_c · tf(t,d,c) / (1 − b_c + b_c · len(d,c) / avglen(c))
//! idf(t)   = ln(1 + (N − n_t + ½) / (n_t + ½))
//! score    = Σ_t  idf(t) · (k1 + 1) / (1 + k1 / tf~)
//! ```
//!
//! A word that stands for several terms (its forms, synonyms) is one group: `tf~ = Σ_v q_v · tf~(v,d)` over its terms v,
//! with `q_v` = 1 for the term as typed and less for the others, and n the largest `n_v`.
//!
//! Source: S. Robertson, H. Zaragoza, M. Taylor, "Simple BM25 Extension to Multiple Weighted Fields" (CIKM 2004). The
//! score is written so that in `f32` it never falls when tf~ rises.

use crate::error::{Error, ErrorKind, Result};

/// The usual k1: how soon more of the same word stops to matter.
pub const DEFAULT_K1: f32 = 1.2;
/// The usual b: how far a long column counts against itself.
pub const DEFAULT_B: f32 = 0.75;

/// What one column brings into the formula.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ColumnFactor {
    /// w: what a match in it weighs; finite and not negative.
    pub weight: f32,
    /// b: from 0 (its length does not matter) to 1.
    pub b: f32,
    /// avglen: see [`average_length`].
    pub average_length: f32,
}

/// The formula with its settings filled in.
///
/// ```
/// use nut_cellar_core::rank::{ColumnFactor, Formula, idf};
///
/// let column = ColumnFactor { weight: 2.0, b: 0.75, average_length: 4.0 };
/// let formula = Formula::new(1.2, vec![column]).unwrap();
/// let tf = formula.frequency(0, 1, 4);
/// assert_eq!(tf, 2.0);
/// assert!(formula.part(idf(100, 3), tf) > formula.part(idf(100, 30), tf));
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Formula {
    k1: f32,
    columns: Vec<ColumnFactor>,
}

impl Formula {
    /// The formula with k1 and the factors of each text column, in schema order.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if a weight is not a finite number from 0, k1 is not one either, or a b is not from 0
    /// to 1.
    pub fn new(k1: f32, columns: Vec<ColumnFactor>) -> Result<Self> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadRequest, message));
        if !(k1.is_finite() && k1 >= 0.0) {
            return bad(format!("k1 is {k1}; it has to be a finite number that is not negative."));
        }
        for ColumnFactor { weight, b, .. } in &columns {
            if !(weight.is_finite() && *weight >= 0.0) {
                return bad(format!(
                    "A weight is {weight}; it has to be a finite number that is not negative."
                ));
            }
            if !(0.0..=1.0).contains(b) {
                return bad(format!("b is {b}; it has to be a number from 0 to 1."));
            }
        }
        Ok(Self { k1, columns })
    }

    /// One column's share of tf~: a term that stands `tf` times in a column of `length` tokens.
    pub fn frequency(&self, column: usize, tf: u32, length: u32) -> f32 {
        let ColumnFactor { weight, b, average_length } = self.columns[column];
        weight * real(tf) / (1.0 - b + b * real(length) / average_length)
    }

    /// What each column brings in, in schema order.
    pub fn columns(&self) -> &[ColumnFactor] {
        &self.columns
    }

    /// What tells by which factors a tf~ was worked out, bit by bit.
    pub(crate) fn factor_bits(&self) -> Vec<u32> {
        let bits = |factor: &ColumnFactor| [factor.weight, factor.b, factor.average_length].map(f32::to_bits);
        self.columns.iter().flat_map(bits).collect()
    }

    /// k1.
    pub fn k1(&self) -> f32 {
        self.k1
    }

    /// A word's part of the score, from its idf and its tf~.
    pub fn part(&self, idf: f32, frequency: f32) -> f32 {
        self.word(idf).part(frequency)
    }

    /// What a word with this idf makes of its tf~.
    pub(crate) fn word(&self, idf: f32) -> WordScorer {
        WordScorer { factor: idf * (self.k1 + 1.0), k1: self.k1 }
    }
}

/// What a word makes of its tf~: idf · (k1 + 1) / (1 + k1 / tf~).
#[derive(Clone, Copy, Debug)]
pub(crate) struct WordScorer {
    factor: f32,
    k1: f32,
}

impl WordScorer {
    /// The word's part of the score; it never falls when tf~ rises.
    #[inline]
    pub fn part(self, frequency: f32) -> f32 {
        if frequency > 0.0 { self.factor / (1.0 + self.k1 / frequency) } else { 0.0 }
    }

    /// A tf~ up to which no part is above this one; near to the greatest.
    pub fn least_frequency(self, part: f32) -> f32 {
        if part >= self.factor {
            return f32::INFINITY;
        }
        if part <= 0.0 {
            return part;
        }
        let frequency = self.k1 / (self.factor / part - 1.0);
        // Near the most that it adds, a little less is a much smaller tf~.
        let slack = 16.0 * f32::EPSILON * (1.0 + frequency / self.k1);
        if slack < 1.0 { frequency * (1.0 - slack) } else { 0.0 }
    }
}

/// idf: how much it says that a record has a term which `with_term` of `records` records have.
pub fn idf(records: u64, with_term: u64) -> f32 {
    let (records, with_term) = (records as f64, with_term as f64);
    rounded(libm::log(1.0 + (records - with_term + 0.5) / (with_term + 0.5)))
}

/// avglen: the mean length of a column, in tokens, over all live records.
pub fn average_length(tokens: u64, records: u64) -> f32 {
    rounded(tokens as f64 / records as f64)
}

#[expect(clippy::cast_possible_truncation, reason = "the one rounding to f32")]
fn rounded(number: f64) -> f32 {
    number as f32
}

fn real(number: u32) -> f32 {
    number as f32
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn factor(weight: f32, b: f32, average_length: f32) -> ColumnFactor {
        ColumnFactor { weight, b, average_length }
    }

    /// Worked by hand: 10 records, 2 of them with the word, which stands once in a title of 3 tokens (3 on average) and
    /// twice in notes of 12 tokens (8 on average).
    #[test]
    fn the_formula_gives_the_numbers_worked_by_hand() {
        let formula = Formula::new(1.2, vec![factor(4.0, 0.75, 3.0), factor(1.0, 0.75, 8.0)]).unwrap();
        let tf = formula.frequency(0, 1, 3) + formula.frequency(1, 2, 12);
        // 4·1/(0.25 + 0.75·1) + 1·2/(0.25 + 0.75·1.5)
        assert!((tf - (4.0 + 2.0 / 1.375)).abs() < 1e-6);
        // ln(1 + 8.5/2.5)
        assert!((idf(10, 2) - 1.481_604_5).abs() < 1e-6);
        assert!((formula.part(idf(10, 2), tf) - 1.481_604_5 * 2.2 / (1.0 + 1.2 / 5.454_545)).abs() < 1e-5);
        assert!((average_length(25, 10) - 2.5).abs() < f32::EPSILON);
    }

    #[test]
    fn numbers_out_of_range_are_refused() {
        for (k1, weight, b) in [
            (-0.1, 1.0, 0.5),
            (f32::NAN, 1.0, 0.5),
            (f32::INFINITY, 1.0, 0.5),
            (1.2, -1.0, 0.5),
            (1.2, f32::NAN, 0.5),
            (1.2, f32::INFINITY, 0.5),
            (1.2, 1.0, -0.1),
            (1.2, 1.0, 1.1),
            (1.2, 1.0, f32::NAN),
        ] {
            let error = Formula::new(k1, vec![factor(weight, b, 1.0)]).unwrap_err();
            assert!(error.is_bad_request(), "{k1} {weight} {b}");
        }
    }

    proptest! {
        /// What bounds on scores rest on: more of a word never makes a score fall, and nothing is ever NaN or negative.
        #[test]
        fn a_part_never_falls_when_the_frequency_rises(
            k1 in 0.0_f32..10.0,
            weight in 0.0_f32..100.0,
            b in 0.0_f32..=1.0,
            average in 0.1_f32..1_000.0,
            tf in 1_u32..10_000,
            more in 0_u32..100,
            length in 1_u32..100_000,
            (records, with) in (1_u64..1_000_000).prop_flat_map(|records| (Just(records), 0..=records)),
        ) {
            let formula = Formula::new(k1, vec![factor(weight, b, average)]).unwrap();
            let (less, greater) = (formula.frequency(0, tf, length), formula.frequency(0, tf + more, length));
            prop_assert!(0.0 <= less && less <= greater);
            let idf = idf(records, with);
            let (low, high) = (formula.part(idf, less), formula.part(idf, greater));
            prop_assert!(0.0 <= low && low <= high && high.is_finite(), "{} {}", low, high);
            prop_assert!(formula.frequency(0, tf, length) >= formula.frequency(0, tf, length + more));
        }
    }
}
