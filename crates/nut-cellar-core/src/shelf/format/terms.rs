//! The terms of a shelf, in order, each with where its postings and positions are.

use crate::error::Result;
use crate::shelf::build::output::Output;
use crate::shelf::format::directory::Section;
use crate::shelf::format::entries::Entries;
use crate::shelf::format::grams::{GROUP, GramWriter};
use crate::shelf::format::sorted::{PartBytes, SortedWriter, first_entry, parts_of};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, put_varint};
use std::cmp::Ordering;
use std::ops::Range;
use std::sync::Arc;

/// Terms in a block, of which a lookup reads one.
pub(in crate::shelf) const PER_BLOCK: usize = 256;

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
/// lengths; the first of a part also says where they begin.
pub(in crate::shelf) struct TermWriter {
    blocks: SortedWriter,
    columns: u64,
    ends: Ends,
    /// None where terms are not to be found by their letters.
    grams: Option<GramWriter>,
}

/// Where the lists of the terms so far end in their sections.
#[derive(Clone, Copy, Debug, Default)]
pub(in crate::shelf) struct Ends {
    postings: u64,
    positions: u64,
}

impl TermWriter {
    /// For a schema of so many text columns.
    pub fn new(columns: usize) -> Self {
        let blocks = SortedWriter::of_parts(PER_BLOCK, GROUP);
        Self { blocks, columns: columns as u64, ends: Ends::default(), grams: None }
    }

    /// Writes what finds terms by their letters, too.
    pub fn with_grams(self) -> Self {
        Self { grams: Some(GramWriter::default()), ..self }
    }

    /// Takes a term that is greater than the one before.
    pub fn push(&mut self, term: &str, entry: &TermEntry) {
        if let Some(grams) = &mut self.grams {
            grams.push(term);
        }
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
        if let Some(grams) = self.grams {
            return grams.write(out);
        }
        out.end(Section::Grams);
        out.end(Section::GramIndex);
        Ok(())
    }
}

/// The part, from one on, that has a term if any of these has: the last whose first term is not greater, or else that one.
pub(in crate::shelf) fn part_with(
    parts: &[PartBytes<'_>],
    first: usize,
    term: &[u8],
) -> Result<usize, Broken> {
    let (mut low, mut high) = (first + 1, parts.len());
    while low < high {
        let middle = usize::midpoint(low, high);
        if first_entry(parts[middle].0)? <= term {
            low = middle + 1;
        } else {
            high = middle;
        }
    }
    Ok(low - 1)
}

/// Goes through the terms of a part of a block; reads what belongs to a term when it is asked for.
pub(in crate::shelf) struct TermPart<'a> {
    entries: Entries<'a>,
    payloads: Reader<'a>,
    columns: usize,
    /// So many terms have been gone through, of so many the payloads were read, and the last of these.
    gone: usize,
    read: usize,
    last: Option<TermEntry>,
    ends: Option<Ends>,
}

impl<'a> TermPart<'a> {
    /// A part that [`parts_of`] gave, of a shelf with so many text columns.
    pub fn new(columns: usize, (entries, payloads): PartBytes<'a>) -> Self {
        Self {
            entries: Entries::new(entries),
            payloads: Reader::new(payloads),
            columns,
            gone: 0,
            read: 0,
            last: None,
            ends: None,
        }
    }

    /// Goes to the next term, if there is one.
    pub fn advance(&mut self) -> Result<bool, Broken> {
        if !self.entries.advance()? {
            return Ok(false);
        }
        self.gone += 1;
        Ok(true)
    }

    /// Goes to the first term that is no less than `wanted`, which the one at which it stands is, if there is one.
    pub fn advance_over(&mut self, wanted: &[u8]) -> Result<bool, Broken> {
        let passed = self.entries.advance_over(wanted)?;
        self.gone += passed.map_or(0, |passed| passed + 1);
        Ok(passed.is_some())
    }

    /// The term.
    pub fn term(&self) -> &[u8] {
        self.entries.entry()
    }

