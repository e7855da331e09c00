//! What bounds the score of a block of postings, whatever the weights, k1 and b: for each set of columns that a posting is in,
//! and each column of the set, the pairs of frequency and length that no other posting of the block beats (Ding & Suel, "Faster
//! Top-k Document Retrieval Using Block-Max Indexes", 2011, with pairs in place of a score).
//!
//! Sets are kept apart because a record that has a term in two columns scores by both: without them, a block would be bounded by
//! the best of each column together, though no record has both.
//!
//! What always holds: for every posting of the block there is a set with all of its columns, and in it for each of them a pair
//! with a frequency as high and a length as low. So a score that grows with the frequency and falls with the length is bounded
//! by what the pairs of one of the sets score together.

use crate::schema::ColumnSet;
use crate::wire::{Broken, Reader, put_varint};

/// At most so many pairs are kept for a column: with more, two neighbours become one that beats both.
const MOST_PAIRS: usize = 6;
/// At most so many sets are kept apart; others are taken as one.
const MOST_SETS: usize = 8;

/// The pairs of one column, ascending in both numbers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Frontier {
    pairs: Vec<(u32, u32)>,
}

impl Frontier {
    /// Takes in the frequency and the length of a posting.
    fn add(&mut self, frequency: u32, length: u32) {
        // Pairs ascend, so those with a frequency as high begin here, and the first of them is the shortest.
        let at = self.pairs.partition_point(|(known, _)| *known < frequency);
        if self.pairs.get(at).is_some_and(|(_, known)| *known <= length) {
            return;
        }
        // The new one beats those before it that are no shorter, and an equal frequency at it that is longer.
        let end = at + usize::from(self.pairs.get(at).is_some_and(|(known, _)| *known == frequency));
        let start = self.pairs[..at].partition_point(|(_, known)| *known < length);
        self.pairs.splice(start..end, [(frequency, length)]);
        if self.pairs.len() > 4 * MOST_PAIRS {
            self.shorten();
        }
    }

    /// Whether a posting is bounded.
    fn bounds(&self, frequency: u32, length: u32) -> bool {
        self.pairs.iter().any(|&(f, l)| f >= frequency && l <= length)
    }

    fn shorten(&mut self) {
        while self.pairs.len() > MOST_PAIRS {
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

    /// Appends the pairs: for each a varint with what the length is more than that of the one before, times 4, plus 2 if the
    /// frequency is not 1 more but what the varint behind says, plus 1 if another pair follows.
    fn put(&self, out: &mut Vec<u8>) {
        let mut before = (0, 0);
        for (place, pair) in self.pairs.iter().enumerate() {
            let (frequency, length) = (pair.0 - before.0, pair.1 - before.1);
            let more = u64::from(place + 1 < self.pairs.len());
            put_varint(out, u64::from(length) << 2 | u64::from(frequency != 1) << 1 | more);
            if frequency != 1 {
                put_varint(out, u64::from(frequency));
            }
            before = *pair;
        }
    }
}

/// Gives the pairs that [`Frontier::put`] appended.
#[inline]
fn each_pair(from: &mut Reader<'_>, mut take: impl FnMut(u32, u32)) -> Result<(), Broken> {
    let (mut frequency, mut length) = (0_u32, 0_u32);
    loop {
        let both = from.varint()?;
        let longer = u32::try_from(both >> 2).ok().and_then(|longer| length.checked_add(longer));
        let more = if both & 2 == 0 { 1 } else { from.varint_u32()? };
        length = longer.ok_or(Broken("a bound"))?;
        frequency = frequency.checked_add(more).ok_or(Broken("a bound"))?;
        take(frequency, length);
        if both & 1 == 0 {
            return Ok(());
        }
    }
}

/// The frontiers of a set of columns, in their order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct OfSet {
    set: ColumnSet,
    columns: Vec<Frontier>,
}

impl OfSet {
    /// Nothing, for a set.
    fn new(set: ColumnSet) -> Self {
        Self { set, columns: vec![Frontier::default(); set.iter().count()] }
    }

    /// Makes it a set with these columns as well.
    fn widen(&mut self, more: ColumnSet) {
        let mut wide = Self::new(self.set.or(more));
        for (column, frontier) in self.set.iter().zip(self.columns.drain(..)) {
            *wide.frontier(column) = frontier;
        }
        *self = wide;
    }

