//! Which records of a window match, found out for all of them together: a query is a few operations on words of 64 records then.
//!
//! What always holds: windows ascend, as the cursors do.

use super::cursors::{Cursors, LeafCursor};
use crate::bits::Bits;
use crate::search::find::Find;
use crate::search::plan::Node;
use crate::shelf::{Held, Step, if_held};
use std::ops::Range;

/// So many records are looked at together.
const TOGETHER: u32 = 1 << 15;

/// The windows of a run of records.
pub(super) fn windows(run: &Range<u32>) -> impl Iterator<Item = Range<u32>> {
    let end = run.end;
    run.clone().step_by(TOGETHER as usize).map(move |start| start..start.saturating_add(TOGETHER).min(end))
}

/// The leaves of a plan that score and are more than a word, with the records of a run that match them.
pub(in crate::search) type PhraseBits = Vec<(usize, Bits)>;

/// The live records of a run that match, and what matches some of the leaves.
pub(in crate::search) fn all_matching(
    held: &mut Held,
    cursors: &mut Cursors<'_>,
    root: &Node,
    find: &Find,
    run: &Range<u32>,
    phrases: &mut PhraseBits,
) -> Step<Bits> {
    let (mut all, mut bits) = (Bits::new(cursors.standing.shelf.records() as usize), Bits::default());
    for window in windows(run) {
        find.go_on()?;
        bits.reset(window.len());
        cursors.fill_phrases(held, &window, phrases)?;
        if_held(cursors.fill(held, root, &window, &mut bits))?;
        bits.iter().for_each(|place| all.set(window.start as usize + place));
    }
    if let Some(mask) = &cursors.standing.mask {
        all.take_out_part(mask.bits(), 0);
    }
    held.complete()?;
    Ok(all)
}

/// Counts the live records of a run that match, up to `wanted` or a few more.
pub(super) fn count(
    held: &mut Held,
    cursors: &mut Cursors<'_>,
    root: &Node,
    find: &Find,
    wanted: u64,
    run: &Range<u32>,
) -> Step<u64> {
    let (mut bits, mut total) = (Bits::default(), 0);
    for window in windows(run) {
        if total >= wanted {
            break;
        }
        find.go_on()?;
        bits.reset(window.len());
        if_held(cursors.fill(held, root, &window, &mut bits))?;
        if let Some(mask) = &cursors.standing.mask {
            bits.take_out_part(mask.bits(), window.start as usize);
        }
        total += bits.count();
    }
    held.complete()?;
    Ok(total)
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
