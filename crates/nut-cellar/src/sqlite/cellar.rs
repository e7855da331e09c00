//! The handle of a cellar inside a SQLite database.

use super::failure::failed;
use super::names::{Names, Time};
use super::place::{SqliteUnit, SqliteView};
use super::reading::{Entry, Rows, is_logged, last_entry, parameter, pending};
use super::sources::Sources;
use super::state::{State, drop_triggers, make_next, next_stand, not_there, replace_triggers};
use super::transaction::Transaction;
use super::triggers::triggers;
use crate::cellar::{Info, report};
use crate::rows::cache::ChunkCache;
use crate::rows::manifests::Manifests;
use crate::rows::spans;
use crate::rows::{
    self, Adopted, Contents, Kept, Laid, Overlay, Remembered, Repaired, Spool, Synced, Unreadable,
};
use nut_cellar_core::schema::Change;
use nut_cellar_core::search::{Compared, Report, Why};
use nut_cellar_core::store::Generation;
use nut_cellar_core::{
    Batch, Difference, Error, ErrorKind, Find, Found, Highlighter, Key, Manifest, Merging, Opened, PieceId,
    Query, Result, Schema, Search, Snapshot, Terms, Unit, View, search, text::Pattern,
};
use rusqlite::Connection;
use std::sync::Arc;

/// How often catching up begins anew when somebody else publishes first.
const TRIES: usize = 5;
const ADOPTING: &str = "Adopting a table";
/// How many rows are read between two calls of a progress function.
const PROGRESS_ROWS: u64 = 1_000;

/// A cellar inside a SQLite database. It can be shared between threads; each call takes the connection to use.
#[derive(Debug)]
pub struct SqliteCellar {
    names: Names,
    schema: Arc<Schema>,
    opened: Opened,
    cache: ChunkCache,
    manifests: Manifests,
    /// By generation and last entry of the log.
    overlays: Remembered<(Generation, Entry)>,
}

/// What catching up has to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Work {
    /// Put the rows that the log names, and merge.
    Pending(Merging),
    /// Put all rows, in place of what there is.
    Anew,
}

/// What a transaction sees of a cellar, and the last of the rows that no shelf holds yet.
struct Seen {
    state: State,
    last: Option<Entry>,
    /// When it was seen, where that matters.
    at: i64,
}

