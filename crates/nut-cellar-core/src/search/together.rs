//! Terms in a row, or in a window of positions, looked for in many records at once: which records have all of the terms is a few
//! operations on words of 64 records, and where terms stand is read block by block. For words that many records have that takes less
//! time than to ask [record by record](super::rows).
//!
//! What always holds: windows of records ascend, and have places in the lists of their own.

use super::rows::{Row, Term, keep_both};
use crate::bits::{Bits, each_in};
use crate::error::Result;
use crate::shelf::{Hand, POSITIONS, Pairs, Place, Places, Postings, RECORD, Shelf, Step, if_at_hand};
use std::ops::Range;
use std::sync::Arc;

/// So many records are looked at together, if records are asked for one by one.
const TOGETHER: u32 = 1 << 13;
/// Asking for a record takes as long as so many postings take in a window.
const ASKED: u64 = 32;
/// In a window that is given, looking for what the rarest term has takes as long as so many postings take.
const SOUGHT: u64 = 8;
/// Where a list that is unpacked has so many postings in a window for each that is wanted, it is asked for these.
const FEW: u64 = 8;
/// Terms of fewer records are not worth looking through windows.
const MANY: u64 = 1 << 13;

/// What is known of the window that was looked at last.
#[derive(Debug, Default)]
pub(super) struct Together {
    /// For each term of the row the postings of its members.
    lists: Vec<Vec<Postings>>,
    window: Range<u32>,
    /// The records of the window that match, once they were looked for.
    bits: Option<Bits>,
    /// For how many of its records was asked.
    asked: u64,
    /// Where the terms could begin, and where each of them stands; reused.
    starts: Vec<Place>,
    places: Vec<Vec<Place>>,
}

/// Where terms are looked for.
struct Among<'a> {
    window: &'a Range<u32>,
    /// The records of the window that have all terms.
    candidates: &'a Bits,
    /// How many records the shelf has.
    records: u32,
    /// What postings say of the columns of the row.
    pairs: Pairs,
}

impl Row {
    /// Whether a record matches, if so many are asked for that a window was looked through. Records are asked for in ascending
    /// order.
    pub(super) fn has_together(
        &mut self,
        shelf: &Arc<Shelf>,
        hand: &mut Hand,
        ordinal: u32,
    ) -> Step<Option<bool>> {
        let enough = 1 + self.postings() * u64::from(TOGETHER) / u64::from(shelf.records()).max(1) / ASKED;
        let known = &mut self.together;
        let mut look = false;
        if !known.window.contains(&ordinal) {
            // About as many will be asked for as in the window before.
            look = known.asked >= enough;
            (known.window, known.bits) =
                (ordinal..ordinal.saturating_add(TOGETHER).min(shelf.records()), None);
            known.asked = 0;
        }
        known.asked += 1;
        if look || (known.bits.is_none() && known.asked > enough) {
            let window = ordinal..known.window.end;
            let mut bits = Bits::new(window.len());
            self.fill_together(shelf, hand, &window, &mut bits)?;
            (self.together.window, self.together.bits) = (window, Some(bits));
        }
        let Together { window, bits, .. } = &self.together;
        Ok(bits.as_ref().map(|bits| bits.has((ordinal - window.start) as usize)))
    }

    fn postings(&self) -> u64 {
        self.terms.iter().map(|term| term.group.cost()).sum()
    }

    /// Whether the rarest term has so many records that windows are better looked through together.
    pub(super) fn is_dense(&self) -> bool {
        self.cost() >= MANY && self.cost().saturating_mul(SOUGHT) >= self.postings()
    }

    /// Adds the records of a window that match.
    pub(super) fn fill_together(
        &mut self,
        shelf: &Arc<Shelf>,
        hand: &mut Hand,
        window: &Range<u32>,
        bits: &mut Bits,
    ) -> Step<()> {
        for term in self.terms.iter_mut().filter(|_| !self.anywhere) {
            for (entry, positions) in term.entries.iter().zip(&mut term.positions) {
                if positions.is_none() {
                    *positions = if_at_hand(shelf.positions(hand, entry))?;
                }
            }
        }
        hand.complete()?;
        if self.together.lists.is_empty() {
            let lists =
                |term: &Term| term.group.members.iter().map(|member| member.postings.clone()).collect();
            self.together.lists = self.terms.iter().map(lists).collect();
            self.together.places = vec![Vec::new(); self.terms.len()];
        }
        let limited = self.anywhere && (0..shelf.columns()).any(|column| !self.columns.has(column));
        let Some(candidates) = self.candidates(window, limited)? else { return Ok(()) };
        if self.anywhere {
            bits.add(&candidates);
            return Ok(());
        }
        let pairs = Pairs::new(shelf, self.columns);
        let among = Among { window, candidates: &candidates, records: shelf.records(), pairs };
        match self.window {
            Some(near) => self.near(&among, near, bits)?,
            None => self.following(&among, bits)?,
        }
        Ok(())
    }

