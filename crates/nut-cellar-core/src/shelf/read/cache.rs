//! What searches ask for again and again of opened shelves: made once, and kept within one budget for all of them.
//!
//! What always holds: a shelf never changes, so neither does what is made of it; what is kept takes no more bytes than the budget, and
//! what was not asked for for longest goes first. Nothing depends on what is kept but time.

use crate::bits::Bits;
use crate::store::PieceId;
use foldhash::fast::RandomState;
use hashbrown::HashMap;
use std::any::Any;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The bytes that a key takes with what is known of it, about.
const ENTRY: usize = 128;

/// A list: where it stands, and how many postings it has. Both, since a damaged dictionary may say of two terms that their lists
/// begin at the same place.
pub(in crate::shelf) type ListKey = (u64, u64, u32);

/// A test of values: the place of the column among those whose values are compared, and the ranges that one of the values has to
/// be in; none if there has to be no value.
pub(crate) type TestKey = (usize, Option<Vec<(u64, u64)>>);

/// The records for which a test holds, and how many they are.
pub(crate) type Set = (Arc<Bits>, u64);

/// What may be kept of a shelf.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Key {
    Lengths,
    Table(ListKey),
    List(ListKey),
    Test(TestKey),
}

/// What was made of a shelf: for each key of one type, which whoever asks for it knows.
type Made = Arc<dyn Any + Send + Sync>;

/// What is to be done about something that is asked for.
#[derive(Clone, Debug)]
pub(crate) enum Asked<T> {
    /// It is there.
    Made(Arc<T>),
    /// It was asked for so much that it is worth making and [keeping](Cache::keep).
    Worth,
    /// It is better to do without.
    No,
}

/// What is kept of several shelves.
#[derive(Debug)]
pub(crate) struct Cache {
    budget: usize,
    known: Mutex<Contents>,
}

#[derive(Debug, Default)]
struct Contents {
    shelves: HashMap<PieceId, HashMap<Key, Entry, RandomState>, RandomState>,
    bytes: usize,
    /// Counts what is asked.
    now: u64,
}

#[derive(Debug, Default)]
struct Entry {
    /// The work that it would have saved so far.
    asked: u64,
    made: Option<Made>,
    bytes: usize,
    /// When it was asked for last.
    last: u64,
}

impl Cache {
    /// Nothing, and no more than so many bytes later.
    pub fn new(budget: usize) -> Self {
        Self { budget, known: Mutex::default() }
    }

    fn known(&self) -> MutexGuard<'_, Contents> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What was made, if it is there.
    pub fn get<T: Any + Send + Sync>(&self, shelf: PieceId, key: &Key) -> Option<Arc<T>> {
        let mut known = self.known();
        known.now += 1;
        let now = known.now;
        let entry = known.shelves.get_mut(&shelf)?.get_mut(key)?;
        entry.last = now;
        entry.made.clone()?.downcast().ok()
    }

    /// Says that it would save so much work; it is worth making once that comes to what making it takes.
    pub fn ask<T: Any + Send + Sync>(&self, shelf: PieceId, key: &Key, saved: u64, making: u64) -> Asked<T> {
        let mut known = self.known();
        let entry = known.entry(shelf, key);
        entry.asked = entry.asked.saturating_add(saved);
        let asked = match entry.made.clone().and_then(|made| made.downcast().ok()) {
            Some(made) => Asked::Made(made),
            None if entry.asked >= making => Asked::Worth,
            None => Asked::No,
        };
        known.make_room(self.budget);
        asked
    }

    /// Keeps what was made and takes so many bytes, unless that is more than all that may be kept.
    pub fn keep<T: Any + Send + Sync>(&self, shelf: PieceId, key: &Key, made: &Arc<T>, bytes: usize) {
        let bytes = ENTRY + bytes;
        if bytes > self.budget {
            return;
        }
        let mut known = self.known();
        let entry = known.entry(shelf, key);
        let before = std::mem::replace(&mut entry.bytes, bytes);
        entry.made = Some(Arc::clone(made) as Made);
        known.bytes = known.bytes + bytes - before;
        known.make_room(self.budget);
    }

    /// Forgets all of a shelf.
    pub fn forget(&self, shelf: PieceId) {
        let mut known = self.known();
        let gone = known.shelves.remove(&shelf).unwrap_or_default();
        known.bytes -= gone.values().map(|entry| entry.bytes).sum::<usize>();
    }

