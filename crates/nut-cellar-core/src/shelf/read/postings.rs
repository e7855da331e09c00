//! Postings: in which records a term is, and how often in which column.
//!
//! They are packed in blocks: the gaps between the ordinals, then the shapes (see `posting_block` and `shapes`), then the rest of
//! what the postings that are in several columns need.
//!
//! A list of more than one block begins with a table: for each block its last ordinal, how many bytes and occurrences it
//! has, and what bounds its scores. Short lists have none.

use crate::error::Error;
use crate::schema::ColumnSet;
use crate::shelf::format::bounds::Bounds;
use crate::shelf::format::directory::Section;
use crate::shelf::format::pack;
use crate::shelf::format::posting_block::{add_up, get_block, put_block};
use crate::shelf::format::shapes::Shapes;
use crate::shelf::format::terms::{Lists, TermEntry};
use crate::shelf::read::cache::{Asked, Key, ListKey};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::shelf::read::table::{Most, Table, read_table};
use crate::shelf::read::unpacked::UnpackedList;
use crate::wire::{Broken, Reader};
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// What an ordinal is past the end of a list: no record has it.
pub(crate) const END: u32 = u32::MAX;

/// Tables of fewer blocks are read as fast as they are looked up.
const LONG_TABLE: usize = 16;

/// Walks through the postings of one term in one shelf, by blocks. Of the block at which it stands the ordinals are unpacked, and
/// the shapes when they are asked for; what else there is to know of a posting is read when it is asked for.
///
/// What always holds: ordinals ascend and are below the number of records, and the columns are columns of the shelf.
#[derive(Clone, Debug)]
pub(crate) struct Postings {
    shelf: Arc<Shelf>,
    kinds: Shapes,
    bytes: Bytes,
    /// How many there are.
    records: u32,
    /// One for each block, if there is more than one.
    table: Arc<Table>,
    /// The list, if it has a table; and that list unpacked, if it was.
    list: Option<ListKey>,
    list_unpacked: Option<Arc<UnpackedList>>,
    /// The block at which it stands; before the first there is none.
    block: Option<usize>,
    /// The ordinals and the shapes of the block, and at which of them it stands; at its length, past the end.
    ordinals: Vec<u32>,
    shapes: Vec<u32>,
    here: usize,
    /// So many postings of the block have been read with all that there is to know, up to this byte.
    read: usize,
    at: usize,
    /// Where what is read of the block begins, once its shapes are unpacked, and the occurrences in those before.
    begun: (usize, u64),
    columns: ColumnSet,
    /// How often it is in each of the columns, or in all of them.
    tf: Vec<u32>,
    same: Option<u32>,
    first_occurrence: u64,
    next_occurrence: u64,
    /// How many blocks were unpacked so far.
    unpacked: u64,
}

impl Postings {
    /// The record at which it stands; [`END`] before the first and past the last.
    pub fn ordinal(&self) -> u32 {
        self.ordinals.get(self.here).copied().unwrap_or(END)
    }

    /// The columns of the record that the term is in, once the posting was [read](Self::read).
    pub fn columns(&self) -> ColumnSet {
        self.columns
    }

    /// The columns and how often the term is in each, if that is the same in all of them and known without reading more.
    #[inline]
    pub fn even(&mut self) -> Result<Option<(ColumnSet, u32)>, Error> {
        let kinds = self.kinds;
        Ok(self.shape_here()?.and_then(|shape| kinds.even(shape)))
    }

    /// The columns of the record that the term is in, [read](Self::read) or not.
    #[inline]
    pub fn columns_here(&mut self) -> Result<ColumnSet, Error> {
        let kinds = self.kinds;
        if let Some(columns) = self.shape_here()?.and_then(|shape| kinds.columns(shape)) {
            return Ok(columns);
        }
        self.read()?;
        Ok(self.columns)
    }

    /// Gives `take` the records of some of the block's postings, by their places, each with whether it is in one of these columns.
    pub fn each_in(
        &mut self,
        places: Range<usize>,
        columns: ColumnSet,
        mut take: impl FnMut(u32, bool),
    ) -> Result<(), Error> {
        self.unpack_shapes()?;
        for place in places {
            let there = if let Some(there) = self.kinds.columns(self.shapes[place]) {
                there
            } else {
                self.stand(place);
                self.columns_here()?
            };
            take(self.ordinals[place], !there.both(columns).is_empty());
        }
        Ok(())
    }

