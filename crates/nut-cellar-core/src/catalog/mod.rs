//! Shelves put together: what a manifest names, opened for reading ([`Snapshot`]) and replaced by the next ([`Batch`]).
//!
//! What always holds: no two live records of a snapshot have the same key, and its totals count live records alone.

mod batch;
mod difference;
mod gathering;
mod locate;
mod mask;
mod merging;
mod snapshot;
mod terms;

pub use batch::{Batch, DEFAULT_BUDGET, Published, SoFar};
pub use difference::Difference;
pub use gathering::Gathering;
pub use mask::Mask;
pub use merging::{MOST_SHELVES, Merging};
pub(crate) use snapshot::Standing;
pub use snapshot::{DEFAULT_MEMORY, MemoryUse, Opened, Snapshot, Tally};
pub use terms::{TermCount, Terms};
