//! Reading rows of the application's table as records.

use super::key::KeyColumns;
use super::names::quoted;
use super::sources::Sources;
use crate::rows::{Unreadable, json};
use nut_cellar_core::{Record, Result, Schema, Value};
use postgres::Row;

/// Reads rows of a table by a schema.
#[derive(Debug)]
pub(super) struct Rows {
    pub key: KeyColumns,
    /// The table, quoted.
    pub table: String,
    /// What they are selected from: the table, a view or a query.
    pub from: String,
    /// Whether that might give a key twice.
    pub derived: bool,
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
    /// As the digits of a whole number.
    Integer,
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
                columns.push(match sources.type_of(None, source)? {
                    "text" | "character varying" | "character" | "name" => {
                        (format!("t.{quoted}::text"), Reading::Text)
                    }
                    "smallint" | "integer" | "bigint" => (format!("t.{quoted}::text"), Reading::Integer),
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
            table: table.quoted(),
            from: sources.from(),
            derived: sources.derived.is_some(),
            condition: sources.condition(),
            columns,
        })
    }

    /// What is selected of the table as `t`: the key, and all columns behind it.
    pub fn selected(&self) -> String {
        let columns = self.columns.iter().map(|(column, _)| column.as_str());
        let key = self.key.selected("t");
        [key.as_str()].into_iter().chain(columns).collect::<Vec<_>>().join(", ")
    }

    /// How many columns are selected behind the key, all of them as text.
    pub fn columns(&self) -> usize {
        self.columns.len()
    }

    /// Reads a row, whose key begins at `at`, as a record; tells whether it has a key there.
    pub fn read(
        &self,
        (row, at): (&Row, usize),
        schema: &Schema,
        record: &mut Record,
        unreadable: &mut Unreadable,
    ) -> Result<bool> {
        let Some(key) = self.key.read(row, at)? else { return Ok(false) };
        record.begin_again(key);
        let mut readings = self.columns.iter().zip(at + self.key.len()..);
        for (name, column) in schema.columns() {
            for _ in column.sources(name) {
                let Some(((_, reading), place)) = readings.next() else { break };
                let text: Option<&str> =
                    row.try_get(place).map_err(super::failure::failed("Reading a row"))?;
                let Some(text) = text else { continue };
                let value = match reading {
                    Reading::Json => {
                        json::add(record, (name, column), text, unreadable)?;
                        continue;
                    }
                    Reading::Integer => text.parse().map_or_else(|_| Value::from(text), Value::Integer),
                    Reading::Text => Value::from(text),
                };
                match json::as_wanted(value, column) {
                    Ok(Some(value)) => record.add(name, value),
                    Ok(None) => {}
                    Err(error) => unreadable.note(&record.key, name, &error),
                }
            }
        }
        Ok(true)
    }
}
