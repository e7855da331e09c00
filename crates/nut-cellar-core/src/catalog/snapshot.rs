//! One state of a cellar, opened for reading and fixed for as long as it is held.

use super::locate;
use super::mask::Mask;
use crate::error::{Error, ErrorKind, Result};
use crate::schema::Schema;
use crate::shelf::{
    self, Cache, ClassEntry, Held, Learned, Listed, Section, Shelf, Step, TermEntry, Walk, text_of,
};
use crate::store::{Generation, Manifest, MaskEntry, PieceId, ShelfEntry, View};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

/// Shelves and masks that have been opened before. Pieces never change, so whoever holds a cellar for long keeps one
/// of these and opens each piece once.
///
/// What searches ask for again and again (the lengths of records, tables of long lists, lists of common words, what filters let through)
/// stays with it, up to a budget. A process that searches once makes nearly none of it.
#[derive(Debug)]
pub struct Opened {
    pieces: Mutex<Pieces>,
    cache: Arc<Cache>,
}

/// Memory for what searches ask for again and again, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct MemoryUse {
    /// What may be taken.
    pub budget: u64,
    /// What is taken.
    pub kept: u64,
}

/// The memory, in bytes, that may be taken by what searches ask for again and again, unless something else is said.
pub const DEFAULT_MEMORY: usize = 64 << 20;

#[derive(Debug, Default)]
struct Pieces {
    shelves: HashMap<PieceId, Arc<Shelf>>,
    masks: HashMap<PieceId, Arc<Mask>>,
    learned: Option<Learned>,
}

impl Default for Opened {
    fn default() -> Self {
        Self::new()
    }
}

impl Opened {
    /// Nothing opened yet.
    pub fn new() -> Self {
        Self::with_memory(DEFAULT_MEMORY)
    }

    /// The same with a budget of its own, in bytes, for what searches ask for again and again; [`DEFAULT_MEMORY`] without. With less,
    /// searches find the same and take longer: for a shelf the lengths take a byte for each record and text column, and a list of
    /// a common word about a sixth of a byte for each record and one for each that has it.
    pub fn with_memory(bytes: usize) -> Self {
        Self { pieces: Mutex::default(), cache: Arc::new(Cache::new(bytes)) }
    }

    /// The memory that may be taken by what searches ask for again and again, and that is taken.
    pub fn memory(&self) -> MemoryUse {
        let (budget, kept) = self.cache.bytes();
        MemoryUse { budget: budget as u64, kept: kept as u64 }
    }

    pub(super) fn shelf(&self, view: &dyn View, entry: &ShelfEntry) -> Result<Arc<Shelf>> {
        if let Some(shelf) = self.pieces(|pieces| pieces.shelves.get(&entry.piece).cloned()) {
            return Ok(shelf);
        }
        let shelf = Arc::new(Shelf::open(view, entry, &self.cache)?);
        self.pieces(|pieces| pieces.shelves.insert(entry.piece, Arc::clone(&shelf)));
        Ok(shelf)
    }

    /// The mask of a shelf, if it has one.
    pub(super) fn mask_of(&self, view: &dyn View, shelf: &ShelfEntry) -> Result<Option<Arc<Mask>>> {
        shelf.mask.as_ref().map(|mask| self.mask(view, mask, shelf.records)).transpose()
    }

    fn mask(&self, view: &dyn View, entry: &MaskEntry, records: u32) -> Result<Arc<Mask>> {
        if let Some(mask) = self.pieces(|pieces| pieces.masks.get(&entry.piece).cloned()) {
            return Ok(mask);
        }
        let bytes = view.read(&[(entry.piece, 0..entry.bytes)])?.pop().unwrap_or_default();
        let mask = Mask::decode(&bytes, records)?;
        if mask.count() != entry.records {
            return Err(Error::damaged(format_args!("mask {} is not the one in the manifest", entry.piece)));
        }
        let mask = Arc::new(mask);
        self.pieces(|pieces| pieces.masks.insert(entry.piece, Arc::clone(&mask)));
        Ok(mask)
    }

    /// What the last batch learned, if it was of this schema.
    pub(super) fn take_learned(&self, schema: &Arc<Schema>) -> Learned {
        let known = self.pieces(|pieces| pieces.learned.take_if(|learned| learned.is_of(schema)));
        known.unwrap_or_else(|| Learned::of(schema))
    }

    /// Keeps what a batch learned for the next one.
    pub(super) fn keep_learned(&self, learned: Learned) {
        if learned.is_small() {
            self.pieces(|pieces| pieces.learned = Some(learned));
        }
    }

