//! The handle of a cellar inside a PostgreSQL database.

use super::failure::failed;
use super::names::{Names, cellars};
use super::place::{PostgresUnit, PostgresView};
use super::reading::{Keys, Rows};
use super::sources::Sources;
use super::state::{self, ROW, Seen, There};
use super::table::Table;
use crate::cellar::{Info, report};
use crate::rows::cache::ChunkCache;
use crate::rows::manifests::Manifests;
use crate::rows::spans;
use crate::rows::{self, Adopted, Kept, Laid, Overlay, Remembered, Repaired, Spool, Synced, Unreadable};
use nut_cellar_core::schema::Change;
use nut_cellar_core::search::{Compared, Report, Why};
use nut_cellar_core::{
    Batch, Difference, Error, ErrorKind, Find, Found, Highlighter, Key, Manifest, Merging, Opened, PieceId,
    Query, Result, Schema, Search, Snapshot, Terms, Unit, View, search, text::Pattern,
};
use postgres::types::{ToSql, Type};
use postgres::{Client, GenericClient, IsolationLevel, Row};
use std::sync::Arc;

/// How often a search begins anew when somebody publishes in the middle of it. Where several programs compact without a pause, it may take
/// more than a few times.
const TRIES: usize = 100;
/// How many rows of the first fill are fetched at a time.
const FETCHED: u32 = 1_000;
/// Tells our session locks from those of others.
const LOCK: i32 = 0x4e75_7443;

const ADOPTING: &str = "Adopting a table";
const SYNCING: &str = "Catching up";

/// What catching up has to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Work {
    /// Put the rows that the log names, and merge.
    Pending(Merging),
    /// Put all rows, in place of what there is.
    Anew,
}

