//! The shape of a posting: one number for which columns the term is in and how often, as most postings are in one column,
//! and once.
//!
//! A shape is the *excess*, the frequencies less 1 added up, times the number of kinds, plus the kind. With up to three
//! text columns there is a kind for each set of them (the set as bits, column 0 lowest, less 1). With more there is one for
//! each column, and a last one that says that the set stands in the *rest* (as a varint), where then the excess is 0.
//!
//! The rest of a block stands behind its shapes. Of a posting in several columns it has, as varints, the frequencies less 1:
//! of all columns but the last if the excess is above 0, and of all if the set stands there.

use crate::schema::ColumnSet;
use crate::wire::{Broken, Reader, put_varint};

/// The shapes of a schema's postings.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Shapes {
    columns: u32,
    kinds: u32,
}

/// More columns have no kind for each set of them.
const COLUMNS_WITH_SETS: u32 = 3;

impl Shapes {
    /// For so many text columns.
    pub fn new(columns: usize) -> Self {
        let columns = u32::try_from(columns).expect("a schema has at most 64 text columns");
        Self { columns, kinds: if columns <= COLUMNS_WITH_SETS { (1 << columns) - 1 } else { columns + 1 } }
    }

    /// The number of kinds: shapes below it have no excess.
    pub fn kinds(self) -> u32 {
        self.kinds
    }

    /// What a shape is made of. Most have an excess of 0 or 1, and dividing takes longer than all else.
    #[inline]
    fn excess_and_kind(self, shape: u32) -> (u32, u32) {
        match shape.checked_sub(self.kinds) {
            None => (0, shape),
            Some(kind) if kind < self.kinds => (1, kind),
            Some(_) => (shape / self.kinds, shape % self.kinds),
        }
    }

    /// The columns of a posting and how often the term is in each, if it has no rest because that is the same in all of them; none for
    /// another.
    #[inline]
    pub fn even(self, shape: u32) -> Option<(ColumnSet, u32)> {
        let (excess, kind) = self.excess_and_kind(shape);
        let set = match self.columns {
            ..=COLUMNS_WITH_SETS => ColumnSet(u64::from(kind) + 1),
            columns if kind < columns => ColumnSet(1 << kind),
            _ => return None,
        };
        (excess == 0 || set.0.is_power_of_two()).then_some((set, excess.checked_add(1)?))
    }

    /// The columns of a posting, if its rest is not needed to tell.
    #[inline]
    pub fn columns(self, shape: u32) -> Option<ColumnSet> {
        let (_, kind) = self.excess_and_kind(shape);
        if self.columns <= COLUMNS_WITH_SETS {
            return Some(ColumnSet(u64::from(kind) + 1));
        }
        (kind < self.columns).then(|| ColumnSet(1 << kind))
    }

    /// The shape of a posting with these columns and frequencies, ascending; appends to the rest.
    pub fn put(self, tf: &[(u8, u32)], rest: &mut Vec<u8>) -> u32 {
        let excess = tf.iter().fold(0_u32, |excess, (_, tf)| excess.saturating_add(tf - 1));
        let set: ColumnSet = tf.iter().map(|(column, _)| usize::from(*column)).collect();
        let kind = match tf {
            _ if self.columns <= COLUMNS_WITH_SETS => u32::try_from(set.0 - 1).unwrap_or(0),
            [(column, _)] if excess < u32::MAX / self.kinds => u32::from(*column),
            _ => {
                put_varint(rest, set.0);
                for (_, tf) in tf {
                    put_varint(rest, u64::from(*tf) - 1);
                }
                return self.columns;
            }
        };
        if excess > 0 {
            for (_, tf) in &tf[..tf.len() - 1] {
                put_varint(rest, u64::from(*tf) - 1);
            }
        }
        excess.saturating_mul(self.kinds).saturating_add(kind)
    }

