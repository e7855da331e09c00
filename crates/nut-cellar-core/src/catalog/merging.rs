//! Which shelves become one, and when.
//!
//! A cellar has at most [`MOST_SHELVES`] shelves. One more, and the smallest become one: two, and as many more as it takes
//! for the next larger shelf to be at least twice as large as what they make. How often a record is written again grows
//! with the logarithm of the number of records; measured: 5.6 times for 1,000 batches of one record, 10 times for
//! 100,000. A shelf with more than a fifth of its records removed
//! is written anew.

use super::mask::Mask;
use super::snapshot::Opened;
use crate::error::Result;
use crate::schema::Schema;
use crate::shelf::{Source, merge};
use crate::store::{PieceId, ShelfEntry, Unit};
use std::sync::Arc;

/// So many shelves are not merged.
pub const MOST_SHELVES: usize = 10;
/// A shelf with more than one in so many records removed is worn.
const WORN: u64 = 5;

/// How far publishing a batch may merge shelves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Merging {
    /// Not at all.
    Never,
    /// Shelves of at most a million tokens and records each: two of them, or as many as have no more together, so that
    /// publishing a small batch stays quick. Large ones don't count, and wait for [`Merging::Due`].
    #[default]
    Small,
    /// All that are due: no more than [`MOST_SHELVES`] shelves are left, none of them worn.
    Due,
    /// Into one.
    Whole,
}

/// What [`Merging::Small`] may write anew.
const SMALL: u64 = 1 << 20;

/// What deciding needs to know of a shelf.
#[derive(Clone, Copy, Debug)]
struct Weighed {
    /// Live tokens and records.
    weight: u64,
    /// Whether many of its records are removed.
    worn: bool,
}

impl Weighed {
    fn of(entry: &ShelfEntry) -> Self {
        let tokens: u64 = (0..entry.lengths.len()).map(|column| entry.live_length(column)).sum();
        let removed = u64::from(entry.records - entry.live());
        Self { weight: tokens + u64::from(entry.live()), worn: removed * WORN > u64::from(entry.records) }
    }
}

/// The groups of shelves that are to become one each, by their places; a group of one is written anew.
fn due(shelves: &[Weighed], merging: Merging) -> Vec<Vec<usize>> {
    let most = match merging {
        Merging::Never => return Vec::new(),
        Merging::Whole if shelves.len() > 1 => return vec![(0..shelves.len()).collect()],
        Merging::Small => SMALL,
        Merging::Due | Merging::Whole => u64::MAX,
    };
    let mut small: Vec<_> = (0..shelves.len()).filter(|&place| shelves[place].weight <= most).collect();
    small.sort_by_key(|&place| shelves[place].weight);
    let mut groups = Vec::new();
    if small.len() > MOST_SHELVES {
        let (mut count, mut sum) = (0, 0_u64);
        for &place in &small {
            let weight = shelves[place].weight;
            let few = small.len() - count < MOST_SHELVES;
            if count >= 2 && ((few && weight / 2 >= sum) || sum.saturating_add(weight) > most) {
                break;
            }
            (count, sum) = (count + 1, sum.saturating_add(weight));
        }
        groups.push(small.drain(..count).collect());
    }
    let whole = merging == Merging::Whole;
    groups.extend(small.into_iter().filter(|&place| shelves[place].worn || whole).map(|place| vec![place]));
    groups
}

