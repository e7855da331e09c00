//! Lengths: for each text column the number of tokens of each record, in 1, 2 or 4 bytes as the longest needs.

use super::directory::{CHUNK, Section};
use super::hand::{Hand, Step};
use super::output::Output;
use super::reader::Shelf;
use crate::error::Result;
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// The size of the section.
pub(super) fn size(widths: &[u8], records: u32) -> u64 {
    widths.iter().map(|&width| u64::from(width) * u64::from(records)).sum()
}

/// Appends the lengths of one column; gives the bytes that each takes, which the longest decides.
pub(super) fn write(out: &mut Output<'_>, lengths: &[u32]) -> Result<u8> {
    let width = match lengths.iter().max().unwrap_or(&0) {
        0..=0xff => 1,
        0x100..=0xffff => 2,
        _ => 4,
    };
    for length in lengths {
        out.append(&length.to_le_bytes()[..usize::from(width)])?;
    }
    Ok(width)
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
}

impl LengthColumn {
    pub fn new(shelf: &Arc<Shelf>, column: usize) -> Self {
        let widths = shelf.widths();
        let start = shelf.section(Section::Lengths).start + size(&widths[..column], shelf.records());
        let end = start + size(&widths[column..=column], shelf.records());
        let width = widths[column];
        Self { shelf: Arc::clone(shelf), start, end, width, near: Bytes::new(), near_range: 0..0 }
    }

    /// Gets the whole column ready, if `matches` records, spread evenly, would touch most of its chunks.
    pub fn expect(&mut self, hand: &mut Hand, matches: u64) -> Step<()> {
        let chunks = (self.end - self.start).div_ceil(CHUNK);
        if matches >= 2 * chunks {
            self.near = hand.get(&self.shelf, self.start..self.end)?;
            self.near_range = self.start..self.end;
        }
        Ok(())
    }

    /// The number of tokens of a record.
    pub fn get(&mut self, hand: &mut Hand, ordinal: u32) -> Step<u32> {
        let at = self.start + u64::from(self.width) * u64::from(ordinal);
        let range = at..at + u64::from(self.width);
        if range.start < self.near_range.start || range.end > self.near_range.end {
            // A length may straddle two chunks: from the chunk of its first byte to the end of its last byte's.
            let chunks = range.start / CHUNK * CHUNK..range.end.div_ceil(CHUNK) * CHUNK;
            let around = chunks.start.max(self.start)..chunks.end.min(self.end);
            self.near = hand.get(&self.shelf, around.clone())?;
            self.near_range = around;
        }
        let offset = usize::try_from(range.start - self.near_range.start).unwrap_or(usize::MAX);
        let bytes = self.near.get(offset..offset.saturating_add(usize::from(self.width))).unwrap_or_default();
        let mut whole = [0; 4];
        whole[..bytes.len()].copy_from_slice(bytes);
        Ok(u32::from_le_bytes(whole))
    }
}
