//! What became of words that were read before, so that a word that comes again costs one look-up.
//!
//! Words of up to 15 bytes, which most are, lie in the table itself; their terms follow one another in
//! one text. A memory that is full takes no more: what comes often came early.

use super::making::Several;
use super::pieces::Compound;
use crate::wire::short;
use foldhash::fast::FixedState;
use hashbrown::{HashMap, HashTable};
use std::hash::BuildHasher;

/// The words that are remembered at most.
const WORDS: usize = 1 << 17;
/// Longer words hardly come again.
const LONGEST: usize = 64;

/// Terms by the words they were made of.
#[derive(Clone, Debug, Default)]
pub(crate) struct Memory {
    short: HashTable<Short>,
    long: HashMap<String, Made>,
    /// The terms, one after the other.
    terms: String,
    /// Where a term is made; reused.
    pub(super) scratch: String,
    /// Where hyphenated words are put together; reused.
    pub(super) compound: Compound,
    /// Where a stretch of text is folded; reused.
    pub(super) small: String,
    /// What became of words in recipes in which they may become several tokens.
    pub(super) several: Several,
}

#[derive(Clone, Copy, Debug)]
struct Short {
    word: [u64; 2],
    made: Made,
}

/// A term's place in the text of terms, and whether it is weak, or what else is to be known of it.
#[derive(Clone, Copy, Debug)]
struct Made {
    start: u32,
    length: u8,
    weak: bool,
}

fn hash([first, last]: [u64; 2]) -> u64 {
    FixedState::with_seed(0).hash_one(u128::from(first) | u128::from(last) << 64)
}

impl Memory {
    /// The term of a word that was learned, and whether it is weak.
    pub fn recall(&self, word: &str) -> Option<(&str, bool)> {
        let made = match short(word.as_bytes()) {
            Some(word) => self.short.find(hash(word), |known| known.word == word)?.made,
            None => *self.long.get(word)?,
        };
        let start = made.start as usize;
        Some((&self.terms[start..start + usize::from(made.length)], made.weak))
    }

    /// How many words are remembered.
    pub fn len(&self) -> usize {
        self.short.len() + self.long.len() + self.several.len()
    }

    /// Learns what became of a word that is not known, if there is room.
    pub fn learn(&mut self, word: &str, weak: bool) {
        let (Ok(start), Ok(length)) = (u32::try_from(self.terms.len()), u8::try_from(self.scratch.len()))
        else {
            return;
        };
        if word.len() > LONGEST || self.len() >= WORDS {
            return;
        }
        self.terms.push_str(&self.scratch);
        let made = Made { start, length, weak };
        match short(word.as_bytes()) {
            Some(word) => {
                self.short.insert_unique(hash(word), Short { word, made }, |known| hash(known.word));
            }
            None => drop(self.long.insert(word.to_owned(), made)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashMap as Plain;

    proptest! {
        #[test]
        fn a_memory_is_a_map(words in prop::collection::vec(("[ab\0é]{0,12}", "[a-z]{0,5}", any::<bool>()), 0..60)) {
            let mut memory = Memory::default();
            let mut plain: Plain<String, (String, bool)> = Plain::new();
            for (word, term, weak) in words {
                let known = memory.recall(&word).map(|(term, weak)| (term.to_owned(), weak));
                prop_assert_eq!(&known, &plain.get(&word).cloned());
                if known.is_none() {
                    memory.scratch.clone_from(&term);
                    memory.learn(&word, weak);
                    plain.insert(word, (term, weak));
                }
            }
        }
    }

    #[test]
    fn a_full_memory_takes_no_more_and_forgets_nothing() {
        let mut memory = Memory::default();
        for n in 0..WORDS + 10 {
            memory.scratch = format!("term{n}");
            memory.learn(&format!("word{n}"), false);
        }
        assert_eq!(memory.recall("word0"), Some(("term0", false)));
        assert_eq!(memory.recall(&format!("word{}", WORDS + 5)), None);
        memory.learn(&"long".repeat(20), true);
        assert_eq!(memory.recall(&"long".repeat(20)), None);
    }
}
