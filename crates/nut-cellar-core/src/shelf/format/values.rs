//! Values by column: what filters, sorting and counting compare, as numbers of 64 bits whose order is that of the values.
//!
//! The values of a column are packed in blocks of as many records as a block of postings has postings: if not every record
//! has one value, how many each has; then the values less the least one of the block, in as many bits as the greatest
//! needs. The index has a line of fixed size for each block, so that one value can be had without another.
//!
//! What always holds: the values of a record ascend, each once; a record without a value has none, which is not zero. A
//! value of kind "exact" is the ordinal of its text among those of the shelf (see `exact`).

use crate::bits::{Bits, each_in};
use crate::error::Result;
use crate::shelf::build::output::Output;
use crate::shelf::format::directory::{LINE, Section};
use crate::shelf::format::pack;
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader};
use std::ops::Range;
use std::sync::Arc;

/// Packs the values of one column.
pub(in crate::shelf) struct ValueWriter {
    per_block: usize,
    counts: Vec<u32>,
    values: Vec<u64>,
    packed: Vec<u8>,
}

/// The lines of the index so far, of all columns.
#[derive(Default)]
pub(in crate::shelf) struct ValueIndex {
    lines: Vec<u8>,
    written: u64,
}

impl ValueIndex {
    /// Ends the section and writes the index, as another.
    pub fn finish(self, out: &mut Output<'_>) -> Result<()> {
        out.end(Section::Values);
        out.append(&self.lines)?;
        out.end(Section::ValueIndex);
        Ok(())
    }
}

impl ValueWriter {
    pub fn new(per_block: usize) -> Self {
        Self { per_block, counts: Vec::new(), values: Vec::new(), packed: Vec::new() }
    }

    /// Appends the values of the next record, which ascend.
    pub fn push(&mut self, out: &mut Output<'_>, index: &mut ValueIndex, values: &[u64]) -> Result<()> {
        self.counts.push(u32::try_from(values.len()).expect("a record has at most 1 GiB of values"));
        self.values.extend_from_slice(values);
        if self.counts.len() == self.per_block { self.end_block(out, index) } else { Ok(()) }
    }

    /// Ends the column.
    pub fn finish(mut self, out: &mut Output<'_>, index: &mut ValueIndex) -> Result<()> {
        if self.counts.is_empty() { Ok(()) } else { self.end_block(out, index) }
    }

    fn end_block(&mut self, out: &mut Output<'_>, index: &mut ValueIndex) -> Result<()> {
        let low = self.values.iter().min().copied().unwrap_or(1);
        let high = self.values.iter().max().copied().unwrap_or(0);
        let counted = self.counts.iter().any(|count| *count != 1);
        if counted {
            pack::put(&mut self.packed, &self.counts);
        }
        pack::put_stream(&mut self.packed, self.values.iter().map(|value| value - low), width(low, high));
        out.append(&self.packed)?;
        index.written += self.packed.len() as u64;
        for number in [index.written, low, high] {
            index.lines.extend_from_slice(&number.to_le_bytes());
        }
        index.lines.push(u8::from(counted));
        self.counts.clear();
        self.values.clear();
        self.packed.clear();
        Ok(())
    }
}

/// The bits that a value takes in a block.
fn width(low: u64, high: u64) -> u32 {
    u64::BITS - high.saturating_sub(low).leading_zeros()
}

/// Numbers of so many bits lie in eight bytes, wherever they begin.
const EIGHT_BYTES: u32 = u64::BITS - 7;

/// The number of so many bits that begins at a bit of what [`pack::put_stream`] wrote; bytes that are missing are 0.
#[inline]
fn number_at(bytes: &[u8], bit: usize, width: u32) -> u64 {
    let (at, shift) = (bit / 8, bit % 8);
    let mut number = pack::eight_bytes_at(bytes, at) >> shift;
    if width > EIGHT_BYTES && shift > 0 {
        number |= u64::from(bytes.get(at + 8).copied().unwrap_or(0)) << (u64::BITS as usize - shift);
    }
    if width == u64::BITS { number } else { number & ((1 << width) - 1) }
}

/// The values of one column of a shelf, a block at a time.
#[derive(Debug)]
pub(crate) struct ValueColumn {
    shelf: Arc<Shelf>,
    column: u16,
    block: Option<u32>,
    span: (u64, u64),
    range: Range<u64>,
    /// Where the values of each record of the block end, and all of them.
    ends: Vec<usize>,
    values: Vec<u64>,
    /// The block whose line of the index was read last, and the line.
    lined: Option<u32>,
    line_here: Line,
}

/// What the index says of a block: where it is, its least and greatest value, whether it has counts.
type Line = (Range<u64>, (u64, u64), bool);

/// Whether one of the ranges, which ascend and do not touch, has a number from `low` to `high`.
pub(crate) fn overlaps(ranges: &[(u64, u64)], low: u64, high: u64) -> bool {
    let first = ranges.partition_point(|(_, end)| *end < low);
    ranges.get(first).is_some_and(|(start, _)| *start <= high)
}

