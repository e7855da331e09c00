//! Finding records by key in a shelf, and what removing them takes away.

use crate::error::Result;
use crate::shelf::{Hand, LengthColumn, Shelf, complete, if_at_hand};
use crate::store::View;
use std::sync::Arc;

/// The ordinals of those of `keys` (encoded, ascending) that the shelf has, removed or not; ascending. Reads the key
/// blocks that can hold them, in two round trips.
pub(super) fn locate(view: &dyn View, shelf: &Arc<Shelf>, keys: &[Vec<u8>]) -> Result<Vec<u32>> {
    complete(view, &mut Hand::default(), |hand| {
        let mut found = Vec::new();
        for key in keys {
            found.extend(if_at_hand(shelf.find_key(hand, key))?.flatten());
        }
        hand.complete()?;
        Ok(found)
    })
}

/// For each of `columns` text columns, the number of tokens in these records.
pub(super) fn lengths(
    view: &dyn View,
    shelf: &Arc<Shelf>,
    columns: usize,
    ordinals: &[u32],
) -> Result<Vec<u64>> {
    complete(view, &mut Hand::default(), |hand| {
        let mut sums = vec![0; columns];
        for (column, sum) in sums.iter_mut().enumerate() {
            let mut lengths = LengthColumn::new(shelf, column);
            for &ordinal in ordinals {
                *sum += if_at_hand(lengths.get(hand, ordinal))?.map_or(0, u64::from);
            }
        }
        hand.complete()?;
        Ok(sums)
    })
}
