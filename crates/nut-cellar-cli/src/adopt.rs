//! `adopt`, `release` and `sync`: search on an existing table.

use crate::arguments;
use crate::paint::count;
use crate::target::Target;
use nut_cellar::sqlite::{SqliteCellar, Synced};
use nut_cellar::{Error, ErrorKind, Result, Schema};
use std::io::{IsTerminal, Write};
use std::path::Path;

pub fn adopt(call: &arguments::Adopt) -> Result<()> {
    let (connection, name) = Target::database(&call.target)?;
    let schema = read_schema(&call.schema)?;
    let (_, synced) = SqliteCellar::adopt_with(&connection, &name, &schema, progress)?;
    clear_progress();
    report_unreadable(&synced);
    anstream::eprintln!(
        "{} can be searched now; what other programs change is found at once.",
        count(synced.put, "row", "rows")
    );
    Ok(())
}

pub fn release(call: &arguments::Target) -> Result<()> {
    let (connection, name) = Target::database(&call.target)?;
    SqliteCellar::release(&connection, &name)?;
    anstream::eprintln!("Triggers and tables of the cellar `{name}` are gone; nothing else was changed.");
    Ok(())
}

pub fn sync(call: &arguments::Target) -> Result<()> {
    let (connection, name) = Target::database(&call.target)?;
    let synced = SqliteCellar::open(&connection, &name)?.sync(&connection)?;
    report_unreadable(&synced);
    anstream::eprintln!(
        "{} put into a shelf, {} replaced or removed.",
        count(synced.put, "row", "rows"),
        count(synced.removed, "record", "records")
    );
    Ok(())
}

/// Reads a schema file.
pub fn read_schema(path: &Path) -> Result<Schema> {
    let text = std::fs::read_to_string(path).map_err(|error| {
        let message = format!("{}: reading the schema failed: {error}.", path.display());
        Error::caused(ErrorKind::Place, message, error)
    })?;
    Schema::from_toml(&text)
        .map_err(|error| Error::new(ErrorKind::BadSchema, format!("{}, {error}", path.display())))
}

fn report_unreadable(synced: &Synced) {
    if let Some(first) = &synced.unreadable.first {
        anstream::eprintln!(
            "{} left out, since they are not what the schema says; the first: {first}",
            count(synced.unreadable.count, "value was", "values were")
        );
    }
}

fn progress(rows: u64) {
    if std::io::stderr().is_terminal() {
        anstream::eprint!("\r{} read", count(rows, "row", "rows"));
        let _ = std::io::stderr().flush();
    }
}

fn clear_progress() {
    if std::io::stderr().is_terminal() {
        anstream::eprint!("\r\x1b[2K");
    }
}
