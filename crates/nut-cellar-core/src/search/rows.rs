//! A leaf that is more than a group in one shelf: its alternatives, each a run of terms that have to stand next to each
//! other or in a window. Positions are read last, of records that have all the terms in one column.

use super::group::{Group, Member};
use super::together::Together;
use crate::bits::Bits;
use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{END, Hand, Positions, Shelf, Step, TermEntry, if_at_hand};
use std::ops::Range;
use std::sync::Arc;

/// A term of a run: its likenesses, and where their positions are.
#[derive(Debug)]
pub(super) struct Term {
    pub group: Group,
    pub entries: Vec<TermEntry>,
    /// All positions of each member, once they were asked for.
    pub positions: Vec<Option<Positions>>,
    /// How far it stands from the first; several times, if it comes again.
    pub offsets: Vec<u32>,
}

/// One way to match.
#[derive(Debug)]
pub(super) struct Row {
    pub(super) terms: Vec<Term>,
    pub(super) columns: ColumnSet,
    pub(super) window: Option<u32>,
    /// Whether it does not matter where in its columns the terms stand: it is one term, once, or is not looked at so closely.
    pub(super) anywhere: bool,
    /// Where terms stand in the record that is looked at; reused.
    scratch: Scratch,
    /// What is known of many records at once.
    pub(super) together: Together,
}

#[derive(Debug, Default)]
struct Scratch {
    places: Vec<Place>,
    /// Where a run could begin.
    starts: Vec<Place>,
    /// With the places of the terms in the run.
    of_terms: Vec<(Place, usize)>,
    last: Vec<Option<Place>>,
}

/// A column, and a position in it.
type Place = (usize, u32);

/// The ways to match a leaf that the shelf has all terms of.
#[derive(Debug)]
pub(super) struct Rows {
    ways: Vec<Row>,
    /// Records that match anyway, and how many they are.
    records: Option<Arc<Bits>>,
    count: u64,
    /// The record that was looked at last, and whether it matches.
    known: Option<(u32, bool)>,
}

impl Rows {
    pub fn new(ways: Vec<Row>, records: Option<Arc<Bits>>) -> Self {
        let count = records.as_ref().map_or(0, |records| records.count());
        Self { ways, records, count, known: None }
    }

    /// The records that match and how many they are, if that is known.
    pub fn all(&self) -> Option<(&Bits, u64)> {
        self.records.as_deref().filter(|_| self.ways.is_empty()).map(|records| (records, self.count))
    }

    /// Whether there are records that match whatever their terms.
    pub fn has_records(&self) -> bool {
        self.records.is_some()
    }

    /// Whether windows of records are better looked through together.
    pub fn is_dense(&self) -> bool {
        self.ways.iter().any(Row::is_dense)
    }

    /// About how many records have all terms of a row.
    pub fn cost(&self) -> u64 {
        self.ways.iter().map(Row::cost).sum::<u64>() + self.count
    }

    /// The first record from one on that has all terms of a row, or matches anyway.
    pub fn seek(&mut self, ordinal: u32) -> Result<u32> {
        let records = self.records.as_ref().and_then(|records| records.next(ordinal as usize));
        let least = records.map_or(END, |next| u32::try_from(next).unwrap_or(END));
        Ok(self.seek_ways(ordinal)?.min(least))
    }

    /// The first record from one on that has all terms of a row.
    fn seek_ways(&mut self, ordinal: u32) -> Result<u32> {
        let mut least = END;
        for row in &mut self.ways {
            least = least.min(row.seek(ordinal)?);
        }
        Ok(least)
    }

    /// Adds the records of a window that match; windows ascend.
    pub fn fill(
        &mut self,
        shelf: &Arc<Shelf>,
        hand: &mut Hand,
        window: &Range<u32>,
        bits: &mut Bits,
    ) -> Step<()> {
        if let Some(records) = &self.records {
            bits.add_part(records, window.start as usize);
        }
        for row in &mut self.ways {
            if row.is_dense() {
                // Going on where something is missing, so that all that is missing is noted at once.
                if_at_hand(row.fill_together(shelf, hand, window, bits))?;
                continue;
            }
            let mut at = row.seek(window.start)?;
            while at < window.end {
                if if_at_hand(row.has(shelf, hand, at))?.unwrap_or(false) {
                    bits.set((at - window.start) as usize);
                }
                at = row.seek(at + 1)?;
            }
        }
        Ok(())
    }

    /// Whether a record matches.
    pub fn has(&mut self, shelf: &Arc<Shelf>, hand: &mut Hand, ordinal: u32) -> Step<bool> {
        if let Some((known, has)) = self.known
            && known == ordinal
        {
            return Ok(has);
        }
        let mut has = self.records.as_ref().is_some_and(|records| records.has(ordinal as usize));
        for row in &mut self.ways {
            has = has || row.has(shelf, hand, ordinal)?;
        }
        self.known = Some((ordinal, has));
        Ok(has)
    }
}

impl Row {
    /// Terms that have to stand in the same of these columns: each in its distance from the first, or all in a window of so many
    /// positions. If it is `loose`, they may stand anywhere in these columns.
    pub fn new(terms: Vec<Term>, columns: ColumnSet, window: Option<u32>, loose: bool) -> Self {
        let anywhere = loose || matches!(&terms[..], [only] if only.offsets.len() == 1);
        Self { terms, columns, window, anywhere, scratch: Scratch::default(), together: Together::default() }
    }

