//! The lengths of a record's text columns side by side, a byte each, for searches that look up those of many records: packed as
//! they are in the shelf, that takes longer than all else that scoring a posting does.

use crate::shelf::format::directory::Section;
use crate::shelf::format::pack;
use crate::shelf::read::cache::{Asked, Key};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use std::sync::Arc;

/// Stands for every length that is as large or larger.
pub(crate) const LONG: u8 = u8::MAX;
/// They are worth making once so large a part of the records was asked for.
const WORTH: u32 = 4;

/// The lengths of a shelf.
#[derive(Debug)]
pub(crate) struct LengthBytes {
    lengths: Vec<u8>,
    columns: usize,
}

impl LengthBytes {
    /// The length of a column of a record, or [`LONG`].
    #[inline]
    pub fn get(&self, ordinal: u32, column: usize) -> u8 {
        self.lengths[ordinal as usize * self.columns + column]
    }
}

impl Shelf {
    /// The lengths as bytes, if they were made.
    pub(crate) fn length_bytes(&self) -> Option<Arc<LengthBytes>> {
        self.cache().get(self.piece(), &Key::Lengths)
    }

    /// Says that the lengths of so many records will be asked for, and makes them if that is worth it.
    pub(crate) fn ask_length_bytes(self: &Arc<Self>, held: &mut Held, records: u64) -> Step<()> {
        let making = u64::from(self.records() / WORTH);
        let asked = self.cache().ask::<LengthBytes>(self.piece(), &Key::Lengths, records, making);
        if !matches!(asked, Asked::Worth) {
            return Ok(());
        }
        let packed = held.get(self, self.section(Section::Lengths))?;
        if packed.is_empty() {
            // No column has a token, so no posting is scored; and nothing bounds how many records are said to be there.
            return Ok(());
        }
        let columns = self.columns();
        let mut lengths = vec![0; self.records() as usize * columns];
        for column in 0..columns {
            let (first, width) = self.place_of_lengths(column);
            let (mut bit, low) = (first, (1 << width) - 1);
            for length in lengths[column..].iter_mut().step_by(columns) {
                let exact = pack::eight_bytes_at(&packed, bit / 8) >> (bit % 8) & low;
                *length = u8::try_from(exact).unwrap_or(LONG);
                bit += usize::from(width);
            }
        }
        let bytes = lengths.len();
        let made = Arc::new(LengthBytes { lengths, columns });
        self.cache().keep(self.piece(), &Key::Lengths, &made, bytes);
        Ok(())
    }
}
