//! Postings and positions: in which records a term is, how often in which column, and where.
//!
//! A posting is, in varints: the gap to the ordinal before (the first counts from -1), the set of columns, for each of
//! them how often, and how many bytes of positions belong to it. Its positions are, for each of the columns in order,
//! gaps as well. So a search that asks for no phrase never reads a position.

use super::directory::Section;
use super::hand::{Hand, Step};
use super::reader::Shelf;
use super::terms::TermEntry;
use crate::error::Error;
use crate::schema::ColumnSet;
use crate::wire::{Broken, Reader, put_varint};
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// Collects the lists of one term.
#[derive(Default)]
pub(super) struct PostingWriter {
    /// The bytes of the postings so far.
    pub postings: Vec<u8>,
    /// The bytes of the positions so far.
    pub positions: Vec<u8>,
    /// How many postings there are.
    pub records: u32,
    next_ordinal: u32,
    tf: Vec<u32>,
}

impl PostingWriter {
    /// Forgets the term before.
    pub fn clear(&mut self) {
        self.postings.clear();
        self.positions.clear();
        self.records = 0;
        self.next_ordinal = 0;
    }

    /// Appends a posting. `places` are the (column, position) of a term in one record, ascending.
    pub fn push(&mut self, ordinal: u32, places: impl Iterator<Item = (u8, u32)>) {
        let start = self.positions.len();
        let mut columns = ColumnSet::default();
        let mut last = None;
        self.tf.clear();
        for (column, position) in places {
            let same_column = last.filter(|(before, _)| *before == column).map(|(_, position)| position);
            if let Some(before) = same_column {
                put_varint(&mut self.positions, u64::from(position - before));
                *self.tf.last_mut().expect("a column was begun") += 1;
            } else {
                put_varint(&mut self.positions, u64::from(position));
                columns = columns.with(usize::from(column));
                self.tf.push(1);
            }
            last = Some((column, position));
        }
        put_varint(&mut self.postings, u64::from(ordinal - self.next_ordinal) + 1);
        put_varint(&mut self.postings, columns.0);
        for &tf in &self.tf {
            put_varint(&mut self.postings, u64::from(tf));
        }
        put_varint(&mut self.postings, (self.positions.len() - start) as u64);
        self.next_ordinal = ordinal + 1;
        self.records += 1;
    }
}

/// Walks through the postings of one term in one shelf.
///
/// What always holds: ordinals ascend and are below the number of records, the columns are columns of the shelf, and
/// the ranges of positions lie inside the term's positions.
#[derive(Debug)]
pub(crate) struct Postings {
    shelf: Arc<Shelf>,
    bytes: Bytes,
    at: usize,
    left: u32,
    positions_end: u64,
    all_positions: u64,
    ordinal: u32,
    columns: ColumnSet,
    tf: Vec<u32>,
    positions: Range<u64>,
}

impl Postings {
    /// Whether it stands at a posting, and at which record's.
    pub fn ordinal(&self) -> u32 {
        self.ordinal
    }

    /// The columns of the record that the term is in.
    pub fn columns(&self) -> ColumnSet {
        self.columns
    }

    /// For each of the columns how often.
    pub fn frequencies(&self) -> impl Iterator<Item = (usize, u32)> {
        self.columns.iter().zip(self.tf.iter().copied())
    }

    /// Where the positions of this posting are among the term's positions.
    pub fn positions(&self) -> Range<usize> {
        let place = |offset| usize::try_from(offset).expect("checked against a list that is in memory");
        place(self.positions.start)..place(self.positions.end)
    }

    /// Goes to the next posting, if there is one.
    pub fn advance(&mut self) -> Result<bool, Error> {
        if self.left == 0 {
            return Ok(false);
        }
        self.read().map_err(|what| self.shelf.broken(Section::Postings, what))?;
        Ok(true)
    }

    fn read(&mut self) -> Result<(), Broken> {
        let mut reader = Reader::new(&self.bytes[self.at..]);
        let gap = reader.varint_u32()?;
        let first = self.at == 0;
        let ordinal = if first { gap.checked_sub(1) } else { self.ordinal.checked_add(gap) };
        self.ordinal = ordinal
            .filter(|&ordinal| gap > 0 && ordinal < self.shelf.records())
            .ok_or(Broken("the record of a posting"))?;
        self.columns = ColumnSet(reader.varint()?);
        if self.columns.is_empty() || self.columns.0 >> (self.shelf.columns() - 1) > 1 {
            return Err(Broken("the columns of a posting"));
        }
        self.tf.clear();
        for _ in self.columns.iter() {
            self.tf.push(reader.varint_u32()?);
        }
        let start = self.positions_end;
        self.positions_end = start
            .checked_add(reader.varint()?)
            .filter(|&end| end <= self.all_positions)
            .ok_or(Broken("the positions of a posting"))?;
        self.positions = start..self.positions_end;
        self.at = self.bytes.len() - reader.left();
        self.left -= 1;
        Ok(())
    }
}

/// The positions of one posting, in the columns of `wanted`, appended to `out` as (column, position), ascending.
pub(crate) fn positions_in(
    postings: &Postings,
    positions: &[u8],
    wanted: ColumnSet,
    out: &mut Vec<(usize, u32)>,
) -> Result<(), Error> {
    let read = |out: &mut Vec<(usize, u32)>| {
        let mut reader =
            Reader::new(positions.get(postings.positions()).ok_or(Broken("a run of positions"))?);
        for (column, tf) in postings.frequencies() {
            let mut position = 0_u32;
            for _ in 0..tf {
                position = position.checked_add(reader.varint_u32()?).ok_or(Broken("a position"))?;
                if wanted.has(column) {
                    out.push((column, position));
                }
            }
        }
        Ok(())
    };
    read(out).map_err(|what| postings.shelf.broken(Section::Positions, what))
}

impl Shelf {
    /// The postings of a term, standing before the first.
    pub(crate) fn postings(self: &Arc<Self>, hand: &mut Hand, entry: &TermEntry) -> Step<Postings> {
        let bytes = hand.get(self, self.within(Section::Postings, entry.postings.clone())?)?;
        Ok(Postings {
            shelf: Arc::clone(self),
            bytes,
            at: 0,
            left: entry.records,
            positions_end: 0,
            all_positions: entry.positions.end - entry.positions.start,
            ordinal: 0,
            columns: ColumnSet::default(),
            tf: Vec::new(),
            positions: 0..0,
        })
    }

    /// All positions of a term.
    pub(crate) fn positions(self: &Arc<Self>, hand: &mut Hand, entry: &TermEntry) -> Step<Bytes> {
        hand.get(self, self.within(Section::Positions, entry.positions.clone())?)
    }
}