/// A cellar inside a PostgreSQL database. It can be shared between threads; each call takes the connection to use.
#[derive(Debug)]
pub struct PostgresCellar {
    names: Names,
    schema: Arc<Schema>,
    rows: Rows,
    opened: Opened,
    cache: ChunkCache,
    manifests: Manifests,
    /// By what tells log and manifest.
    overlays: Remembered<String>,
}

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
    /// [`ErrorKind::BadSchema`] if table or columns are not there, the table has no declared key, or it is one whose changes
    /// can't be followed; [`ErrorKind::BadRequest`] if there is such a cellar on another table or with other keys.
    pub fn adopt(client: &mut Client, name: &str, schema: &Schema) -> Result<Self> {
        Self::adopt_with(client, name, schema, |_| ()).map(|(cellar, _)| cellar)
    }

    /// The same, with what was done; `progress` is told the number of rows read so far, now and then.
    ///
    /// # Errors
    /// As for [`adopt`](Self::adopt).
    pub fn adopt_with(
        client: &mut Client,
        name: &str,
        schema: &Schema,
        mut progress: impl FnMut(u64),
    ) -> Result<(Self, Adopted)> {
        schema.check()?;
        let names = Names::new(name)?;
        let mut transaction = client.transaction().map_err(failed(ADOPTING))?;
        let source = schema.source().map_or(name, |source| source.table.as_str());
        let table = Table::read(&mut transaction, source)?;
        let oid = table.oid;
        let key = table.type_of(schema.key())?.to_owned();
        let sources = Sources::new(&mut transaction, table, schema)?;
        let rows = Rows::new(&sources)?;
        let Some(there) = state::look(&mut transaction, &names)? else {
            state::create(&mut transaction, &names, &sources, &rows)?;
            transaction.commit().map_err(failed(ADOPTING))?;
            let cellar = Self::with(names, schema.clone(), rows);
            return match cellar.catch_up(client, Work::Pending(Merging::Small), progress) {
                Ok(synced) => Ok((cellar, Adopted { rebuilt: true, synced, ..Adopted::default() })),
                Err(error) => {
                    // The error that is told is the one that stopped the fill.
                    let _ = Self::release(client, name);
                    Err(error)
                }
            };
        };
        let changes = there.manifest.schema.changes_to(schema);
        let rebuilt = changes.iter().any(Change::needs_rebuild) || !there.standing;
        if rebuilt {
            // A table that was made anew under its name has another number.
            let table = there.table;
            let moved = table != oid && Table::of(&mut transaction, table).is_ok();
            if moved || there.manifest.schema.key() != schema.key() || there.key != key {
                return Err(rows::other_source(name, source, there.manifest.schema.key()));
            }
        } else if !changes.is_empty() {
            let (manifest, schema) = (there.manifest, Arc::new(schema.clone()));
            let next = Manifest { schema, generation: manifest.generation + 1, ..manifest };
            let sql = format!("UPDATE {} SET manifest = $1", names.inside("state"));
            let parameters: [(&(dyn ToSql + Sync), Type); 1] = [(&next.encode(), Type::BYTEA)];
            transaction.execute_typed(&sql, &parameters).map_err(failed(ADOPTING))?;
        }
        transaction.commit().map_err(failed(ADOPTING))?;
        let cellar = Self::with(names, schema.clone(), rows);
        let synced = if rebuilt {
            cellar.become_new(client, &mut progress)?
        } else if there.filled {
            Synced::default()
        } else {
            cellar.catch_up(client, Work::Pending(Merging::Small), progress)?
        };
        Ok((cellar, Adopted { changes, rebuilt, synced }))
    }

    /// Gives a cellar that is there this handle's schema, and reads all rows by it.
    fn become_new(&self, client: &mut Client, progress: &mut dyn FnMut(u64)) -> Result<Synced> {
        self.alone(client, |client| {
            let done = self.become_new_alone(client, progress);
            if done.is_err() {
                // The error that is told is the one that came first; what is left does no harm.
                let _ = self.follow_no_next(client);
            }
            done
        })
    }

    /// The tables of the schema, as they are.
    fn sources(&self, client: &mut impl GenericClient) -> Result<Sources<'_>> {
        let source = self.schema.source().map_or(self.name(), |source| source.table.as_str());
        let table = Table::read(client, source)?;
        Sources::new(client, table, &self.schema)
    }

    fn become_new_alone(&self, client: &mut Client, progress: &mut dyn FnMut(u64)) -> Result<Synced> {
        // From now on changes are logged for both schemas: a key too many does no harm.
        let mut transaction = client.transaction().map_err(failed(ADOPTING))?;
        let there = self.require(&mut transaction)?;
        let mut sources = self.sources(&mut transaction)?;
        sources.revision = there.revision + 1;
        state::follow_next(&mut transaction, &self.names, &sources, &there)?;
        transaction.commit().map_err(failed(ADOPTING))?;

        let begun = client.build_transaction().isolation_level(IsolationLevel::RepeatableRead).start();
        let mut transaction = begun.map_err(failed(ADOPTING))?;
        let there = self.require(&mut transaction)?;
        let sql = format!("DELETE FROM {}", self.names.inside("log"));
        transaction.execute_typed(&sql, &[]).map_err(failed(ADOPTING))?;
        let replaced: Vec<_> = there.manifest.pieces().collect();
        let base = Manifest { schema: Arc::clone(&self.schema), shelves: Vec::new(), ..there.manifest };
        let view = PostgresView::new(&mut transaction, &self.names, &self.cache, Arc::new(base));
        let synced = self.build_all(view, &replaced, progress)?;
        state::become_next(&mut transaction, &self.names, &sources, &self.rows)?;
        transaction.commit().map_err(failed(ADOPTING))?;
        Ok(synced)
    }

    /// Follows no other schema than the one that the cellar has.
    fn follow_no_next(&self, client: &mut Client) -> Result<()> {
        let mut transaction = client.transaction().map_err(failed(ADOPTING))?;
        let there = self.require(&mut transaction)?;
        state::follow_no_next(&mut transaction, &self.names, &there)?;
        transaction.commit().map_err(failed(ADOPTING))
    }

    fn require(&self, client: &mut impl GenericClient) -> Result<There> {
        state::look(client, &self.names)?.ok_or_else(|| not_there(client, &self.names))
    }

    /// Reads all rows into shelves that take the place of others, with nothing below them, in the transaction that is open.
    fn build_all<C: GenericClient>(
        &self,
        view: PostgresView<'_, C>,
        replaced: &[PieceId],
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        let mut spool = Spool::new(&view);
        let mut batch = Batch::new(&mut spool, &self.opened, &self.schema)?;
        let unreadable = self.put_all(&view, &mut batch, progress)?;
        let published = batch.publish()?;
        let contents = spool.into_contents();
        let base = view.manifest()?.ok_or_else(Error::overtaken)?;
        let mut unit = PostgresUnit::new(view);
        if !contents.changed() {
            // There is no row any more.
            let next = Manifest { generation: base.generation + 1, ..Manifest::clone(&base) };
            unit.swap(Some(base.generation), &next)?;
        }
        unit.remove(replaced)?;
        contents.pour(&mut unit)?;
        Ok(Synced { put: published.put, removed: published.removed, unreadable })
    }

    /// The cellar with this name, with the schema that is kept with it.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is none.
    pub fn open(client: &mut impl GenericClient, name: &str) -> Result<Self> {
        Self::open_in(client, Names::new(name)?)
    }

    fn open_in(client: &mut impl GenericClient, names: Names) -> Result<Self> {
        let Some((schema, source)) = state::open(client, &names)? else {
            return Err(not_there(client, &names));
        };
        let table = Table::of(client, source)?;
        let sources = Sources::new(client, table, &schema)?;
        let rows = Rows::new(&sources)?;
        Ok(Self::with(names, schema, rows))
    }

    fn with(names: Names, schema: Schema, rows: Rows) -> Self {
        Self {
            names,
            schema: Arc::new(schema),
            rows,
            opened: Opened::new(),
            cache: ChunkCache::new(),
            manifests: Manifests::default(),
            overlays: Remembered::new(),
        }
    }

    /// Takes search off a table: removes the triggers, functions and tables of a cellar, and nothing else.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is none; or if something that is not ours was put beside it.
    pub fn release(client: &mut impl GenericClient, name: &str) -> Result<()> {
        const RELEASING: &str = "Releasing a table";
        let names = Names::new(name)?;
        let mut transaction = client.transaction().map_err(failed(RELEASING))?;
        if !state::exists(&mut transaction, &names)? {
            return Err(not_there(&mut transaction, &names));
        }
        state::remove(&mut transaction, &names)?;
        transaction.commit().map_err(failed(RELEASING))
    }

    /// Lets a role search: it may read what belongs to the cellar, and change nothing. The rows it may read are the
    /// application's to say.
    ///
    /// # Errors
    /// If there is no such role, or the connection's own role may not grant it.
    pub fn allow(&self, client: &mut impl GenericClient, role: &str) -> Result<()> {
        let role = super::names::quoted(role);
        let tables: Vec<_> = super::names::TABLES.iter().map(|table| self.names.inside(table)).collect();
        let sql = format!(
            "GRANT USAGE ON SCHEMA {} TO {role}; GRANT SELECT ON {} TO {role}",
            self.names.schema(),
            tables.join(", ")
        );
        client.batch_execute(&sql).map_err(failed("Letting a role search"))
    }

    /// What it is called.
    pub fn name(&self) -> &str {
        self.names.cellar()
    }

    /// The columns.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// Reads what a person typed, and searches for it. The answer agrees with the rows as the connection's transaction sees them,
    /// or, outside of one, with those that were there at one moment during the call.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` asks for what is not there, [`ErrorKind::NotFilled`] if the first fill was
    /// interrupted, [`ErrorKind::OutOfStep`] if the triggers are gone; or if the database can't be read.
    pub fn find(&self, client: &mut impl GenericClient, text: &str, find: &Find) -> Result<Found> {
        let reading = Query::read(text);
        let mut found = self.search(client, &reading.query, find)?;
        found.notes.splice(..0, reading.notes);
        Ok(found)
    }

    /// Searches for a query that was built or read before.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search(&self, client: &mut impl GenericClient, query: &Query, find: &Find) -> Result<Found> {
        spans::search(self.name(), |span| {
            self.read(client, |view, snapshot| {
                span.record("overlay", view.is_overlay());
                let mut found = search::run(view, &mut Search::new(snapshot, query, find)?)?;
                found.notes.extend(view.note());
                Ok(found)
            })
        })
    }

    /// Searches, and tells how the search went.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search_reporting(
        &self,
        client: &mut impl GenericClient,
        query: &Query,
        find: &Find,
    ) -> Result<(Found, Report)> {
        self.read(client, |view, snapshot| {
            let (mut found, mut report) = report(view, Search::new(snapshot, query, find)?)?;
            found.notes.extend(view.note());
            view.tell(&mut report);
            Ok((found, report))
        })
    }

    /// Hands hits to a statement, as rows of `found`: `key`, `score` and `rank`. What the statement takes of its own
    /// begins with `$3`; parameters say their types.
    ///
    /// ```no_run
    /// # use nut_cellar::postgres::PostgresCellar;
    /// # use nut_cellar::Find;
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// # let mut client = postgres::Client::connect("", postgres::NoTls)?;
    /// # let cellar = PostgresCellar::open(&mut client, "items")?;
    /// let found = cellar.find(&mut client, "walnut box", &Find::new())?;
    /// let sql = "SELECT items.title, found.score FROM found JOIN items ON items.id = found.key ORDER BY found.rank";
    /// let rows = cellar.join(&mut client, &found, sql, &[])?;
    /// # Ok(()) }
    /// ```
    ///
    /// # Errors
    /// If PostgreSQL refuses the statement.
    pub fn join(
        &self,
        client: &mut impl GenericClient,
        found: &Found,
        sql: &str,
        parameters: &[(&(dyn ToSql + Sync), Type)],
    ) -> Result<Vec<Row>> {
        let scores: Vec<f32> = found.hits.iter().map(|hit| hit.score).collect();
        let ranks: Vec<i64> =
            found.hits.iter().map(|hit| i64::try_from(hit.rank).unwrap_or(i64::MAX)).collect();
        let first = ranks.first().map_or(0, |first| first - 1);
        let (kind, array) = self.rows.key.array();
        let keys = Keys::of(self.rows.key, found.hits.iter().map(|hit| &hit.key));
        let sql = format!(
            "WITH found AS (SELECT key, score, {first} + place AS rank FROM
               ROWS FROM (pg_catalog.unnest($1::{array}), pg_catalog.unnest($2)) WITH ORDINALITY AS hit(key, score, place)) {sql}"
        );
        let mut all: Vec<(&(dyn ToSql + Sync), Type)> =
            vec![(keys.parameter(), kind), (&scores, Type::FLOAT4_ARRAY)];
        all.extend(parameters.iter().map(|(value, kind)| (*value, kind.clone())));
        client.query_typed(&sql, &all).map_err(failed("Joining hits to rows"))
    }

    /// Says why a record ranks where it does, or why it was not found.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn why(&self, client: &mut impl GenericClient, query: &Query, find: &Find, key: &Key) -> Result<Why> {
        self.read(client, |view, snapshot| search::why(view, &snapshot, query, find, key))
    }

    /// Searches twice for one query, such as with two sets of weights, and puts the answers side by side.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn compare(
        &self,
        client: &mut impl GenericClient,
        query: &Query,
        first: &Find,
        second: &Find,
    ) -> Result<Compared> {
        self.read(client, |view, snapshot| search::compare(view, &snapshot, query, first, second))
    }

    /// The first `most` terms, in order, that fit a pattern; see [`Snapshot::terms`].
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn terms(&self, client: &mut impl GenericClient, pattern: &Pattern, most: usize) -> Result<Terms> {
        self.read(client, |view, snapshot| snapshot.terms(view, pattern, most))
    }

    /// Marks in texts what a search finds.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` names columns that can't be searched.
    pub fn highlighter(&self, text: &str, find: &Find) -> Result<Highlighter> {
        Highlighter::new(Arc::clone(&self.schema), &Query::read(text).query, find)
    }

    /// Checks every checksum and every invariant of the layout. Whether the records agree with the rows
    /// [`differences`](Self::differences) tells.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] at the first thing that is not right; or as for [`find`](Self::find).
    pub fn check(&self, client: &mut impl GenericClient) -> Result<()> {
        self.on_state(client, None, Seen::shelves, |view, _| {
            Snapshot::open(view, &Opened::new())?.check(view)
        })
    }

    /// How many bytes of shelves were fetched from the database through this handle. What was fetched before is kept for
    /// all connections, up to 64 MiB.
    pub fn fetched(&self) -> u64 {
        self.cache.fetched()
    }

    /// What there is to know about the cellar. Reads all terms. What is pending is counted in keys, and in no other
    /// number.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn info(&self, client: &mut impl GenericClient) -> Result<Info> {
        let mut info = self.on_state(client, None, Seen::shelves, |view, seen| {
            let pending = Some(seen.pending.len() as u64);
            Ok(Info { pending, ..Info::of(view, &self.opened)? })
        })?;
        (info.oldest, info.table) = state::age_and_size(client, &self.names)?;
        Ok(info)
    }

    /// Does `work` on the state that one statement sees, with the shelves of the manifest that `of` takes from it; again if
    /// somebody publishes in between. Rows that are logged are read unless the log is the one that is `known`.
    fn on_state<T, C: GenericClient>(
        &self,
        client: &mut C,
        known: Option<&str>,
        of: impl Fn(&Seen) -> Arc<Manifest>,
        work: impl Fn(&dyn View, &Seen) -> Result<T>,
    ) -> Result<T> {
        let mut tries = TRIES;
        loop {
            let seen = self.see(client, known)?;
            let view = PostgresView::new(client, &self.names, &self.cache, of(&seen));
            let done = work(&view, &seen);
            tries -= 1;
            if done.is_ok() || !view.missed() || tries == 0 {
                return done;
            }
        }
    }

    /// Does `work` on what one statement sees, the rows that no shelf holds yet included; again if somebody publishes in between.
    fn read<T, C: GenericClient>(
        &self,
        client: &mut C,
        work: impl Fn(&Laid<'_>, Snapshot) -> Result<T>,
    ) -> Result<T> {
        let known = self.overlays.last();
        let log = known.as_ref().map(|(log, _)| log.as_str());
        self.on_state(client, log, Seen::base, |view, seen| {
            if !seen.filled {
                return Err(Error::new(
                    ErrorKind::NotFilled,
                    format!(
                        "The first fill of the cellar `{}` has not ended; wait for it, or run `sync` if it was interrupted.",
                        self.names.cellar()
                    ),
                ));
            }
            let laid = Laid::new(view, self.overlay(view, seen, known.as_ref())?);
            let snapshot = Snapshot::open(&laid, &self.opened)?;
            work(&laid, snapshot)
        })
    }

    /// The rows that no shelf holds yet, laid over the shelves; or what is known, if it is of this log.
    fn overlay(
        &self,
        view: &dyn View,
        seen: &Seen,
        known: Option<&(String, Arc<Overlay>)>,
    ) -> Result<Option<Arc<Overlay>>> {
        let Some(log) = &seen.log else { return Ok(None) };
        if let Some((_, overlay)) = known.filter(|(known, _)| known == log) {
            return Ok(Some(Arc::clone(overlay)));
        }
        let mut spool = Spool::new(view);
        self.put_pending(seen, &mut spool, Merging::Never)?;
        let overlay = Arc::new(Overlay::over(None, spool.into_contents(), seen.pending.len() as u64));
        self.overlays.put(log.clone(), &overlay);
        Ok(Some(overlay))
    }

    fn see(&self, client: &mut impl GenericClient, known: Option<&str>) -> Result<Seen> {
        state::see(client, (&self.names, &self.schema, &self.rows), &self.manifests, known)
    }

    /// Puts the rows that the log names into `spool`, and removes the records whose rows are gone.
    fn put_pending(&self, seen: &Seen, spool: &mut Spool<'_>, merging: Merging) -> Result<Synced> {
        let mut batch = Batch::new(spool, &self.opened, &self.schema)?;
        batch.set_merging(merging);
        let mut unreadable = Unreadable::default();
        for (key, row) in &seen.pending {
            match self.rows.record(row, ROW, &self.schema, &mut unreadable)? {
                Some(record) => batch.put(&record)?,
                None => batch.remove(key)?,
            }
        }
        let published = batch.publish()?;
        Ok(Synced { put: published.put, removed: published.removed, unreadable })
    }

    /// Turns the rows that the log names into a shelf. Changes no result, and makes searches faster. If somebody else is at
    /// it, waits until they are done.
    ///
    /// # Errors
    /// [`ErrorKind::OutOfStep`] if the triggers are gone, or if the database can't be written.
    pub fn sync(&self, client: &mut Client) -> Result<Synced> {
        self.catch_up(client, Work::Pending(Merging::Small), |_| ())
    }

    /// Catches up, and merges the shelves that are due: also those that [`sync`](Self::sync) leaves because they are large.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn tidy(&self, client: &mut Client) -> Result<Synced> {
        self.catch_up(client, Work::Pending(Merging::Due), |_| ())
    }

    /// Catches up, and merges all shelves into one.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn compact(&self, client: &mut Client) -> Result<Synced> {
        self.catch_up(client, Work::Pending(Merging::Whole), |_| ())
    }

    /// Under a lock of the session, which ends with it: taken before the transaction, so that what the one before has published
    /// is seen.
    fn alone(&self, client: &mut Client, work: impl FnOnce(&mut Client) -> Result<Synced>) -> Result<Synced> {
        let state = self.names.inside("state");
        let lock =
            |what: &str| format!("SELECT pg_catalog.{what}($1, $2::pg_catalog.regclass::oid::integer)");
        let parameters: [(&(dyn ToSql + Sync), Type); 2] = [(&LOCK, Type::INT4), (&state, Type::TEXT)];
        client.query_typed(&lock("pg_advisory_lock"), &parameters).map_err(failed(SYNCING))?;
        let done = spans::catch_up(self.name(), || work(client));
        // A connection that is gone has let go of it.
        let freed = client.query_typed(&lock("pg_advisory_unlock"), &parameters).map_err(failed(SYNCING));
        done.and_then(|synced| freed.map(|_| synced))
    }

    fn catch_up(&self, client: &mut Client, work: Work, mut progress: impl FnMut(u64)) -> Result<Synced> {
        self.alone(client, |client| self.catch_up_alone(client, work, &mut progress))
    }

    fn catch_up_alone(
        &self,
        client: &mut Client,
        work: Work,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        let begun = client.build_transaction().isolation_level(IsolationLevel::RepeatableRead).start();
        let mut transaction = begun.map_err(failed(SYNCING))?;
        let mut seen = self.see(&mut transaction, None)?;
        // Joined rows that belong to no record are logged, too, and name nothing.
        if seen.filled && seen.log.is_none() && work == Work::Pending(Merging::Small) {
            return Ok(Synced::default());
        }
        seen.emptied |= work == Work::Anew;
        // Exactly the rows that the transaction sees: what commits later stays for the next time.
        let sql = format!("DELETE FROM {}", self.names.inside("log"));
        transaction.execute_typed(&sql, &[]).map_err(failed(SYNCING))?;
        let view = PostgresView::new(&mut transaction, &self.names, &self.cache, seen.base());
        let replaced: Vec<_> = if seen.emptied { seen.manifest.pieces().collect() } else { Vec::new() };
        let synced = match work {
            Work::Pending(merging) if seen.filled => {
                let mut spool = Spool::new(&view);
                let synced = self.put_pending(&seen, &mut spool, merging)?;
                let contents = spool.into_contents();
                let mut unit = PostgresUnit::new(view);
                if seen.emptied && !contents.changed() {
                    let base = seen.base();
                    let next = Manifest { generation: base.generation + 1, ..Manifest::clone(&base) };
                    unit.swap(Some(base.generation), &next)?;
                }
                unit.remove(&replaced)?;
                contents.pour(&mut unit)?;
                synced
            }
            _ => self.build_all(view, &replaced, progress)?,
        };
        let sql = format!("UPDATE {} SET filled = true WHERE NOT filled", self.names.inside("state"));
        transaction.execute_typed(&sql, &[]).map_err(failed(SYNCING))?;
        transaction.commit().map_err(failed(SYNCING))?;
        Ok(synced)
    }

    /// Puts all rows of the table, in key order, through a cursor.
    fn put_all<C: GenericClient>(
        &self,
        view: &PostgresView<'_, C>,
        batch: &mut Batch<'_>,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Unreadable> {
        let Rows { table, key_column, condition, .. } = &self.rows;
        let selected = self.rows.selected();
        view.query(&format!(
            "DECLARE cellar_rows NO SCROLL CURSOR FOR SELECT {selected} FROM {table} t WHERE {condition} ORDER BY t.{key_column}"
        ))?;
        let mut unreadable = Unreadable::default();
        let mut count = 0;
        loop {
            let rows = view.query(&format!("FETCH {FETCHED} FROM cellar_rows"))?;
            for row in &rows {
                if let Some(record) = self.rows.record(row, 0, &self.schema, &mut unreadable)? {
                    batch.put(&record)?;
                }
            }
            count += rows.len() as u64;
            progress(count);
            if rows.is_empty() {
                break;
            }
        }
        view.query("CLOSE cellar_rows")?;
        Ok(unreadable)
    }

    /// The records that are not what their rows say, with in what they differ: those of rows whose change no trigger saw. Rows that
    /// the log names are seen. Reads all rows and all of the cellar.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if the cellar can't be read; or as for [`find`](Self::find).
    pub fn differences(&self, client: &mut Client) -> Result<Vec<(Key, Difference)>> {
        const COMPARING: &str = "Comparing records with rows";
        let begin =
            client.build_transaction().isolation_level(IsolationLevel::RepeatableRead).read_only(true);
        let mut transaction = begin.start().map_err(failed(COMPARING))?;
        let seen = self.see(&mut transaction, None)?;
        let view = PostgresView::new(&mut transaction, &self.names, &self.cache, seen.base());
        let mut overlay = Spool::new(&view);
        self.put_pending(&seen, &mut overlay, Merging::Never)?;
        let snapshot = Snapshot::open(&overlay, &self.opened)?;
        rows::differences(&overlay, &snapshot, &self.schema, |batch| {
            self.put_all(&view, batch, &mut |_| ()).map(|_| ())
        })
    }

    /// Notes that rows with these keys may have changed without a trigger that saw it, so that they are read again; inside the
    /// application's transaction, if it is in one. A key of another kind than the table's is none of its keys, and left out.
    ///
    /// # Errors
    /// If the log can't be written.
    pub fn touch<'k>(
        &self,
        client: &mut impl GenericClient,
        keys: impl IntoIterator<Item = &'k Key>,
    ) -> Result<()> {
        let keys = Keys::of(self.rows.key, keys);
        let (kind, array) = self.rows.key.array();
        let sql =
            format!("INSERT INTO {}(key) SELECT pg_catalog.unnest($1::{array})", self.names.inside("log"));
        client.execute_typed(&sql, &[(keys.parameter(), kind)]).map(|_| ()).map_err(failed("Noting changes"))
    }

    /// Reads rows again whose records [differ](Self::differences); all of them if the cellar is damaged, or if its triggers are
    /// gone or altered, which are made again then.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn repair(&self, client: &mut Client) -> Result<Repaired> {
        let mut transaction = client.transaction().map_err(failed("Looking at the cellar"))?;
        let there = self.require(&mut transaction)?;
        transaction.rollback().map_err(failed("Looking at the cellar"))?;
        if *there.manifest.schema == *self.schema && !there.standing {
            self.become_new(client, &mut |_| ())?;
            return Ok(Repaired { rebuilt: true, ..Repaired::default() });
        }
        let records = match self.check(client).and_then(|()| self.differences(client)) {
            Err(error) if error.is_damaged() => {
                self.rebuild(client)?;
                return Ok(Repaired { rebuilt: true, ..Repaired::default() });
            }
            records => records?,
        };
        self.touch(client, records.iter().map(|(key, _)| key))?;
        self.sync(client)?;
        Ok(Repaired { records, rebuilt: false })
    }

    /// Reads all rows again, into shelves that replace those there are. Searches go on with these until it is done.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn rebuild(&self, client: &mut Client) -> Result<Synced> {
        self.catch_up(client, Work::Anew, |_| ())
    }
}

