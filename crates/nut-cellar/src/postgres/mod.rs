//! A cellar inside a PostgreSQL database, beside the table whose rows it finds. PostgreSQL 13 or newer.
//!
//! [`PostgresCellar::adopt`] makes a schema of its own, `cellar_NAME`, with the tables `state`, `chunk` and `log`, and triggers
//! on the application's table. The triggers append the key of each changed row to the log, inside the transaction that
//! changes it, whichever program that is. A search reads state, log and the rows that the log names by one statement, so that it agrees with
//! the rows whatever the isolation is: uncommitted ones of its own transaction included, rolled-back ones not.
//! [`PostgresCellar::sync`] turns logged rows into a shelf, which makes searches faster and changes no result. Several
//! programs may do so at once: each waits for its turn.
//!
//! ```no_run
//! use nut_cellar::postgres::PostgresCellar;
//! use nut_cellar::{Column, Find, Schema};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let mut client = postgres::Client::connect("host=/run/postgresql dbname=office", postgres::NoTls)?;
//! let schema = Schema::new("id").with("title", Column::text("en"));
//! let cellar = PostgresCellar::adopt(&mut client, "items", &schema)?;
//!
//! let mut transaction = client.transaction()?;
//! transaction.execute("UPDATE items SET title = 'Two umbrellas' WHERE id = 2", &[])?;
//! let found = cellar.find(&mut transaction, "umbrella", &Find::new())?;
//! # Ok(()) }
//! ```

mod adopting;
#[cfg(feature = "tokio")]
mod asynchronous;
mod catching_up;
mod cellar;
mod derived;
mod failure;
mod functions;
mod gathered;
mod key;
mod names;
mod place;
mod reading;
mod repairing;
mod secured;
mod session;
mod sources;
mod state;
mod table;
mod triggers;
mod types;

#[cfg(feature = "tokio")]
pub use asynchronous::{AsyncCellar, AsyncConnection, AsyncSession};
pub use cellar::PostgresCellar;
pub use names::cellars;
pub use session::{Connection, Session};

// The crates whose connections are taken and whose rows and errors come back, in the versions that fit.
#[cfg(feature = "deadpool")]
pub use ::deadpool_postgres;
pub use ::postgres;
#[cfg(feature = "tokio")]
pub use ::tokio_postgres;
