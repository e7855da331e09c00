//! Lists of terms that many of the records have, unpacked: the records as bits, and the shapes of their postings as bytes. Where such lists
//! meet, or a filter leaves a few of their records, a search asks for some postings of nearly every block, and would unpack them all.

use crate::bits::Bits;
use crate::error::Result;
use crate::shelf::read::cache::ListKey;
use std::sync::Arc;

/// Of so many records one has to have the term.
const ONE_OF: u64 = 64;
/// A list of fewer blocks is read as fast.
const FEWEST_BLOCKS: usize = 4;
/// Stands for every shape that is as large or larger.
const LARGE: u8 = u8::MAX;

/// A list, unpacked.
#[derive(Debug)]
pub(crate) struct UnpackedList {
    bits: Arc<Bits>,
    /// For each 64 records how many postings come before theirs.
    before: Vec<u32>,
    shapes: Vec<u8>,
}

impl UnpackedList {
    /// Whether a list of so many blocks is long enough, in a shelf of so many records.
    pub(in crate::shelf) fn is_worth((.., postings): ListKey, blocks: usize, records: u32) -> bool {
        blocks >= FEWEST_BLOCKS && u64::from(postings) * ONE_OF >= records.into()
    }

    /// The list of the postings that blocks have, for each its records and the shapes, in a shelf of so many records.
    pub(in crate::shelf) fn of(
        records: u32,
        each_block: impl FnOnce(&mut dyn FnMut(&[u32], &[u32])) -> Result<()>,
    ) -> Result<Self> {
        let (mut bits, mut shapes) = (Bits::new(records as usize), Vec::new());
        each_block(&mut |ordinals, of_block| {
            bits.set_all(ordinals.iter().map(|ordinal| *ordinal as usize));
            shapes.extend(of_block.iter().map(|shape| u8::try_from(*shape).unwrap_or(LARGE)));
        })?;
        let before = bits.words().iter().scan(0, |before, word| {
            let here = *before;
            *before += word.count_ones();
            Some(here)
        });
        let before = before.collect();
        Ok(Self { bits: Arc::new(bits), before, shapes })
    }

    /// The records.
    pub fn bits(&self) -> &Arc<Bits> {
        &self.bits
    }

    /// Whether a record has the term.
    #[inline]
    pub fn has(&self, ordinal: u32) -> bool {
        self.bits.has(ordinal as usize)
    }

    /// The place in the list of the posting of a record, if it has one.
    #[inline]
    pub fn place_of(&self, ordinal: u32) -> Option<usize> {
        self.has(ordinal).then(|| {
            let (place, bit) = (ordinal as usize / 64, ordinal % 64);
            let below = self.bits.words()[place] & ((1 << bit) - 1);
            (self.before[place] + below.count_ones()) as usize
        })
    }

    /// The shape of the posting at a place of the list, if it is not too large.
    #[inline]
    pub fn shape(&self, place: usize) -> Option<u32> {
        Some(self.shapes[place]).filter(|shape| *shape != LARGE).map(u32::from)
    }

    pub(in crate::shelf) fn bytes(&self) -> usize {
        size_of_val(self.bits.words()) + size_of_val(&*self.before) + self.shapes.len()
    }
}
