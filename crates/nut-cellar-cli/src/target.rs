//! Where a cellar is: a folder, or a table of a SQLite database.

use nut_cellar::search::{Compared, Report, Why};
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::text::Pattern;
use nut_cellar::{
    Cellar, Error, ErrorKind, Find, Folder, Found, Highlighter, Info, Key, Query, Result, Schema, Terms,
};
use rusqlite::{Connection, OpenFlags};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// How long a locked database is waited for.
const PATIENCE: Duration = Duration::from_secs(2);

/// A TARGET as it was given.
pub enum Target {
    /// A folder.
    Folder(PathBuf),
    /// A database file and the name of a cellar in it.
    Sqlite { file: PathBuf, cellar: String },
}

/// A cellar that was opened.
pub enum Open {
    Folder(Cellar<Folder>),
    Sqlite(Box<(Connection, SqliteCellar)>),
}

impl Target {
    pub fn read(text: &str) -> Result<Self> {
        let bad = |message: &str| Err(Error::new(ErrorKind::BadRequest, format!("`{text}`: {message}")));
        if let Some(rest) = text.strip_prefix("sqlite:") {
            return match rest.split_once('#') {
                Some((file, cellar)) if !file.is_empty() && !cellar.is_empty() => {
                    Ok(Self::Sqlite { file: file.into(), cellar: cellar.to_owned() })
                }
                _ => bad("name the database and the table, as in `sqlite:app.db#items`."),
            };
        }
        if text.contains("://") || text.is_empty() {
            return bad("give a folder, such as `shed.cellar`, or a table, such as `sqlite:app.db#items`.");
        }
        Ok(Self::Folder(text.into()))
    }

    /// The database and the name of the cellar in it.
    pub fn database(text: &str) -> Result<(Connection, String)> {
        match Self::read(text)? {
            Self::Sqlite { file, cellar } => Ok((connect(&file)?, cellar)),
            Self::Folder(_) => Err(Error::new(
                ErrorKind::BadRequest,
                format!("`{text}` is a folder; give a table, as in `sqlite:app.db#items`."),
            )),
        }
    }

    pub fn open(self) -> Result<Open> {
        match self {
            Self::Folder(path) => {
                let cellar = Cellar::open_in(&path).map_err(|error| at_path(&path, error))?;
                Ok(Open::Folder(cellar))
            }
            Self::Sqlite { file, cellar } => {
                let connection = connect(&file)?;
                let cellar =
                    SqliteCellar::open(&connection, &cellar).map_err(|error| at_path(&file, error))?;
                Ok(Open::Sqlite(Box::new((connection, cellar))))
            }
        }
    }
}

impl Open {
    pub fn schema(&self) -> &Schema {
        match self {
            Self::Folder(cellar) => cellar.schema(),
            Self::Sqlite(both) => both.1.schema(),
        }
    }

    pub fn search(&self, query: &Query, find: &Find) -> Result<Found> {
        match self {
            Self::Folder(cellar) => cellar.search(query, find),
            Self::Sqlite(both) => both.1.search(&both.0, query, find),
        }
    }

    pub fn search_reporting(&self, query: &Query, find: &Find) -> Result<(Found, Report)> {
        match self {
            Self::Folder(cellar) => cellar.search_reporting(query, find),
            Self::Sqlite(both) => both.1.search_reporting(&both.0, query, find),
        }
    }

    pub fn why(&self, query: &Query, find: &Find, key: &Key) -> Result<Why> {
        match self {
            Self::Folder(cellar) => cellar.why(query, find, key),
            Self::Sqlite(both) => both.1.why(&both.0, query, find, key),
        }
    }

    pub fn compare(&self, query: &Query, first: &Find, second: &Find) -> Result<Compared> {
        match self {
            Self::Folder(cellar) => cellar.compare(query, first, second),
            Self::Sqlite(both) => both.1.compare(&both.0, query, first, second),
        }
    }

    pub fn highlighter(&self, query: &Query, find: &Find) -> Result<Highlighter> {
        Highlighter::new(Arc::new(self.schema().clone()), query, find)
    }

    pub fn terms(&self, pattern: &Pattern, most: usize) -> Result<Terms> {
        match self {
            Self::Folder(cellar) => cellar.terms(pattern, most),
            Self::Sqlite(both) => both.1.terms(&both.0, pattern, most),
        }
    }

    pub fn check(&self) -> Result<()> {
        match self {
            Self::Folder(cellar) => cellar.check(),
            Self::Sqlite(both) => both.1.check(&both.0),
        }
    }

    pub fn compact(&self) -> Result<()> {
        match self {
            Self::Folder(cellar) => cellar.compact().map(|_| ()),
            Self::Sqlite(both) => both.1.compact(&both.0).map(|_| ()),
        }
    }

    pub fn info(&self) -> Result<Info> {
        match self {
            Self::Folder(cellar) => cellar.info(),
            Self::Sqlite(both) => both.1.info(&both.0),
        }
    }
}

/// Opens a database that is there.
fn connect(file: &Path) -> Result<Connection> {
    if !file.exists() {
        return Err(Error::new(
            ErrorKind::Place,
            format!("{}: there is no such file; give the path of a SQLite database.", file.display()),
        ));
    }
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let open = || {
        let connection = Connection::open_with_flags(file, flags)?;
        connection.busy_timeout(PATIENCE)?;
        Ok(connection)
    };
    open().map_err(|error: rusqlite::Error| {
        let message = format!("{}: opening the database failed: {error}.", file.display());
        Error::caused(ErrorKind::Place, message, error)
    })
}

/// The same error with the path in front, where the error does not say it.
fn at_path(path: &Path, error: Error) -> Error {
    let shown = path.display().to_string();
    if error.to_string().contains(&shown) { error } else { error.at(shown) }
}
