//! The handle of a cellar inside a SQLite database.

use super::names::Names;
use super::place::SqliteView;
use super::reading::{Entry, is_logged, last_entry, pending};
use super::sources::Sources;
use super::state::{State, Stood};
use super::transaction::Transaction;
use crate::cellar::{Info, reported};
use crate::rows::cache::ChunkCache;
use crate::rows::manifests::Manifests;
use crate::rows::{self, spans};
use crate::rows::{Laid, Overlay, Remembered, Spool};
use nut_cellar_core::lenient::{Suggest, Suggested};
use nut_cellar_core::search::{Compared, Report, Why};
use nut_cellar_core::store::Generation;
use nut_cellar_core::{
    Error, ErrorKind, Find, Found, Highlighter, Key, Merging, Opened, Query, Request, Result, Schema,
    Snapshot, Terms, View, lenient, search, text::Pattern,
};
use rusqlite::Connection;
use std::sync::Arc;

/// A cellar inside a SQLite database. It can be shared between threads; each call takes the connection to use.
#[derive(Debug)]
pub struct SqliteCellar {
    pub(super) names: Names,
    pub(super) schema: Arc<Schema>,
    pub(super) opened: Opened,
    pub(super) cache: Arc<ChunkCache>,
    pub(super) manifests: Manifests,
    pub(super) stood: Stood,
    /// By generation and last entry of the log.
    pub(super) overlays: Remembered<(Generation, Entry)>,
}

/// What a transaction sees of a cellar, and the last of the rows that no shelf holds yet.
pub(super) struct Seen {
    pub state: State,
    pub last: Option<Entry>,
    /// When it was seen, where that matters.
    pub at: i64,
}

