//! Writes that become visible together.

use super::gathering::Gathering;
use super::locate;
use super::mask::Mask;
use super::merging::{self, Merging};
use super::snapshot::Opened;
use crate::bits::Bits;
use crate::error::{Error, ErrorKind, Result};
use crate::record::{Key, Record};
use crate::schema::Schema;
use crate::shelf::Builder;
use crate::store::{Generation, MAX_BOOKMARK_BYTES, Manifest, MaskEntry, PieceId, ShelfEntry, Unit};
use std::borrow::Borrow;
use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZero;
use std::sync::Arc;

/// The memory that a batch takes, in bytes, before it seals what it has as a shelf and goes on.
pub const DEFAULT_BUDGET: usize = 256 << 20;

/// Puts and removals that become visible together when they are [published](Self::publish), or not at all.
///
/// Order counts: a put replaces what was put before under the same key, and a removal takes it away. Memory is bounded
/// by the budget, except for the keys of what was removed.
pub struct Batch<'u> {
    unit: &'u mut dyn Unit,
    opened: &'u Opened,
    begun: Option<Generation>,
    base: Arc<Manifest>,
    bookmark: Option<Vec<u8>>,
    budget: usize,
    merging: Merging,
    builder: Builder,
    /// Keys that were removed since the last shelf was sealed.
    removed: BTreeSet<Vec<u8>>,
    sealed: Vec<ShelfEntry>,
    /// For shelves that were there before, or were sealed earlier in this batch: what is removed from them.
    gone: BTreeMap<PieceId, Bits>,
    put: u64,
    watch: Option<Box<dyn FnMut(SoFar)>>,
}

/// How far a batch has come.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct SoFar {
    /// Records that were put.
    pub records: u64,
    /// Shelves that were written, because the budget was used up.
    pub shelves: usize,
    /// Their bytes.
    pub bytes: u64,
}

/// Whoever watches a batch is told after so many records.
const TOLD: u64 = 1_024;

/// What a batch did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Published {
    /// The state that it made, or the one it left as it was.
    pub generation: Generation,
    /// How many records it put.
    pub put: u64,
    /// How many records that were there before are no longer, replaced or removed.
    pub removed: u64,
    /// Whether it changed anything.
    pub changed: bool,
}

impl<'u> Batch<'u> {
    /// Begins a batch on the state that `unit` sees; a place without one gets a new cellar with `schema`.
    ///
    /// # Errors
    /// If the place can't be read.
    pub fn new(unit: &'u mut dyn Unit, opened: &'u Opened, schema: &Schema) -> Result<Self> {
        let manifest = unit.manifest()?;
        let base = manifest.clone().unwrap_or_else(|| Arc::new(Manifest::empty(schema.clone())));
        let gathering = Gathering::new(opened, &base.schema);
        Ok(Self::begun(unit, opened, (manifest.is_some(), base), gathering))
    }

    /// Begins a batch with what was gathered before.
    ///
    /// # Errors
    /// [`OutOfStep`](crate::ErrorKind::OutOfStep) if the cellar has another schema than that for which it was gathered; or if the
    /// place can't be read.
    pub fn with(unit: &'u mut dyn Unit, opened: &'u Opened, gathering: Gathering) -> Result<Self> {
        let manifest = unit.manifest()?;
        let base = manifest.clone().unwrap_or_else(|| Arc::new(Manifest::empty((*gathering.schema).clone())));
        if base.schema != gathering.schema {
            let message = "The cellar has got another schema; open it again.";
            return Err(Error::new(ErrorKind::OutOfStep, message));
        }
        Ok(Self::begun(unit, opened, (manifest.is_some(), base), gathering))
    }

    fn begun(
        unit: &'u mut dyn Unit,
        opened: &'u Opened,
        (is_there, base): (bool, Arc<Manifest>),
        Gathering { builder, removed, put, .. }: Gathering,
    ) -> Self {
        Self {
            unit,
            opened,
            begun: is_there.then_some(base.generation),
            bookmark: None,
            budget: DEFAULT_BUDGET,
            merging: Merging::default(),
            builder,
            base,
            removed,
            sealed: Vec::new(),
            gone: BTreeMap::new(),
            put,
            watch: None,
        }
    }

    /// Gives the batch a budget of its own, in bytes; [`DEFAULT_BUDGET`] without.
    pub fn set_budget(&mut self, bytes: usize) {
        self.budget = bytes;
    }

    /// Says how far publishing may merge shelves; [`Merging::Small`] without.
    pub fn set_merging(&mut self, merging: Merging) {
        self.merging = merging;
    }

    /// Packs postings in blocks of so many, from 1 to 128; see [`Builder::set_block`].
    ///
    /// # Panics
    /// If there are no such blocks.
    pub fn set_block(&mut self, postings: u8) {
        self.builder.set_block(postings);
    }

