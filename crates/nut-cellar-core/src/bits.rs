//! Sets of records, as bits.

use std::ops::Range;

/// A set of numbers below a fixed size.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Bits {
    words: Vec<u64>,
    size: usize,
}

impl Bits {
    /// None of `size` numbers.
    pub fn new(size: usize) -> Self {
        Self { words: vec![0; size.div_ceil(64)], size }
    }

    /// Makes it the empty set again, of `size` numbers.
    pub fn reset(&mut self, size: usize) {
        self.words.clear();
        self.words.resize(size.div_ceil(64), 0);
        self.size = size;
    }

    /// Its words of 64 numbers, the lowest bit first.
    pub fn words(&self) -> &[u64] {
        &self.words
    }

    pub fn set(&mut self, number: usize) {
        self.words[number / 64] |= 1 << (number % 64);
    }

    /// Puts all of these numbers in.
    pub fn set_all(&mut self, numbers: impl Iterator<Item = usize>) {
        let words = self.words.as_mut_slice();
        numbers.for_each(|number| words[number / 64] |= 1 << (number % 64));
    }

    /// Puts a number in, if it is wanted; without a branch on that.
    pub fn put(&mut self, number: usize, is_wanted: bool) {
        self.words[number / 64] |= u64::from(is_wanted) << (number % 64);
    }

    /// Whether a number is in it, of any size.
    pub fn has(&self, number: usize) -> bool {
        self.words.get(number / 64).is_some_and(|word| word >> (number % 64) & 1 == 1)
    }

    /// Adds the numbers of a range.
    pub fn set_range(&mut self, range: Range<usize>) {
        let mut at = range.start;
        while at < range.end {
            let end = range.end.min((at / 64 + 1) * 64);
            let count = end - at;
            let ones = if count == 64 { u64::MAX } else { (1 << count) - 1 };
            self.words[at / 64] |= ones << (at % 64);
            at = end;
        }
    }

    /// Keeps what is in the other, too.
    pub fn keep(&mut self, other: &Self) {
        self.words.iter_mut().zip(&other.words).for_each(|(word, other)| *word &= other);
    }

    /// Adds what is in the other.
    pub fn add(&mut self, other: &Self) {
        self.words.iter_mut().zip(&other.words).for_each(|(word, other)| *word |= other);
    }

    /// Adds what is in a part of another that begins at a number and is as large as this.
    pub fn add_part(&mut self, other: &Self, start: usize) {
        for (word, other) in self.words.iter_mut().zip(other.words_from(start)) {
            *word |= other;
        }
        self.cut();
    }

    /// Takes out what is in a part of another that begins at a number and is as large as this.
    pub fn take_out_part(&mut self, other: &Self, start: usize) {
        for (word, other) in self.words.iter_mut().zip(other.words_from(start)) {
            *word &= !other;
        }
    }

    /// Its words if it began at a number.
    fn words_from(&self, start: usize) -> impl Iterator<Item = u64> {
        let (skipped, shift) = (start / 64, start % 64);
        let word = move |place: usize| self.words.get(place).copied().unwrap_or(0);
        (skipped..).map(move |place| {
            let high = if shift == 0 { 0 } else { word(place + 1) << (64 - shift) };
            word(place) >> shift | high
        })
    }

    /// Makes it a set of larger numbers, too, if it is not.
    pub fn grow(&mut self, size: usize) {
        if size > self.size {
            self.words.resize(size.div_ceil(64), 0);
            self.size = size;
        }
    }

    /// Takes out what is in it and puts in what is not.
    pub fn turn(&mut self) {
        self.words.iter_mut().for_each(|word| *word = !*word);
        self.cut();
    }

    /// Takes out what lies above its size.
    fn cut(&mut self) {
        if !self.size.is_multiple_of(64)
            && let Some(last) = self.words.last_mut()
        {
            *last &= (1 << (self.size % 64)) - 1;
        }
    }

    pub fn is_empty(&self) -> bool {
        self.words.iter().all(|word| *word == 0)
    }

    pub fn count(&self) -> u64 {
        self.words.iter().map(|word| u64::from(word.count_ones())).sum()
    }

