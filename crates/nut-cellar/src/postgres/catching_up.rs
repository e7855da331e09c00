//! Catching up: rows that changed become shelves.

use super::cellar::PostgresCellar;
use super::derived::ambiguous;
use super::failure::failed;
use super::functions::row_at;
use super::key::Keys;
use super::names::literal;
use super::place::{PostgresUnit, PostgresView};
use super::reading::Rows;
use super::session::{Connection, Own, Sees, Session, Statements};
use super::state::Seen;
use crate::rows::spans;
use crate::rows::{Kept, Spool, Stretch, Synced, Unreadable, Work};
use nut_cellar_core::{Batch, Error, Key, Manifest, Merging, PieceId, Record, Result, Unit, View};
use postgres::types::Type;
use std::sync::Arc;

/// How many rows of the first fill are fetched at a time.
const FETCHED: u32 = 1_000;
const SYNCING: &str = "Catching up";

impl PostgresCellar {
    /// Reads a part of the rows into a shelf, in the transaction that is open: over those of the parts before, or in the place of others.
    pub(super) fn build_part(
        &self,
        view: PostgresView<'_>,
        rows: &Rows,
        part: &mut Stretch,
        replaced: &[PieceId],
        progress: &mut dyn FnMut(u64),
    ) -> Result<Synced> {
        let mut spool = Spool::new(&view);
        let mut batch = Batch::new(&mut spool, &self.opened, &self.schema)?;
        let mut unreadable = self.put_part(&view, rows, part, &mut batch, progress)?;
        if part.is_stuck() {
            unreadable = self.put_part(&view, rows, part, &mut batch, progress)?;
        }
        part.mark_end(&mut batch)?;
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

    /// Puts the rows that the log names into `spool`, and removes the records whose rows are gone.
    pub(super) fn put_pending(
        &self,
        seen: &mut Seen,
        spool: &mut Spool<'_>,
        merging: Merging,
    ) -> Result<Synced> {
        let (mut batch, mut unreadable) = match seen.pending.gathered.take() {
            Some(gathered) => (Batch::with(spool, &self.opened, gathered.gathering)?, gathered.unreadable),
            None => (Batch::new(spool, &self.opened, &self.schema)?, Unreadable::default()),
        };
        batch.set_merging(merging);
        if merging == Merging::Never {
            batch.set_fleeting();
        }
        let mut record = Record::new(0);
        for (key, row) in &seen.pending.rows {
            let row = (row, row_at(&self.rows));
            if self.rows.read(row, &self.schema, &mut record, &mut unreadable)? {
                batch.put(&record)?;
            } else {
                batch.remove(key)?;
            }
        }
        let published = batch.publish()?;
        Ok(Synced { put: published.put, removed: published.removed, unreadable })
    }

    /// Turns the rows that the log names into a shelf. Changes no result, and makes searches faster. If somebody else is at
    /// it, waits until they are done.
    ///
    /// # Errors
    /// [`ErrorKind::OutOfStep`](crate::ErrorKind::OutOfStep) if the triggers are gone, or if the database can't be written.
    pub fn sync(&self, client: &mut impl Connection) -> Result<Synced> {
        self.catch_up(client, Work::Pending(Merging::Small), |_| ())
    }

    /// Catches up, and merges the shelves that are due: also those that [`sync`](Self::sync) leaves because they are large.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn tidy(&self, client: &mut impl Connection) -> Result<Synced> {
        self.catch_up(client, Work::Pending(Merging::Due), |_| ())
    }

