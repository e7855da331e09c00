//! The builder: records in, a sealed shelf out.
//!
//! Tokens go to one flat log in the order in which they come; sealing sorts it by term with one counting pass and
//! writes the sections from front to back, so that a place can take them as a stream. Records may come in any key
//! order; of several puts of one key the last one counts.

use super::directory::Section;
use super::forms::FormWriter;
use super::kept::KeptWriter;
use super::output::{Output, Said};
use super::postings::PostingWriter;
use super::terms::{TermEntry, TermWriter};
use super::{kept, keys, lengths};
use crate::error::{Error, ErrorKind, Result};
use crate::record::{Key, Record, Value};
use crate::schema::{Column, Schema};
use crate::store::{PieceId, ShelfEntry, Unit};
use crate::text::{Memory, Recipe, Recipes, read};
use hashbrown::HashMap;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

/// Between two values of one column this many positions are left out, so that no phrase reaches from one to the next.
pub(crate) const VALUE_GAP: u32 = 16;

/// Postings in a block, unless something else is asked for.
const BLOCK: u8 = 128;

/// Gathers records in memory until they are sealed as a shelf.
#[derive(Debug)]
pub struct Builder {
    schema: Arc<Schema>,
    /// The number of postings in a block.
    block: u8,
    /// For each text column how it is read, and what became of words that were read before.
    recipes: Vec<(Recipes, Vec<Memory>)>,
    terms: HashMap<String, u32>,
    term_bytes: usize,
    log: Vec<Occurrence>,
    arrivals: Vec<Arrival>,
    /// For each arrival, for each text column, the number of positions.
    lengths: Vec<u32>,
    kept: Vec<u8>,
    latest: HashMap<Vec<u8>, u32>,
    key_bytes: usize,
}

/// One token: which term, in which record, where.
#[derive(Clone, Copy, Debug)]
struct Occurrence {
    term: u32,
    arrival: u32,
    position: u32,
    column: u8,
}

#[derive(Debug)]
struct Arrival {
    kept: Range<usize>,
}

/// A shelf that has just been written.
#[derive(Debug)]
pub struct Sealed {
    /// What the manifest has to say of it.
    pub entry: ShelfEntry,
    /// The encoded keys of its records, ascending.
    pub keys: Vec<Vec<u8>>,
}

/// The records that will stand in the shelf.
struct Order {
    /// The encoded keys, ascending; their places are the ordinals.
    keys: Vec<Vec<u8>>,
    /// For each ordinal the arrival.
    arrivals: Vec<u32>,
    /// For each arrival the ordinal; `None` if a later put or a removal superseded it.
    ordinals: Vec<Option<u32>>,
}

impl Builder {
    /// A builder without records.
    pub fn new(schema: Arc<Schema>) -> Self {
        let recipe = |column: &Column| {
            let recipes = Recipes::of(column.text_settings());
            let memories = recipes.all().map(|_| Memory::default()).collect();
            (recipes, memories)
        };
        let recipes = schema.text_columns().map(|(_, column)| recipe(column)).collect();
        Self {
            schema,
            block: BLOCK,
            recipes,
            terms: HashMap::new(),
            term_bytes: 0,
            log: Vec::new(),
            arrivals: Vec::new(),
            lengths: Vec::new(),
            kept: Vec::new(),
            latest: HashMap::new(),
            key_bytes: 0,
        }
    }

    /// Packs postings in blocks of so many, from 1 to 128. What is found does not depend on it; short blocks let tests
    /// have many of them.
    ///
    /// # Panics
    /// If there are no such blocks.
    pub fn set_block(&mut self, postings: u8) {
        assert!((1..=BLOCK).contains(&postings), "a block has 1 to {BLOCK} postings, and not {postings}");
        self.block = postings;
    }

    /// The number of postings in a block.
    pub(crate) fn block(&self) -> u8 {
        self.block
    }

    /// Takes a record; one with the same key that came before no longer counts.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`], and nothing is taken, if the schema has no such column, a value is not of its column's
    /// kind, or key or values are too long.
    pub fn put(&mut self, record: &Record) -> Result<()> {
        let key = record.key.encode_checked()?;
        let values = self.values(record)?;
        let start = self.kept.len();
        let shown: Vec<_> = self
            .schema
            .columns()
            .zip(&values)
            .enumerate()
            .filter(|(_, ((_, column), values))| column.kept() && !values.is_empty())
            .map(|(place, (_, values))| (place, values.as_slice()))
            .collect();
        kept::pack(&mut self.kept, &shown)?;
        let arrival = u32::try_from(self.arrivals.len()).map_err(|_| {
            Error::new(ErrorKind::BadRecord, "A batch has too many records; publish more often.")
        })?;
        self.arrivals.push(Arrival { kept: start..self.kept.len() });
        self.take_texts(arrival, &values);
        self.key_bytes += key.len();
        self.latest.insert(key, arrival);
        Ok(())
    }

