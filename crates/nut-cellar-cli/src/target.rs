//! Where a cellar is: a folder, or a table of a SQLite or PostgreSQL database.

use nut_cellar::lenient::{Suggest, Suggested};
use nut_cellar::postgres::PostgresCellar;
use nut_cellar::rows::{Adopted, Kept, Repaired, Synced};
use nut_cellar::schema::Change;
use nut_cellar::search::{Compared, Report, Why};
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::text::Pattern;
use nut_cellar::{
    Cellar, Difference, Error, ErrorKind, Find, Folder, Found, Info, Key, Query, Result, Schema, Terms,
};
use postgres::{Client, NoTls};
use rusqlite::{Connection, ErrorCode, OpenFlags};
use std::cell::RefCell;
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
    /// The address of a PostgreSQL database and the name of a cellar in it.
    Postgres { address: String, cellar: String },
}

/// A cellar that was opened.
pub enum Open {
    Folder(Cellar<Folder>),
    Sqlite(Box<(Connection, SqliteCellar)>),
    Postgres(Box<(RefCell<Client>, PostgresCellar)>),
}

/// A database, and the name of a cellar in it.
pub enum Database {
    Sqlite(Connection, String),
    Postgres(Box<Client>, String),
}

impl Target {
    pub fn read(text: &str) -> Result<Self> {
        let bad = |message: &str| Err(Error::new(ErrorKind::BadRequest, format!("`{text}`: {message}")));
        let at = |whole: &str, place: usize| {
            let (place, cellar) = (&whole[..place], &whole[place + 1..]);
            (!place.is_empty() && !cellar.is_empty()).then(|| (place.to_owned(), cellar.to_owned()))
        };
        if let Some(rest) = text.strip_prefix("sqlite:") {
            // Both may have such a sign in their names; of a file it is known whether it is there.
            let places = || rest.match_indices('#').map(|(place, _)| place);
            let there = places().find(|place| Path::new(&rest[..*place]).is_file());
            return match there.or_else(|| places().next_back()).and_then(|place| at(rest, place)) {
                Some((file, cellar)) => Ok(Self::Sqlite { file: file.into(), cellar }),
                None => bad("name the database and the table, as in `sqlite:app.db#items`."),
            };
        }
        if text.starts_with("postgres://") || text.starts_with("postgresql://") {
            // An address writes it as %23.
            return match text.find('#').and_then(|place| at(text, place)) {
                Some((address, cellar)) => Ok(Self::Postgres { address, cellar }),
                None => bad("name the table, too, as in `postgres://localhost/app#items`."),
            };
        }
        if is_settings(text) {
            // A table has no such sign in its name as often as a password has.
            return match text.rfind('#').and_then(|place| at(text, place)) {
                Some((address, cellar)) => Ok(Self::Postgres { address, cellar }),
                None => bad("name the table, too, as in `host=localhost dbname=app#items`."),
            };
        }
        if text.contains("://") || text.is_empty() {
            return bad("give a folder, such as `shed.cellar`, or a table, such as `sqlite:app.db#items`, \
                 `postgres://localhost/app#items` or `host=localhost dbname=app#items`.");
        }
        Ok(Self::Folder(text.into()))
    }

