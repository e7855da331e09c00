//! `adopt`, `release` and `sync`: search on an existing table.

use crate::arguments;
use crate::paint::{count, grouped};
use crate::target::Target;
use nut_cellar::rows::{Adopted, Pace, Stop, Synced, keep};
use nut_cellar::{Error, ErrorKind, Result, Schema};
use std::io::{IsTerminal, Write};
use std::path::Path;

pub fn adopt(call: &arguments::Adopt) -> Result<()> {
    let schema = read_schema(&call.schema)?;
    if let Target::Folder(_) = Target::read(&call.target)? {
        return rank(&call.target, &schema);
    }
    let mut database = Target::database(&call.target)?;
    let total = if std::io::stderr().is_terminal() { database.rows(&schema) } else { None };
    let done = database.adopt(&schema, |rows| show_progress(rows, total));
    clear_progress();
    let Adopted { changes, rebuilt, synced, notes, .. } = done?;
    report_unreadable(&synced);
    for change in &changes {
        let read = if change.needs_rebuild() { "; rows were read again for it" } else { "" };
        crate::tell(format_args!("Changed: {change}{read}."));
    }
    if rebuilt || synced.put > 0 {
        crate::tell(format_args!(
            "{} can be searched now; what other programs change is found at once.",
            count(synced.put, "row", "rows")
        ));
    } else {
        crate::tell(format_args!("No row had to be read again."));
    }
    for note in &notes {
        crate::tell(format_args!("Note: {note}"));
    }
    Ok(())
}

/// Gives a folder, whose records are not at hand to be read again, other weights or another ranking.
fn rank(target: &str, schema: &Schema) -> Result<()> {
    for change in Target::read(target)?.open()?.rank_by(schema)? {
        crate::tell(format_args!("Changed: {change}."));
    }
    crate::tell(format_args!("No record had to be read again."));
    Ok(())
}

pub fn release(call: &arguments::Target) -> Result<()> {
    let mut database = Target::database(&call.target)?;
    database.release()?;
    let name = database.cellar();
    crate::tell(format_args!(
        "Triggers and tables of the cellar `{name}` are gone; nothing else was changed."
    ));
    Ok(())
}

pub fn sync(call: &arguments::Sync) -> Result<()> {
    let mut database = Target::database(&call.target)?;
    if !call.follow {
        report_synced(&database.sync()?);
        return Ok(());
    }
    let mut kept = database.kept()?;
    crate::tell(format_args!("Following the changes of {}; end with Ctrl-C.", call.target));
    keep(&mut *kept, &Pace::default(), &Stop::default(), |done| match done {
        Ok(synced) => report_synced(synced),
        Err(error) => crate::tell(format_args!("{error} Trying again.")),
    });
    Ok(())
}

fn report_synced(synced: &Synced) {
    report_unreadable(synced);
    crate::tell(format_args!(
        "{} put into a shelf, {} replaced or removed.",
        count(synced.put, "row", "rows"),
        count(synced.removed, "record", "records")
    ));
}

pub fn rebuild(call: &arguments::Target) -> Result<()> {
    report_synced(&Target::database(&call.target)?.rebuild()?);
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
        crate::tell(format_args!(
            "{} left out, since they are not what the schema says; the first: {first}",
            count(synced.unreadable.count, "value was", "values were")
        ));
    }
}

/// A bar, as far as it is known how many rows there are.
fn show_progress(rows: u64, total: Option<u64>) {
    if !std::io::stderr().is_terminal() {
        return;
    }
    match total {
        None => anstream::eprint!("\r{} read", count(rows, "row", "rows")),
        Some(total) => anstream::eprint!("\r{}", bar(rows, total)),
    }
    let _ = std::io::stderr().flush();
}

fn bar(rows: u64, total: u64) -> String {
    const WIDTH: u64 = 40;
    let rows = rows.min(total);
    let cells = (rows * WIDTH).checked_div(total).unwrap_or(WIDTH);
    let (full, empty) = (usize::try_from(cells).unwrap_or(0), usize::try_from(WIDTH - cells).unwrap_or(0));
    let percent = (rows * 100).checked_div(total).unwrap_or(100);
    let of = format!("{} of {}", grouped(rows), count(total, "row", "rows"));
    format!("{}{} {percent:>3} %  {of} read", "█".repeat(full), "░".repeat(empty))
}

fn clear_progress() {
    if std::io::stderr().is_terminal() {
        anstream::eprint!("\r\x1b[2K");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_bar_is_full_when_all_rows_are_read() {
        assert!(bar(0, 2_000).starts_with("░░"));
        assert!(bar(2_000, 2_000).contains("█ 100 %  2,000 of 2,000 rows read"));
        assert_eq!(bar(1_000, 2_000).matches('█').count(), 20);
        assert_eq!(bar(9_000, 2_000), bar(2_000, 2_000));
    }
}
