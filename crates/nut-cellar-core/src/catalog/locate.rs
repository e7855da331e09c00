//! Finding records by key in a shelf, and what removing them takes away.

use crate::error::Result;
use crate::shelf::{Hand, LengthColumn, Shelf, Walk, complete, if_at_hand};
use crate::store::View;
use std::cmp::Ordering;
use std::sync::Arc;

/// Keys are looked up one by one, unless a shelf has fewer than so many times as many: then all are read.
const FEW: usize = 16;

/// The ordinals of those of `keys` (encoded, ascending) that the shelf has, removed or not; ascending. Reads the key
/// blocks that can hold them, in few round trips, and nothing but the ends if all keys are outside the shelf's.
pub(super) fn locate(view: &dyn View, shelf: &Arc<Shelf>, keys: &[&[u8]]) -> Result<Vec<u32>> {
    if keys.is_empty() {
        return Ok(Vec::new());
    }
    let mut hand = Hand::default();
    let Some((first, last)) = complete(view, &mut hand, |hand| shelf.key_span(hand))? else {
        return Ok(Vec::new());
    };
    let start = keys.partition_point(|key| *key < first.as_slice());
    let end = keys.partition_point(|key| *key <= last.as_slice());
    let keys = &keys[start..end.max(start)];
    if keys.len() * FEW > shelf.records() as usize {
        return among_all(view, shelf, keys);
    }
    complete(view, &mut hand, |hand| {
        let mut found = Vec::new();
        for key in keys {
            found.extend(if_at_hand(shelf.find_key(hand, key))?.flatten());
        }
        hand.complete()?;
        Ok(found)
    })
}

/// The same, by going through all keys of the shelf.
fn among_all(view: &dyn View, shelf: &Arc<Shelf>, keys: &[&[u8]]) -> Result<Vec<u32>> {
    let mut walk = Walk::keys(view, shelf)?;
    let (mut ordinal, mut wanted, mut found) = (0, keys.iter().peekable(), Vec::new());
    while let (Some(key), Some(next)) = (walk.here(), wanted.peek()) {
        match key.as_slice().cmp(next) {
            Ordering::Greater => drop(wanted.next()),
            order => {
                if order == Ordering::Equal {
                    found.push(ordinal);
                }
                walk.next()?;
                ordinal += 1;
            }
        }
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
