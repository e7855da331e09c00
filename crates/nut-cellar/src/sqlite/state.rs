//! The state row of a cellar: its manifest, whether it was ever filled, and the triggers as they should stand.

use super::failure::failed;
use super::names::{Names, Time};
use super::sources::{Sources, triggers_on};
use super::triggers::triggers;
use crate::rows::key_parts;
use crate::rows::manifests::Manifests;
use nut_cellar_core::{Error, ErrorKind, Manifest, Result, Schema};
use rusqlite::{Connection, OptionalExtension, Row, TransactionState, params};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// The time, in seconds since 1970.
const SECONDS: &str = "CAST(strftime('%s', 'now') AS INTEGER)";

/// What the state row says.
pub(super) struct State {
    pub manifest: Arc<Manifest>,
    /// Whether the rows that were there before the triggers have been read.
    pub filled: bool,
    /// The application's table.
    pub table: String,
    /// What [stands](standing) on the tables, as it did when it was made.
    triggers: String,
    /// The statements that made the triggers: what the tables are like is in them.
    made: String,
}

/// With what number of the database's schema, and for which triggers, a handle has last seen that everything stands. Whatever is made,
/// altered or dropped has another number.
#[derive(Debug, Default)]
pub(super) struct Stood(Mutex<Option<(i64, String)>>);

