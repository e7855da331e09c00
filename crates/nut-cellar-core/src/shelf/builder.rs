//! The builder: records in, a sealed shelf out.
//!
//! Tokens go to one flat log in the order in which they come; sealing sorts it by term with one counting pass and
//! writes the sections from front to back, so that a place can take them as a stream. Records may come in any key
//! order; of several puts of one key the last one counts.

use super::arrivals::{Arrivals, Keys, Order};
use super::directory::Section;
use super::forms::FormWriter;
use super::gathered::Gathered;
use super::kept::KeptWriter;
use super::lengths::Packed;
use super::log::{POSITIONS, TokenLog};
use super::output::{Output, Said};
use super::postings::PostingWriter;
use super::terms::{TermEntry, TermWriter};
use super::vocabulary::Vocabulary;
use super::{gathered, kept, keys};
use crate::error::{Error, ErrorKind, Result};
use crate::record::{Key, Record, Value};
use crate::schema::{Column, Schema};
use crate::store::{PieceId, ShelfEntry, Unit};
use crate::text::{Memory, Recipe, Recipes, read};
use std::borrow::Cow;
use std::collections::BTreeMap;
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
    vocabulary: Vocabulary,
    log: TokenLog,
    arrivals: Arrivals,
    /// For each arrival, for each text column, the number of positions.
    lengths: Vec<u32>,
    /// The kept values of all arrivals, packed, and where those of each end.
    kept: Vec<u8>,
    kept_ends: Vec<usize>,
    /// For each column whose values are compared its place in the schema, and the values of all arrivals.
    values: Vec<(usize, Gathered)>,
    /// How many records were put since the last shelf was sealed.
    puts: usize,
}

/// A shelf that has just been written.
#[derive(Debug)]
pub struct Sealed {
    /// What the manifest has to say of it.
    pub entry: ShelfEntry,
    /// The encoded keys of its records, ascending.
    pub keys: Keys,
}

