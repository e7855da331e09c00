//! The first fill, in parts: each is published, with the last key that was read, so that a fill that is interrupted goes on there.
//!
//! What always holds: a row that changes after its part was read is in the log, which is kept until the last part is published.

use super::tuning::tuning;
use nut_cellar_core::{Batch, Key, Manifest, Merging, Result};

/// How many rows are in shelves.
pub(super) fn rows_in(manifest: &Manifest) -> u64 {
    manifest.shelves.iter().map(|shelf| u64::from(shelf.records)).sum()
}

/// A stretch of the rows in key order, and how far it has been read.
#[derive(Debug)]
pub(crate) struct Stretch {
    /// The key from which it is read: the last one of the part before, which is not put again.
    pub from: Option<Key>,
    /// The most rows that are read.
    pub most: u64,
    /// How many were.
    pub rows: u64,
    /// The last key that was read.
    pub last: Option<Key>,
}

impl Stretch {
    /// All rows.
    pub fn all() -> Self {
        Self { from: None, most: u64::MAX, rows: 0, last: None }
    }

    /// The next part of a fill that has come to this state.
    pub fn after(manifest: &Manifest) -> Result<Self> {
        let from = manifest.bookmark.as_deref().filter(|bookmark| !bookmark.is_empty());
        let from = from.map(Key::decode).transpose()?;
        Ok(Self { from, most: tuning().rows_in_part, ..Self::all() })
    }

    /// How many rows the parts before had.
    pub fn read_before(&self, manifest: &Manifest) -> u64 {
        if self.from.is_some() { rows_in(manifest) } else { 0 }
    }

    /// Whether there may be more rows behind it.
    pub fn goes_on(&self) -> bool {
        self.rows >= self.most
    }

    /// Whether so many rows count as equal that none behind them was read. Then all of the rest is one part.
    pub fn is_stuck(&mut self) -> bool {
        let stuck = self.goes_on() && self.last == self.from;
        if stuck {
            *self = Self { from: self.from.take(), ..Self::all() };
        }
        stuck
    }

    /// Says in the batch that has it how far it went.
    pub fn mark_end(&self, batch: &mut Batch<'_>) -> Result<()> {
        match &self.last {
            Some(last) if self.goes_on() => {
                batch.set_merging(Merging::Never);
                batch.set_bookmark(last.encode())
            }
            _ if self.from.is_some() => batch.set_bookmark([]),
            _ => Ok(()),
        }
    }

    /// The end of the statement that reads it.
    pub fn limit(&self) -> String {
        if self.most == u64::MAX { String::new() } else { format!(" LIMIT {}", self.most) }
    }
}
