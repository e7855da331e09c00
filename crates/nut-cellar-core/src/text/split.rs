//! Splitting: the words of a text, by the default word boundaries of Unicode (UAX #29).
//!
//! What always holds: words come in order, do not overlap, and their ranges lie at character boundaries.

use std::ops::Range;
use unicode_segmentation::UnicodeSegmentation;

/// The words of `text` that hold a letter or a digit, with their byte ranges. Takes time in proportion to the text.
pub(super) fn words(text: &str) -> impl Iterator<Item = (Range<usize>, &str)> {
    text.unicode_word_indices().map(|(start, word)| (start..start + word.len(), word))
}
