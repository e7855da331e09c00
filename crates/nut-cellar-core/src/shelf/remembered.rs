//! Sets of records of a shelf that are asked for again and again, such as those that a filter lets through.
//!
//! What always holds: a shelf never changes, so neither does what is remembered of it; and no more than [`MOST`] sets are.

use crate::bits::Bits;
use std::sync::{Arc, Mutex, PoisonError};

/// The most sets that are remembered.
const MOST: usize = 16;
/// A set is worth making once so large a part of the records was asked for one by one.
const WORTH: u64 = 16;

/// A test of values: the place of the column among those whose values are compared, and the ranges that one of the values has to
/// be in; none if there has to be no value.
pub(crate) type TestKey = (usize, Option<Vec<(u64, u64)>>);

/// The records for which a test holds, and how many they are.
pub(crate) type Set = (Arc<Bits>, u64);

/// The sets of a shelf.
#[derive(Debug, Default)]
pub(crate) struct Remembered {
    /// Those that were asked for last come last.
    known: Mutex<Vec<Known>>,
}

#[derive(Debug)]
struct Known {
    key: TestKey,
    /// How many records were asked for so far.
    asked: u64,
    set: Option<Set>,
}

/// What is to be done about a set.
#[derive(Clone, Debug)]
pub(crate) enum Recalled {
    /// It is known.
    Known(Set),
    /// It is asked for so much that it is worth [keeping](Remembered::keep).
    Worth,
    /// It is better to ask record by record.
    No,
}

impl Remembered {
    /// Says that `asks` of so many records will be asked for; tells whether the set is known, or worth making.
    pub fn recall(&self, key: &TestKey, asks: u64, records: u32) -> Recalled {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let mut one = match known.iter().position(|known| known.key == *key) {
            Some(place) => known.remove(place),
            None => Known { key: key.clone(), asked: 0, set: None },
        };
        one.asked = one.asked.saturating_add(asks);
        let recalled = match &one.set {
            Some(set) => Recalled::Known(set.clone()),
            None if one.asked.saturating_mul(WORTH) >= records.into() => Recalled::Worth,
            None => Recalled::No,
        };
        if known.len() == MOST {
            known.remove(0);
        }
        known.push(one);
        recalled
    }

    /// Remembers a set.
    pub fn keep(&self, key: &TestKey, set: &Set) {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(one) = known.iter_mut().find(|known| known.key == *key) {
            one.set = Some(set.clone());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_asked_for_often_is_kept_and_what_was_long_ago_is_forgotten() {
        let remembered = Remembered::default();
        let key = |column: usize| (column, Some(vec![(1, 2)]));
        assert!(matches!(remembered.recall(&key(0), 10, 1_000), Recalled::No));
        assert!(matches!(remembered.recall(&(0, None), 10, 1_000), Recalled::No));
        assert!(matches!(remembered.recall(&key(0), 60, 1_000), Recalled::Worth));
        remembered.keep(&key(0), &(Arc::new(Bits::new(7)), 3));
        assert!(
            matches!(remembered.recall(&key(0), 0, 1_000), Recalled::Known((set, 3)) if *set == Bits::new(7))
        );
        for column in 1..MOST {
            remembered.recall(&key(column), 0, 1_000);
        }
        assert!(matches!(remembered.recall(&key(0), 0, 1_000), Recalled::Known(_)));
        for column in 1..=MOST {
            remembered.recall(&key(column), 0, 1_000);
        }
        assert!(matches!(remembered.recall(&key(0), 0, 1_000), Recalled::No));
    }
}
