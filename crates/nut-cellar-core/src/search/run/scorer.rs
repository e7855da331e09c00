//! What postings of a shelf score: the formula, with the lengths of the records.
//!
//! What always holds: shares are added up in schema order, so tf~ of a posting has the same bits whoever asks for it.

use super::word::FormTerms;
use crate::rank::{Formula, Row, Shares};
use crate::schema::ColumnSet;
use crate::search::plan::expand::MOST_ALIKE;
use crate::shelf::{
    FORM_CODES, Held, LONG, LengthBytes, LengthColumn, Postings, Shapes, Shelf, Step, if_held,
};
use std::sync::Arc;

/// So many shapes have rows, whatever the form: with few columns those of terms that stand once or a few times in one of them.
const SHAPES: usize = 16;

/// Where several forms add up in another order than in a bound, this is so much more.
pub(super) const SLACK: f32 = 1.0 + (MOST_ALIKE + 8) as f32 * f32::EPSILON;

/// For each of the first shapes the rows of its shares, and of which columns they are, for as many as it can have, times 1; or of what they are
/// at most, times less than -1. The last, and those of more columns, have a row of which nothing is known.
pub(in crate::search) type Rows = [([(usize, Row); 2], f32); SHAPES];

/// Scores postings of one shelf.
pub(in crate::search) struct Scorer<'a> {
    pub formula: &'a Formula,
    shares: Shares<'a>,
    /// The columns that weigh anything; others add nothing.
    weighing: ColumnSet,
    shelf: &'a Arc<Shelf>,
    /// The lengths of all columns as bytes, if they are at hand so, and as they are packed.
    bytes: Option<Arc<LengthBytes>>,
    lengths: Vec<LengthColumn>,
}

impl<'a> Scorer<'a> {
    pub fn new(shelf: &'a Arc<Shelf>, formula: &'a Formula) -> Self {
        let lengths = (0..shelf.columns()).map(|column| LengthColumn::new(shelf, column)).collect();
        let columns = formula.columns().iter().enumerate().filter(|(_, factor)| factor.weight > 0.0);
        let weighing = columns.map(|(column, _)| column).collect();
        Self { formula, shares: Shares::new(formula), weighing, shelf, bytes: shelf.length_bytes(), lengths }
    }

    /// Says that so many postings will be scored.
    pub fn ask_lengths(&mut self, held: &mut Held, postings: u64) -> Step<()> {
        if self.bytes.is_none() {
            self.shelf.ask_length_bytes(held, postings)?;
            self.bytes = self.shelf.length_bytes();
        }
        Ok(())
    }

    /// Gets the lengths of columns ready that so many records, spread evenly, need.
    pub fn expect(&mut self, held: &mut Held, columns: ColumnSet, records: u64) -> Step<()> {
        for column in columns.iter() {
            if_held(self.lengths[column].expect(held, records))?;
        }
        held.complete()
    }

    /// The number of positions of a column of a record.
    pub fn length(&mut self, held: &mut Held, column: usize, ordinal: u32) -> Step<u32> {
        self.lengths[column].get(held, ordinal)
    }

    /// A column's share of tf~.
    #[inline]
    fn share(&mut self, held: &mut Held, column: usize, tf: u32, ordinal: u32) -> Step<f32> {
        let known = |bytes: &Arc<LengthBytes>| self.shares.get(column, tf, bytes.get(ordinal, column));
        match self.bytes.as_ref().and_then(known) {
            Some(share) => Ok(share),
            None => self.work_out(held, column, tf, ordinal),
        }
    }

    #[cold]
    #[inline(never)]
    fn work_out(&mut self, held: &mut Held, column: usize, tf: u32, ordinal: u32) -> Step<f32> {
        if let Some(length) =
            self.bytes.as_ref().map(|bytes| bytes.get(ordinal, column)).filter(|length| *length < LONG)
        {
            // With those of all lengths, as most of them are wanted soon, and together they take next to no time.
            self.shares.row(column, tf);
            return Ok(self.formula.frequency(column, tf, length.into()));
        }
        // Going on where a length is missing, so that all that are missing are noted at once.
        let length = if_held(self.lengths[column].get(held, ordinal))?.unwrap_or(0);
        Ok(self.formula.frequency(column, tf, length))
    }

