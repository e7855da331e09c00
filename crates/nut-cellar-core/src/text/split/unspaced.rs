//! Scripts without spaces between words: Han, kana, Thai, Lao, Khmer, Burmese.
//!
//! With the feature `dictionaries` a run is split by dictionary (ICU's, through `icu_segmenter`); without it into
//! overlapping pairs of characters, of which any word of two characters or more is a phrase. Both take time in
//! proportion to the run.

use std::ops::Range;

/// Whether a character belongs to a script without spaces.
pub(crate) fn is_unspaced(character: char) -> bool {
    matches!(character,
        '\u{0e00}'..='\u{0eff}' // Thai, Lao
        | '\u{1000}'..='\u{109f}' | '\u{a9e0}'..='\u{a9ff}' | '\u{aa60}'..='\u{aa7f}' // Burmese
        | '\u{1780}'..='\u{17ff}' // Khmer
        | '\u{3005}'..='\u{3007}' | '\u{3021}'..='\u{3029}'
        | '\u{3040}'..='\u{30ff}' | '\u{31f0}'..='\u{31ff}' | '\u{ff66}'..='\u{ff9f}' // kana
        | '\u{3400}'..='\u{4dbf}' | '\u{4e00}'..='\u{9fff}' | '\u{f900}'..='\u{faff}'
        | '\u{20000}'..='\u{3ffff}' // Han
    )
}

/// Gives each word of a run of unspaced characters to `take`, with its range in the run.
#[cfg(feature = "dictionaries")]
pub(super) fn words(run: &str, mut take: impl FnMut(Range<usize>)) {
    use icu_segmenter::options::WordBreakInvariantOptions;
    use icu_segmenter::{WordSegmenter, WordSegmenterBorrowed};
    use std::sync::LazyLock;

    static SEGMENTER: LazyLock<WordSegmenterBorrowed<'static>> =
        LazyLock::new(|| WordSegmenter::new_dictionary(WordBreakInvariantOptions::default()));

    let mut start = 0;
    for end in SEGMENTER.segment_str(run) {
        if run[start..end].chars().any(char::is_alphanumeric) {
            take(start..end);
        }
        start = end;
    }
}

/// Gives each pair of neighbouring characters of a run to `take`, with its range in the run; a single character alone.
#[cfg(not(feature = "dictionaries"))]
pub(super) fn words(run: &str, mut take: impl FnMut(Range<usize>)) {
    use unicode_segmentation::UnicodeSegmentation;

    // A mark belongs to the character before it.
    let characters = run.grapheme_indices(true).filter(|(_, part)| part.contains(char::is_alphanumeric));
    let mut starts = characters.map(|(at, _)| at);
    let Some(mut first) = starts.next() else { return };
    let Some(mut second) = starts.next() else { return take(first..run.len()) };
    for third in starts.chain([run.len()]) {
        take(first..third);
        (first, second) = (second, third);
    }
}

/// Whether a word is a single character where others are read in pairs.
pub(in crate::text) fn is_half_of_pairs(word: &str) -> bool {
    use unicode_segmentation::UnicodeSegmentation;

    !cfg!(feature = "dictionaries") && word.starts_with(is_unspaced) && word.graphemes(true).nth(1).is_none()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn split(run: &str) -> Vec<&str> {
        assert!(run.chars().all(is_unspaced), "{run}");
        let mut words_of_run = Vec::new();
        words(run, |range| words_of_run.push(&run[range]));
        words_of_run
    }

    #[cfg(feature = "dictionaries")]
    #[test]
    fn words_are_found_by_dictionary() {
        assert_eq!(
            split("東京都に住んでいる学生です"),
            ["東京", "都", "に", "住", "んで", "いる", "学生", "です"]
        );
        assert_eq!(split("我们在北京大学学习"), ["我们", "在", "北京", "大学", "学习"]);
        assert_eq!(split("ภาษาไทยไม่มีการเว้นวรรค"), ["ภาษา", "ไทย", "ไม่มี", "การ", "เว้น", "วรรค"]);
        assert_eq!(split("傘"), ["傘"]);
        assert_eq!(split("・"), [""; 0]);
    }

    #[cfg(not(feature = "dictionaries"))]
    #[test]
    fn words_are_pairs_of_characters() {
        assert_eq!(split("東京都に"), ["東京", "京都", "都に"]);
        assert_eq!(split("東京"), ["東京"]);
        assert_eq!(split("傘"), ["傘"]);
        assert_eq!(split("・"), [""; 0]);
        assert_eq!(split("ไม่มี"), ["ไม่", "ม่มี"]);
    }
}
