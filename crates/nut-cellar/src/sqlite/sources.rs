//! The tables that a cellar's records come from: the one with a row for each, and those that are joined to it.
//!
//! What always holds: the SQL made here compares the columns of a join in one way, the parent's column first, whose collation counts; so
//! the rows that belong to a record are the same when it is read and when a change of one of them is followed back to it.

use super::names::{Names, Time, in_main, quoted};
use super::table::Table;
use nut_cellar_core::schema::{Condition, Link, Source};
use nut_cellar_core::{Error, ErrorKind, Key, Result, Schema};
use rusqlite::Connection;
use rusqlite::types::Value;

/// The tables, checked to have what the schema names.
pub(super) struct Sources<'s> {
    pub schema: &'s Schema,
    pub table: Table,
    /// What records are read from where that is not the table.
    pub derived: Option<Derived>,
    pub joins: Vec<Joined<'s>>,
}

/// A joined table.
pub(super) struct Joined<'s> {
    pub table: Table,
    pub link: Link<'s>,
}

impl<'s> Sources<'s> {
    /// Looks at the tables of a schema.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if a table or a column is not there, or where one row is to be joined several may be.
    pub fn read(connection: &Connection, table: &str, schema: &'s Schema) -> Result<Self> {
        let table = Table::read(connection, table)?;
        let mut joins = Vec::new();
        if let Some(source) = schema.source() {
            for (join, link) in source.joins.iter().zip(source.links()?) {
                let joined = Table::read(connection, &join.table)?;
                let column = joined.column(link.column)?;
                if !join.many && !joined.are_unique(&[column]) {
                    return Err(Error::new(
                        ErrorKind::BadSchema,
                        format!(
                            "Several rows of `{0}` may have the same `{column}`; write `many = true` at its join, or give the \
                             column a UNIQUE index.",
                            join.table
                        ),
                    ));
                }
                joins.push(Joined { table: joined, link });
            }
        }
        let derived = schema.source().map(|source| Derived::read(connection, source)).transpose()?.flatten();
        let sources = Self { schema, table, derived, joins };
        for Joined { link, .. } in &sources.joins {
            sources.of(link.parent).column(link.parent_column)?;
        }
        for (name, column) in schema.columns() {
            for source in column.sources(name) {
                let (join, column) = sources.place_of(source);
                sources.column(join, column)?;
            }
        }
        for key in sources.table.key(schema)? {
            sources.column(None, key)?;
        }
        sources.condition()?;
        Ok(sources)
    }

    /// The declared name of a column: of a joined table, or of what records are read from.
    fn column(&self, join: Option<usize>, name: &str) -> Result<&str> {
        match (&self.derived, join) {
            (Some(derived), None) => derived.column(name),
            _ => self.of(join).column(name),
        }
    }

    /// What records are selected from.
    pub fn from(&self) -> String {
        self.derived.as_ref().map_or_else(|| in_main(&self.table.name), |derived| derived.sql.clone())
    }

    fn only(&self) -> impl Iterator<Item = &Condition> {
        self.schema.source().into_iter().flat_map(|source| &source.conditions)
    }

    /// What rows have to be, of the records' table as `base`.
    pub fn condition(&self) -> Result<String> {
        let mut all = vec!["true".to_owned()];
        for Condition { column, absent, is, isnt } in self.only() {
            let column = format!("base.{}", quoted(self.column(None, column)?));
            let text = format!("CAST({column} AS TEXT) COLLATE BINARY");
            let none = if *absent == Some(false) { "IS NOT NULL" } else { "IS NULL" };
            all.push(match (is, isnt) {
                (Some(values), _) => format!("{text} IN ({})", literals(values)),
                (_, Some(values)) => format!("({column} IS NULL OR {text} NOT IN ({}))", literals(values)),
                _ => format!("{column} {none}"),
            });
        }
        Ok(all.join(" AND "))
    }

    /// The table of a join, or of the records themselves.
    pub fn of(&self, join: Option<usize>) -> &Table {
        join.map_or(&self.table, |join| &self.joins[join].table)
    }

