//! The terms of a shelf, in order, each with where its postings and positions are.

use super::directory::Section;
use super::grams::{GROUP, GramWriter};
use super::hand::{Hand, Step};
use super::output::Output;
use super::reader::Shelf;
use super::sorted::{SortedWriter, get_head};
use crate::error::Result;
use crate::wire::{Broken, Reader, put_varint};
use std::cmp::Ordering;
use std::ops::Range;
use std::sync::Arc;

/// Terms in a block: a lookup reads the index and one block, and goes through half of that.
pub(super) const PER_BLOCK: usize = 256;

/// Where the lists of one term are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct TermEntry {
    /// The number of records it is in, the removed ones included.
    pub records: u32,
    /// Where they are.
    pub lists: Lists,
}

impl TermEntry {
    /// Of a term that occurs once.
    pub fn once(ordinal: u32, column: u8, position: u32) -> Self {
        Self { records: 1, lists: Lists::Once { ordinal, column, position } }
    }

    /// Moves the lists so far from the beginnings of their sections.
    pub fn move_lists(&mut self, by_postings: u64, by_positions: u64) {
        if let Lists::Written { postings, positions, .. } = &mut self.lists {
            *postings = postings.start + by_postings..postings.end + by_postings;
            *positions = positions.start + by_positions..positions.end + by_positions;
        }
    }

    /// How often the term occurs.
    pub fn occurrences(&self) -> u64 {
        match self.lists {
            Lists::Once { .. } => 1,
            Lists::Written { occurrences, .. } => occurrences,
        }
    }
}

/// Where the lists of a term are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Lists {
    /// The term occurs once, as most do: here.
    Once {
        /// The record.
        ordinal: u32,
        /// The text column.
        column: u8,
        /// The position in it.
        position: u32,
    },
    /// It has lists.
    Written {
        /// How often the term occurs.
        occurrences: u64,
        /// Its postings, counted from the beginning of their section.
        postings: Range<u64>,
        /// Its positions, counted from the beginning of their section.
        positions: Range<u64>,
    },
}

/// Packs the terms. The lists of the terms follow one another without gaps, so an entry needs only their
/// lengths; the first of a block also says where they begin.
pub(super) struct TermWriter {
    blocks: SortedWriter,
    columns: u64,
    ends: Ends,
    grams: GramWriter,
}

/// Where the lists of the terms so far end in their sections.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Ends {
    postings: u64,
    positions: u64,
}

impl TermWriter {
    /// For a schema of so many text columns.
    pub fn new(columns: usize) -> Self {
        let (ends, grams) = (Ends::default(), GramWriter::default());
        Self { blocks: SortedWriter::new(PER_BLOCK), columns: columns as u64, ends, grams }
    }

    /// Takes a term that is greater than the one before.
    pub fn push(&mut self, term: &str, entry: &TermEntry) {
        self.grams.push(term);
        let (columns, ends) = (self.columns, &mut self.ends);
        self.blocks.push(term.as_bytes(), |block, first| {
            if first {
                put_varint(block, ends.postings);
                put_varint(block, ends.positions);
            }
            match &entry.lists {
                Lists::Once { ordinal, column, position } => {
                    put_varint(block, u64::from(*ordinal) * 2 + 1);
                    put_varint(block, u64::from(*position) * columns + u64::from(*column));
                }
                Lists::Written { occurrences, postings, positions } => {
                    put_varint(block, u64::from(entry.records) * 2);
                    put_varint(block, occurrences - u64::from(entry.records));
                    put_varint(block, postings.end - postings.start);
                    put_varint(block, positions.end - positions.start);
                    *ends = Ends { postings: postings.end, positions: positions.end };
                }
            }
        });
    }

    /// Writes the terms, what finds them by their middles, and the indexes of both.
    pub fn write(self, out: &mut Output<'_>) -> Result<()> {
        self.blocks.finish(out, Section::Terms, Section::TermIndex)?;
        self.grams.write(out)
    }
}

/// Reads the payload of a term; `ends` is where the lists before it end, none at the beginning of a block.
pub(super) fn payload(
    from: &mut Reader<'_>,
    ends: &mut Option<Ends>,
    columns: usize,
) -> Result<TermEntry, Broken> {
    let ends = match ends {
        Some(ends) => ends,
        none => none.insert(Ends { postings: from.varint()?, positions: from.varint()? }),
    };
    let first = from.varint()?;
    let half = u32::try_from(first / 2).map_err(|_| Broken("a number of 32 bits"))?;
    if first % 2 == 1 {
        let place = from.varint()?;
        let column = u8::try_from(place % columns as u64).map_err(|_| Broken("a column"))?;
        let position = u32::try_from(place / columns as u64).map_err(|_| Broken("a position"))?;
        return Ok(TermEntry::once(half, column, position));
    }
    let occurrences = from.varint()?.checked_add(half.into()).ok_or(Broken("the occurrences of a term"))?;
    let postings = next_range(&mut ends.postings, from)?;
    let positions = next_range(&mut ends.positions, from)?;
    Ok(TermEntry { records: half, lists: Lists::Written { occurrences, postings, positions } })
}

/// Looks for a term in a block. The entries are not put together for it: how much of the term the one before had tells
/// most of them apart.
fn find_in(block: &[u8], columns: usize, term: &[u8]) -> Result<Option<TermEntry>, Broken> {
    let (mut from, mut ends) = (Reader::new(block), None);
    // How many bytes the entry before, which is less, has in common with the term.
    let mut common = 0;
    while !from.is_empty() {
        let (shared, own) = get_head(&mut from)?;
        let own = from.take(own)?;
        let entry = payload(&mut from, &mut ends, columns)?;
        if shared < common {
            return Ok(None);
        }
        if shared == common {
            let rest = &term[common..];
            let more = own.iter().zip(rest).take_while(|(a, b)| a == b).count();
            match own[more..].cmp(&rest[more..]) {
                Ordering::Less => common += more,
                Ordering::Equal => return Ok(Some(entry)),
                Ordering::Greater => return Ok(None),
            }
        }
    }
    Ok(None)
}

/// The range from the end before, which becomes the end of this one.
fn next_range(end: &mut u64, from: &mut Reader<'_>) -> Result<Range<u64>, Broken> {
    let start = *end;
    *end = start.checked_add(from.varint()?).ok_or(Broken("the length of a list"))?;
    Ok(start..*end)
}

impl Shelf {
    /// A term, if the shelf has it.
    pub(crate) fn find_term(self: &Arc<Self>, hand: &mut Hand, term: &str) -> Step<Option<TermEntry>> {
        let index = self.index_of(hand, Section::Terms)?;
        let term = term.as_bytes();
        let Some(block) = self.locate(Section::Terms, &index, term)? else { return Ok(None) };
        let bytes = self.block_of(hand, Section::Terms, &index, block)?;
        Ok(find_in(&bytes, self.columns(), term).map_err(|what| self.broken(Section::Terms, what))?)
    }

    /// The terms of block `block`, in order; none past the last.
    pub(super) fn terms_in(
        self: &Arc<Self>,
        hand: &mut Hand,
        block: usize,
    ) -> Step<Vec<(Vec<u8>, TermEntry)>> {
        let mut ends = None;
        self.entries_in(hand, (Section::Terms, block), |term, from| {
            Ok((term.to_vec(), payload(from, &mut ends, self.columns())?))
        })
    }

    /// The most groups of terms that there may be.
    pub(super) fn term_groups(self: &Arc<Self>, hand: &mut Hand) -> Step<usize> {
        Ok(self.index_of(hand, Section::Terms)?.blocks() * (PER_BLOCK / GROUP))
    }
}
