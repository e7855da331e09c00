//! The immutable, self-contained part of an index, read by ranges.
//!
//! `docs/shelf-layout.md` gives the layout byte by byte. `format` has one file for each of its sections, `build` what makes
//! a shelf of records, `merge` what makes one of several, `read` what searches need of one, and `check` looks at each byte of it.
//!
//! What always holds: records are numbered in key order (their *ordinals*), so inside a shelf a lower ordinal is a lower
//! key; every chunk is checked against its checksum before a byte of it is used.

mod build;
mod check;
mod format;
mod merge;
mod read;
#[cfg(test)]
mod tests;

pub use build::arrivals::Keys;
pub use build::builder::{Builder, Sealed};
pub(crate) use build::learned::Learned;
pub(crate) use build::log::POSITIONS;
pub(crate) use build::threads::in_threads;
pub(crate) use check::check;
pub use format::directory::{CHUNK, Section, VERSION as LAYOUT};
pub(crate) use format::lengths::LengthColumn;
pub(crate) use format::positions::Positions;
pub(crate) use format::shapes::{FORM_CODES, Shapes};
pub(crate) use format::terms::{ClassEntry, Listed, TermEntry, text_of};
pub(crate) use format::values::{ValueColumn, overlaps};
pub(crate) use merge::{Source, merge};
pub(crate) use read::cache::{Asked, Cache, Key as CacheKey, Set, TestKey};
pub(crate) use read::dictionary_walk::Effort;
pub(crate) use read::digests::digests;
pub(crate) use read::held::{Held, Step, Stop, if_held};
pub(crate) use read::length_bytes::{LONG, LengthBytes};
pub(crate) use read::postings::{Chosen, END, Postings};
pub use read::reader::Shelf;
pub(crate) use read::reading::{Walk, complete};
pub(crate) use read::table::Most;
