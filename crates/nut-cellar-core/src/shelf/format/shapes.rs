//! The shape of a posting: one number for which form of its class the record has, in which columns, and how often, as most
//! postings are of one form, in one column, and once.
//!
//! What stands above the bits of the form is the *excess*, the frequencies less 1 added up, times the number of kinds, plus the kind.
//! With up to three text columns there is a kind for each set of them (the set as bits, column 0 lowest, less 1). With more there is one
//! for each column, and a last one that says that the set stands in the *rest* (as a varint), where then the excess is 0. A list of one
//! form has no bits for it; one of two or three has 2, and one of more 3. All of them set say that the forms stand in the rest (see
//! `forms`); otherwise they are the number of the form.
//!
//! The rest of a block stands behind its shapes. Of a posting in several columns it has, as varints, the frequencies less 1:
//! of all columns but the last if the excess is above 0, and of all if the set stands there. What it has of forms comes behind that.

use crate::schema::ColumnSet;
use crate::wire::{Broken, Reader, put_varint};

/// The shapes of a schema's postings.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Shapes {
    columns: u32,
    /// Kinds of columns.
    kinds: u32,
    /// How many bits say the form.
    form_bits: u32,
}

/// More columns have no kind for each set of them.
const COLUMNS_WITH_SETS: u32 = 3;
/// The most bits that say a form.
const MOST_FORM_BITS: u32 = 3;
/// What says a form is below this.
pub(crate) const FORM_CODES: usize = 1 << MOST_FORM_BITS;
/// The forms below this one are told by a shape, where there are so many.
pub(crate) const TOLD_FORMS: u32 = (1 << MOST_FORM_BITS) - 1;

impl Shapes {
    /// For so many text columns, in a list of so many forms.
    pub fn new(columns: usize, forms: u32) -> Self {
        let columns = u32::try_from(columns).expect("a schema has at most 64 text columns");
        let kinds = if columns <= COLUMNS_WITH_SETS { (1 << columns) - 1 } else { columns + 1 };
        let form_bits = match forms {
            ..=1 => 0,
            2..=3 => 2,
            _ => MOST_FORM_BITS,
        };
        Self { columns, kinds, form_bits }
    }

    /// How many shapes have no excess: all others are greater.
    pub fn kinds(self) -> u32 {
        self.kinds << self.form_bits
    }

    /// What says the form, as a number below [`FORM_CODES`]; the columns and frequencies, as if there were one form.
    #[inline]
    pub fn parts(self, shape: u32) -> (u32, u32) {
        (shape & self.several(), shape >> self.form_bits)
    }

    /// What says that the forms stand in the rest; 0 where there is only one.
    pub fn several(self) -> u32 {
        (1 << self.form_bits) - 1
    }

    /// The form, if the shape tells it.
    #[inline]
    pub fn form(self, shape: u32) -> Option<u32> {
        let (code, _) = self.parts(shape);
        (code < self.several() || self.form_bits == 0).then_some(code)
    }