    fn shape_here(&mut self) -> Result<Option<u32>, Error> {
        self.unpack_shapes()?;
        Ok(self.shapes.get(self.here).copied())
    }

    /// For each of the columns how often, once the posting was [read](Self::read).
    pub fn frequencies(&self) -> impl Iterator<Item = (usize, u32)> {
        let same = self.same;
        self.columns
            .iter()
            .enumerate()
            .map(move |(place, column)| (column, same.unwrap_or_else(|| self.tf[place])))
    }

    /// Which of the term's occurrences is the first of this posting, once it was [read](Self::read).
    pub fn first_occurrence(&self) -> u64 {
        self.first_occurrence
    }

    /// The list unpacked, if it was.
    pub fn list_unpacked(&self) -> Option<&Arc<UnpackedList>> {
        self.list_unpacked.as_ref()
    }

    /// Says that a search will go through the list, which is unpacked if it is common and asked for again.
    pub fn ask_list(&mut self) -> Result<(), Error> {
        let (Some(list), None) = (self.list, &self.list_unpacked) else { return Ok(()) };
        let (shelf, records) = (Arc::clone(&self.shelf), self.shelf.records());
        if !UnpackedList::is_worth(list, self.table.blocks.len(), records) {
            return Ok(());
        }
        self.list_unpacked = match shelf.cache().ask(shelf.piece(), &Key::List(list), 1, 2) {
            Asked::Made(list) => Some(list),
            Asked::Worth => {
                let mut postings = self.clone();
                let unpacked = Arc::new(UnpackedList::of(records, |take| {
                    for block in 0..postings.blocks() {
                        postings.enter(block)?;
                        postings.unpack_shapes()?;
                        take(&postings.ordinals, &postings.shapes);
                    }
                    Ok(())
                })?);
                shelf.cache().keep(shelf.piece(), &Key::List(list), &unpacked, unpacked.bytes());
                Some(unpacked)
            }
            Asked::No => None,
        };
        Ok(())
    }

    /// Unpacks the blocks that have postings in a window of records; `look` is told where in the block these stand.
    pub fn each_block_in(
        &mut self,
        window: &Range<u32>,
        mut look: impl FnMut(&mut Self, Range<usize>) -> Result<(), Error>,
    ) -> Result<(), Error> {
        // Windows mostly ascend.
        let near = self.block().checked_sub(1).is_none_or(|before| self.last_of(before) < window.start);
        let mut block = self.block_with(if near { self.block() } else { 0 }, window.start);
        while block < self.blocks() {
            self.enter(block)?;
            let start = self.ordinals.partition_point(|ordinal| *ordinal < window.start);
            let end = start + self.ordinals[start..].partition_point(|ordinal| *ordinal < window.end);
            look(self, start..end)?;
            if self.last_of(block) >= window.end {
                break;
            }
            block += 1;
        }
        Ok(())
    }

    /// How many there are, those of removed records included.
    pub fn records(&self) -> u32 {
        self.records
    }

    /// How many blocks there are.
    pub fn blocks(&self) -> usize {
        self.table.blocks.len().max(1)
    }

    /// How many postings a block has, but for the last.
    pub fn per_block(&self) -> usize {
        self.shelf.block()
    }

    /// How many blocks were unpacked so far.
    pub fn blocks_unpacked(&self) -> u64 {
        self.unpacked
    }

    /// The block at which it stands.
    pub fn block(&self) -> usize {
        self.block.unwrap_or(0)
    }

    /// The block that is unpacked.
    pub fn unpacked_block(&self) -> Option<usize> {
        self.block
    }

    /// The ordinal of the last posting of a block; of a list of one block as large as it may be.
    pub fn last_of(&self, block: usize) -> u32 {
        self.table.blocks.get(block).map_or(END - 1, |block| block.last)
    }

