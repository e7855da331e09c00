//! What a search does when it finds too few: spellings that are near count too, then fewer words are asked for.

use super::find::{Find, Spellings, Words};

/// A looser search, and what is said of it.
#[derive(Debug)]
pub(super) struct Attempt {
    pub find: Find,
    /// It is made if fewer than this were found before.
    pub below: u64,
    pub note: String,
}

/// The attempts behind the first, in order, for a query of so many words to choose from.
pub(super) fn attempts(find: &Find, words: usize) -> Vec<Attempt> {
    let mut attempts = Vec::new();
    let mut looser = find.clone();
    if let Spellings::WhenFewerThan(below) = find.wanted_spellings() {
        looser = looser.spellings(Spellings::Near);
        let note = "Few were found, so words that are spelled nearly so count too.".to_owned();
        attempts.push(Attempt { find: looser.clone(), below, note });
    }
    if find.relaxed() > 0 && find.wanted_words() == Words::All {
        let mut last = words;
        for fewer in [words.saturating_sub(1), words.div_ceil(2), 1] {
            if fewer > 0 && fewer < last {
                last = fewer;
                looser = looser.words(Words::AtLeast(fewer));
                let note = format!("Few have all {words} words, so those with {fewer} of them count too.");
                attempts.push(Attempt { find: looser.clone(), below: find.relaxed(), note });
            }
        }
    }
    attempts
}
