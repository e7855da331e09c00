//! Transactions: the application's own where it has begun one, else one of ours.

use super::failure::failed;
use nut_cellar_core::{Error, ErrorKind, Result};
use rusqlite::Connection;

/// A transaction that is rolled back when it is dropped, unless it was committed; nothing where the application has one.
pub(super) struct Transaction<'c> {
    connection: &'c Connection,
    ours: bool,
}

impl<'c> Transaction<'c> {
    /// One consistent view: the application's transaction, or one of ours that only reads.
    pub fn to_read(connection: &'c Connection) -> Result<Self> {
        let ours = connection.is_autocommit();
        if ours {
            connection.execute_batch("BEGIN").map_err(failed("Beginning to read"))?;
        }
        Ok(Self { connection, ours })
    }

    /// The view of a statement that is running, which lasts for as long as it does.
    #[cfg(feature = "sqlite-functions")]
    pub fn of_statement(connection: &'c Connection) -> Self {
        Self { connection, ours: false }
    }

    /// A transaction of ours that may write at once.
    pub fn to_write(connection: &'c Connection, doing: &str) -> Result<Self> {
        if !connection.is_autocommit() {
            return Err(Error::new(
                ErrorKind::BadRequest,
                format!(
                    "{doing} works in transactions of its own; commit or roll back the one that is open first."
                ),
            ));
        }
        connection.execute_batch("BEGIN IMMEDIATE").map_err(failed(doing))?;
        Ok(Self { connection, ours: true })
    }

    /// Commits, if it is ours.
    pub fn commit(mut self, doing: &str) -> Result<()> {
        if self.ours {
            self.connection.execute_batch("COMMIT").map_err(failed(doing))?;
            self.ours = false;
        }
        Ok(())
    }
}

/// What other connections may do while shelves are built.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Meanwhile {
    /// Write, and publish first.
    TheyWrite,
    /// Read only.
    TheyWait,
}

impl Meanwhile {
    /// Begins to read what shelves are built of.
    pub fn begin<'c>(self, connection: &'c Connection, doing: &str) -> Result<Transaction<'c>> {
        match self {
            Self::TheyWrite => Transaction::to_read(connection),
            Self::TheyWait => Transaction::to_write(connection, doing),
        }
    }

    /// Goes on to publish them.
    pub fn publish<'c>(self, reading: Transaction<'c>, doing: &str) -> Result<Transaction<'c>> {
        let connection = reading.connection;
        match self {
            Self::TheyWrite => {
                reading.commit(doing)?;
                Transaction::to_write(connection, doing)
            }
            Self::TheyWait => Ok(reading),
        }
    }
}

impl Drop for Transaction<'_> {
    fn drop(&mut self) {
        // A commit that failed may have ended the transaction already.
        if self.ours && !self.connection.is_autocommit() {
            let _ = self.connection.execute_batch("ROLLBACK");
        }
    }
}