    /// The frontier of a column of the set.
    fn frontier(&mut self, column: usize) -> &mut Frontier {
        let place = self.set.iter().take_while(|known| *known < column).count();
        &mut self.columns[place]
    }
}

/// The frontiers of all sets of columns of a block.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Bounds {
    sets: Vec<OfSet>,
}

impl Bounds {
    /// Takes in a posting: its columns with the frequency in each, ascending. `length` tells how long a column of the record is.
    pub fn add(&mut self, posting: &[(u8, u32)], length: impl Fn(usize) -> u32) {
        let set: ColumnSet = posting.iter().map(|(column, _)| usize::from(*column)).collect();
        let place = match self.sets.iter().position(|known| known.set == set) {
            Some(place) => place,
            None if self.sets.len() < MOST_SETS => {
                self.sets.push(OfSet::new(set));
                self.sets.len() - 1
            }
            None => {
                self.sets[MOST_SETS - 1].widen(set);
                MOST_SETS - 1
            }
        };
        for &(column, frequency) in posting {
            self.sets[place].frontier(column.into()).add(frequency, length(column.into()));
        }
    }

    /// Whether a posting is bounded.
    pub fn cover(&self, posting: &[(usize, u32)], length: impl Fn(usize) -> u32) -> bool {
        self.sets.iter().any(|of| {
            posting.iter().all(|&(column, frequency)| {
                let frontier = of.set.iter().zip(&of.columns).find(|(known, _)| *known == column);
                frontier.is_some_and(|(_, frontier)| frontier.bounds(frequency, length(column)))
            })
        })
    }

    /// The greatest tf~ that a posting of a block may have in these columns, by bounds that [`put`](Self::put) wrote, up to the end of the
    /// bytes: `share` is one column's, for a frequency and a length, and grows with the one and falls with the other.
    pub fn most_in(
        from: &mut Reader<'_>,
        columns: ColumnSet,
        share: impl Fn(usize, u32, u32) -> f32,
    ) -> Result<f32, Broken> {
        let mut greatest = 0.0_f32;
        while !from.is_empty() {
            let mut sum = 0.0;
            for column in ColumnSet(from.varint()?).iter() {
                let (mut most, counts) = (0.0_f32, columns.has(column));
                each_pair(from, |frequency, length| {
                    if counts {
                        most = most.max(share(column, frequency, length));
                    }
                })?;
                sum += most;
            }
            greatest = greatest.max(sum);
        }
        Ok(greatest)
    }

    /// Appends the bounds, and empties them: for each set a varint that says its columns as bits, and the pairs of each.
    pub fn put(&mut self, out: &mut Vec<u8>) {
        self.sets.sort_unstable_by_key(|of| of.set.0);
        for of in &mut self.sets {
            put_varint(out, of.set.0);
            for column in &mut of.columns {
                column.shorten();
                column.put(out);
            }
        }
        self.sets.clear();
    }

    /// Reads bounds for so many columns, up to the end of the bytes.
    pub fn get(from: &mut Reader<'_>, columns: usize) -> Result<Self, Broken> {
        let mut bounds = Self::default();
        while !from.is_empty() {
            let set = set(from, columns)?;
            let mut of = OfSet::new(set);
            for column in &mut of.columns {
                each_pair(from, |frequency, length| column.pairs.push((frequency, length)))?;
            }
            bounds.sets.push(of);
        }
        Ok(bounds)
    }
}

