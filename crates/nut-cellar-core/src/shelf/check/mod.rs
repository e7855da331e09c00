//! Checking: everything that a shelf says against everything else that it says.
//!
//! Reading a shelf never depends on this: what is read is checked as it is read. But a search sees only what it touches,
//! and takes a wrong number that fits the layout for a right one.

mod values;

use crate::error::Result;
use crate::record::Key;
use crate::schema::Schema;
use crate::shelf::format::bounds::Bounds;
use crate::shelf::format::directory::{CHUNK, Section, header};
use crate::shelf::format::grams::{END, GROUP};
use crate::shelf::format::kept;
use crate::shelf::format::sorted::SortedIndex;
use crate::shelf::format::terms::{ClassEntry, Listed, Lists, read_name};
use crate::shelf::read::reader::Shelf;
use crate::shelf::read::reading::{ShelfReading, Walk};
use crate::store::{ShelfEntry, View};
use crate::wire::{Broken, Reader};
use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;
use values::Compared;

/// Checks every chunk against its checksum and every section against the layout, against the others, and against what the
/// manifest says. Takes time in proportion to the shelf, and memory for its lengths, exact values and runs of letters.
///
/// # Errors
/// [`Damaged`](crate::ErrorKind::Damaged), naming the section, at the first thing that is not right.
pub(crate) fn check(view: &dyn View, shelf: &Arc<Shelf>, entry: &ShelfEntry, schema: &Schema) -> Result<()> {
    let reading = ShelfReading::new(view, shelf);
    let mut check = Check { view, shelf, reading, lengths: Vec::new(), exact: Vec::new() };
    check.chunks()?;
    check.keys()?;
    check.lengths(entry)?;
    check.values(schema)?;
    check.kept(schema)?;
    check.terms()?;
    check.grams()
}

struct Check<'v> {
    view: &'v dyn View,
    shelf: &'v Arc<Shelf>,
    reading: ShelfReading<'v>,
    /// For each text column, for each record.
    lengths: Vec<Vec<u32>>,
    /// The exact values.
    exact: Vec<Vec<u8>>,
}

