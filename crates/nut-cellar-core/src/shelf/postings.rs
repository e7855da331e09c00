//! Postings: in which records a term is, and how often in which column.
//!
//! They are packed in blocks: the gaps between the ordinals, then the shapes (see `shapes`), then the rest of what the
//! postings that are in several columns need.
//!
//! Of fewer than 8 postings, gap and shape stand in one varint: gap · (kinds + 1) + shape, where kinds is the number of
//! kinds of shapes, at least 2; a shape that is as large or larger is given by the number of kinds, and follows less that.
//!
//! A list of more than one block begins with a table: for each block its last ordinal, how many bytes and occurrences it
//! has, and what bounds its scores. Short lists have none.

use super::bounds::Bounds;
use super::directory::Section;
use super::hand::{Hand, Step};
use super::pack;
use super::positions::PositionWriter;
use super::reader::Shelf;
use super::shapes::Shapes;
use super::terms::{Lists, TermEntry};
use crate::error::Error;
use crate::schema::ColumnSet;
use crate::wire::{Broken, Reader, put_bytes, put_varint};
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// Collects the lists of one term after the other.
pub(super) struct PostingWriter {
    per_block: usize,
    kinds: Shapes,
    /// Whether the list may have more than one block, and so a table.
    long: bool,
    gaps: Vec<u32>,
    shapes: Vec<u32>,
    rest: Vec<u8>,
    bounds: Bounds,
    block_occurrences: u64,
    /// The ordinal after the last of the block before.
    block_start: u32,
    next_ordinal: u32,
    table: Vec<u8>,
    blocks: Vec<u8>,
    positions: PositionWriter,
    records: u32,
    /// The first occurrence: ordinal, column, position.
    first: (u32, u8, u32),
    tf: Vec<(u8, u32)>,
}

impl PostingWriter {
    /// For a schema of so many text columns.
    pub fn new(per_block: usize, columns: usize) -> Self {
        Self {
            per_block,
            kinds: Shapes::new(columns),
            long: false,
            gaps: Vec::new(),
            shapes: Vec::new(),
            rest: Vec::new(),
            bounds: Bounds::new(columns),
            block_occurrences: 0,
            block_start: 0,
            next_ordinal: 0,
            table: Vec::new(),
            blocks: Vec::new(),
            positions: PositionWriter::new(per_block),
            records: 0,
            first: (0, 0, 0),
            tf: Vec::new(),
        }
    }

    /// Begins a list of at most so many postings.
    pub fn begin(&mut self, most: usize) {
        self.long = most > self.per_block;
    }

    /// Appends a posting to the list that was begun. `places` are the (column, position) of the term in one record, ascending; `length` tells how long
    /// a column of the record is.
    pub fn push(
        &mut self,
        ordinal: u32,
        places: impl Iterator<Item = (u8, u32)>,
        length: impl Fn(usize) -> u32,
    ) {
        if self.gaps.len() == self.per_block {
            self.end_block();
        }
        self.tf.clear();
        let mut before = 0;
        for (column, position) in places {
            if let Some((_, tf)) = self.tf.last_mut().filter(|(known, _)| *known == column) {
                *tf += 1;
            } else {
                if self.positions.count() == 0 {
                    self.first = (ordinal, column, position);
                }
                self.tf.push((column, 1));
                before = 0;
            }
            self.positions.push(position - before);
            before = position;
        }
        if self.long {
            for &(column, tf) in &self.tf {
                self.bounds.add(column.into(), tf, length(column.into()));
                self.block_occurrences += u64::from(tf);
            }
        }
        self.shapes.push(self.kinds.put(&self.tf, &mut self.rest));
        self.gaps.push(ordinal - self.next_ordinal);
        self.next_ordinal = ordinal + 1;
        self.records += 1;
    }

