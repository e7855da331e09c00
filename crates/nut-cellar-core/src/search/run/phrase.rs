//! A leaf that is more than a word in one shelf: its alternatives, each a run of terms that have to stand next to each other or in a
//! window. Where terms stand is read last, of records that have all the terms; of many records at once, block by block, where the rarest
//! term has many.
//!
//! What always holds: a place is a number that sorts by record, column and position, so records are matched alike, however many are looked
//! at together.

use super::word::WordCursor;
use crate::bits::Bits;
use crate::error::Result;
use crate::schema::ColumnSet;
use crate::shelf::{END, Held, POSITIONS, Positions, Postings, Shelf, Step, TermEntry, if_held};
use std::ops::Range;
use std::sync::Arc;

/// Where a term stands: the number of a record in the highest bits, then the column, then the position.
pub(super) type Place = u64;
/// Where the column begins, and where the record does.
const COLUMN: u32 = 32;
const RECORD: u32 = 38;

/// In a window, looking for what the rarest term has takes as long as so many postings take.
const SOUGHT: u64 = 8;
/// Terms of fewer records are not worth looking through windows.
const COMMON: u64 = 1 << 13;

/// A term of a phrase, and where its positions are.
#[derive(Debug)]
pub(in crate::search) struct PhraseTerm {
    pub cursor: WordCursor,
    pub entries: Vec<TermEntry>,
    /// The positions of each of its terms, once they were asked for.
    pub positions: Vec<Option<Positions>>,
    /// How far it stands from the first; several times, if it comes again.
    pub offsets: Vec<u32>,
}

/// One way to match.
#[derive(Debug)]
pub(super) struct Phrase {
    terms: Vec<PhraseTerm>,
    columns: ColumnSet,
    window: Option<u32>,
    /// Whether it does not matter where in its columns the terms stand: it is one term, once, or is not looked at so closely.
    anywhere: bool,
    /// Where each term stands in the records that are looked at, and where the phrase could begin; reused.
    places: Vec<Vec<Place>>,
    starts: Vec<Place>,
}

/// The ways to match a leaf that the shelf has all terms of.
#[derive(Debug)]
pub(super) struct PhraseCursor {
    ways: Vec<Phrase>,
    /// Records that match anyway, and how many they are.
    records: Option<Arc<Bits>>,
    count: u64,
    /// The record that was looked at last, and whether it matches.
    known: Option<(u32, bool)>,
}

impl PhraseCursor {
    pub fn new(ways: Vec<Phrase>, records: Option<Arc<Bits>>) -> Self {
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
    pub fn is_common(&self) -> bool {
        self.ways.iter().any(Phrase::is_common)
    }

    /// About how many records have all terms of a way.
    pub fn cost(&self) -> u64 {
        self.ways.iter().map(Phrase::cost).sum::<u64>() + self.count
    }

    /// The first record from one on that has all terms of a way, or matches anyway.
    pub fn seek(&mut self, ordinal: u32) -> Result<u32> {
        let records = self.records.as_ref().and_then(|records| records.next(ordinal as usize));
        let mut least = records.map_or(END, |next| u32::try_from(next).unwrap_or(END));
        for way in &mut self.ways {
            least = least.min(way.seek(ordinal)?);
        }
        Ok(least)
    }

    /// Adds the records of a window that match; windows ascend.
    pub fn fill(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        window: &Range<u32>,
        bits: &mut Bits,
    ) -> Step<()> {
        if let Some(records) = &self.records {
            bits.add_part(records, window.start as usize);
        }
        for way in &mut self.ways {
            if way.is_common() {
                // Going on where something is missing, so that all that is missing is noted at once.
                if_held(way.fill(shelf, held, window, bits))?;
                continue;
            }
            let mut at = way.seek(window.start)?;
            while at < window.end {
                if if_held(way.has(shelf, held, at))?.unwrap_or(false) {
                    bits.set((at - window.start) as usize);
                }
                at = way.seek(at + 1)?;
            }
        }
        Ok(())
    }

    /// Whether a record matches.
    pub fn has(&mut self, shelf: &Arc<Shelf>, held: &mut Held, ordinal: u32) -> Step<bool> {
        if let Some((known, has)) = self.known
            && known == ordinal
        {
            return Ok(has);
        }
        let mut has = self.records.as_ref().is_some_and(|records| records.has(ordinal as usize));
        for way in &mut self.ways {
            has = has || way.has(shelf, held, ordinal)?;
        }
        self.known = Some((ordinal, has));
        Ok(has)
    }
}

impl Phrase {
    /// Terms that have to stand in the same of these columns: each in its distance from the first, or all in a window of so many
    /// positions. If it is `loose`, they may stand anywhere in these columns.
    pub fn new(terms: Vec<PhraseTerm>, columns: ColumnSet, window: Option<u32>, loose: bool) -> Self {
        let anywhere = loose || matches!(&terms[..], [only] if only.offsets.len() == 1);
        let places = vec![Vec::new(); terms.len()];
        Self { terms, columns, window, anywhere, places, starts: Vec::new() }
    }

