//! Ranking: arithmetic on numbers, which knows of no shelf and no text.
//!
//! What always holds: logarithms and averages are computed in `f64` from whole numbers, with a logarithm that is the
//! same on every platform, and rounded once; everything else is `f32`, in an order that the caller fixes.

mod formula;
mod lengths;
pub mod proximity;
mod shares;

pub(crate) use formula::WordScorer;
pub use formula::{ColumnFactor, DEFAULT_B, DEFAULT_K1, Formula, average_length, idf};
pub use lengths::Lengths;
pub(crate) use shares::{Row, Shares};
