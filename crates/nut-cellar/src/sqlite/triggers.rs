//! The triggers that append the keys of changed rows to the log.
//!
//! Only keys are logged, never what happened to them: whoever reads the log reads the rows again. After-triggers see
//! inserts, updates of searched columns and deletions. They do not see the rows that a REPLACE removes to make room (in
//! SQLite's default mode), so before-triggers log those: for each unique set, the keys of other rows with the same
//! values. Too many keys may be logged, never too few.

use super::names::{Names, quoted};
use super::table::{Table, UniqueSet};
use nut_cellar_core::{Result, Schema};

/// The statements that make all triggers for a table, in the order of [`TRIGGER_ENDINGS`](super::names::TRIGGER_ENDINGS).
pub(super) fn triggers(names: &Names, table: &Table, schema: &Schema) -> Result<Vec<String>> {
    let key = quoted(table.key(schema)?);
    let log = quoted(&names.bare("log"));
    let put = |what: String| format!("INSERT INTO {log}(key) {what};");
    let others = |sets: &mut dyn Iterator<Item = &UniqueSet>| {
        let same: Vec<_> = sets.map(|set| format!("({})", same_values(set))).collect();
        format!("SELECT {key} FROM {} WHERE {}", quoted(&table.name), same.join(" OR "))
    };
    let is_key =
        |set: &UniqueSet| matches!(&set.columns[..], [only] if only.name == key && only.collation.is_none());

    let mut all = Vec::new();
    // An insert that replaces the row of its own key logs that key after it; only other keys have to be looked for.
    let sets: Vec<_> = table.unique.iter().filter(|set| !is_key(set)).collect();
    let none = || put(format!("SELECT new.{key} WHERE 0"));
    let before_insert = if sets.is_empty() { none() } else { put(others(&mut sets.iter().copied())) };
    all.push(("before_insert", "BEFORE INSERT", None, vec![before_insert]));
    let before_update = if sets.is_empty() {
        (None, none())
    } else {
        let moved = sets.iter().flat_map(|set| &set.columns).map(|column| changed(&column.name, false));
        let found = others(&mut sets.iter().copied());
        let kept = format!("{key} COLLATE BINARY IS NOT old.{key}");
        (Some(any(moved)), put(format!("SELECT {key} FROM ({found}) WHERE {kept}")))
    };
    all.push(("before_update", "BEFORE UPDATE", before_update.0, vec![before_update.1]));

    all.push(("after_insert", "AFTER INSERT", None, vec![put(format!("VALUES (new.{key})"))]));
    let mut watched = vec![changed(&key, false)];
    for (name, column) in schema.columns() {
        for source in super::reading::sources(name, column) {
            let source = table.column(source)?;
            watched.push(changed(&quoted(source), table.mixes_types(source)));
        }
    }
    let moved_key = put(format!("SELECT old.{key} WHERE {}", changed(&key, false)));
    let log_new = put(format!("VALUES (new.{key})"));
    all.push(("after_update", "AFTER UPDATE", Some(any(watched.into_iter())), vec![log_new, moved_key]));
    all.push(("after_delete", "AFTER DELETE", None, vec![put(format!("VALUES (old.{key})"))]));

    Ok(all
        .into_iter()
        .map(|(ending, event, when, body)| {
            let when = when.map_or(String::new(), |when| format!(" WHEN {when}"));
            let (name, table, body) = (names.table(ending), quoted(&table.name), body.join(" "));
            format!("CREATE TRIGGER {name} {event} ON {table}{when} BEGIN {body} END")
        })
        .collect())
}

/// The condition under which an existing row has the values that the new one has in a unique set.
fn same_values(set: &UniqueSet) -> String {
    let same = set.columns.iter().map(|column| match &column.collation {
        None => format!("{0} = new.{0}", column.name),
        Some(collation) => format!("{0} = new.{0} COLLATE {collation}", column.name),
    });
    same.collect::<Vec<_>>().join(" AND ")
}

/// The condition under which an update changes a column, byte by byte whatever its collation.
fn changed(column: &str, mixes_types: bool) -> String {
    let value = format!("old.{column} COLLATE BINARY IS NOT new.{column}");
    if mixes_types { format!("{value} OR typeof(old.{column}) IS NOT typeof(new.{column})") } else { value }
}

fn any(conditions: impl Iterator<Item = String>) -> String {
    conditions.collect::<Vec<_>>().join(" OR ")
}
