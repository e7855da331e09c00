//! The triggers that append the keys of changed rows to the log.
//!
//! Only keys are logged, never what happened to them: whoever reads the log reads the rows again. After-triggers see
//! inserts, updates of searched columns and deletions. They do not see the rows that a REPLACE removes to make room (in
//! SQLite's default mode), so before-triggers log those: for each unique set, the keys of other rows with the same
//! values. Where another trigger changes what is unique in another row after that, this logs that row itself. Too many keys may be
//! logged, never too few.

use super::names::{Names, Time, quoted};
use super::sources::Sources;
use super::table::UniqueSet;
use crate::rows::key_parts;
use nut_cellar_core::Result;

/// The statements that make the triggers, in the order of [`triggers_on`](super::sources::triggers_on); without the before-triggers
/// where nothing but the key is unique.
///
/// A row of a joined table is logged by the value that it is joined by, with the number of the join; whoever reads the log looks for the
/// records that it belongs to. A record that no longer points to it is logged by its own table's trigger.
pub(super) fn triggers(names: &Names, sources: &Sources<'_>, time: Time) -> Result<Vec<String>> {
    let mut all = of_table(names, sources, None, time)?;
    for join in 0..sources.joins.len() {
        all.extend(of_table(names, sources, Some(join), time)?);
    }
    Ok(all)
}

fn of_table(names: &Names, sources: &Sources<'_>, join: Option<usize>, time: Time) -> Result<Vec<String>> {
    let table = sources.of(join);
    // What a row is logged by.
    let key: Vec<_> = match join {
        None => table.key(sources.schema)?.into_iter().map(quoted).collect(),
        Some(join) => vec![quoted(table.column(sources.joins[join].link.column)?)],
    };
    let (rows, log) = (quoted(&table.name), quoted(&names.bare("log")));
    // The number of a join comes behind the value; the records' own keys stand alone.
    let columns = list(key_parts(key.len()).chain(join.map(|_| "source".to_owned())));
    let of = |row: &str| {
        list(key.iter().map(|key| format!("{row}{key}")).chain(join.map(|join| (join + 1).to_string())))
    };
    let put = |what: &str| format!("INSERT INTO {log}({columns}) {what};");
    let trigger = |ending: &str, event: &str, when: Option<String>, body: &str| {
        let when = when.map_or(String::new(), |when| format!(" WHEN {when}"));
        let name = names.table(&Names::trigger_ending(ending, join, time));
        format!("CREATE TRIGGER {name} {event} ON {rows}{when} BEGIN {body} END")
    };

    let mut all = Vec::new();
    // An insert that replaces a row of its own key logs that key after it; only other keys have to be looked for.
    let is_key =
        |set: &UniqueSet| set.is_of(&key) && set.columns.iter().all(|column| column.collation.is_none());
    let sets: Vec<_> = table.unique.iter().filter(|set| !is_key(set)).collect();
    if !sets.is_empty() {
        let others = any(sets.iter().map(|set| format!("({})", same_values(set))));
        let found = format!("SELECT {} FROM {rows} WHERE {others}", of(""));
        let refused: String =
            table.unforeseen().iter().map(|column| must_be_said(&table.name, column)).collect();
        all.push(trigger("before_insert", "BEFORE INSERT", None, &(refused.clone() + &put(&found))));
        let moved = sets.iter().flat_map(|set| &set.columns).map(|column| changed(&column.name, false));
        let moved = any(moved.chain(table.unforeseen().iter().map(|column| format!("new.{column} IS NULL"))));
        let another = any(key.iter().map(|key| format!("{key} COLLATE BINARY IS NOT old.{key}")));
        let but_itself = format!("SELECT * FROM ({found}) WHERE {another}");
        all.push(trigger("before_update", "BEFORE UPDATE", Some(moved), &(refused + &put(&but_itself))));
    }

    let new_key = put(&format!("VALUES ({})", of("new.")));
    all.push(trigger("after_insert", "AFTER INSERT", None, &new_key));
    let moved = any(key.iter().map(|key| changed(key, false)));
    let mut watched = vec![moved.clone()];
    watched.extend(sets.iter().flat_map(|set| &set.columns).map(|column| changed(&column.name, false)));
    for column in sources.watched(join)? {
        watched.push(changed(&quoted(column), table.mixes_types(column)));
    }
    let old_key = put(&format!("SELECT {} WHERE {moved}", of("old.")));
    let both = format!("{new_key} {old_key}");
    all.push(trigger("after_update", "AFTER UPDATE", Some(any(watched.into_iter())), &both));
    all.push(trigger("after_delete", "AFTER DELETE", None, &put(&format!("VALUES ({})", of("old.")))));
    Ok(all)
}

/// The condition under which an existing row has the values that the new one has in a unique set.
fn same_values(set: &UniqueSet) -> String {
    let same = set.columns.iter().map(|column| match &column.collation {
        None => format!("{} = {}", column.name, column.new),
        Some(collation) => format!("{} = {} COLLATE {collation}", column.name, column.new),
    });
    same.collect::<Vec<_>>().join(" AND ")
}

/// Refuses NULL where REPLACE puts a value in its place that can't be foretold. Elsewhere the column takes no NULL anyway.
fn must_be_said(table: &str, column: &str) -> String {
    let message = format!(
        "{column} of {table} has to be given a value: the search could not follow what REPLACE does with the default"
    );
    format!("SELECT RAISE(ABORT, '{}') WHERE new.{column} IS NULL; ", message.replace('\'', "''"))
}

/// The condition under which an update changes a column, byte by byte whatever its collation.
fn changed(column: &str, mixes_types: bool) -> String {
    let value = format!("old.{column} COLLATE BINARY IS NOT new.{column}");
    if mixes_types { format!("{value} OR typeof(old.{column}) IS NOT typeof(new.{column})") } else { value }
}

fn list(parts: impl Iterator<Item = String>) -> String {
    parts.collect::<Vec<_>>().join(", ")
}

fn any(conditions: impl Iterator<Item = String>) -> String {
    conditions.collect::<Vec<_>>().join(" OR ")
}
