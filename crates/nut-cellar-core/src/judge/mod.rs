//! Judging: what a search finds of what it should find, whether other settings find more, and which do.
//!
//! Queries, judgments and runs are files in the forms of the Text Retrieval Conference (TREC), by whose names of measures they go, too.
//! What always holds: a measure is between 0 and 1, a query without a record that is right counts in no mean, and what is drawn by lot
//! depends on a seed alone.

mod assessment;
mod judgments;
mod known;
mod lots;
mod measures;
mod paired;
mod queries;
mod runs;
mod tuning;

pub use assessment::{Assessment, JudgedQuery};
pub use judgments::Judgments;
pub use known::{KnownItem, known_items, with_mistake};
pub use measures::Measure;
pub use paired::{Compared, Differing, Paired, compare};
pub use queries::{Asked, read_queries};
pub use runs::{Run, record_id};
pub use tuning::{Knob, Outcome, Tuned, Tuning};

use crate::error::{Error, ErrorKind};

/// What is wrong with a line of a file.
fn bad_line(number: usize, what: impl std::fmt::Display) -> Error {
    Error::new(ErrorKind::BadRequest, format!("line {number}: {what}."))
}
