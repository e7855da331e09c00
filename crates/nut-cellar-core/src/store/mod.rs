//! What a place that keeps a cellar must offer, and the plain data that makes one state of it.
//!
//! A place keeps *pieces* (immutable runs of bytes) and one *manifest* that names those that count. The transaction
//! belongs to whoever began it: [`View`] and [`Unit`] are borrowed, and neither commits.

mod manifest;
mod memory;
mod piece;
mod place;

pub(crate) use manifest::MAX_BOOKMARK_BYTES;
pub use manifest::{Generation, Manifest, MaskEntry, ShelfEntry};
pub use memory::{Memory, MemoryUnit, MemoryView};
pub use piece::{PIECE_LABELS, PieceId};
pub use place::{Near, PieceWriter, Unit, View, Wanted};
