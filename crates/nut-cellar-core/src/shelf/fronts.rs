//! The fronts of a shelf's lists, alone or several together, that are gone through again and again.
//!
//! What always holds: a shelf never changes, so neither do its fronts; and those that are kept take no more than [`PER_RECORD`] bytes for
//! each record of the shelf, or [`LEAST`].

use super::front::Front;
use foldhash::fast::RandomState;
use hashbrown::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The bytes that fronts may take for each record of the shelf.
const PER_RECORD: usize = 8;
/// They may take so many bytes, however few records there are.
const LEAST: usize = 1 << 16;
/// About so many bytes are taken by what was asked for, without its front.
const ASKED: usize = 128;

/// What a front is of: the lists, how their postings count, and the factors that make tf~ of a frequency and a length, as numbers.
pub(crate) type Of = [u64];

/// Those that were asked for.
#[derive(Debug, Default)]
pub(crate) struct Fronts(Mutex<Known>);

#[derive(Debug, Default)]
struct Known {
    asked: HashMap<Box<Of>, Asked, RandomState>,
    bytes: usize,
    /// Counts what is asked.
    now: u64,
}

#[derive(Debug)]
struct Asked {
    front: Option<Arc<Front>>,
    /// When it was asked for last.
    last: u64,
}

fn bytes(of: &Of, front: Option<&Front>) -> usize {
    ASKED + size_of_val(of) + front.map_or(0, Front::bytes)
}

impl Fronts {
    fn known(&self) -> MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A front, if it is known.
    pub fn get(&self, of: &Of) -> Option<Arc<Front>> {
        let mut known = self.known();
        known.now += 1;
        let now = known.now;
        let asked = known.asked.get_mut(of)?;
        asked.last = now;
        asked.front.clone()
    }

    /// Says that lists were gone through; tells whether that was not the first time, so that it is worth knowing their front.
    pub fn ask(&self, of: &Of, records: u32) -> bool {
        let mut known = self.known();
        if let Some(asked) = known.asked.get(of) {
            return asked.front.is_none();
        }
        known.put(of, None, records);
        false
    }

    /// Keeps a front, and forgets those that were not asked for for longest if there is no room.
    pub fn keep(&self, of: &Of, front: Front, records: u32) {
        self.known().put(of, Some(front), records);
    }
}

impl Known {
    fn put(&mut self, of: &Of, front: Option<Front>, records: u32) {
        self.now += 1;
        self.bytes += bytes(of, front.as_ref());
        let asked = Asked { front: front.map(Arc::new), last: self.now };
        if let Some(before) = self.asked.insert(of.into(), asked) {
            self.bytes -= bytes(of, before.front.as_deref());
        }
        if self.bytes > (PER_RECORD * records as usize).max(LEAST) {
            self.forget_half();
        }
    }

    /// Forgets the half that was not asked for for longest.
    fn forget_half(&mut self) {
        let mut last: Vec<_> = self.asked.values().map(|asked| asked.last).collect();
        let half = last.len() / 2;
        let from = *last.select_nth_unstable(half).1;
        self.asked.retain(|_, asked| asked.last > from);
        self.bytes = self.asked.iter().map(|(of, asked)| bytes(of, asked.front.as_deref())).sum();
    }
}

#[cfg(test)]
mod tests {
    use super::super::front::FrontPicker;
    use super::*;

    fn front(records: u32) -> Front {
        let mut picker = FrontPicker::new(records as usize);
        (0..records).for_each(|record| picker.take(record, 1.0));
        picker.finish()
    }

    #[test]
    fn what_is_asked_for_twice_is_worth_knowing() {
        let fronts = Fronts::default();
        assert!(!fronts.ask(&[1, 2], 9) && fronts.get(&[1, 2]).is_none());
        assert!(fronts.ask(&[1, 2], 9));
        fronts.keep(&[1, 2], front(7), 9);
        assert!(!fronts.ask(&[1, 2], 9) && fronts.get(&[1, 2]).is_some_and(|front| front.len() == 7));
        assert!(fronts.get(&[1, 3]).is_none() && !fronts.ask(&[1, 2, 3], 9));
    }

    #[test]
    fn what_is_kept_is_bounded_and_what_was_asked_for_last_stays() {
        let (fronts, records) = (Fronts::default(), 20_000);
        for of in 0..500 {
            fronts.ask(&[of], records);
            fronts.keep(&[of], front(1_000), records);
            assert!(fronts.known().bytes <= PER_RECORD * records as usize);
            assert!(fronts.get(&[of]).is_some() && fronts.get(&[0]).is_some());
        }
        assert!(fronts.known().asked.len() < 100 && fronts.get(&[1]).is_none());
    }
}
