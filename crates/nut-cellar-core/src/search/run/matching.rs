//! Which records of a window match, found out for all of them together: a query is a few operations on words of 64 records then.
//!
//! What always holds: windows ascend, as the cursors do.

use super::cursors::{Cursors, LeafCursor};
use crate::bits::Bits;
use crate::search::find::Find;
use crate::search::plan::Node;
use crate::shelf::{Held, Set, Step, if_held};
use std::ops::Range;
use std::sync::Arc;

/// So many records are looked at together.
const TOGETHER: u32 = 1 << 15;

/// The leaves of a plan that score and are more than a word, with the records of a run that match them.
pub(super) type PhraseBits = Vec<(usize, Bits)>;

/// Finds out window by window which live records of a run match, and what matches some of the leaves.
pub(in crate::search) struct Matching<'c> {
    cursors: Cursors<'c>,
    root: &'c Node,
    find: &'c Find,
    /// What was not looked at yet.
    run: Range<u32>,
    /// Those of the window that was looked at last.
    here: Bits,
    phrases: PhraseBits,
}

impl<'c> Matching<'c> {
    pub fn new(cursors: Cursors<'c>, root: &'c Node, find: &'c Find, run: Range<u32>) -> Self {
        Self { cursors, root, find, run, here: Bits::default(), phrases: PhraseBits::new() }
    }

    /// Looks for what matches leaves that score and are more than a word, too.
    pub fn look_for_phrases(&mut self) {
        self.phrases = self.cursors.scoring_phrases();
    }

    /// Goes on to the next window, and gives where it starts; none at the end.
    fn go_on(&mut self, held: &mut Held) -> Step<Option<u32>> {
        let Range { start, end } = self.run;
        if start >= end {
            return Ok(None);
        }
        let window = start..start.saturating_add(TOGETHER).min(end);
        self.find.go_on()?;
        self.run.start = window.end;
        self.here.reset(window.len());
        self.cursors.fill_phrases(held, &window, &mut self.phrases)?;
        if_held(self.cursors.fill(held, self.root, &window, &mut self.here))?;
        if let Some(mask) = &self.cursors.standing.mask {
            self.here.take_out_part(mask.bits(), start as usize);
        }
        Ok(Some(start))
    }

    /// Adds the matches of the next window to `all`, of all records of the shelf; tells whether there was one.
    fn add_next(&mut self, held: &mut Held, all: &mut Bits) -> Step<bool> {
        let start = self.go_on(held)?;
        if let Some(start) = start {
            self.here.iter().for_each(|place| all.set(start as usize + place));
        }
        Ok(start.is_some())
    }

    /// None of the records of the shelf.
    fn none(&self) -> Bits {
        Bits::new(self.cursors.standing.shelf.records() as usize)
    }

    /// All that match, and what matches the leaves.
    pub fn all(mut self, held: &mut Held) -> Step<(Bits, PhraseBits)> {
        let mut all = self.none();
        while self.add_next(held, &mut all)? {}
        held.complete()?;
        Ok((all, self.phrases))
    }

    /// How many match, up to `wanted` or a few more.
    pub fn count(mut self, held: &mut Held, wanted: u64) -> Step<u64> {
        let mut total = 0;
        while total < wanted && self.go_on(held)?.is_some() {
            total += self.here.count();
        }
        held.complete()?;
        Ok(total)
    }
}

/// A set that records have to be in; nothing is in the empty one. It is known, or found out as far as it is asked for, in ascending order.
#[derive(Default)]
pub(super) struct Allowed<'c> {
    /// Those that are known.
    pub records: Arc<Bits>,
    /// Whether many records are in it, so that postings are better scored before they are tested.
    pub are_many: bool,
    rest: Option<Matching<'c>>,
}

impl<'c> Allowed<'c> {
    /// A set that is known, of so many records.
    pub fn known((set, count): Set, records: u64) -> Self {
        Self { records: set, are_many: count > records / 4, rest: None }
    }

    /// What is found out to match.
    pub fn as_needed(matching: Matching<'c>) -> Self {
        Self { records: Arc::new(matching.none()), are_many: false, rest: Some(matching) }
    }

    /// Whether all records that are in it are known.
    pub fn is_known(&self) -> bool {
        self.rest.is_none()
    }

    /// Finds out which records of a window are in it.
    pub fn look_at(&mut self, held: &mut Held, window: &Range<u32>) -> Step<()> {
        let Some(rest) = &mut self.rest else { return Ok(()) };
        rest.run.start = rest.run.start.max(window.start);
        while rest.run.start < window.end && rest.add_next(held, Arc::make_mut(&mut self.records))? {}
        held.complete()
    }

    /// The first of its records from one on.
    pub fn next(&mut self, held: &mut Held, mut at: u32) -> Step<Option<u32>> {
        loop {
            self.look_at(held, &(at..at.saturating_add(1)))?;
            match (self.records.next(at as usize), &self.rest) {
                (None, Some(rest)) if !rest.run.is_empty() => at = rest.run.start,
                (next, _) => return Ok(next.and_then(|next| u32::try_from(next).ok())),
            }
        }
    }

    /// Whether a record is in it that was looked at.
    #[inline]
    pub fn has(&self, ordinal: u32) -> bool {
        self.records.has(ordinal as usize)
    }
}

