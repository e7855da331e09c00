//! The builder: records in, a sealed shelf out.
//!
//! Tokens go to one flat log for each thread in the order in which they come; sealing sorts them by term with one counting
//! pass and writes the sections from front to back, so that a place can take them as a stream (see `sealing`). Records may
//! come in any key order; of several puts of one key the last one counts.
//!
//! What always holds: the bytes of a shelf depend on its records, and not on how many threads gathered them.

use crate::error::{Error, ErrorKind, Result};
use crate::record::{Key, Record};
use crate::schema::Schema;
use crate::shelf::build::arrivals::{Arrivals, Home, Keys};
use crate::shelf::build::learned::Learned;
use crate::shelf::build::part::Part;
use crate::shelf::build::sealing;
use crate::shelf::build::threads::in_threads;
use crate::store::{ShelfEntry, Unit};
use std::borrow::Borrow;
use std::num::NonZero;
use std::sync::Arc;

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

/// So many records, or bytes of text, are taken at once for each thread.
const RUN: usize = 512;
const RUN_BYTES: usize = 1 << 18;

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

    /// Takes some of the next records, as if they were put one after the other; gives how many. They are divided among the threads.
    ///
    /// # Errors
    /// As for [`put`](Self::put), of the first record that is refused; none is taken then.
    pub(crate) fn put_some<R: Borrow<Record> + Sync>(
        &mut self,
        records: &mut impl Iterator<Item = R>,
    ) -> Result<usize> {
        let threads = self.parts.len();
        let (mut run, mut bytes) = (Vec::new(), 0);
        while run.len() < RUN * threads
            && bytes < RUN_BYTES * threads
            && let Some(record) = records.next()
        {
            bytes += record.borrow().size();
            run.push(record);
        }
        self.check_room(run.len())?;
        let before: Vec<_> = self.parts.iter().map(Part::len).collect();
        let shares = self.parts.iter_mut().zip(run.chunks(run.len().div_ceil(threads).max(1)));
        let worked = in_threads(shares, |(part, records)| {
            records.iter().map(|record| part.put(record.borrow())).collect::<Result<Vec<_>>>()
        });
        let keys = worked.into_iter().collect::<Result<Vec<_>>>().inspect_err(|_| {
            self.parts.iter_mut().zip(before).for_each(|(part, records)| part.truncate(records));
        })?;
        for (part, keys) in keys.iter().enumerate() {
            for key in keys {
                self.arrived(part, key);
            }
        }
        Ok(run.len())
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