    fn end_block(&mut self) {
        let start = self.blocks.len();
        put_block(&mut self.blocks, self.kinds, &self.gaps, &self.shapes);
        self.blocks.append(&mut self.rest);
        if self.long {
            put_varint(&mut self.table, u64::from(self.next_ordinal - self.block_start));
            put_varint(&mut self.table, (self.blocks.len() - start) as u64);
            put_varint(&mut self.table, self.block_occurrences);
            let mut bounds = Vec::new();
            self.bounds.put(&mut bounds);
            put_bytes(&mut self.table, &bounds);
        }
        self.gaps.clear();
        self.shapes.clear();
        self.block_occurrences = 0;
        self.block_start = self.next_ordinal;
    }

    /// Ends the list: appends it and its positions to `postings` and `positions`, which begin at these offsets of their
    /// sections, and begins anew. None if there is no posting.
    pub fn finish(
        &mut self,
        (postings, postings_start): (&mut Vec<u8>, u64),
        (positions, positions_start): (&mut Vec<u8>, u64),
    ) -> Option<TermEntry> {
        let records = std::mem::take(&mut self.records);
        let occurrences = self.positions.count();
        if records == 0 {
            return None;
        }
        self.end_block();
        let lists = if occurrences == 1 {
            let (ordinal, column, position) = self.first;
            self.positions.finish(&mut Vec::new());
            Lists::Once { ordinal, column, position }
        } else {
            let starts = (postings_start + postings.len() as u64, positions_start + positions.len() as u64);
            if records as usize > self.per_block {
                put_varint(postings, self.table.len() as u64);
                postings.extend_from_slice(&self.table);
            }
            postings.extend_from_slice(&self.blocks);
            self.positions.finish(positions);
            Lists::Written {
                occurrences,
                postings: starts.0..postings_start + postings.len() as u64,
                positions: starts.1..positions_start + positions.len() as u64,
            }
        };
        self.table.clear();
        self.blocks.clear();
        (self.block_start, self.next_ordinal) = (0, 0);
        Some(TermEntry { records, lists })
    }
}

/// The shapes that a short block tells by one number with the gap.
fn told(kinds: Shapes) -> u32 {
    kinds.kinds().max(2)
}

fn put_block(out: &mut Vec<u8>, kinds: Shapes, gaps: &[u32], shapes: &[u32]) {
    if gaps.len() >= pack::SHORTEST {
        pack::put(out, gaps);
        return pack::put(out, shapes);
    }
    let told = told(kinds);
    for (&gap, &shape) in gaps.iter().zip(shapes) {
        put_varint(out, u64::from(gap) * u64::from(told + 1) + u64::from(shape.min(told)));
        if shape >= told {
            put_varint(out, u64::from(shape - told));
        }
    }
}

fn get_block(
    from: &mut Reader<'_>,
    kinds: Shapes,
    count: usize,
    gaps: &mut Vec<u32>,
    shapes: &mut Vec<u32>,
) -> Result<(), Broken> {
    if count >= pack::SHORTEST {
        pack::get(from, count, gaps)?;
        return pack::get(from, count, shapes);
    }
    gaps.clear();
    shapes.clear();
    let told = told(kinds);
    for _ in 0..count {
        let both = from.varint()?;
        let gap = u32::try_from(both / u64::from(told + 1)).map_err(|_| Broken("the record of a posting"))?;
        let mut shape = u32::try_from(both % u64::from(told + 1)).unwrap_or(told);
        if shape == told {
            shape = from.varint_u32()?.checked_add(told).ok_or(Broken("a frequency"))?;
        }
        gaps.push(gap);
        shapes.push(shape);
    }
    Ok(())
}

/// What the table of a list says of one block.
#[derive(Debug)]
struct Block {
    /// The ordinal of its last posting.
    last: u32,
    /// Where it begins in the list.
    start: usize,
    /// The occurrences in the blocks before.
    occurrences: u64,
    /// Where in the list that stands which bounds its scores.
    bounds: Range<usize>,
}

