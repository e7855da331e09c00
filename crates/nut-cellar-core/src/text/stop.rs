//! Stop words: function words that say little. They are indexed like all others, so phrases stay right and a search for
//! nothing else still finds something; a search that has other words leaves them out.
//!
//! The lists are our own: articles, prepositions, conjunctions, pronouns and the commonest auxiliary verbs, no more.

use std::collections::HashMap;
use std::sync::LazyLock;

/// One list a line: the code, then the words.
static LISTS: LazyLock<HashMap<&'static str, Vec<&'static str>>> = LazyLock::new(|| {
    let lists = include_str!("stop.txt").lines().filter(|line| !line.is_empty() && !line.starts_with('#'));
    lists
        .filter_map(|line| line.split_once(':'))
        .map(|(code, words)| (code, words.split_whitespace().collect()))
        .collect()
});

/// The list of a language.
pub(super) fn of_language(code: &str) -> Option<&'static [&'static str]> {
    LISTS.get(code).map(Vec::as_slice)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_are_of_known_languages_and_hold_each_word_once() {
        assert!(LISTS.len() >= 15, "{} lists", LISTS.len());
        for (code, words) in &*LISTS {
            assert!(crate::text::Language::new(code).is_ok(), "{code}");
            let different: std::collections::HashSet<_> = words.iter().collect();
            assert_eq!(different.len(), words.len(), "{code}");
            assert!((30..160).contains(&words.len()), "{code}: {}", words.len());
            assert!(words.iter().all(|word| word.to_lowercase() == **word), "{code}");
        }
    }
}