    /// The bytes that may be taken, and those that are.
    pub fn bytes(&self) -> (usize, usize) {
        (self.budget, self.known().bytes)
    }
}

impl Contents {
    fn entry(&mut self, shelf: PieceId, key: &Key) -> &mut Entry {
        self.now += 1;
        let entries = self.shelves.entry(shelf).or_default();
        let entry = entries.entry_ref(key).or_insert_with(|| {
            self.bytes += ENTRY;
            Entry { bytes: ENTRY, ..Entry::default() }
        });
        entry.last = self.now;
        entry
    }

    /// Forgets what was not asked for for longest, until a quarter of the budget is free, if it is used up.
    fn make_room(&mut self, budget: usize) {
        if self.bytes <= budget {
            return;
        }
        let each = |(shelf, entries): (&PieceId, &HashMap<Key, Entry, RandomState>)| {
            let shelf = *shelf;
            entries.iter().map(move |(key, entry)| (entry.last, shelf, key.clone())).collect::<Vec<_>>()
        };
        let mut oldest: Vec<_> = self.shelves.iter().flat_map(each).collect();
        oldest.sort_unstable_by_key(|(last, ..)| *last);
        // What was asked for last stays, if anything may.
        oldest.truncate(oldest.len() - usize::from(budget >= ENTRY));
        for (_, shelf, key) in oldest {
            if self.bytes <= budget / 4 * 3 {
                break;
            }
            let gone = self.shelves.get_mut(&shelf).and_then(|entries| entries.remove(&key));
            self.bytes -= gone.map_or(0, |entry| entry.bytes);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BITS: usize = 1 << 13;

    fn keep(cache: &Cache, shelf: PieceId, key: &Key, bits: usize) {
        cache.keep(shelf, key, &Arc::new(bits), bits / 8);
    }

    fn ask(cache: &Cache, shelf: PieceId, key: &Key, saved: u64) -> Asked<usize> {
        cache.ask(shelf, key, saved, 70)
    }

    fn has(cache: &Cache, shelf: PieceId, key: &Key) -> bool {
        cache.get::<usize>(shelf, key).is_some()
    }

    fn key(column: usize) -> Key {
        Key::Test((column, Some(vec![(1, 2)])))
    }

    #[test]
    fn what_is_asked_for_often_is_kept() {
        let (cache, shelf) = (Cache::new(1 << 20), PieceId::fresh().unwrap());
        assert!(matches!(ask(&cache, shelf, &key(0), 10), Asked::No));
        assert!(matches!(ask(&cache, shelf, &Key::Test((0, None)), 10), Asked::No));
        assert!(matches!(ask(&cache, shelf, &key(0), 60), Asked::Worth));
        assert!(!has(&cache, shelf, &key(0)));
        keep(&cache, shelf, &key(0), BITS);
        assert!(matches!(ask(&cache, shelf, &key(0), 0), Asked::Made(bits) if *bits == BITS));
        assert!(has(&cache, shelf, &key(0)) && !has(&cache, PieceId::fresh().unwrap(), &key(0)));
        assert_eq!(cache.bytes(), (1 << 20, 2 * ENTRY + BITS / 8));
        cache.forget(shelf);
        assert!(!has(&cache, shelf, &key(0)) && cache.bytes().1 == 0);
    }

    #[test]
    fn no_more_is_kept_than_allowed_and_what_was_long_ago_goes_first() {
        let (cache, shelf) = (Cache::new(8 * (ENTRY + BITS / 8)), PieceId::fresh().unwrap());
        for column in 0..100 {
            keep(&cache, shelf, &key(column), BITS);
            // One of them is asked for all the time.
            assert!(has(&cache, shelf, &key(0)));
            assert!(has(&cache, shelf, &key(column)), "what was kept last is there");
            assert!(cache.bytes().1 <= cache.bytes().0);
        }
        assert!(!has(&cache, shelf, &key(50)));
        keep(&cache, shelf, &key(7), 1 << 20);
        assert!(!has(&cache, shelf, &key(7)) && has(&cache, shelf, &key(0)));
        for column in 0..100_000 {
            ask(&cache, shelf, &key(column), 0);
            assert!(cache.bytes().1 <= cache.bytes().0);
        }
        let none = Cache::new(0);
        assert!(matches!(ask(&none, shelf, &key(0), 70), Asked::Worth));
        assert_eq!(none.bytes(), (0, 0));
    }
}
