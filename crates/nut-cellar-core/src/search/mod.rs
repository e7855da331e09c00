//! Searching: a plan of what a query means for a schema, walked over the shelves of a snapshot.
//!
//! A [`Search`] does no I/O. It runs over what is at hand and says which ranges it lacks; [`run`] fetches them from a
//! [`View`](crate::View) and goes on.

mod family;
mod find;
pub(crate) mod plan;
mod scan;
mod steps;
mod tightness;
mod top;

pub use find::{Find, Found, Hit, Words};
pub use steps::{FORM_LIKENESS, Progress, Search, run};
pub use tightness::{Tightness, tightness};