impl Check<'_> {
    fn wrong<T>(&self, section: Section, what: &'static str) -> Result<T> {
        Err(self.shelf.broken(section, Broken(what)))
    }

    fn chunks(&mut self) -> Result<()> {
        let (mut at, end) = (0, self.shelf.body());
        while at < end {
            let chunk = self.reading.bytes(&(at..end.min(at + CHUNK)))?;
            if at == 0 && !chunk.starts_with(&header()) {
                return self.wrong(Section::Keys, "the label in front");
            }
            at += CHUNK;
        }
        Ok(())
    }

    /// Blocks follow one another and fill their section, and each begins with what the index says.
    fn blocks(&mut self, section: Section) -> Result<SortedIndex> {
        let read = self.reading.read(|shelf, held| shelf.index_of(held, section))?;
        let broken = |what| self.shelf.broken(section.index(), what);
        let mut end = 0;
        for block in 0..read.blocks() {
            let range = read.block(block).map_err(broken)?;
            if range.start != end || range.is_empty() {
                return self.wrong(section.index(), "where a block is");
            }
            end = range.end;
        }
        let whole = self.shelf.section(section);
        if end != whole.end - whole.start {
            return self.wrong(section.index(), "the end of the last block");
        }
        Ok(read)
    }

    /// Gives what stands in the blocks, of which it checks that it ascends and is found by way of the index.
    fn sorted<T>(
        &mut self,
        section: Section,
        mut walk: Walk<'_, T>,
        entry: impl Fn(&T) -> &[u8],
        mut take: impl FnMut(&mut Self, T) -> Result<()>,
    ) -> Result<usize> {
        let blocks = self.blocks(section)?;
        let (mut before, mut count) = (Vec::new(), 0);
        while let Some(block) = walk.block() {
            let Some(here) = walk.next()? else { break };
            if count > 0 && before.as_slice() >= entry(&here) {
                return self.wrong(section, "the order of the entries");
            }
            let found =
                blocks.locate(entry(&here)).map_err(|what| self.shelf.broken(section.index(), what))?;
            if found != Some(block) {
                return self.wrong(section.index(), "the first entry of a block");
            }
            before.clear();
            before.extend_from_slice(entry(&here));
            count += 1;
            take(self, here)?;
        }
        Ok(count)
    }

    fn keys(&mut self) -> Result<()> {
        let walk = Walk::keys(self.view, self.shelf)?;
        let count =
            self.sorted(Section::Keys, walk, Vec::as_slice, |check, key| match Key::decode(&key) {
                Ok(_) => Ok(()),
                Err(_) => check.wrong(Section::Keys, "a key"),
            })?;
        if count == self.shelf.records() as usize {
            Ok(())
        } else {
            self.wrong(Section::Keys, "the number of keys")
        }
    }

    fn kept(&mut self, schema: &Schema) -> Result<()> {
        let broken = |what| self.shelf.broken(Section::Kept, what);
        if !self.reading.read(Shelf::kept_index_holds)? {
            return self.wrong(Section::KeptIndex, "a first record that is named again");
        }
        let mut walk = Walk::kept(self.view, self.shelf)?;
        let mut compared = Compared::new(self.shelf, schema);
        let mut next = 0;
        while let Some(block) = walk.next()? {
            if block.first != next {
                return self.wrong(Section::KeptIndex, "the first record of a block");
            }
            next += block.records;
            let bytes = block.unpack().map_err(broken)?;
            let mut reader = Reader::new(&bytes);
            for ordinal in block.first..next {
                let kept = reader.bytes().and_then(|record| kept::unpack(schema, record)).map_err(broken)?;
                if !compared.are(&kept, &self.exact, ordinal, &mut self.reading)? {
                    return self.wrong(Section::Values, "a value, which is not the one that is kept,");
                }
            }
            if !reader.is_empty() {
                return self.wrong(Section::Kept, "the end of a block");
            }
        }
        if next == self.shelf.records() {
            Ok(())
        } else {
            self.wrong(Section::KeptIndex, "the number of records")
        }
    }

    fn lengths(&mut self, entry: &ShelfEntry) -> Result<()> {
        for column in 0..self.shelf.columns() {
            let lengths = self.reading.lengths(column)?;
            if lengths.iter().copied().map(u64::from).sum::<u64>() != entry.lengths[column] {
                return self.wrong(Section::Lengths, "the sum, which the manifest says otherwise,");
            }
            self.lengths.push(lengths);
        }
        Ok(())
    }

    /// The runs of letters are those of the terms, and nothing else.
    fn grams(&mut self) -> Result<()> {
        let mut expected = BTreeMap::<Vec<u8>, Vec<u32>>::new();
        let (mut walk, mut count) = (Walk::terms(self.view, self.shelf)?, 0_usize);
        while let Some((name, _)) = walk.next()? {
            let group = u32::try_from(count / GROUP).unwrap_or(u32::MAX);
            count += 1;
            let Ok((term, _, false)) = read_name(&name) else { continue };
            let marked: Vec<char> = term.chars().chain([END]).collect();
            let ending = marked.windows(2).next_back();
            for run in marked.windows(3).chain(ending) {
                let groups = expected.entry(run.iter().collect::<String>().into_bytes()).or_default();
                if groups.last() != Some(&group) {
                    groups.push(group);
                }
            }
        }
        let (walk, mut expected) = (Walk::grams(self.view, self.shelf)?, expected.into_iter());
        self.sorted(
            Section::Grams,
            walk,
            |(run, _)| run,
            |check, here| {
                if expected.next() == Some(here) {
                    Ok(())
                } else {
                    check.wrong(Section::Grams, "the groups of a run")
                }
            },
        )?;
        if expected.next().is_none() { Ok(()) } else { self.wrong(Section::Grams, "the end") }
    }

    fn terms(&mut self) -> Result<()> {
        let walk = Walk::terms(self.view, self.shelf)?;
        let mut lookup = ShelfReading::new(self.view, self.shelf);
        let mut ends = (0, 0);
        self.sorted(
            Section::Terms,
            walk,
            |(name, _)| name,
            |check, (name, listed)| {
                let broken = |what| check.shelf.broken(Section::Terms, what);
                let (term, stemming, _) = read_name(&name).map_err(broken)?;
                if usize::from(stemming) >= check.shelf.stemmings().len() {
                    return check.wrong(Section::Terms, "the stemming of a term");
                }
                let class = match listed {
                    Listed::Form(_) => {
                        // The class is found, and has it.
                        lookup.read(|shelf, held| shelf.find_term(held, term, stemming))?;
                        return Ok(());
                    }
                    Listed::Own(whole) => ClassEntry { forms: vec![(term.to_owned(), whole.records)], whole },
                    Listed::Class(class) => {
                        for (form, _) in &class.forms {
                            let known = lookup.read(|shelf, held| shelf.find_term(held, form, stemming))?;
                            if known.is_none_or(|known| !known.is_of_list(&class.whole)) {
                                return check
                                    .wrong(Section::Terms, "a form, which does not lead to its class,");
                            }
                        }
                        class
                    }
                };
                if let Lists::Written { postings, positions, .. } = &class.whole.lists {
                    if (postings.start, positions.start) != ends {
                        return check.wrong(Section::Terms, "where a list is");
                    }
                    ends = (postings.end, positions.end);
                }
                check.list(&class)
            },
        )?;
        for (section, end) in [(Section::Postings, ends.0), (Section::Positions, ends.1)] {
            let Range { start, end: whole } = self.shelf.section(section);
            if whole - start != end {
                return self.wrong(section, "the end of the last list");
            }
        }
        Ok(())
    }

    /// The list has as many postings and occurrences as the dictionary says, its forms are in as many records, those of most first, its table
    /// tells which it has, and its bounds bound it.
    fn list(&mut self, class: &ClassEntry) -> Result<()> {
        let entry = &class.whole;
        let mut postings = self.reading.read(|shelf, held| shelf.postings(held, entry))?;
        let mut positions = self.reading.read(|shelf, held| shelf.positions(held, entry))?;
        let bounds: Vec<(u32, Bounds)> = postings.bounds().collect::<Result<_>>()?;
        let (mut count, mut occurrences, mut places) = (0, 0, Vec::new());
        let (mut of_form, mut codes) = (vec![0; class.forms.len()], vec![0; bounds.len()]);
        while postings.advance()? {
            postings.read()?;
            let ordinal = postings.ordinal();
            let block = bounds.get(count / self.shelf.block());
            let length = |column: usize| self.lengths[column][ordinal as usize];
            let posting: Vec<_> = postings.frequencies().collect();
            if block.is_some_and(|(_, bounds)| !bounds.cover(&posting, length)) {
                return self.wrong(Section::Postings, "a bound");
            }
            if let Some(codes) = codes.get_mut(count / self.shelf.block()) {
                *codes |= postings.code_here();
            }
            postings.forms().for_each(|form| of_form[form as usize] += 1);
            places.clear();
            let own = self.shelf.text_columns().own();
            positions.of(&postings, own, |column, position| places.push((column, position)))?;
            occurrences += places.len() as u64;
            for beginning in self.shelf.text_columns().beginnings() {
                let said = posting.iter().find(|(column, _)| *column == usize::from(beginning.column));
                let whole = places.iter().filter(|(column, _)| *column == usize::from(beginning.whole));
                let first = whole.filter(|(_, position)| *position < beginning.words.into()).count();
                if first != said.map_or(0, |(_, frequency)| *frequency as usize) {
                    return self.wrong(Section::Postings, "the first words of a column");
                }
            }
            count += 1;
        }
        if count != entry.records as usize || !postings.at_end() {
            return self.wrong(Section::Postings, "the end of a list");
        }
        if !(0..).zip(&codes).all(|(block, codes)| postings.codes_of(block) == *codes) {
            return self.wrong(Section::Postings, "the forms of a block");
        }
        let order = |(term, records): &(String, u32)| (Reverse(*records), term.clone());
        if !of_form.iter().eq(class.forms.iter().map(|(_, records)| records))
            || !class.forms.is_sorted_by(|a, b| order(a) < order(b))
        {
            return self.wrong(Section::Terms, "the forms of a class");
        }
        match entry.lists {
            Lists::Written { occurrences: said, .. } if said != occurrences => {
                self.wrong(Section::Terms, "the occurrences of a term")
            }
            _ if !positions.at_end().map_err(|what| self.shelf.broken(Section::Positions, what))? => {
                self.wrong(Section::Positions, "the end of a list")
            }
            _ => Ok(()),
        }
    }
}
