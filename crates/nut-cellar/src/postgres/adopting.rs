//! Putting search on a table, giving a cellar another schema, and taking search off again.

use super::cellar::{PostgresCellar, not_there};
use super::failure::failed;
use super::names::Names;
use super::place::PostgresView;
use super::reading::Rows;
use super::secured::withheld;
use super::session::{Connection, Own, Parameter, Sees, Session, Statements};
use super::sources::Sources;
use super::state::{self, NextMark, Seen, There};
use super::table::Table;
use crate::rows::{self, Adopted, Stretch, Synced, Work, spans};
use nut_cellar_core::schema::Change;
use nut_cellar_core::{Error, Manifest, Merging, Opened, Result, Schema, Snapshot};
use postgres::types::Type;
use std::sync::Arc;

/// What row-level security comes to.
const SECURED: &str = "A role finds the rows that it may see, ranked among all, and is told no total of others. What belongs to \
    the cellar holds the words of all rows, though: a role that may search could read them there by itself.";

/// How often giving a cellar another schema begins anew when somebody else gives it one.
const TRIES: usize = 5;

const ADOPTING: &str = "Adopting a table";

impl PostgresCellar {
    /// Puts search on a table: makes a schema with tables of its own, and triggers, and reads all rows. `name` names the cellar; the
    /// table is the one that the schema names, as `table` or as `schema.table`, or the one called `name`. If it
    /// fails, nothing is left behind.
    ///
    /// If there is such a cellar already, it gets the schema: weights alone are just noted; for everything else, and if the triggers are
    /// gone, all rows are read again, while searches go on with the shelves and the schema there were. Handles that were opened
    /// before then have to be opened again.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`](crate::ErrorKind::BadSchema) if table or columns are not there, the table has no declared key, or it is one whose changes
    /// can't be followed; [`ErrorKind::BadRequest`](crate::ErrorKind::BadRequest) if there is such a cellar on another table or with other keys.
    pub fn adopt(client: &mut impl Connection, name: &str, schema: &Schema) -> Result<Self> {
        Self::adopt_with(client, name, schema, |_| ()).map(|(cellar, _)| cellar)
    }