    /// The first block, from one on, whose last posting is not below `ordinal`; the number of blocks if there is none.
    pub fn block_with(&self, from: usize, ordinal: u32) -> usize {
        match self.table.blocks.get(from) {
            None => from,
            Some(block) if block.last >= ordinal => from,
            Some(_) => {
                let rest = &self.table.blocks[from..];
                // Most are near: gallop.
                let mut reach = 1;
                while reach < rest.len() && rest[reach].last < ordinal {
                    reach *= 2;
                }
                let low = reach / 2;
                from + low
                    + rest[low..rest.len().min(reach + 1)].partition_point(|block| block.last < ordinal)
            }
        }
    }

    /// The ordinals of the block at which it stands.
    pub fn unpacked(&self) -> &[u32] {
        &self.ordinals
    }

    /// The shapes of its postings, once they were [unpacked](Self::unpack_shapes).
    pub fn unpacked_shapes(&self) -> &[u32] {
        &self.shapes
    }

    /// Unpacks the shapes of the block, which come after its ordinals.
    #[inline]
    pub fn unpack_shapes(&mut self) -> Result<(), Error> {
        if self.shapes.len() == self.ordinals.len() {
            return Ok(());
        }
        let mut reader = Reader::new(&self.bytes[self.at..]);
        pack::get(&mut reader, self.ordinals.len(), &mut self.shapes)
            .map_err(|what| self.shelf.broken(Section::Postings, what))?;
        self.at = self.bytes.len() - reader.left();
        self.begun.0 = self.at;
        Ok(())
    }

    /// What shapes mean.
    pub fn kinds(&self) -> Shapes {
        self.kinds
    }

    /// Stands at the posting with this place in the block.
    pub fn stand(&mut self, place: usize) {
        debug_assert!(place < self.ordinals.len(), "a place in the block");
        self.here = place;
        if place + 1 < self.read {
            // Reading goes forwards only: from the start of the block again.
            let (at, occurrences) = self.begun;
            (self.read, self.at, self.next_occurrence) = (0, at, occurrences);
        }
    }

    /// Goes to the next posting, if there is one.
    pub fn advance(&mut self) -> Result<bool, Error> {
        if self.here + 1 < self.ordinals.len() {
            self.here += 1;
            return Ok(true);
        }
        self.enter(self.block.map_or(0, |block| block + 1))
    }

    /// Goes on to the first posting whose record is not below `ordinal`, if there is one; blocks in between are not
    /// unpacked.
    pub fn seek(&mut self, ordinal: u32) -> Result<bool, Error> {
        if self.ordinals.last().is_none_or(|last| *last < ordinal) {
            let next = self.block.map_or(0, |block| block + 1);
            let block = self.block_with(next, ordinal);
            if !self.enter(block)? {
                return Ok(false);
            }
        }
        // A list of one block has no table that says where it ends. What is wanted is mostly near.
        let rest = &self.ordinals[self.here..];
        let mut reach = 1;
        while rest.get(reach).is_some_and(|known| *known < ordinal) {
            reach *= 2;
        }
        let low = reach / 2;
        let near = &rest[low..rest.len().min(reach + 1)];
        self.here += low + near.partition_point(|known| *known < ordinal);
        Ok(self.here < self.ordinals.len())
    }

    /// Stands at the first posting of a block, which is unpacked; past the end if there is no such block.
    pub fn enter(&mut self, block: usize) -> Result<bool, Error> {
        if block >= self.blocks() {
            self.here = self.ordinals.len();
            return Ok(false);
        }
        if self.block == Some(block) && self.read == 0 {
            self.here = 0;
            return Ok(true);
        }
        self.unpack(block).map_err(|what| self.shelf.broken(Section::Postings, what))?;
        Ok(true)
    }

    /// Whether every posting and every byte of the list have been read.
    pub fn at_end(&self) -> bool {
        self.block == Some(self.blocks() - 1)
            && self.read == self.ordinals.len()
            && self.at == self.bytes.len()
    }

