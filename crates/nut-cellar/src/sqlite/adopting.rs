//! Putting search on a table, giving a cellar another schema, and taking search off again.

use super::cellar::{Seen, SqliteCellar};
use super::failure::failed;
use super::names::{Names, Time};
use super::place::{SqliteUnit, SqliteView};
use super::reading::{Rows, last_entry};
use super::sources::Sources;
use super::state::{State, drop_triggers, exists, make_next, next_stand, not_there, replace_triggers};
use super::transaction::{Meanwhile, Transaction};
use super::triggers::triggers;
use crate::rows::{self, Adopted, Stretch, Synced, Work};
use nut_cellar_core::schema::Change;
use nut_cellar_core::{Error, Manifest, Merging, Result, Schema, Unit};
use rusqlite::Connection;
use std::sync::Arc;

const ADOPTING: &str = "Adopting a table";
const RELEASING: &str = "Releasing a table";

impl SqliteCellar {
    /// Puts search on a table: makes tables of its own and triggers, and reads all rows. `name` names the cellar; the
    /// table is the one that the schema names, or the one called `name`. If it fails, nothing is left behind.
    ///
    /// If there is such a cellar already, it gets the schema: weights alone are just noted; for everything else, and if the triggers are
    /// gone, all rows are read again, while searches go on with the shelves and the schema there were. Handles that were opened
    /// before then have to be opened again.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`](crate::ErrorKind::BadSchema) if table or columns are not there or the table has no declared key,
    /// [`ErrorKind::BadRequest`](crate::ErrorKind::BadRequest) if there is such a cellar on another table or with other keys, or a transaction is open,
    /// [`ErrorKind::Busy`](crate::ErrorKind::Busy) if the database is locked.
    pub fn adopt(connection: &Connection, name: &str, schema: &Schema) -> Result<Self> {
        Self::adopt_with(connection, name, schema, |_| ()).map(|(cellar, _)| cellar)
    }

    /// The same, with what was done; `progress` is told the number of rows read so far, now and then.
    ///
    /// # Errors
    /// As for [`adopt`](Self::adopt).
    pub fn adopt_with(
        connection: &Connection,
        name: &str,
        schema: &Schema,
        mut progress: impl FnMut(u64),
    ) -> Result<(Self, Adopted)> {
        schema.check()?;
        let cellar = Self::with(Names::new(name)?, schema.clone());
        let transaction = Transaction::to_write(connection, ADOPTING)?;
        let found = State::read(connection, &cellar.names, &cellar.manifests);
        if found.as_ref().is_err_and(Error::needs_rebuild) {
            drop(transaction);
            let synced = cellar.make_anew(connection, &mut progress)?;
            return Ok((cellar, Adopted { rebuilt: true, synced, ..Adopted::default() }));
        }
        let Some(state) = found? else {
            // All of it may be gone but the triggers.
            remove(connection, &cellar.names)?;
            cellar.make(connection)?;
            transaction.commit(ADOPTING)?;
            return match cellar.catch_up(connection, Work::Pending(Merging::Small), progress) {
                Ok(synced) => Ok((cellar, Adopted { rebuilt: true, synced, ..Adopted::default() })),
                Err(error) => {
                    // The error that is told is the one that stopped the fill.
                    let _ = Self::release(connection, name);
                    Err(error)
                }
            };
        };
        let changes = state.manifest.schema.changes_to(schema);
        let rebuilt =
            changes.iter().any(Change::needs_rebuild) || !state.stands(connection, &cellar.names)?;
        let cellar = match &*state.manifest.schema {
            _ if rebuilt => cellar,
            kept if changes.is_empty() => Self::with(cellar.names, kept.clone()),
            kept => Self::with(cellar.names, schema.clone().in_editions_of(kept)),
        };
        if !rebuilt && !changes.is_empty() {
            let manifest = &state.manifest;
            let next = Manifest {
                schema: Arc::clone(&cellar.schema),
                generation: manifest.generation + 1,
                ..Manifest::clone(manifest)
            };
            SqliteUnit::new(SqliteView::new(connection, &cellar.names, &cellar.cache))
                .swap(Some(manifest.generation), &next)?;
        }
        transaction.commit(ADOPTING)?;
        let synced = if rebuilt {
            let key = state.manifest.schema.key();
            let table = schema.source().map_or(name, |source| source.table.as_str());
            if key != schema.key() || !table.eq_ignore_ascii_case(&state.table) {
                return Err(rows::other_source(name, table, &key));
            }
            cellar.become_new(connection, &mut progress)?
        } else if !state.filled {
            cellar.catch_up(connection, Work::Pending(Merging::Small), progress)?
        } else if cellar.opens(connection)? {
            Synced::default()
        } else {
            let synced = cellar.make_anew(connection, &mut progress)?;
            return Ok((cellar, Adopted { changes, rebuilt: true, synced, ..Adopted::default() }));
        };
        Ok((cellar, Adopted { changes, rebuilt, synced, ..Adopted::default() }))
    }

