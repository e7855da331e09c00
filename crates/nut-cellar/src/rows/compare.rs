//! What a cellar has, held against what its rows say: by a second index that is made of them on the side.

use super::Spool;
use nut_cellar_core::{Batch, Difference, Key, Memory, Opened, Result, Schema, Snapshot, View};

/// Holds a snapshot against a fresh one, of the records that `put_all` puts.
pub(crate) fn differences(
    view: &dyn View,
    snapshot: &Snapshot,
    schema: &Schema,
    put_all: impl FnOnce(&mut Batch<'_>) -> Result<()>,
) -> Result<Vec<(Key, Difference)>> {
    let nothing = Memory::new().view();
    let mut wanted = Spool::new(&nothing);
    let opened = Opened::new();
    let mut batch = Batch::new(&mut wanted, &opened, schema)?;
    put_all(&mut batch)?;
    batch.publish()?;
    let fresh = Snapshot::open(&wanted, &opened)?;
    let mut all = Vec::new();
    snapshot.differences(view, (&fresh, &wanted), |key, difference| {
        all.push((key, difference));
        Ok(())
    })?;
    Ok(all)
}