    /// How many numbers are in both.
    pub fn count_both(&self, other: &Self) -> u64 {
        let words = self.words.iter().zip(&other.words);
        words.map(|(word, other)| u64::from((word & other).count_ones())).sum()
    }

    /// The numbers, ascending.
    pub fn iter(&self) -> impl Iterator<Item = usize> {
        self.words
            .iter()
            .enumerate()
            .flat_map(|(place, word)| each_bit(*word).map(move |bit| place * 64 + bit))
    }

    /// The words that hold the numbers of a range, which is not empty and in the set's size.
    pub fn words_of(&self, range: &Range<u32>) -> &[u64] {
        &self.words[range.start as usize / 64..=(range.end - 1) as usize / 64]
    }

    /// The first number from one on.
    pub fn next(&self, from: usize) -> Option<usize> {
        let first = self.words.get(from / 64)? & u64::MAX << (from % 64);
        if first != 0 {
            return Some(from / 64 * 64 + first.trailing_zeros() as usize);
        }
        let place = (from / 64 + 1..self.words.len()).find(|place| self.words[*place] != 0)?;
        Some(place * 64 + self.words[place].trailing_zeros() as usize)
    }
}

/// The places of the bits of a word that are set, ascending.
#[inline]
pub(crate) fn each_bit(mut word: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let bit = word.trailing_zeros() as usize;
        (word != 0).then(|| {
            word &= word - 1;
            bit
        })
    })
}

/// Gives `take` the numbers of a range whose bits are set in words of a set, of which the first holds the start of the range, ascending.
#[inline]
pub(crate) fn each_in(words: impl Iterator<Item = u64>, range: &Range<u32>, mut take: impl FnMut(u32)) {
    let mut first = range.start / 64 * 64;
    let mut inside = u64::MAX << (range.start % 64);
    for word in words {
        let mut rest = word & inside;
        // Most words have none, and are passed over by one look.
        if rest != 0 {
            match range.end.saturating_sub(first) {
                0 => break,
                left @ ..64 => rest &= (1 << left) - 1,
                _ => {}
            }
            while rest != 0 {
                take(first + rest.trailing_zeros());
                rest &= rest - 1;
            }
        }
        first += 64;
        inside = u64::MAX;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn bits_are_a_set(
            size in 1_usize..300,
            numbers in prop::collection::vec(0_usize..300, 0..60),
            others in prop::collection::vec(0_usize..300, 0..60),
            range in (0_usize..300, 0_usize..300),
        ) {
            let (mut bits, mut other) = (Bits::new(size), Bits::new(size));
            let mut set: BTreeSet<_> = numbers.into_iter().filter(|number| *number < size).collect();
            let others: BTreeSet<_> = others.into_iter().filter(|number| *number < size).collect();
            for number in &set {
                bits.set(*number);
            }
            other.set_all(others.iter().copied());
            let range = range.0.min(size)..range.1.min(size);
            if range.start < range.end {
                bits.set_range(range.clone());
                set.extend(range);
            }
            prop_assert!(bits.iter().eq(set.iter().copied()));
            prop_assert_eq!((bits.count(), bits.is_empty()), (set.len() as u64, set.is_empty()));
            for from in 0..size {
                prop_assert_eq!(bits.next(from), set.range(from..).next().copied());
                prop_assert_eq!(bits.has(from), set.contains(&from));
            }
            let mut both = bits.clone();
            both.keep(&other);
            prop_assert!(both.iter().eq(set.intersection(&others).copied()));
            let mut either = bits.clone();
            either.add(&other);
            prop_assert!(either.iter().eq(set.union(&others).copied()));
            for start in [0, 1, 64, size / 2] {
                let mut part = Bits::new(size - start.min(size));
                part.add_part(&bits, start);
                prop_assert!(part.iter().eq(set.iter().filter_map(|number| number.checked_sub(start))));
            }
            bits.turn();
            prop_assert!(bits.iter().eq((0..size).filter(|number| !set.contains(number))));
            bits.reset(size);
            prop_assert!(bits.is_empty());
        }
    }
}
