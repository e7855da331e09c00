//! The computation of Nut Cellar: from records to tokens, from tokens to an inverted index, from a query to ranked
//! hits.
//!
//! Nothing here opens a file, a socket or a database, looks at a clock or prints. A place that can keep bytes
//! ([`store`]) and whoever drives it ([`search::run`]) do that. What holds everywhere in this crate:
//!
//! * a [piece](store::PieceId) never changes once it is finished, and its id is never used twice;
//! * scores depend on the live records alone, never on the order of writes or on how many shelves there are;
//! * bytes that come from a place are checked before they size or index anything.
//!
//! The folders follow the life of a record: [`schema`] says what its columns are, [`record`] is the record itself,
//! [`text`] turns columns into tokens, [`store`] says what a place must offer, `shelf` is the immutable part of an
//! index, [`catalog`] puts shelves together, [`query`] reads what a person typed, [`rank`] is the arithmetic,
//! [`search`] brings them together and [`show`] marks the matches.

#![forbid(unsafe_code)]

mod bits;
pub mod catalog;
pub mod counts;
pub mod error;
pub mod filter;
pub mod judge;
pub mod lenient;
mod note;
pub mod query;
pub mod rank;
pub mod record;
pub mod request;
pub mod schema;
pub mod search;
pub mod searchable;
pub mod shelf;
pub mod show;
pub mod store;
pub mod text;
mod wire;

pub use catalog::{
    Batch, DEFAULT_MEMORY, Difference, Gathering, MemoryUse, Merging, Opened, Published, Snapshot, SoFar,
    Tally, TermCount, Terms,
};
pub use error::{Error, ErrorKind, Result};
pub use filter::Filter;
// The crate of the days and moments that hits give.
pub use jiff;
pub use note::Note;
pub use query::{Expansions, Misread, Query};
pub use record::{FieldReader, Key, Record, Value};
pub use request::Request;
pub use schema::{Column, Join, Kind, Packing, Schema};
pub use search::{Beginnings, Find, Found, Hit, Order, Progress, Search, Spellings, Total, Words};
pub use searchable::Searchable;
pub use show::{Highlighter, Marks};
pub use store::{Manifest, Memory, PieceId, Unit, View};
pub use text::{Language, Recipe, Token};
