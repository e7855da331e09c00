//! What PostgreSQL answers, as the crate's error.

use nut_cellar_core::{Error, ErrorKind};
use postgres::error::SqlState;

/// Turns an error of PostgreSQL into one that says what was being done.
#[cold]
pub(super) fn failed(doing: &str) -> impl FnOnce(postgres::Error) -> Error {
    move |error| {
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
