//! `adopt`, `release` and `sync`: search on an existing table.

use crate::arguments;
use crate::paint::count;
use crate::target::Target;
use nut_cellar::rows::{Adopted, Pace, Stop, Synced, keep};
use nut_cellar::{Error, ErrorKind, Result, Schema};
use std::io::{IsTerminal, Write};
use std::path::Path;

pub fn adopt(call: &arguments::Adopt) -> Result<()> {
    let mut database = Target::database(&call.target)?;
    let Adopted { changes, rebuilt, synced } = database.adopt(&read_schema(&call.schema)?, progress)?;
    clear_progress();
    report_unreadable(&synced);
    for change in &changes {
        let read = if change.needs_rebuild() { "; rows were read again for it" } else { "" };
        anstream::eprintln!("Changed: {change}{read}.");
    }
    if rebuilt || synced.put > 0 {
        anstream::eprintln!(
            "{} can be searched now; what other programs change is found at once.",
            count(synced.put, "row", "rows")
        );
    } else {
        anstream::eprintln!("No row had to be read again.");
    }
    Ok(())
}

pub fn release(call: &arguments::Target) -> Result<()> {
    let mut database = Target::database(&call.target)?;
    database.release()?;
    let name = database.cellar();
    anstream::eprintln!("Triggers and tables of the cellar `{name}` are gone; nothing else was changed.");
    Ok(())
}

pub fn sync(call: &arguments::Sync) -> Result<()> {
    let mut database = Target::database(&call.target)?;
    if !call.follow {
        report_synced(&database.sync()?);
        return Ok(());
    }
    let mut kept = database.kept()?;
    anstream::eprintln!("Following the changes of {}; end with Ctrl-C.", call.target);
    keep(&mut *kept, &Pace::default(), &Stop::default(), |done| match done {
        Ok(synced) => report_synced(synced),
        Err(error) => anstream::eprintln!("{error} Trying again."),
    });
    Ok(())
}

fn report_synced(synced: &Synced) {
    report_unreadable(synced);
    anstream::eprintln!(
        "{} put into a shelf, {} replaced or removed.",
        count(synced.put, "row", "rows"),
        count(synced.removed, "record", "records")
    );
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
