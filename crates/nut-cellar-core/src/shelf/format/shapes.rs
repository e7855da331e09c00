//! The shape of a posting: one number for which form of its class the record has, in which columns, and how often, as most
//! postings are of one form, in one column, and once.
//!
//! What stands above the bits of the form is the *excess*, the frequencies less 1 added up, times the number of kinds, plus the kind.
//! With up to three text columns there is a kind for each set of them that may be (see `text_columns`). With more there is one
//! for each column, and a last one that says that the set stands in the *rest* (as a varint), where then the excess is 0. A list of one
//! form has no bits for it; one of two or three has 2, and one of more 3. All of them set say that the forms stand in the rest (see
//! `forms`); otherwise they are the number of the form.
//!
//! The rest of a block stands behind its shapes. Of a posting in several columns it has, as varints, the frequencies less 1:
//! of all columns but the last if the excess is above 0, and of all if the set stands there. What it has of forms comes behind that.
//!
//! *Occurrences* are those in columns that have positions of their own: a beginning has its whole's.

use crate::schema::ColumnSet;
use crate::shelf::format::text_columns::TextColumns;
use crate::wire::{Broken, Reader, put_varint};
use std::sync::Arc;

/// The shapes of a list's postings.
#[derive(Clone, Debug)]
pub(crate) struct Shapes {
    columns: Arc<TextColumns>,
    /// Kinds of columns.
    kinds: u32,
    /// How many bits say the form.
    form_bits: u32,
}

/// The most bits that say a form.
const MOST_FORM_BITS: u32 = 3;
/// What says a form is below this.
pub(crate) const FORM_CODES: usize = 1 << MOST_FORM_BITS;
/// The forms below this one are told by a shape, where there are so many.
pub(crate) const TOLD_FORMS: u32 = (1 << MOST_FORM_BITS) - 1;

impl Shapes {
    /// For these text columns, in a list of so many forms.
    pub fn new(columns: &Arc<TextColumns>, forms: u32) -> Self {
        let kinds = u32::try_from(columns.kinds()).expect("a schema has at most 64 text columns");
        let mut shapes = Self { columns: Arc::clone(columns), kinds, form_bits: 0 };
        shapes.set_forms(forms);
        shapes
    }

    /// The same in a list of so many forms.
    pub fn set_forms(&mut self, forms: u32) {
        self.form_bits = match forms {
            ..=1 => 0,
            2..=3 => 2,
            _ => MOST_FORM_BITS,
        };
    }

    /// How many shapes have no excess: all others are greater.
    pub fn kinds(&self) -> u32 {
        self.kinds << self.form_bits
    }

    /// The text columns.
    pub fn text_columns(&self) -> &TextColumns {
        &self.columns
    }

    /// What says the form, as a number below [`FORM_CODES`]; the columns and frequencies, as if there were one form.
    #[inline]
    pub fn parts(&self, shape: u32) -> (u32, u32) {
        (shape & self.several(), shape >> self.form_bits)
    }

    /// What says that the forms stand in the rest; 0 where there is only one.
    pub fn several(&self) -> u32 {
        (1 << self.form_bits) - 1
    }

    /// The form, if the shape tells it.
    #[inline]
    pub fn form(&self, shape: u32) -> Option<u32> {
        let (code, _) = self.parts(shape);
        (code < self.several() || self.form_bits == 0).then_some(code)
    }

    /// The shape of a posting whose columns and frequencies are told by `shape`, of one form or of those that stand in the rest.
    pub fn with_form(&self, shape: u32, form: Option<u32>) -> u32 {
        let code = form.filter(|form| *form < self.several()).unwrap_or(self.several());
        shape << self.form_bits | code
    }

    /// What a shape is made of: the excess, and the kind. Most have an excess of 0 or 1, and dividing takes longer than all else.
    #[inline]
    fn excess_and_kind(&self, shape: u32) -> (u32, u32) {
        let shape = shape >> self.form_bits;
        match shape.checked_sub(self.kinds) {
            None => (0, shape),
            Some(kind) if kind < self.kinds => (1, kind),
            Some(_) => (shape / self.kinds, shape % self.kinds),
        }
    }

