//! A mask: which of a shelf's records are removed. Immutable; a newer one replaces it.
//!
//! As bytes: a label, a version and a checksum, then in varints how many ordinals there are and the gaps between them
//! (the first counts from -1).

use crate::bits::Bits;
use crate::error::{Error, Result};
use crate::shelf::Postings;
use crate::store::PIECE_LABELS;
use crate::wire::{Broken, Reader, put_varint};

const MAGIC: [u8; 8] = PIECE_LABELS[1];
const VERSION: u32 = 1;

/// The removed records of one shelf, by ordinal.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Mask {
    bits: Bits,
    count: u32,
}

impl Mask {
    /// Whether a record is removed.
    pub fn has(&self, ordinal: u32) -> bool {
        self.bits.has(ordinal as usize)
    }

    /// Removes a record; tells whether it was live before.
    pub fn remove(&mut self, ordinal: u32) -> bool {
        let fresh = !self.has(ordinal);
        self.bits.grow(ordinal as usize + 1);
        self.bits.set(ordinal as usize);
        self.count += u32::from(fresh);
        fresh
    }

    /// How many records are removed.
    pub fn count(&self) -> u32 {
        self.count
    }

    /// How many of the records that a term has are removed. Takes time in proportion to the removed records, or to the
    /// postings from where they stand, if these are fewer.
    pub(crate) fn count_in(&self, mut postings: Postings) -> Result<u64> {
        let (mut count, mut next) = (0, self.bits.next(0));
        while let Some(wanted) = next.and_then(|ordinal| u32::try_from(ordinal).ok()) {
            if !postings.seek(wanted)? {
                break;
            }
            let here = postings.ordinal();
            count += u64::from(here == wanted);
            next = self.bits.next(here as usize + usize::from(here == wanted));
        }
        Ok(count)
    }

    /// The removed records, ascending.
    pub(super) fn ordinals(&self) -> impl Iterator<Item = u32> {
        self.bits.iter().map_while(|ordinal| u32::try_from(ordinal).ok())
    }

    /// The removed records as bits.
    pub(crate) fn bits(&self) -> &Bits {
        &self.bits
    }

    /// The mask as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let mut body = Vec::new();
        put_varint(&mut body, u64::from(self.count));
        let mut next = 0;
        for ordinal in self.ordinals() {
            put_varint(&mut body, u64::from(ordinal - next) + 1);
            next = ordinal + 1;
        }
        let mut out = MAGIC.to_vec();
        out.extend_from_slice(&VERSION.to_le_bytes());
        out.extend_from_slice(&crc32fast::hash(&body).to_le_bytes());
        out.extend_from_slice(&body);
        out
    }

    /// Reads the mask of a shelf of `records` records. Checks label, version, checksum, and that the ordinals ascend
    /// and are below `records`.
    ///
    /// # Errors
    /// [`Damaged`](crate::ErrorKind::Damaged) if one of these does not hold.
    pub fn decode(bytes: &[u8], records: u32) -> Result<Self> {
        decode(bytes, records)
            .map_err(|Broken(what)| Error::damaged(format_args!("{what} of a mask can't be read")))
    }
}

fn decode(bytes: &[u8], records: u32) -> Result<Mask, Broken> {
    let mut reader = Reader::new(bytes);
    if reader.array() != Ok(MAGIC) {
        return Err(Broken("the label"));
    }
    if reader.u32()? != VERSION {
        return Err(Broken("the version"));
    }
    let checksum = reader.u32()?;
    if crc32fast::hash(&bytes[bytes.len() - reader.left()..]) != checksum {
        return Err(Broken("the checksum"));
    }
    let mut mask = Mask::default();
    let mut next = 0_u32;
    for _ in 0..reader.varint_u32()? {
        let ordinal = reader
            .varint_u32()?
            .checked_sub(1)
            .and_then(|gap| next.checked_add(gap))
            .filter(|&ordinal| ordinal < records)
            .ok_or(Broken("a record"))?;
        mask.remove(ordinal);
        next = ordinal + 1;
    }
    if reader.is_empty() { Ok(mask) } else { Err(Broken("the end")) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn a_mask_is_the_set_of_what_was_removed(removed in prop::collection::vec(0_u32..500, 0..80)) {
            let mut mask = Mask::default();
            let mut set = BTreeSet::new();
            for &ordinal in &removed {
                prop_assert_eq!(mask.remove(ordinal), set.insert(ordinal));
            }
            let read = Mask::decode(&mask.encode(), 500).unwrap();
            prop_assert_eq!(read.count() as usize, set.len());
            prop_assert!((0..600).all(|ordinal| read.has(ordinal) == set.contains(&ordinal)));
            let greatest = set.last().copied().unwrap_or(0);
            prop_assert!(set.is_empty() || Mask::decode(&mask.encode(), greatest).is_err());
        }

        #[test]
        fn any_damage_is_noticed(removed in prop::collection::vec(0_u32..500, 0..20), at: prop::sample::Index, bit in 0_u8..8) {
            let mut mask = Mask::default();
            for &ordinal in &removed {
                mask.remove(ordinal);
            }
            let mut bytes = mask.encode();
            let at = at.index(bytes.len());
            bytes[at] ^= 1_u8 << bit;
            prop_assert!(Mask::decode(&bytes, 500).is_err());
            prop_assert!(Mask::decode(&bytes[..at], 500).is_err());
        }
    }
}
