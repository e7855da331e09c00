//! What asynchronous calls run their statements by.

use tokio_postgres::{Client, Transaction};

/// What statements are run by: a connection, or a transaction. For those of `tokio-postgres` and, with the feature `deadpool`, of a pool of
/// `deadpool-postgres`.
pub trait AsyncSession: Connected + Send + Sync {}

/// A connection that is in no transaction, for what needs transactions of its own.
pub trait AsyncConnection: AsyncSession {}

/// Whatever has a connection.
pub trait Connected {
    /// The connection.
    fn client(&self) -> &Client;
}

impl Connected for Client {
    fn client(&self) -> &Client {
        self
    }
}

impl AsyncSession for Client {}
impl AsyncConnection for Client {}

impl Connected for Transaction<'_> {
    fn client(&self) -> &Client {
        Transaction::client(self)
    }
}

impl AsyncSession for Transaction<'_> {}

#[cfg(feature = "deadpool")]
mod deadpool {
    use super::{AsyncConnection, AsyncSession, Connected};
    use deadpool_postgres::{Client, Transaction};

    impl Connected for Client {
        fn client(&self) -> &tokio_postgres::Client {
            self
        }
    }

    impl AsyncSession for Client {}
    impl AsyncConnection for Client {}

    impl Connected for Transaction<'_> {
        fn client(&self) -> &tokio_postgres::Client {
            tokio_postgres::Transaction::client(self)
        }
    }

    impl AsyncSession for Transaction<'_> {}
}