/// Merges what is due among `shelves`, of which each has a live record; gives what is left, the oldest first, and adds to
/// `useless` what it was made of.
pub(super) fn tidy(
    unit: &dyn Unit,
    opened: &Opened,
    schema: &Schema,
    shelves: &[ShelfEntry],
    merging: Merging,
    (block, budget): (u8, usize),
    useless: &mut Vec<PieceId>,
) -> Result<Vec<ShelfEntry>> {
    let weighed: Vec<_> = shelves.iter().map(Weighed::of).collect();
    let mut groups = due(&weighed, merging);
    // A single shelf without a mask is whole already.
    groups.retain(|group| group.len() > 1 || group.iter().any(|&place| shelves[place].mask.is_some()));
    let mut left: Vec<_> = shelves.iter().cloned().map(Some).collect();
    for mut group in groups {
        group.sort_unstable();
        let entries: Vec<_> = group.iter().filter_map(|&place| left[place].take()).collect();
        let merged = merge_entries(unit, opened, schema, &entries, (block, budget))?;
        useless.extend(entries.iter().flat_map(ShelfEntry::pieces));
        left[group[0]] = Some(merged);
    }
    Ok(left.into_iter().flatten().collect())
}

fn merge_entries(
    unit: &dyn Unit,
    opened: &Opened,
    schema: &Schema,
    entries: &[ShelfEntry],
    (block, budget): (u8, usize),
) -> Result<ShelfEntry> {
    let mut standing = Vec::with_capacity(entries.len());
    for entry in entries {
        standing.push((opened.shelf(unit, entry)?, opened.mask_of(unit, entry)?));
    }
    let has = |mask: &Option<Arc<Mask>>, ordinal| mask.as_ref().is_some_and(|mask| mask.has(ordinal));
    let removed: Vec<_> = standing.iter().map(|(_, mask)| move |ordinal| has(mask, ordinal)).collect();
    let sources: Vec<_> =
        standing.iter().zip(&removed).map(|((shelf, _), removed)| Source { shelf, removed }).collect();
    merge(unit, &sources, schema, block, budget)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn weighed(weight: u64) -> Weighed {
        Weighed { weight, worn: false }
    }

    #[test]
    fn a_thousand_small_batches_leave_few_shelves_and_are_written_a_few_times() {
        let (mut shelves, mut written) = (Vec::new(), 0);
        for _ in 0..1_000 {
            shelves.push(weighed(20));
            written += 20;
            for group in due(&shelves, Merging::Small) {
                let sum: u64 = group.iter().map(|&place| shelves[place].weight).sum();
                written += sum;
                let kept = shelves.iter().enumerate().filter(|(place, _)| !group.contains(place));
                shelves = kept.map(|(_, shelf)| *shelf).chain([weighed(sum)]).collect();
            }
            assert!(shelves.len() <= MOST_SHELVES);
        }
        assert!(written < 1_000 * 20 * 6, "{written} tokens written");
    }

    proptest! {
        #[test]
        fn what_is_due_are_the_smallest_and_the_worn(
            shelves in prop::collection::vec((1_u64..3_000_000, any::<bool>()), 0..30),
        ) {
            let shelves: Vec<_> = shelves.into_iter().map(|(weight, worn)| Weighed { weight, worn }).collect();
            for merging in [Merging::Never, Merging::Small, Merging::Due, Merging::Whole] {
                let groups = due(&shelves, merging);
                let mut places: Vec<_> = groups.iter().flatten().copied().collect();
                places.sort_unstable();
                prop_assert!(places.is_sorted_by(|a, b| a < b) && places.iter().all(|&place| place < shelves.len()));
                let small = shelves.iter().filter(|shelf| shelf.weight <= SMALL).count();
                let left = shelves.len() - places.len() + groups.len();
                match merging {
                    Merging::Never => prop_assert!(groups.is_empty()),
                    Merging::Small => {
                        let within = groups.iter().all(|group| {
                            group.iter().map(|&place| shelves[place].weight).sum::<u64>() <= 2 * SMALL
                        });
                        prop_assert!(within);
                        prop_assert!(small <= MOST_SHELVES || left < shelves.len());
                    }
                    Merging::Due => prop_assert!(left <= MOST_SHELVES),
                    Merging::Whole => prop_assert!(left <= 1),
                }
                if matches!(merging, Merging::Due) {
                    prop_assert!((0..shelves.len()).all(|place| !shelves[place].worn || places.contains(&place)));
                }
            }
        }
    }
}
