//! The names of what belongs to a cellar, quoted so that no name ever becomes SQL.

use super::failure::failed;
use nut_cellar_core::schema::MOST_JOINS;
use nut_cellar_core::{Error, ErrorKind, Result};
use rusqlite::Connection;

/// The names of a cellar's tables and triggers.
#[derive(Clone, Debug)]
pub(super) struct Names {
    cellar: String,
}

/// The kinds of triggers, as their names end.
const TRIGGER_ENDINGS: [&str; 5] =
    ["before_insert", "before_update", "after_insert", "after_update", "after_delete"];
const TABLE_ENDINGS: [&str; 4] = ["state", "piece", "chunk", "log"];

impl Names {
    pub fn new(cellar: &str) -> Result<Self> {
        if cellar.is_empty() || cellar.contains('\0') {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "A cellar needs a name without zero bytes, such as `items`.",
            ));
        }
        Ok(Self { cellar: cellar.to_owned() })
    }

    /// The name of the cellar.
    pub fn cellar(&self) -> &str {
        &self.cellar
    }

    /// One of the tables or triggers, bare.
    pub fn bare(&self, ending: &str) -> String {
        format!("cellar_{}_{ending}", self.cellar)
    }

    /// A table, quoted, in the main database.
    pub fn table(&self, ending: &str) -> String {
        in_main(&self.bare(ending))
    }

    /// All tables, bare.
    pub fn bare_tables(&self) -> [String; 4] {
        TABLE_ENDINGS.map(|ending| self.bare(ending))
    }

    /// All tables, quoted.
    pub fn tables(&self) -> impl Iterator<Item = String> {
        TABLE_ENDINGS.into_iter().map(|ending| self.table(ending))
    }

    /// All triggers of a time that there may be, quoted.
    pub fn triggers(&self, time: Time) -> impl Iterator<Item = String> {
        let places = [None].into_iter().chain((0..MOST_JOINS).map(Some));
        places.flat_map(move |join| Self::trigger_endings(join, time)).map(|ending| self.table(&ending))
    }

    /// How the names of the triggers on a joined table end, or of those on the records' own.
    pub fn trigger_endings(join: Option<usize>, time: Time) -> impl Iterator<Item = String> {
        TRIGGER_ENDINGS.into_iter().map(move |ending| Self::trigger_ending(ending, join, time))
    }

    /// How the name of a trigger ends.
    pub fn trigger_ending(ending: &str, join: Option<usize>, time: Time) -> String {
        let next = if time == Time::Next { "_next" } else { "" };
        join.map_or(format!("{ending}{next}"), |join| format!("{ending}_join{join}{next}"))
    }
}

/// Which triggers are meant: those of the schema that a cellar has, or of the one that it is getting.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Time {
    Now,
    Next,
}

/// An identifier in quotation marks.
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A table of the main database, which no temporary table can stand in front of.
pub(super) fn in_main(name: &str) -> String {
    format!("main.{}", quoted(name))
}

/// The names of the cellars in a database.
///
/// # Errors
/// If the database can't be read.
pub fn cellars(connection: &Connection) -> Result<Vec<String>> {
    let read = || {
        let mut tables = connection.prepare(
            "SELECT substr(name, 8, length(name) - 13) FROM main.sqlite_schema
             WHERE type = 'table' AND name LIKE 'cellar\\__%\\_state' ESCAPE '\\' ORDER BY 1",
        )?;
        tables.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>()
    };
    read().map_err(failed("Listing the cellars"))
}