    /// Forgets the record with this key, if it was put.
    pub fn remove(&mut self, key: &Key) {
        self.latest.remove(&key.encode());
    }

    /// Whether there is no record.
    pub fn is_empty(&self) -> bool {
        self.latest.is_empty()
    }

    /// The memory that the records take, and sealing them will take, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        const TABLE_ENTRY: usize = 48;
        self.log.len() * (size_of::<Occurrence>() + size_of::<Place>())
            + self.kept.len()
            + self.lengths.len() * 4
            + self.term_bytes
            + self.terms.len() * TABLE_ENTRY
            + self.key_bytes * 2
            + self.latest.len() * 2 * TABLE_ENTRY
    }

    /// The values of each column of the schema, as its kind wants them.
    fn values(&self, record: &Record) -> Result<Vec<Vec<Value>>> {
        if let Some((unknown, _)) = record.columns().find(|(name, _)| self.schema.column(name).is_none()) {
            let known: Vec<_> = self.schema.columns().map(|(name, _)| name).collect();
            return Err(Error::new(
                ErrorKind::BadRecord,
                format!(
                    "record {} has a column `{unknown}` and the schema has none; it has {}.",
                    record.key,
                    known.join(", ")
                ),
            ));
        }
        self.schema
            .columns()
            .map(|(name, column)| {
                let values = record.values(name).iter().cloned();
                let values: Result<Vec<_>> = values.map(|value| value.into_kind(column.kind())).collect();
                values.map_err(|error| error.at(format_args!("record {}, column `{name}`", record.key)))
            })
            .collect()
    }

    fn take_texts(&mut self, arrival: u32, values: &[Vec<Value>]) {
        let texts = self.schema.columns().zip(values).filter(|((_, column), _)| column.has_words());
        let value = |name: &str| {
            let column = self.schema.columns().position(|(known, _)| known == name)?;
            values[column].first()?.as_text()
        };
        for (place, ((recipes, memories), (_, values))) in (0_u8..).zip(self.recipes.iter_mut().zip(texts)) {
            let language = recipes.named_by().and_then(value);
            let chosen = recipes.place_of(language, values.first().and_then(Value::as_text));
            let (recipe, memory) = (recipes.get(chosen), &mut memories[chosen]);
            let (mut length, mut base) = (0, 0);
            for text in values.iter().flat_map(|value| recipes.texts(chosen, value)) {
                let positions = read(recipe, memory, &text, |token| {
                    let next = u32::try_from(self.terms.len()).expect("fewer terms than tokens in memory");
                    let term = *self.terms.entry_ref(token.term).or_insert_with(|| {
                        self.term_bytes += token.term.len();
                        next
                    });
                    self.log.push(Occurrence {
                        term,
                        arrival,
                        position: base + token.position,
                        column: place,
                    });
                });
                length += positions;
                base += positions + VALUE_GAP;
            }
            self.lengths.push(length);
        }
    }

    /// Writes the records as a shelf and starts anew; nothing if there are none. Takes time in proportion to the
    /// tokens, and n log n in records and terms.
    ///
    /// # Errors
    /// If the place can't be written.
    pub fn seal(&mut self, unit: &dyn Unit) -> Result<Option<Sealed>> {
        let next = Self { block: self.block, ..Self::new(Arc::clone(&self.schema)) };
        let built = std::mem::replace(self, next);
        if built.is_empty() {
            return Ok(None);
        }
        let piece = PieceId::fresh()?;
        built.write(piece, unit).map(Some)
    }

    fn write(mut self, piece: PieceId, unit: &dyn Unit) -> Result<Sealed> {
        let order = self.order();
        let mut out = Output::begin(unit.write(piece)?)?;
        let mut keys = keys::writer();
        for key in &order.keys {
            keys.push(key, |_, _| ());
            keys.stream(&mut out)?;
        }
        keys.finish(&mut out, Section::Keys, Section::KeyIndex)?;

        let mut kept = KeptWriter::default();
        for &arrival in &order.arrivals {
            kept.push(&mut out, &self.kept[self.arrivals[arrival as usize].kept.clone()])?;
        }
        kept.finish(&mut out)?;

        let columns = self.recipes.len();
        let (mut widths, mut lengths) = (Vec::new(), Vec::new());
        for column in 0..columns {
            let of_column = |&arrival: &u32| self.lengths[arrival as usize * columns + column];
            let of_column: Vec<_> = order.arrivals.iter().map(of_column).collect();
            widths.push(lengths::write(&mut out, &of_column)?);
            lengths.push(of_column.iter().copied().map(u64::from).sum());
        }
        out.end(Section::Lengths);

        let lists = self.write_lists(&mut out, &order)?;
        let mut terms = TermWriter::new(columns);
        for (term, entry) in &lists {
            terms.push(term.as_bytes(), entry);
        }
        terms.write(&mut out)?;
        let mut forms = FormWriter::new();
        for (class, terms) in self.classes(&lists) {
            forms.push(class.as_bytes(), terms.into_iter());
        }
        forms.write(&mut out)?;

        let records = u32::try_from(order.keys.len()).expect("no more records than arrivals");
        let entry = out.seal(Said { piece, records, block: self.block, widths, lengths })?;
        Ok(Sealed { entry, keys: order.keys })
    }

    fn order(&mut self) -> Order {
        let mut latest: Vec<_> = std::mem::take(&mut self.latest).into_iter().collect();
        latest.sort_unstable();
        let mut ordinals = vec![None; self.arrivals.len()];
        for (ordinal, (_, arrival)) in (0..).zip(&latest) {
            ordinals[*arrival as usize] = Some(ordinal);
        }
        let (keys, arrivals) = latest.into_iter().unzip();
        Order { keys, arrivals, ordinals }
    }

    /// Writes the postings and the positions; gives the terms with where their lists are.
    fn write_lists(&mut self, out: &mut Output<'_>, order: &Order) -> Result<Vec<(String, TermEntry)>> {
        let (starts, mut places) = self.scatter();
        let mut terms: Vec<_> = std::mem::take(&mut self.terms).into_iter().collect();
        terms.sort_unstable();
        let mut lists = Vec::with_capacity(terms.len());
        let columns = self.recipes.len();
        let (mut postings, mut positions) = (Vec::new(), Vec::new());
        let mut writer = PostingWriter::new(self.block.into(), columns);
        let mut written = 0;
        for (term, id) in terms {
            let places = &mut places[starts[id as usize]..starts[id as usize + 1]];
            let length = |arrival: u32, column| self.lengths[arrival as usize * columns + column];
            write_term(&mut writer, places, &order.ordinals, length);
            if let Some(entry) = writer.finish((&mut postings, written), (&mut positions, 0)) {
                lists.push((term, entry));
            }
            out.append(&postings)?;
            written += postings.len() as u64;
            postings.clear();
        }
        out.end(Section::Postings);
        out.append(&positions)?;
        out.end(Section::Positions);
        Ok(lists)
    }

    /// The classes of forms among all terms, for each recipe that keeps forms apart. Which columns a term is in does not
    /// matter, so that a class depends on the terms alone.
    fn classes<'t>(&self, lists: &'t [(String, TermEntry)]) -> BTreeMap<String, Vec<&'t str>> {
        let mut classes: BTreeMap<String, Vec<&str>> = BTreeMap::new();
        let mut recipes: Vec<&Recipe> = Vec::new();
        for recipe in self.recipes.iter().flat_map(|(recipes, _)| recipes.all()) {
            if !recipes.iter().any(|known| known.class("") == recipe.class("")) {
                recipes.push(recipe);
            }
        }
        for recipe in recipes {
            for (term, _) in lists {
                if let Some(key) = recipe.key_of(term).filter(|key| key != term) {
                    classes.entry(recipe.class(&key)).or_default().push(term);
                }
            }
        }
        classes
    }

    /// Sorts the log by term with one counting pass: where each term's places begin, and the places, which stay in the
    /// order in which they came.
    fn scatter(&mut self) -> (Vec<usize>, Vec<Place>) {
        let log = std::mem::take(&mut self.log);
        let mut starts = vec![0; self.terms.len() + 1];
        for occurrence in &log {
            starts[occurrence.term as usize + 1] += 1;
        }
        for term in 1..starts.len() {
            starts[term] += starts[term - 1];
        }
        let mut next = starts.clone();
        let mut places = vec![Place { arrival: 0, position: 0, column: 0 }; log.len()];
        for Occurrence { term, arrival, position, column } in log {
            let slot = &mut next[term as usize];
            places[*slot] = Place { arrival, position, column };
            *slot += 1;
        }
        (starts, places)
    }
}

/// Where one token stands.
#[derive(Clone, Copy, Debug)]
struct Place {
    arrival: u32,
    position: u32,
    column: u8,
}

/// Writes the lists of one term. Places ascend within a record; records are put in the order of their ordinals, and the
/// superseded ones left out.
fn write_term(
    writer: &mut PostingWriter,
    places: &mut [Place],
    ordinals: &[Option<u32>],
    length: impl Fn(u32, usize) -> u32,
) {
    let ordinal = |place: &Place| ordinals[place.arrival as usize];
    if !places.is_sorted_by_key(ordinal) {
        places.sort_by_key(ordinal);
    }
    for record in places.chunk_by(|a, b| a.arrival == b.arrival) {
        if let Some(ordinal) = ordinal(&record[0]) {
            let places = record.iter().map(|place| (place.column, place.position));
            writer.push(ordinal, places, |column| length(record[0].arrival, column));
        }
    }
}