    /// Unpacks a block, and checks what the table says of it, and of the one before it if that was read to its end.
    fn unpack(&mut self, block: usize) -> Result<(), Broken> {
        let said = self.table.blocks.get(block);
        let (start, occurrences) = said.map_or((0, 0), |block| (block.start, block.occurrences));
        let read_before = block > 0 && self.block == Some(block - 1) && self.read == self.ordinals.len();
        if read_before && (self.at, self.next_occurrence) != (start, occurrences) {
            return Err(Broken("the size of a block"));
        }
        self.block = None;
        self.unpacked += 1;
        let per_block = self.shelf.block();
        let count = (self.records as usize).saturating_sub(block * per_block).min(per_block);
        if count == 0 {
            return Err(Broken("the number of postings"));
        }
        let before = block.checked_sub(1).map(|before| self.table.blocks[before].last);
        let next = before.map_or(0, |last| last + 1);
        let mut reader = Reader::new(&self.bytes[start..]);
        if count < pack::SHORTEST {
            get_block(&mut reader, self.kinds, count, &mut self.ordinals, &mut self.shapes)?;
        } else {
            self.shapes.clear();
            pack::get(&mut reader, count, &mut self.ordinals)?;
        }
        add_up(&mut self.ordinals, next, self.shelf.records())?;
        if said.is_some_and(|block| Some(&block.last) != self.ordinals.last()) {
            return Err(Broken("the end of a block"));
        }
        self.begun = (self.bytes.len() - reader.left(), occurrences);
        self.read = 0;
        (self.at, self.next_occurrence) = self.begun;
        (self.block, self.here) = (Some(block), 0);
        Ok(())
    }

    /// Reads all that there is to know of the posting at which it stands: columns, frequencies, and which of the term's
    /// occurrences are its own. Those before it in its block are passed over.
    pub fn read(&mut self) -> Result<(), Error> {
        self.unpack_shapes()?;
        self.read_on().map_err(|what| self.shelf.broken(Section::Postings, what))
    }

    fn read_on(&mut self) -> Result<(), Broken> {
        while self.read <= self.here {
            let shape = self.shapes[self.read];
            self.first_occurrence = self.next_occurrence;
            let occurrences = if let Some((columns, tf)) = self.kinds.even(shape) {
                (self.columns, self.same) = (columns, Some(tf));
                u64::from(tf) * u64::from(columns.0.count_ones())
            } else {
                self.same = None;
                let mut rest = Reader::new(&self.bytes[self.at..]);
                self.columns = self.kinds.get(shape, &mut rest, &mut self.tf)?;
                self.at = self.bytes.len() - rest.left();
                self.tf.iter().map(|tf| u64::from(*tf)).sum::<u64>()
            };
            self.read += 1;
            self.next_occurrence = self.first_occurrence.saturating_add(occurrences);
        }
        Ok(())
    }

    /// The bounds of each block, with the ordinal of its last posting; nothing for a list of one block.
    pub fn bounds(&self) -> impl Iterator<Item = Result<(u32, Bounds), Error>> {
        self.table.blocks.iter().map(|block| {
            let bytes = self.bytes.get(block.bounds.clone()).unwrap_or_default();
            Bounds::get(&mut Reader::new(bytes), self.shelf.columns())
                .map(|bounds| (block.last, bounds))
                .map_err(|what| self.shelf.broken(Section::Postings, what))
        })
    }

    /// What [`most_in`](Self::most_in) gives for each block, as far as it was worked out in these columns by factors with these bits.
    pub fn most(&self, columns: ColumnSet, factors: &[u32]) -> Arc<Most> {
        self.table.most(columns, factors)
    }

    /// The greatest tf~ that a posting of a block may have in some columns (see [`Bounds::most_in`]); none for a list of one
    /// block, which has no bounds.
    pub fn most_in(
        &self,
        block: usize,
        columns: ColumnSet,
        share: impl Fn(usize, u32, u32) -> f32,
    ) -> Result<Option<f32>, Error> {
        let Some(said) = self.table.blocks.get(block) else { return Ok(None) };
        let bytes = self.bytes.get(said.bounds.clone()).unwrap_or_default();
        Bounds::most_in(&mut Reader::new(bytes), columns, share)
            .map(Some)
            .map_err(|what| self.shelf.broken(Section::Postings, what))
    }
}