    /// Says that what the batch writes is searched a few times and then thrown away; see [`Builder::set_fleeting`].
    pub fn set_fleeting(&mut self) {
        self.builder.set_fleeting();
    }

    /// Keeps with the state that the batch makes how far its source has been read, in words of the caller's own: both
    /// become visible together, or neither. The last of several counts, and later batches keep it.
    ///
    /// # Errors
    /// [`BadRequest`](crate::ErrorKind::BadRequest) if it takes over 64 KiB.
    pub fn set_bookmark(&mut self, bookmark: impl Into<Vec<u8>>) -> Result<()> {
        let bookmark = bookmark.into();
        if bookmark.len() > MAX_BOOKMARK_BYTES {
            let message = format!(
                "A bookmark takes at most {MAX_BOOKMARK_BYTES} bytes; keep a name of the place instead."
            );
            return Err(Error::new(ErrorKind::BadRequest, message));
        }
        self.bookmark = Some(bookmark);
        Ok(())
    }

    /// Tells `watch` how far the batch has come: after every 1,024 records, or some hundreds for each thread of those that are
    /// put together, and whenever a shelf was written. To give up between two records, drop the batch, or let the work that fills it fail: nothing is changed then.
    pub fn set_watch(&mut self, watch: impl FnMut(SoFar) + 'static) {
        self.watch = Some(Box::new(watch));
    }

    /// How far the batch has come.
    pub fn so_far(&self) -> SoFar {
        let bytes = self.sealed.iter().map(|shelf| shelf.bytes).sum();
        SoFar { records: self.put, shelves: self.sealed.len(), bytes }
    }

    fn tell(&mut self) {
        let so_far = self.so_far();
        if let Some(watch) = &mut self.watch {
            watch(so_far);
        }
    }

    /// Puts a record; one with the same key is replaced.
    ///
    /// # Errors
    /// [`BadRecord`](crate::ErrorKind::BadRecord), and the record is not taken, if the schema does not allow it; or if
    /// the place can't be written.
    pub fn put(&mut self, record: &Record) -> Result<()> {
        self.builder.put(record)?;
        self.put += 1;
        let full = self.builder.memory() >= self.budget;
        if full {
            self.seal()?;
        }
        if full || self.put.is_multiple_of(TOLD) {
            self.tell();
        }
        Ok(())
    }

    /// Lets so many threads work on the records that are put [together](Self::put_all), and on writing shelves. What is
    /// written does not depend on it.
    ///
    /// # Errors
    /// If the place can't be written.
    pub fn set_threads(&mut self, threads: NonZero<usize>) -> Result<()> {
        self.seal()?;
        self.builder.set_threads(threads);
        Ok(())
    }

    /// Puts records, as if one after the other; several [threads](Self::set_threads) read some hundreds of
    /// them at once. Whoever watches is told after these.
    ///
    /// # Errors
    /// As for [`put`](Self::put), of the first record that is refused. Some of those before it have been put then, and
    /// none behind it, so such a batch is best dropped.
    ///
    /// ```
    /// use nut_cellar_core::{Batch, Column, Memory, Opened, Record, Schema, Unit};
    /// use std::num::NonZero;
    ///
    /// let schema = Schema::new("id").with("title", Column::text("en"));
    /// let place = Memory::new();
    /// let (mut unit, opened) = (place.unit(), Opened::new());
    /// let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    /// batch.set_threads(NonZero::new(2).unwrap()).unwrap();
    /// batch.put_all((0..1_000).map(|id| Record::new(id).with("title", "A black umbrella"))).unwrap();
    /// assert_eq!(batch.publish().unwrap().put, 1_000);
    /// ```
    pub fn put_all<R, I>(&mut self, records: I) -> Result<()>
    where
        R: Borrow<Record> + Sync,
        I: IntoIterator<Item = R>,
    {
        let mut records = records.into_iter();
        loop {
            let put = self.builder.put_some(&mut records)?;
            if put == 0 {
                return Ok(());
            }
            self.put += put as u64;
            if self.builder.memory() >= self.budget {
                self.seal()?;
            }
            self.tell();
        }
    }

    /// Removes the record with this key, if there is one.
    ///
    /// # Errors
    /// If the place can't be written.
    pub fn remove(&mut self, key: &Key) -> Result<()> {
        self.builder.remove(key);
        self.removed.insert(key.encode());
        Ok(())
    }