    /// The records of a window that have all of the terms, in columns of the row if they are `limited`; none if there are none.
    fn candidates(&mut self, window: &Range<u32>, limited: bool) -> Result<Option<Bits>> {
        let mut all: Option<Bits> = None;
        for lists in &mut self.together.lists {
            let mut having = Bits::new(window.len());
            for postings in lists {
                if let (Some(dense), false) = (postings.dense(), limited) {
                    having.add_part(dense.bits(), window.start as usize);
                    continue;
                }
                each_block(postings, window, |postings, inside| {
                    let mut put = |ordinal, has| having.put((ordinal - window.start) as usize, has);
                    if limited {
                        return postings.each_in(inside, self.columns, put);
                    }
                    postings.unpacked()[inside].iter().for_each(|ordinal| put(*ordinal, true));
                    Ok(())
                })?;
            }
            match &mut all {
                Some(all) => all.keep(&having),
                none => *none = Some(having),
            }
        }
        Ok(all.filter(|all| !all.is_empty()))
    }

    /// Adds those of the candidates that have the terms one after the other.
    fn following(&mut self, among: &Among<'_>, bits: &mut Bits) -> Result<()> {
        let Together { lists, starts, places, .. } = &mut self.together;
        let mut is_first = true;
        for ((term, lists), places) in self.terms.iter_mut().zip(lists).zip(places) {
            term.places_in(lists, among, places)?;
            for &offset in &term.offsets {
                let begins = |place: &&Place| **place & u64::from(u32::MAX) >= u64::from(offset);
                let begun = places.iter().filter(begins).map(|place| place - u64::from(offset));
                if std::mem::take(&mut is_first) {
                    starts.clear();
                    starts.extend(begun);
                } else {
                    keep_both(starts, begun);
                }
            }
        }
        for place in &*starts {
            bits.set(record_of(*place));
        }
        Ok(())
    }

    /// Adds those of the candidates that have the terms within so many positions, in any order.
    fn near(&mut self, among: &Among<'_>, near: u32, bits: &mut Bits) -> Result<()> {
        let Together { lists, places, .. } = &mut self.together;
        for ((term, lists), places) in self.terms.iter_mut().zip(lists).zip(&mut *places) {
            term.places_in(lists, among, places)?;
        }
        // Places of other columns are farther away than any two of one.
        let near = Place::from(near.min(POSITIONS));
        // The first of each that was not passed over. Without a branch, which would be taken as often as not.
        let Some(mut heads) = places.iter().map(|places| places.first().copied()).collect::<Option<Vec<_>>>()
        else {
            return Ok(());
        };
        let mut passed = vec![0; places.len()];
        loop {
            let (mut least, mut of_term, mut greatest) = (Place::MAX, 0, 0);
            for (term, &place) in heads.iter().enumerate() {
                (least, of_term) = if place < least { (place, term) } else { (least, of_term) };
                greatest = greatest.max(place);
            }
            bits.put(record_of(least), greatest - least < near);
            passed[of_term] += 1;
            let Some(next) = places[of_term].get(passed[of_term]) else { return Ok(()) };
            heads[of_term] = *next;
        }
    }
}

impl Term {
    /// Where in the candidates, in the columns of the row, one of the terms stands: ascending.
    fn places_in(
        &mut self,
        lists: &mut [Postings],
        among: &Among<'_>,
        places: &mut Vec<Place>,
    ) -> Result<()> {
        let Among { window, candidates, .. } = among;
        places.clear();
        let mut wanted = Vec::new();
        let mut records = Vec::new();
        each_in(candidates.words().iter().copied(), &(0..window.end - window.start), |place| {
            records.push(window.start + place);
        });
        for (postings, positions) in lists.iter_mut().zip(self.positions.iter_mut().flatten()) {
            let mut here = Places::new(positions, &among.pairs, window.start, places);
            let inside = u64::from(postings.records()) * window.len() as u64 / u64::from(among.records);
            if let Some(dense) = postings.dense().filter(|_| records.len() as u64 * FEW < inside).cloned() {
                postings.each_of(&dense, &records, &mut here)?;
                here.finish()?;
                continue;
            }
            each_block(postings, window, |postings, inside| {
                // Without a branch, which would be taken as often as not.
                let mut count = 0;
                wanted.resize(inside.len() + 1, 0);
                for (place, ordinal) in inside.clone().zip(&postings.unpacked()[inside]) {
                    wanted[count] = place;
                    count += usize::from(candidates.has((ordinal - window.start) as usize));
                }
                postings.each_read(&wanted[..count], &mut here)
            })?;
            here.finish()?;
        }
        if lists.len() > 1 {
            // Of each list they ascend, so they are only merged.
            #[expect(
                clippy::stable_sort_primitive,
                reason = "it is the stable sort that finds what ascends"
            )]
            places.sort();
            places.dedup();
        }
        Ok(())
    }
}

/// Unpacks the blocks that have postings in a window; `look` is told where in the block these stand.
fn each_block(
    postings: &mut Postings,
    window: &Range<u32>,
    mut look: impl FnMut(&mut Postings, Range<usize>) -> Result<()>,
) -> Result<()> {
    let mut block = postings.block_with(0, window.start);
    while block < postings.blocks() {
        postings.enter(block)?;
        let ordinals = postings.unpacked();
        let start = ordinals.partition_point(|ordinal| *ordinal < window.start);
        let end = start + ordinals[start..].partition_point(|ordinal| *ordinal < window.end);
        look(postings, start..end)?;
        if postings.last_of(block) >= window.end {
            break;
        }
        block += 1;
    }
    Ok(())
}

fn record_of(place: Place) -> usize {
    usize::try_from(place >> RECORD).unwrap_or(usize::MAX)
}
