//! A shelf that has been opened: its directory, and which of its chunks have been checked.

use crate::error::{Error, Result};
use crate::shelf::format::directory::{CHUNK, Directory, Section};
use crate::shelf::format::text_columns::TextColumns;
use crate::shelf::read::cache::Cache;
use crate::store::{PieceId, ShelfEntry, View};
use crate::wire::Broken;
use bytes::Bytes;
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// An opened shelf: what its directory says. Everything else is read by range when it is asked for.
#[derive(Debug)]
pub struct Shelf {
    piece: PieceId,
    bytes: u64,
    directory: Directory,
    /// One bit for each chunk that was found to be what its checksum says.
    checked: Vec<AtomicU64>,
    /// All of it, where the place gives it at no cost.
    whole: Option<Bytes>,
    cache: Arc<Cache>,
}

impl Drop for Shelf {
    fn drop(&mut self) {
        self.cache.forget(self.piece);
    }
}

impl Shelf {
    /// Opens a shelf with one read, of its directory, which is checked. The rest is checked chunk by chunk at first
    /// touch.
    ///
    /// # Errors
    /// [`Damaged`](crate::ErrorKind::Damaged) if the directory is not what was written or does not fit the manifest.
    pub(crate) fn open(view: &dyn View, entry: &ShelfEntry, cache: &Arc<Cache>) -> Result<Self> {
        let range = entry.bytes - entry.tail..entry.bytes;
        let tail = view
            .read(&[(entry.piece, range)])?
            .pop()
            .ok_or_else(|| Error::damaged(format_args!("shelf {} is not there", entry.piece)))?;
        let directory = Directory::decode(&tail, entry.bytes, entry.lengths.len())?;
        if directory.records != entry.records {
            return Err(Error::damaged(format_args!("shelf {} is not the one in the manifest", entry.piece)));
        }
        let words = directory.checksums.len().div_ceil(64);
        let checked = (0..words).map(|_| AtomicU64::new(0)).collect();
        let whole = view.whole(entry.piece).filter(|whole| whole.len() as u64 == entry.bytes);
        Ok(Self {
            piece: entry.piece,
            bytes: entry.bytes,
            directory,
            checked,
            whole,
            cache: Arc::clone(cache),
        })
    }

    /// What is kept of it, and of others.
    pub(crate) fn cache(&self) -> &Cache {
        &self.cache
    }

    /// Whether all of it is at hand.
    pub(crate) fn is_at_hand(&self) -> bool {
        self.whole.is_some()
    }

    /// A range of what is at hand, in the body, checked.
    pub(in crate::shelf) fn at_hand(&self, range: &Range<u64>) -> Option<Result<Bytes>> {
        let whole = self.whole.as_ref()?;
        let place = |offset: u64| usize::try_from(offset).unwrap_or(usize::MAX);
        let chunks = range.start / CHUNK..range.end.div_ceil(CHUNK);
        if !self.are_checked(place(chunks.start)..place(chunks.end)) {
            let start = chunks.start * CHUNK;
            let around = place(start)..place((chunks.end * CHUNK).min(self.body()));
            if let Err(error) = self.check_chunks(start, &whole[around]) {
                return Some(Err(error));
            }
        }
        Some(Ok(whole.slice(place(range.start)..place(range.end))))
    }

    /// Whether all chunks of a range were found to be what their checksums say.
    fn are_checked(&self, chunks: Range<usize>) -> bool {
        let words = chunks.start / 64..chunks.end.div_ceil(64);
        words.into_iter().all(|word| {
            let bits = chunks.start.max(word * 64)..chunks.end.min(word * 64 + 64);
            let ones = if bits.len() < 64 { (1 << bits.len()) - 1 } else { u64::MAX };
            let wanted = ones << (bits.start % 64);
            self.checked.get(word).is_some_and(|known| known.load(Ordering::Acquire) & wanted == wanted)
        })
    }

    /// The piece.
    pub fn piece(&self) -> PieceId {
        self.piece
    }

    /// The number of records, the removed ones included.
    pub fn records(&self) -> u32 {
        self.directory.records
    }

    /// The length of each section in bytes, and of the directory.
    pub fn sizes(&self) -> (impl Iterator<Item = (Section, u64)>, u64) {
        let sections = Section::ALL.into_iter().map(|section| {
            let range = self.section(section);
            (section, range.end - range.start)
        });
        (sections, self.bytes - self.body())
    }

