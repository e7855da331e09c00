//! What one thread gathers of the records that become a shelf: their tokens, lengths and values, in the order in which they
//! came to it.

use crate::error::{Error, ErrorKind, Result};
use crate::record::{Record, Value};
use crate::schema::{Column, Schema};
use crate::shelf::build::arrivals::Home;
use crate::shelf::build::gathered::Gathered;
use crate::shelf::build::learned::Learned;
use crate::shelf::build::log::{POSITIONS, TokenLog};
use crate::shelf::format::kept;
use crate::shelf::format::text_columns::TextColumns;
use crate::text::{Memory, Recipe, read};
use std::borrow::Cow;
use std::sync::Arc;

/// Records by the order in which they came. Removals are records without anything.
#[derive(Debug)]
pub(in crate::shelf) struct Part {
    schema: Arc<Schema>,
    columns: TextColumns,
    /// For each column that is a beginning its place in the schema, and that of its whole.
    beginnings: Vec<(usize, usize)>,
    pub learned: Learned,
    /// The memory of the terms that were known before. It does not count, or few records could use up a small budget.
    known: usize,
    pub log: TokenLog,
    /// For each record, for each text column, the number of positions.
    lengths: Vec<u32>,
    /// The kept values of all records, packed, and where those of each end.
    kept: Vec<u8>,
    kept_ends: Vec<usize>,
    /// For each column whose values are compared its place in the schema, and the values of all records.
    pub values: Vec<(usize, Gathered)>,
}

impl Part {
    /// Nothing gathered.
    pub fn new(schema: &Arc<Schema>, learned: Learned) -> Self {
        let values = schema.value_columns().map(|(place, column)| (place, Gathered::new(column.kind())));
        let columns = TextColumns::of(schema);
        let texts: Vec<_> =
            schema.columns().enumerate().filter(|(_, (_, column))| column.has_words()).collect();
        let place = |text: u8| texts[usize::from(text)].0;
        let beginnings =
            columns.beginnings().iter().map(|one| (place(one.column), place(one.whole))).collect();
        Self {
            beginnings,
            values: values.collect(),
            log: TokenLog::new(learned.columns.len()),
            known: learned.terms.vocabulary.memory(),
            learned,
            lengths: Vec::new(),
            kept: Vec::new(),
            kept_ends: Vec::new(),
            columns,
            schema: Arc::clone(schema),
        }
    }

    /// How many records it has, removals included.
    pub fn len(&self) -> usize {
        self.kept_ends.len()
    }

    /// Takes a record, and gives its encoded key.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`], and nothing is taken.
    pub fn put(&mut self, record: &Record) -> Result<Vec<u8>> {
        let key = record.key.encode_checked()?;
        let schema = Arc::clone(&self.schema);
        let mut values = values(&schema, record)?;
        self.fill_beginnings(&mut values).map_err(|error| error.at(format_args!("record {}", record.key)))?;
        let kept = schema.columns().zip(&values).enumerate();
        let kept = kept.filter(|(_, ((_, column), values))| column.kept() && !values.is_empty());
        kept::pack(&mut self.kept, kept.map(|(place, (_, values))| (place, &**values)))?;
        if let Err(error) = self.take_texts(&values) {
            self.truncate(self.len());
            return Err(error.at(format_args!("record {}", record.key)));
        }
        for (column, gathered) in &mut self.values {
            gathered.push(&values[*column]);
        }
        self.kept_ends.push(self.kept.len());
        Ok(key)
    }

    /// Sorts the terms, and tells how many tokens each has in the records that are at home in this part, which has a place.
    pub fn count_tokens(&mut self, place: usize, homes: &[Home]) -> Vec<u32> {
        let here = || homes.iter().filter(|home| home.part as usize == place).map(|home| home.record);
        let some = (here().count() < self.log.len()).then(here);
        self.log.counts(self.learned.terms.vocabulary.sort().len(), some)
    }

    /// Takes a removal.
    pub fn put_nothing(&mut self) {
        self.kept_ends.push(self.kept.len());
        self.values.iter_mut().for_each(|(_, gathered)| gathered.push(&[]));
        for _ in 0..self.learned.columns.len() {
            self.log.end_column();
            self.lengths.push(0);
        }
    }

    /// Forgets all but the first records.
    pub fn truncate(&mut self, records: usize) {
        self.kept_ends.truncate(records);
        self.kept.truncate(self.kept_ends.last().copied().unwrap_or(0));
        self.log.truncate(records);
        self.lengths.truncate(records * self.learned.columns.len());
        self.values.iter_mut().for_each(|(_, gathered)| gathered.truncate(records));
    }

    /// The memory that it takes, and sealing it will take, in bytes; an estimate.
    pub fn memory(&self) -> usize {
        // The kept values are written before the tokens are sorted.
        self.log.memory()
            + self.kept.len().max(self.log.memory_sorted())
            + (self.learned.terms.vocabulary.memory() - self.known)
            + self.kept_ends.len() * size_of::<usize>()
            + self.lengths.len() * size_of::<u32>()
            + self.values.iter().map(|(_, gathered)| gathered.memory()).sum::<usize>()
    }

    /// The number of positions of a record in a text column.
    pub fn length(&self, record: u32, column: usize) -> u32 {
        self.lengths[record as usize * self.learned.columns.len() + column]
    }