    /// Makes the batch the next state of the place. It counts when the unit is committed. A batch that changed
    /// nothing publishes nothing, unless there was no cellar yet.
    ///
    /// # Errors
    /// [`Overtaken`](crate::ErrorKind::Overtaken), and nothing is changed, if somebody else was faster; or if the place
    /// can't be read or written.
    pub fn publish(mut self) -> Result<Published> {
        self.seal()?;
        let mut useless = Vec::new();
        let mut next =
            Manifest { generation: self.begun.map_or(0, |begun| begun + 1), ..Manifest::clone(&self.base) };
        next.shelves.append(&mut self.sealed);
        let mut shelves = Vec::with_capacity(next.shelves.len());
        for entry in std::mem::take(&mut next.shelves) {
            shelves.extend(self.settle(entry, &mut useless)?);
        }
        next.shelves = shelves;
        let removed = self.base.records() - self.still_live(&next);
        let packing = (self.builder.block(), self.budget);
        let schema = &self.base.schema;
        next.shelves = merging::tidy(
            &*self.unit,
            self.opened,
            schema,
            &next.shelves,
            self.merging,
            packing,
            &mut useless,
        )?;
        next.bookmark = self.bookmark.take().or(next.bookmark);
        let changed =
            self.begun.is_none() || next.shelves != self.base.shelves || next.bookmark != self.base.bookmark;
        if changed {
            self.unit.swap(self.begun, &next)?;
        }
        self.unit.remove(&useless)?;
        if let Some(learned) = self.builder.into_learned() {
            self.opened.keep_learned(learned);
        }
        // Whoever publishes and never searches opens no snapshot.
        self.opened.forget_others(&next);
        let generation = if changed { next.generation } else { self.base.generation };
        Ok(Published { generation, put: self.put, removed, changed })
    }

    /// The records that were live before this batch and still are.
    fn still_live(&self, next: &Manifest) -> u64 {
        let before: BTreeSet<_> = self.base.shelves.iter().map(|entry| entry.piece).collect();
        let kept = next.shelves.iter().filter(|entry| before.contains(&entry.piece));
        kept.map(|entry| u64::from(entry.live())).sum()
    }

    /// Writes what was put so far as a shelf, and notes what it and the removals take away from earlier ones.
    fn seal(&mut self) -> Result<()> {
        let sealed = self.builder.seal(&*self.unit)?;
        let removed = std::mem::take(&mut self.removed);
        if !self.base.shelves.is_empty() || !self.sealed.is_empty() {
            let mut gone: Vec<_> = sealed.iter().flat_map(|sealed| sealed.keys.iter()).collect();
            if !removed.is_empty() {
                gone.extend(removed.iter().map(Vec::as_slice));
                gone.sort_unstable();
                gone.dedup();
            }
            for entry in self.base.shelves.iter().chain(&self.sealed) {
                let shelf = self.opened.shelf(&*self.unit, entry)?;
                let found = locate::locate(&*self.unit, &shelf, &gone)?;
                if !found.is_empty() {
                    let none = || Bits::new(entry.records as usize);
                    let gone = self.gone.entry(entry.piece).or_insert_with(none);
                    gone.set_all(found.into_iter().map(|ordinal| ordinal as usize));
                }
            }
        }
        self.sealed.extend(sealed.map(|sealed| sealed.entry));
        Ok(())
    }

    /// The entry of a shelf in the next manifest, with its new mask written; none if all its records are removed.
    fn settle(&mut self, mut entry: ShelfEntry, useless: &mut Vec<PieceId>) -> Result<Option<ShelfEntry>> {
        let Some(gone) = self.gone.remove(&entry.piece) else { return Ok(Some(entry)) };
        let shelf = self.opened.shelf(&*self.unit, &entry)?;
        let before = self.opened.mask_of(&*self.unit, &entry)?;
        let mut mask = before.map_or_else(Mask::default, |mask| Mask::clone(&mask));
        let gone = gone.iter().filter_map(|ordinal| u32::try_from(ordinal).ok());
        let fresh: Vec<_> = gone.filter(|&ordinal| mask.remove(ordinal)).collect();
        if fresh.is_empty() {
            return Ok(Some(entry));
        }
        useless.extend(entry.mask.as_ref().map(|mask| mask.piece));
        if mask.count() == entry.records {
            useless.push(entry.piece);
            return Ok(None);
        }
        let mut lengths = locate::lengths(&*self.unit, &shelf, entry.lengths.len(), &fresh)?;
        if let Some(before) = &entry.mask {
            lengths.iter_mut().zip(&before.lengths).for_each(|(length, before)| *length += before);
        }
        let bytes = mask.encode();
        let piece = PieceId::fresh()?;
        let mut writer = self.unit.write(piece)?;
        writer.append(&bytes)?;
        writer.finish()?;
        entry.mask = Some(MaskEntry { piece, bytes: bytes.len() as u64, records: mask.count(), lengths });
        Ok(Some(entry))
    }
}