impl ValueColumn {
    /// The column at this place among those whose values are compared.
    pub fn new(shelf: &Arc<Shelf>, column: usize) -> Self {
        let column = u16::try_from(column).unwrap_or(u16::MAX);
        let shelf = Arc::clone(shelf);
        Self {
            shelf,
            column,
            block: None,
            span: (1, 0),
            range: 0..0,
            ends: Vec::new(),
            values: Vec::new(),
            lined: None,
            line_here: (0..0, (1, 0), false),
        }
    }

    /// The values of a record, ascending.
    pub fn of(&mut self, held: &mut Held, ordinal: u32) -> Step<&[u64]> {
        let block = ordinal / self.per_block();
        if self.block != Some(block) {
            self.block = None;
            self.read(held, block)?;
            self.block = Some(block);
        }
        Ok(self.here(ordinal))
    }

    /// Gives the values of those records of a set that are in some blocks; of each they ascend. Where each record of a block has one value, these
    /// are read and no others. The blocks are read together.
    pub fn each(
        &mut self,
        held: &mut Held,
        set: &Bits,
        blocks: Range<u32>,
        mut take: impl FnMut(&[u64]),
    ) -> Step<()> {
        let lines = self.lines(held, blocks.clone())?;
        let [start, end] = [lines.first(), lines.last()].map(|line| line.map_or(0..0, |line| line.0.clone()));
        let all = held.get(&self.shelf, self.shelf.within(Section::Values, start.start..end.end)?)?;
        for (block, (range, span, counted)) in blocks.zip(lines) {
            let first = block * self.per_block();
            let records = first..first.saturating_add(self.per_block()).min(self.shelf.records());
            let place = |offset: u64| usize::try_from(offset - start.start).unwrap_or(usize::MAX);
            let bytes = &all[place(range.start)..place(range.end)];
            self.each_of_block(bytes, (span, counted), (set, &records), &mut take)
                .map_err(|what| self.shelf.broken(Section::Values, what))?;
        }
        Ok(())
    }

    fn each_of_block(
        &mut self,
        bytes: &[u8],
        ((low, high), counted): ((u64, u64), bool),
        (set, records): (&Bits, &Range<u32>),
        mut take: impl FnMut(&[u64]),
    ) -> Result<(), Broken> {
        let ones = set.words_of(records).iter().copied();
        if counted {
            (self.block, self.span) = (None, (low, high));
            self.unpack(bytes, records.len(), counted)?;
            each_in(ones, records, |ordinal| take(self.here(ordinal)));
            return Ok(());
        }
        let width = width(low, high);
        if low > high || bytes.len() != (records.len() * width as usize).div_ceil(8) {
            return Err(Broken("the number of values"));
        }
        let mut above = false;
        each_in(ones, records, |ordinal| {
            let value = number_at(bytes, (ordinal - records.start) as usize * width as usize, width);
            above |= value > high - low;
            take(&[value.wrapping_add(low)]);
        });
        if above { Err(Broken("the order of the values")) } else { Ok(()) }
    }

    /// Whether a record has a value in one of the ranges, which ascend and do not touch. Where each record of its block has
    /// one value, that one is read and no other.
    pub fn any_in(&mut self, held: &mut Held, ordinal: u32, ranges: &[(u64, u64)]) -> Step<bool> {
        let block = ordinal / self.per_block();
        if self.lined != Some(block) {
            self.lined = None;
            self.line_here = self.line(held, block)?;
            self.lined = Some(block);
        }
        let (range, (low, high), counted) = self.line_here.clone();
        if low > high || !overlaps(ranges, low, high) {
            return Ok(false);
        }
        if counted {
            let values = self.of(held, ordinal)?;
            return Ok(values.iter().any(|value| overlaps(ranges, *value, *value)));
        }
        let width = width(low, high);
        let bit = u64::from(ordinal % self.per_block()) * u64::from(width);
        let bytes = range.start + bit / 8..range.start + (bit + u64::from(width)).div_ceil(8);
        if bytes.end > range.end {
            return Err(self.shelf.broken(Section::Values, Broken("the number of values")).into());
        }
        let bytes = held.get(&self.shelf, self.shelf.within(Section::Values, bytes)?)?;
        let bit = usize::try_from(bit % 8).expect("less than 8");
        let value = number_at(&bytes, bit, width).wrapping_add(low);
        Ok(overlaps(ranges, value, value))
    }

    /// The least and the greatest value of a block (the least is above the greatest if it has none), and whether not every
    /// record of it has one value.
    pub fn block_span(&mut self, held: &mut Held, block: u32) -> Step<((u64, u64), bool)> {
        if self.lined != Some(block) {
            self.lined = None;
            self.line_here = self.line(held, block)?;
            self.lined = Some(block);
        }
        Ok((self.line_here.1, self.line_here.2))
    }

    /// The number of records in a block.
    pub fn per_block(&self) -> u32 {
        u32::try_from(self.shelf.block()).expect("at most 128")
    }

