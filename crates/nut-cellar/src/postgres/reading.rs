//! Reading rows of the application's table as records.

use super::names::quoted;
use super::sources::Sources;
use super::table::KeyKind;
use crate::rows::{Unreadable, json};
use nut_cellar_core::{Key, Record, Result, Schema, Value};
use postgres::Row;
use postgres::types::{ToSql, Type};

/// Reads rows of a table by a schema.
#[derive(Debug)]
pub(super) struct Rows {
    pub key: KeyKind,
    /// The column of the key, quoted.
    pub key_column: String,
    /// The table, quoted.
    pub table: String,
    /// What its rows have to be, as `t`.
    pub condition: String,
    /// What is selected for each source of each column, in schema order, of the table as `t`.
    columns: Vec<(String, Reading)>,
}

/// How a value comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Reading {
    /// As it is.
    Text,
    /// As JSON, which no setting of the session changes.
    Json,
}

impl Rows {
    pub fn new(sources: &Sources<'_>) -> Result<Self> {
        let (table, schema) = (&sources.table, sources.schema);
        let mut columns = Vec::new();
        for (name, column) in schema.columns() {
            for source in column.sources(name) {
                let (join, source) = sources.place_of(source);
                if let Some(join) = join {
                    columns.push((sources.array(join, source), Reading::Json));
                    continue;
                }
                let quoted = quoted(source);
                columns.push(match table.type_of(source)? {
                    "text" | "character varying" | "character" | "name" => {
                        (format!("t.{quoted}::text"), Reading::Text)
                    }
                    // A time of no zone is taken for one of the zone in which it does not depend on the session.
                    "timestamp without time zone" => {
                        (format!("pg_catalog.to_jsonb(t.{quoted} AT TIME ZONE 'UTC')::text"), Reading::Json)
                    }
                    _ => (format!("pg_catalog.to_jsonb(t.{quoted})::text"), Reading::Json),
                });
            }
        }
        Ok(Self {
            key: table.key(schema)?,
            key_column: quoted(schema.key()),
            table: table.quoted(),
            condition: sources.condition(),
            columns,
        })
    }

    /// What is selected of the table as `t`: the key, and all columns behind it.
    pub fn selected(&self) -> String {
        let columns = self.columns.iter().map(|(column, _)| column.as_str());
        let key = self.key.selected(&format!("t.{}", self.key_column));
        [key.as_str()].into_iter().chain(columns).collect::<Vec<_>>().join(", ")
    }

    /// How many columns are selected behind the key, all of them as text.
    pub fn columns(&self) -> usize {
        self.columns.len()
    }

    /// A row as a record, whose key stands at `at`; none if it has no key there.
    pub fn record(
        &self,
        row: &Row,
        at: usize,
        schema: &Schema,
        unreadable: &mut Unreadable,
    ) -> Result<Option<Record>> {
        let Some(key) = self.key.read(row, at)? else { return Ok(None) };
        let mut record = Record::new(key);
        let mut readings = self.columns.iter().zip(at + 1..);
        for (name, column) in schema.columns() {
            for _ in column.sources(name) {
                let Some(((_, reading), place)) = readings.next() else { break };
                let text: Option<&str> =
                    row.try_get(place).map_err(super::failure::failed("Reading a row"))?;
                let Some(text) = text else { continue };
                if *reading == Reading::Json {
                    json::add(&mut record, (name, column), text, unreadable)?;
                    continue;
                }
                match json::as_wanted(Value::Text(text.to_owned()), column) {
                    Ok(Some(value)) => record.add(name, value),
                    Ok(None) => {}
                    Err(error) => unreadable.note(&record.key, name, &error),
                }
            }
        }
        Ok(Some(record))
    }
}

impl KeyKind {
    /// How a key is selected.
    pub fn selected(self, column: &str) -> String {
        match self {
            Self::Integer => format!("{column}::bigint"),
            Self::Text | Self::Uuid => format!("{column}::text"),
            Self::Bytes => column.to_owned(),
        }
    }

    /// The type as which it is selected.
    pub fn type_name(self) -> &'static str {
        match self {
            Self::Integer => "bigint",
            Self::Text | Self::Uuid => "text",
            Self::Bytes => "bytea",
        }
    }

    /// How an array of keys is handed over, and what becomes of it.
    pub fn array(self) -> (Type, &'static str) {
        match self {
            Self::Integer => (Type::INT8_ARRAY, "bigint[]"),
            Self::Text => (Type::TEXT_ARRAY, "text[]"),
            Self::Uuid => (Type::TEXT_ARRAY, "uuid[]"),
            Self::Bytes => (Type::BYTEA_ARRAY, "bytea[]"),
        }
    }

    /// Reads a key; none if it is NULL.
    pub fn read(self, row: &Row, at: usize) -> Result<Option<Key>> {
        let read = match self {
            Self::Integer => row.try_get(at).map(|key: Option<i64>| key.map(Key::Integer)),
            Self::Text | Self::Uuid => row.try_get(at).map(|key: Option<String>| key.map(Key::Text)),
            Self::Bytes => row.try_get(at).map(|key: Option<Vec<u8>>| key.map(Key::Bytes)),
        };
        read.map_err(super::failure::failed("Reading a key"))
    }
}

/// Keys as one parameter, of the type that [`KeyKind::array`] tells. Those of another kind are left out: they are no key of the table.
pub(super) enum Keys<'k> {
    Integers(Vec<i64>),
    Texts(Vec<&'k str>),
    Bytes(Vec<&'k [u8]>),
}

impl<'k> Keys<'k> {
    pub fn of(kind: KeyKind, keys: impl IntoIterator<Item = &'k Key>) -> Self {
        let keys = keys.into_iter();
        match kind {
            KeyKind::Integer => Self::Integers(
                keys.filter_map(|key| if let Key::Integer(number) = key { Some(*number) } else { None })
                    .collect(),
            ),
            KeyKind::Text | KeyKind::Uuid => Self::Texts(
                keys.filter_map(|key| if let Key::Text(text) = key { Some(text.as_str()) } else { None })
                    .collect(),
            ),
            KeyKind::Bytes => Self::Bytes(
                keys.filter_map(
                    |key| if let Key::Bytes(bytes) = key { Some(bytes.as_slice()) } else { None },
                )
                .collect(),
            ),
        }
    }

    pub fn parameter(&self) -> &(dyn ToSql + Sync) {
        match self {
            Self::Integers(keys) => keys,
            Self::Texts(keys) => keys,
            Self::Bytes(keys) => keys,
        }
    }
}
