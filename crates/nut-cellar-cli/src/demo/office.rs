//! The demo's database: three ordinary tables, made with plain SQL.

use nut_cellar::{Error, ErrorKind, Result};
use rusqlite::{Connection, ToSql};
use std::path::Path;

const TABLES: &str = "
    CREATE TABLE stations(
        id INTEGER PRIMARY KEY, name TEXT NOT NULL, town TEXT NOT NULL, lat REAL NOT NULL, lon REAL NOT NULL);
    CREATE TABLE items(
        id INTEGER PRIMARY KEY, title TEXT NOT NULL, description TEXT NOT NULL, category TEXT NOT NULL,
        colour TEXT NOT NULL, station_id INTEGER NOT NULL REFERENCES stations(id), found_on TEXT NOT NULL,
        value_pence INTEGER, status TEXT NOT NULL, updated_at TEXT NOT NULL);
    CREATE TABLE claims(
        id INTEGER PRIMARY KEY, item_id INTEGER NOT NULL REFERENCES items(id), note TEXT NOT NULL,
        lodged_on TEXT NOT NULL);";

const DATA: [(&str, &str); 3] = [
    ("stations", include_str!("../../../../data/stations.csv")),
    ("items", include_str!("../../../../data/items.csv")),
    ("claims", include_str!("../../../../data/claims.csv")),
];

/// What some people ask for, and the items that they mean.
pub const QUERIES: &str = include_str!("../../../../data/queries.tsv");
pub const JUDGMENTS: &str = include_str!("../../../../data/right.qrels");

/// What the columns of `items` are.
pub const SCHEMA: &str = include_str!("../../../../data/items.toml");

/// Makes the database.
pub fn open(path: &Path) -> Result<Connection> {
    let failed = |error: Box<dyn std::error::Error + Send + Sync>| {
        let message = format!("{}: making the demo database failed: {error}.", path.display());
        Error::caused(ErrorKind::Place, message, error)
    };
    make(path).map_err(failed)
}

fn make(path: &Path) -> Result<Connection, Box<dyn std::error::Error + Send + Sync>> {
    let mut connection = Connection::open(path)?;
    connection.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL;")?;
    connection.execute_batch(TABLES)?;
    let transaction = connection.transaction()?;
    for (table, text) in DATA {
        let mut rows = csv::Reader::from_reader(text.as_bytes());
        let marks = vec!["?"; rows.headers()?.len()].join(", ");
        let mut insert = transaction.prepare(&format!("INSERT INTO {table} VALUES ({marks})"))?;
        for row in rows.records() {
            let row = row?;
            // An empty field has no value.
            let fields = row.iter().map(|field| (!field.is_empty()).then_some(field)).collect::<Vec<_>>();
            let fields: Vec<&dyn ToSql> = fields.iter().map(|field| field as &dyn ToSql).collect();
            insert.execute(&fields[..])?;
        }
    }
    transaction.commit()?;
    Ok(connection)
}
