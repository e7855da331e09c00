//! The puts and removals of a shelf that is being made, in the order in which they come; of each key the last one counts.

/// Where a record is: in which part, and the how-manieth of it.
#[derive(Clone, Copy, Debug)]
pub(in crate::shelf) struct Home {
    pub part: u32,
    pub record: u32,
}

/// Encoded keys, one after the other.
#[derive(Clone, Debug, Default)]
pub struct Keys {
    bytes: Vec<u8>,
    ends: Vec<usize>,
}

impl Keys {
    /// Appends a key.
    pub(in crate::shelf) fn push(&mut self, key: &[u8]) {
        self.bytes.extend_from_slice(key);
        self.ends.push(self.bytes.len());
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// A key, by its place.
    pub fn get(&self, place: usize) -> &[u8] {
        let start = place.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.bytes[start..self.ends[place]]
    }

    /// All of them.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &[u8]> {
        (0..self.len()).map(|place| self.get(place))
    }
}

/// What came, by key.
#[derive(Debug)]
pub(in crate::shelf) struct Arrivals {
    keys: Keys,
    removals: Vec<bool>,
    /// Whether each key was greater than the one before, and none was removed.
    ascending: bool,
}

/// The records that count.
pub(in crate::shelf) struct Order {
    /// Their keys, ascending.
    pub keys: Keys,
    /// For each its arrival.
    pub arrivals: Vec<u32>,
}

impl Default for Arrivals {
    fn default() -> Self {
        Self { keys: Keys::default(), removals: Vec::new(), ascending: true }
    }
}

impl Arrivals {
    /// Takes a put.
    pub fn put(&mut self, key: &[u8]) {
        self.ascending &= self.keys.is_empty() || self.keys.get(self.keys.len() - 1) < key;
        self.push(key, false);
    }

    /// Takes a removal.
    pub fn remove(&mut self, key: &[u8]) {
        self.ascending = false;
        self.push(key, true);
    }

    fn push(&mut self, key: &[u8], removal: bool) {
        self.keys.push(key);
        self.removals.push(removal);
    }

    /// How many came.
    pub fn len(&self) -> usize {
        self.removals.len()
    }

    /// The memory it takes, and sorting it will take, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        let keys = self.keys.bytes.len() + self.len() * (size_of::<usize>() + 2 * size_of::<u32>());
        if self.ascending { keys } else { 2 * keys }
    }

    /// The records that count, in key order.
    pub fn into_order(self) -> Order {
        let all = 0..u32::try_from(self.len()).expect("arrivals are counted by puts");
        if self.ascending {
            return Order { keys: self.keys, arrivals: all.collect() };
        }
        let key = |arrival: &u32| self.keys.get(*arrival as usize);
        let mut sorted: Vec<_> = all.collect();
        sorted.sort_unstable_by(|a, b| key(a).cmp(key(b)).then(a.cmp(b)));
        let mut order = Order { keys: Keys::default(), arrivals: Vec::new() };
        for same in sorted.chunk_by(|a, b| key(a) == key(b)) {
            let last = same[same.len() - 1];
            if !self.removals[last as usize] {
                order.keys.push(key(&last));
                order.arrivals.push(last);
            }
        }
        order
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    proptest! {
        #[test]
        fn the_last_of_each_key_counts(
            events in prop::collection::vec(("[ab]{0,3}", prop::bool::weighted(0.8)), 0..40),
            in_order: bool,
        ) {
            let mut events = events;
            if in_order {
                events.sort();
                events.dedup_by(|a, b| a.0 == b.0);
            }
            let (mut arrivals, mut last) = (Arrivals::default(), BTreeMap::new());
            for (arrival, (key, put)) in (0_u32..).zip(&events) {
                if *put {
                    arrivals.put(key.as_bytes());
                    last.insert(key.as_bytes(), arrival);
                } else {
                    arrivals.remove(key.as_bytes());
                    last.remove(key.as_bytes());
                }
            }
            let order = arrivals.into_order();
            prop_assert!(order.keys.iter().eq(last.keys().copied()));
            prop_assert!(order.arrivals.iter().eq(last.values()));
        }
    }
}
