//! A cellar inside a SQLite database, beside the table whose rows it finds.
//!
//! [`SqliteCellar::adopt`] makes four tables of its own, `cellar_NAME_state`, `_piece`, `_chunk` and `_log`, and triggers
//! on the application's table. The triggers append the key of each changed row to the log, inside the transaction that
//! changes it, whichever program that is. A search reads state, log and the rows that the log names as its own
//! transaction sees them, so it always agrees with the rows: uncommitted ones included, rolled-back ones not.
//! [`SqliteCellar::sync`] turns logged rows into a shelf, which makes searches faster and changes no result.
//!
//! ```
//! use nut_cellar::sqlite::SqliteCellar;
//! use nut_cellar::{Column, Find, Schema};
//! use rusqlite::Connection;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let db = Connection::open_in_memory()?;
//! db.execute_batch(
//!     "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT);
//!      INSERT INTO items VALUES (1, 'Black umbrella'), (2, 'Walnut box');",
//! )?;
//! let schema = Schema::new("id").with("title", Column::text("en"));
//! let cellar = SqliteCellar::adopt(&db, "items", &schema)?;
//!
//! db.execute_batch("BEGIN; UPDATE items SET title = 'Two umbrellas' WHERE id = 2;")?;
//! assert_eq!(cellar.find(&db, "umbrella", &Find::new())?.total, 2);
//! db.execute_batch("ROLLBACK")?;
//! assert_eq!(cellar.find(&db, "umbrella", &Find::new())?.total, 1);
//! # Ok(()) }
//! ```
//!
//! Every call takes the connection, which stays the application's: in a transaction of the application a search runs
//! inside it, otherwise in a read transaction of its own; only [`adopt`](SqliteCellar::adopt),
//! [`sync`](SqliteCellar::sync) and [`release`](SqliteCellar::release) write, in transactions of their own.

mod adopting;
mod catching_up;
mod cellar;
mod failure;
#[cfg(feature = "sqlite-functions")]
pub mod functions;
mod names;
mod place;
mod reading;
mod repairing;
mod sources;
mod state;
mod table;
mod transaction;
mod triggers;

pub use crate::rows::{Repaired, Synced, Unreadable};
pub use cellar::SqliteCellar;
#[cfg(feature = "sqlite-functions")]
pub use functions::SqlFunctions;
pub use names::cellars;
pub use place::{SqliteUnit, SqliteView};
// The crate whose connections are taken, in the version that fits: another one would be a second SQLite.
pub use ::rusqlite;