    /// Where the lists of the term are.
    pub fn entry(&mut self) -> Result<TermEntry, Broken> {
        if self.read < self.gone {
            while self.read + 1 < self.gone {
                pass(&mut self.payloads, &mut self.ends)?;
                self.read += 1;
            }
            self.last = Some(payload(&mut self.payloads, &mut self.ends, self.columns)?);
            self.read = self.gone;
        }
        self.last.clone().ok_or(Broken("a term"))
    }

    /// Whether all payloads have been read, and no more are there.
    fn is_done(&self) -> bool {
        self.read == self.gone && self.payloads.is_empty()
    }
}

/// Where the lists before a term end: at the beginning of a part, where nothing is known of them, it says so.
fn ends_before<'e>(from: &mut Reader<'_>, ends: &'e mut Option<Ends>) -> Result<&'e mut Ends, Broken> {
    Ok(match ends {
        Some(ends) => ends,
        none => none.insert(Ends { postings: from.varint()?, positions: from.varint()? }),
    })
}

/// Passes over the payload of a term.
fn pass(from: &mut Reader<'_>, ends: &mut Option<Ends>) -> Result<(), Broken> {
    let ends = ends_before(from, ends)?;
    let (first, _) = (from.varint()?, from.varint()?);
    if first % 2 == 0 {
        next_range(&mut ends.postings, from)?;
        next_range(&mut ends.positions, from)?;
    }
    Ok(())
}

/// Reads the payload of a term; `ends` is where the lists before it end, none at the beginning of a part.
fn payload(from: &mut Reader<'_>, ends: &mut Option<Ends>, columns: usize) -> Result<TermEntry, Broken> {
    let ends = ends_before(from, ends)?;
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

/// Looks for a term in a block.
fn find_in(columns: usize, block: &[u8], term: &[u8]) -> Result<Option<TermEntry>, Broken> {
    let (parts, count) = parts_of(block)?;
    let wanted = part_with(&parts[..count], 0, term)?;
    let mut part = TermPart::new(columns, parts[wanted]);
    while part.advance()? {
        match part.term().cmp(term) {
            Ordering::Less => {}
            Ordering::Equal => return part.entry().map(Some),
            Ordering::Greater => return Ok(None),
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
    pub(crate) fn find_term(self: &Arc<Self>, held: &mut Held, term: &str) -> Step<Option<TermEntry>> {
        let index = self.index_of(held, Section::Terms)?;
        let term = term.as_bytes();
        let Some(block) = self.locate(Section::Terms, &index, term)? else { return Ok(None) };
        let bytes = self.block_of(held, Section::Terms, &index, block)?;
        Ok(find_in(self.columns(), &bytes, term).map_err(|what| self.broken(Section::Terms, what))?)
    }

    /// The terms of block `block`, in order; none past the last.
    pub(in crate::shelf) fn terms_in(
        self: &Arc<Self>,
        held: &mut Held,
        block: usize,
    ) -> Step<Vec<(Vec<u8>, TermEntry)>> {
        let index = self.index_of(held, Section::Terms)?;
        if block >= index.blocks() {
            return Ok(Vec::new());
        }
        let bytes = self.block_of(held, Section::Terms, &index, block)?;
        let all = || {
            let mut all = Vec::new();
            let (parts, count) = parts_of(&bytes)?;
            for (number, part) in parts[..count].iter().enumerate() {
                let mut part = TermPart::new(self.columns(), *part);
                while part.advance()? {
                    let entry = part.entry()?;
                    all.push((part.term().to_vec(), entry));
                }
                // Groups of terms are found by the places of parts.
                if !part.is_done() || (number + 1 < count && part.gone != GROUP) {
                    return Err(Broken("the terms of a part"));
                }
            }
            Ok(all)
        };
        Ok(all().map_err(|what| self.broken(Section::Terms, what))?)
    }

    /// The most groups of terms that there may be.
    pub(in crate::shelf) fn term_groups(self: &Arc<Self>, held: &mut Held) -> Step<usize> {
        Ok(self.index_of(held, Section::Terms)?.blocks() * (PER_BLOCK / GROUP))
    }
}
