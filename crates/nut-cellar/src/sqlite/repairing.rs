//! Finding what no trigger saw, and what is damaged; and mending it.

use super::cellar::SqliteCellar;
use super::place::SqliteView;
use super::state::State;
use super::transaction::Transaction;
use crate::rows::cache::ChunkCache;
use crate::rows::{self, Laid, Repaired, Stretch};
use nut_cellar_core::{Difference, Key, Opened, Result, Snapshot};
use rusqlite::Connection;
use std::sync::Arc;

impl SqliteCellar {
    /// Checks every checksum and every invariant of the layout. Whether the records agree with the rows
    /// [`differences`](Self::differences) tells.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`](crate::ErrorKind::Damaged) at the first thing that is not right; or as for [`find`](Self::find).
    pub fn check(&self, connection: &Connection) -> Result<()> {
        let transaction = Transaction::to_read(connection)?;
        let seen = self.see(connection)?;
        // What was read before says nothing of what is in the database now.
        let fresh = Arc::new(ChunkCache::new());
        let view = SqliteView::new(connection, &self.names, &fresh).knowing(&seen.state.manifest);
        Snapshot::open(&view, &Opened::new())?.check(&view)?;
        transaction.commit("Ending to read")
    }

    /// The records that are not what their rows say, with in what they differ: those of rows whose change no trigger saw. Rows that
    /// the log names are seen. Reads all rows and all of the cellar.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`](crate::ErrorKind::Damaged) if the cellar can't be read; or as for [`find`](Self::find).
    pub fn differences(&self, connection: &Connection) -> Result<Vec<(Key, Difference)>> {
        let transaction = Transaction::to_read(connection)?;
        let seen = self.look(connection)?;
        let view = self.view(connection, &seen);
        let laid = Laid::new(&view, self.overlay(connection, &seen, &view, true)?);
        let snapshot = Snapshot::open(&laid, &self.opened)?;
        let all = rows::differences(&laid, &snapshot, &self.schema, |batch| {
            self.put_part(connection, &seen, &mut Stretch::all(), batch, &mut |_| ()).map(|_| ())
        })?;
        transaction.commit("Ending to read")?;
        Ok(all)
    }

    /// Reads rows again whose records [differ](Self::differences); all of them if the cellar is damaged, or if its triggers are
    /// gone or altered, which are made again then. If a part of what belongs to it is gone, all of it is made anew: then searches fail
    /// until all rows are read.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn repair(&self, connection: &Connection) -> Result<Repaired> {
        match self.repair_what_is_there(connection) {
            Err(error) if error.needs_rebuild() => {
                self.make_anew(connection, &mut |_| ())?;
                Ok(Repaired::of_all())
            }
            done => done,
        }
    }

    fn repair_what_is_there(&self, connection: &Connection) -> Result<Repaired> {
        let state = State::require(connection, &self.names, &self.manifests)?;
        if state.manifest.schema == self.schema && !state.stands(connection, &self.names)? {
            self.become_new(connection, &mut |_| ())?;
            return Ok(Repaired::of_all());
        }
        let records = match self.check(connection).and_then(|()| self.differences(connection)) {
            Err(error) if error.needs_rebuild() => {
                self.rebuild(connection)?;
                self.check(connection)?;
                return Ok(Repaired::of_all());
            }
            records => records?,
        };
        self.touch(connection, records.iter().map(|(key, _)| key))?;
        self.sync(connection)?;
        Ok(Repaired { records, rebuilt: false })
    }
}
