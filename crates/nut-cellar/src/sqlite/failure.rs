//! What SQLite answers, as the crate's error.

use nut_cellar_core::{Error, ErrorKind};
use rusqlite::ffi;

/// Turns an error of SQLite into one that says what was being done.
#[cold]
pub(super) fn failed(doing: &str) -> impl FnOnce(rusqlite::Error) -> Error {
    move |error| {
        let code = error.sqlite_error_code();
        match code {
            Some(ffi::ErrorCode::DatabaseBusy | ffi::ErrorCode::DatabaseLocked) => Error::caused(
                ErrorKind::Busy,
                format!(
                    "{doing}: the database is locked by another connection; try again when it has finished."
                ),
                error,
            ),
            Some(ffi::ErrorCode::NotADatabase) => Error::caused(
                ErrorKind::NotACellar,
                format!("{doing}: the file is no SQLite database; give one that is."),
                error,
            ),
            Some(ffi::ErrorCode::ReadOnly) => Error::caused(
                ErrorKind::Place,
                format!(
                    "{doing}: the database can't be written; open it for writing, or make the file writable."
                ),
                error,
            ),
            _ => {
                let said = error.to_string();
                Error::caused(ErrorKind::Place, format!("{doing}: SQLite answers: {said}."), error)
            }
        }
    }
}
