//! From a text to the tokens that are indexed and looked for.
//!
//! A [`Recipe`] is made of steps, each in a file of its own: split into words, fold away the
//! differences that do not matter, stem word forms. The same recipe reads a column's text and a query's words,
//! and the same text always gives the same tokens.

mod fold;
mod language;
mod recipe;
mod split;
mod stem;

pub use language::Language;
pub use recipe::{Change, MAX_TERM_BYTES, Recipe, Token, TracedToken};