    /// Forgets the pieces that `manifest` does not name, once they are more than those it names and a few.
    pub(super) fn forget_others(&self, manifest: &Manifest) {
        const SPARE: usize = 64;
        self.pieces(|pieces| {
            if pieces.shelves.len() <= manifest.shelves.len() && pieces.masks.len() <= SPARE {
                return;
            }
            let named: BTreeSet<_> = manifest.pieces().collect();
            // A shelf that is at hand keeps its file from going.
            pieces.shelves.retain(|piece, shelf| named.contains(piece) || !shelf.is_at_hand());
            if pieces.shelves.len() + pieces.masks.len() > 2 * named.len() + SPARE {
                pieces.shelves.retain(|piece, _| named.contains(piece));
                pieces.masks.retain(|piece, _| named.contains(piece));
            }
        });
    }

    fn pieces<T>(&self, work: impl FnOnce(&mut Pieces) -> T) -> T {
        work(&mut self.pieces.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// One state of a cellar.
#[derive(Clone, Debug)]
pub struct Snapshot {
    manifest: Arc<Manifest>,
    shelves: Vec<Standing>,
    /// For each text column the number of tokens in the live records.
    lengths: Vec<u64>,
}

/// What stands in the shelves of a snapshot.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Tally {
    /// Different terms.
    pub terms: u64,
    /// Pairs of a class of terms, which are forms of a word, and a record that has one of them.
    pub postings: u64,
    /// How often terms stand somewhere: each has a position.
    pub occurrences: u64,
    /// How many of them are the only one of their class in their shelf; the dictionary has them, and no list.
    pub alone: u64,
}

/// A shelf with what is removed from it.
#[derive(Clone, Debug)]
pub(crate) struct Standing {
    pub shelf: Arc<Shelf>,
    pub mask: Option<Arc<Mask>>,
}

impl Standing {
    /// Whether a record is removed.
    pub fn removed(&self, ordinal: u32) -> bool {
        self.mask.as_ref().is_some_and(|mask| mask.has(ordinal))
    }

    /// Whether a live record has a term.
    pub fn has_live(&self, held: &mut Held, entry: &TermEntry) -> Step<bool> {
        if self.mask.is_none() {
            return Ok(true);
        }
        let mut postings = self.shelf.postings(held, entry)?;
        while postings.advance()? {
            if !self.removed(postings.ordinal()) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// The number of live records that have a term.
    pub fn count_live(&self, held: &mut Held, entry: &TermEntry) -> Step<u64> {
        let removed = match &self.mask {
            Some(mask) => mask.count_in(self.shelf.postings(held, entry)?)?,
            None => 0,
        };
        Ok(u64::from(entry.records) - removed)
    }
}

impl Snapshot {
    /// Opens the state that `view` shows. Reads the directory of each shelf and each mask that `opened` does not know.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is no state, [`ErrorKind::Damaged`] if it can't be read.
    pub fn open(view: &dyn View, opened: &Opened) -> Result<Self> {
        let manifest = view.manifest()?.ok_or_else(|| {
            Error::new(ErrorKind::NotACellar, "There is no cellar here yet; put something into it first.")
        })?;
        Self::of(view, manifest, opened)
    }

    fn of(view: &dyn View, manifest: Arc<Manifest>, opened: &Opened) -> Result<Self> {
        let mut shelves = Vec::with_capacity(manifest.shelves.len());
        for entry in &manifest.shelves {
            let shelf = opened.shelf(view, entry)?;
            shelves.push(Standing { shelf, mask: opened.mask_of(view, entry)? });
        }
        opened.forget_others(&manifest);
        let lengths = (0..manifest.schema.text_columns().count())
            .map(|column| manifest.shelves.iter().map(|entry| entry.live_length(column)).sum())
            .collect();
        Ok(Self { manifest, shelves, lengths })
    }

    /// Checks that the pieces of a manifest that are not `sure` are what was written, by their checksums: for a place that can
    /// lose what it was given last.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if one is not; or if the place can't be read.
    pub fn verify(view: &dyn View, manifest: &Manifest, sure: impl Fn(PieceId) -> bool) -> Result<()> {
        for entry in &manifest.shelves {
            if !sure(entry.piece) {
                Shelf::open(view, entry, &Arc::new(Cache::new(0)))?.check_all_chunks(view)?;
            }
            if let Some(mask) = entry.mask.as_ref().filter(|mask| !sure(mask.piece)) {
                Opened::new().mask(view, mask, entry.records)?;
            }
        }
        Ok(())
    }

    /// The columns.
    pub fn schema(&self) -> &Arc<Schema> {
        &self.manifest.schema
    }

    /// Which state it is.
    pub fn generation(&self) -> Generation {
        self.manifest.generation
    }

    /// How far the source has been read, in the words of whoever reads it; see
    /// [`Batch::set_bookmark`](crate::Batch::set_bookmark).
    pub fn bookmark(&self) -> Option<&[u8]> {
        self.manifest.bookmark.as_deref()
    }

    /// The number of live records.
    pub fn records(&self) -> u64 {
        self.manifest.records()
    }

    /// The state as plain data.
    pub fn manifest(&self) -> &Manifest {
        &self.manifest
    }

    /// The number of shelves.
    pub fn shelves(&self) -> usize {
        self.shelves.len()
    }

    /// The bytes of all shelves by section, with those of the directories and the masks.
    pub fn sizes(&self) -> Vec<(String, u64)> {
        let mut sizes: BTreeMap<u8, u64> = BTreeMap::new();
        let mut directories = 0;
        for standing in &self.shelves {
            let (sections, directory) = standing.shelf.sizes();
            sections.for_each(|(section, bytes)| *sizes.entry(section as u8).or_default() += bytes);
            directories += directory;
        }
        let masks =
            self.manifest.shelves.iter().filter_map(|entry| entry.mask.as_ref()).map(|mask| mask.bytes).sum();
        Section::ALL
            .iter()
            .map(|section| (section.to_string(), sizes.get(&(*section as u8)).copied().unwrap_or(0)))
            .chain([("directory".to_owned(), directories), ("masks".to_owned(), masks)])
            .collect()
    }

    /// Counts what stands in all shelves; what removed records have counts until their shelf is rewritten. Reads all terms, a
    /// block of each shelf at a time.
    ///
    /// # Errors
    /// If the place can't be read or is damaged.
    pub fn tally(&self, view: &dyn View) -> Result<Tally> {
        let mut walks = self.walks(|standing| Walk::terms(view, &standing.shelf))?;
        let (mut tally, mut last) = (Tally::default(), Vec::new());
        while let Some(least) = walks.iter().filter_map(|walk| Some(&walk.here()?.0)).min().cloned() {
            let mut is_class = false;
            for walk in &mut walks {
                if walk.here().is_some_and(|(name, _)| *name == least)
                    && let Some((_, listed)) = walk.next()?
                {
                    is_class |= matches!(listed, Listed::Class(_));
                    if let Listed::Own(whole) | Listed::Class(ClassEntry { whole, .. }) = listed {
                        tally.postings += u64::from(whole.records);
                        tally.occurrences += whole.occurrences();
                        tally.alone += u64::from(whole.occurrences() == 1);
                    }
                }
            }
            // A term may be one of several stemmings.
            if !is_class && (tally.terms == 0 || text_of(&least) != last) {
                tally.terms += 1;
                last = text_of(&least).to_vec();
            }
        }
        Ok(tally)
    }

    /// Checks everything: each shelf against its checksums, its layout and the manifest (see `docs/shelf-layout.md`), the
    /// masks, and that no two live records have the same key. Reads all bytes.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`], naming the section, at the first thing that is not right.
    pub fn check(&self, view: &dyn View) -> Result<()> {
        for (standing, entry) in self.shelves.iter().zip(&self.manifest.shelves) {
            shelf::check(view, &standing.shelf, entry, &self.manifest.schema)?;
            if let (Some(mask), Some(said)) = (&standing.mask, &entry.mask) {
                let removed: Vec<_> = mask.ordinals().collect();
                if locate::lengths(view, &standing.shelf, entry.lengths.len(), &removed)? != said.lengths {
                    let what = format_args!("mask {} has other lengths than the manifest says", said.piece);
                    return Err(Error::damaged(what));
                }
            }
        }
        self.check_keys(view)
    }

    fn check_keys(&self, view: &dyn View) -> Result<()> {
        let mut walks = self.walks(|standing| Walk::keys(view, &standing.shelf))?;
        let mut next = vec![0; walks.len()];
        let mut before = None;
        while let Some(place) = (0..walks.len())
            .filter(|&place| walks[place].here().is_some())
            .min_by(|&a, &b| walks[a].here().cmp(&walks[b].here()))
        {
            let key = walks[place].next()?;
            if !self.shelves[place].removed(next[place]) {
                if key == before {
                    return Err(Error::damaged("a key has two live records"));
                }
                before = key;
            }
            next[place] += 1;
        }
        Ok(())
    }

    /// A walk through each shelf.
    fn walks<T>(&self, walk: impl FnMut(&Standing) -> Result<T>) -> Result<Vec<T>> {
        self.shelves.iter().map(walk).collect()
    }

    pub(crate) fn standing(&self) -> &[Standing] {
        &self.shelves
    }

    /// The number of tokens in a text column of all live records.
    pub(crate) fn length(&self, column: usize) -> u64 {
        self.lengths[column]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::Batch;
    use crate::record::Record;
    use crate::schema::Column;
    use crate::store::Memory;

    #[test]
    fn who_publishes_and_never_searches_forgets_the_shelves_there_were() {
        let schema = Schema::new("id").with("title", Column::text("none"));
        let (place, opened) = (Memory::new(), Opened::new());
        let mut most = 0;
        for round in 0..600 {
            let mut unit = place.unit();
            let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
            for key in [round % 40, round] {
                batch.put(&Record::new(key).with("title", "oak box")).unwrap();
            }
            batch.publish().unwrap();
            unit.commit().unwrap();
            most = most.max(opened.pieces(|pieces| pieces.shelves.len() + pieces.masks.len()));
        }
        assert!(most < 150, "{most} pieces are remembered");
    }
}