/// A set of so many columns.
fn set(from: &mut Reader<'_>, columns: usize) -> Result<ColumnSet, Broken> {
    let set = ColumnSet(from.varint()?);
    if set.iter().any(|column| column >= columns) { Err(Broken("the columns of a bound")) } else { Ok(set) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn share(column: usize, tf: u32, length: u32) -> f32 {
        (column as f32 + 1.5) * tf as f32 / (1.0 + length as f32)
    }

    /// Postings in up to so many columns: column, frequency, length.
    fn postings(columns: u8) -> impl Strategy<Value = Vec<Vec<(u8, u32, u32)>>> {
        let posting = prop::collection::btree_map(0..columns, (1_u32..40, 1_u32..400), 1..4);
        let flat = |posting: std::collections::BTreeMap<u8, (u32, u32)>| {
            posting.into_iter().map(|(column, (tf, length))| (column, tf, length)).collect()
        };
        prop::collection::vec(posting.prop_map(flat), 1..150)
    }

    fn bounds_of(postings: &[Vec<(u8, u32, u32)>]) -> Bounds {
        let mut bounds = Bounds::default();
        for posting in postings {
            let tf: Vec<_> = posting.iter().map(|(column, tf, _)| (*column, *tf)).collect();
            let length = |column: usize| {
                posting.iter().find(|one| usize::from(one.0) == column).map_or(0, |one| one.2)
            };
            bounds.add(&tf, length);
        }
        bounds
    }

    /// tf~ of a posting, column after column.
    fn score(posting: &[(u8, u32, u32)], columns: ColumnSet) -> f32 {
        let counted = posting.iter().filter(|one| columns.has(one.0.into()));
        counted.map(|one| share(one.0.into(), one.1, one.2)).fold(0.0, |sum, share| sum + share)
    }

    impl Bounds {
        /// What [`most_in`](Self::most_in) has to give.
        fn most(&self, columns: ColumnSet, share: impl Fn(usize, u32, u32) -> f32) -> f32 {
            let of_column = |(column, frontier): (usize, &Frontier)| {
                let pairs = frontier.pairs.iter();
                pairs.map(|&(frequency, length)| share(column, frequency, length)).fold(0.0, f32::max)
            };
            let of_set = |of: &OfSet| {
                let each = of.set.iter().zip(&of.columns).filter(|(column, _)| columns.has(*column));
                each.map(of_column).fold(0.0, |sum, most| sum + most)
            };
            self.sets.iter().map(of_set).fold(0.0, f32::max)
        }
    }

    proptest! {
        #[test]
        fn bounds_bound_and_come_back(postings in (1_u8..9).prop_flat_map(postings), bits in 1_u64..256) {
            let mut bounds = bounds_of(&postings);
            let mut bytes = Vec::new();
            bounds.put(&mut bytes);
            prop_assert_eq!(&bounds, &Bounds::default());
            let read = Bounds::get(&mut Reader::new(&bytes), 8).unwrap();
            prop_assert!(read.sets.len() <= MOST_SETS);
            prop_assert!(read.sets.iter().flat_map(|of| &of.columns).all(|column| column.pairs.len() <= MOST_PAIRS));
            let counted = ColumnSet(bits);
            let most = read.most(counted, share);
            prop_assert_eq!(most.to_bits(), Bounds::most_in(&mut Reader::new(&bytes), counted, share).unwrap().to_bits());
            for posting in &postings {
                prop_assert!(score(posting, counted) <= most);
                let tf: Vec<_> = posting.iter().map(|one| (usize::from(one.0), one.1)).collect();
                let length = |column: usize| posting.iter().find(|one| usize::from(one.0) == column).unwrap().2;
                prop_assert!(read.cover(&tf, length));
            }
            prop_assert!(Bounds::get(&mut Reader::new(&bytes[..bytes.len() - 1]), 8).is_err());
        }

        /// With few pairs nothing is given away, be a term in one column of a record or in both.
        #[test]
        fn a_bound_is_what_a_posting_scores(
            postings in prop::collection::vec((1_u8..4, 1_u32..3, 1_u32..6), 1..60),
        ) {
            let of = |set: u8, tf, length| {
                (0..2).filter(|column| set >> column & 1 == 1).map(|column| (column, tf, length)).collect()
            };
            let postings: Vec<Vec<_>> = postings.iter().map(|(set, tf, length)| of(*set, *tf, *length)).collect();
            let best = postings.iter().map(|posting| score(posting, ColumnSet(3))).fold(0.0, f32::max);
            let most = bounds_of(&postings).most(ColumnSet(3), share);
            prop_assert!(best <= most);
            let alone = postings.iter().all(|posting| posting.len() == 1);
            prop_assert!(!alone || best.to_bits() == most.to_bits());
        }

        #[test]
        fn any_bytes_do_no_harm(bytes: Vec<u8>) {
            let _ = Bounds::get(&mut Reader::new(&bytes), 3);
            let _ = Bounds::most_in(&mut Reader::new(&bytes), ColumnSet(7), share);
        }
    }
}
