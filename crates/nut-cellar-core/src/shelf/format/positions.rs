//! Positions: where in the columns of its records a term stands, one number for each of its occurrences.
//!
//! The occurrences of a term stand in the order of its records, in each record by column; the first position in a column
//! counts from 0, the others from the one before. They are packed in chunks; a list of more than one chunk begins with
//! how many bytes each chunk has, but for the last.

use crate::error::Error;
use crate::schema::ColumnSet;
use crate::shelf::format::directory::Section;
use crate::shelf::format::pack;
use crate::shelf::format::terms::{Lists, TermEntry};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::postings::Postings;
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, put_varint};
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// Collects the positions of one term.
#[derive(Debug, Default)]
pub(in crate::shelf) struct PositionWriter {
    /// Numbers in a chunk.
    per_chunk: usize,
    chunk: Vec<u32>,
    sizes: Vec<u8>,
    chunks: Vec<u8>,
    count: u64,
}

impl PositionWriter {
    pub fn new(per_chunk: usize) -> Self {
        Self { per_chunk, ..Self::default() }
    }

    /// Appends the number of one occurrence.
    pub fn push(&mut self, number: u32) {
        if self.chunk.len() == self.per_chunk {
            let start = self.chunks.len();
            pack::put(&mut self.chunks, &self.chunk);
            put_varint(&mut self.sizes, (self.chunks.len() - start) as u64);
            self.chunk.clear();
        }
        self.chunk.push(number);
        self.count += 1;
    }

    /// How many were appended.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// Appends the list to `out`, and begins anew.
    pub fn finish(&mut self, out: &mut Vec<u8>) {
        pack::put(&mut self.chunks, &self.chunk);
        out.extend_from_slice(&self.sizes);
        out.extend_from_slice(&self.chunks);
        self.chunk.clear();
        self.sizes.clear();
        self.chunks.clear();
        self.count = 0;
    }
}

/// The positions of one term in one shelf, of which one chunk is unpacked.
#[derive(Debug)]
pub(crate) struct Positions {
    shelf: Arc<Shelf>,
    bytes: Bytes,
    /// Where the chunks begin in the bytes.
    starts: Vec<usize>,
    count: u64,
    /// The numbers of the chunk that is unpacked, and which occurrence is the first of them.
    numbers: Vec<u32>,
    first: usize,
}

impl Positions {
    /// So many, packed in these bytes.
    pub(in crate::shelf) fn new(shelf: &Arc<Shelf>, bytes: Bytes, count: u64) -> Result<Self, Broken> {
        let mut reader = Reader::new(&bytes);
        let chunks = usize::try_from(count.div_ceil(shelf.block() as u64))
            .map_err(|_| Broken("a number of positions"))?;
        let mut sizes = Vec::new();
        for _ in 1..chunks {
            sizes.push(reader.size()?);
        }
        let mut at = bytes.len() - reader.left();
        let mut starts = Vec::with_capacity(chunks.min(bytes.len()));
        starts.push(at);
        for size in sizes {
            at = at.checked_add(size).filter(|at| *at <= bytes.len()).ok_or(Broken("the size of a chunk"))?;
            starts.push(at);
        }
        Ok(Self { shelf: Arc::clone(shelf), bytes, starts, count, numbers: Vec::new(), first: 0 })
    }

    /// Gives the numbers of some occurrences to `take`.
    fn numbers(&mut self, occurrences: Range<u64>, mut take: impl FnMut(u32)) -> Result<(), Broken> {
        if occurrences.end > self.count {
            return Err(Broken("the number of positions"));
        }
        let place = |occurrence: u64| usize::try_from(occurrence).expect("checked against a list in memory");
        let (mut at, end) = (place(occurrences.start), place(occurrences.end));
        while at < end {
            // Most lie in the chunk at hand, and dividing takes longer than reading them.
            let mut within = at.wrapping_sub(self.first);
            if within >= self.numbers.len() {
                let block = self.shelf.block();
                self.unpack(at / block)?;
                within = at % block;
            }
            let here = &self.numbers[within..(within + end - at).min(self.numbers.len())];
            for number in here {
                take(*number);
            }
            at += here.len();
        }
        Ok(())
    }

    /// Whether the last chunk ends where the list does.
    pub fn at_end(&mut self) -> Result<bool, Broken> {
        let last = self.starts.len() - 1;
        self.unpack(last)?;
        let mut reader = Reader::new(&self.bytes[self.starts[last]..]);
        pack::get(&mut reader, self.numbers.len(), &mut Vec::new())?;
        Ok(reader.is_empty())
    }

    fn unpack(&mut self, chunk: usize) -> Result<(), Broken> {
        let block = self.shelf.block();
        let before = chunk as u64 * block as u64;
        let count = usize::try_from(self.count - before).unwrap_or(block).min(block);
        let unpacked =
            pack::get(&mut Reader::new(&self.bytes[self.starts[chunk]..]), count, &mut self.numbers);
        if unpacked.is_err() {
            self.numbers.clear();
        }
        self.first = chunk * block;
        unpacked
    }

    /// Gives `take` the positions of the posting at which `postings` stands, of the forms and in the columns that are wanted: each with its
    /// column, ascending.
    pub fn of(
        &mut self,
        postings: &Postings,
        wanted: ColumnSet,
        mut take: impl FnMut(usize, u32),
    ) -> Result<(), Error> {
        self.each(postings, wanted, |column, position, occurrence| {
            if postings.is_wanted_at(occurrence) {
                take(column, position);
            }
        })
    }

    /// The same of all forms; with which of the list's occurrences it is.
    pub fn each(
        &mut self,
        postings: &Postings,
        wanted: ColumnSet,
        mut take: impl FnMut(usize, u32, u64),
    ) -> Result<(), Error> {
        for (column, occurrences) in postings.occurrences() {
            if wanted.has(column) {
                let (mut position, mut here) = (Some(0_u32), occurrences.start);
                let read = self.numbers(occurrences, |number| {
                    position = position.and_then(|position| position.checked_add(number));
                    take(column, position.unwrap_or(u32::MAX), here);
                    here += 1;
                });
                read.and(position.map(|_| ()).ok_or(Broken("a position")))
                    .map_err(|what| self.shelf.broken(Section::Positions, what))?;
            }
        }
        Ok(())
    }
}

impl Shelf {
    /// All positions of a term.
    pub(crate) fn positions(self: &Arc<Self>, held: &mut Held, entry: &TermEntry) -> Step<Positions> {
        let (bytes, count) = match &entry.lists {
            Lists::Once { position, .. } => {
                let mut packed = Vec::new();
                pack::put(&mut packed, &[*position]);
                (packed.into(), 1)
            }
            Lists::Written { occurrences, positions, .. } => {
                (held.get(self, self.within(Section::Positions, positions.clone())?)?, *occurrences)
            }
        };
        Ok(Positions::new(self, bytes, count).map_err(|what| self.broken(Section::Positions, what))?)
    }
}
