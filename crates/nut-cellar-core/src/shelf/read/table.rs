//! The table of a long list, which says where its blocks are and what bounds their scores.

use crate::schema::ColumnSet;
use crate::wire::{Broken, Reader};
use std::ops::Range;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// What a table says of one block.
#[derive(Debug)]
pub(in crate::shelf) struct Block {
    /// The ordinal of its last posting.
    pub last: u32,
    /// Where it begins in the list.
    pub start: usize,
    /// The occurrences in the blocks before.
    pub occurrences: u64,
    /// As bits, what its shapes have for their forms.
    pub codes: u32,
    /// Where in the list that stands which bounds its scores.
    pub bounds: Range<usize>,
}

/// What a table says of each block, and what was worked out of it last.
#[derive(Debug, Default)]
pub(in crate::shelf) struct Table {
    pub blocks: Vec<Block>,
    most: Mutex<Option<Arc<Most>>>,
}

impl Table {
    pub fn new(blocks: Vec<Block>) -> Self {
        Self { blocks, most: Mutex::default() }
    }

    pub fn bytes(&self) -> usize {
        self.blocks.len() * (size_of::<Block>() + size_of::<AtomicU32>())
    }

    /// What bounds the blocks in these columns, by factors that have these bits, as far as it was worked out for others.
    pub fn most(&self, columns: ColumnSet, factors: &[u32]) -> Arc<Most> {
        let mut last = self.most.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(most) = last.as_ref().filter(|most| most.columns == columns && *most.factors == *factors)
        {
            return Arc::clone(most);
        }
        let unknown = || AtomicU32::new(UNKNOWN);
        let of_blocks = self.blocks.iter().map(|_| unknown()).collect();
        let most = Arc::new(Most { columns, factors: factors.into(), of_blocks });
        *last = Some(Arc::clone(&most));
        most
    }
}

/// For each block of a list the greatest tf~ of its postings, so that searches with the same weights need not work it out again.
#[derive(Debug)]
pub(crate) struct Most {
    columns: ColumnSet,
    factors: Box<[u32]>,
    /// The bits of the numbers.
    of_blocks: Box<[AtomicU32]>,
}

/// The bits of no tf~.
const UNKNOWN: u32 = u32::MAX;

impl Most {
    /// That of a block, if it was worked out.
    pub fn get(&self, block: usize) -> Option<f32> {
        let bits = self.of_blocks.get(block)?.load(Ordering::Relaxed);
        (bits != UNKNOWN).then(|| f32::from_bits(bits))
    }

    /// Takes note of that of a block.
    pub fn put(&self, block: usize, most: f32) {
        if let Some(of_block) = self.of_blocks.get(block) {
            of_block.store(most.to_bits(), Ordering::Relaxed);
        }
    }
}

/// The table of a list of several blocks, which tells of forms if there are several; checks that the blocks lie in the list.
pub(in crate::shelf) fn read_table(
    bytes: &[u8],
    blocks: usize,
    records: u32,
    of_forms: bool,
) -> Result<Table, Broken> {
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
        let codes = if of_forms { reader.u8()?.into() } else { 1 };
        let bounds = reader.bytes()?.len();
        let bounds = first - reader.left() - bounds..first - reader.left();
        let ordinal = last.filter(|last| *last < records).ok_or(Broken("the end of a block"))?;
        table.push(Block { last: ordinal, start, occurrences, codes, bounds });
        start =
            start.checked_add(size).filter(|end| *end <= bytes.len()).ok_or(Broken("the size of a block"))?;
        occurrences = occurrences.checked_add(here).ok_or(Broken("the occurrences of a block"))?;
    }
    Ok(Table::new(table))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_worked_out_is_known_to_those_with_the_same_factors_only() {
        let block = || Block { last: 0, start: 0, occurrences: 0, codes: 1, bounds: 0..0 };
        let lines = Table::new(vec![block(), block()]);
        let (first, second) = (ColumnSet(1), ColumnSet(2));
        let most = lines.most(first, &[1, 2]);
        most.put(1, 0.0);
        assert_eq!((most.get(0), most.get(1), most.get(2)), (None, Some(0.0), None));
        assert_eq!(lines.most(first, &[1, 2]).get(1), Some(0.0));
        assert_eq!(lines.most(second, &[1, 2]).get(1), None, "in another column");
        assert_eq!(lines.most(first, &[1, 2]).get(1), None, "only the last is remembered");
        lines.most(first, &[1, 2]).put(1, 2.0);
        assert_eq!(lines.most(first, &[1, 3]).get(1), None, "by other weights");
    }
}