/// A cellar with a connection of its own, for a [`Keeper`](rows::Keeper).
impl Kept for (Client, Arc<PostgresCellar>) {
    fn pending(&mut self, most: u64) -> Result<u64> {
        let sql = format!("SELECT count(*) FROM (SELECT 1 FROM {} LIMIT $1) l", self.1.names.inside("log"));
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        let row =
            self.0.query_typed_one(&sql, &[(&most, Type::INT8)]).map_err(failed("Looking for changes"))?;
        Ok(u64::try_from(row.get::<_, i64>(0)).unwrap_or(0))
    }

    fn sync(&mut self) -> Result<Synced> {
        self.1.sync(&mut self.0)
    }

    fn tidy(&mut self) -> Result<Synced> {
        self.1.tidy(&mut self.0)
    }
}

/// The error for a cellar that is not there; says which are.
#[cold]
fn not_there(client: &mut impl GenericClient, names: &Names) -> Error {
    let there = cellars(client).unwrap_or_default();
    let advice = if there.is_empty() {
        "there is none here; adopt a table first".to_owned()
    } else {
        format!("here are: {}", there.join(", "))
    };
    let message = format!("There is no cellar `{}` in this database; {advice}.", names.cellar());
    Error::new(ErrorKind::NotACellar, message)
}