    /// The number of text columns.
    pub(crate) fn columns(&self) -> usize {
        self.directory.widths.len()
    }

    /// The text columns.
    pub(in crate::shelf) fn text_columns(&self) -> &Arc<TextColumns> {
        &self.directory.columns
    }

    /// The names of the stemmings, by their numbers.
    pub(crate) fn stemmings(&self) -> &[String] {
        &self.directory.stemmings
    }

    /// The number of postings in a block, and of positions in a chunk.
    pub(crate) fn block(&self) -> usize {
        self.directory.block.into()
    }

    /// The number of columns whose values are compared.
    pub(in crate::shelf) fn value_columns(&self) -> usize {
        self.directory.value_columns.into()
    }

    pub(in crate::shelf) fn widths(&self) -> &[u8] {
        &self.directory.widths
    }

    pub(in crate::shelf) fn body(&self) -> u64 {
        self.directory.body()
    }

    pub(in crate::shelf) fn section(&self, section: Section) -> Range<u64> {
        self.directory.section(section)
    }

    /// Whether it has what a reader needs to know of.
    pub(in crate::shelf) fn has_feature(&self, feature: u32) -> bool {
        self.directory.features & feature != 0
    }

    /// A range that was counted from the beginning of a section, checked to lie inside it.
    pub(in crate::shelf) fn within(&self, section: Section, range: Range<u64>) -> Result<Range<u64>> {
        let whole = self.section(section);
        match whole.start.checked_add(range.end) {
            Some(end) if end <= whole.end && range.start <= range.end => Ok(whole.start + range.start..end),
            _ => Err(self.broken(section, Broken("a range"))),
        }
    }

    /// The error for something in a section that can't be read.
    #[cold]
    pub(in crate::shelf) fn broken(&self, section: Section, Broken(what): Broken) -> Error {
        Error::damaged(format_args!("in shelf {}, {what} in the {section} can't be read", self.piece))
    }

    /// Reads all of the shelf, and checks every chunk.
    ///
    /// # Errors
    /// [`Damaged`](crate::ErrorKind::Damaged) if it is not what was written.
    pub(crate) fn check_all_chunks(&self, view: &dyn View) -> Result<()> {
        const AT_ONCE: u64 = 16 * CHUNK;
        let mut at = 0;
        while at < self.body() {
            let end = self.body().min(at + AT_ONCE);
            let bytes = view.read(&[(self.piece, at..end)])?.pop().unwrap_or_default();
            if bytes.len() as u64 != end - at {
                return Err(Error::damaged(format_args!("shelf {} is cut short", self.piece)));
            }
            self.check_chunks(at, &bytes)?;
            at = end;
        }
        Ok(())
    }

    /// Checks those of the chunks in `bytes`, which begin at `start`, that were never checked before.
    pub(in crate::shelf) fn check_chunks(&self, start: u64, bytes: &[u8]) -> Result<()> {
        #[expect(clippy::cast_possible_truncation, reason = "a chunk is 4 KiB")]
        let chunks = bytes.chunks(CHUNK as usize);
        let first = usize::try_from(start / CHUNK).unwrap_or(usize::MAX);
        for (number, chunk) in (first..).zip(chunks) {
            let (Some(word), Some(&checksum)) =
                (self.checked.get(number / 64), self.directory.checksums.get(number))
            else {
                return Err(Error::damaged(format_args!("shelf {} has no chunk {number}", self.piece)));
            };
            let bit = 1 << (number % 64);
            if word.load(Ordering::Relaxed) & bit != 0 {
                continue;
            }
            if crc32fast::hash(chunk) != checksum {
                return Err(self.damaged_chunk(number as u64 * CHUNK, chunk.len() as u64));
            }
            word.fetch_or(bit, Ordering::Relaxed);
        }
        Ok(())
    }

    #[cold]
    fn damaged_chunk(&self, start: u64, length: u64) -> Error {
        let touches = |section: &Section| {
            let range = self.section(*section);
            range.start < start + length && start < range.end
        };
        let sections: Vec<_> = Section::ALL.iter().filter(|s| touches(s)).map(ToString::to_string).collect();
        Error::damaged(format_args!(
            "in shelf {}, bytes {start} to {} ({}) do not fit their checksum",
            self.piece,
            start + length,
            sections.join(", ")
        ))
    }
}
