//! The lost-property office of the Quillmere Light Railway, a railway that does not exist: its stations, items and
//! claims as tables, the same on every run.

mod grammar;
mod prose;
mod tables;

pub use tables::{ITEMS, write_tables};
