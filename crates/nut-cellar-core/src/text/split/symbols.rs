//! Symbols as words, where a column asks for them: emoji, currency signs, arrows, the signs of arithmetic.
//!
//! What always holds: without a symbol in the text the words are those of [`boundaries`](super::boundaries).

use super::TakeRuns;
use super::unspaced::is_unspaced;
use icu_properties::CodePointMapData;
use icu_properties::props::{GeneralCategory, GeneralCategoryGroup};
use unicode_segmentation::UnicodeSegmentation;

/// Gives each run of a text to `take`: a segment by UAX #29 that holds a letter, a digit or a symbol, so that an emoji of
/// several characters is one word; or a run of a script without spaces.
pub(super) fn runs(text: &str, take: &mut impl TakeRuns) {
    let mut at = 0;
    while at < text.len() {
        let rest = &text[at..];
        let run = rest.find(|character| !is_unspaced(character)).unwrap_or(rest.len());
        if run > 0 {
            take.unspaced(at..at + run, &rest[..run]);
            at += run;
            continue;
        }
        let spaced = rest.find(is_unspaced).unwrap_or(rest.len());
        for (offset, segment) in rest[..spaced].split_word_bound_indices() {
            if segment.contains(|character: char| character.is_alphanumeric() || is_symbol(character)) {
                take.word(at + offset..at + offset + segment.len());
            }
        }
        at += spaced;
    }
}

/// Whether a character is a symbol: of general category S, or the frame of a keycap.
fn is_symbol(character: char) -> bool {
    let category = CodePointMapData::<GeneralCategory>::new().get(character);
    GeneralCategoryGroup::Symbol.contains(category) || character == '\u{20e3}'
}

#[cfg(test)]
mod tests {
    use super::super::{TakeWords, words};
    use proptest::prelude::*;
    use std::ops::Range;

    struct Words(Vec<Range<usize>>);

    impl TakeWords for Words {
        fn plain(&mut self, range: Range<usize>) {
            self.0.push(range);
        }

        fn word(&mut self, range: Range<usize>) {
            self.0.push(range);
        }
    }

    fn split(text: &str, symbols: bool) -> Vec<&str> {
        let mut taken = Words(Vec::new());
        words(text, symbols, &mut taken);
        taken.0.into_iter().map(|range| &text[range]).collect()
    }

    #[test]
    fn symbols_are_words_on_request() {
        assert_eq!(split("a 😀, C++ for €5 👩‍👩‍👧🇩🇪!", false), ["a", "C", "for", "5"]);
        assert_eq!(
            split("a 😀, C++ for €5 👩‍👩‍👧🇩🇪!", true),
            ["a", "😀", "C", "+", "+", "for", "€", "5", "👩‍👩‍👧", "🇩🇪"]
        );
        assert_eq!(split("#️⃣ and #", true), ["#️⃣", "and"]);
    }

    proptest! {
        #[test]
        fn without_symbols_the_words_are_the_same(text in "([a-zA-Z]{1,5}|[ .,'_éßЖ傘ก-]|[0-9]{1,3}|\\PC){0,20}") {
            let plain: String = text.chars().filter(|character| !super::is_symbol(*character)).collect();
            prop_assert_eq!(split(&plain, true), split(&plain, false));
        }
    }
}
