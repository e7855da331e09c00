//! What a search does when it finds too few: spellings that are near count too, then fewer words are asked for.

use super::find::Find;
use super::settings::{Spellings, Words};
use crate::note::Note;

/// Of more words and phrases than these, in brackets or not, one is asked for at once: each attempt goes through the lists of all of them.
const MANY_LEAVES: usize = 64;

/// A looser search, which is made where too few are found.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Attempt {
    /// What is asked then.
    pub find: Find,
    /// It is made if fewer than this were found before.
    pub below: u64,
    /// What is said of it.
    pub note: Note,
}

/// The attempts behind the first, in order, for a query of so many words to choose from, and so many words and phrases in all.
pub(super) fn attempts(find: &Find, words: usize, leaves: usize) -> Vec<Attempt> {
    let mut attempts = Vec::new();
    let mut looser = find.clone().without_attempts();
    if let Spellings::WhenFewerThan(below) = find.spellings.unwrap_or_default() {
        looser = looser.spellings(Spellings::Near);
        attempts.push(Attempt { find: looser.clone(), below, note: Note::SpelledNearly });
    }
    if find.relaxed.unwrap_or(0) > 0 && find.words.unwrap_or_default() == Words::All {
        let mut last = words;
        let first = if leaves > MANY_LEAVES { words } else { 0 };
        for fewer in [words.saturating_sub(1).max(first), words.div_ceil(2).max(first), 1] {
            if fewer > 0 && fewer < last {
                last = fewer;
                looser = looser.words(Words::AtLeast(fewer));
                let note = Note::FewerWords { words, needed: fewer };
                attempts.push(Attempt { find: looser.clone(), below: find.relaxed.unwrap_or(0), note });
            }
        }
    }
    attempts
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(find: &Find, words: usize) -> Vec<Words> {
        attempts(find, words, words).iter().map(|attempt| attempt.find.words.unwrap_or_default()).collect()
    }

    #[test]
    fn fewer_words_are_asked_for_in_steps() {
        let relaxed = Find::new().relaxed_below(5);
        let at_least =
            |counts: &[usize]| counts.iter().map(|count| Words::AtLeast(*count)).collect::<Vec<_>>();
        assert_eq!(words(&relaxed, 6), at_least(&[5, 3, 1]));
        assert_eq!(words(&relaxed, 3), at_least(&[2, 1]));
        assert_eq!(words(&relaxed, 2), at_least(&[1]));
        assert_eq!(words(&relaxed, 64), at_least(&[63, 32, 1]));
        assert_eq!(words(&relaxed, 65), at_least(&[1]));
        let in_brackets: Vec<_> =
            attempts(&relaxed, 6, 65).into_iter().map(|one| one.find.words.unwrap_or_default()).collect();
        assert_eq!(in_brackets, at_least(&[1]));
        assert!(words(&relaxed, 1).is_empty());
        assert!(words(&relaxed.words(Words::Any), 6).is_empty());
        assert!(words(&Find::new(), 6).is_empty());
    }

    #[test]
    fn near_spellings_come_before_fewer_words_and_stay() {
        let both = Find::new().relaxed_below(5).spellings(Spellings::WhenFewerThan(2));
        let made = attempts(&both, 2, 2);
        let made: Vec<_> = made
            .iter()
            .map(|one| {
                (one.below, one.find.words.unwrap_or_default(), one.find.spellings.unwrap_or_default())
            })
            .collect();
        assert_eq!(made, [(2, Words::All, Spellings::Near), (5, Words::AtLeast(1), Spellings::Near)]);
    }
}
