//! Reading rows of the application's table as records.

use super::failure::failed;
use super::names::{Names, quoted};
use super::sources::{Derived, Sources};
use crate::rows::{Stretch, Unreadable, json, key_of_parts, key_parts, parts_of_key};
use nut_cellar_core::{Column, Error, ErrorKind, Key, Kind, Record, Result, Schema, Value};
use rusqlite::types::{self, ValueRef};
use rusqlite::{Connection, OptionalExtension, Row, Statement};
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::fmt::Write as _;

/// Reads rows of a table by a schema.
pub(super) struct Rows<'s> {
    schema: &'s Schema,
    /// What they are read from where that is not the table, and might give one twice.
    derived: Option<&'s Derived>,
    /// The key, then the sources of each column, in schema order.
    select: String,
    /// Which of the sources are JSON arrays.
    arrays: Vec<bool>,
    /// Its columns, of the table as `base`.
    key: Vec<String>,
    /// The row that was read last.
    record: Record,
    /// Values that could not be read as their column's kind.
    pub unreadable: Unreadable,
}

const READING: &str = "Reading the table";

impl<'s> Rows<'s> {
    pub fn new(sources: &'s Sources<'_>) -> Result<Self> {
        let (schema, table) = (sources.schema, &sources.table);
        let key: Vec<_> = table.key(schema)?.into_iter().map(|key| format!("base.{}", quoted(key))).collect();
        let (mut columns, mut arrays) = (key.clone(), Vec::new());
        for (name, column) in schema.columns() {
            for source in column.sources(name) {
                let (selected, array) = sources.selected(source)?;
                columns.push(selected);
                arrays.push(array);
            }
        }
        let condition = sources.condition()?;
        let select =
            format!("SELECT {} FROM {} AS base WHERE {condition}", columns.join(", "), sources.from());
        Ok(Self {
            schema,
            derived: sources.derived.as_ref(),
            select,
            arrays,
            key,
            record: Record::new(0),
            unreadable: Unreadable::default(),
        })
    }

    /// The rows of a part, in key order, each given to `take`.
    pub fn part(
        &mut self,
        connection: &Connection,
        part: &mut Stretch,
        mut take: impl FnMut(&Record) -> Result<()>,
    ) -> Result<()> {
        let exactly = if self.derived.is_some() { " COLLATE BINARY" } else { "" };
        let order: Vec<_> = self.key.iter().map(|key| format!("{key}{exactly}")).collect();
        let order = order.join(", ");
        let parts =
            part.from.as_ref().and_then(|from| parts_of_key(from, self.key.len())).unwrap_or_default();
        let from = if parts.is_empty() {
            String::new()
        } else {
            format!("AND ({order}) >= ({})", vec!["?"; parts.len()].join(", "))
        };
        let there =
            self.key.iter().fold(String::new(), |there, key| format!("{there} AND {key} IS NOT NULL"));
        let sql = format!("{}{there} {from} ORDER BY {order}{}", self.select, part.limit());
        let mut statement = connection.prepare(&sql).map_err(failed(READING))?;
        let parameters = rusqlite::params_from_iter(parts.iter().map(parameter));
        let mut rows = statement.query(parameters).map_err(failed(READING))?;
        while let Some(row) = rows.next().map_err(failed(READING))? {
            part.rows += 1;
            if !self.read(row)? {
                continue;
            }
            let key = &self.record.key;
            if let Some(derived) = self.derived.filter(|_| part.last.as_ref() == Some(key)) {
                return Err(derived.ambiguous(key));
            }
            part.last = Some(key.clone());
            if part.from.as_ref() != Some(key) {
                take(&self.record)?;
            }
        }
        Ok(())
    }

