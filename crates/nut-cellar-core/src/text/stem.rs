//! Stemming: word forms to a common stem, so that `umbrellas` finds `umbrella`.
//!
//! English is the second Porter algorithm as the Snowball project maintains it (version 3.0), in the implementation of
//! the crate `waken_snowball`, which is pinned, since another version may give other terms.

use waken_snowball::{Algorithm, stem};

/// A stemming algorithm.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Stemmer {
    English,
}

impl Stemmer {
    /// The algorithm for a language code, if the language is stemmed.
    pub fn for_code(code: &str) -> Option<Self> {
        (code == "en").then_some(Self::English)
    }

    /// Replaces a folded word by its stem.
    pub fn apply(self, word: &mut String) {
        let Self::English = self;
        let stemmed = stem(Algorithm::English, word);
        if *stemmed != **word {
            *word = stemmed.into_owned();
        }
    }
}
