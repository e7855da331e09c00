//! Which records of a window match, found out for all of them together: a query is a few operations on words of 64 records then.
//!
//! What always holds: windows ascend, as the cursors do.

use super::cursors::{Cursors, LeafCursor};
use super::find::Find;
use super::group::{Group, Member};
use super::plan::Node;
use crate::bits::{Bits, Marks};
use crate::error::Result;
use crate::shelf::{END, Hand, Step, if_at_hand};
use std::ops::Range;
use std::sync::Arc;

/// So many records are looked at together for which of them match.
const TOGETHER: u32 = 1 << 15;

/// The records that match, window by window, where asking record by record would ask too many words. They are asked for in ascending
/// order.
pub(super) struct Filled<'f, 'c> {
    cursors: &'f mut Cursors<'c>,
    find: &'f Find,
    window: Range<u32>,
    bits: Arc<Bits>,
    end: u32,
}

impl<'f, 'c> Filled<'f, 'c> {
    /// Of the records below `end`.
    pub fn new(cursors: &'f mut Cursors<'c>, find: &'f Find, end: u32) -> Self {
        Self { cursors, find, window: 0..0, bits: Arc::default(), end }
    }

    /// Of all records, if it is known which of them match.
    pub fn known(cursors: &'f mut Cursors<'c>, find: &'f Find, bits: Arc<Bits>) -> Self {
        let end = cursors.standing.shelf.records();
        Self { cursors, find, window: 0..end, bits, end }
    }

