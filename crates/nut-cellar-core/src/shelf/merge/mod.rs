//! Merging: several shelves become one, without their removed records.
//!
//! Everything is read and written from front to back. In memory are the ordinals and the lengths, the packed terms, and
//! the positions as far as the budget allows; positions that are more are made a second time when it is their turn.
//!
//! What always holds: the new shelf is the one that a builder would make of the same records, byte by byte, but for where
//! its blocks of kept values end, and for the dictionary that they are packed by.

mod lists;

use crate::error::Result;
use crate::schema::{Kind, Schema};
use crate::shelf::build::output::{Output, Said};
use crate::shelf::format::directory::Section;
use crate::shelf::format::exact;
use crate::shelf::format::kept::{self, KeptWriter};
use crate::shelf::format::keys;
use crate::shelf::format::lengths::Packed;
use crate::shelf::format::values::{ValueColumn, ValueIndex, ValueWriter};
use crate::shelf::read::reader::Shelf;
use crate::shelf::read::reading::{ShelfReading, Walk};
use crate::store::{PieceId, ShelfEntry, Unit, View};
use crate::wire::{Broken, Reader};
use bytes::Bytes;
use lists::MergedLists;
use std::sync::Arc;

/// A shelf that is to be merged.
pub(crate) struct Source<'a> {
    pub shelf: &'a Arc<Shelf>,
    /// Whether a record is removed.
    pub removed: &'a dyn Fn(u32) -> bool,
}

