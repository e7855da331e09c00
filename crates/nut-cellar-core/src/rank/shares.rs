//! Shares of tf~ that were worked out before, for whoever scores many postings.
//!
//! What always holds: each is what [`Formula::frequency`] says.

use super::Formula;

/// The lengths that a byte has; the last stands for all that are as long or longer, of which no share is kept.
const LENGTHS: u32 = 256;
/// Shares are kept of terms that stand so often in a column at most.
const OCCURRENCES: usize = 4;
/// Stands for what was not worked out yet; it stays below 0 whatever is added.
const UNKNOWN: f32 = f32::NEG_INFINITY;

/// Shares by column, how often a term stands in it, and how long it is.
#[derive(Debug)]
pub(crate) struct Shares<'f> {
    formula: &'f Formula,
    /// For each column and number of occurrences its row, once a share of it was asked for.
    rows: Vec<Row>,
    /// Shares by length, row by row: those of a [Row], from the first on.
    table: Vec<f32>,
}

/// A row of shares, which a term has that stands so often in a column, by the column's length.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Row(usize);

impl Row {
    /// Of it nothing is known.
    pub const UNKNOWN: Self = Self(0);
    /// The shares of a column in which a term does not stand.
    pub const NOTHING: Self = Self(LENGTHS as usize);
}

impl<'f> Shares<'f> {
    /// Nothing worked out yet.
    pub fn new(formula: &'f Formula) -> Self {
        let rows = vec![Row::default(); formula.columns().len() * OCCURRENCES];
        let table = [UNKNOWN, 0.0].map(|share| vec![share; LENGTHS as usize]).concat();
        Self { formula, rows, table }
    }

    /// The share of a column of so many tokens in which a term stands `tf` times, at least once; none if it was not worked out.
    #[inline]
    pub fn get(&self, column: usize, tf: u32, length: u8) -> Option<f32> {
        let row = (tf as usize <= OCCURRENCES).then(|| self.rows[column * OCCURRENCES + tf as usize - 1])?;
        Some(self.in_row(row, length)).filter(|share| *share >= 0.0)
    }

    /// A share of a row; less than 0 if it was not worked out.
    #[inline]
    pub fn in_row(&self, row: Row, length: u8) -> f32 {
        self.table[row.0 + usize::from(length)]
    }

    /// The row of a column in which a term stands `tf` times, at least once: worked out, unless it stands there too often.
    pub fn row(&mut self, column: usize, tf: u32) -> Row {
        if tf as usize > OCCURRENCES {
            return Row::UNKNOWN;
        }
        let row = &mut self.rows[column * OCCURRENCES + tf as usize - 1];
        if *row == Row::UNKNOWN {
            *row = Row(self.table.len());
            self.table.extend((0..LENGTHS - 1).map(|length| self.formula.frequency(column, tf, length)));
            self.table.push(UNKNOWN);
        }
        *row
    }
}