impl Cursors<'_> {
    /// The leaves that score and are more than a word, of which no record is known yet. What matches them is found once in each window,
    /// wherever they stand.
    pub fn scoring_phrases(&mut self) -> PhraseBits {
        let mut phrases = PhraseBits::new();
        for (place, leaf) in self.plan.leaves.iter().enumerate() {
            if leaf.times > 0 && matches!(self.leaves[place], LeafCursor::Phrases(_)) {
                self.places[place] += 1;
                phrases.push((place, Bits::new(self.standing.shelf.records() as usize)));
            }
        }
        phrases
    }

    /// Adds the records of a window that match these leaves.
    pub fn fill_phrases(
        &mut self,
        held: &mut Held,
        window: &Range<u32>,
        phrases: &mut PhraseBits,
    ) -> Step<()> {
        for (leaf, records) in phrases {
            if_held(self.fill_again(held, *leaf, window))?;
            self.filled[*leaf].1.iter().for_each(|place| records.set(window.start as usize + place));
        }
        Ok(())
    }

    /// The records of a window that match a leaf which stands in several places of the query: they are kept for the others.
    fn fill_again(&mut self, held: &mut Held, leaf: usize, window: &Range<u32>) -> Step<()> {
        if self.filled[leaf].0 == Some(window.start) {
            return Ok(());
        }
        let mut bits = std::mem::take(&mut self.filled[leaf].1);
        bits.reset(window.len());
        let filled = self.fill_leaf(held, leaf, window, &mut bits);
        self.filled[leaf] = (Some(window.start), bits);
        filled
    }

    /// Adds the records of a window that match a leaf.
    fn fill_leaf(&mut self, held: &mut Held, leaf: usize, window: &Range<u32>, bits: &mut Bits) -> Step<()> {
        match &mut self.leaves[leaf] {
            LeafCursor::Word(word) => self.words[*word].cursor.fill(window, bits)?,
            LeafCursor::Phrases(phrases) => {
                if_held(phrases.fill(&self.standing.shelf, held, window, bits))?;
            }
        }
        Ok(())
    }

    /// Adds the records of a window that match a node.
    pub fn fill(&mut self, held: &mut Held, node: &Node, window: &Range<u32>, bits: &mut Bits) -> Step<()> {
        match node {
            Node::Nothing => {}
            Node::Leaf(leaf) if self.places[*leaf] > 1 => {
                self.fill_again(held, *leaf, window)?;
                bits.add(&self.filled[*leaf].1);
            }
            Node::Leaf(leaf) => self.fill_leaf(held, *leaf, window, bits)?,
            Node::Test(test) => {
                if_held(self.tests[*test].fill(held, window.clone(), bits))?.unwrap_or(());
            }
            Node::Not(part) => {
                let mut inner = Bits::new(window.len());
                self.fill(held, part, window, &mut inner)?;
                inner.turn();
                bits.add(&inner);
            }
            Node::All(parts) => bits.add(&self.fill_all(held, parts, window)?),
            Node::Any(parts) => parts.iter().try_for_each(|part| self.fill(held, part, window, bits))?,
            Node::AtLeast(count, parts) => self.fill_at_least(held, (*count, parts), window, bits)?,
        }
        Ok(())
    }

    /// The records of a window that match all of these nodes.
    fn fill_all(&mut self, held: &mut Held, parts: &[Node], window: &Range<u32>) -> Step<Bits> {
        let mut all: Option<Bits> = None;
        for part in parts {
            let mut inner = Bits::new(window.len());
            match (part, &mut all) {
                (_, Some(all)) if all.is_empty() => break,
                (Node::Test(test), Some(all)) if self.tests[*test].set().is_none() => {
                    // Those that are left are asked, not all of the window.
                    for place in all.iter() {
                        let ordinal = window.start + u32::try_from(place).unwrap_or(u32::MAX);
                        let holds = if_held(self.tests[*test].holds(held, ordinal))?;
                        inner.put(place, holds.unwrap_or(true));
                    }
                }
                _ => self.fill(held, part, window, &mut inner)?,
            }
            match &mut all {
                Some(all) => all.keep(&inner),
                none => *none = Some(inner),
            }
        }
        Ok(all.unwrap_or_default())
    }

    /// Adds the records of a window that match so many of these nodes.
    fn fill_at_least(
        &mut self,
        held: &mut Held,
        (count, parts): (usize, &[Node]),
        window: &Range<u32>,
        bits: &mut Bits,
    ) -> Step<()> {
        let (mut counts, mut inner) = (vec![0_u16; window.len()], Bits::default());
        // The parts that few records match come first. Who has too few of them can't have enough of all.
        let (mut look, spare) = (1, parts.len().saturating_sub(count));
        for (number, part) in parts.iter().enumerate() {
            if number == spare + look {
                if !counts.iter().any(|has| usize::from(*has) >= look) {
                    return Ok(());
                }
                look *= 2;
            }
            if let Node::Leaf(leaf) = part
                && let LeafCursor::Word(word) = self.leaves[*leaf]
                && self.places[*leaf] == 1
                && let Some((list, limited)) = self.words[word].cursor.only_list()
            {
                list.each_in(window, limited, |place, has| counts[place] += u16::from(has))?;
                continue;
            }
            inner.reset(window.len());
            self.fill(held, part, window, &mut inner)?;
            inner.iter().for_each(|place| counts[place] += 1);
        }
        for (place, has) in counts.into_iter().enumerate() {
            bits.put(place, usize::from(has) >= count);
        }
        Ok(())
    }
}
