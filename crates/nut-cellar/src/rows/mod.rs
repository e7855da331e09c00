//! What cellars inside databases share.
//!
//! A search sees the shelves and, laid over them, the rows that changed since: they go through the same
//! [`Batch`](crate::Batch) that would publish them, into a [`Spool`] that is never published. Catching up fills a spool
//! in the same way and then pours it into the database in one short transaction.

#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) mod cache;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
mod compare;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
mod filling;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) mod json;
mod keeper;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) mod manifests;
#[cfg(feature = "postgres")]
pub(crate) mod near;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
mod overlay;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) mod spans;
mod spool;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) mod tuning;

use nut_cellar_core::schema::Change;
use nut_cellar_core::{Difference, Key};
#[cfg(any(feature = "sqlite", feature = "postgres"))]
use nut_cellar_core::{Error, ErrorKind, Manifest, Merging};

#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) use compare::differences;
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) use filling::Stretch;
pub use keeper::{Keeper, Kept, Pace, Stop, keep};
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) use overlay::{Laid, Overlay, Remembered};
pub use spool::{Contents, Spool};
#[cfg(all(feature = "measuring", any(feature = "sqlite", feature = "postgres")))]
pub use tuning::{Tuning, tune};

/// What the parts of a key are called, wherever a column is needed for each.
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) fn key_parts(count: usize) -> impl Iterator<Item = String> {
    (1..=count).map(|place| if place == 1 { "key".to_owned() } else { format!("key_{place}") })
}

/// The key that has these parts.
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) fn key_of_parts(mut parts: Vec<Key>) -> Option<Key> {
    if parts.len() > 1 { Some(Key::Several(parts)) } else { parts.pop() }
}

/// The parts of a key of so many; none if it has another number of them.
#[cfg(any(feature = "sqlite", feature = "postgres"))]
pub(crate) fn parts_of_key(key: &Key, count: usize) -> Option<&[Key]> {
    let parts = match key {
        Key::Several(parts) => parts,
        key => std::slice::from_ref(key),
    };
    (parts.len() == count).then_some(parts)
}

/// What catching up has to do.
#[cfg(any(feature = "sqlite", feature = "postgres"))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Work {
    /// Put the rows that the log names, and merge.
    Pending(Merging),
    /// Put all rows, in place of what there is.
    Anew,
}

/// What putting search on a table did.
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
pub struct Adopted {
    /// In what the schema differs from the one that the cellar had, if there was one.
    pub changes: Vec<Change>,
    /// Whether all rows were read: for the first time, or again.
    pub rebuilt: bool,
    /// What was put.
    pub synced: Synced,
    /// What whoever adopted it should know.
    pub notes: Vec<String>,
}

/// What catching up did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Synced {
    /// Rows that were read and put.
    pub put: u64,
    /// Records that are no longer, replaced or removed.
    pub removed: u64,
    /// Values that could not be read as what their columns are; they were left out.
    pub unreadable: Unreadable,
}

#[cfg(any(feature = "sqlite", feature = "postgres"))]
impl Synced {
    /// What was done afterwards, too.
    pub(crate) fn and(self, then: Self) -> Self {
        Self {
            put: self.put + then.put,
            removed: self.removed + then.removed,
            unreadable: Unreadable {
                count: self.unreadable.count + then.unreadable.count,
                first: self.unreadable.first.or(then.unreadable.first),
            },
        }
    }
}

/// The error for a cellar whose first fill has not ended.
#[cfg(any(feature = "sqlite", feature = "postgres"))]
#[cold]
pub(crate) fn not_filled(cellar: &str, manifest: &Manifest) -> Error {
    let rows = filling::rows_in(manifest);
    let so_far = if rows > 0 { format!(" ({rows} rows are read)") } else { String::new() };
    let message = format!(
        "The first fill of the cellar `{cellar}` has not ended{so_far}; wait for it, or run `sync` if it was interrupted."
    );
    Error::new(ErrorKind::NotFilled, message)
}

/// How many values could not be read as what their columns are, and the first of them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Unreadable {
    /// How many. They were left out; the rest of their rows is there.
    pub count: u64,
    /// What was wrong with the first.
    pub first: Option<String>,
}

/// What repairing found and did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Repaired {
    /// The records that differed from their rows, with in what. They were read again.
    pub records: Vec<(Key, Difference)>,
    /// Whether the cellar was damaged or its triggers were gone, so that all rows were read again.
    pub rebuilt: bool,
}

impl Repaired {
    /// All rows were read again.
    pub fn of_all() -> Self {
        Self { records: Vec::new(), rebuilt: true }
    }
}

/// The error for a cellar that is to get a schema with another table or other keys: what the log names would be keys of both.
#[cfg(any(feature = "sqlite", feature = "postgres"))]
#[cold]
pub(crate) fn other_source(cellar: &str, table: &str, key: &str) -> Error {
    Error::new(
        ErrorKind::BadRequest,
        format!(
            "The cellar `{cellar}` is not on table `{table}`, or goes by another key than `{key}`; adopt under another name, and \
             release `{cellar}` when nobody searches it any more."
        ),
    )
}

#[cfg(any(feature = "sqlite", feature = "postgres"))]
impl Unreadable {
    pub(crate) fn note(&mut self, key: &Key, column: &str, error: &Error) {
        self.count += 1;
        self.first.get_or_insert_with(|| format!("row {key}, column `{column}`: {error}"));
    }
}