    /// The rows of the shapes of postings that count in these columns.
    pub fn rows(&mut self, shapes: &Shapes, counted: ColumnSet) -> Rows {
        let mut rows = Rows::default();
        for (shape, row) in (0..).zip(&mut rows[..SHAPES - 1]) {
            let shape = shapes.with_form(shape, Some(0));
            let told = shapes.even(shape).map(|even| (even, 1.0));
            let Some(((columns, tf), sign)) = told.or_else(|| Some((shapes.most(shape)?, -SLACK))) else {
                continue;
            };
            let mut columns = columns.both(counted).both(self.weighing).iter();
            let both = [columns.next(), columns.next()];
            if columns.next().is_none() {
                let mut share = |column| (column, self.shares.row(column, tf));
                *row = (both.map(|column| column.map_or((0, Row::NOTHING), &mut share)), sign);
            }
        }
        rows
    }

    /// Appends tf~ of postings by their shapes, each times how alike its form is. Where the shape does not tell it, what it is at most, with
    /// the sign turned; or less than any number.
    pub fn by_rows(
        &self,
        (rows, kinds, forms): (&Rows, &Shapes, &FormTerms),
        ordinals: &[u32],
        shapes: &[u32],
        values: &mut Vec<f32>,
    ) {
        let Some(bytes) = &self.bytes else { return values.resize(ordinals.len(), f32::NEG_INFINITY) };
        let several = kinds.several();
        let (mut likeness, mut signs) = (forms.first, [1.0_f32; FORM_CODES]);
        if several > 0 {
            likeness[several as usize] = forms.greatest;
            signs[several as usize] = -SLACK;
        }
        values.extend(ordinals.iter().zip(shapes).map(|(ordinal, shape)| {
            let share = |(column, row)| self.shares.in_row(row, bytes.get(*ordinal, column));
            let (code, shape) = kinds.parts(*shape);
            let code = code as usize % FORM_CODES;
            let ([first, second], sign) = rows[(shape as usize).min(SHAPES - 1)];
            let most = share(first) + share(second);
            if most < 0.0 { f32::NEG_INFINITY } else { most * likeness[code] * signs[code].min(sign) + 0.0 }
        }));
    }

    /// tf~ of a posting that has its term as often in each of these columns.
    #[inline]
    pub fn even(&mut self, held: &mut Held, ordinal: u32, columns: ColumnSet, tf: u32) -> Step<f32> {
        self.frequency(held, ordinal, columns.iter().map(|column| (column, tf)))
    }

    /// tf~ of a posting, of its columns with how often they have the term, in schema order.
    pub fn frequency(
        &mut self,
        held: &mut Held,
        ordinal: u32,
        mut each: impl Iterator<Item = (usize, u32)>,
    ) -> Step<f32> {
        each.try_fold(0.0, |sum, (column, tf)| {
            if self.weighing.has(column) { Ok(sum + self.share(held, column, tf, ordinal)?) } else { Ok(sum) }
        })
    }

    /// tf~ of the posting at which postings stand, in the columns in which they count: forms by likeness, each times that.
    pub fn posting(
        &mut self,
        held: &mut Held,
        postings: &mut Postings,
        counted: ColumnSet,
        forms: &FormTerms,
    ) -> Step<f32> {
        let ordinal = postings.ordinal();
        if let Some((form, columns, tf)) = postings.even()? {
            return Ok(self.even(held, ordinal, columns.both(counted), tf)? * forms.likeness(form));
        }
        postings.read()?;
        if let Some(form) = postings.only_form() {
            let each = postings.all_frequencies().filter(|(column, _)| counted.has(*column));
            return Ok(self.frequency(held, ordinal, each)? * forms.likeness(form));
        }
        let mut sum = 0.0;
        for term in forms.terms.iter().filter(|term| postings.has_form(term.form)) {
            let each = postings.frequencies_of(term.form).filter(|(column, _)| counted.has(*column));
            sum += self.frequency(held, ordinal, each)? * term.likeness;
        }
        Ok(sum)
    }
}