    /// The same, with what was done; `progress` is told the number of rows read so far, now and then.
    ///
    /// # Errors
    /// As for [`adopt`](Self::adopt).
    pub fn adopt_with(
        client: &mut impl Connection,
        name: &str,
        schema: &Schema,
        mut progress: impl FnMut(u64),
    ) -> Result<(Self, Adopted)> {
        schema.check()?;
        let names = Names::new(name)?;
        let mut transaction = Own::begin(client, Sees::Latest, ADOPTING)?;
        let source = schema.source().map_or(name, |source| source.table.as_str());
        let table = Table::read(&mut transaction, source)?;
        let oid = table.oid;
        let key =
            schema.key_columns().iter().map(|column| table.type_of(column).map(|kind| kind.name.clone()));
        let key = key.collect::<Result<Vec<_>>>()?;
        let sources = Sources::new(&mut transaction, &names, table, schema)?;
        sources.must_be_trusted(&mut transaction)?;
        let rows = Rows::new(&sources)?;
        let mut notes = Vec::new();
        if sources.table.secured {
            notes.push(format!("Table `{source}` has row-level security. {SECURED}"));
        }
        if !sources.table.is_seen_whole(&mut transaction)? {
            return Err(withheld(&rows));
        }
        let found = state::look(&mut transaction, &names);
        if found.as_ref().is_err_and(Error::needs_rebuild) {
            drop(transaction);
            let cellar = Self::with(names, schema.clone(), rows);
            let synced = cellar.make_anew(client, &mut progress)?;
            return Ok((cellar, Adopted { rebuilt: true, synced, notes, ..Adopted::default() }));
        }
        let Some(there) = found? else {
            state::create(&mut transaction, &names, &sources, &rows)?;
            transaction.commit()?;
            let cellar = Self::with(names, schema.clone(), rows);
            return match cellar.catch_up(client, Work::Pending(Merging::Small), progress) {
                Ok(synced) => Ok((cellar, Adopted { rebuilt: true, synced, notes, ..Adopted::default() })),
                Err(error) => {
                    // The error that is told is the one that stopped the fill.
                    let _ = Self::release(client, name);
                    Err(error)
                }
            };
        };
        let changes = there.manifest.schema.changes_to(schema);
        let rebuilt = changes.iter().any(Change::needs_rebuild) || !there.standing;
        let schema = match &*there.manifest.schema {
            _ if rebuilt => schema.clone(),
            kept if changes.is_empty() => kept.clone(),
            kept => schema.clone().in_editions_of(kept),
        };
        if rebuilt {
            // A table that was made anew under its name has another number.
            let table = there.table;
            let moved = table != oid && Table::of(&mut transaction, table).is_ok();
            if moved || there.manifest.schema.key() != schema.key() || there.key != key {
                return Err(rows::other_source(name, source, &there.manifest.schema.key()));
            }
        } else if !changes.is_empty() {
            let manifest = there.manifest;
            let next = Manifest {
                schema: Arc::new(schema.clone()),
                generation: manifest.generation + 1,
                ..manifest
            };
            let sql = format!("UPDATE {} SET manifest = $1", names.inside("state"));
            let parameters: [Parameter<'_>; 1] = [(&next.encode(), Type::BYTEA)];
            transaction.execute_typed(&sql, &parameters).map_err(failed(ADOPTING))?;
        }
        transaction.commit()?;
        let cellar = Self::with(names, schema, rows);
        let synced = if rebuilt {
            cellar.become_new(client, &mut progress)?
        } else if !there.filled {
            cellar.catch_up(client, Work::Pending(Merging::Small), progress)?
        } else if cellar.opens(client)? {
            Synced::default()
        } else {
            let synced = cellar.make_anew(client, &mut progress)?;
            return Ok((cellar, Adopted { changes, rebuilt: true, synced, notes }));
        };
        Ok((cellar, Adopted { changes, rebuilt, synced, notes }))
    }

    /// Whether what the shelves begin with can be read.
    fn opens(&self, client: &mut dyn Statements) -> Result<bool> {
        let opened = self.on_state(client, &[], Seen::shelves, &|| None, |view, _| {
            Snapshot::open(view, &Opened::new()).map(|_| ())
        });
        if opened.as_ref().is_err_and(Error::needs_rebuild) { Ok(false) } else { opened.map(|()| true) }
    }

    /// Makes everything that belongs to the cellar anew, whatever is left of it, and reads all rows.
    pub(super) fn make_anew(
        &self,
        client: &mut dyn Statements,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        let mut transaction = Own::begin(client, Sees::Latest, ADOPTING)?;
        let sources = self.sources(&mut transaction)?;
        sources.must_be_trusted(&mut transaction)?;
        if !sources.table.is_seen_whole(&mut transaction)? {
            return Err(withheld(&self.rows));
        }
        let rows = Rows::new(&sources)?;
        state::remove(&mut transaction, &self.names)?;
        state::create(&mut transaction, &self.names, &sources, &rows)?;
        transaction.commit()?;
        let anew = Self::with(self.names.clone(), Arc::clone(&self.schema), rows);
        anew.catch_up(client, Work::Pending(Merging::Small), progress)
    }

    /// Gives a cellar that is there this handle's schema, and reads all rows by it.
    pub(super) fn become_new(
        &self,
        client: &mut dyn Statements,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        spans::catch_up(self.name(), || {
            for _ in 1..TRIES {
                match self.become_new_once(client, progress) {
                    Err(error) if error.is_overtaken() => {}
                    done => return done,
                }
            }
            self.become_new_once(client, progress)
        })
    }

    /// The tables of the schema, as they are.
    pub(super) fn sources(&self, client: &mut dyn Statements) -> Result<Sources<'_>> {
        let source = self.schema.source().map_or(self.name(), |source| source.table.as_str());
        let table = Table::read(client, source)?;
        Sources::new(client, &self.names, table, &self.schema)
    }

