//! Logged rows that become records while the database looks for the next ones.

use super::reading::Rows;
use crate::rows::Unreadable;
use nut_cellar_core::{Gathering, Key, Opened, Record, Result, Schema};
use postgres::Row;
use std::sync::Arc;

/// What was made of the rows so far.
pub(super) struct Gathered {
    pub gathering: Gathering,
    pub unreadable: Unreadable,
    /// How many keys there were.
    pub count: u64,
    schema: Arc<Schema>,
    record: Record,
}

impl Gathered {
    pub fn new(opened: &Opened, schema: &Arc<Schema>) -> Self {
        Self {
            gathering: Gathering::new(opened, schema),
            unreadable: Unreadable::default(),
            count: 0,
            schema: Arc::clone(schema),
            record: Record::new(0),
        }
    }

    /// Whether no more may be taken.
    pub fn is_full(&self) -> bool {
        self.gathering.is_full()
    }

    /// Takes a logged key, with its row, which begins at a column, if it has one.
    pub fn take(&mut self, key: &Key, row: (&Row, usize), rows: &Rows) -> Result<()> {
        self.count += 1;
        if rows.read(row, &self.schema, &mut self.record, &mut self.unreadable)? {
            return self.gathering.put(&self.record);
        }
        self.gathering.remove(key);
        Ok(())
    }
}
