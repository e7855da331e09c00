//! What cellars inside databases share.
//!
//! A search sees the shelves and, laid over them, the rows that changed since: they go through the same
//! [`Batch`](crate::Batch) that would publish them, into a [`Spool`] that is never published. Catching up fills a spool
//! in the same way and then pours it into the database in one short transaction.

mod spool;

pub use spool::{Contents, Spool};
