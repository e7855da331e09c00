//! Finding records by key in a shelf, and what removing them takes away.

use crate::error::Result;
use crate::shelf::{Held, LengthColumn, Shelf, complete, if_held};
use crate::store::View;
use std::sync::Arc;

/// So many keys are looked up in one round trip, so that few blocks of keys are in memory.
const AT_ONCE: usize = 1 << 12;

/// The ordinals of those of `keys` (encoded, ascending) that the shelf has, removed or not; ascending. Reads the key
/// blocks that can hold them, in few round trips, and nothing but the ends if all keys are outside the shelf's.
pub(super) fn locate(view: &dyn View, shelf: &Arc<Shelf>, keys: &[&[u8]]) -> Result<Vec<u32>> {
    if keys.is_empty() {
        return Ok(Vec::new());
    }
    let mut held = Held::default();
    let Some((first, last)) = complete(view, &mut held, |held| shelf.key_span(held))? else {
        return Ok(Vec::new());
    };
    let start = keys.partition_point(|key| *key < first.as_slice());
    let end = keys.partition_point(|key| *key <= last.as_slice());
    let keys = &keys[start..end.max(start)];
    let mut found = Vec::new();
    for keys in keys.chunks(AT_ONCE) {
        found.append(&mut complete(view, &mut held, |held| shelf.find_keys(held, keys))?);
        held = Held::default();
    }
    Ok(found)
}

/// For each of `columns` text columns, the number of tokens in these records.
pub(super) fn lengths(
    view: &dyn View,
    shelf: &Arc<Shelf>,
    columns: usize,
    ordinals: &[u32],
) -> Result<Vec<u64>> {
    complete(view, &mut Held::default(), |held| {
        let mut sums = vec![0; columns];
        for (column, sum) in sums.iter_mut().enumerate() {
            let mut lengths = LengthColumn::new(shelf, column);
            for &ordinal in ordinals {
                *sum += if_held(lengths.get(held, ordinal))?.map_or(0, u64::from);
            }
        }
        held.complete()?;
        Ok(sums)
    })
}
