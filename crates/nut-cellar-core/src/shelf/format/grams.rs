//! What finds terms by their middles and their ends: for each run of three letters the groups of terms that have it
//! somewhere.
//!
//! A group is a run of 32 terms in the dictionary. Each term is taken with an end mark behind it, a zero character, and gives
//! its runs of three characters, the mark included, and the run of its last character and the mark. So terms that end in
//! "ella" are in the groups that have "ell", "lla" and "la" with the mark, and for each that is found a group is looked at, more or
//! less. (Inverted files over runs of letters: Zobel, Moffat & Sacks-Davis, "Searching large lexicons for partially specified
//! terms using compressed inverted files", 1993.)

use crate::bits::Bits;
use crate::error::Result;
use crate::shelf::build::output::Output;
use crate::shelf::format::directory::Section;
use crate::shelf::format::entries::{Entries, common};
use crate::shelf::format::pack;
use crate::shelf::format::sorted::SortedWriter;
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, put_varint};
use foldhash::fast::RandomState;
use hashbrown::HashMap;
use std::sync::Arc;

/// Terms in a group.
pub(in crate::shelf) const GROUP: usize = 32;
/// Runs of letters in a block.
const PER_BLOCK: usize = 32;
/// Stands behind the last character of a term.
pub(crate) const END: char = '\0';

/// Two or three characters as a number that sorts as they do.
fn number(first: char, second: char, third: Option<char>) -> u64 {
    let third = third.map_or(0, |third| u64::from(u32::from(third)) + 1);
    u64::from(u32::from(first)) << 42 | u64::from(u32::from(second)) << 21 | third
}

/// The characters of a [`number`].
fn characters(number: u64) -> impl Iterator<Item = char> {
    let part = |bits: u64| u32::try_from(bits & ((1 << 21) - 1)).unwrap_or(0);
    let third = part(number).checked_sub(1);
    [Some(part(number >> 42)), Some(part(number >> 21)), third]
        .into_iter()
        .flatten()
        .filter_map(char::from_u32)
}

/// Gathers the runs of letters of terms that come in order.
#[derive(Default)]
pub(in crate::shelf) struct GramWriter {
    terms: usize,
    lists: HashMap<u64, List, RandomState>,
    before: Vec<char>,
    here: Vec<char>,
}

/// The groups that have a run: the gap before each but the first, less 1.
struct List {
    last: u32,
    gaps: Vec<u8>,
}

impl GramWriter {
    /// Takes something between the terms that is not to be found.
    pub fn push_none(&mut self) {
        self.begin_group();
        self.terms += 1;
    }

    fn begin_group(&mut self) {
        if self.terms.is_multiple_of(GROUP) {
            self.before.clear();
        }
    }

    /// Takes a term that is no less than the one before.
    pub fn push(&mut self, term: &str) {
        let group = u32::try_from(self.terms / GROUP).expect("fewer terms than tokens in memory");
        self.begin_group();
        self.terms += 1;
        self.here.clear();
        self.here.extend(term.chars().chain([END]));
        // The term before, of the same group, has the runs that lie in what both begin with.
        let common = common(&self.before, &self.here);
        for run in self.here[common.saturating_sub(2)..].windows(3) {
            take(&mut self.lists, number(run[0], run[1], Some(run[2])), group);
        }
        if let [.., last, END] = self.here[..] {
            take(&mut self.lists, number(last, END, None), group);
        }
        std::mem::swap(&mut self.before, &mut self.here);
    }

    /// Writes the runs, each with its groups, and their index.
    pub fn write(self, out: &mut Output<'_>) -> Result<()> {
        let mut lists: Vec<_> = self.lists.into_iter().collect();
        lists.sort_unstable_by_key(|(run, _)| *run);
        let mut blocks = SortedWriter::new(PER_BLOCK);
        let (mut run, mut gaps, mut packed) = (String::new(), Vec::new(), Vec::new());
        for (number, list) in lists {
            run.clear();
            run.extend(characters(number));
            gaps.clear();
            let mut reader = Reader::new(&list.gaps);
            while let Ok(gap) = reader.varint_u32() {
                gaps.push(gap);
            }
            packed.clear();
            gaps.chunks(pack::LONGEST).for_each(|run| pack::put(&mut packed, run));
            blocks.push(run.as_bytes(), |block, _| {
                put_varint(block, gaps.len() as u64);
                put_varint(block, packed.len() as u64);
                block.extend_from_slice(&packed);
            });
            blocks.stream(out)?;
        }
        blocks.finish(out, Section::Grams, Section::GramIndex)
    }
}

fn take(lists: &mut HashMap<u64, List, RandomState>, run: u64, group: u32) {
    let list = lists.entry(run).or_insert_with(|| {
        let mut gaps = Vec::new();
        put_varint(&mut gaps, u64::from(group));
        List { last: group, gaps }
    });
    if list.last != group {
        put_varint(&mut list.gaps, u64::from(group - list.last - 1));
        list.last = group;
    }
}

/// Gives `take` the groups of a run, of which there are `all` at most, ascending.
fn groups(from: &mut Reader<'_>, all: usize, mut take: impl FnMut(u32)) -> Result<(), Broken> {
    let mut left = from.size()?;
    let mut packed = Reader::new(from.bytes()?);
    if left > all {
        return Err(Broken("the number of groups"));
    }
    let (mut gaps, mut next) = (Vec::new(), 0_u32);
    while left > 0 {
        let count = left.min(pack::LONGEST);
        pack::get(&mut packed, count, &mut gaps)?;
        for gap in &gaps {
            let group = next.checked_add(*gap).filter(|group| (*group as usize) < all);
            let group = group.ok_or(Broken("a group of terms"))?;
            take(group);
            next = group + 1;
        }
        left -= count;
    }
    if packed.is_empty() { Ok(()) } else { Err(Broken("the groups of a run")) }
}

fn skip(from: &mut Reader<'_>) -> Result<(), Broken> {
    from.size()?;
    from.bytes().map(|_| ())
}

impl Shelf {
    /// The groups of terms that have this run of letters; or one that begins so, if it is shorter than a run.
    pub(crate) fn groups_with(self: &Arc<Self>, held: &mut Held, run: &str) -> Step<Bits> {
        let run = run.as_bytes();
        let (index, all) = (self.index_of(held, Section::Grams)?, self.term_groups(held)?);
        let first = self.locate(Section::Grams, &index, run)?.unwrap_or(0);
        let broken = |what| self.broken(Section::Grams, what);
        let mut found = Bits::new(all);
        'blocks: for block in first..index.blocks() {
            let bytes = self.block_of(held, Section::Grams, &index, block)?;
            let mut entries = Entries::new(&bytes);
            while entries.advance().map_err(broken)? {
                if entries.entry().starts_with(run) {
                    groups(entries.payload(), all, |group| found.set(group as usize)).map_err(broken)?;
                } else if entries.entry() < run {
                    skip(entries.payload()).map_err(broken)?;
                } else {
                    break 'blocks;
                }
            }
        }
        Ok(found)
    }

    /// The runs of block `block`, in order, each with its groups; none past the last.
    pub(in crate::shelf) fn grams_in(
        self: &Arc<Self>,
        held: &mut Held,
        block: usize,
    ) -> Step<Vec<(Vec<u8>, Vec<u32>)>> {
        let all = self.term_groups(held)?;
        self.entries_in(held, (Section::Grams, block), |run, from| {
            let mut found = Vec::new();
            groups(from, all, |group| found.push(group))?;
            Ok((run.to_vec(), found))
        })
    }
}
