//! Postings: in which records a class of terms is, in which of its forms, and how often in which column.
//!
//! They are packed in blocks: the gaps between the ordinals, then the shapes (see `posting_block` and `shapes`), then the rest of
//! what the postings that are in several columns, or have several forms, need.
//!
//! A list of more than one block begins with a table: for each block its last ordinal, how many bytes and occurrences it
//! has, which forms it has, and what bounds its scores. Short lists have none.

use crate::error::Error;
use crate::schema::ColumnSet;
use crate::shelf::format::bounds::Bounds;
use crate::shelf::format::directory::Section;
use crate::shelf::format::forms::FormsHere;
use crate::shelf::format::pack;
use crate::shelf::format::posting_block::{add_up, get_block, put_block};
use crate::shelf::format::shapes::{Shapes, TOLD_FORMS};
use crate::shelf::format::terms::{Lists, TermEntry};
use crate::shelf::format::text_columns::TextColumns;
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

/// Walks through the postings of a class of terms in one shelf, or of some of its forms, by blocks. Of the block at which it stands the
/// ordinals are unpacked, and the shapes when they are asked for; what else there is to know of a posting is read when it is asked for.
///
/// What always holds: ordinals ascend and are below the number of records, and the columns are columns of the shelf. Where some forms
/// are [chosen](Self::choose), there is nothing but what is of them.
#[derive(Clone, Debug)]
pub(crate) struct Postings {
    shelf: Arc<Shelf>,
    kinds: Shapes,
    bytes: Bytes,
    /// How many there are in the list, and about how many of them are of the forms that were chosen.
    in_list: u32,
    records: u32,
    /// How many forms the list has, and which of them are wanted, if not all are.
    forms: u32,
    chosen: Option<Arc<Chosen>>,
    /// Of a block of which only some postings are wanted: the shapes of all, and the places of those that are.
    whole_shapes: Vec<u32>,
    places: Vec<usize>,
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
    here_forms: FormsHere,
    first_occurrence: u64,
    next_occurrence: u64,
    /// How many blocks were unpacked so far.
    unpacked: u64,
}

/// Which forms of a list are wanted.
#[derive(Debug)]
pub(crate) struct Chosen {
    /// As bits, those that a shape can tell.
    told: u32,
    /// All, ascending.
    all: Vec<u32>,
}

impl Chosen {
    /// These, ascending.
    pub fn new(all: Vec<u32>) -> Self {
        let told = all.iter().take_while(|form| **form < TOLD_FORMS).fold(0, |bits, form| bits | 1 << form);
        Self { told, all }
    }

    fn has(&self, form: u32) -> bool {
        self.all.binary_search(&form).is_ok()
    }

    /// Whether a block may have one of them, by what its table says.
    fn may_be_in(&self, codes: u32, several: u32) -> bool {
        codes & (self.told | 1 << several) != 0
    }
}

impl Postings {
    /// Goes through those only that are of these forms, of which there are about so many.
    pub fn choose(&mut self, chosen: Arc<Chosen>, records: u32) {
        debug_assert!(self.block.is_none(), "before the first");
        self.records = records;
        self.list_unpacked = None;
        self.list = None;
        self.chosen = Some(chosen);
    }

    /// The record at which it stands; [`END`] before the first and past the last.
    pub fn ordinal(&self) -> u32 {
        self.ordinals.get(self.here).copied().unwrap_or(END)
    }

    /// The columns of the record that a wanted form is in, once the posting was [read](Self::read).
    pub fn columns(&self) -> ColumnSet {
        self.frequencies().map(|(column, _)| column).collect()
    }

    /// The form of the record, the columns, and how often it is in each, if that is the same in all of them and known without reading more.
    #[inline]
    pub fn even(&mut self) -> Result<Option<(u32, ColumnSet, u32)>, Error> {
        let Some(shape) = self.shape_here()? else { return Ok(None) };
        let (even, form) = (self.kinds.even(shape), self.kinds.form(shape));
        Ok(even.zip(form).map(|((columns, tf), form)| (form, columns, tf)))
    }

