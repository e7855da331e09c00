//! Sorted byte strings in front-coded blocks, each with a payload: what keys, terms and classes of forms have in common.
//!
//! A block is a run of entries. The *head* of an entry is a byte: how many bytes it shares with the entry before in the
//! upper half, and in the lower half how many it does not; 15 says that so many more follow in a varint, that of the shared
//! bytes first. Then come the bytes that are not shared, and the payload. The first entry of a block shares none.
//!
//! An entry that is not the first of its block has bytes of its own. So a head with none of them says something else:
//! that so many entries follow, without a payload, of which each is the one before, as a number, and one more. Keys that
//! a database counts up take next to nothing.
//!
//! The index has for each block but the first as much of its first entry as tells it from the entry before, and is searched
//! where it lies. What all of these begin with stands there once.

use super::directory::Section;
use super::output::Output;
use crate::error::Result;
use crate::wire::{Broken, Reader, put_varint};
use bytes::Bytes;
use std::ops::Range;

/// Packs entries that ascend.
pub(super) struct SortedWriter {
    per_block: usize,
    in_block: usize,
    previous: Vec<u8>,
    /// The blocks that were not written out yet; the last may go on.
    blocks: Vec<u8>,
    written: u64,
    block_ends: Vec<u64>,
    /// What tells each block from the one before it.
    heads: Vec<u8>,
    head_ends: Vec<usize>,
    /// How many entries of the block wait to be written as a count.
    counted: usize,
}

impl SortedWriter {
    pub fn new(per_block: usize) -> Self {
        Self {
            per_block,
            in_block: 0,
            previous: Vec::new(),
            blocks: Vec::new(),
            written: 0,
            block_ends: Vec::new(),
            heads: Vec::new(),
            head_ends: Vec::new(),
            counted: 0,
        }
    }

    /// Takes an entry that is greater than the one before. `payload` writes what belongs to it and is told whether it is
    /// the first of its block.
    pub fn push(&mut self, entry: &[u8], payload: impl FnOnce(&mut Vec<u8>, bool)) {
        debug_assert!(self.previous.as_slice() < entry || self.previous.is_empty(), "entries have to ascend");
        if self.in_block == self.per_block {
            self.end_block();
        }
        self.end_count();
        let first = self.in_block == 0;
        let common = self.previous.iter().zip(entry).take_while(|(a, b)| a == b).count();
        if first {
            let own = if self.block_ends.is_empty() { 0 } else { common + 1 };
            self.heads.extend_from_slice(&entry[..own]);
            self.head_ends.push(self.heads.len());
        }
        let shared = if first { 0 } else { common };
        put_head(&mut self.blocks, shared, entry.len() - shared);
        self.blocks.extend_from_slice(&entry[shared..]);
        payload(&mut self.blocks, first);
        self.previous.clear();
        self.previous.extend_from_slice(entry);
        self.in_block += 1;
    }

    /// Takes an entry without a payload that is greater than the one before.
    pub fn push_bare(&mut self, entry: &[u8]) {
        let goes_on = (1..self.per_block).contains(&self.in_block)
            && self.previous.len() == entry.len()
            && self.counted < MOST_COUNTED
            && count_up(&mut self.previous);
        if goes_on && self.previous == entry {
            self.counted += 1;
            self.in_block += 1;
            return;
        }
        if goes_on {
            count_down(&mut self.previous);
        }
        self.push(entry, |_, _| ());
    }

    /// Whether an entry is not greater than the last one, so that it can't follow.
    pub fn reached(&self, entry: &[u8]) -> bool {
        !self.head_ends.is_empty() && self.previous.as_slice() >= entry
    }

    fn end_count(&mut self) {
        if self.counted > 0 {
            put_head(&mut self.blocks, self.counted, 0);
            self.counted = 0;
        }
    }

    /// Writes out what was packed, once it is enough to be worth it.
    pub fn stream(&mut self, out: &mut Output<'_>) -> Result<()> {
        if self.blocks.len() as u64 >= Output::WORTH { self.write_out(out) } else { Ok(()) }
    }