    /// The kept values of a record, packed.
    pub fn kept(&self, record: u32) -> &[u8] {
        let record = record as usize;
        let start = record.checked_sub(1).map_or(0, |before| self.kept_ends[before]);
        &self.kept[start..self.kept_ends[record]]
    }

    /// Lets go what nobody needs when the kept values are written.
    pub fn forget_kept(&mut self) {
        (self.kept, self.kept_ends) = (Vec::new(), Vec::new());
        self.learned.end_batch();
    }

    /// Nothing gathered; what is worth knowing stays.
    pub fn emptied(self) -> Self {
        Self::new(&self.schema, self.learned.after_batch())
    }

    /// Gives the columns that are beginnings the values of their wholes.
    ///
    /// # Errors
    /// [`ErrorKind::BadRecord`] where the record has others for them.
    fn fill_beginnings(&self, values: &mut [Cow<'_, [Value]>]) -> Result<()> {
        for &(column, whole) in &self.beginnings {
            if values[column].is_empty() {
                let whole = values[whole].clone();
                values[column] = whole;
            } else if values[column] != values[whole] {
                let [name, of] = [column, whole]
                    .map(|place| self.schema.columns().nth(place).map_or("", |(name, _)| name));
                let message = format!(
                    "Column `{name}` has the first words of `{of}`, and other values than that; leave it out, or give it a \
                     `from` of its own."
                );
                return Err(Error::new(ErrorKind::BadRecord, message));
            }
        }
        Ok(())
    }

    fn take_texts(&mut self, values: &[Cow<'_, [Value]>]) -> Result<()> {
        let texts = self.schema.columns().zip(values).filter(|((_, column), _)| column.has_words());
        let value = |name: &str| {
            let column = self.schema.columns().position(|(known, _)| known == name)?;
            values[column].first()?.as_text()
        };
        let Learned { columns, terms, .. } = &mut self.learned;
        let begun = self.lengths.len();
        self.lengths.resize(begun + columns.len(), 0);
        for (place, (words, ((name, column), values))) in columns.iter_mut().zip(texts).enumerate() {
            if !self.columns.own().has(place) {
                self.log.end_column();
                continue;
            }
            let recipes = &words.recipes;
            let language = recipes.named_by().and_then(value);
            let chosen = recipes.place_of(language, values.first().and_then(Value::as_text));
            let (recipe, memory) = (recipes.get(chosen), &mut words.terms[chosen]);
            let stemming = words.stemmings[chosen];
            let most = column.first_words().map_or(POSITIONS, |words| words.get().into());
            let (mut length, mut base) = (0, 0);
            for text in values.iter().flat_map(|value| recipes.texts(chosen, value)) {
                if base >= most {
                    break;
                }
                let cut = most < POSITIONS && recipe.ends_at_spaces();
                let text = if cut { beginning(recipe, memory, &text, most) } else { &text };
                let mut last = base;
                let positions = read(recipe, memory, text, &mut |token| {
                    last = base + token.position;
                    if last < most {
                        self.log.push(terms.number(token.term, stemming), last);
                    }
                });
                length += positions.min(most - base);
                for beginning in self.columns.beginnings_of(place) {
                    let left = u32::from(beginning.words).saturating_sub(base);
                    self.lengths[begun + usize::from(beginning.column)] += positions.min(left);
                }
                base += positions + u32::from(column.gap());
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
            self.lengths[begun + place] = length;
        }
        Ok(())
    }
}

/// A beginning of a text that has its first words. It ends with white space, over which no word and no compound reaches, or is the whole.
fn beginning<'t>(recipe: &Recipe, memory: &mut Memory, text: &'t str, words: u32) -> &'t str {
    let mut bytes = 16 * words as usize;
    while bytes < text.len() {
        let begun = &text[..text.floor_char_boundary(bytes)];
        let begun = &begun[..begun.rfind(char::is_whitespace).unwrap_or(0)];
        if read(recipe, memory, begun, &mut |_| ()) >= words {
            return begun;
        }
        bytes *= 4;
    }
    text
}

/// The values of each column of the schema, as its kind wants them.
fn values<'r>(schema: &Schema, record: &'r Record) -> Result<Vec<Cow<'r, [Value]>>> {
    let mut given = record.columns().peekable();
    let of_column = |(name, column): (&str, &Column)| {
        // Columns mostly come in the order of the schema, and need not be looked for then.
        let next = given.next_if(|(given, _)| *given == name);
        let values = next.map_or_else(|| record.values(name), |(_, values)| values);
        if values.iter().all(|value| value.is_of(column.kind())) {
            return Ok(Cow::Borrowed(values));
        }
        let values: Result<Vec<_>> =
            values.iter().cloned().map(|value| value.into_kind(column.kind())).collect();
        values
            .map(Cow::Owned)
            .map_err(|error| error.at(format_args!("record {}, column `{name}`", record.key)))
    };
    let values: Vec<_> = schema.columns().map(of_column).collect::<Result<_>>()?;
    if values.iter().filter(|values| !values.is_empty()).count() == record.columns().count() {
        return Ok(values);
    }
    let unknown = record.columns().find(|(name, _)| schema.column(name).is_none());
    let known: Vec<_> = schema.columns().map(|(name, _)| name).collect();
    Err(Error::new(
        ErrorKind::BadRecord,
        format!(
            "record {} has a column `{}` and the schema has none; it has {}.",
            record.key,
            unknown.map_or("", |(name, _)| name),
            known.join(", ")
        ),
    ))
}