/// Walks through the postings of one term in one shelf.
///
/// What always holds: ordinals ascend and are below the number of records, and the columns are columns of the shelf.
#[derive(Debug)]
pub(crate) struct Postings {
    shelf: Arc<Shelf>,
    kinds: Shapes,
    bytes: Bytes,
    /// One for each block, if there is more than one.
    table: Vec<Block>,
    /// Blocks that were begun.
    begun: usize,
    /// What was not read of the list yet begins here.
    at: usize,
    /// Postings in the blocks that were not begun.
    left: u32,
    /// The ordinals and the shapes of the block, and at which of them it stands.
    ordinals: Vec<u32>,
    shapes: Vec<u32>,
    here: usize,
    columns: ColumnSet,
    tf: Vec<u32>,
    first_occurrence: u64,
    next_occurrence: u64,
}

impl Postings {
    /// The record at which it stands.
    pub fn ordinal(&self) -> u32 {
        self.ordinals[self.here]
    }

    /// The columns of the record that the term is in.
    pub fn columns(&self) -> ColumnSet {
        self.columns
    }

    /// For each of the columns how often.
    pub fn frequencies(&self) -> impl Iterator<Item = (usize, u32)> {
        self.columns.iter().zip(self.tf.iter().copied())
    }

    /// Which of the term's occurrences is the first of this posting.
    pub fn first_occurrence(&self) -> u64 {
        self.first_occurrence
    }

    /// Goes to the next posting, if there is one.
    pub fn advance(&mut self) -> Result<bool, Error> {
        self.step().map_err(|what| self.shelf.broken(Section::Postings, what))
    }

