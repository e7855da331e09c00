//! Searching from SQL: functions that any statement on a connection may use, joined to the application's tables.
//!
//! ```
//! use nut_cellar::sqlite::{SqlFunctions, SqliteCellar};
//! use nut_cellar::{Column, Schema};
//! use rusqlite::Connection;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let db = Connection::open_in_memory()?;
//! db.execute_batch(
//!     "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, status TEXT);
//!      INSERT INTO items VALUES (1, 'Black umbrella', 'waiting'), (2, 'Umbrella stand', 'claimed');",
//! )?;
//! SqliteCellar::adopt(&db, "items", &Schema::new("id").with("title", Column::text("en")))?;
//!
//! SqlFunctions::new().register(&db)?;
//! let sql = "SELECT items.title, cellar_mark('items', 'umbrellas', 'title', items.title, '[', ']')
//!            FROM cellar_find('items', 'umbrellas') AS found JOIN items ON items.id = found.key
//!            WHERE items.status = 'waiting' ORDER BY found.rank";
//! let marked: String = db.query_row(sql, [], |row| row.get(1))?;
//! assert_eq!(marked, "Black [umbrella]");
//! # Ok(()) }
//! ```
//!
//! | call | gives |
//! | --- | --- |
//! | `cellar_find(CELLAR, QUERY, LIMIT, SETTINGS)` | a table of the hits: `key`, `score`, `rank` |
//! | `cellar_count(CELLAR, QUERY, COUNT, SETTINGS)` | a table of what is [counted](crate::counts) of all that is found: `value`, `records`, `what`, `begins`, `ends` |
//! | `cellar_response(CELLAR, REQUEST)` | all that a search answers, as JSON; see [`Request`](crate::Request) and [`Found`](crate::Found) |
//! | `cellar_suggest(CELLAR, TEXT, SETTINGS)` | corrections and completions of what somebody types, as JSON; see [`SuggestRequest`](crate::lenient::SuggestRequest) |
//! | `cellar_mark(CELLAR, QUERY, COLUMN, TEXT, BEFORE, AFTER)` | the text, with what the query finds in it marked |
//! | `cellar_excerpt(CELLAR, QUERY, COLUMN, TEXT, CHARACTERS, BEFORE, AFTER)` | the part of the text that has most of it |
//! | `cellar_tokens(TEXT, LANGUAGE)` | a table of what becomes of a text: `term`, `start`, `end`, `position`, `shared` |
//!
//! COUNT is a text such as `station most 5`. Where `what` is `value`, `records` have it; `others` have other values, and `missing` none. Ranges and
//! periods have where they begin and end. Of `value statistics` each row is a `count`, `least`, `greatest`, `sum`, `mean` or `quantile 0.5`.
//!
//! What stands behind the query, behind COUNT, what was typed, column, text or number of characters may be left out. LIMIT is 10 then, and cuts before the
//! statement's other conditions do; a filter in the settings cuts first. SETTINGS are a [request](crate::Request)
//! that says what else there is to say: `{"weights": {"title": 4}, "words": "any", "where": "status = 'waiting'"}`. NULL for a cellar, query,
//! request or text gives nothing.
//!
//! What always holds: a statement sees hits that agree with the rows as its own transaction sees them, uncommitted ones
//! included and rolled-back ones not; nothing is written, and no transaction is begun; and no panic crosses into the host.

mod count;
mod find;
mod mark;
mod raw;
mod respond;
mod table_function;
mod tokens;

use super::cellar::SqliteCellar;
use super::failure::failed;
use super::names::Names;
use super::reading::last_entry;
use nut_cellar_core::{Error, Result};
use rusqlite::Connection;
use rusqlite::types::Value;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The functions, for any number of connections. Clones share what was read of cellars.
#[derive(Clone, Debug, Default)]
pub struct SqlFunctions {
    shared: Arc<Shared>,
}

/// The cellars that were opened, by name and with the version that the schema of their database had.
#[derive(Debug, Default)]
struct Shared {
    cellars: Mutex<HashMap<String, (i64, Arc<SqliteCellar>)>>,
}

impl SqlFunctions {
    /// Functions that open each cellar when it is first asked for.
    pub fn new() -> Self {
        Self::default()
    }

    /// Makes the functions known to a connection; costs nothing until they are used.
    ///
    /// # Errors
    /// If SQLite refuses, as where the connection is busy with a function of the same name.
    pub fn register(&self, connection: &Connection) -> Result<()> {
        let register = || {
            raw::register(connection, find::Find(Arc::clone(&self.shared)))?;
            raw::register(connection, count::Counting(Arc::clone(&self.shared)))?;
            raw::register(connection, tokens::Tokens)?;
            respond::register(connection, &self.shared)?;
            mark::register(connection, &self.shared)
        };
        register().map_err(failed("Registering the functions"))
    }
}

impl Shared {
    /// Does `work` with a cellar, opened anew if it may be another since it was opened.
    fn with<T>(
        &self,
        connection: &Connection,
        name: &str,
        work: impl Fn(&SqliteCellar) -> Result<T>,
    ) -> Result<T> {
        let version = schema_version(connection)?;
        let known =
            self.lock().get(name).filter(|(at, _)| *at == version).map(|(_, cellar)| Arc::clone(cellar));
        if let Some(cellar) = known {
            match work(&cellar) {
                Err(error) if error.is_out_of_step() => {}
                done => return done,
            }
        }
        let cellar = Arc::new(SqliteCellar::open(connection, name)?);
        self.lock().insert(name.to_owned(), (version, Arc::clone(&cellar)));
        work(&cellar)
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<String, (i64, Arc<SqliteCellar>)>> {
        // What a thread that panicked has left here is whole: inserting is all that is done.
        self.cellars.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A number that changes with the tables and triggers of the database.
fn schema_version(connection: &Connection) -> Result<i64> {
    let read = connection.query_row("PRAGMA main.schema_version", [], |row| row.get(0));
    read.map_err(failed("Reading the database's schema"))
}

/// A number that differs where what the connection's transaction has changed may change what a cellar finds, which the first argument names.
fn changes(connection: &Connection, arguments: &[Value]) -> Option<i64> {
    let Some(Value::Text(cellar)) = arguments.first() else { return None };
    let last = last_entry(connection, &Names::new(cellar).ok()?).ok()?;
    Some(last.map_or(0, |last| last.mark))
}

/// The error as SQLite takes it from a function.
fn told(error: Error) -> rusqlite::Error {
    rusqlite::Error::UserFunctionError(Box::new(error))
}