    /// The join and the column that a source names.
    pub fn place_of<'n>(&self, source: &'n str) -> (Option<usize>, &'n str) {
        self.schema.source().map_or((None, source), |known| known.place_of(source))
    }

    /// The columns of a table, quoted, on which records depend beside their key: what is searched, and what joins go by.
    pub fn watched(&self, of: Option<usize>) -> Result<Vec<&str>> {
        let table = self.of(of);
        if self.derived.is_some() {
            // Which of them it reads is not known.
            return Ok(table.columns().collect());
        }
        let mut watched = Vec::new();
        for (name, column) in self.schema.columns() {
            for source in column.sources(name) {
                let (join, column) = self.place_of(source);
                if join == of {
                    watched.push(table.column(column)?);
                }
            }
        }
        if let Some(join) = of {
            watched.push(table.column(self.joins[join].link.column)?);
        }
        for Joined { link, .. } in self.joins.iter().filter(|join| join.link.parent == of) {
            watched.push(table.column(link.parent_column)?);
        }
        for condition in self.only().filter(|_| of.is_none()) {
            watched.push(table.column(&condition.column)?);
        }
        watched.sort_unstable();
        watched.dedup();
        Ok(watched)
    }

    /// What is selected of the records' table, as `base`, for a source; and whether it is a JSON array of several values.
    pub fn selected(&self, source: &str) -> Result<(String, bool)> {
        let (join, column) = self.place_of(source);
        let column = quoted(self.column(join, column)?);
        let Some(join) = join else { return Ok((format!("base.{column}"), false)) };
        let value = format!("t{join}.{column}");
        // In the order of the values, so that they don't depend on how the table is stored.
        let sql = format!(
            "(SELECT json_group_array(v) FROM (SELECT CASE typeof({value}) WHEN 'blob' THEN CAST({value} AS TEXT) ELSE {value} END AS v \
             FROM {} WHERE {} AND {value} IS NOT NULL ORDER BY v))",
            self.tables(join).join(", "),
            self.conditions(join)?.join(" AND ")
        );
        Ok((sql, true))
    }

    /// The statement that gives the keys of the records to which a joined row belongs, by the value `?1` of its joined column; none if that
    /// is a text of which there are bytes only.
    pub fn expansion(&self, join: usize, value: Option<&Value>) -> Result<String> {
        let Joined { table, link } = &self.joins[join];
        let mut tables = vec![format!("{} AS base", in_main(&self.table.name))];
        let mut conditions = Vec::new();
        let parent = match link.parent {
            None => "base".to_owned(),
            Some(parent) => {
                tables.extend(self.tables(parent));
                conditions.extend(self.conditions(parent)?);
                format!("t{parent}")
            }
        };
        let parent_column = quoted(self.of(link.parent).column(link.parent_column)?);
        // A number is compared with texts as one, as the column does that it comes from; what else a column may do for a
        // comparison, the parent's does here as well.
        let is_number = table.is_numeric(link.column);
        let value = match value {
            Some(Value::Integer(_) | Value::Real(_)) if is_number => "CAST(?1 AS NUMERIC)",
            Some(_) => "?1",
            None => "CAST(?1 AS TEXT)",
        };
        conditions.push(format!("{parent}.{parent_column} = {value}"));
        let key: Vec<_> =
            self.table.key(self.schema)?.into_iter().map(|key| format!("base.{}", quoted(key))).collect();
        Ok(format!(
            "SELECT DISTINCT {} FROM {} WHERE {}",
            key.join(", "),
            tables.join(", "),
            conditions.join(" AND ")
        ))
    }

    /// A join and those between it and the records' table.
    fn path(&self, join: usize) -> impl Iterator<Item = usize> {
        std::iter::successors(Some(join), |join| self.joins[*join].link.parent)
    }

    fn tables(&self, join: usize) -> Vec<String> {
        self.path(join).map(|join| format!("{} AS t{join}", in_main(&self.joins[join].table.name))).collect()
    }

    fn conditions(&self, join: usize) -> Result<Vec<String>> {
        self.path(join)
            .map(|join| {
                let Joined { table, link } = &self.joins[join];
                let parent = link.parent.map_or("base".to_owned(), |parent| format!("t{parent}"));
                let parent_column = quoted(self.of(link.parent).column(link.parent_column)?);
                Ok(format!("{parent}.{parent_column} = t{join}.{}", quoted(table.column(link.column)?)))
            })
            .collect()
    }
}

/// A view or a query that records are read from.
pub(super) struct Derived {
    /// As something to select from.
    sql: String,
    /// How it is told in messages.
    pub name: String,
    columns: Vec<String>,
}

impl Derived {
    /// Looks at the columns of what a source names, if it names such.
    fn read(connection: &Connection, source: &Source) -> Result<Option<Self>> {
        let (sql, name) = match (&source.view, &source.query) {
            (Some(view), _) => (in_main(view), format!("View `{view}`")),
            // A comment that it may end with ends with the line.
            (None, Some(query)) => (format!("({query}\n)"), "The query".to_owned()),
            (None, None) => return Ok(None),
        };
        let statement = connection.prepare(&format!("SELECT * FROM {sql} AS base")).map_err(|error| {
            let message = format!("{name} can't be read from: {error}.");
            Error::caused(ErrorKind::BadSchema, message, error)
        })?;
        let columns = statement.column_names().map(str::to_owned).collect();
        drop(statement);
        Ok(Some(Self { sql, name, columns }))
    }

    fn column(&self, name: &str) -> Result<&str> {
        let found = self.columns.iter().find(|column| column.eq_ignore_ascii_case(name));
        found.map(String::as_str).ok_or_else(|| {
            let message =
                format!("{} has no column `{name}`; it has {}.", self.name, self.columns.join(", "));
            Error::new(ErrorKind::BadSchema, message)
        })
    }

    /// The error for two rows with one key.
    #[cold]
    pub fn ambiguous(&self, key: &Key) -> Error {
        let message =
            format!("{} gives several rows for the key {key}; each record has just one.", self.name);
        Error::new(ErrorKind::BadRecord, message)
    }
}

/// Texts, as SQL.
fn literals(values: &[String]) -> String {
    let quoted = values.iter().map(|value| format!("'{}'", value.replace('\'', "''")));
    quoted.collect::<Vec<_>>().join(", ")
}

/// The triggers of a cellar: how the name of each ends, and the table that it is on.
pub(super) fn triggers_on<'s>(table: &'s str, schema: &'s Schema, time: Time) -> Vec<(String, &'s str)> {
    let joined = schema.source().into_iter().flat_map(|source| &source.joins);
    Names::trigger_endings(None, time)
        .map(|ending| (ending, table))
        .chain(joined.enumerate().flat_map(|(place, join)| {
            Names::trigger_endings(Some(place), time).map(|ending| (ending, join.table.as_str()))
        }))
        .collect()
}
