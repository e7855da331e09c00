//! Reading rows of the application's table as records.

use super::key::KeyColumns;
use super::names::quoted;
use super::sources::Sources;
use super::types::ValueForm;
use crate::rows::{Unreadable, json};
use nut_cellar_core::{Record, Result, Schema, Value};
use postgres::Row;

/// Reads rows of a table by a schema.
#[derive(Clone, Debug)]
pub(super) struct Rows {
    pub key: KeyColumns,
    /// The table, quoted.
    pub table: String,
    /// What they are selected from: the table, a view or a query.
    pub from: String,
    /// Whether that might give a key twice, and runs what its owner has put into it.
    pub derived: bool,
    /// What its rows have to be, as `t`.
    condition: String,
    /// See [`Sources::gate`]; it stands in front of everything else.
    pub gate: String,
    /// What tells the types of the columns and how their values come from all others.
    pub types: String,
    /// What is selected for each source of each column, in schema order, of the table as `t`.
    columns: Vec<(String, ValueForm)>,
}

impl Rows {
    pub fn new(sources: &Sources<'_>) -> Result<Self> {
        let (table, schema) = (&sources.table, sources.schema);
        let mut columns = Vec::new();
        for (name, column) in schema.columns() {
            for source in column.sources(name) {
                let (join, source) = sources.place_of(source);
                columns.push(match (join, &sources.derived) {
                    (Some(join), _) => (sources.array(join, source)?, ValueForm::Json),
                    (None, None) => sources.table.type_of(source)?.value(&format!("t.{}", quoted(source))),
                    // Who may not run a query does not know its types, and has to read what it gives all the same.
                    (None, Some(derived)) => (derived.json(source)?, ValueForm::Json),
                });
            }
        }
        Ok(Self {
            key: table.key(schema)?,
            table: table.quoted(),
            from: sources.from(),
            derived: sources.derived.is_some(),
            condition: sources.condition()?,
            gate: sources.gate(),
            types: columns.iter().fold(sources.types(), |types, (_, reading)| format!("{types} {reading:?}")),
            columns,
        })
    }

    /// The rows of the table, those of them that `more` is true of as `t`, with their keys and all columns under [names](Self::names).
    pub fn select(&self, more: &str) -> String {
        let columns =
            self.columns.iter().enumerate().map(|(place, (column, _))| format!("{column} AS c{place}"));
        let key = self.key.selected_as("t", 'r');
        let all: Vec<_> = [key].into_iter().chain(columns).collect();
        let Self { from, gate, condition, .. } = self;
        format!("SELECT {} FROM {from} t WHERE {gate} AND {condition} AND {more}", all.join(", "))
    }

    /// What is selected of that, if it is called `t`: the key, and all columns behind it.
    pub fn names(&self) -> String {
        let names = (0..self.columns.len()).map(|place| format!("t.c{place}"));
        [self.key_names()].into_iter().chain(names).collect::<Vec<_>>().join(", ")
    }

    /// The key of that.
    pub fn key_names(&self) -> String {
        (0..self.key.len()).map(|place| format!("t.r{place}")).collect::<Vec<_>>().join(", ")
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
                    ValueForm::Json => {
                        json::add(record, (name, column), text, unreadable)?;
                        continue;
                    }
                    ValueForm::Integer => text.parse().map_or_else(|_| Value::from(text), Value::Integer),
                    ValueForm::Text => Value::from(text),
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