    /// The values of a record of the block that was read last, ascending.
    pub fn here(&self, ordinal: u32) -> &[u64] {
        let place = (ordinal % self.per_block()) as usize;
        let start = place.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.values[start..self.ends[place]]
    }

    /// Where in its section the block stands that was read last.
    pub fn range(&self) -> Range<u64> {
        self.range.clone()
    }

    /// The least and the greatest value of the block that was read last; the least is above the greatest if it has none.
    pub fn span(&self) -> (u64, u64) {
        self.span
    }

    fn read(&mut self, held: &mut Held, block: u32) -> Step<()> {
        let shelf = &self.shelf;
        let (bytes, counted) = {
            let (range, span, counted) = self.line(held, block)?;
            self.span = span;
            self.range = range.clone();
            (held.get(shelf, shelf.within(Section::Values, range)?)?, counted)
        };
        let per_block = self.per_block();
        let records = (shelf.records() - block * per_block).min(per_block) as usize;
        self.unpack(&bytes, records, counted).map_err(|what| self.shelf.broken(Section::Values, what))?;
        Ok(())
    }

    fn unpack(&mut self, bytes: &[u8], records: usize, counted: bool) -> Result<(), Broken> {
        let mut reader = Reader::new(bytes);
        let (low, high) = self.span;
        let width = width(low, high);
        self.ends.clear();
        if counted {
            let mut counts = Vec::new();
            pack::get(&mut reader, records, &mut counts)?;
            let ends = counts.iter().scan(0_usize, |end, count| {
                *end = end.saturating_add(*count as usize);
                Some(*end)
            });
            self.ends.extend(ends);
        } else {
            self.ends.extend(1..=records);
        }
        let all = self.ends.last().copied().unwrap_or(0);
        let size = all.checked_mul(width as usize).map(|bits| bits.div_ceil(8));
        // Values that take no bits are one in a record at most.
        let most = if low > high { 0 } else { records };
        if size != Some(reader.left()) || (width == 0 && all > most) {
            return Err(Broken("the number of values"));
        }
        self.values.clear();
        let mut above = false;
        let bytes = reader.take(reader.left())?;
        for place in 0..all {
            let value = number_at(bytes, place * width as usize, width);
            above |= value > high.saturating_sub(low);
            self.values.push(value.wrapping_add(low));
        }
        let starts = std::iter::once(0).chain(self.ends.iter().copied());
        let ascend = |(start, end): (usize, &usize)| self.values[start..*end].is_sorted_by(|a, b| a < b);
        if above || (counted && !starts.zip(&self.ends).all(ascend)) {
            return Err(Broken("the order of the values"));
        }
        Ok(())
    }

    fn line(&self, held: &mut Held, block: u32) -> Step<Line> {
        let mut lines = self.lines(held, block..block + 1)?;
        Ok(lines.swap_remove(0))
    }

    /// What the index says of some blocks, one after the other.
    fn lines(&self, held: &mut Held, blocks: Range<u32>) -> Step<Vec<Line>> {
        let (shelf, section) = (&self.shelf, Section::ValueIndex);
        let of_column = u64::from(self.column) * u64::from(shelf.records()).div_ceil(shelf.block() as u64);
        let places = of_column + u64::from(blocks.start)..of_column + u64::from(blocks.end);
        // With the line before, which says where the first block begins.
        let first = places.start.saturating_sub(1);
        let bytes = first * LINE as u64..places.end * LINE as u64;
        let bytes = held.get(shelf, shelf.within(section, bytes)?)?;
        let mut reader = Reader::new(&bytes);
        let read = || {
            let (mut start, mut lines) = (0, Vec::with_capacity(blocks.len()));
            if places.start > 0 {
                start = reader.u64()?;
                reader.take(LINE - 8)?;
            }
            for _ in blocks {
                let (end, low, high) = (reader.u64()?, reader.u64()?, reader.u64()?);
                let counted = reader.u8()?;
                let none = (low, high) == (1, 0);
                if start > end || counted > 1 || (low > high && !none) {
                    return Err(Broken("the line of a block"));
                }
                lines.push((start..end, (low, high), counted == 1));
                start = end;
            }
            Ok(lines)
        };
        Ok(read().map_err(|what| shelf.broken(section, what))?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn wide_numbers_come_back(width in 0_u32..=64, numbers in prop::collection::vec(any::<u64>(), 0..200)) {
            let low = if width == 64 { u64::MAX } else { (1 << width) - 1 };
            let numbers: Vec<_> = numbers.into_iter().map(|number| number & low).collect();
            let mut bytes = Vec::new();
            pack::put_stream(&mut bytes, numbers.iter().copied(), width);
            prop_assert_eq!(bytes.len(), (numbers.len() * width as usize).div_ceil(8));
            let read: Vec<_> = (0..numbers.len()).map(|place| number_at(&bytes, place * width as usize, width)).collect();
            prop_assert_eq!(read, numbers);
        }
    }
}
