//! A test of values in one shelf.

use crate::bits::Bits;
use crate::filter::{Bound, KeyRun};
use crate::search::find::Find;
use crate::shelf::{Asked, CacheKey, END, Held, Set, Shelf, Step, TestKey, ValueColumn, if_held, overlaps};
use std::ops::Range;
use std::sync::Arc;

/// A test whose texts have become the numbers that they have in the shelf.
#[derive(Debug)]
pub(in crate::search) struct ValueTest {
    shelf: Arc<Shelf>,
    column: ValueColumn,
    records: u32,
    /// The place of the column, and the ranges; none: there is no value.
    key: TestKey,
    /// The records whose keys it names, as runs that ascend, of a test of keys.
    of_keys: Option<Vec<(u64, u64)>>,
    /// The records for which it holds, and how many they are, if they are known.
    set: Option<Set>,
    /// Records for none of which it holds: those that were passed over last.
    passed: Range<u32>,
}

/// The set is worth making once so large a part of the records was asked for one by one.
const WORTH: u64 = 16;
/// So many blocks are looked at to guess for how many records a test holds.
const SAMPLES: u32 = 8;
/// Between two questions whether to stop so many records are looked at; whole blocks.
const BETWEEN_STOPS: u32 = 1 << 16;

impl ValueTest {
    /// Binds a test to a shelf.
    pub fn open(shelf: &Arc<Shelf>, held: &mut Held, test: &Bound) -> Step<Self> {
        let mut of_keys = None;
        let (column, ranges) = match test {
            Bound::Keys(runs) => {
                of_keys = Some(records_of(shelf, held, runs)?);
                (0, Some(Vec::new()))
            }
            Bound::Numbers(column, ranges) => (*column, Some(ranges.clone())),
            Bound::Texts(column, texts) => {
                let mut ranges = Vec::with_capacity(texts.len());
                for (low, high) in texts {
                    let between = if_held(shelf.exact_between(held, *column, (low, high)))?.unwrap_or(0..0);
                    if !between.is_empty() {
                        ranges.push((between.start, between.end - 1));
                    }
                }
                held.complete()?;
                (*column, Some(ranges))
            }
            Bound::Absent(column) => (*column, None),
            Bound::All(_) | Bound::Any(_) | Bound::Not(_) => (0, Some(Vec::new())),
        };
        let mut test = Self {
            shelf: Arc::clone(shelf),
            column: ValueColumn::new(shelf, column),
            records: shelf.records(),
            key: (column, ranges),
            of_keys,
            set: None,
            passed: 0..0,
        };
        if test.of_keys.is_some() {
            return Ok(test);
        }
        let key = CacheKey::Test(test.key.clone());
        if let Some(set) = shelf.cache().get::<Set>(shelf.piece(), &key) {
            test.set = Some(Set::clone(&set));
        }
        Ok(test)
    }

    /// Says that so many records will be asked for: the set of those for which it holds may be worth making.
    pub fn ask(&mut self, held: &mut Held, find: &Find, asks: u64) -> Step<()> {
        let (key, making) = (CacheKey::Test(self.key.clone()), u64::from(self.records) / WORTH);
        let asked = || self.shelf.cache().ask::<Set>(self.shelf.piece(), &key, asks, making);
        if self.set.is_some()
            || self.of_keys.is_some()
            || !self.shelf.is_at_hand()
            || !matches!(asked(), Asked::Worth)
        {
            return Ok(());
        }
        let mut bits = Bits::new(self.records as usize);
        let mut start = 0;
        while start < self.records {
            find.go_on()?;
            let end = self.records.min(start.saturating_add(BETWEEN_STOPS));
            self.fill_from(held, 0, start..end, &mut bits)?;
            start = end;
        }
        let count = bits.count();
        let set = (Arc::new(bits), count);
        let bytes = size_of_val(set.0.words());
        self.shelf.cache().keep(self.shelf.piece(), &key, &Arc::new(set.clone()), bytes);
        self.set = Some(set);
        Ok(())
    }

    /// The records for which it holds, and how many they are, if they are known.
    pub fn set(&self) -> Option<&Set> {
        self.set.as_ref()
    }

    /// Whether it holds for a record.
    pub fn holds(&mut self, held: &mut Held, ordinal: u32) -> Step<bool> {
        if let Some((set, _)) = &self.set {
            return Ok(set.has(ordinal as usize));
        }
        if let Some(runs) = &self.of_keys {
            return Ok(overlaps(runs, ordinal.into(), ordinal.into()));
        }
        match &self.key.1 {
            Some(ranges) => self.column.any_in(held, ordinal, ranges),
            None => Ok(self.column.of(held, ordinal)?.is_empty()),
        }
    }

    /// The first record from one on for which it may hold, by what is known of its block.
    pub fn next(&mut self, held: &mut Held, ordinal: u32) -> Step<u32> {
        // Who looks for what comes next in several parts of a query asks for the same again and again.
        if self.passed.contains(&ordinal) {
            return Ok(self.passed.end);
        }
        let next = match &self.set {
            Some((set, _)) => {
                set.next(ordinal as usize).and_then(|next| u32::try_from(next).ok()).unwrap_or(END)
            }
            None if self.of_keys.is_some() => self.next_of_keys(ordinal),
            None => self.next_in_blocks(held, ordinal)?,
        };
        self.passed = ordinal..next;
        Ok(next)
    }

