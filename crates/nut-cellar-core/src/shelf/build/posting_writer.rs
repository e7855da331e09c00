//! Writing postings: the list of one class of terms after the other, packed in blocks (see `postings`).

use crate::shelf::format::bounds::Bounds;
use crate::shelf::format::forms::FormsHere;
use crate::shelf::format::positions::PositionWriter;
use crate::shelf::format::posting_block::put_block;
use crate::shelf::format::shapes::Shapes;
use crate::shelf::format::terms::{Lists, TermEntry};
use crate::shelf::format::text_columns::TextColumns;
use crate::wire::{put_bytes, put_varint};
use std::sync::Arc;

/// Collects the lists of one class of terms after the other.
pub(in crate::shelf) struct PostingWriter {
    per_block: usize,
    kinds: Shapes,
    forms: u32,
    /// Whether the list may have more than one block, and so a table.
    long: bool,
    gaps: Vec<u32>,
    shapes: Vec<u32>,
    rest: Vec<u8>,
    bounds: Bounds,
    /// What the shapes of the block have for their forms, as bits.
    codes: u8,
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
    /// For each occurrence that is in a beginning, too, which it is.
    in_beginnings: Vec<u8>,
    /// The form of each occurrence in the record, and what is told of them.
    occurrences: Vec<u32>,
    here_forms: FormsHere,
}

impl PostingWriter {
    /// For a shelf with these text columns.
    pub fn new(per_block: usize, columns: &Arc<TextColumns>) -> Self {
        Self {
            per_block,
            kinds: Shapes::new(columns, 1),
            forms: 1,
            long: false,
            gaps: Vec::new(),
            shapes: Vec::new(),
            rest: Vec::new(),
            bounds: Bounds::default(),
            codes: 0,
            block_occurrences: 0,
            block_start: 0,
            next_ordinal: 0,
            table: Vec::new(),
            blocks: Vec::new(),
            positions: PositionWriter::new(per_block),
            records: 0,
            first: (0, 0, 0),
            tf: Vec::new(),
            in_beginnings: Vec::new(),
            occurrences: Vec::new(),
            here_forms: FormsHere::default(),
        }
    }

    /// Begins a list of at most so many postings, of so many forms.
    pub fn begin(&mut self, most: usize, forms: usize) {
        self.long = most > self.per_block;
        self.forms = u32::try_from(forms).expect("fewer forms than tokens in memory");
        self.kinds.set_forms(self.forms);
    }

    /// Appends a posting to the list that was begun. `places` are the (column, position, form) of its terms in one record, ascending, in
    /// columns that are no beginnings; `length` tells how long a column of the record is.
    pub fn push(
        &mut self,
        ordinal: u32,
        places: impl Iterator<Item = (u8, u32, u32)>,
        length: impl Fn(usize) -> u32,
    ) {
        if self.gaps.len() == self.per_block {
            self.end_block();
        }
        self.tf.clear();
        self.occurrences.clear();
        let mut before = 0;
        for (column, position, form) in places {
            if self.forms > 1 {
                self.occurrences.push(form);
            }
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
            self.block_occurrences += 1;
            let beginnings = self.kinds.text_columns().beginnings_of(column.into());
            let has = beginnings.filter(|beginning| position < beginning.words.into());
            self.in_beginnings.extend(has.map(|beginning| beginning.column));
        }
        self.add_beginnings();
        if self.long {
            self.bounds.add(&self.tf, length);
        }
        let mut shape = self.kinds.put(&self.tf, &mut self.rest);
        if self.forms > 1 {
            let first = self.occurrences[0];
            let one = self.occurrences.iter().all(|form| *form == first).then_some(first);
            shape = self.kinds.with_form(shape, one);
            if self.kinds.form(shape).is_none() {
                self.here_forms.set(&self.occurrences);
                self.here_forms.put(&mut self.rest);
            }
            self.codes |= 1 << self.kinds.parts(shape).0;
        }
        self.shapes.push(shape);
        self.gaps.push(ordinal - self.next_ordinal);
        self.next_ordinal = ordinal + 1;
        self.records += 1;
    }

    /// Adds the frequencies in beginnings.
    fn add_beginnings(&mut self) {
        if self.in_beginnings.is_empty() {
            return;
        }
        self.in_beginnings.sort_unstable();
        let several = self.in_beginnings.chunk_by(|a, b| a == b);
        self.tf.extend(several.map(|same| (same[0], u32::try_from(same.len()).unwrap_or(u32::MAX))));
        self.tf.sort_unstable();
        self.in_beginnings.clear();
    }

    fn end_block(&mut self) {
        let start = self.blocks.len();
        put_block(&mut self.blocks, &self.kinds, &self.gaps, &self.shapes);
        self.blocks.append(&mut self.rest);
        if self.long {
            put_varint(&mut self.table, u64::from(self.next_ordinal - self.block_start));
            put_varint(&mut self.table, (self.blocks.len() - start) as u64);
            put_varint(&mut self.table, self.block_occurrences);
            if self.forms > 1 {
                self.table.push(self.codes);
            }
            let mut bounds = Vec::new();
            self.bounds.put(&mut bounds);
            put_bytes(&mut self.table, &bounds);
        }
        self.gaps.clear();
        self.shapes.clear();
        self.codes = 0;
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
        let forms = self.forms;
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
        Some(TermEntry::new(lists, records, forms))
    }
}
