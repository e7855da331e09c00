//! Shares of tf~ that were worked out before, for whoever scores many postings.
//!
//! What always holds: each is what [`Formula::frequency`] says.

use super::Formula;

/// The lengths that a byte has; the last stands for all that are as long or longer, of which no share is kept.
const LENGTHS: u32 = 256;
/// Shares are kept of terms that stand so often in a column at most.
const OCCURRENCES: usize = 4;
/// Stands for what was not worked out yet.
const UNKNOWN: f32 = -1.0;

/// Shares by column, how often a term stands in it, and how long it is.
#[derive(Debug)]
pub(crate) struct Shares<'f> {
    formula: &'f Formula,
    /// For each column and number of occurrences where its shares by length begin, once one was asked for.
    starts: Vec<Option<u32>>,
    table: Vec<f32>,
}

impl<'f> Shares<'f> {
    /// Nothing worked out yet.
    pub fn new(formula: &'f Formula) -> Self {
        Self { formula, starts: vec![None; formula.columns().len() * OCCURRENCES], table: Vec::new() }
    }

    /// The share of a column of so many tokens in which a term stands `tf` times, at least once; none if it was not worked out.
    #[inline]
    pub fn get(&self, column: usize, tf: u32, length: u8) -> Option<f32> {
        let occurrences = tf as usize - 1;
        if occurrences >= OCCURRENCES {
            return None;
        }
        let start = self.starts[column * OCCURRENCES + occurrences]? as usize;
        Some(self.table[start + usize::from(length)]).filter(|share| *share >= 0.0)
    }

    /// The same, worked out: with those of all lengths, as most of them are wanted soon, and together they take next to no time.
    pub fn work_out(&mut self, column: usize, tf: u32, length: u8) -> f32 {
        let share = |length: u32| self.formula.frequency(column, tf, length);
        if let Some(start) = self.starts.get_mut(column * OCCURRENCES + tf as usize - 1)
            && tf as usize <= OCCURRENCES
            && start.is_none()
        {
            *start = u32::try_from(self.table.len()).ok();
            self.table.extend((0..LENGTHS - 1).map(share));
            self.table.push(UNKNOWN);
        }
        share(length.into())
    }
}
