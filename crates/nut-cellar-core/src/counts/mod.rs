//! Counts of what a search finds: how many of its records have each value of a column, and what their numbers are like.
//!
//! A [`Count`] says what is counted, a [`Counted`] what came of it. All records that match are counted, whatever the page, each once for each
//! value that it has; they are neither scored nor read.
//!
//! What always holds: counts are those of a plain look at each record that the search finds, removed ones and changed rows minded.

mod calendar;
mod count;
mod counted;
mod read;
mod sum;
mod tally;

pub use calendar::Period;
pub(crate) use count::bind;
pub use count::{By, Count};
pub use counted::{Counted, Statistics, Sum, ValueCount};
pub(crate) use tally::{Matches, Tallies};