/// Writes a shelf of the live records of all sources, of which no two have the same key, and at least one is live.
/// `block` is the number of postings in a block, `budget` the memory that may be taken, as far as it lies with positions.
///
/// # Errors
/// If the place can't be read or written, or a source is damaged.
pub(crate) fn merge(
    unit: &dyn Unit,
    sources: &[Source<'_>],
    schema: &Schema,
    block: u8,
    budget: usize,
) -> Result<ShelfEntry> {
    let piece = PieceId::fresh()?;
    let mut out = Output::begin(unit.write(piece)?)?;
    for source in sources {
        if source.shelf.stemmings() != sources[0].shelf.stemmings() {
            return Err(source.shelf.broken(Section::Terms, Broken("a stemming")));
        }
        if source.shelf.text_columns() != sources[0].shelf.text_columns() {
            return Err(source.shelf.broken(Section::Postings, Broken("a column")));
        }
    }
    let order = write_keys(unit, sources, &mut out)?;
    write_kept(unit, sources, schema, &order, &mut out)?;
    let columns = Arc::clone(sources[0].shelf.text_columns());
    let mut lengths = Vec::new();
    for column in 0..columns.count() {
        let merged = order.lengths(unit, sources, column)?;
        merged.write(&mut out)?;
        lengths.push(merged);
    }
    out.end(Section::Lengths);
    let value_columns = MergedValues { view: unit, sources, order: &order, schema }.write(block, &mut out)?;
    // What the ordinals, and about as much again for the terms, take is not there for the positions.
    let taken = order.records as usize * size_of::<u32>() * 2;
    let budget = budget.saturating_sub(taken);
    let lists =
        MergedLists { view: unit, sources, order: &order, columns: &columns, lengths: &lengths, block };
    lists.write(&mut out, budget)?;
    let stemmings = sources[0].shelf.stemmings().to_vec();
    let widths = lengths.iter().map(|column| column.width).collect();
    let lengths = lengths.iter().map(|column| column.sum).collect();
    out.seal(Said {
        piece,
        records: order.records,
        block,
        columns,
        widths,
        lengths,
        value_columns,
        stemmings,
    })
}

/// Stands in the place of the new ordinal of a removed record.
const GONE: u32 = u32::MAX;

/// Which record goes where.
struct Order {
    /// The live records of all sources in key order.
    runs: Vec<Run>,
    /// For each source, for each of its ordinals, the new one; and whether some of its records are removed.
    ordinals: Vec<Vec<u32>>,
    are_removed: Vec<bool>,
    records: u32,
}

/// Records that stand one after the other in a source and in the new shelf.
struct Run {
    source: usize,
    first: u32,
    records: u32,
}

impl Order {
    fn push(&mut self, source: usize, ordinal: u32) {
        self.ordinals[source][ordinal as usize] = self.records;
        self.records += 1;
        match self.runs.last_mut() {
            Some(run) if run.source == source && run.first + run.records == ordinal => run.records += 1,
            _ => self.runs.push(Run { source, first: ordinal, records: 1 }),
        }
    }

    /// The lengths of a text column of all records.
    fn lengths(&self, view: &dyn View, sources: &[Source<'_>], column: usize) -> Result<Packed> {
        let of_sources: Vec<_> = sources
            .iter()
            .map(|source| ShelfReading::new(view, source.shelf).lengths(column))
            .collect::<Result<_>>()?;
        let of_run = |run: &Run| {
            let first = run.first as usize;
            &of_sources[run.source][first..first + run.records as usize]
        };
        let all: Vec<_> = self.runs.iter().flat_map(of_run).copied().collect();
        Ok(Packed::of(&all))
    }
}

/// The walk that stands at the least, if any stands at something.
fn least<T, K: Ord + ?Sized>(walks: &[Walk<'_, T>], key: impl Fn(&T) -> &K) -> Option<usize> {
    let standing = walks.iter().enumerate().filter_map(|(place, walk)| Some((place, key(walk.here()?))));
    standing.min_by(|a, b| a.1.cmp(b.1)).map(|(place, _)| place)
}

fn write_keys(view: &dyn View, sources: &[Source<'_>], out: &mut Output<'_>) -> Result<Order> {
    let ordinals = sources.iter().map(|source| vec![GONE; source.shelf.records() as usize]).collect();
    let are_removed = vec![false; sources.len()];
    let mut order = Order { runs: Vec::new(), ordinals, are_removed, records: 0 };
    let mut walks =
        sources.iter().map(|source| Walk::keys(view, source.shelf)).collect::<Result<Vec<_>>>()?;
    let mut next = vec![0; sources.len()];
    let mut keys = keys::writer();
    while let Some(place) = least(&walks, Vec::as_slice) {
        let (ordinal, source) = (next[place], &sources[place]);
        next[place] += 1;
        let key = walks[place].next()?;
        if ordinal >= source.shelf.records() {
            return Err(source.shelf.broken(Section::Keys, Broken("the number of keys")));
        }
        let is_removed = (source.removed)(ordinal);
        order.are_removed[place] |= is_removed;
        if let Some(key) = key.filter(|_| !is_removed) {
            if keys.reached(&key) {
                return Err(source.shelf.broken(Section::Keys, Broken("the order of the keys")));
            }
            keys.push_bare(&key);
            keys.stream(out)?;
            order.push(place, ordinal);
        }
    }
    keys.finish(out, Section::Keys, Section::KeyIndex)?;
    Ok(order)
}

/// Blocks of which a run has every record are copied as they are.
fn write_kept(
    view: &dyn View,
    sources: &[Source<'_>],
    schema: &Schema,
    order: &Order,
    out: &mut Output<'_>,
) -> Result<()> {
    let mut walks =
        sources.iter().map(|source| Walk::kept(view, source.shelf)).collect::<Result<Vec<_>>>()?;
    // For each source the block that it stands in, unpacked, and the record of it that comes next.
    let mut open: Vec<Option<OpenBlock>> = sources.iter().map(|_| None).collect();
    let dictionary = dictionary(view, sources)?;
    let mut kept = KeptWriter::new(out, schema.packing(), dictionary)?;
    for run in &order.runs {
        let (walk, open, shelf) = (&mut walks[run.source], &mut open[run.source], sources[run.source].shelf);
        let broken = |what| shelf.broken(Section::Kept, what);
        let (mut next, end) = (run.first, run.first + run.records);
        while next < end {
            if open.as_ref().is_none_or(|block| block.end <= next) {
                *open = None;
                let Some(block) = walk.next()? else {
                    return Err(broken(Broken("the number of records")));
                };
                if block.first == next && block.records <= end - next && kept.may_copy(&block) {
                    kept.copy(out, &block)?;
                    next += block.records;
                    continue;
                }
                let end = block.first + block.records;
                *open =
                    Some(OpenBlock { next: block.first, end, at: 0, bytes: block.unpack().map_err(broken)? });
            }
            if let Some(block) = open.as_mut().filter(|block| block.end > next) {
                kept.push(out, block.record(next).map_err(broken)?)?;
                next += 1;
            }
        }
    }
    kept.finish(out)
}

/// What kept values are packed by: the dictionary of the run with the most of them, whose blocks can be copied then. Where it may have
/// something of removed records, or where there is none yet and values are worth one, one is made of what is live in that run.
fn dictionary(view: &dyn View, sources: &[Source<'_>]) -> Result<Bytes> {
    let size = |source: &Source<'_>| {
        let section = source.shelf.section(Section::Kept);
        section.end - section.start
    };
    let Some(largest) = sources.iter().max_by_key(|source| size(source)) else { return Ok(Bytes::new()) };
    let mut reading = ShelfReading::new(view, largest.shelf);
    let known = reading.read(Shelf::dictionary)?;
    let is_worth_one = sources.iter().map(size).sum::<u64>() >= kept::WORTH_A_DICTIONARY;
    let nothing_is_removed = || !(0..largest.shelf.records()).any(largest.removed);
    let stays = if known.is_empty() { !is_worth_one } else { nothing_is_removed() };
    if stays {
        return Ok(known);
    }
    let broken = |what| largest.shelf.broken(Section::Kept, what);
    let (blocks, mut records) = (largest.shelf.kept_blocks()?, Vec::new());
    for stretch in 0..kept::STRETCHES {
        let place = stretch * blocks / kept::STRETCHES;
        let Some(block) = reading.read(|shelf, held| shelf.kept_block(held, place))? else { continue };
        let unpacked = block.unpack().map_err(broken)?;
        let mut reader = Reader::new(&unpacked);
        for ordinal in block.first..block.first + block.records {
            let record = reader.bytes().map_err(broken)?;
            if !(largest.removed)(ordinal) {
                // However large records are, no more of each is needed.
                records.push(record[..record.len().min(kept::STRETCH)].to_vec());
            }
        }
    }
    Ok(kept::dictionary_of(records.len(), |place| &records[place]))
}

/// A block of kept values that is being read.
struct OpenBlock {
    next: u32,
    end: u32,
    at: usize,
    bytes: Vec<u8>,
}

impl OpenBlock {
    /// The values of a record, which is not before the last one that was asked for.
    fn record(&mut self, ordinal: u32) -> Result<&[u8], Broken> {
        let mut reader = Reader::new(&self.bytes[self.at..]);
        let mut record = None;
        while self.next <= ordinal {
            record = Some(reader.bytes()?);
            self.next += 1;
        }
        self.at = self.bytes.len() - reader.left();
        record.ok_or(Broken("the order of the blocks"))
    }
}

/// The values that are compared.
struct MergedValues<'a> {
    view: &'a dyn View,
    sources: &'a [Source<'a>],
    order: &'a Order,
    schema: &'a Schema,
}

impl MergedValues<'_> {
    /// Writes the exact values and the values of all columns, of which it gives the number.
    fn write(&self, block: u8, out: &mut Output<'_>) -> Result<u16> {
        let columns: Vec<_> = self.schema.value_columns().map(|(_, column)| column.kind()).collect();
        for source in self.sources {
            if source.shelf.value_columns() != columns.len() {
                return Err(source.shelf.broken(Section::ValueIndex, Broken("the number of columns")));
            }
        }
        let mut used = Vec::new();
        for source in self.sources {
            used.push(self.used(source, &columns)?);
        }
        let ordinals = self.write_exact(&used, out)?;
        let mut index = ValueIndex::default();
        for (column, kind) in columns.iter().enumerate() {
            let mut writer = ValueWriter::new(block.into());
            self.each(column, |source, values| {
                let ordinal = |&value: &u64| ordinals[source][usize::try_from(value).unwrap_or(usize::MAX)];
                match kind {
                    Kind::Exact => {
                        let values: Vec<_> = values.iter().map(ordinal).collect();
                        writer.push(out, &mut index, &values)
                    }
                    _ => writer.push(out, &mut index, values),
                }
            })?;
            writer.finish(out, &mut index)?;
        }
        index.finish(out)?;
        Ok(u16::try_from(columns.len()).expect("the schema has been checked"))
    }

    /// Gives the values of each live record in a column, in key order, with the source they come from.
    fn each(&self, column: usize, mut take: impl FnMut(usize, &[u64]) -> Result<()>) -> Result<()> {
        let mut readings: Vec<_> =
            self.sources.iter().map(|source| ShelfReading::new(self.view, source.shelf)).collect();
        let mut columns: Vec<_> =
            self.sources.iter().map(|source| ValueColumn::new(source.shelf, column)).collect();
        for run in &self.order.runs {
            let (reading, column) = (&mut readings[run.source], &mut columns[run.source]);
            for ordinal in run.first..run.first + run.records {
                reading.read(|_, held| column.of(held, ordinal).map(|_| ()))?;
                take(run.source, column.here(ordinal))?;
            }
        }
        Ok(())
    }

    /// For each exact value of a source whether a live record has it.
    fn used(&self, source: &Source<'_>, columns: &[Kind]) -> Result<Vec<bool>> {
        let mut reading = ShelfReading::new(self.view, source.shelf);
        let mut used = vec![false; reading.read(Shelf::exact_count)?];
        for (column, _) in columns.iter().enumerate().filter(|(_, kind)| **kind == Kind::Exact) {
            let mut column = ValueColumn::new(source.shelf, column);
            for ordinal in (0..source.shelf.records()).filter(|ordinal| !(source.removed)(*ordinal)) {
                reading.read(|_, held| {
                    for &value in column.of(held, ordinal)? {
                        let slot = usize::try_from(value).ok().and_then(|value| used.get_mut(value));
                        *slot.ok_or_else(|| {
                            source.shelf.broken(Section::Values, Broken("an exact value"))
                        })? = true;
                    }
                    Ok(())
                })?;
            }
        }
        Ok(used)
    }

    /// Writes the exact values that are used; gives for each source for each of its own the new ordinal.
    fn write_exact(&self, used: &[Vec<bool>], out: &mut Output<'_>) -> Result<Vec<Vec<u64>>> {
        let walk = |source: &Source<'_>| Walk::exact(self.view, source.shelf);
        let mut walks = self.sources.iter().map(walk).collect::<Result<Vec<_>>>()?;
        let mut ordinals: Vec<Vec<u64>> = used.iter().map(|used| Vec::with_capacity(used.len())).collect();
        let (mut entries, mut next) = (exact::writer(), 0);
        while let Some(first) = least(&walks, Vec::as_slice) {
            let entry = walks[first].here().cloned().unwrap_or_default();
            let mut live = false;
            for (source, walk) in walks.iter_mut().enumerate().skip(first) {
                if walk.here() == Some(&entry) {
                    walk.next()?;
                    live |= used[source].get(ordinals[source].len()) == Some(&true);
                    ordinals[source].push(next);
                }
            }
            if live {
                if entries.reached(&entry) {
                    let shelf = self.sources[first].shelf;
                    return Err(shelf.broken(Section::Exact, Broken("the order of the values")));
                }
                entries.push_bare(&entry);
                entries.stream(out)?;
                next += 1;
            }
        }
        entries.finish(out, Section::Exact, Section::ExactIndex)?;
        Ok(ordinals)
    }
}
