//! A record as the index sees it: a [`Key`] that names it, and [`Value`]s by column.

mod key;
mod value;

pub use key::{Key, MAX_KEY_BYTES};
pub use value::Value;

use foldhash::fast::RandomState;
use indexmap::IndexMap;

/// A row: its key and the values of its columns. A column may have none, one or several values.
///
/// ```
/// use nut_cellar_core::Record;
///
/// let record = Record::new(7).with("title", "Black umbrella").with("value_pence", 450);
/// assert_eq!(record.key, 7.into());
/// assert_eq!(record.values("title").len(), 1);
/// assert!(record.values("colour").is_empty());
/// ```
#[derive(Clone, Debug)]
pub struct Record {
    /// What names the record; putting another record with the same key replaces it.
    pub key: Key,
    /// Those without values are as good as not there.
    columns: IndexMap<String, Vec<Value>, RandomState>,
}

impl Record {
    /// A record without values.
    pub fn new(key: impl Into<Key>) -> Self {
        Self { key: key.into(), columns: IndexMap::default() }
    }

    /// Makes it a record without values again, with another key. Whoever reads many rows takes less time with one record; its
    /// [columns](Self::columns) stay in the order in which they were first given.
    pub fn begin_again(&mut self, key: impl Into<Key>) {
        self.key = key.into();
        self.columns.values_mut().for_each(Vec::clear);
    }

    /// The record with one more value in a column.
    #[must_use]
    pub fn with(mut self, column: impl Into<String> + AsRef<str>, value: impl Into<Value>) -> Self {
        self.add(column, value);
        self
    }

    /// Adds one more value to a column.
    pub fn add(&mut self, column: impl Into<String> + AsRef<str>, value: impl Into<Value>) {
        match self.columns.get_mut(column.as_ref()) {
            Some(values) => values.push(value.into()),
            None => drop(self.columns.insert(column.into(), vec![value.into()])),
        }
    }

    /// The values of a column, none if it has none.
    pub fn values(&self, column: &str) -> &[Value] {
        self.columns.get(column).map_or(&[], Vec::as_slice)
    }

    /// The bytes of its texts, about.
    pub(crate) fn size(&self) -> usize {
        let text = |value: &Value| value.as_text().map_or(size_of::<Value>(), str::len);
        self.columns.values().flatten().map(text).sum()
    }

    /// The columns that were given, with their values, in the order in which they were given.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &[Value])> {
        let given = self.columns.iter().filter(|(_, values)| !values.is_empty());
        given.map(|(name, values)| (name.as_str(), values.as_slice()))
    }
}

impl PartialEq for Record {
    fn eq(&self, other: &Self) -> bool {
        self.key == other.key
            && self.columns().count() == other.columns().count()
            && self.columns().all(|(name, values)| other.values(name) == values)
    }
}
