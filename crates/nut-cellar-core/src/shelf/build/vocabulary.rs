//! The distinct terms of the records that are being gathered, numbered as they come; with those of the batch before, if they
//! were few.

use crate::wire::short;
use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::hash::BuildHasher;

/// Terms and their numbers, from 0.
#[derive(Debug, Default)]
pub(in crate::shelf) struct Vocabulary {
    /// All terms, one after the other.
    text: String,
    /// For each term where it ends.
    ends: Vec<usize>,
    table: HashTable<Slot>,
    hashes: RandomState,
    /// Those terms that were [sorted](Self::sort), in their order: the beginning and the number of each.
    order: Vec<(u64, u32)>,
}

/// A term of up to 15 bytes, as most are, stands in the table itself: so finding one touches one place in memory.
#[derive(Clone, Copy, Debug)]
struct Slot {
    form: [u64; 2],
    number: u32,
}

/// The bytes of a short term with how many they are, or the hash of a longer one; the highest byte tells which.
fn form_of(term: &[u8], hashes: &RandomState) -> [u64; 2] {
    match short(term) {
        Some(form) => form,
        None => [hashes.hash_one(term), LONG],
    }
}

const LONG: u64 = u64::MAX;

fn hash(form: [u64; 2], hashes: &RandomState) -> u64 {
    if form[1] == LONG { form[0] } else { hashes.hash_one(u128::from(form[0]) | u128::from(form[1]) << 64) }
}

impl Vocabulary {
    /// The number of a term; a new one if it was not seen before.
    pub fn number(&mut self, term: &str) -> u32 {
        let form = form_of(term.as_bytes(), &self.hashes);
        let (text, ends, hashes) = (&mut self.text, &mut self.ends, &self.hashes);
        let hash_of = hash(form, hashes);
        let same =
            |slot: &Slot| slot.form == form && (form[1] != LONG || term_at(text, ends, slot.number) == term);
        if let Some(slot) = self.table.find(hash_of, same) {
            return slot.number;
        }
        let number = u32::try_from(ends.len()).expect("fewer terms than tokens in memory");
        text.push_str(term);
        ends.push(text.len());
        self.table.insert_unique(hash_of, Slot { form, number }, |slot| hash(slot.form, hashes));
        number
    }

    /// Lets go what finds the number of a term: none is to be asked for any more.
    pub fn forget_numbers(&mut self) {
        self.table = HashTable::new();
    }

    /// How many terms there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// The term of a number.
    pub fn term(&self, number: u32) -> &str {
        term_at(&self.text, &self.ends, number)
    }

    /// Sorts the terms that have come since the last time among the others.
    pub fn sort(&mut self) -> &Self {
        let (mut order, all) = (std::mem::take(&mut self.order), self.len());
        let known = order.len();
        let numbers = (0..u32::try_from(all).unwrap_or(u32::MAX)).skip(known);
        order.extend(numbers.map(|number| (beginning(self.term(number)), number)));
        // Their first bytes, as a number, tell most terms apart without a look at the terms.
        let by_term =
            |a: &(u64, u32), b: &(u64, u32)| a.0.cmp(&b.0).then_with(|| self.term(a.1).cmp(self.term(b.1)));
        order[known..].sort_unstable_by(by_term);
        if 0 < known && known < all {
            // Both runs ascend, so they are only merged.
            order.sort_by(by_term);
        }
        self.order = order;
        self
    }

    /// The numbers of all terms, in the order of the terms, once they are [sorted](Self::sort).
    pub fn sorted(&self) -> impl Iterator<Item = u32> {
        self.order.iter().map(|(_, number)| *number)
    }

    /// The memory it takes, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        self.text.len() + self.len() * (size_of::<usize>() + 2 * size_of::<Slot>() + size_of::<(u64, u32)>())
    }
}

/// The terms of several vocabularies as one.
#[derive(Debug)]
pub(in crate::shelf) struct Unified {
    /// Each term once, in order, by a vocabulary that has it and its number there.
    pub order: Vec<(u32, u32)>,
    /// For each vocabulary, for each of its numbers, the place in that order; 0 for terms that are not in it.
    pub ranks: Vec<Vec<u32>>,
}

impl Unified {
    /// How many terms there are.
    pub fn len(&self) -> usize {
        self.order.len()
    }
}

