//! Full-text search inside an application, or inside its relational database: no search server, no cluster.
//!
//! A [`Cellar`] is one index: a [`Schema`], its [`Record`]s and the place where it lives, in memory or in a
//! [`Folder`]. Inside a SQLite database it is a [`sqlite::SqliteCellar`], which searches rows of a table and always
//! agrees with what the transaction at hand sees; inside PostgreSQL a `postgres::PostgresCellar` (feature `postgres`), or, for
//! asynchronous programs, a `postgres::AsyncCellar` (features `tokio` and `deadpool`).
//!
//! ```
//! use nut_cellar::{Cellar, Column, Find, Record, Schema};
//!
//! # fn main() -> nut_cellar::Result<()> {
//! let schema = Schema::new("id").with("title", Column::text("en").weighing(4.0)).with("notes", Column::text("en"));
//! let cellar = Cellar::in_memory(schema)?;
//! cellar.publish(|batch| {
//!     batch.put(&Record::new(1).with("title", "Walnut box").with("notes", "two brass hinges"))?;
//!     batch.put(&Record::new(2).with("title", "Tin box").with("notes", "smells of walnuts"))
//! })?;
//! let found = cellar.find("walnut boxes", &Find::new())?;
//! let keys: Vec<_> = found.hits.iter().map(|hit| hit.key.to_string()).collect();
//! assert_eq!(keys, ["1", "2"]);
//! # Ok(()) }
//! ```
//!
//! The computation is the crate `nut-cellar-core`, whose names are given again here; this crate adds the places.

mod cellar;
pub mod folder;
mod place;
#[cfg(feature = "postgres")]
pub mod postgres;
pub mod rows;
#[cfg(feature = "sqlite")]
pub mod sqlite;

pub use cellar::{Cellar, Info};
pub use folder::{Durability, Folder};
pub use nut_cellar_core::{
    Batch, Beginnings, Column, DEFAULT_MEMORY, Difference, Error, ErrorKind, Expansions, FieldReader, Filter,
    Find, Found, Highlighter, Hit, Join, Key, Kind, Language, Manifest, Marks, Memory, MemoryUse, Merging,
    Misread, Note, Opened, Order, Packing, PieceId, Progress, Published, Query, Recipe, Record, Request,
    Result, Schema, Search, Searchable, Snapshot, SoFar, Spellings, Tally, TermCount, Terms, Token, Total,
    Unit, Value, View, Words, counts, filter, jiff, judge, lenient, query, rank, request, schema, search,
    searchable, shelf, store, text,
};
#[cfg(feature = "derive")]
pub use nut_cellar_derive::Searchable;
pub use place::{Patience, Place};

/// The examples of the README are compiled and run with the documentation's.
#[cfg(all(doctest, feature = "sqlite"))]
#[doc = include_str!("../../../README.md")]
struct Readme;

/// So are those of the chapter on text.
#[cfg(doctest)]
#[doc = include_str!("../../../docs/text.md")]
struct ChapterOnText;

/// And those of the chapters on queries and on ranking.
#[cfg(doctest)]
#[doc = include_str!("../../../docs/query-language.md")]
struct ChapterOnQueries;

#[cfg(doctest)]
#[doc = include_str!("../../../docs/judging.md")]
struct ChapterOnJudging;

#[cfg(doctest)]
#[doc = include_str!("../../../docs/ranking.md")]
struct ChapterOnRanking;
