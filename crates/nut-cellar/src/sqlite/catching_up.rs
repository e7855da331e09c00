//! Catching up: rows that changed become shelves.

use super::cellar::{Seen, SqliteCellar};
use super::failure::failed;
use super::place::{SqliteUnit, SqliteView};
use super::reading::{Rows, parameter, pending};
use super::sources::Sources;
use super::state::State;
use super::transaction::{Meanwhile, Transaction};
use crate::rows::spans;
use crate::rows::{Contents, Kept, Spool, Stretch, Synced, Unreadable, Work, key_parts, parts_of_key};
use nut_cellar_core::{Batch, Error, ErrorKind, Key, Manifest, Merging, PieceId, Result, Unit};
use rusqlite::Connection;
use std::sync::Arc;

/// How often catching up begins anew when somebody else publishes first.
const TRIES: usize = 5;
/// How many rows are read between two calls of a progress function.
const PROGRESS_ROWS: u64 = 1_000;

impl SqliteCellar {
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

    pub(super) fn catch_up(
        &self,
        connection: &Connection,
        work: Work,
        mut progress: impl FnMut(u64),
    ) -> Result<Synced> {
        let mut all = Synced::default();
        loop {
            let mut goes_on = false;
            let synced = self.again_if_overtaken(|meanwhile| {
                let (synced, more) = self.catch_up_once(connection, work, meanwhile, &mut progress)?;
                goes_on = more;
                Ok(synced)
            })?;
            all = all.and(synced);
            if !goes_on {
                return Ok(all);
            }
        }
    }

    /// The last time others have to wait, so that it comes to an end however often they publish.
    pub(super) fn again_if_overtaken(
        &self,
        mut work: impl FnMut(Meanwhile) -> Result<Synced>,
    ) -> Result<Synced> {
        spans::catch_up(self.name(), || {
            for _ in 1..TRIES {
                match work(Meanwhile::TheyWrite) {
                    Err(error) if error.is_overtaken() => {}
                    done => return done,
                }
            }
            work(Meanwhile::TheyWait)
        })
    }

    /// Does a part of it, and tells whether there is more to do.
    fn catch_up_once(
        &self,
        connection: &Connection,
        work: Work,
        meanwhile: Meanwhile,
        progress: &mut dyn FnMut(u64),
    ) -> Result<(Synced, bool)> {
        const SYNCING: &str = "Catching up";
        if !connection.is_autocommit() {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "Catching up works in transactions of its own; commit or roll back the one that is open first.",
            ));
        }
        // Build from one consistent view.
        let reading = meanwhile.begin(connection, SYNCING)?;
        let at = State::time(connection)?;
        let mut seen = Seen { at, ..self.see(connection)? };
        if seen.state.filled && seen.last.is_none() && work == Work::Pending(Merging::Small) {
            return Ok((Synced::default(), false));
        }
        // Of several parts of a fill the last is the one behind which there is nothing.
        let (mut in_parts, mut is_last) = (false, true);
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
            Work::Pending(_) => {
                let mut part = Stretch::after(&seen.state.manifest)?;
                in_parts = part.from.is_some();
                let built = self.build_part(connection, &seen, &mut part, progress)?;
                is_last = !part.goes_on();
                built
            }
            Work::Anew => self.build_part(connection, &seen, &mut Stretch::all(), progress)?,
        };

        // Publish in a short transaction, if nobody was faster.
        let writing = meanwhile.publish(reading, SYNCING)?;
        let now = State::require(connection, &self.names, &self.manifests)?;
        now.check_triggers(connection, &self.names, &self.stood)?;
        // The first fill of an empty table makes no new generation; every other state is told apart by `swap`.
        if now.filled != seen.state.filled {
            return Err(Error::overtaken());
        }
        if is_last {
            // What was logged since the first part was read is read after it.
            let last = seen.last.filter(|_| !in_parts);
            self.pour(connection, &Seen { last, ..seen }, contents, replaced.as_deref())?;
        } else {
            contents.pour(&mut SqliteUnit::new(SqliteView::new(connection, &self.names, &self.cache)))?;
        }
        writing.commit(SYNCING)?;
        Ok((synced, in_parts || !is_last))
    }

    /// Reads a part of the rows into a shelf, over those of the parts before.
    pub(super) fn build_part(
        &self,
        connection: &Connection,
        seen: &Seen,
        part: &mut Stretch,
        progress: &mut dyn FnMut(u64),
    ) -> Result<(Contents, Synced)> {
        let view = self.view(connection, seen);
        let mut spool = Spool::new(&view);
        let mut batch = Batch::new(&mut spool, &self.opened, &self.schema)?;
        let mut unreadable = self.put_part(connection, seen, part, &mut batch, progress)?;
        if part.is_stuck() {
            unreadable = self.put_part(connection, seen, part, &mut batch, progress)?;
        }
        part.mark_end(&mut batch)?;
        let published = batch.publish()?;
        let synced = Synced { put: published.put, removed: published.removed, unreadable };
        Ok((spool.into_contents(), synced))
    }

    /// Makes what was built the state that counts, in the transaction that is open; in place of these pieces, if it was built anew.
    pub(super) fn pour(
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

    /// Puts the rows that the log names behind a number into `spool`, and removes the records whose rows are gone. Tells how many
    /// keys there were.
    pub(super) fn put_pending(
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
        if merging == Merging::Never {
            batch.set_fleeting();
        }
        rows.each_of(connection, &pending, |key, record| match record {
            Some(record) => batch.put(record),
            None => batch.remove(key),
        })?;
        let published = batch.publish()?;
        let synced = Synced { put: published.put, removed: published.removed, unreadable: rows.unreadable };
        Ok((synced, pending.len() as u64))
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
        let count = self.schema.key_columns().len();
        let columns = key_parts(count).collect::<Vec<_>>().join(", ");
        let values = vec!["?"; count].join(", ");
        let sql = format!("INSERT INTO {}({columns}) VALUES ({values})", self.names.table("log"));
        let mut statement = connection.prepare_cached(&sql).map_err(failed(TOUCHING))?;
        // A key of another number of parts is none of the table's.
        for parts in keys.into_iter().filter_map(|key| parts_of_key(key, count)) {
            let parts = rusqlite::params_from_iter(parts.iter().map(parameter));
            statement.execute(parts).map_err(failed(TOUCHING))?;
        }
        ours.map_or(Ok(()), |ours| ours.commit(TOUCHING))
    }

    /// Reads all rows again, into shelves that replace those there are. Searches go on with these until it is done.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn rebuild(&self, connection: &Connection) -> Result<Synced> {
        self.catch_up(connection, Work::Anew, |_| ())
    }

    pub(super) fn put_part(
        &self,
        connection: &Connection,
        seen: &Seen,
        part: &mut Stretch,
        batch: &mut Batch<'_>,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Unreadable> {
        let sources = Sources::read(connection, &seen.state.table, &self.schema)?;
        let mut rows = Rows::new(&sources)?;
        let mut count = part.read_before(&seen.state.manifest);
        rows.part(connection, part, |record| {
            count += 1;
            if count.is_multiple_of(PROGRESS_ROWS) {
                progress(count);
            }
            batch.put(record)
        })?;
        Ok(rows.unreadable)
    }
}

/// A cellar with a connection of its own, for a [`Keeper`](crate::rows::Keeper).
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

    fn open_again(&mut self) -> Result<()> {
        self.1 = Arc::new(SqliteCellar::open(&self.0, self.1.name())?);
        Ok(())
    }
}