    /// The same, by the keys.
    fn next_of_keys(&self, ordinal: u32) -> u32 {
        let runs = self.of_keys.as_deref().unwrap_or_default();
        let run = runs.get(runs.partition_point(|(_, end)| *end < ordinal.into()));
        run.map_or(END, |(start, _)| ordinal.max(u32::try_from(*start).unwrap_or(END)))
    }

    /// The same, by what bounds the values of its block.
    fn next_in_blocks(&mut self, held: &mut Held, ordinal: u32) -> Step<u32> {
        let per_block = self.column.per_block();
        let mut at = ordinal;
        while at < self.records {
            let block = at / per_block;
            let ((low, high), counted) = self.column.block_span(held, block)?;
            let may_hold = match &self.key.1 {
                Some(ranges) => low <= high && overlaps(ranges, low, high),
                None => counted || low > high,
            };
            if may_hold {
                break;
            }
            at = (block + 1).saturating_mul(per_block);
        }
        Ok(if at < self.records { at } else { END })
    }

    /// Adds the records of a window for which it holds.
    pub fn fill(&mut self, held: &mut Held, window: Range<u32>, bits: &mut Bits) -> Step<()> {
        if let Some((set, _)) = &self.set {
            bits.add_part(set, window.start as usize);
            return Ok(());
        }
        if let Some(runs) = &self.of_keys {
            let first = runs.partition_point(|(_, end)| *end < window.start.into());
            for (start, end) in runs[first..].iter().take_while(|(start, _)| *start < window.end.into()) {
                let place = |at: u64| usize::try_from(at - u64::from(window.start)).unwrap_or(usize::MAX);
                let (start, end) = ((*start).max(window.start.into()), (*end).min((window.end - 1).into()));
                bits.set_range(place(start)..place(end) + 1);
            }
            return Ok(());
        }
        self.fill_from(held, window.start, window, bits)
    }

    /// The same, into bits that begin at a record.
    fn fill_from(&mut self, held: &mut Held, first: u32, window: Range<u32>, bits: &mut Bits) -> Step<()> {
        let per_block = self.column.per_block();
        let mut at = window.start;
        while at < window.end {
            let end = window.end.min((at / per_block + 1) * per_block);
            let Some(((low, high), counted)) = if_held(self.column.block_span(held, at / per_block))? else {
                at = end;
                continue;
            };
            let place = |ordinal: u32| (ordinal - first) as usize;
            match &self.key.1 {
                Some(ranges) if low > high || !overlaps(ranges, low, high) => {}
                Some(ranges) if !counted && ranges.iter().any(|(from, to)| *from <= low && high <= *to) => {
                    bits.set_range(place(at)..place(end));
                }
                ranges => {
                    if if_held(self.column.of(held, at).map(|_| ()))?.is_some() {
                        for ordinal in at..end {
                            let values = self.column.here(ordinal);
                            let holds = match ranges {
                                Some(ranges) => values.iter().any(|value| overlaps(ranges, *value, *value)),
                                None => values.is_empty(),
                            };
                            if holds {
                                bits.set(place(ordinal));
                            }
                        }
                    }
                }
            }
            at = end;
        }
        held.complete()
    }

    /// About for how many records it holds.
    pub fn cost(&mut self, held: &mut Held) -> Step<u64> {
        if let Some((_, count)) = self.set {
            return Ok(count);
        }
        if let Some(runs) = &self.of_keys {
            return Ok(runs.iter().map(|(start, end)| end - start + 1).sum());
        }
        let (per_block, mut bits) = (self.column.per_block(), Bits::new(128));
        let blocks = self.records.div_ceil(per_block);
        let (mut passing, mut seen) = (0, 0);
        for sample in 0..SAMPLES.min(blocks) {
            let block = u32::try_from(u64::from(sample) * u64::from(blocks) / u64::from(SAMPLES.min(blocks)));
            let start = block.unwrap_or(0) * per_block;
            let end = (start + per_block).min(self.records);
            bits.reset(128);
            if_held(self.fill(held, start..end, &mut bits))?;
            passing += bits.count();
            seen += u64::from(end - start);
        }
        held.complete()?;
        Ok((passing * u64::from(self.records)).div_ceil(seen.max(1)))
    }
}

/// The records of a shelf whose keys lie in these runs, which ascend: they stand in the order of their keys.
fn records_of(shelf: &Arc<Shelf>, held: &mut Held, runs: &[KeyRun]) -> Step<Vec<(u64, u64)>> {
    let mut records: Vec<(u64, u64)> = Vec::with_capacity(runs.len());
    for (after, up_to) in runs {
        let start = if_held(shelf.keys_up_to(held, after))?;
        let end = if_held(shelf.keys_up_to(held, up_to))?;
        if let (Some(start), Some(end)) = (start, end)
            && start < end
        {
            let (start, last) = (u64::from(start), u64::from(end - 1));
            match records.last_mut().filter(|(_, known)| *known >= start) {
                Some((_, known)) => *known = last.max(*known),
                None => records.push((start, last)),
            }
        }
    }
    held.complete()?;
    Ok(records)
}