    /// Catches up, and merges all shelves into one.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn compact(&self, client: &mut impl Connection) -> Result<Synced> {
        self.catch_up(client, Work::Pending(Merging::Whole), |_| ())
    }

    pub(super) fn catch_up(
        &self,
        client: &mut dyn Statements,
        work: Work,
        mut progress: impl FnMut(u64),
    ) -> Result<Synced> {
        spans::catch_up(self.name(), || {
            let mut all = Synced::default();
            loop {
                let (synced, goes_on) = self.catch_up_alone(client, work, &mut progress)?;
                all = all.and(synced);
                if !goes_on {
                    return Ok(all);
                }
            }
        })
    }

    /// Does a part of it, and tells whether there is more to do.
    fn catch_up_alone(
        &self,
        client: &mut dyn Statements,
        work: Work,
        progress: &mut dyn FnMut(u64),
    ) -> Result<(Synced, bool)> {
        let mut transaction = Own::begin_alone(client, &self.names, Sees::OneMoment, SYNCING)?;
        let mut seen = self.see(&mut transaction, &[], &|| None)?;
        seen.must_be_all(&self.rows)?;
        // Joined rows that belong to no record are logged, too, and name nothing.
        if seen.filled && seen.log.is_none() && work == Work::Pending(Merging::Small) {
            return Ok((Synced::default(), false));
        }
        let fills = !seen.filled && work != Work::Anew;
        let mut part = if fills { Stretch::after(&seen.manifest)? } else { Stretch::all() };
        let in_parts = part.from.is_some();
        seen.emptied |= work == Work::Anew;
        let (rows, merging) = match work {
            Work::Pending(merging) if seen.filled => (None, merging),
            _ => (Some(self.rows_to_read(&mut transaction)?), Merging::Small),
        };
        let view = PostgresView::new(&mut transaction, self, seen.base());
        let replaced: Vec<_> = if seen.emptied { seen.manifest.pieces().collect() } else { Vec::new() };
        let synced = if let Some(rows) = &rows {
            self.build_part(view, rows, &mut part, &replaced, progress)?
        } else {
            let mut spool = Spool::new(&view);
            let synced = self.put_pending(&mut seen, &mut spool, merging)?;
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
        };
        if !in_parts && !part.goes_on() {
            // Exactly the rows that the transaction sees: what commits later stays for the next time. Of several parts of a fill, what
            // was logged since the first was read is read after the last.
            let sql = format!("DELETE FROM {}", self.names.inside("log"));
            transaction.execute_typed(&sql, &[]).map_err(failed(SYNCING))?;
        }
        if !part.goes_on() {
            let sql = format!("UPDATE {} SET filled = true WHERE NOT filled", self.names.inside("state"));
            transaction.execute_typed(&sql, &[]).map_err(failed(SYNCING))?;
        }
        self.tell(&mut transaction)?;
        transaction.commit()?;
        Ok((synced, in_parts || part.goes_on()))
    }

    /// A hint for whoever listens; nothing depends on it. Writers send none: those that do wait for each other when they commit.
    pub(super) fn tell(&self, client: &mut dyn Statements) -> Result<()> {
        let sql = format!("SELECT pg_catalog.pg_notify({}, '')", literal(&self.names.bare_schema()));
        client.query_typed(&sql, &[]).map(|_| ()).map_err(failed(SYNCING))
    }

    /// How all rows are to be read, by whoever may.
    pub(super) fn rows_to_read(&self, client: &mut dyn Statements) -> Result<Rows> {
        let sources = self.sources(client)?;
        sources.must_be_trusted(client)?;
        Rows::new(&sources)
    }

    /// Puts the rows of a part, in key order, through a cursor.
    pub(super) fn put_part(
        &self,
        view: &PostgresView<'_>,
        rows: &Rows,
        part: &mut Stretch,
        batch: &mut Batch<'_>,
        progress: &mut dyn FnMut(u64),
    ) -> Result<Unreadable> {
        let Rows { from, key, derived, gate, .. } = rows;
        view.look_at_own_names()?;
        if !view.query(&format!("SELECT {gate}"), &[])?.first().is_some_and(|row| row.get(0)) {
            return Err(Error::overtaken());
        }
        let begins = part.from.as_ref().map_or("true".to_owned(), |from| key.is_not_before("t", from));
        let declare = format!(
            "DECLARE cellar_rows NO SCROLL CURSOR FOR
               {} ORDER BY {}{}",
            rows.select(&begins),
            key.columns("t"),
            part.limit()
        );
        view.query(&declare, &[])?;
        let (mut record, mut unreadable) = (Record::new(0), Unreadable::default());
        let before = view.manifest()?.map_or(0, |manifest| part.read_before(&manifest));
        loop {
            let fetched = view.query(&format!("FETCH {FETCHED} FROM cellar_rows"), &[])?;
            for row in &fetched {
                if !rows.read((row, 0), &self.schema, &mut record, &mut unreadable)? {
                    continue;
                }
                if *derived && part.last.as_ref() == Some(&record.key) {
                    return Err(ambiguous(from, &record.key));
                }
                part.last = Some(record.key.clone());
                if part.from.as_ref() != Some(&record.key) {
                    batch.put(&record)?;
                }
            }
            part.rows += fetched.len() as u64;
            progress(before + part.rows);
            if fetched.is_empty() {
                break;
            }
        }
        view.query("CLOSE cellar_rows", &[])?;
        Ok(unreadable)
    }

    /// Notes that rows with these keys may have changed without a trigger that saw it, so that they are read again; inside the
    /// application's transaction, if it is in one. A key of another kind than the table's is none of its keys, and left out.
    ///
    /// # Errors
    /// If the log can't be written.
    pub fn touch<'k>(
        &self,
        client: &mut impl Session,
        keys: impl IntoIterator<Item = &'k Key>,
    ) -> Result<()> {
        let key = &self.rows.key;
        let keys = Keys::of(key, keys);
        let sql = format!(
            "INSERT INTO {}({}) SELECT * FROM ROWS FROM ({}) k",
            self.names.inside("log"),
            key.names().join(", "),
            key.unnested(1)
        );
        let parameters: Vec<_> = keys.parameters().collect();
        client.execute_typed(&sql, &parameters).map(|_| ()).map_err(failed("Noting changes"))
    }

    /// Reads all rows again, into shelves that replace those there are. Searches go on with these until it is done.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn rebuild(&self, client: &mut impl Connection) -> Result<Synced> {
        self.catch_up(client, Work::Anew, |_| ())
    }
}

/// A cellar with a connection of its own, for a [`Keeper`](crate::rows::Keeper).
impl<C: Connection + Send> Kept for (C, Arc<PostgresCellar>) {
    fn pending(&mut self, most: u64) -> Result<u64> {
        let sql = format!(
            "SELECT pg_catalog.count(*) FROM (SELECT 1 FROM {} LIMIT $1) l",
            self.1.names.inside("log")
        );
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

    fn open_again(&mut self) -> Result<()> {
        self.1 = Arc::new(PostgresCellar::open(&mut self.0, self.1.name())?);
        Ok(())
    }
}
