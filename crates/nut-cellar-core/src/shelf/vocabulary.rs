//! The distinct terms of the records that are being gathered, numbered as they come.

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::hash::BuildHasher;

/// Terms and their numbers, from 0.
#[derive(Debug, Default)]
pub(super) struct Vocabulary {
    /// All terms, one after the other.
    text: String,
    /// For each term where it ends.
    ends: Vec<usize>,
    table: HashTable<Slot>,
    hashes: RandomState,
}

/// A part of a term's hash, so that most others are told apart without being looked at, and its number.
#[derive(Clone, Copy, Debug)]
struct Slot {
    hash: u32,
    number: u32,
}

impl Slot {
    /// The hash by which it stands in the table: both halves are the part that is kept.
    fn spread(self) -> u64 {
        spread(self.hash)
    }
}

fn spread(hash: u32) -> u64 {
    u64::from(hash) << 32 | u64::from(hash)
}

impl Vocabulary {
    /// The number of a term; a new one if it was not seen before.
    pub fn number(&mut self, term: &str) -> u32 {
        let hash = self.hashes.hash_one(term.as_bytes());
        #[expect(clippy::cast_possible_truncation, reason = "a part of the hash is kept")]
        let hash = (hash ^ hash >> 32) as u32;
        let (text, ends) = (&mut self.text, &mut self.ends);
        let same = |slot: &Slot| slot.hash == hash && term_at(text, ends, slot.number) == term;
        if let Some(slot) = self.table.find(spread(hash), same) {
            return slot.number;
        }
        let number = u32::try_from(ends.len()).expect("fewer terms than tokens in memory");
        text.push_str(term);
        ends.push(text.len());
        self.table.insert_unique(spread(hash), Slot { hash, number }, |slot| slot.spread());
        number
    }

    /// How many terms there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// The term of a number.
    pub fn term(&self, number: u32) -> &str {
        term_at(&self.text, &self.ends, number)
    }

    /// The numbers of all terms, in the order of the terms.
    pub fn sorted(&self) -> Vec<u32> {
        // Their first bytes, as a number, tell most terms apart without a look at the terms.
        let numbers = 0..u32::try_from(self.len()).unwrap_or(u32::MAX);
        let mut order: Vec<_> = numbers.map(|number| (beginning(self.term(number)), number)).collect();
        order.sort_unstable_by(|a, b| a.0.cmp(&b.0).then_with(|| self.term(a.1).cmp(self.term(b.1))));
        order.into_iter().map(|(_, number)| number).collect()
    }

    /// The memory it takes, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        self.text.len() + self.len() * (size_of::<usize>() + 2 * size_of::<Slot>())
    }
}

fn term_at<'t>(text: &'t str, ends: &[usize], number: u32) -> &'t str {
    let number = number as usize;
    let start = number.checked_sub(1).map_or(0, |before| ends[before]);
    &text[start..ends[number]]
}

/// The first eight bytes, so that numbers are in the order of terms as far as these bytes tell.
fn beginning(term: &str) -> u64 {
    let mut bytes = [0; 8];
    let length = term.len().min(8);
    bytes[..length].copy_from_slice(&term.as_bytes()[..length]);
    #[expect(clippy::big_endian_bytes, reason = "only big-endian bytes sort as the terms do")]
    u64::from_be_bytes(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::{BTreeSet, HashMap};

    proptest! {
        #[test]
        fn each_term_has_one_number_and_they_sort(terms in prop::collection::vec("[abé]{0,12}", 0..200)) {
            let mut vocabulary = Vocabulary::default();
            let mut numbers = HashMap::new();
            for term in &terms {
                let next = u32::try_from(numbers.len()).unwrap();
                let expected = *numbers.entry(term).or_insert(next);
                prop_assert_eq!(vocabulary.number(term), expected);
                prop_assert_eq!(vocabulary.term(expected), term);
            }
            let sorted: Vec<_> = vocabulary.sorted().into_iter().map(|number| vocabulary.term(number)).collect();
            let expected: Vec<_> = terms.iter().collect::<BTreeSet<_>>().into_iter().collect();
            prop_assert_eq!(sorted, expected);
            prop_assert_eq!(vocabulary.len(), numbers.len());
        }
    }
}
