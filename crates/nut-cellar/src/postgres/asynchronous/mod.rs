//! The same cellar for asynchronous programs, on connections of `tokio-postgres` and on those of a pool.
//!
//! What always holds: the runtime is never blocked. Computing is done on the runtime's threads for blocking work, one for each
//! call under way; what it has to ask of the database is asked by the future, and a thread waits for the answer.
//! A future that is dropped leaves nothing half done: a call that reads has nothing to leave, and the
//! transaction of one that writes is rolled back.
//!
//! ```no_run
//! use nut_cellar::postgres::AsyncCellar;
//! use nut_cellar::Find;
//!
//! # async fn office() -> Result<(), Box<dyn std::error::Error>> {
//! let (mut client, connection) = tokio_postgres::connect("host=/run/postgresql dbname=office", tokio_postgres::NoTls).await?;
//! tokio::spawn(connection);
//! let cellar = AsyncCellar::open(&client, "items").await?;
//!
//! let transaction = client.transaction().await?;
//! transaction.execute("UPDATE items SET title = 'Two umbrellas' WHERE id = 2", &[]).await?;
//! let found = cellar.find(&transaction, "umbrella", &Find::new()).await?;
//! # Ok(()) }
//! ```

mod bridge;
mod cellar;
mod session;

pub use cellar::AsyncCellar;
pub use session::{AsyncConnection, AsyncSession};
