//! What bounds the score of a block of postings, whatever the weights, k1 and b: for each column the pairs of frequency
//! and length that no other posting of the block beats (Ding & Suel, "Faster Top-k Document Retrieval Using Block-Max
//! Indexes", 2011, with pairs in place of a score).
//!
//! What always holds: for every posting of the block and each of its columns there is a pair with a frequency as high and
//! a length as low. So a score that grows with the frequency and falls with the length is bounded by what the pairs score.

use crate::schema::ColumnSet;
use crate::wire::{Broken, Reader, put_varint};

/// At most so many pairs are kept for a column: with more, two neighbours become one that beats both.
const MOST: usize = 6;

/// The pairs of one column, ascending in both numbers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Frontier {
    pairs: Vec<(u32, u32)>,
}

impl Frontier {
    /// Takes in the frequency and the length of a posting.
    pub fn add(&mut self, frequency: u32, length: u32) {
        // Pairs ascend, so those with a frequency as high begin here, and the first of them is the shortest.
        let at = self.pairs.partition_point(|(known, _)| *known < frequency);
        if self.pairs.get(at).is_some_and(|(_, known)| *known <= length) {
            return;
        }
        // The new one beats those before it that are no shorter, and an equal frequency at it that is longer.
        let end = at + usize::from(self.pairs.get(at).is_some_and(|(known, _)| *known == frequency));
        let start = self.pairs[..at].partition_point(|(_, known)| *known < length);
        self.pairs.splice(start..end, [(frequency, length)]);
        if self.pairs.len() > 4 * MOST {
            self.shorten();
        }
    }

    /// Whether a posting is bounded.
    pub fn bounds(&self, frequency: u32, length: u32) -> bool {
        self.pairs.iter().any(|&(f, l)| f >= frequency && l <= length)
    }

    fn shorten(&mut self) {
        while self.pairs.len() > MOST {
            // What joining two neighbours gives away, about: the ratio of frequency per length.
            let loss = |place: &usize| {
                let ((low, short), (high, long)) = (self.pairs[*place], self.pairs[place + 1]);
                u64::from(high - low) * u64::from(long - short) * 1_000
                    / (u64::from(high) * u64::from(long) + 1)
            };
            let place = (0..self.pairs.len() - 1).min_by_key(loss).unwrap_or(0);
            let joined = (self.pairs[place + 1].0, self.pairs[place].1);
            self.pairs.splice(place..=place + 1, [joined]);
        }
    }
}

/// The frontiers of all columns of a block.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Bounds {
    columns: Vec<Frontier>,
}

impl Bounds {
    /// Bounds of nothing, for so many columns.
    pub fn new(columns: usize) -> Self {
        Self { columns: vec![Frontier::default(); columns] }
    }

    /// Takes in a posting's frequency in a column that is so long.
    pub fn add(&mut self, column: usize, frequency: u32, length: u32) {
        self.columns[column].add(frequency, length);
    }

    /// The frontier of a column.
    pub fn column(&self, column: usize) -> &Frontier {
        &self.columns[column]
    }

    /// The greatest tf~ that a posting of the block may have in these columns: `share` is one column's, for a frequency and a
    /// length, and grows with the one and falls with the other.
    pub fn most(&self, columns: ColumnSet, share: impl Fn(usize, u32, u32) -> f32) -> f32 {
        let of_column = |column: usize| {
            let pairs = self.columns.get(column).map_or(&[][..], |frontier| &frontier.pairs);
            pairs.iter().map(|&(frequency, length)| share(column, frequency, length)).fold(0.0, f32::max)
        };
        columns.iter().map(of_column).sum()
    }

