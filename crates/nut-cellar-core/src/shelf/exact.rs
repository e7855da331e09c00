//! The different values of the columns of kind "exact", in order: the place of a column, as two bytes, and a text.
//! A value is known by its ordinal among those of all columns.

use super::directory::Section;
use super::hand::{Hand, Step};
use super::reader::Shelf;
use super::sorted::SortedWriter;
use std::sync::Arc;

/// Values in a block, all but the last: what turns an ordinal into a block.
const PER_BLOCK: usize = 128;

/// What packs exact values.
pub(super) fn writer() -> SortedWriter {
    SortedWriter::new(PER_BLOCK)
}

/// A value of the column at this place among those whose values are compared, as an entry.
#[expect(clippy::big_endian_bytes, reason = "entries sort by column first")]
pub(super) fn entry(column: usize, text: &str) -> Vec<u8> {
    let column = u16::try_from(column).expect("the schema has been checked");
    let mut entry = column.to_be_bytes().to_vec();
    entry.extend_from_slice(text.as_bytes());
    entry
}

/// What [`entry`] put together; none if it is no such thing.
#[expect(clippy::big_endian_bytes, reason = "entries sort by column first")]
pub(super) fn column_and_text(entry: &[u8]) -> Option<(usize, &str)> {
    let (column, text) = entry.split_first_chunk()?;
    Some((u16::from_be_bytes(*column).into(), str::from_utf8(text).ok()?))
}

impl Shelf {
    /// How many exact values there are.
    pub(super) fn exact_count(self: &Arc<Self>, hand: &mut Hand) -> Step<usize> {
        let Some(last) = self.index_of(hand, Section::Exact)?.blocks().checked_sub(1) else { return Ok(0) };
        Ok(last * PER_BLOCK + self.exact_in(hand, last)?.len())
    }

    /// The exact values of block `block`, in order; none past the last.
    pub(super) fn exact_in(self: &Arc<Self>, hand: &mut Hand, block: usize) -> Step<Vec<Vec<u8>>> {
        self.entries_in(hand, (Section::Exact, block), |value, _| Ok(value.to_vec()))
    }
}
