//! The lengths of a record's text columns side by side, a byte each, for searches that look up those of many records: packed as
//! they are in the shelf, that takes longer than all else that scoring a posting does.
//!
//! What always holds: a shelf never changes, so neither do its lengths.

use super::directory::Section;
use super::hand::{Hand, Step};
use super::pack;
use super::reader::Shelf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

/// Stands for every length that is as large or larger.
pub(crate) const LONG: u8 = u8::MAX;
/// They are worth making once so large a part of the records was asked for.
const WORTH: u64 = 4;

/// The lengths of a shelf.
#[derive(Debug)]
pub(crate) struct SideBySide {
    lengths: Vec<u8>,
    columns: usize,
    /// For each column the greatest.
    longest: Vec<u8>,
}

impl SideBySide {
    /// The length of a column of a record, or [`LONG`].
    #[inline]
    pub fn get(&self, ordinal: u32, column: usize) -> u8 {
        self.lengths[ordinal as usize * self.columns + column]
    }

    /// The greatest length of a column, or [`LONG`].
    pub fn longest(&self, column: usize) -> u8 {
        self.longest[column]
    }
}

/// The lengths of a shelf, once they were made, and for how many records they were asked for before.
#[derive(Debug, Default)]
pub(super) struct Kept {
    asked: AtomicU64,
    made: OnceLock<Arc<SideBySide>>,
}

impl Shelf {
    /// The lengths side by side, if they were made.
    pub(crate) fn side_by_side(&self) -> Option<&Arc<SideBySide>> {
        self.kept_lengths().made.get()
    }

    /// Says that the lengths of so many records will be asked for, and makes them if that is worth it.
    pub(crate) fn ask_lengths(self: &Arc<Self>, hand: &mut Hand, records: u64) -> Step<()> {
        let kept = self.kept_lengths();
        if kept.made.get().is_some() {
            return Ok(());
        }
        let asked = kept.asked.fetch_add(records, Ordering::Relaxed).saturating_add(records);
        if asked.saturating_mul(WORTH) < self.records().into() {
            return Ok(());
        }
        let packed = hand.get(self, self.section(Section::Lengths))?;
        if packed.is_empty() {
            // No column has a token, so no posting is scored; and nothing bounds how many records are said to be there.
            return Ok(());
        }
        let columns = self.columns();
        let (mut lengths, mut longest) = (vec![0; self.records() as usize * columns], vec![0; columns]);
        for column in 0..columns {
            let (first, width) = self.place_of_lengths(column);
            let (mut bit, low) = (first, (1 << width) - 1);
            for length in lengths[column..].iter_mut().step_by(columns) {
                let exact = pack::eight_bytes_at(&packed, bit / 8) >> (bit % 8) & low;
                *length = u8::try_from(exact).unwrap_or(LONG);
                longest[column] = longest[column].max(*length);
                bit += usize::from(width);
            }
        }
        // Whoever made them first, they are the same.
        let _ = kept.made.set(Arc::new(SideBySide { lengths, columns, longest }));
        Ok(())
    }
}
