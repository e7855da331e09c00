//! Statements that are asked for on one thread and run by a future on another.

use super::super::failure::Failure;
use super::super::session::{BEGIN, Connection, Parameter, Session, Statements};
use bytes::{Bytes, BytesMut};
use nut_cellar_core::{Error, ErrorKind, Find, Result};
use postgres::Row;
use postgres::types::{IsNull, ToSql, Type, to_sql_checked};
use std::future::Future;
use std::pin::pin;
use std::task::{Context, Waker};
use tokio::sync::mpsc;
use tokio_postgres::Client;

/// What is asked of the future.
enum Asked {
    Query(String, Vec<(Ready, Type)>),
    Execute(String, Vec<(Ready, Type)>),
    Batch(String),
}

/// What it answers.
enum Answer {
    Rows(Vec<Row>),
    Changed(u64),
    Done,
}

/// The end of a bridge at which work is done that may wait.
pub(super) struct Bridge {
    ask: mpsc::Sender<Asked>,
    /// The other end is the future's own, and no part of what is asked: what is asked may be in the channel when the future is dropped, and
    /// then nobody ever takes it out.
    answers: std::sync::mpsc::Receiver<Result<Answer, Failure>>,
}

impl Bridge {
    /// A search that ends when nobody waits for it any more.
    pub fn while_waited_for(&self, find: Find) -> Find {
        let asked = self.ask.clone();
        find.or_stop_when(move || asked.is_closed())
    }

    fn ask(&self, asked: Asked) -> Result<Answer, Failure> {
        self.ask.blocking_send(asked).map_err(|_| Failure::Dropped)?;
        self.answers.recv().unwrap_or(Err(Failure::Dropped))
    }
}

impl Session for Bridge {}
impl Connection for Bridge {}

impl Statements for Bridge {
    fn query_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<Vec<Row>, Failure> {
        let parameters = ready(parameters)?;
        match self.ask(Asked::Query(sql.to_owned(), parameters))? {
            Answer::Rows(rows) => Ok(rows),
            Answer::Changed(_) | Answer::Done => Ok(Vec::new()),
        }
    }

    fn execute_typed(&mut self, sql: &str, parameters: &[Parameter<'_>]) -> Result<u64, Failure> {
        let parameters = ready(parameters)?;
        match self.ask(Asked::Execute(sql.to_owned(), parameters))? {
            Answer::Changed(count) => Ok(count),
            Answer::Rows(_) | Answer::Done => Ok(0),
        }
    }

    fn batch_execute(&mut self, sql: &str) -> Result<(), Failure> {
        self.ask(Asked::Batch(sql.to_owned())).map(|_| ())
    }
}

/// The bytes of a parameter, as they are sent; none for NULL.
#[derive(Debug)]
struct Ready(Option<Bytes>);

impl ToSql for Ready {
    fn to_sql(
        &self,
        _: &Type,
        out: &mut BytesMut,
    ) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        let Some(bytes) = &self.0 else { return Ok(IsNull::Yes) };
        out.extend_from_slice(bytes);
        Ok(IsNull::No)
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    to_sql_checked!();
}

fn ready(parameters: &[Parameter<'_>]) -> Result<Vec<(Ready, Type)>, Failure> {
    let ready = |(value, kind): &Parameter<'_>| {
        let mut bytes = BytesMut::new();
        let null = value.to_sql_checked(kind, &mut bytes).map_err(Failure::Parameter)?;
        let bytes = matches!(null, IsNull::No).then(|| bytes.freeze());
        Ok((Ready(bytes), kind.clone()))
    };
    parameters.iter().map(ready).collect()
}

/// Does work that may wait, on a thread for such, and runs what it asks for on a connection. If the future is dropped in a
/// transaction that the work has begun, that is rolled back before whatever is sent to the connection later; the work ends when it asks
/// for more.
pub(super) async fn drive<T: Send + 'static>(
    client: &Client,
    work: impl FnOnce(Bridge) -> Result<T> + Send + 'static,
) -> Result<T> {
    let (ask, mut asked) = mpsc::channel(1);
    let (answer, answers) = std::sync::mpsc::sync_channel(1);
    let mut undo = Undo { client, begun: false };
    let worker = tokio::task::spawn_blocking(move || work(Bridge { ask, answers }));
    while let Some(asked) = asked.recv().await {
        let answered = match asked {
            Asked::Query(sql, parameters) => {
                client.query_typed(&sql, &borrowed(&parameters)).await.map(Answer::Rows)
            }
            Asked::Execute(sql, parameters) => {
                client.execute_typed(&sql, &borrowed(&parameters)).await.map(Answer::Changed)
            }
            Asked::Batch(sql) => {
                undo.begun |= sql.starts_with(BEGIN);
                client.batch_execute(&sql).await.map(|()| Answer::Done)
            }
        };
        // Who asked waits for it, and there is room for one.
        let _ = answer.try_send(answered.map_err(Failure::from));
    }
    undo.forget();
    match worker.await {
        Ok(done) => done,
        Err(error) => match error.try_into_panic() {
            Ok(panic) => std::panic::resume_unwind(panic),
            Err(error) => {
                let message = "The runtime ends, and with it what it was asked to do.";
                Err(Error::caused(ErrorKind::Stopped, message, error))
            }
        },
    }
}

fn borrowed(parameters: &[(Ready, Type)]) -> Vec<Parameter<'_>> {
    parameters.iter().map(|(value, kind)| (value as &(dyn ToSql + Sync), kind.clone())).collect()
}

/// Rolls back what was begun on a connection if the future that uses it is dropped.
struct Undo<'c> {
    client: &'c Client,
    begun: bool,
}

impl Undo<'_> {
    fn forget(mut self) {
        self.begun = false;
    }
}

impl Drop for Undo<'_> {
    fn drop(&mut self) {
        if self.begun {
            // Polled once, it is on its way; what comes of it nobody waits for.
            let sent = pin!(self.client.batch_execute("ROLLBACK"));
            let _ = sent.poll(&mut Context::from_waker(Waker::noop()));
        }
    }
}
