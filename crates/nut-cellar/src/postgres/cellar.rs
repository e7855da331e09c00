//! The handle of a cellar inside a PostgreSQL database.

use super::failure::failed;
use super::gathered::Gathered;
use super::key::{KeyColumns, Keys};
use super::names::{Names, listed};
use super::place::{CHUNK, PostgresView};
use super::reading::Rows;
use super::secured::Sight;
use super::session::{Parameter, Session, Statements};
use super::sources::Sources;
use super::state::{self, Logged, Seen};
use super::table::Table;
use crate::cellar::{Info, reported};
use crate::rows::cache::ChunkCache;
use crate::rows::manifests::Manifests;
use crate::rows::near::NearFolder;
use crate::rows::{self, spans};
use crate::rows::{Laid, Overlay, Remembered, Spool};
use nut_cellar_core::lenient::{self, Suggest, Suggested};
use nut_cellar_core::search::{Compared, Report, Why};
use nut_cellar_core::{
    Error, ErrorKind, Find, Found, Highlighter, Key, Manifest, Merging, Opened, Query, Request, Result,
    Schema, Snapshot, Terms, View, search, text::Pattern,
};
use postgres::Row;
use postgres::types::Type;
use std::path::Path;
use std::sync::{Arc, OnceLock};

/// How often a search begins anew when somebody publishes in the middle of it. Where several programs compact without a pause, it may take
/// more than a few times.
const TRIES: usize = 100;

/// A cellar inside a PostgreSQL database. It can be shared between threads; each call takes the connection to use.
#[derive(Debug)]
pub struct PostgresCellar {
    pub(super) names: Names,
    pub(super) schema: Arc<Schema>,
    pub(super) rows: Rows,
    pub(super) opened: Opened,
    pub(super) cache: Arc<ChunkCache>,
    /// Where what is read of the shelves is kept for other processes.
    pub(super) folder: OnceLock<Arc<NearFolder>>,
    pub(super) manifests: Manifests,
    /// By what tells log and manifest.
    pub(super) overlays: Remembered<Logged>,
}

/// An overlay, and what tells the log that it was made of.
pub(super) type LoggedOverlay = (Logged, Arc<Overlay>);

impl PostgresCellar {
    /// The cellar with this name, with the schema that is kept with it.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is none.
    pub fn open(client: &mut impl Session, name: &str) -> Result<Self> {
        Self::open_in(client, Names::new(name)?)
    }

    fn open_in(client: &mut dyn Statements, names: Names) -> Result<Self> {
        let Some((schema, source)) = state::open(client, &names)? else {
            return Err(not_there(client, &names));
        };
        let table = Table::of(client, source)?;
        let sources = Sources::new(client, &names, table, &schema)?;
        let rows = Rows::new(&sources)?;
        Ok(Self::with(names, schema, rows))
    }

    pub(super) fn with(names: Names, schema: impl Into<Arc<Schema>>, rows: Rows) -> Self {
        Self {
            names,
            schema: schema.into(),
            rows,
            opened: Opened::new(),
            cache: Arc::new(ChunkCache::new()),
            folder: OnceLock::new(),
            manifests: Manifests::default(),
            overlays: Remembered::new(),
        }
    }

    /// A handle of the same cellar, with a budget of its own, in bytes, for what searches ask for again and again; see
    /// [`Opened::with_memory`]. It has read nothing yet.
    #[must_use]
    pub fn with_memory(&self, bytes: usize) -> Self {
        let fresh = Self::with(self.names.clone(), Arc::clone(&self.schema), self.rows.clone());
        Self { opened: Opened::with_memory(bytes), folder: self.folder.clone(), ..fresh }
    }

    /// What it is called.
    pub fn name(&self) -> &str {
        self.names.cellar()
    }

    /// The columns.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// Keeps what is read of the shelves in a local folder, which may be shared by the processes of a machine, so that one that begins
    /// later has it without asking the database. It takes as much room as the shelves, at most; what is no longer of
    /// the cellar is removed. Each cellar needs a folder of its own. One that is made is the user's alone; for several users, make it
    /// before.
    ///
    /// # Errors
    /// [`ErrorKind::Place`] if the folder can't be made, [`ErrorKind::BadRequest`] if there is one already.
    pub fn keep_in(&self, folder: impl AsRef<Path>) -> Result<()> {
        self.folder.set(Arc::new(NearFolder::open(folder.as_ref(), CHUNK)?)).map_err(|late| {
            let late = late.path().display();
            let message =
                format!("The cellar keeps what it reads in a folder already, which can't become {late}.");
            Error::new(ErrorKind::BadRequest, message)
        })
    }