impl Shelf {
    /// Gives `take` the records that have a term, the removed ones included, in these columns; `limited` tells whether some
    /// columns are not among them. `spare` is room for a block, for whoever asks for many terms.
    pub(crate) fn each_record(
        self: &Arc<Self>,
        held: &mut Held,
        entry: &TermEntry,
        (columns, limited): (ColumnSet, bool),
        spare: &mut (Vec<u32>, Vec<u32>),
        mut take: impl FnMut(u32),
    ) -> Step<()> {
        if let Lists::Once { ordinal, column, .. } = entry.lists {
            if ordinal >= self.records() {
                return Err(self.broken(Section::Terms, Broken("an occurrence")).into());
            }
            if !limited || columns.has(column.into()) {
                take(ordinal);
            }
            return Ok(());
        }
        if let (Lists::Written { postings: range, .. }, false) = (&entry.lists, limited)
            && entry.records as usize <= self.block()
        {
            let bytes = held.get(self, self.within(Section::Postings, range.clone())?)?;
            let broken = |what| self.broken(Section::Postings, what);
            let (gaps, shapes) = spare;
            let kinds = Shapes::new(self.columns());
            let (mut reader, count) = (Reader::new(&bytes), entry.records as usize);
            if count < pack::SHORTEST {
                get_block(&mut reader, kinds, count, gaps, shapes).map_err(broken)?;
            } else {
                pack::get(&mut reader, count, gaps).map_err(broken)?;
            }
            add_up(gaps, 0, self.records()).map_err(broken)?;
            for ordinal in gaps {
                take(*ordinal);
            }
            return Ok(());
        }
        let mut postings = self.postings(held, entry)?;
        for block in 0..postings.blocks() {
            postings.enter(block)?;
            if limited {
                let all = 0..postings.ordinals.len();
                postings.each_in(all, columns, |ordinal, is_inside| {
                    if is_inside {
                        take(ordinal);
                    }
                })?;
            } else {
                for ordinal in &postings.ordinals {
                    take(*ordinal);
                }
            }
        }
        Ok(())
    }

    /// The table of a list of so many blocks.
    fn table(&self, list: ListKey, bytes: &[u8], blocks: usize) -> Result<Arc<Table>, Error> {
        let (key, is_long) = (Key::Table(list), blocks >= LONG_TABLE);
        if let Some(table) = is_long.then(|| self.cache().get(self.piece(), &key)).flatten() {
            return Ok(table);
        }
        let table = read_table(bytes, blocks, self.records());
        let table = Arc::new(table.map_err(|what| self.broken(Section::Postings, what))?);
        if is_long {
            self.cache().keep(self.piece(), &key, &table, table.bytes());
        }
        Ok(table)
    }

    /// The postings of a term, standing before the first.
    pub(crate) fn postings(self: &Arc<Self>, held: &mut Held, entry: &TermEntry) -> Step<Postings> {
        let kinds = Shapes::new(self.columns());
        let (mut table, mut list, mut list_unpacked) = (Arc::<Table>::default(), None, None);
        let bytes = match &entry.lists {
            Lists::Once { ordinal, column, .. } => {
                if *ordinal >= self.records() || usize::from(*column) >= self.columns() {
                    return Err(self.broken(Section::Terms, Broken("an occurrence")).into());
                }
                let mut block = Vec::new();
                let shape = kinds.put(&[(*column, 1)], &mut Vec::new());
                put_block(&mut block, kinds, &[*ordinal], &[shape]);
                Bytes::from(block)
            }
            Lists::Written { postings: range, .. } => {
                let bytes = held.get(self, self.within(Section::Postings, range.clone())?)?;
                let blocks = (entry.records as usize).div_ceil(self.block());
                if blocks > 1 {
                    let key = (range.start, range.end, entry.records);
                    table = self.table(key, &bytes, blocks)?;
                    list = Some(key);
                    if UnpackedList::is_worth(key, blocks, self.records()) {
                        list_unpacked = self.cache().get(self.piece(), &Key::List(key));
                    }
                }
                bytes
            }
        };
        Ok(Postings {
            shelf: Arc::clone(self),
            kinds,
            bytes,
            records: entry.records,
            table,
            list,
            list_unpacked,
            block: None,
            ordinals: Vec::new(),
            shapes: Vec::new(),
            here: 0,
            read: 0,
            at: 0,
            begun: (0, 0),
            columns: ColumnSet::default(),
            tf: Vec::new(),
            same: None,
            first_occurrence: 0,
            next_occurrence: 0,
            unpacked: 0,
        })
    }
}
