//! The immutable, self-contained part of an index, read by ranges.
//!
//! `docs/shelf-layout.md` gives the layout byte by byte. One file here for each of its sections, the
//! `builder` that writes a shelf and the `reader` that reads one side by side, and `hand`, which holds the
//! ranges that have been read so far.
//!
//! What always holds: records are numbered in key order (their *ordinals*), so inside a shelf a lower ordinal is a lower
//! key; every chunk is checked against its checksum before a byte of it is used.

mod arrivals;
mod bounds;
mod buckets;
mod builder;
mod cache;
mod check;
mod digests;
mod directory;
mod entries;
mod exact;
mod forms;
mod gathered;
mod grams;
mod hand;
mod kept;
mod keys;
mod learned;
mod length_bytes;
mod lengths;
mod like;
mod log;
mod merge;
mod output;
mod pack;
mod part;
mod positions;
mod posting_block;
mod posting_writer;
mod postings;
mod reader;
mod reading;
mod sealing;
mod shapes;
mod sorted;
mod table;
mod terms;
#[cfg(test)]
mod tests;
mod threads;
mod unpacked;
mod values;
mod vocabulary;

pub use arrivals::Keys;
pub use builder::{Builder, Sealed};
pub(crate) use cache::{Asked, Cache, Key as CacheKey, Set, TestKey};
pub(crate) use check::check;
pub(crate) use digests::digests;
pub use directory::{CHUNK, Section, VERSION as LAYOUT};
pub(crate) use hand::{Hand, Step, Stop, if_at_hand};
pub(crate) use learned::Learned;
pub(crate) use length_bytes::{LONG, LengthBytes};
pub(crate) use lengths::LengthColumn;
pub(crate) use like::Effort;
pub(crate) use log::POSITIONS;
pub(crate) use merge::{Source, merge};
pub(crate) use positions::Positions;
pub(crate) use postings::{END, Postings};
pub use reader::Shelf;
pub(crate) use reading::{Walk, complete};
pub(crate) use table::Most;
pub(crate) use terms::TermEntry;
pub(crate) use threads::in_threads;
pub(crate) use values::{ValueColumn, overlaps};
