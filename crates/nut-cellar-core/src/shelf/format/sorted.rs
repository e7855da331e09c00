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
//! Blocks of terms are made of *parts*, so that a walk through the terms need not go through their payloads, and need not go
//! through a part to reach the next. Such a block begins with a byte that says how many parts there are, and for each of them, as
//! varints, how many bytes its entries and its payloads have. Then come, for each part, its entries, of which the first shares no
//! bytes, and its payloads.
//!
//! The index has for each block but the first as much of its first entry as tells it from the entry before, and is searched
//! where it lies. What all of these begin with stands there once.

use crate::error::Result;
use crate::shelf::build::output::Output;
use crate::shelf::format::directory::Section;
use crate::shelf::format::entries::{
    Entries, MOST_COUNTED, common, count_down, count_up, get_head, put_head,
};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, put_varint};
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// Packs entries that ascend.
pub(in crate::shelf) struct SortedWriter {
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
    /// The parts of the block, if it is to have any.
    parts: Option<Parts>,
}

/// The parts of the block at hand.
#[derive(Default)]
struct Parts {
    /// Entries in a part.
    per_part: usize,
    /// How many bytes the entries and the payloads of each part have, but for the last.
    sizes: Vec<(usize, usize)>,
    whole: Vec<u8>,
    entries: Vec<u8>,
    payloads: Vec<u8>,
}

impl Parts {
    fn end_part(&mut self) {
        if !self.entries.is_empty() {
            self.sizes.push((self.entries.len(), self.payloads.len()));
            self.whole.append(&mut self.entries);
            self.whole.append(&mut self.payloads);
        }
    }

    fn end_block(&mut self, out: &mut Vec<u8>) {
        self.end_part();
        out.push(u8::try_from(self.sizes.len()).expect("a block has few parts"));
        for (entries, payloads) in self.sizes.drain(..) {
            put_varint(out, entries as u64);
            put_varint(out, payloads as u64);
        }
        out.append(&mut self.whole);
    }
}

/// The most parts of a block.
pub(in crate::shelf) const MOST_PARTS: usize = 8;

/// The entries and the payloads of a part of a block.
pub(in crate::shelf) type PartBytes<'a> = (&'a [u8], &'a [u8]);

