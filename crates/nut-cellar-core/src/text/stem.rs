//! Stemming: word forms to a common stem, so that `umbrellas` finds `umbrella`.
//!
//! The algorithms are those of the Snowball project (M. F. Porter and others), version 3.0, in the implementation of the
//! crate `waken_snowball`. The crate is pinned: another version may give other terms, so algorithm and version stand in
//! the schema.

use waken_snowball::{Algorithm, stem};

/// The version of the algorithms.
const VERSION: &str = "3.0";

/// Replaces a folded word, its accents kept, by its stem.
pub(super) fn apply(algorithm: Algorithm, word: &mut String) {
    let stemmed = stem(algorithm, word);
    if *stemmed != **word {
        *word = stemmed.into_owned();
    }
}

/// How an algorithm is named in a schema.
pub(super) fn name(algorithm: Algorithm) -> String {
    format!("snowball {VERSION} {}", algorithm.as_str())
}