    /// The columns of a posting and, in `tf`, how often in each.
    pub fn get(self, shape: u32, rest: &mut Reader<'_>, tf: &mut Vec<u32>) -> Result<ColumnSet, Broken> {
        let (mut excess, kind) = self.excess_and_kind(shape);
        tf.clear();
        if self.columns > COLUMNS_WITH_SETS && kind == self.columns {
            let set = ColumnSet(rest.varint()?);
            if set.is_empty() || set.0 >> (self.columns - 1) > 1 {
                return Err(Broken("the columns of a posting"));
            }
            for _ in set.iter() {
                tf.push(plus_one(rest.varint_u32()?)?);
            }
            return Ok(set);
        }
        let set = if self.columns <= COLUMNS_WITH_SETS {
            ColumnSet(u64::from(kind) + 1)
        } else {
            ColumnSet(1 << kind)
        };
        for _ in 1..set.0.count_ones() {
            let more = if excess > 0 { rest.varint_u32()? } else { 0 };
            tf.push(plus_one(more)?);
        }
        let before = tf.iter().try_fold(0_u32, |sum, tf| sum.checked_add(tf - 1));
        excess = before.and_then(|before| excess.checked_sub(before)).ok_or(Broken("a frequency"))?;
        tf.push(plus_one(excess)?);
        Ok(set)
    }
}

fn plus_one(number: u32) -> Result<u32, Broken> {
    number.checked_add(1).ok_or(Broken("a frequency"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        #[test]
        fn a_posting_comes_back(
            columns in 1_usize..9,
            postings in prop::collection::vec(prop::collection::btree_map(0_u8..9, 1_u32..9, 1..5), 0..20),
        ) {
            let shapes = Shapes::new(columns);
            let within = |tf: BTreeMap<u8, u32>| tf.into_iter().filter(|(column, _)| usize::from(*column) < columns).collect();
            let postings: Vec<Vec<(u8, u32)>> = postings.into_iter().map(within).filter(|tf: &Vec<_>| !tf.is_empty()).collect();
            let mut rest = Vec::new();
            let all: Vec<_> = postings.iter().map(|tf| shapes.put(tf, &mut rest)).collect();
            let (mut reader, mut tf) = (Reader::new(&rest), Vec::new());
            for (posting, &shape) in postings.iter().zip(&all) {
                let left = reader.left();
                let set = shapes.get(shape, &mut reader, &mut tf).unwrap();
                let read: Vec<_> = set.iter().map(|column| u8::try_from(column).unwrap()).zip(tf.clone()).collect();
                prop_assert_eq!(&read, posting);
                prop_assert!(shapes.even(shape).is_none() || reader.left() == left);
                let is_even = posting.len() == 1 || columns < 4 && posting.iter().all(|(_, tf)| *tf == 1);
                prop_assert_eq!(shapes.even(shape), is_even.then(|| (set, posting[0].1)));
                prop_assert!(posting.iter().any(|(_, tf)| *tf > 1) || shape < shapes.kinds());
            }
            prop_assert!(reader.is_empty());
        }

        #[test]
        fn any_bytes_do_no_harm(columns in 1_usize..65, shape: u32, rest: Vec<u8>) {
            let mut tf = Vec::new();
            if let Ok(set) = Shapes::new(columns).get(shape, &mut Reader::new(&rest), &mut tf) {
                prop_assert_eq!(set.iter().count(), tf.len());
                prop_assert!(set.iter().all(|column| column < columns) && tf.iter().all(|tf| *tf > 0));
            }
        }
    }

    #[test]
    fn the_largest_frequencies_come_back() {
        for columns in [1, 3, 4, 64] {
            let shapes = Shapes::new(columns);
            let posting = [(0, 1 << 26)];
            let mut rest = Vec::new();
            let shape = shapes.put(&posting, &mut rest);
            let mut tf = Vec::new();
            shapes.get(shape, &mut Reader::new(&rest), &mut tf).unwrap();
            assert_eq!(tf, [1 << 26]);
        }
    }
}