    fn cost(&self) -> u64 {
        self.terms.iter().map(|term| term.cursor.cost()).min().unwrap_or(0)
    }

    /// Whether the rarest term has so many records that windows are better looked through together.
    fn is_common(&self) -> bool {
        let postings: u64 = self.terms.iter().map(|term| term.cursor.cost()).sum();
        self.cost() >= COMMON && self.cost().saturating_mul(SOUGHT) >= postings
    }

    fn seek(&mut self, ordinal: u32) -> Result<u32> {
        let mut wanted = ordinal;
        'again: loop {
            if wanted == END {
                return Ok(END);
            }
            for term in &mut self.terms {
                let here = term.cursor.seek(wanted)?;
                if here > wanted {
                    wanted = here;
                    continue 'again;
                }
            }
            return Ok(wanted);
        }
    }

    /// Whether a record matches.
    fn has(&mut self, shelf: &Arc<Shelf>, held: &mut Held, ordinal: u32) -> Step<bool> {
        let mut columns = self.columns;
        for term in &mut self.terms {
            if term.cursor.seek(ordinal)? != ordinal {
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
        if self.anywhere {
            return Ok(true);
        }
        for (term, places) in self.terms.iter_mut().zip(&mut self.places) {
            places.clear();
            term.places(shelf, held, ordinal, Some(columns), places)?;
        }
        held.complete()?;
        let mut has = false;
        self.join(|_| has = true);
        Ok(has)
    }

    /// Adds the records of a window that match.
    fn fill(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        window: &Range<u32>,
        bits: &mut Bits,
    ) -> Step<()> {
        if !self.anywhere {
            for term in &mut self.terms {
                term.read_positions(shelf, held)?;
            }
        }
        held.complete()?;
        let Some(candidates) = self.candidates(shelf, window)? else { return Ok(()) };
        if self.anywhere {
            bits.add(&candidates);
            return Ok(());
        }
        for (term, places) in self.terms.iter_mut().zip(&mut self.places) {
            term.places_in(window, &candidates, self.columns, places)?;
        }
        self.join(|record| bits.set(record));
        Ok(())
    }

    /// The records of a window that have all of the terms, in whatever column unless that is all that matters; none if there are none.
    fn candidates(&mut self, shelf: &Shelf, window: &Range<u32>) -> Result<Option<Bits>> {
        let limited = self.anywhere && (0..shelf.columns()).any(|column| !self.columns.has(column));
        let mut all: Option<Bits> = None;
        for term in &mut self.terms {
            let mut having = Bits::new(window.len());
            for term in &mut term.cursor.terms {
                term.fill(window, limited, &mut having)?;
            }
            match &mut all {
                Some(all) => all.keep(&having),
                none => *none = Some(having),
            }
        }
        Ok(all.filter(|all| !all.is_empty()))
    }

    /// Gives `found` the numbers of the records in which the terms stand as they have to, by where each of them stands.
    fn join(&mut self, found: impl FnMut(usize)) {
        match self.window {
            Some(window) => near(&self.places, window, found),
            None => self.following(found),
        }
    }

    /// The records in which the terms follow one another: the places where they could begin are narrowed down term by term.
    fn following(&mut self, mut found: impl FnMut(usize)) {
        let Self { terms, places, starts, .. } = self;
        let mut is_first = true;
        for (term, places) in terms.iter().zip(places) {
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
        for place in starts {
            found(record_of(*place));
        }
    }
}

/// The records in which one of each of these places lie within so many positions, in any order.
fn near(places: &[Vec<Place>], window: u32, mut found: impl FnMut(usize)) {
    // Places of other columns are farther away than any two of one.
    let window = Place::from(window.min(POSITIONS));
    // The first of each that was not passed over. Without a branch, which would be taken as often as not.
    let heads = places.iter().map(|places| places.first().copied()).collect::<Option<Vec<_>>>();
    let Some(mut heads) = heads else { return };
    let mut passed = vec![0; places.len()];
    loop {
        let (mut least, mut of_term, mut greatest) = (Place::MAX, 0, 0);
        for (term, &place) in heads.iter().enumerate() {
            (least, of_term) = if place < least { (place, term) } else { (least, of_term) };
            greatest = greatest.max(place);
        }
        if greatest - least < window {
            found(record_of(least));
        }
        passed[of_term] += 1;
        let Some(next) = places[of_term].get(passed[of_term]) else { return };
        heads[of_term] = *next;
    }
}

/// The least distance at which places of two different words stand in one column; places ascend.
pub(super) fn least_distance(places: &[(Place, usize)]) -> Option<u32> {
    let mut least: Option<Place> = None;
    // The last place of the word at hand, and the last one of another word.
    let (mut same, mut other): (Option<(Place, usize)>, Option<Place>) = (None, None);
    for &(place, word) in places {
        if let Some((before, last)) = same
            && last != word
        {
            other = Some(before);
        }
        if let Some(before) = other.filter(|before| before >> COLUMN == place >> COLUMN) {
            least = Some(least.map_or(place - before, |least| least.min(place - before)));
        }
        same = Some((place, word));
    }
    least.and_then(|least| u32::try_from(least).ok())
}

/// Keeps of places those that are among others; both ascend.
fn keep_both(places: &mut Vec<Place>, mut others: impl Iterator<Item = Place>) {
    let mut other = others.next();
    places.retain(|place| {
        while other.is_some_and(|other| other < *place) {
            other = others.next();
        }
        other == Some(*place)
    });
}

fn record_of(place: Place) -> usize {
    usize::try_from(place >> RECORD).unwrap_or(usize::MAX)
}

impl PhraseTerm {
    /// Asks for all positions.
    fn read_positions(&mut self, shelf: &Arc<Shelf>, held: &mut Held) -> Step<()> {
        for (entry, positions) in self.entries.iter().zip(&mut self.positions) {
            if positions.is_none() {
                *positions = if_held(shelf.positions(held, entry))?;
            }
        }
        Ok(())
    }

    /// The columns of a record at which it stands that one of the terms is in.
    fn columns_at(&mut self, ordinal: u32) -> Result<ColumnSet> {
        let mut columns = ColumnSet::default();
        for term in self.cursor.terms.iter_mut().filter(|term| term.here == ordinal) {
            columns = columns.or(term.postings.columns_here()?);
        }
        Ok(columns)
    }

    /// Appends where in these columns, or in those in which each term counts, the terms stand in a record at which it stands: ascending, as
    /// places of the record with the number 0.
    pub(super) fn places(
        &mut self,
        shelf: &Arc<Shelf>,
        held: &mut Held,
        ordinal: u32,
        columns: Option<ColumnSet>,
        places: &mut Vec<Place>,
    ) -> Step<()> {
        self.read_positions(shelf, held)?;
        let each = self.cursor.terms.iter_mut().zip(&mut self.positions);
        for (term, positions) in each.filter(|(term, _)| term.here == ordinal) {
            let Some(positions) = positions else { continue };
            term.postings.read()?;
            append(positions, &term.postings, columns.unwrap_or(term.columns), 0, places)?;
        }
        if self.cursor.terms.len() > 1 {
            in_order(places);
        }
        Ok(())
    }

    /// Where in the candidates of a window, in these columns, one of the terms stands: ascending, as places of records that are numbered from
    /// the start of the window.
    fn places_in(
        &mut self,
        window: &Range<u32>,
        candidates: &Bits,
        columns: ColumnSet,
        places: &mut Vec<Place>,
    ) -> Result<()> {
        places.clear();
        for (term, positions) in self.cursor.terms.iter_mut().zip(self.positions.iter_mut().flatten()) {
            term.postings.each_block_in(window, |postings, inside| {
                for place in inside {
                    let record = postings.unpacked()[place] - window.start;
                    if candidates.has(record as usize) {
                        postings.stand(place);
                        postings.read()?;
                        append(positions, postings, columns, record, places)?;
                    }
                }
                Ok(())
            })?;
        }
        if self.cursor.terms.len() > 1 {
            in_order(places);
        }
        Ok(())
    }
}

/// Appends where in these columns a term stands in the record at which postings stand, which has a number.
fn append(
    positions: &mut Positions,
    postings: &Postings,
    columns: ColumnSet,
    record: u32,
    places: &mut Vec<Place>,
) -> Result<()> {
    let record = Place::from(record) << RECORD;
    positions.of(postings, columns, |column, position| {
        places.push(record | (column as Place) << COLUMN | Place::from(position));
    })
}

/// Puts places of several lists in order, of each of which they ascend; so they are only merged.
#[expect(clippy::stable_sort_primitive, reason = "it is the stable sort that finds what ascends")]
fn in_order(places: &mut Vec<Place>) {
    places.sort();
    places.dedup();
}
