//! Reading whole shelves from front to back, as checking and merging do: what was read last stays at hand, and no more.

use crate::error::{Error, Result};
use crate::shelf::format::directory::Section;
use crate::shelf::format::kept::KeptBlock;
use crate::shelf::format::lengths::LengthColumn;
use crate::shelf::format::terms::Listed;
use crate::shelf::read::held::{Held, Step, Stop};
use crate::shelf::read::reader::Shelf;
use crate::store::View;
use crate::wire::Broken;
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;

/// So many bytes may lie at hand when the next thing is read.
const AT_HAND: u64 = 1 << 20;
/// So many bytes are read at once.
const AHEAD: u64 = 64 << 10;

/// A shelf that is read by whoever may wait for its place.
pub(crate) struct ShelfReading<'v> {
    view: &'v dyn View,
    shelf: Arc<Shelf>,
    held: Held,
}

impl<'v> ShelfReading<'v> {
    /// Nothing read yet.
    pub fn new(view: &'v dyn View, shelf: &Arc<Shelf>) -> Self {
        Self { view, shelf: Arc::clone(shelf), held: Held::going_ahead(AHEAD) }
    }

    /// Does `work`, fetching what it lacks.
    pub fn read<T>(&mut self, work: impl FnMut(&Arc<Shelf>, &mut Held) -> Step<T>) -> Result<T> {
        if self.held.bytes() > AT_HAND {
            self.held = Held::going_ahead(AHEAD);
        }
        let (shelf, mut work) = (&self.shelf, work);
        complete(self.view, &mut self.held, |held| work(shelf, held))
    }

    /// The error for something in a section that can't be read.
    pub fn broken(&self, section: Section, what: Broken) -> Error {
        self.shelf.broken(section, what)
    }

    /// A range of the shelf.
    pub fn bytes(&mut self, range: &Range<u64>) -> Result<Bytes> {
        self.read(|shelf, held| held.get(shelf, range.clone()))
    }

    /// The lengths of all records in a text column.
    pub fn lengths(&mut self, column: usize) -> Result<Vec<u32>> {
        let records = self.shelf.records();
        self.read(|shelf, held| {
            let mut lengths = LengthColumn::new(shelf, column);
            lengths.expect(held, u64::MAX)?;
            (0..records).map(|ordinal| lengths.get(held, ordinal)).collect()
        })
    }
}

/// Repeats `work`, fetching what it lacks, until it comes to an end.
pub(crate) fn complete<T>(
    view: &dyn View,
    held: &mut Held,
    mut work: impl FnMut(&mut Held) -> Step<T>,
) -> Result<T> {
    loop {
        match work(held) {
            Ok(done) => return Ok(done),
            Err(Stop::Failed(error)) => return Err(error),
            Err(Stop::Missing) => held.fetch(view)?,
        }
    }
}

/// Goes through what stands in blocks, such as keys or terms, in order. A new walk stands at the first.
pub(crate) struct Walk<'v, T> {
    reading: ShelfReading<'v>,
    read: ReadBlock<T>,
    next_block: usize,
    /// What is left of the block, the last first.
    left: Vec<T>,
}

/// Reads what is in a block; nothing past the last.
type ReadBlock<T> = fn(&Arc<Shelf>, &mut Held, usize) -> Step<Vec<T>>;

impl<'v, T> Walk<'v, T> {
    fn new(reading: ShelfReading<'v>, read: ReadBlock<T>) -> Result<Self> {
        let mut walk = Self { reading, read, next_block: 0, left: Vec::new() };
        walk.fill()?;
        Ok(walk)
    }

    /// Where it stands, unless it is past the last.
    pub fn here(&self) -> Option<&T> {
        self.left.last()
    }

    /// The block in which it stands, unless it is past the last.
    pub fn block(&self) -> Option<usize> {
        self.left.last().map(|_| self.next_block - 1)
    }

    /// Takes what it stands at, and goes on.
    pub fn next(&mut self) -> Result<Option<T>> {
        let here = self.left.pop();
        self.fill()?;
        Ok(here)
    }

    fn fill(&mut self) -> Result<()> {
        if self.left.is_empty() {
            let (read, block) = (self.read, self.next_block);
            self.left = self.reading.read(|shelf, held| read(shelf, held, block))?;
            self.left.reverse();
            self.next_block += 1;
        }
        Ok(())
    }
}

impl<'v> Walk<'v, Vec<u8>> {
    /// Through the encoded keys.
    pub fn keys(view: &'v dyn View, shelf: &Arc<Shelf>) -> Result<Self> {
        Self::new(ShelfReading::new(view, shelf), Shelf::keys_in)
    }
}

impl<'v> Walk<'v, Vec<u8>> {
    /// Through the exact values.
    pub fn exact(view: &'v dyn View, shelf: &Arc<Shelf>) -> Result<Self> {
        Self::new(ShelfReading::new(view, shelf), Shelf::exact_in)
    }
}

impl<'v> Walk<'v, (Vec<u8>, Vec<u32>)> {
    /// Through the runs of letters.
    pub fn grams(view: &'v dyn View, shelf: &Arc<Shelf>) -> Result<Self> {
        Self::new(ShelfReading::new(view, shelf), Shelf::grams_in)
    }
}

impl<'v> Walk<'v, (Vec<u8>, Listed)> {
    /// Through the dictionary, by names.
    pub fn terms(view: &'v dyn View, shelf: &Arc<Shelf>) -> Result<Self> {
        Self::new(ShelfReading::new(view, shelf), Shelf::terms_in)
    }
}

impl<'v> Walk<'v, KeptBlock> {
    /// Through the blocks of kept values.
    pub fn kept(view: &'v dyn View, shelf: &Arc<Shelf>) -> Result<Self> {
        Self::new(ShelfReading::new(view, shelf), |shelf, held, block| {
            Ok(shelf.kept_block(held, block)?.into_iter().collect())
        })
    }
}