    /// The shape of a posting whose columns and frequencies are told by `shape`, of one form or of those that stand in the rest.
    pub fn with_form(self, shape: u32, form: Option<u32>) -> u32 {
        let code = form.filter(|form| *form < self.several()).unwrap_or(self.several());
        shape << self.form_bits | code
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

    /// The columns of a posting and how often the term is in each, of all forms together, if that is the same in all of them and no rest
    /// says it.
    #[inline]
    pub fn even(self, shape: u32) -> Option<(ColumnSet, u32)> {
        let (excess, kind) = self.excess_and_kind(shape >> self.form_bits);
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
        let (_, kind) = self.excess_and_kind(shape >> self.form_bits);
        if self.columns <= COLUMNS_WITH_SETS {
            return Some(ColumnSet(u64::from(kind) + 1));
        }
        (kind < self.columns).then(|| ColumnSet(1 << kind))
    }

    /// The shape of a posting with these columns and frequencies, ascending, without its form; appends to the rest.
    pub fn put(self, tf: &[(u8, u32)], rest: &mut Vec<u8>) -> u32 {
        let excess = tf.iter().fold(0_u32, |excess, (_, tf)| excess.saturating_add(tf - 1));
        let set: ColumnSet = tf.iter().map(|(column, _)| usize::from(*column)).collect();
        let kind = match tf {
            _ if self.columns <= COLUMNS_WITH_SETS => u32::try_from(set.0 - 1).unwrap_or(0),
            [(column, _)] if excess < u32::MAX / self.kinds() => u32::from(*column),
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

    /// The columns of a posting, and how often its terms are in one of them at most, if its rest is not needed to tell.
    #[inline]
    pub fn most(self, shape: u32) -> Option<(ColumnSet, u32)> {
        let (excess, _) = self.excess_and_kind(shape >> self.form_bits);
        Some((self.columns(shape)?, excess.checked_add(1)?))
    }

    /// Passes over the columns and frequencies in the rest of a posting; gives how many occurrences it has.
    pub fn pass(self, shape: u32, rest: &mut Reader<'_>) -> Result<u64, Broken> {
        let (excess, _) = self.excess_and_kind(shape >> self.form_bits);
        let Some(columns) = self.columns(shape) else {
            let columns = ColumnSet(rest.varint()?).0.count_ones();
            return (0..columns)
                .try_fold(0_u64, |sum, _| Ok(sum.saturating_add(rest.varint()?).saturating_add(1)));
        };
        let columns = columns.0.count_ones();
        for _ in 1..if excess > 0 { columns } else { 1 } {
            rest.varint()?;
        }
        Ok(u64::from(excess) + u64::from(columns))
    }

    /// The columns of a posting and, in `tf`, how often in each, of all forms together.
    pub fn get(self, shape: u32, rest: &mut Reader<'_>, tf: &mut Vec<u32>) -> Result<ColumnSet, Broken> {
        let (mut excess, kind) = self.excess_and_kind(shape >> self.form_bits);
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
            forms in 1_u32..9,
            postings in prop::collection::vec(prop::collection::btree_map(0_u8..9, 1_u32..9, 1..5), 0..20),
        ) {
            let shapes = Shapes::new(columns, forms);
            let within = |tf: BTreeMap<u8, u32>| tf.into_iter().filter(|(column, _)| usize::from(*column) < columns).collect();
            let postings: Vec<Vec<(u8, u32)>> = postings.into_iter().map(within).filter(|tf: &Vec<_>| !tf.is_empty()).collect();
            let mut rest = Vec::new();
            let put = |(place, tf): (u32, &Vec<_>)| {
                shapes.with_form(shapes.put(tf, &mut rest), (place % 3 > 0).then_some(place % forms))
            };
            let all: Vec<_> = (0..).zip(&postings).map(put).collect();
            let (mut reader, mut tf) = (Reader::new(&rest), Vec::new());
            for (place, (posting, &shape)) in (0..).zip(postings.iter().zip(&all)) {
                let told = (place % 3 > 0).then_some(place % forms).filter(|form| *form < shapes.several());
                prop_assert_eq!(shapes.form(shape), if forms == 1 { Some(0) } else { told });
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
            let mut reader = Reader::new(&rest);
            for (posting, &shape) in postings.iter().zip(&all) {
                let occurrences: u32 = posting.iter().map(|(_, tf)| *tf).sum();
                prop_assert_eq!(shapes.pass(shape, &mut reader), Ok(u64::from(occurrences)));
                if let Some((set, most)) = shapes.most(shape) {
                    prop_assert!(posting.iter().all(|(column, tf)| set.has((*column).into()) && *tf <= most));
                }
            }
            prop_assert!(reader.is_empty());
        }

        #[test]
        fn any_bytes_do_no_harm(columns in 1_usize..65, forms in 1_u32..9, shape: u32, rest: Vec<u8>) {
            let mut tf = Vec::new();
            if let Ok(set) = Shapes::new(columns, forms).get(shape, &mut Reader::new(&rest), &mut tf) {
                prop_assert_eq!(set.iter().count(), tf.len());
                prop_assert!(set.iter().all(|column| column < columns) && tf.iter().all(|tf| *tf > 0));
            }
        }
    }

    #[test]
    fn the_largest_frequencies_come_back() {
        for (columns, forms) in [(1, 1), (3, 9), (4, 3), (64, 9)] {
            let shapes = Shapes::new(columns, forms);
            let posting = [(0, 1 << 26)];
            let mut rest = Vec::new();
            let shape = shapes.with_form(shapes.put(&posting, &mut rest), Some(0));
            let mut tf = Vec::new();
            shapes.get(shape, &mut Reader::new(&rest), &mut tf).unwrap();
            assert_eq!(tf, [1 << 26]);
        }
    }
}