    /// The columns of the record that a wanted form is in, [read](Self::read) or not.
    #[inline]
    pub fn columns_here(&mut self) -> Result<ColumnSet, Error> {
        let shape = self.shape_here()?;
        let tells_all = |shape: &u32| self.chosen.is_none() || self.kinds.form(*shape).is_some();
        if let Some(columns) = shape.filter(tells_all).and_then(|shape| self.kinds.columns(shape)) {
            return Ok(columns);
        }
        self.read()?;
        Ok(self.columns())
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
            self.stand(place);
            let there = self.columns_here()?;
            take(self.ordinals[place], !there.both(columns).is_empty());
        }
        Ok(())
    }

    fn shape_here(&mut self) -> Result<Option<u32>, Error> {
        self.unpack_shapes()?;
        Ok(self.shapes.get(self.here).copied())
    }

    /// For each of the columns how often the wanted forms are in it, once the posting was [read](Self::read).
    pub fn frequencies(&self) -> impl Iterator<Item = (usize, u32)> {
        self.spans().filter_map(|(column, span)| {
            let wanted = if self.are_all_wanted() {
                span.len()
            } else {
                self.here_forms.places[span].iter().filter(|place| self.is_wanted(**place)).count()
            };
            (wanted > 0).then(|| (column, u32::try_from(wanted).unwrap_or(u32::MAX)))
        })
    }

    /// Whether the record has a form, once the posting was [read](Self::read).
    pub fn has_form(&self, form: u32) -> bool {
        self.here_forms.forms.binary_search(&form).is_ok()
    }

    /// The forms of the record that are wanted, once the posting was [read](Self::read).
    pub fn forms(&self) -> impl Iterator<Item = u32> {
        let wanted = |form: &u32| self.chosen.as_ref().is_none_or(|chosen| chosen.has(*form));
        self.here_forms.forms.iter().copied().filter(wanted)
    }

    /// The form of the record, if it has only one, once the posting was [read](Self::read).
    pub fn only_form(&self) -> Option<u32> {
        if let [form] = self.here_forms.forms[..] { Some(form) } else { None }
    }

    /// For each of the columns that one of its forms is in, how often, once the posting was [read](Self::read).
    pub fn frequencies_of(&self, form: u32) -> impl Iterator<Item = (usize, u32)> {
        let FormsHere { forms, places } = &self.here_forms;
        let place = forms.binary_search(&form).ok().and_then(|place| u32::try_from(place).ok());
        self.spans().filter_map(move |(column, span)| {
            let own = match place {
                None => 0,
                Some(_) if forms.len() == 1 => span.len(),
                Some(place) => places[span].iter().filter(|known| **known == place).count(),
            };
            (own > 0).then(|| (column, u32::try_from(own).unwrap_or(u32::MAX)))
        })
    }

    /// For each of the columns how often, whichever form it is.
    pub fn all_frequencies(&self) -> impl Iterator<Item = (usize, u32)> {
        let same = self.same;
        self.columns
            .iter()
            .enumerate()
            .map(move |(place, column)| (column, same.unwrap_or_else(|| self.tf[place])))
    }

    /// For each of the columns which of the posting's occurrences are in it. Those in a beginning are the first of its whole's.
    fn spans(&self) -> impl Iterator<Item = (usize, Range<usize>)> {
        let columns = self.kinds.text_columns();
        let mut next = 0;
        self.all_frequencies().map(move |(column, all)| {
            let start = if let Some(whole) = columns.whole_of(column) {
                let before = self.all_frequencies().take_while(|(column, _)| *column < whole);
                before.filter(|(column, _)| columns.own().has(*column)).map(|(_, tf)| tf as usize).sum()
            } else {
                next += all as usize;
                next - all as usize
            };
            (column, start..start + all as usize)
        })
    }

    /// Whether each occurrence of the posting is of a form that is wanted.
    fn are_all_wanted(&self) -> bool {
        self.chosen.is_none() || self.here_forms.forms.len() == 1
    }

    /// Whether a form of the posting is wanted, by its place among them.
    fn is_wanted(&self, place: u32) -> bool {
        self.chosen.as_ref().is_none_or(|chosen| chosen.has(self.here_forms.forms[place as usize]))
    }

    /// For each of its columns which of the list's occurrences are in it, whichever their form, once the posting was [read](Self::read).
    pub fn occurrences(&self) -> impl Iterator<Item = (usize, Range<u64>)> {
        let at = |place: usize| self.first_occurrence.saturating_add(place as u64);
        self.spans().map(move |(column, span)| (column, at(span.start)..at(span.end)))
    }

    /// Whether an occurrence of the list, which is one of the posting at which it stands, is of a wanted form.
    pub fn is_wanted_at(&self, occurrence: u64) -> bool {
        self.are_all_wanted()
            || self.chosen.as_ref().is_none_or(|chosen| chosen.has(self.form_at(occurrence)))
    }

    /// Which form an occurrence of the list is that is one of the posting at which it stands.
    pub fn form_at(&self, occurrence: u64) -> u32 {
        let FormsHere { forms, places } = &self.here_forms;
        let place = places.get(usize::try_from(occurrence - self.first_occurrence).unwrap_or(usize::MAX));
        forms[place.map_or(0, |place| *place as usize)]
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

    /// How many there are, those of removed records included; of chosen forms about.
    pub fn records(&self) -> u32 {
        self.records
    }

    /// Whether that is their number, and not about.
    pub fn are_counted(&self) -> bool {
        self.chosen.as_ref().is_none_or(|chosen| chosen.all.len() == 1)
    }

    /// How many forms the list has.
    pub fn list_forms(&self) -> u32 {
        self.forms
    }

    /// What says the form of the posting at which it stands, as a bit.
    pub fn code_here(&self) -> u32 {
        self.shapes.get(self.here).map_or(0, |shape| 1 << self.kinds.parts(*shape).0)
    }

    /// What says the forms of a block, as bits, as far as its table tells.
    pub fn codes_of(&self, block: usize) -> u32 {
        self.table.blocks.get(block).map_or(u32::MAX, |block| block.codes)
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
        if self.shapes.len() == self.ordinals.len() || self.chosen.is_some() {
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
    pub fn kinds(&self) -> &Shapes {
        &self.kinds
    }

    /// The text columns of its shelf.
    pub(in crate::shelf) fn text_columns(&self) -> &TextColumns {
        self.kinds.text_columns()
    }

    /// Stands at the posting with this place in the block.
    pub fn stand(&mut self, place: usize) {
        debug_assert!(place < self.ordinals.len(), "a place in the block");
        self.here = place;
        if self.in_block(place) + 1 < self.read {
            // Reading goes forwards only: from the start of the block again.
            let (at, occurrences) = self.begun;
            (self.read, self.at, self.next_occurrence) = (0, at, occurrences);
        }
    }

    /// The place in the block of the posting that has this place among those that are wanted.
    fn in_block(&self, place: usize) -> usize {
        if self.chosen.is_some() { self.places.get(place).copied().unwrap_or(0) } else { place }
    }

    /// The first block, from one on, that may have a form that is wanted.
    fn wanted_from(&self, mut block: usize) -> usize {
        if let Some(chosen) = &self.chosen {
            let several = self.kinds.several();
            while self.table.blocks.get(block).is_some_and(|said| !chosen.may_be_in(said.codes, several)) {
                block += 1;
            }
        }
        block
    }

    /// Goes to the next posting, if there is one.
    pub fn advance(&mut self) -> Result<bool, Error> {
        if self.here + 1 < self.ordinals.len() {
            self.here += 1;
            return Ok(true);
        }
        let mut next = self.block.map_or(0, |block| block + 1);
        loop {
            next = self.wanted_from(next);
            if !self.enter(next)? {
                return Ok(false);
            }
            if !self.ordinals.is_empty() {
                return Ok(true);
            }
            next += 1;
        }
    }

    /// Goes on to the first posting whose record is not below `ordinal`, if there is one; blocks in between are not
    /// unpacked.
    pub fn seek(&mut self, ordinal: u32) -> Result<bool, Error> {
        while self.ordinals.last().is_none_or(|last| *last < ordinal) {
            let next = self.block.map_or(0, |block| block + 1);
            let block = self.wanted_from(self.block_with(next, ordinal));
            if !self.enter(block)? {
                return Ok(false);
            }
            if self.chosen.is_none() {
                break;
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
            && self.chosen.is_none()
    }

    /// Unpacks a block, and checks what the table says of it, and of the one before it if that was read to its end.
    fn unpack(&mut self, block: usize) -> Result<(), Broken> {
        let said = self.table.blocks.get(block);
        let (start, occurrences) = said.map_or((0, 0), |block| (block.start, block.occurrences));
        let read_before = block > 0
            && self.block == Some(block - 1)
            && self.chosen.is_none()
            && self.read == self.ordinals.len();
        if read_before && (self.at, self.next_occurrence) != (start, occurrences) {
            return Err(Broken("the size of a block"));
        }
        self.block = None;
        self.unpacked += 1;
        let per_block = self.shelf.block();
        let count = (self.in_list as usize).saturating_sub(block * per_block).min(per_block);
        if count == 0 {
            return Err(Broken("the number of postings"));
        }
        let before = block.checked_sub(1).map(|before| self.table.blocks[before].last);
        let next = before.map_or(0, |last| last + 1);
        let mut reader = Reader::new(&self.bytes[start..]);
        if count < pack::SHORTEST {
            get_block(&mut reader, &self.kinds, count, &mut self.ordinals, &mut self.shapes)?;
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
        if self.chosen.is_some() { self.keep_wanted(count) } else { Ok(()) }
    }

    /// Keeps of a block what is of a form that is wanted.
    fn keep_wanted(&mut self, count: usize) -> Result<(), Broken> {
        let Some(chosen) = self.chosen.clone() else { return Ok(()) };
        if self.shapes.is_empty() {
            let mut reader = Reader::new(&self.bytes[self.at..]);
            pack::get(&mut reader, count, &mut self.shapes)?;
            self.at = self.bytes.len() - reader.left();
            self.begun.0 = self.at;
        }
        std::mem::swap(&mut self.whole_shapes, &mut self.shapes);
        self.shapes.clear();
        self.places.clear();
        for place in 0..count {
            let shape = self.whole_shapes[place];
            let is_wanted = if let Some(form) = self.kinds.form(shape) {
                chosen.told >> form & 1 == 1
            } else {
                self.read_up_to(place)?;
                self.here_forms.forms.iter().any(|form| chosen.has(*form))
            };
            if is_wanted {
                self.ordinals[self.places.len()] = self.ordinals[place];
                self.shapes.push(shape);
                self.places.push(place);
            }
        }
        self.ordinals.truncate(self.places.len());
        (self.at, self.next_occurrence) = self.begun;
        self.read = 0;
        Ok(())
    }

    /// Reads all that there is to know of the posting at which it stands: columns, frequencies, and which of the term's
    /// occurrences are its own. Those before it in its block are passed over.
    pub fn read(&mut self) -> Result<(), Error> {
        self.unpack_shapes()?;
        self.read_on().map_err(|what| self.shelf.broken(Section::Postings, what))
    }

    fn read_on(&mut self) -> Result<(), Broken> {
        self.read_up_to(self.in_block(self.here))
    }

    /// Reads all that there is to know of the posting with this place in the block, which is not before the last that was read.
    fn read_up_to(&mut self, place: usize) -> Result<(), Broken> {
        let all = if self.chosen.is_some() { &self.whole_shapes } else { &self.shapes };
        let mut rest = Reader::new(&self.bytes[self.at..]);
        while self.read <= place {
            let shape = all[self.read];
            self.first_occurrence = self.next_occurrence;
            let (even, form) = (self.kinds.even(shape), self.kinds.form(shape));
            let occurrences = if let Some((columns, tf)) = even {
                (self.columns, self.same) = (columns, Some(tf));
                self.kinds.occurrences(columns, tf)
            } else {
                let (columns, occurrences) = self.kinds.get(shape, &mut rest, &mut self.tf)?;
                (self.columns, self.same) = (columns, None);
                occurrences
            };
            match form {
                Some(form) if form >= self.forms => return Err(Broken("the form of a posting")),
                Some(form) if self.read == place => self.here_forms.set_one(form),
                Some(_) => {}
                None if self.read < place => FormsHere::pass(&mut rest, occurrences)?,
                None => self.here_forms.get(&mut rest, self.forms, occurrences)?,
            }
            self.read += 1;
            self.next_occurrence = self.first_occurrence.saturating_add(occurrences);
        }
        self.at = self.bytes.len() - rest.left();
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
        if let Lists::Once { ordinal, column, position } = entry.lists {
            if ordinal >= self.records() {
                return Err(self.broken(Section::Terms, Broken("an occurrence")).into());
            }
            let there = self.text_columns().with_beginnings(column, position);
            if !limited || !there.both(columns).is_empty() {
                take(ordinal);
            }
            return Ok(());
        }
        if let (Lists::Written { postings: range, .. }, false, None) = (&entry.lists, limited, entry.form)
            && entry.in_list as usize <= self.block()
        {
            let bytes = held.get(self, self.within(Section::Postings, range.clone())?)?;
            let broken = |what| self.broken(Section::Postings, what);
            let (gaps, shapes) = spare;
            let kinds = Shapes::new(self.text_columns(), entry.forms);
            let (mut reader, count) = (Reader::new(&bytes), entry.in_list as usize);
            if count < pack::SHORTEST {
                get_block(&mut reader, &kinds, count, gaps, shapes).map_err(broken)?;
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
        let mut next = postings.wanted_from(0);
        while postings.enter(next)? {
            next = postings.wanted_from(next + 1);
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

    /// The table of a list of so many blocks, and so many forms.
    fn table(&self, list: ListKey, bytes: &[u8], blocks: usize, forms: u32) -> Result<Arc<Table>, Error> {
        let (key, is_long) = (Key::Table(list), blocks >= LONG_TABLE);
        if let Some(table) = is_long.then(|| self.cache().get(self.piece(), &key)).flatten() {
            return Ok(table);
        }
        let table = read_table(bytes, blocks, self.records(), forms > 1);
        let table = Arc::new(table.map_err(|what| self.broken(Section::Postings, what))?);
        if is_long {
            self.cache().keep(self.piece(), &key, &table, table.bytes());
        }
        Ok(table)
    }

    /// The postings of a term, or of a class, standing before the first.
    pub(crate) fn postings(self: &Arc<Self>, held: &mut Held, entry: &TermEntry) -> Step<Postings> {
        let kinds = Shapes::new(self.text_columns(), entry.forms);
        let (mut table, mut list, mut list_unpacked) = (Arc::<Table>::default(), None, None);
        let bytes = match &entry.lists {
            Lists::Once { ordinal, column, position } => {
                if *ordinal >= self.records() || usize::from(*column) >= self.columns() {
                    return Err(self.broken(Section::Terms, Broken("an occurrence")).into());
                }
                let mut block = Vec::new();
                let there = self.text_columns().with_beginnings(*column, *position);
                let there: Vec<_> =
                    there.iter().filter_map(|column| Some((column.try_into().ok()?, 1))).collect();
                let mut rest = Vec::new();
                let shape = kinds.with_form(kinds.put(&there, &mut rest), Some(0));
                put_block(&mut block, &kinds, &[*ordinal], &[shape]);
                block.append(&mut rest);
                Bytes::from(block)
            }
            Lists::Written { postings: range, .. } => {
                let bytes = held.get(self, self.within(Section::Postings, range.clone())?)?;
                let blocks = (entry.in_list as usize).div_ceil(self.block());
                if blocks > 1 {
                    let key = (range.start, range.end, entry.in_list);
                    table = self.table(key, &bytes, blocks, entry.forms)?;
                    list = Some(key);
                    if UnpackedList::is_worth(key, blocks, self.records()) {
                        list_unpacked = self.cache().get(self.piece(), &Key::List(key));
                    }
                }
                bytes
            }
        };
        let mut postings = Postings {
            shelf: Arc::clone(self),
            kinds,
            bytes,
            in_list: entry.in_list,
            records: entry.records,
            forms: entry.forms,
            chosen: None,
            whole_shapes: Vec::new(),
            places: Vec::new(),
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
            here_forms: FormsHere::default(),
            first_occurrence: 0,
            next_occurrence: 0,
            unpacked: 0,
        };
        if let Some(form) = entry.form {
            postings.choose(Arc::new(Chosen::new(vec![form])), entry.records);
        }
        Ok(postings)
    }
}
