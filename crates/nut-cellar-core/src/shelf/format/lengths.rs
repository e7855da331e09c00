//! Lengths: for each text column the number of positions of each record, in as many bits as the longest needs, one after
//! the other, the lowest bit first. The lengths of a column begin with a byte.

use crate::error::Result;
use crate::shelf::build::output::Output;
use crate::shelf::format::directory::{CHUNK, Section, size_of_lengths as size};
use crate::shelf::format::pack::{self, put_stream};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// The lengths of one column, packed.
pub(in crate::shelf) struct Packed {
    /// The bits that each takes, which the longest decides.
    pub width: u8,
    bytes: Vec<u8>,
    /// Their sum.
    pub sum: u64,
}

impl Packed {
    pub fn of(lengths: &[u32]) -> Self {
        let bits = u32::BITS - lengths.iter().max().unwrap_or(&0).leading_zeros();
        let mut bytes = Vec::new();
        put_stream(&mut bytes, lengths.iter().copied().map(u64::from), bits);
        let sum = lengths.iter().copied().map(u64::from).sum();
        Self { width: u8::try_from(bits).expect("at most 32"), bytes, sum }
    }

    /// The length of a record.
    pub fn get(&self, ordinal: u32) -> u32 {
        let bit = ordinal as usize * usize::from(self.width);
        get(self.bytes.get(bit / 8..).unwrap_or_default(), bit % 8, self.width)
    }

    pub fn write(&self, out: &mut Output<'_>) -> Result<()> {
        out.append(&self.bytes)
    }
}

/// The number of so many bits that begins at a bit of the first byte.
#[inline]
fn get(bytes: &[u8], bit: usize, width: u8) -> u32 {
    u32::try_from(pack::eight_bytes_at(bytes, 0) >> bit & ((1 << width) - 1)).unwrap_or(u32::MAX)
}

impl Shelf {
    /// At which bit of all lengths those of a column begin, and how many bits each takes.
    pub(in crate::shelf) fn place_of_lengths(&self, column: usize) -> (usize, u8) {
        let before = size(&self.widths()[..column], self.records());
        (usize::try_from(before * 8).unwrap_or(usize::MAX), self.widths()[column])
    }
}

/// The lengths of one column of a shelf, read chunk by chunk as they are asked for.
#[derive(Debug)]
pub(crate) struct LengthColumn {
    shelf: Arc<Shelf>,
    start: u64,
    end: u64,
    width: u8,
    near: Bytes,
    near_range: Range<u64>,
    /// Whether all of it is near.
    whole: bool,
}

impl LengthColumn {
    pub fn new(shelf: &Arc<Shelf>, column: usize) -> Self {
        let widths = shelf.widths();
        let start = shelf.section(Section::Lengths).start + size(&widths[..column], shelf.records());
        let end = start + size(&widths[column..=column], shelf.records());
        let width = widths[column];
        Self {
            shelf: Arc::clone(shelf),
            start,
            end,
            width,
            near: Bytes::new(),
            near_range: 0..0,
            whole: false,
        }
    }

    /// Gets the whole column ready, if that costs nothing, or `matches` records, spread evenly, would touch most of its
    /// chunks.
    pub fn expect(&mut self, held: &mut Held, matches: u64) -> Step<()> {
        let chunks = (self.end - self.start).div_ceil(CHUNK);
        if self.shelf.is_at_hand() || matches >= 2 * chunks {
            self.near = held.get(&self.shelf, self.start..self.end)?;
            self.near_range = self.start..self.end;
            self.whole = true;
        }
        Ok(())
    }

    /// The number of tokens of a record.
    #[inline]
    pub fn get(&mut self, held: &mut Held, ordinal: u32) -> Step<u32> {
        if self.whole {
            let bit = usize::from(self.width) * ordinal as usize;
            return Ok(get(self.near.get(bit / 8..).unwrap_or_default(), bit % 8, self.width));
        }
        self.get_near(held, ordinal)
    }

    fn get_near(&mut self, held: &mut Held, ordinal: u32) -> Step<u32> {
        let bit = u64::from(self.width) * u64::from(ordinal);
        let range = self.start + bit / 8..self.start + (bit + u64::from(self.width)).div_ceil(8);
        if range.start < self.near_range.start || range.end > self.near_range.end {
            // A length may straddle two chunks: from the chunk of its first byte to the end of its last byte's.
            let chunks = range.start / CHUNK * CHUNK..range.end.div_ceil(CHUNK) * CHUNK;
            let around = chunks.start.max(self.start)..chunks.end.min(self.end);
            self.near = held.get(&self.shelf, around.clone())?;
            self.near_range = around;
        }
        let offset = usize::try_from(range.start - self.near_range.start).unwrap_or(usize::MAX);
        let bytes = self.near.get(offset..).unwrap_or_default();
        Ok(get(bytes, usize::try_from(bit % 8).unwrap_or(0), self.width))
    }
}
