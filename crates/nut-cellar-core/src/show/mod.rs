//! Showing matches: marks around the words of a text that a query found.

mod highlight;

pub use highlight::{Highlighter, Marks};
