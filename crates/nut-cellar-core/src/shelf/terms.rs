//! The terms of a shelf, in order, each with where its postings and positions are.

use super::directory::Section;
use super::hand::{Hand, Step};
use super::output::Output;
use super::reader::Shelf;
use super::sorted::{Entries, SortedIndex, SortedWriter};
use crate::error::Result;
use crate::wire::{Broken, Reader, put_varint};
use std::ops::Range;
use std::sync::Arc;

/// Terms in a block: a lookup reads one block and decodes half of it.
const PER_BLOCK: usize = 64;

/// Where the lists of one term are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct TermEntry {
    /// The number of records it is in, the removed ones included.
    pub records: u32,
    /// Its postings, counted from the beginning of their section.
    pub postings: Range<u64>,
    /// Its positions, counted from the beginning of their section.
    pub positions: Range<u64>,
}

/// Writes the terms section. The lists of the terms follow one another without gaps, so an entry needs only their
/// lengths; the first of a block also says where they begin.
pub(super) struct TermWriter {
    blocks: SortedWriter,
}

impl TermWriter {
    pub fn new() -> Self {
        Self { blocks: SortedWriter::new(PER_BLOCK) }
    }

    pub fn push(&mut self, out: &mut Output<'_>, term: &str, entry: &TermEntry) -> Result<()> {
        self.blocks.push(out, term.as_bytes(), |block, first| {
            put_varint(block, u64::from(entry.records));
            for range in [&entry.postings, &entry.positions] {
                if first {
                    put_varint(block, range.start);
                }
                put_varint(block, range.end - range.start);
            }
        })
    }

    /// Ends the section; gives the term index.
    pub fn finish(self, out: &mut Output<'_>) -> Result<Vec<u8>> {
        self.blocks.finish(out)
    }
}

/// Walks through one block of terms.
struct TermEntries<'a> {
    entries: Entries<'a>,
    before: Option<TermEntry>,
}

impl<'a> TermEntries<'a> {
    fn new(block: &'a [u8]) -> Self {
        Self { entries: Entries::new(block), before: None }
    }

    fn advance(&mut self) -> Result<Option<TermEntry>, Broken> {
        if !self.entries.advance()? {
            return Ok(None);
        }
        let from = self.entries.payload();
        let records = from.varint_u32()?;
        let (postings, positions) = match &self.before {
            None => (range_at(None, from)?, range_at(None, from)?),
            Some(before) => {
                (range_at(Some(before.postings.end), from)?, range_at(Some(before.positions.end), from)?)
            }
        };
        let entry = TermEntry { records, postings, positions };
        self.before = Some(entry.clone());
        Ok(Some(entry))
    }
}

fn range_at(start: Option<u64>, from: &mut Reader<'_>) -> Result<Range<u64>, Broken> {
    let start = match start {
        Some(start) => start,
        None => from.varint()?,
    };
    let end = start.checked_add(from.varint()?).ok_or(Broken("the length of a list"))?;
    Ok(start..end)
}

impl Shelf {
    /// A term, if the shelf has it.
    pub(crate) fn find_term(self: &Arc<Self>, hand: &mut Hand, term: &str) -> Step<Option<TermEntry>> {
        let index = self.term_index(hand)?;
        let term = term.as_bytes();
        let Some(block) = index.locate(term).map_err(|what| self.broken(Section::TermIndex, what))? else {
            return Ok(None);
        };
        self.scan_terms(hand, &index, block, |known, entry| match known.cmp(term) {
            std::cmp::Ordering::Less => None,
            std::cmp::Ordering::Equal => Some(Some(entry.clone())),
            std::cmp::Ordering::Greater => Some(None),
        })
        .map(Option::flatten)
    }

    /// All terms of block `block`, in order; an empty list past the last.
    pub(crate) fn term_block(self: &Arc<Self>, hand: &mut Hand, block: usize) -> Step<Vec<Vec<u8>>> {
        let index = self.term_index(hand)?;
        let mut terms = Vec::new();
        if block < index.blocks() {
            self.scan_terms(hand, &index, block, |term, _| {
                terms.push(term.to_vec());
                None::<()>
            })?;
        }
        Ok(terms)
    }

    /// Goes through a block until `found` answers something.
    fn scan_terms<T>(
        self: &Arc<Self>,
        hand: &mut Hand,
        index: &SortedIndex,
        block: usize,
        mut found: impl FnMut(&[u8], &TermEntry) -> Option<T>,
    ) -> Step<Option<T>> {
        let range = index.block(block).map_err(|what| self.broken(Section::TermIndex, what))?;
        let bytes = hand.get(self, self.within(Section::Terms, range)?)?;
        let mut entries = TermEntries::new(&bytes);
        while let Some(entry) = entries.advance().map_err(|what| self.broken(Section::Terms, what))? {
            if let Some(answer) = found(entries.entries.entry(), &entry) {
                return Ok(Some(answer));
            }
        }
        Ok(None)
    }

    fn term_index(self: &Arc<Self>, hand: &mut Hand) -> Step<SortedIndex> {
        let bytes = hand.get(self, self.section(Section::TermIndex))?;
        Ok(SortedIndex::new(bytes).map_err(|what| self.broken(Section::TermIndex, what))?)
    }
}
