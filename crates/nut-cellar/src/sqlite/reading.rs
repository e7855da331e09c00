//! Reading rows of the application's table as records.

use super::failure::failed;
use super::names::{Names, in_main, quoted};
use super::table::Table;
use nut_cellar_core::{Column, Error, ErrorKind, Key, Kind, Record, Result, Schema, Value};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, Row};

/// Reads rows of a table by a schema.
pub(super) struct Rows<'s> {
    schema: &'s Schema,
    /// The key, then the sources of each column, in schema order.
    select: String,
    key: String,
    /// Values that could not be read as their column's kind.
    pub unreadable: Unreadable,
}

/// How many values could not be read as what their columns are, and the first of them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Unreadable {
    /// How many. They were left out; the rest of their rows is there.
    pub count: u64,
    /// What was wrong with the first.
    pub first: Option<String>,
}

const READING: &str = "Reading the table";

impl<'s> Rows<'s> {
    pub fn new(table: &Table, schema: &'s Schema) -> Result<Self> {
        let key = quoted(table.key(schema)?);
        let mut columns = vec![key.clone()];
        for (name, column) in schema.columns() {
            for source in column.sources(name) {
                columns.push(quoted(table.column(source)?));
            }
        }
        let select = format!("SELECT {} FROM {}", columns.join(", "), in_main(&table.name));
        Ok(Self { schema, select, key, unreadable: Unreadable::default() })
    }

    /// All rows in key order, each given to `take`.
    pub fn all(
        &mut self,
        connection: &Connection,
        mut take: impl FnMut(&Record) -> Result<()>,
    ) -> Result<()> {
        let sql = format!("{} ORDER BY {}", self.select, self.key);
        let mut statement = connection.prepare(&sql).map_err(failed(READING))?;
        let mut rows = statement.query([]).map_err(failed(READING))?;
        while let Some(row) = rows.next().map_err(failed(READING))? {
            if let Some(record) = self.record(row)? {
                take(&record)?;
            }
        }
        Ok(())
    }

    /// The row with this key, if there is one.
    pub fn one(&mut self, connection: &Connection, key: &Key) -> Result<Option<Record>> {
        let sql = format!("{} WHERE {} = ?1", self.select, self.key);
        let mut statement = connection.prepare_cached(&sql).map_err(failed(READING))?;
        let parameter = match key {
            Key::Integer(number) => rusqlite::types::Value::Integer(*number),
            Key::Text(text) => rusqlite::types::Value::Text(text.clone()),
            Key::Bytes(bytes) => rusqlite::types::Value::Blob(bytes.clone()),
        };
        let mut rows = statement.query([parameter]).map_err(failed(READING))?;
        // A collation may take other keys for this one; only the very same is meant.
        while let Some(row) = rows.next().map_err(failed(READING))? {
            let same = value_ref(row, 0)?;
            if key_of(same).as_ref() == Some(key) {
                return self.record(row);
            }
        }
        Ok(None)
    }

    /// A row as a record; none if it has no key.
    fn record(&mut self, row: &Row<'_>) -> Result<Option<Record>> {
        let key = match value_ref(row, 0)? {
            ValueRef::Null => return Ok(None),
            value => key_of(value).ok_or_else(|| real_key(value))?,
        };
        let mut record = Record::new(key);
        let mut place = 1;
        for (name, column) in self.schema.columns() {
            for _ in column.sources(name) {
                let value = value_ref(row, place)?;
                place += 1;
                match read_value(value, column) {
                    Ok(Some(value)) => record.add(name, value),
                    Ok(None) => {}
                    Err(error) => self.unreadable.note(&record.key, name, &error),
                }
            }
        }
        Ok(Some(record))
    }
}

impl Unreadable {
    fn note(&mut self, key: &Key, column: &str, error: &Error) {
        self.count += 1;
        self.first.get_or_insert_with(|| format!("row {key}, column `{column}`: {error}"));
    }
}

fn value_ref<'r>(row: &'r Row<'_>, place: usize) -> Result<ValueRef<'r>> {
    row.get_ref(place).map_err(failed(READING))
}

/// A stored key; none if it is of a type that is no key.
pub(super) fn key_of(value: ValueRef<'_>) -> Option<Key> {
    match value {
        ValueRef::Integer(number) => Some(Key::Integer(number)),
        ValueRef::Text(text) => Some(Key::Text(String::from_utf8_lossy(text).into_owned())),
        ValueRef::Blob(bytes) => Some(Key::Bytes(bytes.to_vec())),
        ValueRef::Real(_) | ValueRef::Null => None,
    }
}

#[cold]
fn real_key(value: ValueRef<'_>) -> Error {
    let shown = value.as_f64().map_or(String::new(), |number| format!(" {number}"));
    Error::new(
        ErrorKind::BadRecord,
        format!("A row has the floating-point key{shown}; keys have to be whole numbers, texts or bytes."),
    )
}

/// A stored value as its column wants it; none where there is none, as an empty text is none for a date or a number.
fn read_value(value: ValueRef<'_>, column: &Column) -> Result<Option<Value>> {
    let value = match value {
        ValueRef::Null => return Ok(None),
        ValueRef::Text([]) if !matches!(column.kind(), Kind::Text | Kind::Exact) => return Ok(None),
        ValueRef::Integer(number) => Value::Integer(number),
        ValueRef::Real(number) => Value::Float(number),
        ValueRef::Text(text) => Value::Text(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Value::Text(String::from_utf8_lossy(bytes).into_owned()),
    };
    value.into_kind(column.kind()).map(Some)
}

/// The keys that the log names up to now, each once, and the highest number in the log.
pub(super) fn pending(connection: &Connection, names: &Names) -> Result<(Vec<Key>, Option<i64>)> {
    let sql = format!("SELECT seq, key FROM {} ORDER BY seq", names.table("log"));
    let read = || {
        let mut statement = connection.prepare_cached(&sql)?;
        let mut rows = statement.query([])?;
        let mut keys = std::collections::BTreeSet::new();
        let mut last = None;
        while let Some(row) = rows.next()? {
            last = Some(row.get(0)?);
            keys.extend(key_of(row.get_ref(1)?));
        }
        Ok((keys.into_iter().collect(), last))
    };
    read().map_err(failed("Reading the change log"))
}