    fn become_new_once(&self, client: &mut dyn Statements, progress: &mut dyn FnMut(u64)) -> Result<Synced> {
        // From now on changes are logged for both schemas: a key too many does no harm.
        let mut transaction = Own::begin_alone(client, &self.names, Sees::Latest, ADOPTING)?;
        let there = self.require(&mut transaction)?;
        let mut sources = self.sources(&mut transaction)?;
        sources.must_be_trusted(&mut transaction)?;
        if !sources.table.is_seen_whole(&mut transaction)? {
            return Err(withheld(&self.rows));
        }
        sources.revision = there.revision + 1;
        let next = state::follow_next(&mut transaction, &self.names, &sources, &there)?;
        transaction.commit()?;
        let done = self.read_as_next(client, &sources, &next, progress);
        if done.is_err() {
            // The error that is told is the one that came first; what is left does no harm.
            let _ = self.follow_no_next(client, &next);
        }
        done
    }

    /// Reads all rows by the schema that is followed beside the other, and puts it in its place.
    fn read_as_next(
        &self,
        client: &mut dyn Statements,
        sources: &Sources<'_>,
        next: &NextMark,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        let mut transaction = Own::begin_alone(client, &self.names, Sees::OneMoment, ADOPTING)?;
        let there = self.require(&mut transaction)?;
        if there.next.as_ref() != Some(next) {
            return Err(Error::overtaken());
        }
        let sql = format!("DELETE FROM {}", self.names.inside("log"));
        transaction.execute_typed(&sql, &[]).map_err(failed(ADOPTING))?;
        let replaced: Vec<_> = there.manifest.pieces().collect();
        let base = Manifest { schema: Arc::clone(&self.schema), shelves: Vec::new(), ..there.manifest };
        let view = PostgresView::new(&mut transaction, self, Arc::new(base));
        let rows = Rows::new(sources)?;
        let synced = self.build_part(view, &rows, &mut Stretch::all(), &replaced, progress)?;
        state::become_next(&mut transaction, &self.names, sources, &rows)?;
        self.tell(&mut transaction)?;
        transaction.commit()?;
        Ok(synced)
    }

    /// Follows no other schema than the one that the cellar has, unless somebody else gives it one.
    fn follow_no_next(&self, client: &mut dyn Statements, next: &NextMark) -> Result<()> {
        let mut transaction = Own::begin_alone(client, &self.names, Sees::Latest, ADOPTING)?;
        let there = self.require(&mut transaction)?;
        if there.next.as_ref() != Some(next) {
            return Ok(());
        }
        let table = Table::of(&mut transaction, there.table)?;
        let sources = Sources::new(&mut transaction, &self.names, table, &there.manifest.schema)?;
        state::follow_no_next(&mut transaction, &self.names, &sources, &there)?;
        transaction.commit()
    }

    pub(super) fn require(&self, client: &mut dyn Statements) -> Result<There> {
        state::look(client, &self.names)?.ok_or_else(|| not_there(client, &self.names))
    }

    /// Takes search off a table: removes the triggers, functions and tables of a cellar, and nothing else; inside the application's
    /// transaction, if it is in one.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`](crate::ErrorKind::NotACellar) if there is none; or if something that is not ours was put beside it.
    pub fn release(client: &mut impl Session, name: &str) -> Result<()> {
        let names = Names::new(name)?;
        match state::exists(client, &names) {
            Ok(false) => Err(not_there(client, &names)),
            // A part of it is taken away as well.
            Err(error) if !error.needs_rebuild() => Err(error),
            _ => state::remove(client, &names),
        }
    }

    /// Lets a role search: it may read what belongs to the cellar, and change nothing. The rows it may read are the
    /// application's to say.
    ///
    /// # Errors
    /// If there is no such role, or the connection's own role may not grant it.
    pub fn allow(&self, client: &mut impl Session, role: &str) -> Result<()> {
        let role = super::names::quoted(role);
        let tables: Vec<_> = super::names::TABLES.iter().map(|table| self.names.inside(table)).collect();
        let sql = format!(
            "GRANT USAGE ON SCHEMA {} TO {role}; GRANT SELECT ON {} TO {role}",
            self.names.schema(),
            tables.join(", ")
        );
        client.batch_execute(&sql).map_err(failed("Letting a role search"))
    }
}