impl Builder {
    /// A builder without records.
    pub fn new(schema: Arc<Schema>) -> Self {
        let recipe = |column: &Column| {
            let recipes = Recipes::of(column.text_settings());
            let memories = recipes.all().map(|_| Memory::default()).collect();
            (recipes, memories)
        };
        let recipes: Vec<_> = schema.text_columns().map(|(_, column)| recipe(column)).collect();
        let values = schema.value_columns().map(|(place, column)| (place, Gathered::new(column.kind())));
        Self {
            values: values.collect(),
            schema,
            block: BLOCK,
            vocabulary: Vocabulary::default(),
            log: TokenLog::new(recipes.len()),
            recipes,
            arrivals: Arrivals::default(),
            lengths: Vec::new(),
            kept: Vec::new(),
            kept_ends: Vec::new(),
            puts: 0,
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
    /// kind, or key, values or texts are too long.
    pub fn put(&mut self, record: &Record) -> Result<()> {
        let key = record.key.encode_checked()?;
        let schema = Arc::clone(&self.schema);
        let values = values(&schema, record)?;
        if self.arrivals.len() >= u32::MAX as usize {
            return Err(Error::new(
                ErrorKind::BadRecord,
                "A batch has too many records; publish more often.",
            ));
        }
        let kept = schema.columns().zip(&values).enumerate();
        let kept = kept.filter(|(_, ((_, column), values))| column.kept() && !values.is_empty());
        let kept: Vec<_> = kept.map(|(place, (_, values))| (place, &**values)).collect();
        kept::pack(&mut self.kept, &kept)?;
        if let Err(error) = self.take_texts(&values) {
            self.kept.truncate(self.kept_ends.last().copied().unwrap_or(0));
            self.log.truncate(self.arrivals.len());
            self.lengths.truncate(self.arrivals.len() * self.recipes.len());
            return Err(error.at(format_args!("record {}", record.key)));
        }
        for (column, gathered) in &mut self.values {
            gathered.push(&values[*column]);
        }
        self.kept_ends.push(self.kept.len());
        self.arrivals.put(&key);
        self.puts += 1;
        Ok(())
    }

    /// Forgets the record with this key, if it was put.
    pub fn remove(&mut self, key: &Key) {
        if self.puts == 0 {
            return;
        }
        self.arrivals.remove(&key.encode());
        self.kept_ends.push(self.kept.len());
        self.values.iter_mut().for_each(|(_, gathered)| gathered.push(&[]));
        for _ in 0..self.recipes.len() {
            self.log.end_column();
            self.lengths.push(0);
        }
    }

    /// The memory that the records take, and sealing them will take, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        // The kept values are written before the tokens are sorted.
        self.log.memory()
            + self.kept.len().max(self.log.memory_sorted())
            + self.vocabulary.memory()
            + self.arrivals.memory()
            + self.kept_ends.len() * size_of::<usize>()
            + self.lengths.len() * size_of::<u32>()
            + self.values.iter().map(|(_, gathered)| gathered.memory()).sum::<usize>()
    }

    fn take_texts(&mut self, values: &[Cow<'_, [Value]>]) -> Result<()> {
        let texts = self.schema.columns().zip(values).filter(|((_, column), _)| column.has_words());
        let value = |name: &str| {
            let column = self.schema.columns().position(|(known, _)| known == name)?;
            values[column].first()?.as_text()
        };
        for ((recipes, memories), ((name, _), values)) in self.recipes.iter_mut().zip(texts) {
            let language = recipes.named_by().and_then(value);
            let chosen = recipes.place_of(language, values.first().and_then(Value::as_text));
            let (recipe, memory) = (recipes.get(chosen), &mut memories[chosen]);
            let (mut length, mut base) = (0, 0);
            for text in values.iter().flat_map(|value| recipes.texts(chosen, value)) {
                let mut last = base;
                let positions = read(recipe, memory, &text, |token| {
                    last = base + token.position;
                    if last < POSITIONS {
                        self.log.push(self.vocabulary.number(token.term), last);
                    }
                });
                length += positions;
                base += positions + VALUE_GAP;
                if last.max(base) >= POSITIONS {
                    return Err(Error::new(
                        ErrorKind::BadRecord,
                        format!(
                            "Column `{name}` has more than {POSITIONS} positions; divide its text among several \
                             records."
                        ),
                    ));
                }
            }
            self.log.end_column();
            self.lengths.push(length);
        }
        Ok(())
    }

    /// Writes the records as a shelf and starts anew; nothing if there are none. Takes time in proportion to the
    /// tokens, and n log n in records and terms.
    ///
    /// # Errors
    /// If the place can't be written.
    pub fn seal(&mut self, unit: &dyn Unit) -> Result<Option<Sealed>> {
        let next = Self { block: self.block, ..Self::new(Arc::clone(&self.schema)) };
        let mut built = std::mem::replace(self, next);
        let order = std::mem::take(&mut built.arrivals).into_order();
        if order.keys.is_empty() {
            return Ok(None);
        }
        built.write(order, unit).map(Some)
    }

    fn write(mut self, order: Order, unit: &dyn Unit) -> Result<Sealed> {
        let piece = PieceId::fresh()?;
        let mut out = Output::begin(unit.write(piece)?)?;
        let mut keys = keys::writer();
        for key in order.keys.iter() {
            keys.push_bare(key);
            keys.stream(&mut out)?;
        }
        keys.finish(&mut out, Section::Keys, Section::KeyIndex)?;
        self.write_kept(&order, &mut out)?;
        let columns = self.recipes.len();
        let (mut widths, mut sums, mut lengths) = (Vec::new(), Vec::new(), Vec::new());
        for column in 0..columns {
            let of_column = |&arrival: &u32| self.lengths[arrival as usize * columns + column];
            let of_column: Vec<_> = order.arrivals.iter().map(of_column).collect();
            let packed = Packed::of(&of_column);
            packed.write(&mut out)?;
            widths.push(packed.width);
            sums.push(packed.sum);
            lengths.push(of_column);
        }
        out.end(Section::Lengths);
        let value_columns = u16::try_from(self.values.len()).expect("the schema has been checked");
        let values = std::mem::take(&mut self.values).into_iter().map(|(_, gathered)| gathered);
        gathered::write(values.collect(), &order.arrivals, self.block.into(), &mut out)?;
        let terms = self.write_lists(&order, &lengths, &mut out)?;
        self.write_forms(&terms, &mut out)?;
        let records = u32::try_from(order.arrivals.len()).expect("no more records than arrivals");
        let entry =
            out.seal(Said { piece, records, block: self.block, widths, lengths: sums, value_columns })?;
        Ok(Sealed { entry, keys: order.keys })
    }

    fn write_kept(&mut self, order: &Order, out: &mut Output<'_>) -> Result<()> {
        let (all, ends) = (std::mem::take(&mut self.kept), std::mem::take(&mut self.kept_ends));
        let mut kept = KeptWriter::new(self.schema.packing());
        for &arrival in &order.arrivals {
            let arrival = arrival as usize;
            let start = arrival.checked_sub(1).map_or(0, |before| ends[before]);
            kept.push(out, &all[start..ends[arrival]])?;
        }
        kept.finish(out)
    }

    /// Writes the postings, the positions and the terms; gives the numbers of the terms that there are, in order.
    fn write_lists(&mut self, order: &Order, lengths: &[Vec<u32>], out: &mut Output<'_>) -> Result<Vec<u32>> {
        let log = std::mem::replace(&mut self.log, TokenLog::new(0));
        let (starts, places) = log.scatter(&order.arrivals, self.vocabulary.len());
        drop(log);
        let mut terms = TermWriter::new(lengths.len());
        let mut list = PostingWriter::new(self.block.into(), lengths.len());
        let (mut postings, mut positions) = (Vec::new(), Vec::new());
        let mut written = 0;
        let mut sorted = self.vocabulary.sorted();
        sorted.retain(|&number| starts[number as usize] < starts[number as usize + 1]);
        for &number in &sorted {
            let places = &places[starts[number as usize]..starts[number as usize + 1]];
            let term = self.vocabulary.term(number);
            if let [place] = places {
                terms.push(term, &TermEntry::once(place.record(), place.column(), place.position()));
                continue;
            }
            list.begin(places.len());
            for record in places.chunk_by(|a, b| a.record() == b.record()) {
                let ordinal = record[0].record();
                let places = record.iter().map(|place| (place.column(), place.position()));
                list.push(ordinal, places, |column| lengths[column][ordinal as usize]);
            }
            if let Some(entry) = list.finish((&mut postings, written), (&mut positions, 0)) {
                terms.push(term, &entry);
            }
            if postings.len() as u64 >= Output::WORTH {
                out.append(&postings)?;
                written += postings.len() as u64;
                postings.clear();
            }
        }
        out.append(&postings)?;
        out.end(Section::Postings);
        out.append(&positions)?;
        out.end(Section::Positions);
        terms.write(out)?;
        Ok(sorted)
    }

    /// Writes the classes of forms among these terms, for each recipe that keeps forms apart. Which columns a term is in does
    /// not matter, so that a class depends on the terms alone.
    fn write_forms(&self, terms: &[u32], out: &mut Output<'_>) -> Result<()> {
        // A class begins with what names its recipe, so the classes of one recipe follow those of another.
        let recipes: BTreeMap<String, &Recipe> = self
            .recipes
            .iter()
            .flat_map(|(recipes, _)| recipes.all())
            .map(|recipe| (recipe.class(""), recipe))
            .collect();
        let mut forms = FormWriter::new();
        for recipe in recipes.into_values() {
            let key = |&number: &u32| {
                let term = self.vocabulary.term(number);
                Some((recipe.key_of(term).filter(|key| key != term)?, term))
            };
            let mut keyed: Vec<_> = terms.iter().filter_map(key).collect();
            keyed.sort_unstable();
            for class in keyed.chunk_by(|(a, _), (b, _)| a == b) {
                forms.push(recipe.class(&class[0].0).as_bytes(), class.iter().map(|(_, term)| *term));
            }
        }
        forms.write(out)
    }
}

/// The values of each column of the schema, as its kind wants them.
fn values<'r>(schema: &Schema, record: &'r Record) -> Result<Vec<Cow<'r, [Value]>>> {
    if let Some((unknown, _)) = record.columns().find(|(name, _)| schema.column(name).is_none()) {
        let known: Vec<_> = schema.columns().map(|(name, _)| name).collect();
        return Err(Error::new(
            ErrorKind::BadRecord,
            format!(
                "record {} has a column `{unknown}` and the schema has none; it has {}.",
                record.key,
                known.join(", ")
            ),
        ));
    }
    schema
        .columns()
        .map(|(name, column)| {
            let values = record.values(name);
            if values.iter().all(|value| value.is_of(column.kind())) {
                return Ok(Cow::Borrowed(values));
            }
            let values: Result<Vec<_>> =
                values.iter().cloned().map(|value| value.into_kind(column.kind())).collect();
            values
                .map(Cow::Owned)
                .map_err(|error| error.at(format_args!("record {}, column `{name}`", record.key)))
        })
        .collect()
}