impl SqliteCellar {
    /// Puts search on a table: makes tables of its own and triggers, and reads all rows. `name` names the cellar; the
    /// table is the one that the schema names, or the one called `name`. If it fails, nothing is left behind.
    ///
    /// If there is such a cellar already, it gets the schema: weights alone are just noted; for everything else, and if the triggers are
    /// gone, all rows are read again, while searches go on with the shelves and the schema there were. Handles that were opened
    /// before then have to be opened again.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if table or columns are not there or the table has no declared key,
    /// [`ErrorKind::BadRequest`] if there is such a cellar on another table or with other keys, or a transaction is open,
    /// [`ErrorKind::Busy`] if the database is locked.
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
        let Some(state) = State::read(connection, &cellar.names, &cellar.manifests)? else {
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
                return Err(rows::other_source(name, table, key));
            }
            cellar.become_new(connection, &mut progress)?
        } else if state.filled {
            Synced::default()
        } else {
            cellar.catch_up(connection, Work::Pending(Merging::Small), progress)?
        };
        Ok((cellar, Adopted { changes, rebuilt, synced }))
    }

    /// Makes tables and triggers.
    fn make(&self, connection: &Connection) -> Result<()> {
        let sources = self.sources(connection)?;
        Rows::new(&sources)?;
        let triggers = triggers(&self.names, &sources, Time::Now)?;
        let manifest = Manifest::empty(Schema::clone(&self.schema));
        State::create(connection, &self.names, &manifest, &sources.table.name, &triggers)
    }

    /// The tables of the schema, as they are.
    fn sources(&self, connection: &Connection) -> Result<Sources<'_>> {
        let table = self.schema.source().map_or(self.names.cellar(), |source| source.table.as_str());
        Sources::read(connection, table, &self.schema)
    }

    /// Gives a cellar that is there this handle's schema, and reads all rows by it.
    fn become_new(&self, connection: &Connection, progress: &mut dyn FnMut(u64)) -> Result<Synced> {
        let done = self.again_if_overtaken(|| self.become_new_once(connection, progress));
        if done.is_err() && connection.is_autocommit() {
            // The error that is told is the one that came first; what is left does no harm.
            let _ = drop_triggers(connection, &self.names, Time::Next);
        }
        done
    }

    fn become_new_once(&self, connection: &Connection, progress: &mut dyn FnMut(u64)) -> Result<Synced> {
        // From now on changes are logged for both schemas: a key too many does no harm.
        let writing = Transaction::to_write(connection, ADOPTING)?;
        let sources = self.sources(connection)?;
        let of = (sources.table.name.as_str(), &*self.schema);
        let made = make_next(connection, &self.names, of, &triggers(&self.names, &sources, Time::Next)?)?;
        writing.commit(ADOPTING)?;

        let reading = Transaction::to_read(connection)?;
        let at = State::time(connection)?;
        let mut state = State::require(connection, &self.names, &self.manifests)?;
        let replaced: Vec<_> = state.manifest.pieces().collect();
        let manifest = Manifest::clone(&state.manifest);
        state.manifest =
            Arc::new(Manifest { schema: Arc::clone(&self.schema), shelves: Vec::new(), ..manifest });
        of.0.clone_into(&mut state.table);
        let last = last_entry(connection, &self.names)?;
        let seen = Seen { state, last, at };
        let (contents, synced) = self.build_all(connection, &seen, progress)?;
        reading.commit(ADOPTING)?;

        let writing = Transaction::to_write(connection, ADOPTING)?;
        if !next_stand(connection, &self.names, of, &made)? {
            return Err(Error::overtaken());
        }
        self.pour(connection, &seen, contents, Some(&replaced))?;
        replace_triggers(connection, &self.names, of, &triggers(&self.names, &sources, Time::Now)?)?;
        writing.commit(ADOPTING)?;
        Ok(synced)
    }

    fn with(names: Names, schema: Schema) -> Self {
        Self {
            names,
            schema: Arc::new(schema),
            opened: Opened::new(),
            cache: ChunkCache::new(),
            manifests: Manifests::default(),
            overlays: Remembered::new(),
        }
    }

    /// The cellar with this name, with the schema that is kept with it.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is none.
    pub fn open(connection: &Connection, name: &str) -> Result<Self> {
        let names = Names::new(name)?;
        let state = State::require(connection, &names, &Manifests::default())?;
        Ok(Self::with(names, Schema::clone(&state.manifest.schema)))
    }

    /// Takes search off a table: removes the triggers and tables of a cellar, and nothing else.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is none, [`ErrorKind::Busy`] if the database is locked.
    pub fn release(connection: &Connection, name: &str) -> Result<()> {
        const RELEASING: &str = "Releasing a table";
        let names = Names::new(name)?;
        let transaction = Transaction::to_write(connection, RELEASING)?;
        let sql = "SELECT 1 FROM main.sqlite_schema WHERE type = 'table' AND name = ?1 COLLATE NOCASE";
        let there = connection.prepare(sql).and_then(|mut sql| sql.exists([names.bare("state")]));
        if !there.map_err(failed(RELEASING))? {
            return Err(not_there(connection, &names));
        }
        for time in [Time::Now, Time::Next] {
            drop_triggers(connection, &names, time).map_err(failed(RELEASING))?;
        }
        for table in names.tables() {
            connection.execute_batch(&format!("DROP TABLE IF EXISTS {table}")).map_err(failed(RELEASING))?;
        }
        transaction.commit(RELEASING)
    }

    /// What it is called.
    pub fn name(&self) -> &str {
        self.names.cellar()
    }

    /// The columns.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// Reads what a person typed, and searches for it. The answer agrees with the rows as the connection's transaction
    /// sees them.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` asks for what is not there, [`ErrorKind::NotFilled`] if the first fill was
    /// interrupted, [`ErrorKind::OutOfStep`] if the triggers are gone; or if the database can't be read.
    pub fn find(&self, connection: &Connection, text: &str, find: &Find) -> Result<Found> {
        let reading = Query::read(text);
        let mut found = self.search(connection, &reading.query, find)?;
        found.notes.splice(..0, reading.notes);
        Ok(found)
    }

    /// Searches for a query that was built or read before.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search(&self, connection: &Connection, query: &Query, find: &Find) -> Result<Found> {
        self.search_in(Transaction::to_read(connection)?, connection, query, find)
    }

    fn search_in(
        &self,
        transaction: Transaction<'_>,
        connection: &Connection,
        query: &Query,
        find: &Find,
    ) -> Result<Found> {
        spans::search(self.name(), |span| {
            self.read_in(transaction, connection, |view, snapshot| {
                span.record("overlay", view.is_overlay());
                let mut found = search::run(view, &mut Search::new(snapshot, query, find)?)?;
                found.notes.extend(view.note());
                Ok(found)
            })
        })
    }

    /// The same inside a statement that is running on the connection.
    #[cfg(feature = "sqlite-functions")]
    pub(super) fn search_in_statement(
        &self,
        connection: &Connection,
        query: &Query,
        find: &Find,
    ) -> Result<Found> {
        self.search_in(Transaction::of_statement(connection), connection, query, find)
    }

    /// Searches, and tells how the search went.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search_reporting(
        &self,
        connection: &Connection,
        query: &Query,
        find: &Find,
    ) -> Result<(Found, Report)> {
        self.read(connection, |view, snapshot| {
            let (mut found, mut report) = report(view, Search::new(snapshot, query, find)?)?;
            found.notes.extend(view.note());
            view.tell(&mut report);
            Ok((found, report))
        })
    }

    /// Says why a record ranks where it does, or why it was not found.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn why(&self, connection: &Connection, query: &Query, find: &Find, key: &Key) -> Result<Why> {
        self.read(connection, |view, snapshot| search::why(view, &snapshot, query, find, key))
    }

    /// Searches twice for one query, such as with two sets of weights, and puts the answers side by side.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn compare(
        &self,
        connection: &Connection,
        query: &Query,
        first: &Find,
        second: &Find,
    ) -> Result<Compared> {
        self.read(connection, |view, snapshot| search::compare(view, &snapshot, query, first, second))
    }

    /// The first `most` terms, in order, that fit a pattern; see [`Snapshot::terms`]. They agree with the rows as the
    /// connection's transaction sees them.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn terms(&self, connection: &Connection, pattern: &Pattern, most: usize) -> Result<Terms> {
        self.read(connection, |view, snapshot| snapshot.terms(view, pattern, most))
    }

    /// Does `work` on what the connection's transaction sees, the rows that no shelf holds yet included.
    fn read<T>(
        &self,
        connection: &Connection,
        work: impl FnOnce(&Laid<'_>, Snapshot) -> Result<T>,
    ) -> Result<T> {
        self.read_in(Transaction::to_read(connection)?, connection, work)
    }

    fn read_in<T>(
        &self,
        transaction: Transaction<'_>,
        connection: &Connection,
        work: impl FnOnce(&Laid<'_>, Snapshot) -> Result<T>,
    ) -> Result<T> {
        let seen = self.look(connection)?;
        let view = self.view(connection, &seen);
        let laid = Laid::new(&view, self.overlay(connection, &seen, &view)?);
        let snapshot = Snapshot::open(&laid, &self.opened)?;
        let done = work(&laid, snapshot)?;
        transaction.commit("Ending to read")?;
        Ok(done)
    }

    /// The rows that no shelf holds yet, laid over the shelves: as they were for the last search, with what was logged since.
    fn overlay(&self, connection: &Connection, seen: &Seen, view: &dyn View) -> Result<Option<Arc<Overlay>>> {
        let Some(last) = seen.last else { return Ok(None) };
        let of = (seen.state.manifest.generation, last);
        let mut below = None;
        if let Some(((generation, known), overlay)) = self.overlays.last()
            && generation == of.0
        {
            if known == last {
                return Ok(Some(overlay));
            }
            if overlay.may_grow() && is_logged(connection, &self.names, known)? {
                below = Some((known.seq, overlay));
            }
        }
        let (after, below) = below.unzip();
        let laid = Laid::new(view, below.clone());
        let mut spool = Spool::new(&laid);
        let (_, rows) = self.put_pending(connection, seen, &mut spool, Merging::Never, after)?;
        let overlay = Arc::new(Overlay::over(below.as_deref(), spool.into_contents(), rows));
        self.overlays.put(of, &overlay);
        Ok(Some(overlay))
    }

    /// Turns the rows that the log names into a shelf. Changes no result, and makes searches faster.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if a transaction is open, [`ErrorKind::Busy`] if the database is locked,
    /// [`ErrorKind::OutOfStep`] if the triggers are gone.
    pub fn sync(&self, connection: &Connection) -> Result<Synced> {
        self.catch_up(connection, Work::Pending(Merging::Small), |_| ())
    }

    /// Catches up, and merges the shelves that are due: also those that [`sync`](Self::sync) leaves because they are large.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn tidy(&self, connection: &Connection) -> Result<Synced> {
        self.catch_up(connection, Work::Pending(Merging::Due), |_| ())
    }

    /// Catches up, and merges all shelves into one.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn compact(&self, connection: &Connection) -> Result<Synced> {
        self.catch_up(connection, Work::Pending(Merging::Whole), |_| ())
    }

    fn catch_up(&self, connection: &Connection, work: Work, mut progress: impl FnMut(u64)) -> Result<Synced> {
        self.again_if_overtaken(|| self.catch_up_once(connection, work, &mut progress))
    }

    fn again_if_overtaken(&self, mut work: impl FnMut() -> Result<Synced>) -> Result<Synced> {
        spans::catch_up(self.name(), || {
            for _ in 1..TRIES {
                match work() {
                    Err(error) if error.is_overtaken() => {}
                    done => return done,
                }
            }
            work()
        })
    }

    fn catch_up_once(
        &self,
        connection: &Connection,
        work: Work,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        const SYNCING: &str = "Catching up";
        if !connection.is_autocommit() {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "Catching up works in transactions of its own; commit or roll back the one that is open first.",
            ));
        }
        // Build from one consistent view, without keeping any writer out.
        let reading = Transaction::to_read(connection)?;
        let at = State::time(connection)?;
        let mut seen = Seen { at, ..self.see(connection)? };
        if seen.state.filled && seen.last.is_none() && work == Work::Pending(Merging::Small) {
            return Ok(Synced::default());
        }
        let replaced = (work == Work::Anew).then(|| seen.state.manifest.pieces().collect::<Vec<_>>());
        if replaced.is_some() {
            Arc::make_mut(&mut seen.state.manifest).shelves.clear();
        }
        let (contents, synced) = match work {
            Work::Pending(merging) if seen.state.filled => {
                let view = self.view(connection, &seen);
                let mut spool = Spool::new(&view);
                let (synced, _) = self.put_pending(connection, &seen, &mut spool, merging, None)?;
                (spool.into_contents(), synced)
            }
            _ => self.build_all(connection, &seen, progress)?,
        };
        reading.commit(SYNCING)?;

        // Publish in a short transaction, if nobody was faster.
        let writing = Transaction::to_write(connection, SYNCING)?;
        let now = State::require(connection, &self.names, &self.manifests)?;
        now.check_triggers(connection, &self.names)?;
        // The first fill of an empty table makes no new generation; every other state is told apart by `swap`.
        if now.filled != seen.state.filled {
            return Err(Error::overtaken());
        }
        self.pour(connection, &seen, contents, replaced.as_deref())?;
        writing.commit(SYNCING)?;
        Ok(synced)
    }

    /// Reads all rows into shelves, with nothing below them.
    fn build_all(
        &self,
        connection: &Connection,
        seen: &Seen,
        progress: &mut dyn FnMut(u64),
    ) -> Result<(Contents, Synced)> {
        let view = self.view(connection, seen);
        let mut spool = Spool::new(&view);
        let mut batch = Batch::new(&mut spool, &self.opened, &self.schema)?;
        let unreadable = self.put_all(connection, seen, &mut batch, progress)?;
        let published = batch.publish()?;
        let synced = Synced { put: published.put, removed: published.removed, unreadable };
        Ok((spool.into_contents(), synced))
    }

    /// Makes what was built the state that counts, in the transaction that is open; in place of these pieces, if it was built anew.
    fn pour(
        &self,
        connection: &Connection,
        seen: &Seen,
        contents: Contents,
        replaced: Option<&[PieceId]>,
    ) -> Result<()> {
        let mut unit = SqliteUnit::new(SqliteView::new(connection, &self.names, &self.cache));
        if !contents.changed() && (seen.last.is_some() || replaced.is_some()) {
            // A state of its own even if no record changes: numbers of the log are used again once it is empty.
            let generation = seen.state.manifest.generation;
            let next = Manifest { generation: generation + 1, ..Manifest::clone(&seen.state.manifest) };
            unit.swap(Some(generation), &next)?;
        }
        contents.pour(&mut unit)?;
        unit.remove(replaced.unwrap_or_default())?;
        State::set_caught_up(connection, &self.names, seen.at)?;
        // One writer at a time, so log numbers are in the order of commits: what is above was not seen.
        let sql = format!("DELETE FROM {} WHERE seq <= ?1", self.names.table("log"));
        connection
            .execute(&sql, [seen.last.map_or(0, |last| last.seq)])
            .map(|_| ())
            .map_err(failed("Emptying the change log"))
    }

    fn view<'c>(&'c self, connection: &'c Connection, seen: &'c Seen) -> SqliteView<'c> {
        SqliteView::new(connection, &self.names, &self.cache).knowing(&seen.state.manifest)
    }

    /// State and log, checked to be of a cellar that can be searched.
    fn look(&self, connection: &Connection) -> Result<Seen> {
        let seen = self.see(connection)?;
        if seen.state.filled {
            return Ok(seen);
        }
        Err(Error::new(
            ErrorKind::NotFilled,
            format!(
                "The first fill of the cellar `{}` has not ended; wait for it, or run `sync` if it was interrupted.",
                self.names.cellar()
            ),
        ))
    }

    fn see(&self, connection: &Connection) -> Result<Seen> {
        let state = State::require(connection, &self.names, &self.manifests)?;
        if state.manifest.schema != self.schema {
            return Err(Error::new(
                ErrorKind::OutOfStep,
                format!(
                    "The cellar `{}` was adopted anew with another schema; open it again.",
                    self.names.cellar()
                ),
            ));
        }
        state.check_triggers(connection, &self.names)?;
        let last = last_entry(connection, &self.names)?;
        Ok(Seen { state, last, at: 0 })
    }

    /// Puts the rows that the log names behind a number into `spool`, and removes the records whose rows are gone. Tells how many
    /// keys there were.
    fn put_pending(
        &self,
        connection: &Connection,
        seen: &Seen,
        spool: &mut Spool<'_>,
        merging: Merging,
        after: Option<i64>,
    ) -> Result<(Synced, u64)> {
        let sources = Sources::read(connection, &seen.state.table, &self.schema)?;
        let pending = pending(connection, &self.names, &sources, after)?;
        let mut rows = Rows::new(&sources)?;
        let mut batch = Batch::new(spool, &self.opened, &self.schema)?;
        batch.set_merging(merging);
        for key in &pending {
            match rows.one(connection, key)? {
                Some(record) => batch.put(&record)?,
                None => batch.remove(key)?,
            }
        }
        let published = batch.publish()?;
        let synced = Synced { put: published.put, removed: published.removed, unreadable: rows.unreadable };
        Ok((synced, pending.len() as u64))
    }

    /// Checks every checksum and every invariant of the layout. Whether the records agree with the rows
    /// [`differences`](Self::differences) tells.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] at the first thing that is not right; or as for [`find`](Self::find).
    pub fn check(&self, connection: &Connection) -> Result<()> {
        let transaction = Transaction::to_read(connection)?;
        let seen = self.see(connection)?;
        let view = self.view(connection, &seen);
        Snapshot::open(&view, &Opened::new())?.check(&view)?;
        transaction.commit("Ending to read")
    }

    /// The records that are not what their rows say, with in what they differ: those of rows whose change no trigger saw. Rows that
    /// the log names are seen. Reads all rows and all of the cellar.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`] if the cellar can't be read; or as for [`find`](Self::find).
    pub fn differences(&self, connection: &Connection) -> Result<Vec<(Key, Difference)>> {
        let transaction = Transaction::to_read(connection)?;
        let seen = self.look(connection)?;
        let view = self.view(connection, &seen);
        let laid = Laid::new(&view, self.overlay(connection, &seen, &view)?);
        let snapshot = Snapshot::open(&laid, &self.opened)?;
        let all = rows::differences(&laid, &snapshot, &self.schema, |batch| {
            self.put_all(connection, &seen, batch, &mut |_| ()).map(|_| ())
        })?;
        transaction.commit("Ending to read")?;
        Ok(all)
    }

    /// Notes that rows with these keys may have changed without a trigger that saw it, so that they are read again: inside the
    /// application's transaction, or in one of ours.
    ///
    /// # Errors
    /// If the database can't be written.
    pub fn touch<'k>(&self, connection: &Connection, keys: impl IntoIterator<Item = &'k Key>) -> Result<()> {
        const TOUCHING: &str = "Noting changes";
        let ours =
            connection.is_autocommit().then(|| Transaction::to_write(connection, TOUCHING)).transpose()?;
        let sql = format!("INSERT INTO {}(key) VALUES (?1)", self.names.table("log"));
        let mut statement = connection.prepare_cached(&sql).map_err(failed(TOUCHING))?;
        for key in keys {
            statement.execute([parameter(key)]).map_err(failed(TOUCHING))?;
        }
        ours.map_or(Ok(()), |ours| ours.commit(TOUCHING))
    }

    /// Reads rows again whose records [differ](Self::differences); all of them if the cellar is damaged, or if its triggers are
    /// gone or altered, which are made again then.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn repair(&self, connection: &Connection) -> Result<Repaired> {
        let state = State::require(connection, &self.names, &self.manifests)?;
        if state.manifest.schema == self.schema && !state.stands(connection, &self.names)? {
            self.become_new(connection, &mut |_| ())?;
            return Ok(Repaired { rebuilt: true, ..Repaired::default() });
        }
        let records = match self.check(connection).and_then(|()| self.differences(connection)) {
            Err(error) if error.is_damaged() => {
                self.rebuild(connection)?;
                return Ok(Repaired { rebuilt: true, ..Repaired::default() });
            }
            records => records?,
        };
        self.touch(connection, records.iter().map(|(key, _)| key))?;
        self.sync(connection)?;
        Ok(Repaired { records, rebuilt: false })
    }

    /// Reads all rows again, into shelves that replace those there are. Searches go on with these until it is done.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn rebuild(&self, connection: &Connection) -> Result<Synced> {
        self.catch_up(connection, Work::Anew, |_| ())
    }

    fn put_all(
        &self,
        connection: &Connection,
        seen: &Seen,
        batch: &mut Batch<'_>,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Unreadable> {
        let mut rows = Rows::new(&Sources::read(connection, &seen.state.table, &self.schema)?)?;
        let mut count = 0;
        rows.all(connection, |record| {
            count += 1;
            if count % PROGRESS_ROWS == 0 {
                progress(count);
            }
            batch.put(record)
        })?;
        Ok(rows.unreadable)
    }

    /// Marks in texts what a search finds.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` names columns that can't be searched.
    pub fn highlighter(&self, text: &str, find: &Find) -> Result<Highlighter> {
        Highlighter::new(Arc::clone(&self.schema), &Query::read(text).query, find)
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
    pub fn info(&self, connection: &Connection) -> Result<Info> {
        let transaction = Transaction::to_read(connection)?;
        let seen = self.see(connection)?;
        let view = self.view(connection, &seen);
        let mut info = Info::of(&view, &self.opened)?;
        let sources = Sources::read(connection, &seen.state.table, &self.schema)?;
        info.pending = Some(pending(connection, &self.names, &sources, None)?.len() as u64);
        info.oldest = seen.last.map(|_| State::age(connection, &self.names)).transpose()?;
        // Not every SQLite is built to tell.
        let sql = "SELECT sum(pgsize) FROM dbstat WHERE name = ?1 AND aggregate = 1";
        let bytes = connection.query_row(sql, [&seen.state.table], |row| row.get::<_, Option<i64>>(0));
        info.table = bytes.ok().flatten().and_then(|bytes| u64::try_from(bytes).ok());
        transaction.commit("Ending to read")?;
        Ok(info)
    }
}

/// A cellar with a connection of its own, for a [`Keeper`](rows::Keeper).
impl Kept for (Connection, Arc<SqliteCellar>) {
    fn pending(&mut self, most: u64) -> Result<u64> {
        let sql = format!("SELECT count(*) FROM (SELECT 1 FROM {} LIMIT ?1)", self.1.names.table("log"));
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        let count: i64 =
            self.0.query_row(&sql, [most], |row| row.get(0)).map_err(failed("Looking for changes"))?;
        Ok(u64::try_from(count).unwrap_or(0))
    }

    fn sync(&mut self) -> Result<Synced> {
        self.1.sync(&self.0)
    }

    fn tidy(&mut self) -> Result<Synced> {
        self.1.tidy(&self.0)
    }
}