    /// Reads what a person typed, and searches for it. The answer agrees with the rows as the connection's transaction sees them,
    /// or, outside of one, with those that were there at one moment during the call.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` asks for what is not there, [`ErrorKind::NotFilled`] if the first fill was
    /// interrupted, [`ErrorKind::OutOfStep`] if the triggers are gone; or if the database can't be read.
    pub fn find(&self, client: &mut impl Session, text: &str, find: &Find) -> Result<Found> {
        let reading = Query::read(text);
        Ok(self.search(client, &reading.query, find)?.noting(reading.notes))
    }

    /// Answers a request: all that a search may be asked, as one document.
    ///
    /// # Errors
    /// As for [`find`](Self::find); and if a text in the request can't be read.
    pub fn answer(&self, client: &mut impl Session, request: &Request) -> Result<Found> {
        let asked = request.prepare(&self.schema)?;
        Ok(self.search(client, &asked.query, &asked.find)?.noting(asked.notes))
    }

    /// Searches for a query that was built or read before.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search(&self, client: &mut impl Session, query: &Query, find: &Find) -> Result<Found> {
        spans::search(self.name(), |span| {
            self.read(client, |view, snapshot, sight| {
                span.record("overlay", view.is_overlay());
                let mut found = sight.search(view, &snapshot, query, find)?;
                found.notes.extend(view.note().filter(|_| sight.must_be_all().is_ok()));
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
        client: &mut impl Session,
        query: &Query,
        find: &Find,
    ) -> Result<(Found, Report)> {
        self.read(client, |view, snapshot, sight| {
            sight.must_be_all()?;
            let (mut found, mut report) = reported(view, &snapshot, query, find)?;
            found.notes.extend(view.note());
            view.tell(&mut report);
            Ok((found, report))
        })
    }

    /// Hands hits to a statement, as rows of `found`: `key`, `score` and `rank`; a key of several parts as `key`, `key_2` and so on.
    /// What the statement takes of its own begins with `$3`, or behind as many more as there are more parts; parameters say their
    /// types.
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
        client: &mut impl Session,
        found: &Found,
        sql: &str,
        parameters: &[Parameter<'_>],
    ) -> Result<Vec<Row>> {
        let hits = self.hits(found);
        client.query_typed(&hits.with(sql), &hits.parameters(parameters)).map_err(failed(JOINING))
    }

    pub(super) fn hits<'f>(&'f self, found: &'f Found) -> Hits<'f> {
        Hits {
            key: &self.rows.key,
            keys: Keys::of(&self.rows.key, found.hits.iter().map(|hit| &hit.key)),
            scores: found.hits.iter().map(|hit| hit.score).collect(),
            first: found.hits.first().map_or(1, |hit| hit.rank),
        }
    }

    /// What a program may offer somebody who types: corrections of what was typed, and completions.
    ///
    /// # Errors
    /// As for [`find`](Self::find); [`ErrorKind::Withheld`] to a role that row-level security keeps from seeing all rows.
    pub fn suggest(
        &self,
        client: &mut impl Session,
        text: &str,
        find: &Find,
        suggest: &Suggest,
    ) -> Result<Suggested> {
        self.read(client, |view, snapshot, sight| {
            sight.must_be_all()?;
            lenient::suggest(view, &snapshot, text, find, suggest)
        })
    }

    /// Says why a record ranks where it does, or why it was not found.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn why(&self, client: &mut impl Session, query: &Query, find: &Find, key: &Key) -> Result<Why> {
        self.read(client, |view, snapshot, sight| {
            sight.must_be_all()?;
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
        client: &mut impl Session,
        query: &Query,
        first: &Find,
        second: &Find,
    ) -> Result<Compared> {
        self.read(client, |view, snapshot, sight| {
            sight.must_be_all()?;
            search::compare(view, &snapshot, query, first, second)
        })
    }

    /// The first `most` terms, in order, that fit a pattern; see [`Snapshot::terms`].
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn terms(&self, client: &mut impl Session, pattern: &Pattern, most: usize) -> Result<Terms> {
        self.read(client, |view, snapshot, sight| {
            sight.must_be_all()?;
            snapshot.terms(view, pattern, most)
        })
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
    pub fn info(&self, client: &mut impl Session) -> Result<Info> {
        let mut info = self.on_state(client, &[], Seen::shelves, &|| None, |view, seen| {
            seen.must_be_all(&self.rows)?;
            let pending = Some(seen.pending.count());
            Ok(Info { pending, ..Info::of(view, &self.opened)? })
        })?;
        (info.oldest, info.table) = state::age_and_size(client, &self.names)?;
        Ok(info)
    }

    /// Does `work` on the state that one statement sees, with the shelves of the manifest that `of` takes from it; again if
    /// somebody publishes in between. Rows that are logged are read unless the log is one that is `known`.
    pub(super) fn on_state<T>(
        &self,
        client: &mut dyn Statements,
        known: &[LoggedOverlay],
        of: impl Fn(&Seen) -> Arc<Manifest>,
        gather: &dyn Fn() -> Option<Gathered>,
        work: impl Fn(&PostgresView<'_>, &mut Seen) -> Result<T>,
    ) -> Result<T> {
        let mut tries = TRIES;
        loop {
            let mut seen = self.see(client, known, gather)?;
            if let Some(folder) = self.folder.get() {
                folder.tidy(&seen.manifest);
            }
            let view = PostgresView::new(client, self, of(&seen));
            let done = work(&view, &mut seen);
            tries -= 1;
            if done.is_ok() || !view.missed() || tries == 0 {
                return done;
            }
        }
    }

    /// Does `work` on what one statement sees, the rows that no shelf holds yet included; again if somebody publishes in between.
    pub(super) fn read<T>(
        &self,
        client: &mut dyn Statements,
        work: impl Fn(&Laid<'_>, Snapshot, &Sight<'_, '_>) -> Result<T>,
    ) -> Result<T> {
        let known = self.overlays.all();
        let gather = || Some(Gathered::new(&self.opened, &self.schema));
        self.on_state(client, &known, Seen::base, &gather, |view, seen| {
            if !seen.filled {
                return Err(rows::not_filled(self.name(), &seen.manifest));
            }
            let laid = Laid::new(view, self.overlay(view, seen, &known)?);
            let snapshot = Snapshot::open(&laid, &self.opened)?;
            let sight = if seen.secured { Sight::Some(view, &self.rows) } else { Sight::All };
            work(&laid, snapshot, &sight)
        })
    }

    /// The rows that no shelf holds yet, laid over the shelves, or over what is first known if only later ones were read; or what is
    /// known, if it is of this log.
    pub(super) fn overlay(
        &self,
        view: &dyn View,
        seen: &mut Seen,
        known: &[LoggedOverlay],
    ) -> Result<Option<Arc<Overlay>>> {
        let Some(log) = seen.log.clone() else { return Ok(None) };
        if let Some((_, overlay)) = known.iter().find(|(known, _)| *known == log) {
            self.overlays.get(&log);
            return Ok(Some(Arc::clone(overlay)));
        }
        let below = known.first().filter(|_| seen.pending.is_more).map(|(_, overlay)| Arc::clone(overlay));
        let laid = Laid::new(view, below.clone());
        let mut spool = Spool::new(&laid);
        let rows = seen.pending.count();
        self.put_pending(seen, &mut spool, Merging::Never)?;
        let contents = spool.into_contents();
        let overlay = Arc::new(Overlay::over(below.as_deref(), contents, rows));
        // One that has not all rows is for no other role.
        if !seen.secured {
            self.overlays.put(log, &overlay);
        }
        Ok(Some(overlay))
    }

    pub(super) fn see(
        &self,
        client: &mut dyn Statements,
        known: &[LoggedOverlay],
        gather: &dyn Fn() -> Option<Gathered>,
    ) -> Result<Seen> {
        let logs: Vec<_> = known.iter().map(|(log, _)| log).collect();
        let may_grow = known.first().is_some_and(|(_, overlay)| overlay.may_grow());
        state::see(
            client,
            (&self.names, &self.schema, &self.rows),
            &self.manifests,
            (&logs, may_grow),
            gather,
        )
    }
}

pub(super) const JOINING: &str = "Joining hits to rows";

/// Hits as a statement takes them.
pub(super) struct Hits<'f> {
    key: &'f KeyColumns,
    keys: Keys<'f>,
    scores: Vec<f32>,
    /// The rank of the first.
    first: usize,
}

impl Hits<'_> {
    /// A statement to which they are `found`.
    pub fn with(&self, sql: &str) -> String {
        let (before, key) = (self.first - 1, self.key.names().join(", "));
        format!(
            "WITH found AS (SELECT {key}, score, {before} + place AS rank FROM
               ROWS FROM ({}, pg_catalog.unnest(${})) WITH ORDINALITY AS hit({key}, score, place)) {sql}",
            self.key.unnested(1),
            self.key.len() + 1
        )
    }

    /// Its parameters.
    pub fn parameters<'p>(&'p self, own: &[Parameter<'p>]) -> Vec<Parameter<'p>> {
        let mut all: Vec<Parameter<'p>> = self.keys.parameters().collect();
        all.push((&self.scores, Type::FLOAT4_ARRAY));
        all.extend(own.iter().map(|(value, kind)| (*value, kind.clone())));
        all
    }
}

/// The error for a cellar that is not there; says which are.
#[cold]
pub(super) fn not_there(client: &mut dyn Statements, names: &Names) -> Error {
    let there = listed(client).unwrap_or_default();
    let advice = if there.is_empty() {
        "there is none here; adopt a table first".to_owned()
    } else {
        format!("here are: {}", there.join(", "))
    };
    let message = format!("There is no cellar `{}` in this database; {advice}.", names.cellar());
    Error::new(ErrorKind::NotACellar, message)
}
