//! Finding what no trigger saw, and what is damaged; and mending it.

use super::cellar::PostgresCellar;
use super::place::PostgresView;
use super::session::{Connection, Own, Sees, Session};
use super::state::Seen;
use crate::rows::{self, Repaired, Spool, Stretch};
use nut_cellar_core::{Difference, Key, Merging, Opened, Result, Snapshot};
use std::sync::Arc;

impl PostgresCellar {
    /// Checks every checksum and every invariant of the layout. Whether the records agree with the rows
    /// [`differences`](Self::differences) tells.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`](crate::ErrorKind::Damaged) at the first thing that is not right; or as for [`find`](Self::find).
    pub fn check(&self, client: &mut impl Session) -> Result<()> {
        // What was read before says nothing of what is in the database now.
        let fresh = Self::with(self.names.clone(), Arc::clone(&self.schema), self.rows.clone());
        fresh.on_state(client, &[], Seen::shelves, &|| None, |view, seen| {
            seen.must_be_all(&self.rows)?;
            Snapshot::open(view, &Opened::new())?.check(view)
        })
    }

    /// The records that are not what their rows say, with in what they differ: those of rows whose change no trigger saw. Rows that
    /// the log names are seen. Reads all rows and all of the cellar.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`](crate::ErrorKind::Damaged) if the cellar can't be read; or as for [`find`](Self::find).
    pub fn differences(&self, client: &mut impl Connection) -> Result<Vec<(Key, Difference)>> {
        const COMPARING: &str = "Comparing records with rows";
        let mut transaction = Own::begin(client, Sees::OneMomentToRead, COMPARING)?;
        let mut seen = self.see(&mut transaction, &[], &|| None)?;
        seen.must_be_all(&self.rows)?;
        let rows = self.rows_to_read(&mut transaction)?;
        let view = PostgresView::new(&mut transaction, self, seen.base());
        let mut overlay = Spool::new(&view);
        self.put_pending(&mut seen, &mut overlay, Merging::Never)?;
        let snapshot = Snapshot::open(&overlay, &self.opened)?;
        rows::differences(&overlay, &snapshot, &self.schema, |batch| {
            self.put_part(&view, &rows, &mut Stretch::all(), batch, &mut |_| ()).map(|_| ())
        })
    }

    /// Reads rows again whose records [differ](Self::differences); all of them if the cellar is damaged, or if its triggers are
    /// gone or altered, which are made again then. If a part of what belongs to it is gone, all of it is made anew: then searches fail
    /// until all rows are read.
    ///
    /// # Errors
    /// As for [`sync`](Self::sync).
    pub fn repair(&self, client: &mut impl Connection) -> Result<Repaired> {
        match self.repair_what_is_there(client) {
            Err(error) if error.needs_rebuild() => {
                self.make_anew(client, &mut |_| ())?;
                Ok(Repaired::of_all())
            }
            done => done,
        }
    }

    fn repair_what_is_there(&self, client: &mut impl Connection) -> Result<Repaired> {
        let there = self.require(&mut Own::begin(client, Sees::Latest, "Looking at the cellar")?)?;
        if *there.manifest.schema == *self.schema && !there.standing {
            self.become_new(client, &mut |_| ())?;
            return Ok(Repaired::of_all());
        }
        let records = match self.check(client).and_then(|()| self.differences(client)) {
            Err(error) if error.needs_rebuild() => {
                self.rebuild(client)?;
                self.check(client)?;
                return Ok(Repaired::of_all());
            }
            records => records?,
        };
        self.touch(client, records.iter().map(|(key, _)| key))?;
        self.sync(client)?;
        Ok(Repaired { records, rebuilt: false })
    }
}