impl State {
    /// Makes the tables of a cellar, the triggers on `table`, and the state row.
    pub fn create(
        connection: &Connection,
        names: &Names,
        manifest: &Manifest,
        table: &str,
        triggers: &[String],
    ) -> Result<()> {
        let key: Vec<_> = key_parts(manifest.schema.key_columns().len()).collect();
        let tables = format!(
            "CREATE TABLE {state}(
                 one INTEGER PRIMARY KEY CHECK (one = 1),
                 manifest BLOB NOT NULL,
                 filled INTEGER NOT NULL,
                 caught_up INTEGER NOT NULL,
                 source TEXT NOT NULL,
                 triggers TEXT NOT NULL,
                 made TEXT NOT NULL);
             CREATE TABLE {piece}(
                 piece BLOB PRIMARY KEY,
                 first_chunk INTEGER NOT NULL,
                 bytes INTEGER NOT NULL) WITHOUT ROWID;
             CREATE TABLE {chunk}(id INTEGER PRIMARY KEY, data BLOB NOT NULL);
             CREATE TABLE {log}(seq INTEGER PRIMARY KEY, {key}, mark INTEGER NOT NULL DEFAULT (random()), source INTEGER);",
            state = names.table("state"),
            piece = names.table("piece"),
            chunk = names.table("chunk"),
            log = names.table("log"),
            key = key.join(", "),
        );
        let create = || {
            connection.execute_batch(&tables)?;
            let standing = make_triggers(connection, names, (table, &manifest.schema, Time::Now), triggers)?;
            let sql =
                format!("INSERT INTO {} VALUES (1, ?1, 0, {SECONDS}, ?2, ?3, ?4)", names.table("state"));
            connection.execute(&sql, params![manifest.encode(), table, standing, triggers.concat()])
        };
        create().map(|_| ()).map_err(failed("Making tables and triggers"))
    }

    /// The state row, if there is such a cellar.
    pub fn read(connection: &Connection, names: &Names, known: &Manifests) -> Result<Option<Self>> {
        if !exists(connection, names)? {
            return Ok(None);
        }
        let sql = format!("SELECT manifest, filled, source, triggers, made FROM {}", names.table("state"));
        let read = || {
            let mut statement = connection.prepare_cached(&sql)?;
            let row = |row: &Row<'_>| {
                Ok((row.get::<_, Vec<u8>>(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?))
            };
            statement.query_row([], row).optional()
        };
        let row = read().map_err(failed("Reading the cellar"))?;
        let (manifest, filled, table, triggers, made) =
            row.ok_or_else(|| Error::damaged("the state row is not there"))?;
        Ok(Some(Self { manifest: known.decode(&manifest)?, filled, table, triggers, made }))
    }

    /// The state of a cellar that has to be there.
    pub fn require(connection: &Connection, names: &Names, known: &Manifests) -> Result<Self> {
        Self::read(connection, names, known)?.ok_or_else(|| not_there(connection, names))
    }

    /// Whether the triggers stand as they were made, and are those that the tables need as they are now. Otherwise changes would go
    /// unseen.
    pub fn stands(&self, connection: &Connection, names: &Names) -> Result<bool> {
        let of = (self.table.as_str(), &*self.manifest.schema, Time::Now);
        if standing(connection, names, of).map_err(failed("Reading the triggers"))? != self.triggers {
            return Ok(false);
        }
        let needed = Sources::read(connection, &self.table, &self.manifest.schema)
            .and_then(|sources| triggers(names, &sources, Time::Now));
        match needed {
            Ok(needed) => Ok(needed.concat() == self.made),
            Err(error) if error.kind() == ErrorKind::BadSchema => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Refuses what does not [stand](Self::stands). Where nothing was made, altered or dropped since the handle has last looked, it
    /// need not look again.
    pub fn check_triggers(&self, connection: &Connection, names: &Names, stood: &Stood) -> Result<()> {
        let look = || {
            let version =
                connection.prepare_cached("PRAGMA main.schema_version")?.query_row([], |row| row.get(0))?;
            // What a transaction makes may be rolled back, and then somebody else's has its number.
            Ok((version, connection.transaction_state(Some("main"))? != TransactionState::Write))
        };
        let (version, committed): (i64, bool) = look().map_err(failed("Reading the triggers"))?;
        let mut stood = stood.0.lock().unwrap_or_else(PoisonError::into_inner);
        if committed && stood.as_ref().is_some_and(|(known, made)| *known == version && *made == self.made) {
            return Ok(());
        }
        if self.stands(connection, names)? {
            if committed {
                *stood = Some((version, self.made.clone()));
            }
            return Ok(());
        }
        Err(Error::new(
            ErrorKind::OutOfStep,
            format!(
                "What keeps the cellar `{}` in step with table `{}` is gone or altered (was the table rebuilt or renamed, a view \
                 made anew, a unique index made or dropped, or a trigger that ends statements made?); adopt the table again, or \
                 `repair` the cellar.",
                names.cellar(),
                self.table
            ),
        ))
    }

    /// Notes that all rows have been read as they were at a time.
    pub fn set_caught_up(connection: &Connection, names: &Names, at: i64) -> Result<()> {
        let sql = format!("UPDATE {} SET filled = 1, caught_up = ?1", names.table("state"));
        connection.execute(&sql, [at]).map(|_| ()).map_err(failed("Writing the cellar"))
    }

    /// How many seconds ago all rows had been read.
    pub fn age(connection: &Connection, names: &Names) -> Result<Duration> {
        let sql = format!("SELECT {SECONDS} - caught_up FROM {}", names.table("state"));
        let age: i64 =
            connection.query_row(&sql, [], |row| row.get(0)).map_err(failed("Reading the cellar"))?;
        Ok(Duration::from_secs(u64::try_from(age).unwrap_or(0)))
    }

    /// What time it is, in seconds.
    pub fn time(connection: &Connection) -> Result<i64> {
        connection
            .query_row(&format!("SELECT {SECONDS}"), [], |row| row.get(0))
            .map_err(failed("Reading the time"))
    }
}

/// Makes the triggers of a schema that a cellar is getting, in place of others of that time. Gives what [`next_stand`] is to be asked for.
pub(super) fn make_next(
    connection: &Connection,
    names: &Names,
    (table, schema): (&str, &Schema),
    triggers: &[String],
) -> Result<String> {
    let make = || {
        drop_triggers(connection, names, Time::Next)?;
        make_triggers(connection, names, (table, schema, Time::Next), triggers)
    };
    make().map_err(failed("Making triggers"))
}

/// Whether the triggers of the schema that a cellar is getting still are those that were made.
pub(super) fn next_stand(
    connection: &Connection,
    names: &Names,
    (table, schema): (&str, &Schema),
    made: &str,
) -> Result<bool> {
    let standing = standing(connection, names, (table, schema, Time::Next));
    Ok(standing.map_err(failed("Reading the triggers"))? == made)
}

/// Puts the triggers of a new schema in the place of those there are, and of those of the time between.
pub(super) fn replace_triggers(
    connection: &Connection,
    names: &Names,
    (table, schema): (&str, &Schema),
    triggers: &[String],
) -> Result<()> {
    let replace = || {
        drop_triggers(connection, names, Time::Next)?;
        drop_triggers(connection, names, Time::Now)?;
        let standing = make_triggers(connection, names, (table, schema, Time::Now), triggers)?;
        let sql = format!("UPDATE {} SET triggers = ?1, made = ?2", names.table("state"));
        connection.execute(&sql, [standing, triggers.concat()])
    };
    replace().map(|_| ()).map_err(failed("Making triggers"))
}

/// Drops all triggers of a time.
pub(super) fn drop_triggers(connection: &Connection, names: &Names, time: Time) -> rusqlite::Result<()> {
    names
        .triggers(time)
        .try_for_each(|trigger| connection.execute_batch(&format!("DROP TRIGGER IF EXISTS {trigger}")))
}

/// Makes triggers, and gives them as they stand.
fn make_triggers(
    connection: &Connection,
    names: &Names,
    (table, schema, time): (&str, &Schema, Time),
    triggers: &[String],
) -> rusqlite::Result<String> {
    for trigger in triggers {
        connection.execute_batch(trigger)?;
    }
    standing(connection, names, (table, schema, time))
}

/// The triggers of a cellar that stand on their tables, as SQLite keeps them, one after the other; the view that is read from; and the
/// triggers that may keep ours from running: those made later run first.
fn standing(
    connection: &Connection,
    names: &Names,
    (table, schema, time): (&str, &Schema, Time),
) -> rusqlite::Result<String> {
    let sql = "SELECT sql FROM main.sqlite_schema
               WHERE type = 'trigger' AND name = ?1 AND tbl_name = ?2 COLLATE NOCASE";
    let mut statement = connection.prepare_cached(sql)?;
    let mut standing = String::new();
    for (ending, table) in &triggers_on(table, schema, time) {
        let sql: Option<String> =
            statement.query_row([names.bare(ending).as_str(), table], |row| row.get(0)).optional()?;
        standing.extend(sql.iter().flat_map(|sql| [sql.as_str(), ";\n"]));
        standing.extend(ending_before(connection, &names.bare(ending), table)?);
    }
    // What a view gives depends on how it is made.
    if let Some(view) = schema.source().and_then(|source| source.view.as_deref()) {
        let sql = "SELECT sql FROM main.sqlite_schema WHERE type = 'view' AND name = ?1 COLLATE NOCASE";
        let sql: Option<String> =
            connection.prepare_cached(sql)?.query_row([view], |row| row.get(0)).optional()?;
        standing.extend(sql);
    }
    Ok(standing)
}

/// The triggers on a table that were made behind ours, run when a row has been written, and may end the statement without undoing that:
/// by RAISE(IGNORE), or where something fails with FAIL.
fn ending_before(connection: &Connection, ours: &str, table: &str) -> rusqlite::Result<Vec<String>> {
    let sql = "SELECT t.sql FROM main.sqlite_schema o JOIN main.sqlite_schema t ON t.type = 'trigger' AND t.rowid > o.rowid
               WHERE o.type = 'trigger' AND o.name = ?1 AND t.tbl_name = ?2 COLLATE NOCASE
                 AND (t.sql LIKE '%raise%ignore%' OR t.sql LIKE '%fail%')";
    let mut statement = connection.prepare_cached(sql)?;
    let all =
        statement.query_map([ours, table], |row| row.get(0))?.collect::<rusqlite::Result<Vec<String>>>()?;
    // What runs before a row is written keeps it from being written.
    let behind = |sql: &String| {
        let words = sql.to_ascii_lowercase();
        words.split_whitespace().take_while(|word| *word != "on").any(|word| word == "after")
    };
    Ok(all.into_iter().filter(behind).collect())
}

/// Whether there is a cellar.
///
/// # Errors
/// [`ErrorKind::Damaged`] if there is a part of one only.
pub(super) fn exists(connection: &Connection, names: &Names) -> Result<bool> {
    let sql = "SELECT count(*) FROM main.sqlite_schema WHERE type = 'table' AND name COLLATE NOCASE IN (?1, ?2, ?3, ?4)";
    let count = || connection.prepare_cached(sql)?.query_row(names.bare_tables(), |row| row.get(0));
    let ending = Names::trigger_ending("after_insert", None, Time::Now);
    let sql = "SELECT 1 FROM main.sqlite_schema WHERE type = 'trigger' AND name = ?1 COLLATE NOCASE";
    let triggers = || connection.prepare_cached(sql)?.exists([names.bare(&ending)]);
    match count().map_err(failed("Looking for the cellar"))? {
        4 => Ok(true),
        0 if !triggers().map_err(failed("Looking for the cellar"))? => Ok(false),
        _ => Err(Error::damaged("a table of it is gone")),
    }
}

/// The error for a cellar that is not there; says which are.
#[cold]
pub(super) fn not_there(connection: &Connection, names: &Names) -> Error {
    let there = super::names::cellars(connection).unwrap_or_default();
    let advice = if there.is_empty() {
        "there is none here; adopt a table first".to_owned()
    } else {
        format!("here are: {}", there.join(", "))
    };
    Error::new(
        ErrorKind::NotACellar,
        format!("There is no cellar `{}` in this database; {advice}.", names.cellar()),
    )
}