    /// Goes on to the first posting whose record is not below `ordinal`, if there is one; blocks in between are not
    /// unpacked. Has to stand at a posting.
    pub fn seek(&mut self, ordinal: u32) -> Result<bool, Error> {
        if !self.table.is_empty() && self.ordinals.last().is_some_and(|last| *last < ordinal) {
            self.skip(self.table[self.begun..].partition_point(|block| block.last < ordinal));
        }
        while self.ordinal() < ordinal {
            if !self.advance()? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Leaves the block and so many of the next ones.
    fn skip(&mut self, blocks: usize) {
        let postings = u32::try_from(blocks * self.shelf.block()).unwrap_or(u32::MAX);
        self.begun += blocks;
        self.left = self.left.saturating_sub(postings);
        let last = &self.table[self.begun - 1];
        self.ordinals.clear();
        self.ordinals.push(last.last);
        self.shapes.clear();
        self.shapes.push(0);
        self.here = 0;
        if let Some(next) = self.table.get(self.begun) {
            (self.at, self.next_occurrence) = (next.start, next.occurrences);
        }
    }

    fn step(&mut self) -> Result<bool, Broken> {
        self.here += 1;
        if self.here >= self.ordinals.len() {
            if self.left == 0 {
                self.here = self.ordinals.len().saturating_sub(1);
                return Ok(false);
            }
            self.begin_block()?;
        }
        let shape = self.shapes[self.here];
        if shape < self.kinds.kinds() && self.shelf.columns() == 1 {
            self.columns = ColumnSet(1);
            self.tf.clear();
            self.tf.push(1);
        } else {
            let mut rest = Reader::new(&self.bytes[self.at..]);
            self.columns = self.kinds.get(shape, &mut rest, &mut self.tf)?;
            self.at = self.bytes.len() - rest.left();
        }
        self.first_occurrence = self.next_occurrence;
        let occurrences = self.tf.iter().map(|tf| u64::from(*tf)).sum::<u64>();
        self.next_occurrence = self.first_occurrence.saturating_add(occurrences);
        Ok(true)
    }

    /// Whether every posting and every byte of the list have been read.
    pub fn at_end(&self) -> bool {
        self.left == 0 && self.here + 1 == self.ordinals.len() && self.at == self.bytes.len()
    }

    /// Unpacks the next block, and checks what the table says of it.
    fn begin_block(&mut self) -> Result<(), Broken> {
        let said = self.table.get(self.begun);
        if said.is_some_and(|block| (block.start, block.occurrences) != (self.at, self.next_occurrence)) {
            return Err(Broken("the size of a block"));
        }
        let count = (self.left as usize).min(self.shelf.block());
        let mut next = match self.ordinals.last() {
            Some(last) => last.checked_add(1).ok_or(Broken("the record of a posting"))?,
            None => 0,
        };
        let mut reader = Reader::new(&self.bytes[self.at..]);
        let (gaps, shapes) = (&mut self.ordinals, &mut self.shapes);
        get_block(&mut reader, self.kinds, count, gaps, shapes)?;
        for ordinal in &mut self.ordinals {
            *ordinal = next
                .checked_add(*ordinal)
                .filter(|ordinal| *ordinal < self.shelf.records())
                .ok_or(Broken("the record of a posting"))?;
            next = *ordinal + 1;
        }
        if said.is_some_and(|block| Some(&block.last) != self.ordinals.last()) {
            return Err(Broken("the end of a block"));
        }
        self.at = self.bytes.len() - reader.left();
        self.left -= u32::try_from(count).unwrap_or(self.left);
        self.begun += 1;
        self.here = 0;
        Ok(())
    }

    /// The bounds of each block, with the ordinal of its last posting; nothing for a list of one block.
    pub fn bounds(&self) -> impl Iterator<Item = Result<(u32, Bounds), Error>> {
        self.table.iter().map(|block| {
            let bytes = self.bytes.get(block.bounds.clone()).unwrap_or_default();
            Bounds::get(&mut Reader::new(bytes), self.shelf.columns())
                .map(|bounds| (block.last, bounds))
                .map_err(|what| self.shelf.broken(Section::Postings, what))
        })
    }

    /// Reads the table of a list of several blocks; checks that the blocks lie in the list.
    fn read_table(&mut self, blocks: usize) -> Result<(), Broken> {
        let mut whole = Reader::new(&self.bytes);
        let mut reader = Reader::new(whole.bytes()?);
        self.at = self.bytes.len() - whole.left();
        let (mut last, mut start, mut occurrences) = (None, self.at, 0_u64);
        for _ in 0..blocks {
            let gap = reader.varint_u32()?;
            last = match last {
                None => gap.checked_sub(1),
                Some(before) => u32::checked_add(before, gap),
            };
            let size = reader.size()?;
            let here = reader.varint()?;
            let bounds = reader.bytes()?.len();
            let bounds = self.at - reader.left() - bounds..self.at - reader.left();
            let ordinal =
                last.filter(|last| *last < self.shelf.records()).ok_or(Broken("the end of a block"))?;
            self.table.push(Block { last: ordinal, start, occurrences, bounds });
            start = start
                .checked_add(size)
                .filter(|end| *end <= self.bytes.len())
                .ok_or(Broken("the size of a block"))?;
            occurrences = occurrences.checked_add(here).ok_or(Broken("the occurrences of a block"))?;
        }
        Ok(())
    }
}

impl Shelf {
    /// The postings of a term, standing before the first.
    pub(crate) fn postings(self: &Arc<Self>, hand: &mut Hand, entry: &TermEntry) -> Step<Postings> {
        let kinds = Shapes::new(self.columns());
        let mut postings = Postings {
            shelf: Arc::clone(self),
            kinds,
            bytes: Bytes::new(),
            table: Vec::new(),
            begun: 0,
            at: 0,
            left: entry.records,
            ordinals: Vec::new(),
            shapes: Vec::new(),
            here: usize::MAX - 1,
            columns: ColumnSet::default(),
            tf: Vec::new(),
            first_occurrence: 0,
            next_occurrence: 0,
        };
        match &entry.lists {
            Lists::Once { ordinal, column, .. } => {
                if *ordinal >= self.records() || usize::from(*column) >= self.columns() {
                    return Err(self.broken(Section::Terms, Broken("an occurrence")).into());
                }
                let mut bytes = Vec::new();
                let shape = kinds.put(&[(*column, 1)], &mut Vec::new());
                put_block(&mut bytes, kinds, &[*ordinal], &[shape]);
                postings.bytes = bytes.into();
            }
            Lists::Written { postings: range, .. } => {
                postings.bytes = hand.get(self, self.within(Section::Postings, range.clone())?)?;
                let blocks = (entry.records as usize).div_ceil(self.block());
                if blocks > 1 {
                    postings.read_table(blocks).map_err(|what| self.broken(Section::Postings, what))?;
                }
            }
        }
        Ok(postings)
    }
}
