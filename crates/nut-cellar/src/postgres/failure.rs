//! What PostgreSQL answers, as the crate's error.

use nut_cellar_core::{Error, ErrorKind};
use postgres::error::SqlState;

/// Why a statement has no answer.
#[derive(Debug)]
pub enum Failure {
    /// What PostgreSQL, or the connection to it, answers.
    Answered(postgres::Error),
    /// A row that has to be there is not.
    NoRow,
    /// A parameter is not of the type that it is said to be of.
    #[cfg(feature = "tokio")]
    Parameter(Box<dyn std::error::Error + Sync + Send>),
    /// Nobody waits for the answer any more.
    #[cfg(feature = "tokio")]
    Dropped,
}

impl From<postgres::Error> for Failure {
    fn from(error: postgres::Error) -> Self {
        Self::Answered(error)
    }
}

/// Turns a failure into an error that says what was being done.
#[cold]
pub(super) fn failed<F: Into<Failure>>(doing: &str) -> impl FnOnce(F) -> Error {
    move |failure| {
        let error = match failure.into() {
            Failure::Answered(error) => error,
            Failure::NoRow => {
                return Error::new(ErrorKind::Place, format!("{doing}: PostgreSQL answers without a row."));
            }
            #[cfg(feature = "tokio")]
            Failure::Parameter(error) => {
                return Error::new(ErrorKind::BadRequest, format!("{doing}: {error}."));
            }
            #[cfg(feature = "tokio")]
            Failure::Dropped => {
                let message = format!("{doing}: nobody waits for the answer any more.");
                return Error::new(ErrorKind::Stopped, message);
            }
        };
        let said = error.as_db_error().map_or_else(|| error.to_string(), |error| error.message().to_owned());
        let (kind, message) = match error.code().cloned() {
            Some(code) if waits(&code) => (
                ErrorKind::Busy,
                format!("{doing}: {said}; try again when the other transaction has finished."),
            ),
            Some(SqlState::INSUFFICIENT_PRIVILEGE) => (
                ErrorKind::Place,
                format!(
                    "{doing}: {said}; let the table's owner do it, or let it `allow` the role to search."
                ),
            ),
            _ => (ErrorKind::Place, format!("{doing}: PostgreSQL answers: {said}.")),
        };
        Error::caused(kind, message, error)
    }
}

fn waits(code: &SqlState) -> bool {
    [
        SqlState::LOCK_NOT_AVAILABLE,
        SqlState::T_R_SERIALIZATION_FAILURE,
        SqlState::T_R_DEADLOCK_DETECTED,
        SqlState::QUERY_CANCELED,
    ]
    .contains(code)
}