    /// Gives `take` each of these keys, which ascend, with its row, if there is one. Rows whose keys are numbers that follow one
    /// another, as those of new rows are, are read in one go, which takes half the time.
    pub fn each_of(
        &mut self,
        connection: &Connection,
        keys: &[Key],
        mut take: impl FnMut(&Key, Option<&Record>) -> Result<()>,
    ) -> Result<()> {
        let mut sql = self.select.clone();
        for (column, place) in self.key.iter().zip(1..) {
            let _ = write!(sql, " AND {column} = ?{place}");
        }
        let mut one = connection.prepare_cached(&sql).map_err(failed(READING))?;
        for run in keys.chunk_by(is_next) {
            if run.len() >= WORTH_A_RUN {
                self.each_in(connection, run, &mut take)?;
                continue;
            }
            for key in run {
                let found = self.find(&mut one, key)?;
                take(key, found.then_some(&self.record))?;
            }
        }
        Ok(())
    }

    /// The same, of keys that are numbers which follow one another.
    fn each_in(
        &mut self,
        connection: &Connection,
        keys: &[Key],
        mut take: impl FnMut(&Key, Option<&Record>) -> Result<()>,
    ) -> Result<()> {
        let (Some(column), [first, .., last]) = (self.key.first(), keys) else { return Ok(()) };
        let sql = format!("{} AND {column} >= ?1 AND {column} <= ?2 ORDER BY {column}", self.select);
        let mut statement = connection.prepare_cached(&sql).map_err(failed(READING))?;
        let mut rows = statement.query([parameter(first), parameter(last)]).map_err(failed(READING))?;
        let (mut left, mut before) = (keys.iter(), None);
        while let Some(row) = rows.next().map_err(failed(READING))? {
            let Some(key) = key_in(row, 0, 1).map_err(failed(READING))? else { continue };
            if let Some(derived) = self.derived.filter(|_| before.as_ref() == Some(&key)) {
                return Err(derived.ambiguous(&key));
            }
            if let Some(place) = left.as_slice().iter().position(|left| *left == key) {
                for gone in left.by_ref().take(place) {
                    take(gone, None)?;
                }
                left.next();
                let found = self.read(row)?;
                take(&key, found.then_some(&self.record))?;
            }
            before = Some(key);
        }
        left.try_for_each(|gone| take(gone, None))
    }

    /// Reads the row with this key, if there is one.
    fn find(&mut self, statement: &mut Statement<'_>, key: &Key) -> Result<bool> {
        let Some(parts) = parts_of_key(key, self.key.len()) else { return Ok(false) };
        let parameters = rusqlite::params_from_iter(parts.iter().map(parameter));
        let mut rows = statement.query(parameters).map_err(failed(READING))?;
        // A collation may take other keys for this one; only the very same is meant.
        let mut found = false;
        while let Some(row) = rows.next().map_err(failed(READING))? {
            if key_in(row, 0, self.key.len()).map_err(failed(READING))?.as_ref() != Some(key) {
                continue;
            }
            match self.derived {
                None => return self.read(row),
                Some(derived) if found => return Err(derived.ambiguous(key)),
                Some(_) => found = self.read(row)?,
            }
        }
        Ok(found)
    }

    /// Reads a row as the record; tells whether it has a key.
    fn read(&mut self, row: &Row<'_>) -> Result<bool> {
        for place in 0..self.key.len() {
            match value_ref(row, place)? {
                value @ ValueRef::Real(_) => return Err(real_key(value)),
                ValueRef::Text(text) if str::from_utf8(text).is_err() => return Err(broken_key(text)),
                _ => {}
            }
        }
        let key = key_in(row, 0, self.key.len()).map_err(failed(READING))?;
        let Some(key) = key else { return Ok(false) };
        let record = &mut self.record;
        record.begin_again(key);
        let mut place = self.key.len();
        for (name, column) in self.schema.columns() {
            for _ in column.sources(name) {
                let value = value_ref(row, place)?;
                place += 1;
                if self.arrays[place - self.key.len() - 1] {
                    let json = value.as_str().unwrap_or("[]");
                    json::add(record, (name, column), json, &mut self.unreadable)?;
                    continue;
                }
                match read_value(value, column) {
                    Ok(Some(value)) => record.add(name, value),
                    Ok(None) => {}
                    Err(error) => self.unreadable.note(&record.key, name, &error),
                }
            }
        }
        Ok(true)
    }
}