    /// What [`most`](Self::most) gives of bounds that [`put`](Self::put) wrote.
    pub fn most_in(
        from: &mut Reader<'_>,
        columns: ColumnSet,
        share: impl Fn(usize, u32, u32) -> f32,
    ) -> Result<f32, Broken> {
        let mut sum = 0.0;
        for place in ColumnSet(from.varint()?).iter() {
            let (mut frequency, mut length, mut most) = (0_u32, 0_u32, 0.0_f32);
            for _ in 0..from.size()? {
                frequency = frequency.checked_add(from.varint_u32()?).ok_or(Broken("a bound"))?;
                length = length.checked_add(from.varint_u32()?).ok_or(Broken("a bound"))?;
                if columns.has(place) {
                    most = most.max(share(place, frequency, length));
                }
            }
            sum += most;
        }
        Ok(sum)
    }

    /// Appends the bounds, and empties them: the set of columns, then for each the number of pairs and the pairs, each
    /// number less the one before.
    pub fn put(&mut self, out: &mut Vec<u8>) {
        let there = |(_, column): &(usize, &Frontier)| !column.pairs.is_empty();
        let set: ColumnSet = self.columns.iter().enumerate().filter(there).map(|(place, _)| place).collect();
        put_varint(out, set.0);
        for place in set.iter() {
            let column = &mut self.columns[place];
            column.shorten();
            put_varint(out, column.pairs.len() as u64);
            let mut before = (0, 0);
            for pair in column.pairs.drain(..) {
                put_varint(out, u64::from(pair.0 - before.0));
                put_varint(out, u64::from(pair.1 - before.1));
                before = pair;
            }
        }
    }

    /// Reads bounds for so many columns.
    pub fn get(from: &mut Reader<'_>, columns: usize) -> Result<Self, Broken> {
        let mut bounds = Self::new(columns);
        for place in ColumnSet(from.varint()?).iter() {
            let column = bounds.columns.get_mut(place).ok_or(Broken("the columns of a bound"))?;
            let mut before = (0_u32, 0_u32);
            for _ in 0..from.size()? {
                let frequency = before.0.checked_add(from.varint_u32()?).ok_or(Broken("a bound"))?;
                let length = before.1.checked_add(from.varint_u32()?).ok_or(Broken("a bound"))?;
                before = (frequency, length);
                column.pairs.push(before);
            }
        }
        Ok(bounds)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bounds_bound_come_back_and_are_no_higher_than_they_need_be(
            postings in prop::collection::vec((0_usize..3, 1_u32..40, 1_u32..400), 0..150),
        ) {
            let mut bounds = Bounds::new(3);
            for &(column, frequency, length) in &postings {
                bounds.add(column, frequency, length);
            }
            let mut bytes = Vec::new();
            bounds.put(&mut bytes);
            let mut reader = Reader::new(&bytes);
            let read = Bounds::get(&mut reader, 3).unwrap();
            let share = |column: usize, tf: u32, length: u32| (column as f32 + 1.5) * tf as f32 / (1.0 + length as f32);
            for set in [ColumnSet(5), ColumnSet(7), ColumnSet(2)] {
                let most = Bounds::most_in(&mut Reader::new(&bytes), set, share).unwrap();
                prop_assert_eq!(most.to_bits(), read.most(set, share).to_bits());
            }
            prop_assert!(reader.is_empty());
            prop_assert!(bounds.columns.iter().all(|column| column.pairs.is_empty()));
            for &(column, frequency, length) in &postings {
                prop_assert!(read.column(column).bounds(frequency, length));
            }
            for column in 0..3 {
                let pairs = &read.column(column).pairs;
                prop_assert!(pairs.len() <= MOST && pairs.is_sorted());
                let of_column = || postings.iter().filter(|(known, _, _)| *known == column);
                prop_assert_eq!(pairs.last().map(|pair| pair.0), of_column().map(|posting| posting.1).max());
                prop_assert_eq!(pairs.first().map(|pair| pair.1), of_column().map(|posting| posting.2).min());
            }
        }

        #[test]
        fn any_bytes_do_no_harm(bytes: Vec<u8>) {
            let _ = Bounds::get(&mut Reader::new(&bytes), 3);
        }
    }
}