/// The entries and the payloads of each part of a block, and how many parts there are.
pub(in crate::shelf) fn parts_of(block: &[u8]) -> Result<([PartBytes<'_>; MOST_PARTS], usize), Broken> {
    let mut reader = Reader::new(block);
    let count = usize::from(reader.u8()?);
    let mut sizes = [(0, 0); MOST_PARTS];
    for size in sizes.get_mut(..count).ok_or(Broken("the number of parts"))? {
        *size = (reader.size()?, reader.size()?);
    }
    let mut parts = [(&[][..], &[][..]); MOST_PARTS];
    for (part, (entries, payloads)) in parts.iter_mut().zip(sizes) {
        *part = (reader.take(entries)?, reader.take(payloads)?);
    }
    if reader.is_empty() { Ok((parts, count)) } else { Err(Broken("the parts of a block")) }
}

/// The first entry of a block, or of a part of one.
pub(in crate::shelf) fn first_entry(entries: &[u8]) -> Result<&[u8], Broken> {
    let mut reader = Reader::new(entries);
    match get_head(&mut reader)? {
        (0, own) => reader.take(own),
        _ => Err(Broken("the shared part of an entry")),
    }
}

impl SortedWriter {
    /// Of blocks of parts, both of so many entries.
    pub fn of_parts(per_block: usize, per_part: usize) -> Self {
        Self { parts: Some(Parts { per_part, ..Parts::default() }), ..Self::new(per_block) }
    }

    /// Of blocks of so many entries.
    pub fn new(per_block: usize) -> Self {
        Self {
            parts: None,
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
    /// the first of its block, or of its part.
    pub fn push(&mut self, entry: &[u8], payload: impl FnOnce(&mut Vec<u8>, bool)) {
        debug_assert!(self.previous.as_slice() < entry || self.previous.is_empty(), "entries have to ascend");
        if self.in_block == self.per_block {
            self.end_block();
        }
        self.end_count();
        let first = self.in_block == 0;
        let common = common(&self.previous, entry);
        if first {
            let own = if self.block_ends.is_empty() { 0 } else { common + 1 };
            self.heads.extend_from_slice(&entry[..own]);
            self.head_ends.push(self.heads.len());
        }
        let begins =
            first || self.parts.as_ref().is_some_and(|parts| self.in_block.is_multiple_of(parts.per_part));
        let shared = if begins { 0 } else { common };
        let (entries, payloads) = match &mut self.parts {
            None => (&mut self.blocks, None),
            Some(parts) => {
                if begins {
                    parts.end_part();
                }
                (&mut parts.entries, Some(&mut parts.payloads))
            }
        };
        put_head(entries, shared, entry.len() - shared);
        entries.extend_from_slice(&entry[shared..]);
        payload(payloads.unwrap_or(entries), begins);
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
        let head_end = |block: usize| (self.head_ends[block] - block * common.len()) as u64;
        let heads = bytes_for(self.head_ends.len().checked_sub(1).map_or(0, head_end));
        out.append(&blocks.to_le_bytes())?;
        out.append(&length.to_le_bytes())?;
        out.append(&[u8::try_from(heads).expect("at most 8")])?;
        for end in &self.block_ends {
            out.append(&end.to_le_bytes()[..bytes_for(self.written)])?;
        }
        for block in 0..self.head_ends.len() {
            out.append(&head_end(block).to_le_bytes()[..heads])?;
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
        &first[..common(first, last)]
    }

    fn write_out(&mut self, out: &mut Output<'_>) -> Result<()> {
        out.append(&self.blocks)?;
        self.written += self.blocks.len() as u64;
        self.blocks.clear();
        Ok(())
    }

    fn end_block(&mut self) {
        self.end_count();
        if let Some(parts) = &mut self.parts {
            parts.end_block(&mut self.blocks);
        }
        self.block_ends.push(self.written + self.blocks.len() as u64);
        self.in_block = 0;
    }
}

/// The bytes that a number up to `most` takes.
fn bytes_for(most: u64) -> usize {
    (u64::BITS - most.leading_zeros()).div_ceil(8).max(1) as usize
}

/// A number of up to eight bytes.
fn number(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte))
}

/// The index of a run of blocks. Offsets are checked when they are used.
#[derive(Clone, Debug)]
pub(in crate::shelf) struct SortedIndex {
    bytes: Bytes,
    blocks: usize,
    /// The bytes that it takes to say where a block, and where a head, ends.
    sizes: [usize; 2],
    /// Where the part that all heads have in common ends, and the heads begin.
    heads: usize,
}

impl SortedIndex {
    const COUNT_BYTES: usize = 9;

    /// Takes the index of a section of `length` bytes; checks that it holds as many offsets as it says.
    pub fn new(bytes: Bytes, length: u64) -> Result<Self, Broken> {
        let mut reader = Reader::new(&bytes);
        let (blocks, common) = (reader.u32()? as usize, reader.u32()? as usize);
        let sizes = [bytes_for(length), usize::from(reader.u8()?)];
        if blocks > bytes.len() || !(1..=8).contains(&sizes[1]) {
            return Err(Broken("the number of blocks"));
        }
        let heads = Self::COUNT_BYTES + blocks * (sizes[0] + sizes[1]) + common;
        if heads > bytes.len() {
            return Err(Broken("the first entries"));
        }
        Ok(Self { bytes, blocks, sizes, heads })
    }

    fn common(&self) -> &[u8] {
        &self.bytes[Self::COUNT_BYTES + self.blocks * (self.sizes[0] + self.sizes[1])..self.heads]
    }

    /// The number of blocks.
    pub fn blocks(&self) -> usize {
        self.blocks
    }

    /// Where a block stands, counted from the beginning of the section.
    pub fn block(&self, block: usize) -> Result<Range<u64>, Broken> {
        self.span(Self::COUNT_BYTES, self.sizes[0], block)
    }

    /// Where in the index of a section of `length` bytes it stands where a block is: what
    /// [`block_between`](Self::block_between) takes, for whoever knows the block and needs nothing else of the index.
    pub fn ends_of(length: u64, block: usize) -> Range<u64> {
        let size = bytes_for(length);
        let end = Self::COUNT_BYTES + block * size;
        let start = if block == 0 { end } else { end - size };
        start as u64..(end + size) as u64
    }

    /// Where a block stands, by its own end and that of the block before, if there is one.
    pub fn block_between(length: u64, ends: &[u8]) -> Result<Range<u64>, Broken> {
        let (start, end) = ends.split_at(ends.len() - bytes_for(length).min(ends.len()));
        let (start, end) = (number(start), number(end));
        if start <= end { Ok(start..end) } else { Err(Broken("the order of the blocks")) }
    }

    /// The block that has an entry, if any has; none if there is no block. All entries of the blocks before are less, and
    /// all of the blocks after are greater.
    pub fn locate(&self, entry: &[u8]) -> Result<Option<usize>, Broken> {
        let Some(last) = self.blocks.checked_sub(1) else { return Ok(None) };
        let common = self.common();
        let Some(rest) = entry.strip_prefix(common) else {
            return Ok(Some(if entry < common { 0 } else { last }));
        };
        Ok(Some(self.behind(rest, 1..self.blocks)? - 1))
    }

    /// The same, for an entry that is in none of the blocks before one: that one, if it is less than all of its entries.
    pub fn locate_from(&self, block: usize, entry: &[u8]) -> Result<usize, Broken> {
        let common = self.common();
        let Some(rest) = entry.strip_prefix(common) else {
            return Ok(if entry < common { block } else { block.max(self.blocks.saturating_sub(1)) });
        };
        // It is often near: steps that grow, and then the last one divided.
        let (mut low, mut high, mut step) = (block + 1, self.blocks, 1);
        while low + step < high {
            if self.head(low + step)? > rest {
                high = low + step;
                break;
            }
            low += step + 1;
            step *= 2;
        }
        Ok(self.behind(rest, low..high)? - 1)
    }

    /// The first of these blocks whose head is greater, or the end; the heads of all before are not.
    fn behind(&self, rest: &[u8], blocks: Range<usize>) -> Result<usize, Broken> {
        let Range { start: mut low, end: mut high } = blocks;
        while low < high {
            let middle = usize::midpoint(low, high);
            if self.head(middle)? <= rest {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        Ok(low)
    }

    /// Whether an entry is greater than all of a block, as it is known to be no less than them: it is in a later block, then.
    pub fn is_behind(&self, block: usize, entry: &[u8]) -> Result<bool, Broken> {
        if block + 1 >= self.blocks {
            return Ok(false);
        }
        let common = self.common();
        Ok(match entry.strip_prefix(common) {
            Some(rest) => self.head(block + 1)? <= rest,
            None => entry > common,
        })
    }

    /// What all entries of a block begin with, as far as the index tells, in two pieces; none for the first and the last block.
    pub fn beginning_of(&self, block: usize) -> Result<Option<[&[u8]; 2]>, Broken> {
        if block == 0 || block + 1 >= self.blocks {
            return Ok(None);
        }
        // The entries lie between the two heads.
        let (head, next) = (self.head(block)?, self.head(block + 1)?);
        Ok(Some([self.common(), &head[..common(head, next)]]))
    }

    /// What tells a block from the one before it, without what all have in common.
    fn head(&self, block: usize) -> Result<&[u8], Broken> {
        let table = Self::COUNT_BYTES + self.blocks * self.sizes[0];
        let span = self.span(table, self.sizes[1], block)?;
        let place =
            |offset: u64| usize::try_from(offset).ok().and_then(|offset| self.heads.checked_add(offset));
        place(span.start)
            .zip(place(span.end))
            .and_then(|(start, end)| self.bytes.get(start..end))
            .ok_or(Broken("the first entry of a block"))
    }

    /// The range from the end before to the end at `place` of a table of ends of `size` bytes.
    fn span(&self, table: usize, size: usize, place: usize) -> Result<Range<u64>, Broken> {
        if place >= self.blocks {
            return Err(Broken("a block"));
        }
        let end_at = |place: usize| number(&self.bytes[table + place * size..][..size]);
        let start = if place == 0 { 0 } else { end_at(place - 1) };
        let end = end_at(place);
        if start <= end { Ok(start..end) } else { Err(Broken("the order of the blocks")) }
    }
}

impl Shelf {
    /// The index of a section of sorted blocks.
    pub(in crate::shelf) fn index_of(
        self: &Arc<Self>,
        held: &mut Held,
        section: Section,
    ) -> Step<SortedIndex> {
        let blocks = self.section(section);
        let bytes = held.get(self, self.section(section.index()))?;
        let read = SortedIndex::new(bytes, blocks.end - blocks.start);
        Ok(read.map_err(|what| self.broken(section.index(), what))?)
    }

    /// The block of a section that has an entry, if any has; none if there is no block.
    pub(in crate::shelf) fn locate(
        self: &Arc<Self>,
        section: Section,
        index: &SortedIndex,
        entry: &[u8],
    ) -> Step<Option<usize>> {
        Ok(index.locate(entry).map_err(|what| self.broken(section.index(), what))?)
    }

    /// A block of a section.
    pub(in crate::shelf) fn block_of(
        self: &Arc<Self>,
        held: &mut Held,
        section: Section,
        index: &SortedIndex,
        block: usize,
    ) -> Step<Bytes> {
        let range = index.block(block).map_err(|what| self.broken(section.index(), what))?;
        held.get(self, self.within(section, range)?)
    }

    /// What stands in a block of a section, in order: each entry with what `payload` reads; nothing past the last.
    pub(in crate::shelf) fn entries_in<T>(
        self: &Arc<Self>,
        held: &mut Held,
        (section, block): (Section, usize),
        mut payload: impl FnMut(&[u8], &mut Reader<'_>) -> Result<T, Broken>,
    ) -> Step<Vec<T>> {
        let index = self.index_of(held, section)?;
        let mut all = Vec::new();
        if block < index.blocks() {
            let bytes = self.block_of(held, section, &index, block)?;
            let broken = |what| self.broken(section, what);
            let mut entries = Entries::new(&bytes);
            while entries.advance().map_err(broken)? {
                let (entry, reader) = entries.with_payload();
                all.push(payload(entry, reader).map_err(broken)?);
            }
        }
        Ok(all)
    }
}