    /// Ends the blocks, as a section, and writes their index, as another.
    pub fn finish(mut self, out: &mut Output<'_>, section: Section, index: Section) -> Result<()> {
        if self.in_block > 0 {
            self.end_block();
        }
        self.write_out(out)?;
        out.end(section);
        let common = self.common();
        let blocks = u32::try_from(self.block_ends.len()).expect("no more blocks than records or terms");
        let length = u32::try_from(common.len()).expect("a term, key or value is far below 4 GiB");
        out.append(&blocks.to_le_bytes())?;
        out.append(&length.to_le_bytes())?;
        for end in &self.block_ends {
            out.append(&end.to_le_bytes())?;
        }
        for (block, end) in self.head_ends.iter().enumerate() {
            let end = (end - block * common.len()) as u64;
            out.append(&end.to_le_bytes())?;
        }
        out.append(common)?;
        for block in 1..self.head_ends.len() {
            out.append(&self.head(block)[common.len()..])?;
        }
        out.end(index);
        Ok(())
    }

    /// What tells a block from the one before it; nothing for the first.
    fn head(&self, block: usize) -> &[u8] {
        let start = block.checked_sub(1).map_or(0, |before| self.head_ends[before]);
        &self.heads[start..self.head_ends[block]]
    }

    /// What the heads of all blocks but the first begin with. They ascend, so it is what two of them do.
    fn common(&self) -> &[u8] {
        let Some(last) = self.head_ends.len().checked_sub(1).filter(|last| *last > 0) else { return &[] };
        let (first, last) = (self.head(1), self.head(last));
        &first[..first.iter().zip(last).take_while(|(a, b)| a == b).count()]
    }

    fn write_out(&mut self, out: &mut Output<'_>) -> Result<()> {
        out.append(&self.blocks)?;
        self.written += self.blocks.len() as u64;
        self.blocks.clear();
        Ok(())
    }

    fn end_block(&mut self) {
        self.end_count();
        self.block_ends.push(self.written + self.blocks.len() as u64);
        self.in_block = 0;
    }
}

/// No count is larger, so that few bytes don't stand for a huge number of entries.
const MOST_COUNTED: usize = 255;

/// What stands in half a head when the number is as large or larger.
const MORE: usize = 15;

/// Appends the head of an entry: how many bytes it shares, and how many of its own it has.
fn put_head(out: &mut Vec<u8>, shared: usize, own: usize) {
    let half = |number: usize| u8::try_from(number.min(MORE)).expect("at most 15");
    out.push(half(shared) << 4 | half(own));
    for number in [shared, own].into_iter().filter(|number| *number >= MORE) {
        put_varint(out, (number - MORE) as u64);
    }
}

/// Reads what [`put_head`] wrote.
pub(super) fn get_head(from: &mut Reader<'_>) -> Result<(usize, usize), Broken> {
    let head = usize::from(from.u8()?);
    let mut number = |half: usize| match half {
        MORE => from.size()?.checked_add(MORE).ok_or(Broken("the length of an entry")),
        few => Ok(few),
    };
    Ok((number(head >> 4)?, number(head & MORE)?))
}

/// Makes a number of bytes, the highest first, one more; tells whether it has room for that, and leaves it if not.
fn count_up(number: &mut [u8]) -> bool {
    let Some(place) = number.iter().rposition(|byte| *byte < u8::MAX) else { return false };
    number[place] += 1;
    number[place + 1..].fill(0);
    true
}

/// Undoes [`count_up`].
fn count_down(number: &mut [u8]) {
    if let Some(place) = number.iter().rposition(|byte| *byte > 0) {
        number[place] -= 1;
        number[place + 1..].fill(u8::MAX);
    }
}

/// The index of a run of blocks. Offsets are checked when they are used.
#[derive(Clone, Debug)]
pub(super) struct SortedIndex {
    bytes: Bytes,
    blocks: usize,
    /// Where the part that all heads have in common ends, and the heads begin.
    heads: usize,
}

impl SortedIndex {
    const COUNT_BYTES: usize = 8;
    const END_BYTES: usize = 8;

    /// Takes index bytes; checks that they hold as many offsets as they say.
    pub fn new(bytes: Bytes) -> Result<Self, Broken> {
        let mut reader = Reader::new(&bytes);
        let (blocks, common) = (reader.u32()? as usize, reader.u32()? as usize);
        if blocks > bytes.len() / (2 * Self::END_BYTES) {
            return Err(Broken("the number of blocks"));
        }
        let heads = Self::common_start(blocks) + common;
        if heads > bytes.len() { Err(Broken("the first entries")) } else { Ok(Self { bytes, blocks, heads }) }
    }

    fn common_start(blocks: usize) -> usize {
        Self::COUNT_BYTES + 2 * blocks * Self::END_BYTES
    }

    /// The number of blocks.
    pub fn blocks(&self) -> usize {
        self.blocks
    }

