//! Puts and removals before there is a unit to put them on: so that rows can be read while their database is still looking for the
//! next ones.
//!
//! What always holds: nothing is written, so no more is taken than memory allows.

use super::batch::DEFAULT_BUDGET;
use super::snapshot::Opened;
use crate::error::Result;
use crate::record::{Key, Record};
use crate::schema::Schema;
use crate::shelf::Builder;
use std::collections::BTreeSet;
use std::sync::Arc;

/// What a [`Batch`](super::Batch) has to begin with. Order counts, as it does there.
///
/// ```
/// use nut_cellar_core::{Batch, Column, Gathering, Memory, Opened, Record, Schema};
/// use std::sync::Arc;
///
/// let schema = Arc::new(Schema::new("id").with("title", Column::text("en")));
/// let opened = Opened::new();
/// let mut gathering = Gathering::new(&opened, &schema);
/// gathering.put(&Record::new(1).with("title", "A black umbrella")).unwrap();
/// let place = Memory::new();
/// let mut unit = place.unit();
/// let batch = Batch::with(&mut unit, &opened, gathering).unwrap();
/// assert_eq!(batch.publish().unwrap().put, 1);
/// ```
#[derive(Debug)]
pub struct Gathering {
    pub(super) schema: Arc<Schema>,
    pub(super) builder: Builder,
    pub(super) removed: BTreeSet<Vec<u8>>,
    pub(super) put: u64,
}

impl Gathering {
    /// Nothing, for a cellar with this schema.
    pub fn new(opened: &Opened, schema: &Arc<Schema>) -> Self {
        let builder = Builder::knowing(Arc::clone(schema), opened.take_learned(schema));
        Self { schema: Arc::clone(schema), builder, removed: BTreeSet::new(), put: 0 }
    }

    /// Whether no more may be put.
    pub fn is_full(&self) -> bool {
        self.builder.memory() >= DEFAULT_BUDGET
    }

    /// Puts a record; one with the same key is replaced.
    ///
    /// # Errors
    /// [`BadRecord`](crate::ErrorKind::BadRecord), and the record is not taken, if the schema does not allow it.
    pub fn put(&mut self, record: &Record) -> Result<()> {
        self.builder.put(record)?;
        self.put += 1;
        Ok(())
    }

    /// Removes the record with this key, if there is one.
    pub fn remove(&mut self, key: &Key) {
        self.builder.remove(key);
        self.removed.insert(key.encode());
    }
}

#[cfg(test)]
mod tests {
    use super::super::Batch;
    use super::*;
    use crate::error::ErrorKind;
    use crate::schema::Column;
    use crate::store::Memory;

    fn titled(key: i64, title: &str) -> Record {
        Record::new(key).with("title", title)
    }

    #[test]
    fn what_was_gathered_comes_before_what_is_put_and_is_for_its_schema_alone() {
        let schema = Arc::new(Schema::new("id").with("title", Column::text("none")));
        let (place, opened) = (Memory::new(), Opened::new());
        let mut unit = place.unit();
        let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
        for key in 1..=4 {
            batch.put(&titled(key, "oak")).unwrap();
        }
        batch.publish().unwrap();

        let mut gathering = Gathering::new(&opened, &schema);
        gathering.put(&titled(1, "elm")).unwrap();
        gathering.put(&titled(5, "elm")).unwrap();
        gathering.remove(&2.into());
        gathering.remove(&5.into());
        assert!(gathering.put(&Record::new(6).with("colour", "red")).is_err() && !gathering.is_full());
        let mut batch = Batch::with(&mut unit, &opened, gathering).unwrap();
        batch.put(&titled(2, "yew")).unwrap();
        let published = batch.publish().unwrap();
        assert_eq!((published.put, published.removed), (3, 2));

        let other = Arc::new(Schema::new("id").with("name", Column::text("none")));
        let refused = Batch::with(&mut unit, &opened, Gathering::new(&opened, &other)).err().unwrap();
        assert_eq!(refused.kind(), ErrorKind::OutOfStep);
    }
}