    /// Whether what the shelves begin with can be read.
    fn opens(&self, connection: &Connection) -> Result<bool> {
        let opened = self.read(connection, |_, _| Ok(()));
        if opened.as_ref().is_err_and(Error::needs_rebuild) { Ok(false) } else { opened.map(|()| true) }
    }

    /// Makes everything that belongs to the cellar anew, whatever is left of it, and reads all rows.
    pub(super) fn make_anew(&self, connection: &Connection, progress: &mut dyn FnMut(u64)) -> Result<Synced> {
        let transaction = Transaction::to_write(connection, ADOPTING)?;
        remove(connection, &self.names)?;
        self.make(connection)?;
        transaction.commit(ADOPTING)?;
        self.catch_up(connection, Work::Pending(Merging::Small), progress)
    }

    /// Makes tables and triggers.
    pub(super) fn make(&self, connection: &Connection) -> Result<()> {
        let sources = self.sources(connection)?;
        Rows::new(&sources)?;
        let triggers = triggers(&self.names, &sources, Time::Now)?;
        let manifest = Manifest::empty(Schema::clone(&self.schema));
        State::create(connection, &self.names, &manifest, &sources.table.name, &triggers)
    }

    /// The tables of the schema, as they are.
    pub(super) fn sources(&self, connection: &Connection) -> Result<Sources<'_>> {
        let table = self.schema.source().map_or(self.names.cellar(), |source| source.table.as_str());
        Sources::read(connection, table, &self.schema)
    }

    /// Gives a cellar that is there this handle's schema, and reads all rows by it.
    pub(super) fn become_new(
        &self,
        connection: &Connection,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        let done = self.again_if_overtaken(|meanwhile| self.become_new_once(connection, meanwhile, progress));
        if done.is_err() && connection.is_autocommit() {
            // The error that is told is the one that came first; what is left does no harm.
            let _ = drop_triggers(connection, &self.names, Time::Next);
        }
        done
    }

    fn become_new_once(
        &self,
        connection: &Connection,
        meanwhile: Meanwhile,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        // From now on changes are logged for both schemas: a key too many does no harm.
        let writing = Transaction::to_write(connection, ADOPTING)?;
        let sources = self.sources(connection)?;
        let of = (sources.table.name.as_str(), &*self.schema);
        let made = make_next(connection, &self.names, of, &triggers(&self.names, &sources, Time::Next)?)?;
        writing.commit(ADOPTING)?;

        let reading = meanwhile.begin(connection, ADOPTING)?;
        let at = State::time(connection)?;
        let mut state = State::require(connection, &self.names, &self.manifests)?;
        let replaced: Vec<_> = state.manifest.pieces().collect();
        let manifest = Manifest::clone(&state.manifest);
        state.manifest =
            Arc::new(Manifest { schema: Arc::clone(&self.schema), shelves: Vec::new(), ..manifest });
        of.0.clone_into(&mut state.table);
        let last = last_entry(connection, &self.names)?;
        let seen = Seen { state, last, at };
        let (contents, synced) = self.build_part(connection, &seen, &mut Stretch::all(), progress)?;

        let writing = meanwhile.publish(reading, ADOPTING)?;
        if !next_stand(connection, &self.names, of, &made)? {
            return Err(Error::overtaken());
        }
        self.pour(connection, &seen, contents, Some(&replaced))?;
        replace_triggers(connection, &self.names, of, &triggers(&self.names, &sources, Time::Now)?)?;
        writing.commit(ADOPTING)?;
        Ok(synced)
    }

    /// Takes search off a table: removes the triggers and tables of a cellar, and nothing else.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`](crate::ErrorKind::NotACellar) if there is none, [`ErrorKind::Busy`](crate::ErrorKind::Busy) if the database is locked.
    pub fn release(connection: &Connection, name: &str) -> Result<()> {
        let names = Names::new(name)?;
        let transaction = Transaction::to_write(connection, RELEASING)?;
        match exists(connection, &names) {
            Ok(false) => return Err(not_there(connection, &names)),
            // A part of it is taken away as well.
            Err(error) if !error.needs_rebuild() => return Err(error),
            _ => remove(connection, &names)?,
        }
        transaction.commit(RELEASING)
    }
}

/// Removes whatever there is of a cellar's triggers and tables.
fn remove(connection: &Connection, names: &Names) -> Result<()> {
    for time in [Time::Now, Time::Next] {
        drop_triggers(connection, names, time).map_err(failed(RELEASING))?;
    }
    for table in names.tables() {
        connection.execute_batch(&format!("DROP TABLE IF EXISTS {table}")).map_err(failed(RELEASING))?;
    }
    Ok(())
}
