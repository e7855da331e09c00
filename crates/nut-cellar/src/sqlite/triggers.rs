//! The triggers that append the keys of changed rows to the log.
//!
//! Only keys are logged, never what happened to them: whoever reads the log reads the rows again. After-triggers see
//! inserts, updates of searched columns and deletions. They do not see the rows that a REPLACE removes to make room (in
//! SQLite's default mode), so before-triggers log those: for each unique set, the keys of other rows with the same
//! values. Too many keys may be logged, never too few.

use super::names::{Names, quoted};
use super::table::{Table, UniqueSet};
use nut_cellar_core::{Result, Schema};

/// The statements that make the triggers for a table, in the order of [`TRIGGER_ENDINGS`](super::names::TRIGGER_ENDINGS);
/// without the before-triggers where nothing but the key is unique.
pub(super) fn triggers(names: &Names, table: &Table, schema: &Schema) -> Result<Vec<String>> {
    let key = quoted(table.key(schema)?);
    let (rows, log) = (quoted(&table.name), quoted(&names.bare("log")));
    let put = |what: &str| format!("INSERT INTO {log}(key) {what};");
    let trigger = |ending: &str, event: &str, when: Option<String>, body: &str| {
        let when = when.map_or(String::new(), |when| format!(" WHEN {when}"));
        format!("CREATE TRIGGER {} {event} ON {rows}{when} BEGIN {body} END", names.table(ending))
    };

    let mut all = Vec::new();
    // An insert that replaces the row of its own key logs that key after it; only other keys have to be looked for.
    let is_key =
        |set: &UniqueSet| matches!(&set.columns[..], [only] if only.name == key && only.collation.is_none());
    let sets: Vec<_> = table.unique.iter().filter(|set| !is_key(set)).collect();
    if !sets.is_empty() {
        let others = any(sets.iter().map(|set| format!("({})", same_values(set))));
        let found = format!("SELECT {key} FROM {rows} WHERE {others}");
        all.push(trigger("before_insert", "BEFORE INSERT", None, &put(&found)));
        let moved = any(sets.iter().flat_map(|set| &set.columns).map(|column| changed(&column.name, false)));
        let but_itself = format!("SELECT {key} FROM ({found}) WHERE {key} COLLATE BINARY IS NOT old.{key}");
        all.push(trigger("before_update", "BEFORE UPDATE", Some(moved), &put(&but_itself)));
    }

    all.push(trigger("after_insert", "AFTER INSERT", None, &put(&format!("VALUES (new.{key})"))));
    let mut watched = vec![changed(&key, false)];
    for (name, column) in schema.columns() {
        for source in column.sources(name) {
            let source = table.column(source)?;
            watched.push(changed(&quoted(source), table.mixes_types(source)));
        }
    }
    let new_key = put(&format!("VALUES (new.{key})"));
    let old_key = put(&format!("SELECT old.{key} WHERE {}", changed(&key, false)));
    let both = format!("{new_key} {old_key}");
    all.push(trigger("after_update", "AFTER UPDATE", Some(any(watched.into_iter())), &both));
    all.push(trigger("after_delete", "AFTER DELETE", None, &put(&format!("VALUES (old.{key})"))));
    Ok(all)
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