    /// The columns of a posting and how often the term is in each, of all forms together, if that is the same in all of them and no rest
    /// says it.
    #[inline]
    pub fn even(&self, shape: u32) -> Option<(ColumnSet, u32)> {
        let (excess, kind) = self.excess_and_kind(shape);
        let set = self.columns.set(kind)?;
        (excess == 0 || set.0.is_power_of_two()).then_some((set, excess.checked_add(1)?))
    }

    /// How many occurrences a posting has that is in these columns so often each.
    #[inline]
    pub fn occurrences(&self, set: ColumnSet, tf: u32) -> u64 {
        u64::from(tf) * u64::from(set.both(self.columns.own()).0.count_ones())
    }

    /// The columns of a posting, if its rest is not needed to tell.
    #[inline]
    pub fn columns(&self, shape: u32) -> Option<ColumnSet> {
        self.columns.set(self.excess_and_kind(shape).1)
    }

    /// The shape of a posting with these columns and frequencies, ascending, without its form; appends to the rest.
    pub fn put(&self, tf: &[(u8, u32)], rest: &mut Vec<u8>) -> u32 {
        let excess = tf.iter().fold(0_u32, |excess, (_, tf)| excess.saturating_add(tf - 1));
        let set: ColumnSet = tf.iter().map(|(column, _)| usize::from(*column)).collect();
        let kind = u32::try_from(self.columns.kind(set)).unwrap_or(u32::MAX);
        let fits = excess < u32::MAX / self.kinds() || self.columns.all_have_kinds();
        let has_kind = fits && self.columns.set(kind).is_some();
        let in_rest = if has_kind {
            if excess > 0 { &tf[..tf.len() - 1] } else { &[] }
        } else {
            put_varint(rest, set.0);
            tf
        };
        for (_, tf) in in_rest {
            put_varint(rest, u64::from(*tf) - 1);
        }
        if has_kind { excess.saturating_mul(self.kinds).saturating_add(kind) } else { self.kinds - 1 }
    }

    /// The columns of a posting, and how often its terms are in one of them at most, if its rest is not needed to tell.
    #[inline]
    pub fn most(&self, shape: u32) -> Option<(ColumnSet, u32)> {
        let (excess, _) = self.excess_and_kind(shape);
        Some((self.columns(shape)?, excess.checked_add(1)?))
    }

