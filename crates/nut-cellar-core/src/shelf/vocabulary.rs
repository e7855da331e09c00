//! The distinct terms of the records that are being gathered, numbered as they come.

use super::threads::in_threads;
use crate::wire::ends;
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

/// A term of up to 16 bytes, as most are, stands in the table itself: so finding one touches one place in memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Form {
    /// The length, and the first and the last eight bytes, which may overlap, or what there is of them.
    Short(u8, u64, u64),
    /// The hash of a longer term.
    Long(u64),
}

#[derive(Clone, Copy, Debug)]
struct Slot {
    form: Form,
    number: u32,
}

impl Form {
    fn of(term: &[u8], hashes: &RandomState) -> Self {
        match u8::try_from(term.len()) {
            Ok(short @ 0..=16) => {
                let [first, last] = ends(term);
                Self::Short(short, first, last)
            }
            _ => Self::Long(hashes.hash_one(term)),
        }
    }

    fn hash(self, hashes: &RandomState) -> u64 {
        match self {
            Self::Short(length, first, last) => hashes.hash_one((first, last ^ u64::from(length) << 56)),
            Self::Long(hash) => hash,
        }
    }
}

impl Vocabulary {
    /// Without terms, and with room for so many.
    pub fn with_room_for(terms: usize) -> Self {
        Self { ends: Vec::with_capacity(terms), table: HashTable::with_capacity(terms), ..Self::default() }
    }

    /// The number of a term; a new one if it was not seen before.
    pub fn number(&mut self, term: &str) -> u32 {
        let form = Form::of(term.as_bytes(), &self.hashes);
        let (text, ends, hashes) = (&mut self.text, &mut self.ends, &self.hashes);
        let hash = form.hash(hashes);
        let same = |slot: &Slot| {
            slot.form == form && (matches!(form, Form::Short(..)) || term_at(text, ends, slot.number) == term)
        };
        if let Some(slot) = self.table.find(hash, same) {
            return slot.number;
        }
        let number = u32::try_from(ends.len()).expect("fewer terms than tokens in memory");
        text.push_str(term);
        ends.push(text.len());
        self.table.insert_unique(hash, Slot { form, number }, |slot| slot.form.hash(hashes));
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

/// The terms of several vocabularies as one.
#[derive(Debug)]
pub(super) struct Unified {
    /// Each term once, in order, by a vocabulary that has it and its number there.
    pub order: Vec<(u32, u32)>,
    /// For each vocabulary, for each of its numbers, the place in that order.
    pub ranks: Vec<Vec<u32>>,
}

impl Unified {
    /// How many terms there are.
    pub fn len(&self) -> usize {
        self.order.len()
    }
}

/// Puts the terms of vocabularies in one order.
pub(super) fn unify(vocabularies: &[&Vocabulary]) -> Unified {
    let sorted = in_threads(vocabularies.iter(), |vocabulary| vocabulary.sorted());
    let mut ranks: Vec<_> = vocabularies.iter().map(|vocabulary| vec![0; vocabulary.len()]).collect();
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
        Some((vocabularies[place].term(*number), *number))
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

        #[test]
        fn unified_terms_are_those_of_all_in_order(parts in prop::collection::vec(prop::collection::vec("[abé]{0,3}", 0..40), 1..5)) {
            let vocabularies: Vec<_> = parts
                .iter()
                .map(|terms| {
                    let mut vocabulary = Vocabulary::default();
                    for term in terms {
                        vocabulary.number(term);
                    }
                    vocabulary
                })
                .collect();
            let unified = unify(&vocabularies.iter().collect::<Vec<_>>());
            let term = |&(part, number): &(u32, u32)| vocabularies[part as usize].term(number);
            let expected: BTreeSet<_> = parts.iter().flatten().map(String::as_str).collect();
            prop_assert!(unified.order.iter().map(term).eq(expected));
            for (vocabulary, ranks) in vocabularies.iter().zip(&unified.ranks) {
                for (number, &rank) in (0..).zip(ranks) {
                    prop_assert_eq!(vocabulary.term(number), term(&unified.order[rank as usize]));
                }
            }
        }
    }
}
