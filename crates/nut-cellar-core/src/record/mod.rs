//! A record as the index sees it: a [`Key`] that names it, and [`Value`]s by column.

pub(crate) mod columns;
mod json;
mod key;
pub(crate) mod read;
mod value;

pub use json::FieldReader;
pub(crate) use key::from_hex;
pub use key::{Key, MAX_KEY_BYTES};
pub use value::Value;

use crate::error::Result;
use crate::schema::Schema;
use serde::{Deserialize, Serialize, Serializer};

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
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Record {
    /// What names the record; putting another record with the same key replaces it.
    pub key: Key,
    /// Those without values are as good as not there.
    #[serde(rename = "values", serialize_with = "given", deserialize_with = "columns::deserialize")]
    columns: Vec<(String, Vec<Value>)>,
}

impl Record {
    /// A record without values.
    pub fn new(key: impl Into<Key>) -> Self {
        Self { key: key.into(), columns: Vec::new() }
    }

    /// Makes it a record without values again, with another key. Whoever reads many rows takes less time with one record; its
    /// [columns](Self::columns) stay in the order in which they were first given.
    pub fn begin_again(&mut self, key: impl Into<Key>) {
        self.key = key.into();
        self.columns.iter_mut().for_each(|(_, values)| values.clear());
    }

    /// The record with one more value in a column.
    #[must_use]
    pub fn with(mut self, column: impl Into<String> + AsRef<str>, value: impl Into<Value>) -> Self {
        self.add(column, value);
        self
    }

    /// Adds one more value to a column.
    pub fn add(&mut self, column: impl Into<String> + AsRef<str>, value: impl Into<Value>) {
        self.values_mut(column).push(value.into());
    }

    /// The values of a column, to add to them.
    pub(crate) fn values_mut(&mut self, column: impl Into<String> + AsRef<str>) -> &mut Vec<Value> {
        let known = self.columns.iter().position(|(name, _)| name == column.as_ref());
        let place = known.unwrap_or_else(|| {
            self.columns.push((column.into(), Vec::new()));
            self.columns.len() - 1
        });
        &mut self.columns[place].1
    }

    /// The values of a column, none if it has none.
    pub fn values(&self, column: &str) -> &[Value] {
        let known = self.columns.iter().find(|(name, _)| name == column);
        known.map_or(&[], |(_, values)| values)
    }

    /// The bytes of its texts, about.
    pub(crate) fn size(&self) -> usize {
        let text = |value: &Value| value.as_text().map_or(size_of::<Value>(), str::len);
        self.columns.iter().flat_map(|(_, values)| values).map(text).sum()
    }

    /// The same record with its values as the columns of a schema want them: a day that was read as a text is a day then.
    ///
    /// # Errors
    /// [`BadRecord`](crate::ErrorKind::BadRecord) if a value is none of its column's kind. Columns that the schema does not have stay as
    /// they are.
    pub fn in_kinds_of(mut self, schema: &Schema) -> Result<Self> {
        for (name, values) in &mut self.columns {
            in_kind_of(schema, name, values)?;
        }
        Ok(self)
    }

    /// The columns that were given, with their values, in the order in which they were given.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &[Value])> {
        let given = self.columns.iter().filter(|(_, values)| !values.is_empty());
        given.map(|(name, values)| (name.as_str(), values.as_slice()))
    }
}

fn given<S: Serializer>(columns: &[(String, Vec<Value>)], serializer: S) -> Result<S::Ok, S::Error> {
    let given = columns.iter().filter(|(_, values)| !values.is_empty());
    columns::serialize(given.map(|(name, values)| (name.as_str(), values.as_slice())), serializer)
}

/// Makes values what a column of a schema wants.
pub(crate) fn in_kind_of(schema: &Schema, name: &str, values: &mut [Value]) -> Result<()> {
    let Some(column) = schema.column(name) else { return Ok(()) };
    for value in values {
        let found = std::mem::replace(value, Value::Boolean(false));
        *value = found.into_kind(column.kind()).map_err(|error| error.at(format_args!("column `{name}`")))?;
    }
    Ok(())
}

impl PartialEq for Record {
    fn eq(&self, other: &Self) -> bool {
        self.key == other.key
            && self.columns().count() == other.columns().count()
            && self.columns().all(|(name, values)| other.values(name) == values)
    }
}