    /// The columns of a posting and, in `tf`, how often in each, of all forms together; gives how many occurrences it has, too.
    pub fn get(
        &self,
        shape: u32,
        rest: &mut Reader<'_>,
        tf: &mut Vec<u32>,
    ) -> Result<(ColumnSet, u64), Broken> {
        let (mut excess, kind) = self.excess_and_kind(shape);
        tf.clear();
        let set = if let Some(set) = self.columns.set(kind) {
            for _ in 1..set.0.count_ones() {
                let more = if excess > 0 { rest.varint_u32()? } else { 0 };
                tf.push(plus_one(more)?);
            }
            let before = tf.iter().try_fold(0_u32, |sum, tf| sum.checked_add(tf - 1));
            excess = before.and_then(|before| excess.checked_sub(before)).ok_or(Broken("a frequency"))?;
            tf.push(plus_one(excess)?);
            set
        } else {
            let set = ColumnSet(rest.varint()?);
            if !self.columns.may_be(set) {
                return Err(Broken("the columns of a posting"));
            }
            for _ in set.iter() {
                tf.push(plus_one(rest.varint_u32()?)?);
            }
            set
        };
        let mut occurrences = 0;
        for (column, &own) in set.iter().zip(&*tf) {
            match self.columns.whole_of(column) {
                None => occurrences += u64::from(own),
                Some(whole) if set.iter().zip(&*tf).any(|(column, tf)| column == whole && *tf >= own) => {}
                Some(_) => return Err(Broken("a frequency")),
            }
        }
        Ok((set, occurrences))
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

    /// Columns of which some are beginnings, of others that are none.
    fn text_columns() -> impl Strategy<Value = Arc<TextColumns>> {
        (1_usize..9, prop::collection::vec((any::<bool>(), 0_u8..9, 1_u16..9), 9)).prop_map(
            |(count, beginnings)| {
                let is_own = |place: usize| place == 0 || place >= count || !beginnings[place].0;
                let mut bytes =
                    vec![u8::try_from((0..count).filter(|place| !is_own(*place)).count()).unwrap()];
                for place in (0..count).filter(|place| !is_own(*place)) {
                    let (_, whole, words) = beginnings[place];
                    let whole =
                        (0..count).rev().find(|place| is_own(*place) && *place <= whole.into()).unwrap_or(0);
                    bytes.extend([u8::try_from(place).unwrap(), u8::try_from(whole).unwrap()]);
                    bytes.extend(words.to_le_bytes());
                }
                let mut beginnings = (bytes[0] > 0).then(|| Reader::new(&bytes));
                Arc::new(TextColumns::get(count, beginnings.as_mut()).unwrap())
            },
        )
    }

    proptest! {
        #[test]
        fn a_posting_comes_back(
            columns in text_columns(),
            forms in 1_u32..9,
            postings in prop::collection::vec(prop::collection::btree_map(0_u8..9, 1_u32..9, 1..5), 0..20),
        ) {
            let shapes = Shapes::new(&columns, forms);
            // A beginning has no more than its whole.
            let possible = |tf: BTreeMap<u8, u32>| {
                let of = |column: u8, frequency: u32| match columns.whole_of(column.into()) {
                    None => Some(frequency),
                    Some(whole) => Some(frequency.min(*tf.get(&u8::try_from(whole).unwrap())?)),
                };
                let within = tf.iter().filter(|(column, _)| usize::from(**column) < columns.count());
                within.filter_map(|(&column, &tf)| Some((column, of(column, tf)?))).collect()
            };
            let postings: Vec<Vec<(u8, u32)>> =
                postings.into_iter().map(possible).filter(|tf: &Vec<_>| !tf.is_empty()).collect();
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
                let (set, occurrences) = shapes.get(shape, &mut reader, &mut tf).unwrap();
                let read: Vec<_> = set.iter().map(|column| u8::try_from(column).unwrap()).zip(tf.clone()).collect();
                prop_assert_eq!(&read, posting);
                let own = posting.iter().filter(|(column, _)| columns.whole_of((*column).into()).is_none());
                prop_assert_eq!(occurrences, own.map(|(_, tf)| u64::from(*tf)).sum::<u64>());
                let even = shapes.even(shape);
                prop_assert!(even.is_none() || reader.left() == left);
                prop_assert!(even.is_none_or(|(_, tf)| shapes.occurrences(set, tf) == occurrences));
                let is_told = columns.count() < 4 || posting.len() == 1 || columns.kind(set) < columns.count();
                let is_even = posting.len() == 1 || is_told && posting.iter().all(|(_, tf)| *tf == 1);
                prop_assert_eq!(even, is_even.then(|| (set, posting[0].1)));
                prop_assert!(posting.iter().any(|(_, tf)| *tf > 1) || shape < shapes.kinds());
                if let Some((set, most)) = shapes.most(shape) {
                    prop_assert!(posting.iter().all(|(column, tf)| set.has((*column).into()) && *tf <= most));
                }
            }
            prop_assert!(reader.is_empty());
        }

        #[test]
        fn any_bytes_do_no_harm(columns in text_columns(), forms in 1_u32..9, shape: u32, rest: Vec<u8>) {
            let mut tf = Vec::new();
            if let Ok((set, _)) = Shapes::new(&columns, forms).get(shape, &mut Reader::new(&rest), &mut tf) {
                prop_assert_eq!(set.iter().count(), tf.len());
                prop_assert!(columns.may_be(set) && tf.iter().all(|tf| *tf > 0));
            }
        }
    }

    #[test]
    fn the_largest_frequencies_come_back() {
        for (columns, forms) in [(1, 1), (3, 9), (4, 3), (64, 9)] {
            let shapes = Shapes::new(&Arc::new(TextColumns::get(columns, None).unwrap()), forms);
            let posting = [(0, 1 << 26)];
            let mut rest = Vec::new();
            let shape = shapes.with_form(shapes.put(&posting, &mut rest), Some(0));
            let mut tf = Vec::new();
            shapes.get(shape, &mut Reader::new(&rest), &mut tf).unwrap();
            assert_eq!(tf, [1 << 26]);
        }
    }
}
