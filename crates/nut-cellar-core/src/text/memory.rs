//! What became of words that were read before, so that a word that comes again costs one look-up.
//!
//! Words of up to 15 bytes, which most are, lie in the table itself, as one number; their terms follow one another in
//! one text. A memory that is full takes no more: what comes often came early.

use super::pieces::Compound;
use crate::wire::ends;
use foldhash::fast::FixedState;
use hashbrown::{HashMap, HashTable};
use std::hash::BuildHasher;

/// The words that are remembered at most.
const WORDS: usize = 1 << 17;
/// Longer words hardly come again.
const LONGEST: usize = 64;
/// The bytes that fit into a number beside their count.
const SHORT: usize = 15;

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
}

#[derive(Clone, Copy, Debug)]
struct Short {
    word: u128,
    made: Made,
}

/// A term's place in the text of terms, and whether it is weak, or what else is to be known of it.
#[derive(Clone, Copy, Debug)]
struct Made {
    start: u32,
    length: u8,
    weak: bool,
}

/// The bytes of a short word, and how many they are, as one number.
fn number(word: &str) -> u128 {
    let [first, last] = ends(word.as_bytes());
    // Of more than eight bytes the last eight overlap the first; shifted, they follow them.
    let last = match word.len() {
        length @ 9.. => last >> (8 * (2 * 8 - length)),
        8 => 0,
        _ => last,
    };
    u128::from(first) | u128::from(last) << 64 | (word.len() as u128) << 120
}

fn hash(word: u128) -> u64 {
    FixedState::with_seed(0).hash_one(word)
}

impl Memory {
    /// The term of a word that was learned, and whether it is weak.
    pub fn recall(&self, word: &str) -> Option<(&str, bool)> {
        let made = if word.len() <= SHORT {
            let word = number(word);
            self.short.find(hash(word), |known| known.word == word)?.made
        } else {
            *self.long.get(word)?
        };
        let start = made.start as usize;
        Some((&self.terms[start..start + usize::from(made.length)], made.weak))
    }

    /// How many words are remembered.
    pub fn len(&self) -> usize {
        self.short.len() + self.long.len()
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
        if word.len() <= SHORT {
            let word = number(word);
            self.short.insert_unique(hash(word), Short { word, made }, |known| hash(known.word));
        } else {
            self.long.insert(word.to_owned(), made);
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