/// So many rows whose keys follow one another are read in one go, at least.
const WORTH_A_RUN: usize = 8;

/// Whether a key is the number that follows another.
fn is_next(key: &Key, next: &Key) -> bool {
    matches!((key, next), (Key::Integer(key), Key::Integer(next)) if key.checked_add(1) == Some(*next))
}

fn value_ref<'r>(row: &'r Row<'_>, place: usize) -> Result<ValueRef<'r>> {
    row.get_ref(place).map_err(failed(READING))
}

/// The key whose parts stand in a row from a column on; none if one of them is of a type that is no key.
fn key_in(row: &Row<'_>, first: usize, count: usize) -> rusqlite::Result<Option<Key>> {
    if count == 1 {
        return row.get_ref(first).map(key_of);
    }
    let mut parts = Vec::with_capacity(count);
    for place in first..first + count {
        let Some(part) = key_of(row.get_ref(place)?) else { return Ok(None) };
        parts.push(part);
    }
    Ok(key_of_parts(parts))
}

/// A stored key; none if it is of a type that is no key, or a text that is none: several such would become one.
fn key_of(value: ValueRef<'_>) -> Option<Key> {
    match value {
        ValueRef::Integer(number) => Some(Key::Integer(number)),
        ValueRef::Text(text) => str::from_utf8(text).ok().map(|text| Key::Text(text.to_owned())),
        ValueRef::Blob(bytes) => Some(Key::Bytes(bytes.to_vec())),
        ValueRef::Real(_) | ValueRef::Null => None,
    }
}

/// A text; what is not UTF-8 in it is replaced.
fn text_of(bytes: &[u8]) -> Cow<'_, str> {
    str::from_utf8(bytes).map_or_else(|_| String::from_utf8_lossy(bytes), Cow::Borrowed)
}

