//! Which records of a window match, found out for all of them together: a query is a few operations on words of 64 records then.
//!
//! What always holds: windows ascend, as the cursors do.

use super::cursors::{Cursors, LeafCursor};
use super::find::Find;
use super::group::Member;
use super::plan::Node;
use crate::bits::Bits;
use crate::error::Result;
use crate::shelf::{END, Hand, Step, if_at_hand};
use std::ops::Range;

/// So many records are looked at together for which of them match.
const TOGETHER: u32 = 1 << 15;

/// The records that match, window by window, where asking record by record would ask too many words. They are asked for in ascending
/// order.
pub(super) struct Filled<'f, 'c> {
    cursors: &'f mut Cursors<'c>,
    find: &'f Find,
    window: Range<u32>,
    bits: Bits,
    end: u32,
}

impl<'f, 'c> Filled<'f, 'c> {
    /// Of the records below `end`.
    pub fn new(cursors: &'f mut Cursors<'c>, find: &'f Find, end: u32) -> Self {
        Self { cursors, find, window: 0..0, bits: Bits::default(), end }
    }

    /// Whether a record matches.
    pub fn has(&mut self, hand: &mut Hand, root: &Node, ordinal: u32) -> Step<bool> {
        if !self.window.contains(&ordinal) {
            self.find.go_on()?;
            self.window = ordinal..ordinal.saturating_add(TOGETHER).min(self.end);
            self.bits.reset(self.window.len());
            if_at_hand(self.cursors.fill(hand, root, &self.window, &mut self.bits))?;
        }
        Ok(self.bits.has((ordinal - self.window.start) as usize))
    }

    /// The first record from one on that matches; [`END`] if there is none.
    pub fn next(&mut self, hand: &mut Hand, root: &Node, ordinal: u32) -> Step<u32> {
        let mut at = ordinal;
        while at < self.end {
            if self.has(hand, root, at)? {
                return Ok(at);
            }
            let next = self.bits.next((at - self.window.start) as usize);
            if let Some(next) = next.and_then(|next| u32::try_from(next).ok()) {
                return Ok(self.window.start + next);
            }
            at = self.window.end;
        }
        Ok(END)
    }
}

impl Cursors<'_> {
    /// The records of a window that match a leaf which stands in several places of the query: they are kept for the others.
    fn fill_again(&mut self, hand: &mut Hand, leaf: usize, window: &Range<u32>) -> Step<()> {
        if self.filled[leaf].0 == Some(window.start) {
            return Ok(());
        }
        let mut bits = std::mem::take(&mut self.filled[leaf].1);
        bits.reset((window.end - window.start) as usize);
        let filled = self.fill_leaf(hand, leaf, window, &mut bits);
        self.filled[leaf] = (Some(window.start), bits);
        filled
    }

    /// Adds the records of a window that match a leaf.
    fn fill_leaf(&mut self, hand: &mut Hand, leaf: usize, window: &Range<u32>, bits: &mut Bits) -> Step<()> {
        match &mut self.leaves[leaf] {
            LeafCursor::Word(word) => {
                let group = &mut self.words[*word].group;
                let limited = group.is_limited();
                for member in &mut group.members {
                    let put = |ordinal, has| bits.put((ordinal - window.start) as usize, has);
                    member.fill(window, limited, put)?;
                }
            }
            LeafCursor::Rows(rows) => {
                if_at_hand(rows.fill(&self.standing.shelf, hand, window, bits))?;
            }
        }
        Ok(())
    }

    /// The only term of a node that every record matches which has it.
    fn only_member(&mut self, node: &Node) -> Option<&mut Member> {
        let Node::Leaf(leaf) = node else { return None };
        let LeafCursor::Word(word) = self.leaves[*leaf] else { return None };
        let group = &mut self.words[word].group;
        let is_plain = self.places[*leaf] == 1 && !group.is_limited() && group.members.len() == 1;
        group.members.first_mut().filter(|_| is_plain)
    }

    /// Adds the records of a window that match a node; windows ascend.
    pub fn fill(&mut self, hand: &mut Hand, node: &Node, window: &Range<u32>, bits: &mut Bits) -> Step<()> {
        let size = (window.end - window.start) as usize;
        match node {
            Node::Nothing => {}
            Node::Leaf(leaf) if self.places[*leaf] > 1 => {
                self.fill_again(hand, *leaf, window)?;
                bits.add(&self.filled[*leaf].1);
            }
            Node::Leaf(leaf) => self.fill_leaf(hand, *leaf, window, bits)?,
            Node::Test(test) => if_at_hand(self.tests[*test].fill(hand, window.clone(), bits))?.unwrap_or(()),
            Node::Not(part) => {
                let mut inner = Bits::new(size);
                self.fill(hand, part, window, &mut inner)?;
                inner.turn();
                bits.add(&inner);
            }
            Node::All(parts) => {
                let mut both: Option<Bits> = None;
                for part in parts {
                    if both.as_ref().is_some_and(Bits::is_empty) {
                        break;
                    }
                    let mut inner = Bits::new(size);
                    self.fill(hand, part, window, &mut inner)?;
                    match &mut both {
                        Some(both) => both.keep(&inner),
                        none => *none = Some(inner),
                    }
                }
                bits.add(&both.unwrap_or_default());
            }
            Node::Any(parts) => {
                for part in parts {
                    self.fill(hand, part, window, bits)?;
                }
            }
            Node::AtLeast(count, parts) => {
                let (mut counts, mut inner) = (vec![0_u16; size], Bits::new(size));
                for part in parts {
                    if let Some(member) = self.only_member(part) {
                        let count = |ordinal, _| counts[(ordinal - window.start) as usize] += 1;
                        member.fill(window, false, count)?;
                        continue;
                    }
                    inner.reset(size);
                    self.fill(hand, part, window, &mut inner)?;
                    inner.iter().for_each(|number| counts[number] += 1);
                }
                for (number, has) in counts.into_iter().enumerate() {
                    bits.put(number, usize::from(has) >= *count);
                }
            }
        }
        Ok(())
    }
}

impl Member {
    /// Gives `take` the records of a window that have the term, each with whether it counts there.
    pub fn fill(
        &mut self,
        window: &Range<u32>,
        limited: bool,
        mut take: impl FnMut(u32, bool),
    ) -> Result<()> {
        self.seek(window.start)?;
        while self.here < window.end {
            let (here, columns) = (self.here, self.columns);
            let ordinals = self.postings.unpacked();
            let start = ordinals.partition_point(|known| *known < here);
            let end = start + ordinals[start..].partition_point(|known| *known < window.end);
            let next = ordinals[end - 1] + 1;
            if limited {
                self.postings.each_in(start..end, columns, &mut take)?;
            } else {
                ordinals[start..end].iter().for_each(|ordinal| take(*ordinal, true));
            }
            self.seek(next)?;
        }
        Ok(())
    }
}
