//! What each record of a shelf is made of, as a number: terms with their places, lengths, values. Records that are made of the same
//! have the same number, in whatever shelf; others have the same about once in 2⁶⁴ times.
//!
//! What always holds: a number depends on nothing but the record, as long as the program runs.

use crate::error::Result;
use crate::schema::{Kind, Schema};
use crate::shelf::format::directory::Section;
use crate::shelf::format::terms::{Listed, read_name};
use crate::shelf::format::values::ValueColumn;
use crate::shelf::read::reader::Shelf;
use crate::shelf::read::reading::{ShelfReading, Walk};
use crate::store::View;
use crate::wire::Reader;
use foldhash::fast::FixedState;
use std::hash::{BuildHasher, Hash};
use std::sync::Arc;

/// The number of each record, by its ordinal. Reads all of the shelf but for its keys; takes memory for the numbers and for the
/// exact values.
pub(crate) fn digests(view: &dyn View, shelf: &Arc<Shelf>, schema: &Schema) -> Result<Vec<u64>> {
    let mut digests = Digests { of: vec![0; shelf.records() as usize], state: FixedState::default() };
    let mut reading = ShelfReading::new(view, shelf);
    for column in 0..shelf.columns() {
        for (ordinal, length) in (0..).zip(reading.lengths(column)?) {
            digests.add(ordinal, &(column, length));
        }
    }
    let mut terms = Walk::terms(view, shelf)?;
    let mut places = Vec::new();
    while let Some((name, listed)) = terms.next()? {
        let broken = |what| shelf.broken(Section::Terms, what);
        let (text, stemming, _) = read_name(&name).map_err(broken)?;
        let stemming = &shelf.stemmings().get(usize::from(stemming));
        let (forms, entry) = match listed {
            Listed::Own(entry) => (vec![text.to_owned()], entry),
            Listed::Class(class) => (class.forms.into_iter().map(|(term, _)| term).collect(), class.whole),
            Listed::Form(_) => continue,
        };
        let forms: Vec<_> = forms.iter().map(|term| digests.state.hash_one((term, stemming))).collect();
        let mut postings = reading.read(|shelf, held| shelf.postings(held, &entry))?;
        let mut positions = reading.read(|shelf, held| shelf.positions(held, &entry))?;
        while postings.advance()? {
            postings.read()?;
            places.clear();
            positions.each(&postings, postings.columns(), |column, position, occurrence| {
                places.push((postings.form_at(occurrence), column, position));
            })?;
            for (form, column, position) in &places {
                digests.add(postings.ordinal(), &(forms[*form as usize], column, position));
            }
        }
    }
    let mut kept = Walk::kept(view, shelf)?;
    while let Some(block) = kept.next()? {
        let broken = |what| shelf.broken(Section::Kept, what);
        let bytes = block.unpack().map_err(broken)?;
        let mut reader = Reader::new(&bytes);
        for ordinal in (block.first..shelf.records()).take(block.records as usize) {
            digests.add(ordinal, &reader.bytes().map_err(broken)?);
        }
    }
    let (mut exact, mut walk) = (Vec::new(), Walk::exact(view, shelf)?);
    while let Some(value) = walk.next()? {
        exact.push(digests.state.hash_one(&value));
    }
    for (place, (_, column)) in schema.value_columns().enumerate() {
        let mut values = ValueColumn::new(shelf, place);
        for ordinal in 0..shelf.records() {
            reading.read(|_, held| values.of(held, ordinal).map(|_| ()))?;
            for value in values.here(ordinal) {
                // Numbers of exact values are the shelf's own.
                let number = usize::try_from(*value).ok().and_then(|place| exact.get(place));
                let value = number.filter(|_| column.kind() == Kind::Exact).unwrap_or(value);
                digests.add(ordinal, &(place, *value));
            }
        }
    }
    Ok(digests.of)
}

struct Digests {
    of: Vec<u64>,
    state: FixedState,
}

impl Digests {
    /// Adds a part of a record; the order of parts does not matter.
    fn add(&mut self, ordinal: u32, part: &impl Hash) {
        let part = self.state.hash_one(part);
        if let Some(digest) = self.of.get_mut(ordinal as usize) {
            *digest = digest.wrapping_add(part);
        }
    }
}