    pub(super) fn cost(&self) -> u64 {
        self.terms.iter().map(|term| term.group.cost()).min().unwrap_or(0)
    }

    fn seek(&mut self, ordinal: u32) -> Result<u32> {
        let mut wanted = ordinal;
        'again: loop {
            if wanted == END {
                return Ok(END);
            }
            for term in &mut self.terms {
                let here = term.group.seek(wanted)?;
                if here > wanted {
                    wanted = here;
                    continue 'again;
                }
            }
            return Ok(wanted);
        }
    }

    fn has(&mut self, shelf: &Arc<Shelf>, hand: &mut Hand, ordinal: u32) -> Step<bool> {
        if !self.anywhere
            && let Some(has) = self.has_together(shelf, hand, ordinal)?
        {
            return Ok(has);
        }
        let mut columns = self.columns;
        for term in &mut self.terms {
            if term.group.seek(ordinal)? != ordinal {
                return Ok(false);
            }
            let here = columns.both(term.columns_at(ordinal)?);
            if here.is_empty() {
                return Ok(false);
            }
            if !self.anywhere {
                columns = here;
            }
        }
        match self.window {
            _ if self.anywhere => Ok(true),
            Some(window) => self.in_window(shelf, hand, columns, window),
            None => self.in_a_row(shelf, hand, columns),
        }
    }

    /// Whether the terms follow one another in one of the columns, which all of them are in.
    fn in_a_row(&mut self, shelf: &Arc<Shelf>, hand: &mut Hand, columns: ColumnSet) -> Step<bool> {
        let Scratch { places, starts, .. } = &mut self.scratch;
        // The places where the run could begin, narrowed down term by term.
        let mut is_first = true;
        for term in &mut self.terms {
            term.places(shelf, hand, columns, places)?;
            for &offset in &term.offsets {
                let begun = places.iter().filter_map(|&(column, at)| Some((column, at.checked_sub(offset)?)));
                if std::mem::take(&mut is_first) {
                    starts.clear();
                    starts.extend(begun);
                } else {
                    keep_both(starts, begun);
                }
                if starts.is_empty() {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// Whether the terms stand within so many positions in one of the columns, in any order.
    fn in_window(
        &mut self,
        shelf: &Arc<Shelf>,
        hand: &mut Hand,
        columns: ColumnSet,
        window: u32,
    ) -> Step<bool> {
        let Scratch { places, of_terms, last, .. } = &mut self.scratch;
        of_terms.clear();
        for (number, term) in self.terms.iter_mut().enumerate() {
            term.places(shelf, hand, columns, places)?;
            of_terms.extend(places.iter().map(|place| (*place, number)));
        }
        of_terms.sort_unstable();
        last.clear();
        last.resize(self.terms.len(), None);
        for &((column, at), number) in &*of_terms {
            last[number] = Some((column, at));
            let near = |seen: &Option<Place>| {
                seen.is_some_and(|(known, before)| known == column && at - before < window)
            };
            if last.iter().all(near) {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

/// Keeps of places those that are among others; both ascend.
pub(super) fn keep_both<P: Ord + Copy>(places: &mut Vec<P>, mut others: impl Iterator<Item = P>) {
    let mut other = others.next();
    places.retain(|place| {
        while other.is_some_and(|other| other < *place) {
            other = others.next();
        }
        other == Some(*place)
    });
}

impl Term {
    /// The columns of a record at which the group stands that one of the terms is in.
    fn columns_at(&mut self, ordinal: u32) -> Result<ColumnSet> {
        if let [only] = self.group.members.as_mut_slice() {
            return only.postings.columns_here();
        }
        let mut columns = ColumnSet::default();
        for member in self.group.members.iter_mut().filter(|member| member.here == ordinal) {
            columns = columns.or(member.postings.columns_here()?);
        }
        Ok(columns)
    }

    /// Where in these columns of the record the terms stand, ascending, into `places`.
    fn places(
        &mut self,
        shelf: &Arc<Shelf>,
        hand: &mut Hand,
        columns: ColumnSet,
        places: &mut Vec<Place>,
    ) -> Step<()> {
        places.clear();
        let ordinal = self.group.members.iter().map(|member| member.here).min().unwrap_or(END);
        let each = self.group.members.iter_mut().zip(&self.entries).zip(&mut self.positions);
        for ((member, entry), positions) in each.filter(|((member, _), _)| member.here == ordinal) {
            places_of(shelf, hand, member, entry, positions, columns, places)?;
        }
        hand.complete()?;
        // Those of one term ascend.
        if self.group.members.len() > 1 {
            places.sort_unstable();
            places.dedup();
        }
        Ok(())
    }
}

/// Appends where in these columns of the record at which it stands a member stands.
pub(super) fn places_of(
    shelf: &Arc<Shelf>,
    hand: &mut Hand,
    member: &mut Member,
    entry: &TermEntry,
    positions: &mut Option<Positions>,
    columns: ColumnSet,
    places: &mut Vec<Place>,
) -> Step<()> {
    if positions.is_none() {
        *positions = if_at_hand(shelf.positions(hand, entry))?;
    }
    if let Some(positions) = positions {
        member.postings.read()?;
        positions.of(&member.postings, columns, places)?;
    }
    Ok(())
}
