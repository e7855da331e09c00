//! What statements are run by, whoever owns it: a connection, a transaction, or a runtime that runs them for a thread that waits.

use nut_cellar_core::Result;
use postgres::fallible_iterator::FallibleIterator;
use postgres::types::{ToSql, Type};
use postgres::{Client, GenericClient, Row};

use super::failure::{Failure, failed};

/// A parameter with its type, so that a statement takes one round trip.
pub type Parameter<'p> = (&'p (dyn ToSql + Sync), Type);

/// What statements are run by: a connection, or a transaction. For [`postgres::Client`] and [`postgres::Transaction`].
pub trait Session: Statements {}

/// A connection that is in no transaction, for what needs transactions of its own. For [`postgres::Client`].
pub trait Connection: Session {}

impl<C: GenericClient> Session for C {}
impl Connection for Client {}

/// Running statements.
pub trait Statements {
    /// All rows that a statement gives.
    fn query_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<Vec<Row>, Failure>;

    /// Gives `take` each row that a statement gives, while the database looks for the next ones, where that may be.
    fn query_each(
        &mut self,
        sql: &str,
        parameters: &[Parameter<'_>],
        take: &mut dyn FnMut(Row),
    ) -> Result<(), Failure> {
        self.query_typed(sql, parameters)?.into_iter().for_each(take);
        Ok(())
    }

    /// How many rows a statement changed.
    fn execute_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<u64, Failure>;

    /// Runs statements without parameters; all of them or none.
    fn batch_execute(&mut self, sql: &str) -> Result<(), Failure>;

    /// The first row, if there is one.
    fn query_typed_opt(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<Option<Row>, Failure> {
        Ok(self.query_typed(sql, parameters)?.into_iter().next())
    }

    /// The first row, of a statement that has one.
    fn query_typed_one(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<Row, Failure> {
        self.query_typed_opt(sql, parameters)?.ok_or(Failure::NoRow)
    }
}

impl<C: GenericClient> Statements for C {
    fn query_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<Vec<Row>, Failure> {
        Ok(GenericClient::query_typed(self, sql, parameters)?)
    }

    fn query_each(
        &mut self,
        sql: &str,
        parameters: &[Parameter<'_>],
        take: &mut dyn FnMut(Row),
    ) -> Result<(), Failure> {
        let parameters = parameters.iter().map(|(value, kind)| (*value, kind.clone()));
        let mut rows = GenericClient::query_typed_raw(self, sql, parameters)?;
        while let Some(row) = rows.next()? {
            take(row);
        }
        Ok(())
    }

    fn execute_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<u64, Failure> {
        Ok(GenericClient::execute_typed(self, sql, parameters)?)
    }

    fn batch_execute(&mut self, sql: &str) -> Result<(), Failure> {
        Ok(GenericClient::batch_execute(self, sql)?)
    }
}

/// How a transaction sees what others commit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sees {
    /// Each statement what was committed before it.
    Latest,
    /// All statements what was committed before the first.
    OneMoment,
    /// The same, and nothing may be written.
    OneMomentToRead,
}

/// A transaction of ours. It is rolled back if it is dropped.
pub(super) struct Own<'s> {
    session: &'s mut dyn Statements,
    doing: &'static str,
    ended: bool,
}

impl<'s> Own<'s> {
    /// Begins a transaction on a connection that is in none; errors tell that it is for `doing`.
    pub fn begin(session: &'s mut dyn Statements, sees: Sees, doing: &'static str) -> Result<Self> {
        session
            .batch_execute(match sees {
                Sees::Latest => "BEGIN ISOLATION LEVEL READ COMMITTED",
                Sees::OneMoment => "BEGIN ISOLATION LEVEL REPEATABLE READ",
                Sees::OneMomentToRead => "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY",
            })
            .map_err(failed(doing))?;
        Ok(Self { session, doing, ended: false })
    }

    /// Makes it count.
    pub fn commit(mut self) -> Result<()> {
        self.ended = true;
        self.session.batch_execute("COMMIT").map_err(failed(self.doing))
    }
}

impl Drop for Own<'_> {
    fn drop(&mut self) {
        if !self.ended {
            // A connection that is gone has rolled it back.
            let _ = self.session.batch_execute("ROLLBACK");
        }
    }
}

impl Statements for Own<'_> {
    fn query_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<Vec<Row>, Failure> {
        self.session.query_typed(sql, parameters)
    }

    fn query_each(
        &mut self,
        sql: &str,
        parameters: &[Parameter<'_>],
        take: &mut dyn FnMut(Row),
    ) -> Result<(), Failure> {
        self.session.query_each(sql, parameters, take)
    }

    fn execute_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<u64, Failure> {
        self.session.execute_typed(sql, parameters)
    }

    fn batch_execute(&mut self, sql: &str) -> Result<(), Failure> {
        self.session.batch_execute(sql)
    }
}
