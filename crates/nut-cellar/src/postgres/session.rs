//! What statements are run by, whoever owns it: a connection, a transaction, or a runtime that runs them for a thread that waits.

use nut_cellar_core::{Error, ErrorKind, Result};
use postgres::fallible_iterator::FallibleIterator;
use postgres::types::{ToSql, Type};
use postgres::{Client, GenericClient, Row};
use std::sync::atomic::{AtomicU64, Ordering};

use super::failure::{Failure, failed};
use super::names::Names;

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

/// What each transaction of ours is begun by.
pub(super) const BEGIN: &str = "BEGIN ISOLATION LEVEL";

impl Sees {
    fn begin(self) -> String {
        let level = match self {
            Self::Latest => "READ COMMITTED",
            Self::OneMoment => "REPEATABLE READ",
            Self::OneMomentToRead => "REPEATABLE READ READ ONLY",
        };
        format!("{BEGIN} {level}")
    }
}

/// Refuses a connection that is in a transaction, also in one that a plain `BEGIN` began, of which no type tells. What is set for a
/// transaction is there for the next statement of it, and nowhere else.
fn must_be_in_none(session: &mut dyn Statements, doing: &str) -> Result<()> {
    // Of no earlier look in the same transaction.
    static LOOKS: AtomicU64 = AtomicU64::new(0);
    let mark = LOOKS.fetch_add(1, Ordering::Relaxed).to_string();
    let set = "SELECT pg_catalog.set_config('nut_cellar.inside', $1, true)";
    let is_set = "SELECT pg_catalog.current_setting('nut_cellar.inside', true)";
    session.query_typed(set, &[(&mark, Type::TEXT)]).map_err(failed(doing))?;
    let inside: Option<String> = session.query_typed_one(is_set, &[]).map_err(failed(doing))?.get(0);
    if inside.as_deref() != Some(&mark) {
        return Ok(());
    }
    let message =
        format!("{doing} works in transactions of its own; commit or roll back the one that is open first.");
    Err(Error::new(ErrorKind::BadRequest, message))
}

/// Lets what is named without a schema be PostgreSQL's own until the transaction ends: for statements that make something, and for those
/// that run what is in a view.
pub(super) fn look_at_own_names(client: &mut dyn Statements) -> Result<(), Failure> {
    let sql = "SELECT pg_catalog.set_config('search_path', 'pg_catalog, pg_temp', true)";
    client.query_typed(sql, &[]).map(|_| ())
}

/// A transaction of ours. It is rolled back if it is dropped.
pub(super) struct Own<'s> {
    session: &'s mut dyn Statements,
    doing: &'static str,
    ended: bool,
}

impl<'s> Own<'s> {
    /// Begins a transaction on a connection that is in none; errors tell that it is for `doing`.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if the connection is in a transaction, which stays as it is.
    pub fn begin(session: &'s mut dyn Statements, sees: Sees, doing: &'static str) -> Result<Self> {
        must_be_in_none(session, doing)?;
        session.batch_execute(&sees.begin()).map_err(failed(doing))?;
        Ok(Self { session, doing, ended: false })
    }

    /// Begins a transaction that changes a cellar's shelves, alone until it ends: waits for those before, and sees what they published.
    /// Only who may write to the cellar can keep others waiting so.
    ///
    /// # Errors
    /// As for [`begin`](Self::begin).
    pub fn begin_alone(
        session: &'s mut dyn Statements,
        names: &Names,
        sees: Sees,
        doing: &'static str,
    ) -> Result<Self> {
        must_be_in_none(session, doing)?;
        let own = Self { session, doing, ended: false };
        // A lock is taken without a snapshot, so what the transaction sees is of when it had it.
        let lock =
            format!("{}; LOCK TABLE {} IN SHARE ROW EXCLUSIVE MODE", sees.begin(), names.inside("state"));
        own.session.batch_execute(&lock).map_err(failed(doing))?;
        Ok(own)
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
