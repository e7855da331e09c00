//! The builder: records in, a sealed shelf out.
//!
//! Tokens go to one flat log for each thread in the order in which they come; sealing sorts them by term with one counting
//! pass and writes the sections from front to back, so that a place can take them as a stream (see `sealing`). Records may
//! come in any key order; of several puts of one key the last one counts.
//!
//! What always holds: the bytes of a shelf depend on its records, and not on how many threads gathered them.

use super::arrivals::{Arrivals, Keys};
use super::learned::Learned;
use super::part::Part;
use super::sealing;
use super::threads::in_threads;
use crate::error::{Error, ErrorKind, Result};
use crate::record::{Key, Record};
use crate::schema::Schema;
use crate::store::{ShelfEntry, Unit};
use std::borrow::Borrow;
use std::num::NonZero;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Postings in a block, unless something else is asked for.
const BLOCK: u8 = 128;

/// Gathers records in memory until they are sealed as a shelf.
#[derive(Debug)]
pub struct Builder {
    schema: Arc<Schema>,
    /// The number of postings in a block.
    block: u8,
    /// One for each thread.
    parts: Vec<Part>,
    arrivals: Arrivals,
    /// Where each arrival is; nothing while there is one part, which has them in order.
    homes: Vec<Home>,
    /// How many arrivals each part has.
    noted: Vec<u32>,
    /// How many records were put since the last shelf was sealed.
    puts: usize,
    fleeting: bool,
}

/// Where a record is: in which part, and the how-manieth of it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Home {
    pub part: u32,
    pub record: u32,
}

/// Records that threads take in runs.
struct Supply<I> {
    records: Mutex<Taking<I>>,
    /// The memory that all parts take, and may take.
    used: AtomicUsize,
    memory: usize,
    /// Whether nobody takes more.
    over: AtomicBool,
}

struct Taking<I> {
    records: I,
    /// How many may be taken yet.
    left: usize,
    /// How many runs were taken.
    runs: usize,
}

/// The runs that a thread took, each with its keys, and the run that was refused with why.
type Worked = (Vec<(usize, Keys)>, Option<(usize, Error)>);

/// So many records, or bytes of text, are a run.
const RUN: usize = 256;
const RUN_BYTES: usize = 1 << 18;

impl<R: Borrow<Record>, I: Iterator<Item = R>> Supply<I> {
    fn new(records: I, left: usize, memory: usize) -> Self {
        let records = Mutex::new(Taking { records, left, runs: 0 });
        Self { records, used: AtomicUsize::new(0), memory, over: AtomicBool::new(false) }
    }

    /// Takes runs and puts them into `part` until there are no more, or memory is used up.
    fn work(&self, part: &mut Part) -> Worked {
        let (mut taken, mut before) = (Vec::new(), part.memory());
        while let Some((run, records)) = self.take() {
            let mut keys = Keys::default();
            for record in records {
                match part.put(record.borrow()) {
                    Ok(key) => keys.push(&key),
                    Err(error) => {
                        self.over.store(true, Ordering::Relaxed);
                        return (taken, Some((run, error)));
                    }
                }
            }
            let now = part.memory();
            let more = now.saturating_sub(before) + keys.memory();
            if self.used.fetch_add(more, Ordering::Relaxed) + more >= self.memory {
                self.over.store(true, Ordering::Relaxed);
            }
            before = now;
            taken.push((run, keys));
        }
        (taken, None)
    }

    /// The next run, with its number.
    fn take(&self) -> Option<(usize, Vec<R>)> {
        let mut taking = self.records.lock().unwrap_or_else(PoisonError::into_inner);
        if self.over.load(Ordering::Relaxed) {
            return None;
        }
        let (mut run, mut bytes) = (Vec::with_capacity(RUN.min(taking.left)), 0);
        while run.len() < RUN && bytes < RUN_BYTES && taking.left > 0 {
            let Some(record) = taking.records.next() else {
                taking.left = 0;
                break;
            };
            taking.left -= 1;
            bytes += record.borrow().size();
            run.push(record);
        }
        taking.runs += 1;
        (!run.is_empty()).then_some((taking.runs, run))
    }
}

/// A shelf that has just been written.
#[derive(Debug)]
pub struct Sealed {
    /// What the manifest has to say of it.
    pub entry: ShelfEntry,
    /// The encoded keys of its records, ascending.
    pub keys: Keys,
}

impl Builder {
    /// A builder without records.
    pub fn new(schema: Arc<Schema>) -> Self {
        let learned = Learned::of(&schema);
        Self::knowing(schema, learned)
    }

    /// A builder that knows what others have learned with this schema.
    pub(crate) fn knowing(schema: Arc<Schema>, learned: Learned) -> Self {
        Self {
            parts: vec![Part::new(&schema, learned)],
            schema,
            block: BLOCK,
            arrivals: Arrivals::default(),
            homes: Vec::new(),
            noted: vec![0],
            puts: 0,
            fleeting: false,
        }
    }

    /// Gives what was learned, to whoever builds next.
    pub(crate) fn into_learned(self) -> Option<Learned> {
        self.parts.into_iter().next().map(|part| part.learned)
    }

    /// Says that shelves are searched a few times and then thrown away: they are built faster, packed less, and don't say which
    /// terms have which letters. What is found is the same. For rows that are laid over the shelves of a database; such a shelf is
    /// not to be kept, and a check of one takes the missing letters for damage.
    pub fn set_fleeting(&mut self) {
        self.fleeting = true;
    }