    /// Where a block stands, counted from the beginning of the section.
    pub fn block(&self, block: usize) -> Result<Range<u64>, Broken> {
        self.span(0, block)
    }

    /// Where in an index it stands where a block is: what [`block_between`](Self::block_between) takes, for whoever knows
    /// the block and needs nothing else of the index.
    pub fn ends_of(block: usize) -> Range<u64> {
        let end = (Self::COUNT_BYTES + block * Self::END_BYTES) as u64;
        let start = if block == 0 { end } else { end - Self::END_BYTES as u64 };
        start..end + Self::END_BYTES as u64
    }

    /// Where a block stands, by its own end and that of the block before, if there is one.
    pub fn block_between(ends: &[u8]) -> Result<Range<u64>, Broken> {
        let mut reader = Reader::new(ends);
        let start = if ends.len() > Self::END_BYTES { reader.u64()? } else { 0 };
        let end = reader.u64()?;
        if start <= end { Ok(start..end) } else { Err(Broken("the order of the blocks")) }
    }

    /// The block that has an entry, if any has; none if there is no block. All entries of the blocks before are less, and
    /// all of the blocks after are greater.
    pub fn locate(&self, entry: &[u8]) -> Result<Option<usize>, Broken> {
        let Some(last) = self.blocks.checked_sub(1) else { return Ok(None) };
        let common = &self.bytes[Self::common_start(self.blocks)..self.heads];
        let Some(rest) = entry.strip_prefix(common) else {
            return Ok(Some(if entry < common { 0 } else { last }));
        };
        let (mut low, mut high) = (1, self.blocks);
        while low < high {
            let middle = usize::midpoint(low, high);
            if self.head(middle)? <= rest {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        Ok(Some(low - 1))
    }

    /// What tells a block from the one before it, without what all have in common.
    fn head(&self, block: usize) -> Result<&[u8], Broken> {
        let span = self.span(self.blocks, block)?;
        let place =
            |offset: u64| usize::try_from(offset).ok().and_then(|offset| self.heads.checked_add(offset));
        place(span.start)
            .zip(place(span.end))
            .and_then(|(start, end)| self.bytes.get(start..end))
            .ok_or(Broken("the first entry of a block"))
    }

    /// The range from the end before to the end at `table + place`.
    fn span(&self, table: usize, place: usize) -> Result<Range<u64>, Broken> {
        if place >= self.blocks {
            return Err(Broken("a block"));
        }
        let end_at = |place: usize| {
            let at = Self::COUNT_BYTES + (table + place) * Self::END_BYTES;
            Reader::new(self.bytes.get(at..).unwrap_or_default()).u64()
        };
        let start = if place == 0 { 0 } else { end_at(place - 1)? };
        let end = end_at(place)?;
        if start <= end { Ok(start..end) } else { Err(Broken("the order of the blocks")) }
    }
}

/// Walks through one block.
pub(super) struct Entries<'a> {
    reader: Reader<'a>,
    entry: Vec<u8>,
    /// Whether it stands before the first.
    begins: bool,
    /// How many entries are left of those that are counted.
    counted: usize,
}

impl<'a> Entries<'a> {
    pub fn new(block: &'a [u8]) -> Self {
        Self { reader: Reader::new(block), entry: Vec::new(), begins: true, counted: 0 }
    }

    /// Goes to the next entry, if there is one. The payload of the one before has to have been read.
    pub fn advance(&mut self) -> Result<bool, Broken> {
        if self.counted > 0 {
            return self.count();
        }
        if self.reader.is_empty() {
            return Ok(false);
        }
        let (shared, own) = get_head(&mut self.reader)?;
        if own == 0 && !std::mem::take(&mut self.begins) {
            self.counted = if shared <= MOST_COUNTED { shared } else { 0 };
            return self.count();
        }
        self.begins = false;
        if shared > self.entry.len() {
            return Err(Broken("the shared part of an entry"));
        }
        self.entry.truncate(shared);
        self.entry.extend_from_slice(self.reader.take(own)?);
        Ok(true)
    }

    fn count(&mut self) -> Result<bool, Broken> {
        self.counted = self.counted.checked_sub(1).ok_or(Broken("a count of entries"))?;
        if count_up(&mut self.entry) { Ok(true) } else { Err(Broken("a counted entry")) }
    }

    /// The entry.
    pub fn entry(&self) -> &[u8] {
        &self.entry
    }

    /// Where the payload of the entry is read from.
    pub fn payload(&mut self) -> &mut Reader<'a> {
        &mut self.reader
    }
}
