//! The tables of long lists, which say where their blocks are and what bounds their scores: searches for common words would
//! read them again and again.
//!
//! What always holds: a shelf never changes, so neither do its tables; and those that are remembered have no more than [`MOST`]
//! lines.

use crate::wire::{Broken, Reader};
use foldhash::fast::RandomState;
use hashbrown::HashMap;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

/// Shorter tables are read as fast as they are looked up.
const SHORTEST: usize = 16;
/// The most lines, of 40 bytes each.
const MOST: usize = 1 << 16;

/// What a table says of one block.
#[derive(Debug)]
pub(super) struct Block {
    /// The ordinal of its last posting.
    pub last: u32,
    /// Where it begins in the list.
    pub start: usize,
    /// The occurrences in the blocks before.
    pub occurrences: u64,
    /// Where in the list that stands which bounds its scores.
    pub bounds: Range<usize>,
}

/// A table, and where in the list its first block begins.
pub(super) type Table = (Arc<Vec<Block>>, usize);

/// The table of a list of several blocks; checks that the blocks lie in the list. Also gives where the first begins.
pub(super) fn read_table(bytes: &[u8], blocks: usize, records: u32) -> Result<Table, Broken> {
    let mut whole = Reader::new(bytes);
    let mut reader = Reader::new(whole.bytes()?);
    let first = bytes.len() - whole.left();
    let (mut last, mut start, mut occurrences) = (None, first, 0_u64);
    let mut table = Vec::with_capacity(blocks.min(bytes.len()));
    for _ in 0..blocks {
        let gap = reader.varint_u32()?;
        last = match last {
            None => gap.checked_sub(1),
            Some(before) => u32::checked_add(before, gap),
        };
        let size = reader.size()?;
        let here = reader.varint()?;
        let bounds = reader.bytes()?.len();
        let bounds = first - reader.left() - bounds..first - reader.left();
        let ordinal = last.filter(|last| *last < records).ok_or(Broken("the end of a block"))?;
        table.push(Block { last: ordinal, start, occurrences, bounds });
        start =
            start.checked_add(size).filter(|end| *end <= bytes.len()).ok_or(Broken("the size of a block"))?;
        occurrences = occurrences.checked_add(here).ok_or(Broken("the occurrences of a block"))?;
    }
    Ok((Arc::new(table), first))
}

/// A list: where it stands, and how many postings it has. Both, since a damaged dictionary may say of two terms that their lists
/// begin at the same place.
type ListKey = (u64, u64, u32);

/// The tables of a shelf.
#[derive(Debug, Default)]
pub(super) struct Tables(Mutex<Known>);

#[derive(Debug, Default)]
struct Known {
    tables: HashMap<ListKey, Table, RandomState>,
    lines: usize,
}

impl Tables {
    /// The table of a list of so many blocks, which `read` reads if it is not known.
    pub fn get(
        &self,
        (range, records): (&Range<u64>, u32),
        blocks: usize,
        read: impl FnOnce() -> Result<Table, Broken>,
    ) -> Result<Table, Broken> {
        if !(SHORTEST..=MOST).contains(&blocks) {
            return read();
        }
        let key = (range.start, range.end, records);
        let known = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(table) = known().tables.get(&key) {
            return Ok(table.clone());
        }
        let table = read()?;
        let mut known = known();
        if known.lines + blocks > MOST {
            *known = Known::default();
        }
        if known.tables.insert(key, table.clone()).is_none() {
            known.lines += blocks;
        }
        Ok(table)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_tables_are_read_once_and_no_more_lines_are_kept_than_allowed() {
        let tables = Tables::default();
        let table = || -> Result<Table, Broken> { Ok((Arc::new(Vec::new()), 7)) };
        let unread = || -> Result<Table, Broken> { Err(Broken("read again")) };
        let get = |start: u64, blocks: usize, known: bool| {
            let list = (&(start..start + 9), 5);
            if known { tables.get(list, blocks, unread) } else { tables.get(list, blocks, table) }
        };
        assert!(get(0, SHORTEST, true).is_err());
        assert!(get(0, SHORTEST, false).is_ok() && get(0, SHORTEST, true).is_ok_and(|table| table.1 == 7));
        assert!(tables.get((&(0..8), 5), SHORTEST, unread).is_err(), "another list at the same place");
        assert!(tables.get((&(0..9), 4), SHORTEST, unread).is_err(), "of another length");
        assert!(get(1, SHORTEST - 1, false).is_ok() && get(1, SHORTEST - 1, true).is_err());
        for start in 0..200 {
            assert!(get(start, 1_000, false).is_ok());
            let lines = tables.0.lock().unwrap().lines;
            assert!((1..=MOST).contains(&lines), "{lines}");
        }
        assert!(get(199, 1_000, true).is_ok() && get(0, SHORTEST, true).is_err());
        assert!(get(0, MOST + 1, false).is_ok() && get(0, MOST + 1, true).is_err());
    }
}