impl SqliteCellar {
    pub(super) fn with(names: Names, schema: Schema) -> Self {
        Self {
            names,
            schema: Arc::new(schema),
            opened: Opened::new(),
            cache: Arc::new(ChunkCache::new()),
            manifests: Manifests::default(),
            stood: Stood::default(),
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

    /// The same handle with a budget of its own, in bytes, for what searches ask for again and again; see [`Opened::with_memory`]. What was
    /// kept so far is let go.
    #[must_use]
    pub fn with_memory(self, bytes: usize) -> Self {
        Self { opened: Opened::with_memory(bytes), ..self }
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
        Ok(self.search(connection, &reading.query, find)?.noting(reading.notes))
    }

    /// Answers a request: all that a search may be asked, as one document.
    ///
    /// # Errors
    /// As for [`find`](Self::find); and if a text in the request can't be read.
    pub fn answer(&self, connection: &Connection, request: &Request) -> Result<Found> {
        let asked = request.prepare(&self.schema)?;
        Ok(self.search(connection, &asked.query, &asked.find)?.noting(asked.notes))
    }

    /// Searches for a query that was built or read before.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search(&self, connection: &Connection, query: &Query, find: &Find) -> Result<Found> {
        self.search_in(Transaction::to_read(connection)?, connection, true, (query, find))
    }

    fn search_in(
        &self,
        transaction: Transaction<'_>,
        connection: &Connection,
        may_remember: bool,
        (query, find): (&Query, &Find),
    ) -> Result<Found> {
        spans::search(self.name(), |span| {
            self.read_in(transaction, connection, may_remember, |view, snapshot| {
                span.record("overlay", view.is_overlay());
                let mut found = lenient::search(view, &snapshot, query, find)?;
                found.notes.extend(view.note());
                Ok(found)
            })
        })
    }

    /// The same inside a statement that is running on the connection. One that writes may have logged rows already, and change them
    /// later: what it sees then is seen by nobody else, nor by itself again.
    #[cfg(feature = "sqlite-functions")]
    pub(super) fn answer_in_statement(
        &self,
        connection: &Connection,
        request: &Request,
        writes: bool,
    ) -> Result<Found> {
        let asked = request.prepare(&self.schema)?;
        let transaction = Transaction::of_statement(connection);
        let found = self.search_in(transaction, connection, !writes, (&asked.query, &asked.find))?;
        Ok(found.noting(asked.notes))
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
            let (mut found, mut report) = reported(view, &snapshot, query, find)?;
            found.notes.extend(view.note());
            view.tell(&mut report);
            Ok((found, report))
        })
    }

    /// What a program may offer somebody who types: corrections of what was typed, and completions.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn suggest(
        &self,
        connection: &Connection,
        text: &str,
        find: &Find,
        suggest: &Suggest,
    ) -> Result<Suggested> {
        self.read(connection, |view, snapshot| lenient::suggest(view, &snapshot, text, find, suggest))
    }

    /// The same for a statement that is running, as [`answer_in_statement`](Self::answer_in_statement).
    pub(super) fn suggest_in_statement(
        &self,
        connection: &Connection,
        (text, find, suggest): (&str, &Find, &Suggest),
        writes: bool,
    ) -> Result<Suggested> {
        self.read_in(Transaction::of_statement(connection), connection, !writes, |view, snapshot| {
            lenient::suggest(view, &snapshot, text, find, suggest)
        })
    }

    /// Says why a record ranks where it does, or why it was not found.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn why(&self, connection: &Connection, query: &Query, find: &Find, key: &Key) -> Result<Why> {
        self.read(connection, |view, snapshot| {
            let (query, find) = lenient::decided(view, &snapshot, query, find)?;
            search::why(view, &snapshot, &query, &find, key)
        })
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
    pub(super) fn read<T>(
        &self,
        connection: &Connection,
        work: impl FnOnce(&Laid<'_>, Snapshot) -> Result<T>,
    ) -> Result<T> {
        self.read_in(Transaction::to_read(connection)?, connection, true, work)
    }

    fn read_in<T>(
        &self,
        transaction: Transaction<'_>,
        connection: &Connection,
        may_remember: bool,
        work: impl FnOnce(&Laid<'_>, Snapshot) -> Result<T>,
    ) -> Result<T> {
        let seen = self.look(connection)?;
        let view = self.view(connection, &seen);
        let laid = Laid::new(&view, self.overlay(connection, &seen, &view, may_remember)?);
        let snapshot = Snapshot::open(&laid, &self.opened)?;
        let done = work(&laid, snapshot)?;
        transaction.commit("Ending to read")?;
        Ok(done)
    }

    /// The rows that no shelf holds yet, laid over the shelves: as they were for the last search, with what was logged since.
    pub(super) fn overlay(
        &self,
        connection: &Connection,
        seen: &Seen,
        view: &dyn View,
        may_remember: bool,
    ) -> Result<Option<Arc<Overlay>>> {
        let Some(last) = seen.last else { return Ok(None) };
        let of = (seen.state.manifest.generation, last);
        if let Some(overlay) = self.overlays.get(&of) {
            return Ok(Some(overlay));
        }
        let mut below = None;
        for ((generation, known), overlay) in self.overlays.all() {
            if generation == of.0 && overlay.may_grow() && is_logged(connection, &self.names, known)? {
                below = Some((known.seq, overlay));
                break;
            }
        }
        let (after, below) = below.unzip();
        let laid = Laid::new(view, below.clone());
        let mut spool = Spool::new(&laid);
        let (_, rows) = self.put_pending(connection, seen, &mut spool, Merging::Never, after)?;
        let overlay = Arc::new(Overlay::over(below.as_deref(), spool.into_contents(), rows));
        if may_remember {
            self.overlays.put(of, &overlay);
        }
        Ok(Some(overlay))
    }

    pub(super) fn view<'c>(&'c self, connection: &'c Connection, seen: &'c Seen) -> SqliteView<'c> {
        SqliteView::new(connection, &self.names, &self.cache).knowing(&seen.state.manifest)
    }

    /// State and log, checked to be of a cellar that can be searched.
    pub(super) fn look(&self, connection: &Connection) -> Result<Seen> {
        let seen = self.see(connection)?;
        if seen.state.filled {
            return Ok(seen);
        }
        Err(rows::not_filled(self.name(), &seen.state.manifest))
    }

    pub(super) fn see(&self, connection: &Connection) -> Result<Seen> {
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
        state.check_triggers(connection, &self.names, &self.stood)?;
        let last = last_entry(connection, &self.names)?;
        Ok(Seen { state, last, at: 0 })
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