    /// Packs postings in blocks of so many, from 1 to 128. What is found does not depend on it; short blocks let tests
    /// have many of them.
    ///
    /// # Panics
    /// If there are no such blocks.
    pub fn set_block(&mut self, postings: u8) {
        assert!((1..=BLOCK).contains(&postings), "a block has 1 to {BLOCK} postings, and not {postings}");
        self.block = postings;
    }

    /// Lets so many threads work: on records that are put together, and on sealing. Records that were
    /// put before have to be sealed first.
    ///
    /// # Panics
    /// If there are records.
    pub fn set_threads(&mut self, threads: NonZero<usize>) {
        assert!(self.arrivals.len() == 0, "records that were put before have to be sealed first");
        let part = || Part::new(&self.schema, Learned::of(&self.schema));
        self.parts.resize_with(threads.get(), part);
        self.noted = vec![0; threads.get()];
    }

    /// The number of postings in a block.
    pub(crate) fn block(&self) -> u8 {
        self.block
    }

    /// Takes a record; one with the same key that came before no longer counts.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`], and nothing is taken, if the schema has no such column, a value is not of its column's
    /// kind, or key, values or texts are too long.
    pub fn put(&mut self, record: &Record) -> Result<()> {
        self.check_room(1)?;
        let key = self.parts[0].put(record)?;
        self.arrived(0, &key);
        Ok(())
    }

    /// Takes the next `most` records, as if they were put one after the other, or fewer once they take so much memory; gives
    /// how many. Each thread fetches some at a time.
    ///
    /// # Errors
    /// As for [`put`](Self::put), of the first record that is refused; none is taken then.
    pub(crate) fn put_some<R: Borrow<Record>>(
        &mut self,
        records: &mut (impl Iterator<Item = R> + Send),
        (most, memory): (usize, usize),
    ) -> Result<usize> {
        self.check_room(most)?;
        let before: Vec<_> = self.parts.iter().map(Part::len).collect();
        let arrived = self.arrivals.memory() + self.homes.len() * size_of::<Home>();
        let supply = Supply::new(records, most, memory.saturating_sub(arrived));
        supply.used.store(self.parts.iter().map(Part::memory).sum(), Ordering::Relaxed);
        let worked = in_threads(self.parts.iter_mut(), |part| supply.work(part));
        let mut runs = Vec::new();
        let mut refused: Option<(usize, Error)> = None;
        for (part, (taken, error)) in worked.into_iter().enumerate() {
            runs.extend(taken.into_iter().map(|(run, keys)| (run, part, keys)));
            // Every run before one that was refused has been worked on, so the first that was is known.
            if let Some(error) = error
                && refused.as_ref().is_none_or(|(known, _)| error.0 < *known)
            {
                refused = Some(error);
            }
        }
        if let Some((_, error)) = refused {
            self.parts.iter_mut().zip(before).for_each(|(part, records)| part.truncate(records));
            return Err(error);
        }
        runs.sort_unstable_by_key(|(run, _, _)| *run);
        let count = runs.iter().map(|(_, _, keys)| keys.len()).sum();
        for (_, part, keys) in runs {
            keys.iter().for_each(|key| self.arrived(part, key));
        }
        Ok(count)
    }

    fn check_room(&self, records: usize) -> Result<()> {
        if u32::try_from(self.arrivals.len().saturating_add(records)).is_ok() {
            return Ok(());
        }
        Err(Error::new(ErrorKind::BadRecord, "A batch has too many records; publish more often."))
    }

    /// Notes the record that a part has taken last of those that it has not noted.
    fn arrived(&mut self, part: usize, key: &[u8]) {
        self.settle(part);
        self.arrivals.put(key);
        self.puts += 1;
    }

    /// Notes where the next arrival is.
    fn settle(&mut self, part: usize) {
        if self.parts.len() > 1 {
            let record = self.noted[part];
            self.noted[part] += 1;
            let part = u32::try_from(part).expect("far fewer threads");
            self.homes.push(Home { part, record });
        }
    }

    /// Forgets the record with this key, if it was put.
    pub fn remove(&mut self, key: &Key) {
        if self.puts == 0 {
            return;
        }
        self.parts[0].put_nothing();
        self.settle(0);
        self.arrivals.remove(&key.encode());
    }

    /// The memory that the records take, and sealing them will take, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        self.parts.iter().map(Part::memory).sum::<usize>()
            + self.arrivals.memory()
            + self.arrivals.len() * size_of::<Home>()
    }

    /// Writes the records as a shelf and starts anew; nothing if there are none. Takes time in proportion to the
    /// tokens, and n log n in records and terms.
    ///
    /// # Errors
    /// If the place can't be written.
    pub fn seal(&mut self, unit: &dyn Unit) -> Result<Option<Sealed>> {
        let mut parts = std::mem::take(&mut self.parts);
        let sealed = self.seal_parts(&mut parts, unit);
        self.parts = parts.into_iter().map(Part::emptied).collect();
        sealed
    }

    fn seal_parts(&mut self, parts: &mut [Part], unit: &dyn Unit) -> Result<Option<Sealed>> {
        let homes = std::mem::take(&mut self.homes);
        let order = std::mem::take(&mut self.arrivals).into_order();
        self.noted.fill(0);
        self.puts = 0;
        if order.keys.is_empty() {
            return Ok(None);
        }
        let alone = parts.len() == 1;
        let home = |&arrival: &u32| match homes.get(arrival as usize) {
            None if alone => Home { part: 0, record: arrival },
            None => unreachable!("with several parts each arrival has a home"),
            Some(home) => *home,
        };
        let homes = order.arrivals.iter().map(home).collect();
        let how = (self.block, self.fleeting);
        let entry = sealing::write(&self.schema, how, parts, (&order.keys, homes), unit)?;
        Ok(Some(Sealed { entry, keys: order.keys }))
    }
}
