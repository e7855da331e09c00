//! The different values of the columns of kind "exact", in order: the place of a column, as two bytes, and a text.
//! A value is known by its ordinal among those of all columns.

use crate::shelf::format::directory::Section;
use crate::shelf::format::sorted::SortedWriter;
use crate::shelf::read::held::{Held, Step, if_held};
use crate::shelf::read::reader::Shelf;
use crate::wire::Broken;
use std::ops::{Bound, Range};
use std::sync::Arc;

/// Values in a block, all but the last: what turns an ordinal into a block.
const PER_BLOCK: usize = 128;

/// What packs exact values.
pub(in crate::shelf) fn writer() -> SortedWriter {
    SortedWriter::new(PER_BLOCK)
}

/// A value of the column at this place among those whose values are compared, as an entry.
#[expect(clippy::big_endian_bytes, reason = "entries sort by column first")]
pub(in crate::shelf) fn entry(column: usize, text: &str) -> Vec<u8> {
    let column = u16::try_from(column).expect("the schema has been checked");
    let mut entry = column.to_be_bytes().to_vec();
    entry.extend_from_slice(text.as_bytes());
    entry
}

/// What [`entry`] put together; none if it is no such thing.
#[expect(clippy::big_endian_bytes, reason = "entries sort by column first")]
pub(in crate::shelf) fn column_and_text(entry: &[u8]) -> Option<(usize, &str)> {
    let (column, text) = entry.split_first_chunk()?;
    Some((u16::from_be_bytes(*column).into(), str::from_utf8(text).ok()?))
}

impl Shelf {
    /// The ordinals, among all exact values, of those of a column that lie between two texts.
    pub(crate) fn exact_between(
        self: &Arc<Self>,
        held: &mut Held,
        column: usize,
        (low, high): (&Bound<String>, &Bound<String>),
    ) -> Step<Range<u64>> {
        let low = match low {
            Bound::Unbounded => self.exact_below(held, &entry(column, ""), false),
            Bound::Included(text) => self.exact_below(held, &entry(column, text), false),
            Bound::Excluded(text) => self.exact_below(held, &entry(column, text), true),
        };
        let high = match high {
            Bound::Unbounded => self.exact_below(held, &entry(column + 1, ""), false),
            Bound::Included(text) => self.exact_below(held, &entry(column, text), true),
            Bound::Excluded(text) => self.exact_below(held, &entry(column, text), false),
        };
        Ok(low?..high?)
    }

    /// How many exact values are less than an entry, or than it or equal to it.
    fn exact_below(self: &Arc<Self>, held: &mut Held, entry: &[u8], or_equal: bool) -> Step<u64> {
        let index = self.index_of(held, Section::Exact)?;
        let Some(block) = self.locate(Section::Exact, &index, entry)? else { return Ok(0) };
        let values = self.exact_in(held, block)?;
        let below = values.partition_point(|value| value.as_slice() < entry || (or_equal && value == entry));
        Ok((block * PER_BLOCK + below) as u64)
    }

    /// The text of an exact value, by its ordinal.
    pub(crate) fn exact_text(self: &Arc<Self>, held: &mut Held, ordinal: u64) -> Step<String> {
        let ordinal = usize::try_from(ordinal).unwrap_or(usize::MAX);
        let values = self.exact_in(held, ordinal / PER_BLOCK)?;
        let text = values.get(ordinal % PER_BLOCK).and_then(|value| column_and_text(value));
        match text {
            Some((_, text)) => Ok(text.to_owned()),
            None => Err(self.broken(Section::Exact, Broken("a value")).into()),
        }
    }

    /// Gives the texts of exact values, by their ordinals, which ascend; reads each block once.
    pub(crate) fn exact_texts(
        self: &Arc<Self>,
        held: &mut Held,
        ordinals: impl Iterator<Item = u64>,
        mut take: impl FnMut(&str),
    ) -> Step<()> {
        let (mut block, mut values) = (None, None);
        for ordinal in ordinals {
            let ordinal = usize::try_from(ordinal).unwrap_or(usize::MAX);
            if block != Some(ordinal / PER_BLOCK) {
                block = Some(ordinal / PER_BLOCK);
                values = if_held(self.exact_in(held, ordinal / PER_BLOCK))?;
            }
            if let Some(values) = &values {
                let text = values.get(ordinal % PER_BLOCK).and_then(|value| column_and_text(value));
                take(text.ok_or_else(|| self.broken(Section::Exact, Broken("a value")))?.1);
            }
        }
        held.complete()
    }

    /// How many exact values there are.
    pub(in crate::shelf) fn exact_count(self: &Arc<Self>, held: &mut Held) -> Step<usize> {
        let Some(last) = self.index_of(held, Section::Exact)?.blocks().checked_sub(1) else {
            return Ok(0);
        };
        Ok(last * PER_BLOCK + self.exact_in(held, last)?.len())
    }

    /// The exact values of block `block`, in order; none past the last.
    pub(in crate::shelf) fn exact_in(self: &Arc<Self>, held: &mut Held, block: usize) -> Step<Vec<Vec<u8>>> {
        self.entries_in(held, (Section::Exact, block), |value, _| Ok(value.to_vec()))
    }
}