    /// The database and the name of the cellar in it.
    pub fn database(text: &str) -> Result<Database> {
        match Self::read(text)? {
            Self::Sqlite { file, cellar } => Ok(Database::Sqlite(connect(&file)?, cellar)),
            Self::Postgres { address, cellar } => {
                Ok(Database::Postgres(Box::new(connect_to_server(&address)?), cellar))
            }
            Self::Folder(_) => Err(Error::new(
                ErrorKind::BadRequest,
                format!(
                    "`{text}` is a folder; give a table, as in `sqlite:app.db#items` or `postgres://localhost/app#items`."
                ),
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
            Self::Postgres { address, cellar } => {
                let mut client = connect_to_server(&address)?;
                let cellar = PostgresCellar::open(&mut client, &cellar)?;
                Ok(Open::Postgres(Box::new((RefCell::new(client), cellar))))
            }
        }
    }
}

impl Open {
    pub fn schema(&self) -> &Schema {
        match self {
            Self::Folder(cellar) => cellar.schema(),
            Self::Sqlite(both) => both.1.schema(),
            Self::Postgres(both) => both.1.schema(),
        }
    }

    pub fn search(&self, query: &Query, find: &Find) -> Result<Found> {
        match self {
            Self::Folder(cellar) => cellar.search(query, find),
            Self::Sqlite(both) => both.1.search(&both.0, query, find),
            Self::Postgres(both) => both.1.search(&mut *both.0.borrow_mut(), query, find),
        }
    }

    pub fn search_reporting(&self, query: &Query, find: &Find) -> Result<(Found, Report)> {
        match self {
            Self::Folder(cellar) => cellar.search_reporting(query, find),
            Self::Sqlite(both) => both.1.search_reporting(&both.0, query, find),
            Self::Postgres(both) => both.1.search_reporting(&mut *both.0.borrow_mut(), query, find),
        }
    }

    pub fn suggest(&self, text: &str, find: &Find, suggest: &Suggest) -> Result<Suggested> {
        match self {
            Self::Folder(cellar) => cellar.suggest(text, find, suggest),
            Self::Sqlite(both) => both.1.suggest(&both.0, text, find, suggest),
            Self::Postgres(both) => both.1.suggest(&mut *both.0.borrow_mut(), text, find, suggest),
        }
    }

    pub fn why(&self, query: &Query, find: &Find, key: &Key) -> Result<Why> {
        match self {
            Self::Folder(cellar) => cellar.why(query, find, key),
            Self::Sqlite(both) => both.1.why(&both.0, query, find, key),
            Self::Postgres(both) => both.1.why(&mut *both.0.borrow_mut(), query, find, key),
        }
    }

    pub fn compare(&self, query: &Query, first: &Find, second: &Find) -> Result<Compared> {
        match self {
            Self::Folder(cellar) => cellar.compare(query, first, second),
            Self::Sqlite(both) => both.1.compare(&both.0, query, first, second),
            Self::Postgres(both) => both.1.compare(&mut *both.0.borrow_mut(), query, first, second),
        }
    }

    pub fn terms(&self, pattern: &Pattern, most: usize) -> Result<Terms> {
        match self {
            Self::Folder(cellar) => cellar.terms(pattern, most),
            Self::Sqlite(both) => both.1.terms(&both.0, pattern, most),
            Self::Postgres(both) => both.1.terms(&mut *both.0.borrow_mut(), pattern, most),
        }
    }

    /// Gives a folder other weights or another ranking.
    pub fn rank_by(&self, schema: &Schema) -> Result<Vec<Change>> {
        match self {
            Self::Folder(cellar) => cellar.rank_by(schema),
            Self::Sqlite(_) | Self::Postgres(_) => Err(Error::new(
                ErrorKind::BadRequest,
                "A table gets another schema by being adopted with it.",
            )),
        }
    }

    pub fn check(&self) -> Result<()> {
        match self {
            Self::Folder(cellar) => cellar.check(),
            Self::Sqlite(both) => both.1.check(&both.0),
            Self::Postgres(both) => both.1.check(&mut *both.0.borrow_mut()),
        }
    }

    /// The records that differ from their rows; none for a folder, which has no rows.
    pub fn differences(&self) -> Result<Option<Vec<(Key, Difference)>>> {
        match self {
            Self::Folder(_) => Ok(None),
            Self::Sqlite(both) => both.1.differences(&both.0).map(Some),
            Self::Postgres(both) => both.1.differences(&mut *both.0.borrow_mut()).map(Some),
        }
    }

    pub fn compact(&self) -> Result<()> {
        match self {
            Self::Folder(cellar) => cellar.compact().map(|_| ()),
            Self::Sqlite(both) => both.1.compact(&both.0).map(|_| ()),
            Self::Postgres(both) => both.1.compact(&mut *both.0.borrow_mut()).map(|_| ()),
        }
    }

    pub fn info(&self) -> Result<Info> {
        match self {
            Self::Folder(cellar) => cellar.info(),
            Self::Sqlite(both) => both.1.info(&both.0),
            Self::Postgres(both) => both.1.info(&mut *both.0.borrow_mut()),
        }
    }
}

impl Database {
    /// The name of the cellar.
    pub fn cellar(&self) -> &str {
        let (Self::Sqlite(_, cellar) | Self::Postgres(_, cellar)) = self;
        cellar
    }

    /// About how many rows the table of a schema has, if that can be told quickly.
    pub fn rows(&mut self, schema: &Schema) -> Option<u64> {
        let table = schema.source().map_or(self.cellar(), |source| source.table.as_str()).to_owned();
        let rows: i64 = match self {
            Self::Sqlite(connection, _) => {
                let sql = format!("SELECT count(*) FROM main.\"{}\"", table.replace('"', "\"\""));
                connection.query_row(&sql, [], |row| row.get(0)).ok()?
            }
            Self::Postgres(client, _) => {
                let sql = "SELECT c.reltuples::bigint FROM pg_catalog.pg_class c WHERE c.oid = pg_catalog.to_regclass($1)";
                client.query_opt(sql, &[&table]).ok()??.try_get(0).ok()?
            }
        };
        u64::try_from(rows).ok().filter(|rows| *rows > 0)
    }

    pub fn adopt(&mut self, schema: &Schema, progress: impl FnMut(u64)) -> Result<Adopted> {
        match self {
            Self::Sqlite(connection, cellar) => {
                SqliteCellar::adopt_with(connection, cellar, schema, progress).map(|(_, adopted)| adopted)
            }
            Self::Postgres(client, cellar) => {
                PostgresCellar::adopt_with(&mut **client, cellar, schema, progress)
                    .map(|(_, adopted)| adopted)
            }
        }
    }

    pub fn release(&mut self) -> Result<()> {
        match self {
            Self::Sqlite(connection, cellar) => SqliteCellar::release(connection, cellar),
            Self::Postgres(client, cellar) => PostgresCellar::release(&mut **client, cellar),
        }
    }

    /// Repairs the cellar; by a schema, if it can't be read which one it has.
    pub fn repair(&mut self, schema: Option<&Schema>) -> Result<Repaired> {
        let repaired = match self {
            Self::Sqlite(connection, cellar) => {
                SqliteCellar::open(connection, cellar).and_then(|opened| opened.repair(connection))
            }
            Self::Postgres(client, cellar) => {
                PostgresCellar::open(&mut **client, cellar).and_then(|opened| opened.repair(&mut **client))
            }
        };
        match (repaired, schema) {
            (Err(error), Some(schema)) if error.needs_rebuild() => {
                self.adopt(schema, |_| ()).map(|_| Repaired::of_all())
            }
            (Err(error), None) if error.needs_rebuild() => Err(Error::new(
                error.kind(),
                format!("{error} It can't be read which schema it has; give it with --schema."),
            )),
            (repaired, _) => repaired,
        }
    }

    pub fn sync(&mut self) -> Result<Synced> {
        match self {
            Self::Sqlite(connection, cellar) => SqliteCellar::open(connection, cellar)?.sync(connection),
            Self::Postgres(client, cellar) => {
                PostgresCellar::open(&mut **client, cellar)?.sync(&mut **client)
            }
        }
    }

    /// Reads all rows again.
    pub fn rebuild(&mut self) -> Result<Synced> {
        match self {
            Self::Sqlite(connection, cellar) => SqliteCellar::open(connection, cellar)?.rebuild(connection),
            Self::Postgres(client, cellar) => {
                PostgresCellar::open(&mut **client, cellar)?.rebuild(&mut **client)
            }
        }
    }

    /// Says that the rows may have changed whose keys texts may mean.
    pub fn touch(&mut self, texts: &[String]) -> Result<()> {
        let keys = |schema: &Schema| -> Vec<Key> {
            texts.iter().flat_map(|text| meant(text, schema.key_columns().len())).collect()
        };
        match self {
            Self::Sqlite(connection, cellar) => {
                let cellar = SqliteCellar::open(connection, cellar)?;
                cellar.touch(connection, &keys(cellar.schema()))
            }
            Self::Postgres(client, cellar) => {
                let cellar = PostgresCellar::open(&mut **client, cellar)?;
                cellar.touch(&mut **client, &keys(cellar.schema()))
            }
        }
    }

    /// The cellar with its connection, for a keeper.
    pub fn kept(self) -> Result<Box<dyn Kept>> {
        Ok(match self {
            Self::Sqlite(connection, cellar) => {
                let cellar = SqliteCellar::open(&connection, &cellar)?;
                Box::new((connection, Arc::new(cellar)))
            }
            Self::Postgres(mut client, cellar) => {
                let cellar = PostgresCellar::open(&mut *client, &cellar)?;
                Box::new((*client, Arc::new(cellar)))
            }
        })
    }
}

/// The keys that a text may mean. What looks like a number is one, or else a text; the parts of a key stand between slashes.
pub fn meant(text: &str, columns: usize) -> Vec<Key> {
    let number = |text: &str| text.parse::<i64>().ok().map(Key::from);
    if columns == 1 {
        return number(text).into_iter().chain([text.into()]).collect();
    }
    let mut all = vec![Vec::new()];
    for part in text.splitn(columns, '/') {
        let parts: Vec<Key> = number(part).into_iter().chain([part.into()]).collect();
        let longer = |key: &Vec<Key>| {
            parts.iter().map(|part| [&key[..], std::slice::from_ref(part)].concat()).collect::<Vec<_>>()
        };
        all = all.iter().flat_map(longer).collect();
    }
    all.into_iter().map(Key::Several).collect()
}

/// Connects to a PostgreSQL server.
fn connect_to_server(address: &str) -> Result<Client> {
    Client::connect(address, NoTls).map_err(|error| {
        // The address may have a password in it.
        let cause = std::error::Error::source(&error).map_or_else(String::new, |cause| format!(" ({cause})"));
        let message = format!("Connecting to the PostgreSQL server failed: {error}{cause}.");
        Error::caused(ErrorKind::Place, message, error)
    })
}

/// Whether a text is the address of a server as settings: `host=localhost dbname=app`.
fn is_settings(text: &str) -> bool {
    const SETTINGS: [&str; 6] = ["host", "hostaddr", "port", "user", "password", "dbname"];
    text.split_once('=').is_some_and(|(first, _)| SETTINGS.contains(&first.trim()))
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
    let failed = |error: rusqlite::Error| {
        let message = format!("{}: opening the database failed: {error}.", file.display());
        Error::caused(ErrorKind::Place, message, error)
    };
    let mut connection = Connection::open_with_flags(file, flags).map_err(failed)?;
    if cannot_be_read(&connection) {
        if log_of(file).metadata().is_ok_and(|log| log.len() > 0) {
            // What is in it would not be seen.
            return Err(Error::new(
                ErrorKind::Place,
                format!(
                    "{}: its write-ahead log has changes, and can't be read by who may not write beside it; have them written back \
                     (`PRAGMA wal_checkpoint(TRUNCATE)`), or search as who may write there.",
                    file.display()
                ),
            ));
        }
        let flags =
            OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        connection = Connection::open_with_flags(unchanging(file), flags).map_err(failed)?;
    }
    connection.busy_timeout(PATIENCE).map_err(failed)?;
    Ok(connection)
}

/// The write-ahead log beside a database.
fn log_of(file: &Path) -> PathBuf {
    let mut name = file.as_os_str().to_owned();
    name.push("-wal");
    name.into()
}

/// Whether a database with a write-ahead log can't be read because the files beside it can't be written or made. If the log is empty, the
/// database file has all there is.
fn cannot_be_read(connection: &Connection) -> bool {
    let read = connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()));
    let code = read.err().and_then(|error| error.sqlite_error_code());
    matches!(code, Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen))
}

/// The file as one that nobody changes, so that it needs no files beside it.
fn unchanging(file: &Path) -> PathBuf {
    let path = std::path::absolute(file).unwrap_or_else(|_| file.to_owned());
    let escaped = |byte: &u8| match byte {
        b'/' | b'.' | b'-' | b'_' => char::from(*byte).to_string(),
        byte if byte.is_ascii_alphanumeric() => char::from(*byte).to_string(),
        byte => format!("%{byte:02X}"),
    };
    let address: String = path.as_os_str().as_encoded_bytes().iter().map(escaped).collect();
    PathBuf::from(format!("file://{address}?immutable=1"))
}

/// The same error with the path in front, where the error does not say it.
fn at_path(path: &Path, error: Error) -> Error {
    let shown = path.display().to_string();
    if error.to_string().contains(&shown) { error } else { error.at(shown) }
}
