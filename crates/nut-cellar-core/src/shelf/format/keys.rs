//! The keys of a shelf, in order: from key to ordinal and back.

use crate::error::Error;
use crate::shelf::format::directory::Section;
use crate::shelf::format::entries::Entries;
use crate::shelf::format::sorted::{SortedIndex, SortedWriter};
use crate::shelf::read::held::{Held, Step, if_held};
use crate::shelf::read::reader::Shelf;
use crate::wire::Broken;
use std::sync::Arc;

/// Keys in a block, all but the last: what turns an ordinal into a block.
const PER_BLOCK: usize = 256;

/// What packs encoded keys.
pub(in crate::shelf) fn writer() -> SortedWriter {
    SortedWriter::new(PER_BLOCK)
}

impl Shelf {
    /// The ordinal of an encoded key, if the shelf has it (removed or not).
    pub(crate) fn find_key(self: &Arc<Self>, held: &mut Held, key: &[u8]) -> Step<Option<u32>> {
        Ok(self.find_keys(held, &[key])?.pop())
    }

    /// The ordinals of those of `wanted` (encoded keys, ascending) that the shelf has; goes once through each block that may
    /// have some. Of blocks that are not at hand all are noted as missing.
    pub(crate) fn find_keys(self: &Arc<Self>, held: &mut Held, wanted: &[&[u8]]) -> Step<Vec<u32>> {
        let index = self.index_of(held, Section::Keys)?;
        let (mut found, mut wanted) = (Vec::new(), wanted);
        let broken = |what| self.broken(Section::KeyIndex, what);
        let mut block = 0;
        while let Some(first) = wanted.first().filter(|_| index.blocks() > 0) {
            block = index.locate_from(block, first).map_err(broken)?;
            let mut here = 1;
            while here < wanted.len() && !index.is_behind(block, wanted[here]).map_err(broken)? {
                here += 1;
            }
            let (in_block, later) = wanted.split_at(here);
            wanted = later;
            if let Some(bytes) = if_held(self.block_of(held, Section::Keys, &index, block))? {
                self.find_in_block(&bytes, block * PER_BLOCK, in_block, &mut found)?;
            }
        }
        held.complete()?;
        Ok(found)
    }

    /// Appends the ordinals of those of `wanted` that a block has whose first key has the ordinal `first`.
    fn find_in_block(
        &self,
        bytes: &[u8],
        first: usize,
        wanted: &[&[u8]],
        found: &mut Vec<u32>,
    ) -> Result<(), Error> {
        let broken = |what| self.broken(Section::Keys, what);
        let (mut entries, mut end) = (Entries::new(bytes), first);
        for key in wanted {
            let Some(steps) = entries.advance_to(key).map_err(broken)? else { return Ok(()) };
            end += steps;
            if entries.entry() == *key {
                let ordinal = u32::try_from(end - 1).ok().filter(|ordinal| *ordinal < self.records());
                found.push(ordinal.ok_or_else(|| broken(Broken("a key")))?);
            }
        }
        Ok(())
    }

    /// How many encoded keys are less than this one, or equal to it.
    pub(crate) fn keys_up_to(self: &Arc<Self>, held: &mut Held, key: &[u8]) -> Step<u32> {
        let index = self.index_of(held, Section::Keys)?;
        let Some(block) = self.locate(Section::Keys, &index, key)? else { return Ok(0) };
        let keys = self.keys_in(held, block)?;
        let count = block * PER_BLOCK + keys.partition_point(|known| known.as_slice() <= key);
        Ok(u32::try_from(count).unwrap_or(u32::MAX).min(self.records()))
    }

    /// The encoded key of a record.
    pub(crate) fn key_of(self: &Arc<Self>, held: &mut Held, ordinal: u32) -> Step<Vec<u8>> {
        let ordinal = ordinal as usize;
        let keys = self.section(Section::Keys);
        let length = keys.end - keys.start;
        let ends = self.within(Section::KeyIndex, SortedIndex::ends_of(length, ordinal / PER_BLOCK))?;
        let ends = held.get(self, ends)?;
        let range = SortedIndex::block_between(length, &ends);
        let range = range.map_err(|what| self.broken(Section::KeyIndex, what))?;
        let bytes = held.get(self, self.within(Section::Keys, range)?)?;
        let broken = |what| self.broken(Section::Keys, what);
        let mut entries = Entries::new(&bytes);
        if !entries.advance_by(ordinal % PER_BLOCK).map_err(broken)? {
            return Err(broken(Broken("a key")).into());
        }
        Ok(entries.entry().to_vec())
    }

    /// The least and the greatest encoded key; none if there is no record.
    pub(crate) fn key_span(self: &Arc<Self>, held: &mut Held) -> Step<Option<(Vec<u8>, Vec<u8>)>> {
        let index = self.index_of(held, Section::Keys)?;
        let last = self.keys_in(held, index.blocks().saturating_sub(1))?.pop();
        let first = self.keys_in(held, 0)?.into_iter().next();
        Ok(first.zip(last))
    }

    /// The encoded keys of block `block`, in order; none past the last.
    pub(in crate::shelf) fn keys_in(self: &Arc<Self>, held: &mut Held, block: usize) -> Step<Vec<Vec<u8>>> {
        self.entries_in(held, (Section::Keys, block), |key, _| Ok(key.to_vec()))
    }
}