    /// Whether a record matches.
    pub fn has(&mut self, hand: &mut Hand, root: &Node, ordinal: u32) -> Step<bool> {
        if !self.window.contains(&ordinal) {
            self.find.go_on()?;
            self.window = ordinal..ordinal.saturating_add(TOGETHER).min(self.end);
            let bits = Arc::make_mut(&mut self.bits);
            bits.reset(self.window.len());
            if_at_hand(self.cursors.fill(hand, root, &self.window, bits))?;
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
    pub(super) fn fill_again(&mut self, hand: &mut Hand, leaf: usize, window: &Range<u32>) -> Step<()> {
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
            LeafCursor::Word(word) => self.words[*word].group.fill(window, bits)?,
            LeafCursor::Rows(rows) => {
                if_at_hand(rows.fill(&self.standing.shelf, hand, window, bits))?;
            }
        }
        Ok(())
    }

    /// The word of a leaf that stands nowhere else in the query, if the node is one.
    fn only_word(&self, node: &Node) -> Option<usize> {
        let Node::Leaf(leaf) = node else { return None };
        match self.leaves[*leaf] {
            LeafCursor::Word(word) if self.places[*leaf] == 1 => Some(word),
            _ => None,
        }
    }

    /// Whether a node is a word that is better put together as bytes.
    fn is_common(&self, node: &Node) -> bool {
        self.only_word(node).is_some_and(|word| self.are_many(self.words[word].group.unknown()))
    }

    fn are_many(&self, postings: u64) -> bool {
        postings >= u64::from(self.standing.shelf.records()) / 2
    }

    /// Adds the records of a window that match one of these nodes. Words that many records have are put together as bytes.
    fn fill_any(
        &mut self,
        hand: &mut Hand,
        parts: &[Node],
        window: &Range<u32>,
        bits: &mut Bits,
    ) -> Step<()> {
        let words = parts.iter().filter_map(|part| self.only_word(part));
        let postings: u64 = words.map(|word| self.words[word].group.unknown()).sum();
        let are_many = self.are_many(postings);
        let mut marks = std::mem::take(&mut self.marks);
        marks.reset(if are_many { (window.end - window.start) as usize } else { 0 });
        for part in parts {
            match self.only_word(part) {
                Some(word) if are_many && !self.words[word].group.is_dense() => {
                    self.words[word].group.fill(window, &mut marks)?;
                }
                Some(word) => self.words[word].group.fill(window, bits)?,
                None => self.fill(hand, part, window, bits)?,
            }
        }
        marks.add_to(bits);
        self.marks = marks;
        Ok(())
    }

    /// The only term of a node that every record matches which has it.
    fn only_member(&mut self, node: &Node) -> Option<&mut Member> {
        let word = self.only_word(node)?;
        let group = &mut self.words[word].group;
        let is_plain = !group.is_limited() && group.members.len() == 1;
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
            Node::Leaf(_) if self.is_common(node) => {
                self.fill_any(hand, std::slice::from_ref(node), window, bits)?;
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
                    if let (Node::Test(test), Some(both)) = (part, &mut both)
                        && self.tests[*test].set().is_none()
                    {
                        // Those that are left are asked, not all of the window.
                        let mut kept = Bits::new(size);
                        for place in both.iter() {
                            let ordinal = window.start + u32::try_from(place).unwrap_or(u32::MAX);
                            let holds = if_at_hand(self.tests[*test].holds(hand, ordinal))?;
                            kept.put(place, holds.unwrap_or(true));
                        }
                        *both = kept;
                        continue;
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
            Node::Any(parts) => self.fill_any(hand, parts, window, bits)?,
            Node::AtLeast(count, parts) => {
                let (mut counts, mut inner) = (vec![0_u16; size], Bits::new(size));
                // The parts that few records match come first. Who has too few of them can't have enough of all.
                let (mut look, spare) = (1, parts.len().saturating_sub(*count));
                for (number, part) in parts.iter().enumerate() {
                    if number == spare + look {
                        if !counts.iter().any(|has| usize::from(*has) >= look) {
                            return Ok(());
                        }
                        look *= 2;
                    }
                    if let Some(member) = self.only_member(part) {
                        member.fill(window, false, counts.as_mut_slice())?;
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

/// What takes records of a window, by their places in it.
trait TakePlaces {
    /// Takes the places of records, of a window that begins at `first`.
    fn take_all(&mut self, ordinals: &[u32], first: u32);

    /// Takes a place, if it counts.
    fn take(&mut self, place: usize, counts: bool);

    /// Takes the places of a part of a set that begins at a record, if that is faster than to take them one after the other.
    fn take_set(&mut self, _records: &Bits, _first: u32) -> bool {
        false
    }
}

impl TakePlaces for Bits {
    fn take_all(&mut self, ordinals: &[u32], first: u32) {
        self.set_all(ordinals.iter().map(|ordinal| (ordinal - first) as usize));
    }

    fn take(&mut self, place: usize, counts: bool) {
        self.put(place, counts);
    }

    fn take_set(&mut self, records: &Bits, first: u32) -> bool {
        self.add_part(records, first as usize);
        true
    }
}

impl TakePlaces for Marks {
    fn take_all(&mut self, ordinals: &[u32], first: u32) {
        let bytes = self.bytes();
        for ordinal in ordinals {
            bytes[(ordinal - first) as usize] = 1;
        }
    }

    fn take(&mut self, place: usize, counts: bool) {
        self.bytes()[place] |= u8::from(counts);
    }
}

/// How many of several words each record has.
impl TakePlaces for [u16] {
    fn take_all(&mut self, ordinals: &[u32], first: u32) {
        for ordinal in ordinals {
            self[(ordinal - first) as usize] += 1;
        }
    }

    fn take(&mut self, place: usize, counts: bool) {
        self[place] += u16::from(counts);
    }
}

impl Group {
    /// Gives `into` the records of a window that have one of the terms in a column in which it counts.
    fn fill(&mut self, window: &Range<u32>, into: &mut (impl TakePlaces + ?Sized)) -> Result<()> {
        let limited = self.is_limited();
        self.members.iter_mut().try_for_each(|member| member.fill(window, limited, into))
    }
}

impl Member {
    /// Gives `into` the records of a window that have the term.
    fn fill(
        &mut self,
        window: &Range<u32>,
        limited: bool,
        into: &mut (impl TakePlaces + ?Sized),
    ) -> Result<()> {
        if let Some(records) = &self.records
            && into.take_set(records, window.start)
        {
            return Ok(());
        }
        self.seek(window.start)?;
        debug_assert_eq!(self.here, self.postings.ordinal(), "a member stands where its postings do");
        while self.here < window.end {
            let (start, ordinals) = (self.postings.place(), self.postings.unpacked());
            let end = match ordinals.last() {
                Some(last) if *last < window.end => ordinals.len(),
                _ => start + ordinals[start..].partition_point(|known| *known < window.end),
            };
            if limited {
                let take = |ordinal, counts| into.take((ordinal - window.start) as usize, counts);
                self.postings.each_in(start..end, self.columns, take)?;
            } else {
                into.take_all(&ordinals[start..end], window.start);
            }
            self.here = self.postings.go_to(end)?;
        }
        Ok(())
    }
}