/// A key as SQLite has it; several parts as a JSON array.
pub(super) fn parameter(key: &Key) -> types::Value {
    match key {
        Key::Integer(number) => types::Value::Integer(*number),
        Key::Text(text) => types::Value::Text(text.clone()),
        Key::Bytes(bytes) => types::Value::Blob(bytes.clone()),
        Key::Several(_) => types::Value::Text(serde_json::to_string(key).unwrap_or_default()),
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

#[cold]
fn broken_key(text: &[u8]) -> Error {
    Error::new(
        ErrorKind::BadRecord,
        format!(
            "A row has the key `{}`, a text that is not UTF-8; keys have to be whole numbers, texts or bytes.",
            text.escape_ascii()
        ),
    )
}

/// A stored value as its column wants it; none where there is none, as an empty text is none for a date or a number.
fn read_value(value: ValueRef<'_>, column: &Column) -> Result<Option<Value>> {
    let value = match value {
        ValueRef::Null => return Ok(None),
        ValueRef::Text([]) if !matches!(column.kind(), Kind::Text | Kind::Exact) => return Ok(None),
        ValueRef::Integer(number) => Value::Integer(number),
        ValueRef::Real(number) => Value::Float(number),
        ValueRef::Text(text) | ValueRef::Blob(text) => {
            return Value::read(column.kind(), &text_of(text)).map(Some);
        }
    };
    value.into_kind(column.kind()).map(Some)
}

/// An entry of the log: its number, and what tells it from others that had this number in a transaction that was rolled back. With
/// the state, the last entry tells all of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Entry {
    pub seq: i64,
    pub mark: i64,
}

/// The last entry of the log.
pub(super) fn last_entry(connection: &Connection, names: &Names) -> Result<Option<Entry>> {
    let sql = format!("SELECT seq, mark FROM {} ORDER BY seq DESC LIMIT 1", names.table("log"));
    let read = || {
        let mut statement = connection.prepare_cached(&sql)?;
        statement.query_row([], |row| Ok(Entry { seq: row.get(0)?, mark: row.get(1)? })).optional()
    };
    read().map_err(failed(READING_LOG))
}

/// Whether an entry is in the log; then so are those before it, unless they were caught up with.
pub(super) fn is_logged(connection: &Connection, names: &Names, entry: Entry) -> Result<bool> {
    let sql = format!("SELECT 1 FROM {} WHERE seq = ?1 AND mark = ?2", names.table("log"));
    let read = || connection.prepare_cached(&sql)?.exists([entry.seq, entry.mark]);
    read().map_err(failed(READING_LOG))
}

const READING_LOG: &str = "Reading the change log";

/// What the log names.
#[derive(Debug, Default)]
struct Logged {
    /// Keys of records, as they come.
    keys: Vec<Key>,
    /// By what rows of joined tables are joined, with the joins' places; each once.
    joined: Vec<(usize, Joining)>,
}

/// What a row is joined by.
#[derive(Debug)]
enum Joining {
    By(types::Value),
    /// A text that is not UTF-8.
    Broken(Vec<u8>),
}

/// Reads the log, whose keys have so many parts, behind a number.
fn logged(connection: &Connection, names: &Names, parts: usize, after: Option<i64>) -> Result<Logged> {
    let key = key_parts(parts).collect::<Vec<_>>().join(", ");
    let sql =
        format!("SELECT source, {key} FROM {} WHERE ?1 IS NULL OR seq > ?1 ORDER BY seq", names.table("log"));
    let read = || {
        let mut statement = connection.prepare_cached(&sql)?;
        let mut rows = statement.query([after])?;
        let mut logged = Logged::default();
        let mut known = BTreeSet::new();
        while let Some(row) = rows.next()? {
            match row.get::<_, Option<u32>>(0)?.and_then(|source| source.checked_sub(1)) {
                None => logged.keys.extend(key_in(row, 1, parts)?),
                Some(join) => {
                    let join = usize::try_from(join).unwrap_or(usize::MAX);
                    let value = match row.get_ref(1)? {
                        // It is compared as the text that it is called.
                        ValueRef::Text(text) if str::from_utf8(text).is_err() => {
                            Joining::Broken(text.to_vec())
                        }
                        value => Joining::By(value.try_into()?),
                    };
                    if known.insert((join, format!("{value:?}"))) {
                        logged.joined.push((join, value));
                    }
                }
            }
        }
        Ok(logged)
    };
    read().map_err(failed(READING_LOG))
}

/// The keys of the records that the log names: by themselves, or by rows that are joined to them.
/// If `after` is given, only what was logged behind this number counts.
pub(super) fn pending(
    connection: &Connection,
    names: &Names,
    sources: &Sources<'_>,
    after: Option<i64>,
) -> Result<Vec<Key>> {
    let parts = sources.schema.key_columns().len();
    let Logged { mut keys, joined } = logged(connection, names, parts, after)?;
    for (join, value) in joined {
        if join >= sources.joins.len() {
            continue;
        }
        let (sql, value) = match value {
            Joining::By(types::Value::Null) => continue,
            Joining::By(value) => (sources.expansion(join, Some(&value))?, value),
            Joining::Broken(text) => (sources.expansion(join, None)?, types::Value::Blob(text)),
        };
        let read = || {
            let mut statement = connection.prepare_cached(&sql)?;
            let mut rows = statement.query([value])?;
            while let Some(row) = rows.next()? {
                keys.extend(key_in(row, 0, parts)?);
            }
            Ok(())
        };
        read().map_err(failed("Following joined rows"))?;
    }
    keys.sort_unstable();
    keys.dedup();
    Ok(keys)
}