/// Puts terms of vocabularies, which are sorted, in one order: those of which there are some tokens, of each term so many.
pub(in crate::shelf) fn unify(vocabularies: &[(&Vocabulary, &[u32])]) -> Unified {
    let used = |(vocabulary, tokens): &(&Vocabulary, &[u32])| -> Vec<u32> {
        vocabulary.sorted().filter(|number| tokens[*number as usize] > 0).collect()
    };
    let sorted: Vec<_> = vocabularies.iter().map(used).collect();
    let mut ranks: Vec<_> = vocabularies.iter().map(|(vocabulary, _)| vec![0; vocabulary.len()]).collect();
    let (mut order, mut next) = (Vec::new(), vec![0; vocabularies.len()]);
    if let [alone] = &sorted[..] {
        for (rank, &number) in (0..).zip(alone) {
            ranks[0][number as usize] = rank;
        }
        order.extend(alone.iter().map(|&number| (0, number)));
        return Unified { order, ranks };
    }
    let here = |next: &[usize], place: usize| {
        let number = sorted[place].get(next[place])?;
        Some((vocabularies[place].0.term(*number), *number))
    };
    while let Some(least) =
        (0..sorted.len()).filter_map(|place| here(&next, place)).map(|(term, _)| term).min()
    {
        let rank = u32::try_from(order.len()).expect("fewer terms than tokens in memory");
        let mut found = None;
        for place in 0..sorted.len() {
            let Some((_, number)) = here(&next, place).filter(|(term, _)| *term == least) else { continue };
            ranks[place][number as usize] = rank;
            next[place] += 1;
            found = found.or(Some((u32::try_from(place).expect("far fewer threads"), number)));
        }
        order.extend(found);
    }
    Unified { order, ranks }
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
        /// Sorted at once, or some of them before the others come.
        #[test]
        fn each_term_has_one_number_and_they_sort(
            terms in prop::collection::vec("[abé]{0,12}", 0..200),
            sorted_before in prop::collection::vec(any::<bool>(), 200),
        ) {
            let mut vocabulary = Vocabulary::default();
            let mut numbers = HashMap::new();
            for (term, sorts) in terms.iter().zip(sorted_before) {
                let next = u32::try_from(numbers.len()).unwrap();
                let expected = *numbers.entry(term).or_insert(next);
                prop_assert_eq!(vocabulary.number(term), expected);
                prop_assert_eq!(vocabulary.term(expected), term);
                if sorts {
                    vocabulary.sort();
                }
            }
            vocabulary.sort();
            let expected: Vec<_> = terms.iter().collect::<BTreeSet<_>>().into_iter().collect();
            prop_assert!(vocabulary.sorted().map(|number| vocabulary.term(number)).eq(expected));
            prop_assert_eq!(vocabulary.len(), numbers.len());
        }

        #[test]
        fn unified_terms_are_those_that_are_used_in_order(
            parts in prop::collection::vec(prop::collection::vec(("[abé]{0,3}", any::<bool>()), 0..40), 1..5),
        ) {
            let mut all = BTreeSet::new();
            let mut vocabularies = Vec::new();
            for terms in &parts {
                let (mut vocabulary, mut tokens) = (Vocabulary::default(), Vec::new());
                for (term, is_used) in terms {
                    let number = vocabulary.number(term) as usize;
                    tokens.resize(vocabulary.len(), 0);
                    tokens[number] += u32::from(*is_used);
                    all.extend(is_used.then_some(term.as_str()));
                }
                vocabulary.sort();
                vocabularies.push((vocabulary, tokens));
            }
            let with_tokens = |(vocabulary, tokens)| (vocabulary, Vec::as_slice(tokens));
            let borrowed: Vec<_> = vocabularies.iter().map(|(known, tokens)| with_tokens((known, tokens))).collect();
            let unified = unify(&borrowed);
            let term = |&(part, number): &(u32, u32)| vocabularies[part as usize].0.term(number);
            prop_assert!(unified.order.iter().map(term).eq(all));
            for ((vocabulary, tokens), ranks) in vocabularies.iter().zip(&unified.ranks) {
                for (number, &rank) in (0..).zip(ranks).filter(|(number, _)| tokens[*number as usize] > 0) {
                    prop_assert_eq!(vocabulary.term(number), term(&unified.order[rank as usize]));
                }
            }
        }
    }
}
