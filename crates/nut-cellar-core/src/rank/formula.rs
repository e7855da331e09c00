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

    /// A word's part of the score, from its idf and its tf~.
    pub fn part(&self, idf: f32, frequency: f32) -> f32 {
        if frequency > 0.0 { idf * (self.k1 + 1.0) / (1.0 + self.k1 / frequency) } else { 0.0 }
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
