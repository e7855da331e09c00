//! The triggers that append the keys of changed rows to the log.
//!
//! Only keys are logged, never what happened to them: whoever reads the log reads the rows again. Ordinary tables have
//! triggers for each statement, which see all of its rows at once; partitioned tables have them for each row, since those are there in
//! every partition, too. A key that is NULL says that a table was emptied at once.
//!
//! The functions act as who adopted the table, so that a role needs no rights on the log to change a row. So they run nothing that
//! anybody else could have made: nothing that the search path could put in front, and of a column's type, which its owner may change at
//! any time, no cast and no comparison ([`types`](super::types)). Rows are compared as they are stored.

use super::key::{KeyColumns, KeyPart};
use super::names::{Names, literal, quoted};
use super::sources::Sources;
use super::types::{output, same_image};
use nut_cellar_core::Result;

/// The events that are followed; each has a function and a trigger.
pub(super) const EVENTS: [&str; 4] = ["insert", "update", "delete", "truncate"];

/// The statements that make the functions and triggers for the tables.
///
/// A row of a joined table is logged by the value that it is joined by, with the number of the join; whoever reads the log looks for the
/// records that it belongs to.
pub(super) fn triggers(names: &Names, sources: &Sources<'_>) -> Result<String> {
    let mut all = of_table(names, sources, None)?;
    for join in 0..sources.joins.len() {
        all.extend(of_table(names, sources, Some(join))?);
    }
    Ok(all.join("\n"))
}

fn of_table(names: &Names, sources: &Sources<'_>, join: Option<usize>) -> Result<Vec<String>> {
    let table = sources.of(join);
    let watched: Vec<_> = sources.watched(join).into_iter().map(quoted).collect();
    let log = Log {
        table: names.inside("log"),
        number: join.map(|join| sources.number(join)),
        by: match join {
            None => LoggedBy::Key(table.key(sources.schema)?),
            Some(join) => LoggedBy::Link(quoted(sources.joins[join].link.column)),
        },
    };
    let mut all = Vec::new();
    for event in EVENTS {
        let body = match (event, join) {
            ("truncate", _) => format!("INSERT INTO {}(key) VALUES (NULL);", log.table),
            _ if table.partitioned => log.of_rows(event, &watched),
            _ => log.of_statements(event, &watched),
        };
        let name = Names::event(event, join, sources.revision);
        let (function, trigger) = (names.inside(&name), quoted(&names.trigger(&name)));
        let body = literal(&format!("BEGIN {body} RETURN NULL; END"));
        let tables = match event {
            _ if table.partitioned => "",
            "insert" => " REFERENCING NEW TABLE AS fresh",
            "update" => " REFERENCING OLD TABLE AS stale NEW TABLE AS fresh",
            "delete" => " REFERENCING OLD TABLE AS stale",
            _ => "",
        };
        // What rows are joined by is written so that every session reads it alike.
        let settings = join
            .map_or("", |_| " SET DateStyle = ISO SET IntervalStyle = postgres SET extra_float_digits = 3");
        let each = if table.partitioned && event != "truncate" { "ROW" } else { "STATEMENT" };
        all.push(format!(
            "CREATE FUNCTION {function}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER
               SET search_path = pg_catalog, pg_temp{settings} AS {body};
             REVOKE ALL ON FUNCTION {function}() FROM PUBLIC;
             CREATE TRIGGER {trigger} AFTER {event} ON {}{tables} FOR EACH {each} EXECUTE FUNCTION {function}();",
            table.quoted()
        ));
    }
    Ok(all)
}

/// The log as a table's triggers write it.
struct Log {
    table: String,
    /// The number of the join; none for the records' own table.
    number: Option<i32>,
    by: LoggedBy,
}

/// By what rows are logged.
enum LoggedBy {
    Key(KeyColumns),
    /// The column that they are joined by.
    Link(String),
}

impl Log {
    /// Appends what a row is logged by, wherever that comes from.
    fn put(&self, of: &str, rest: &str) -> String {
        match &self.by {
            LoggedBy::Key(key) => {
                format!(
                    "INSERT INTO {}({}) SELECT {} {rest};",
                    self.table,
                    key.names().join(", "),
                    key.logged(of)
                )
            }
            LoggedBy::Link(column) => self.put_linked(&output(&format!("{of}.{column}")), rest),
        }
    }

    fn put_linked(&self, value: &str, rest: &str) -> String {
        let number = self.number.unwrap_or_default();
        format!("INSERT INTO {}(source, joined) SELECT DISTINCT {number}, {value} {rest};", self.table)
    }

    fn of_statements(&self, event: &str, watched: &[String]) -> String {
        match (event, &self.by) {
            ("insert", _) => self.put("fresh", "FROM fresh"),
            ("delete", _) => self.put("stale", "FROM stale"),
            (_, LoggedBy::Key(key)) => {
                // Keys are the same if their bytes are, whatever a collation says.
                let same = |part: &KeyPart| format!("{} = {}", part.exactly("stale"), part.exactly("fresh"));
                let same = key.0.iter().map(same).collect::<Vec<_>>().join(" AND ");
                let first = &key.0[0].column;
                let changed = changed("stale", "fresh", watched);
                let fresh =
                    format!("FROM fresh LEFT JOIN stale ON {same} WHERE stale.{first} IS NULL OR {changed}");
                let stale = format!("FROM stale LEFT JOIN fresh ON {same} WHERE fresh.{first} IS NULL");
                self.put("fresh", &fresh) + " " + &self.put("stale", &stale)
            }
            // Rows of a joined table may have no key by which the old and the new one could be told to be the same: what is among the old
            // or the new ones and not among the others has changed.
            (_, LoggedBy::Link(column)) => {
                let images = |of: &str| {
                    let all: Vec<_> = watched.iter().map(|column| format!("{of}.{column}")).collect();
                    let link = output(&format!("{of}.{column}"));
                    format!(
                        "SELECT {link} AS link, pg_catalog.format('%s', ROW({})) COLLATE \"C\" FROM {of}",
                        all.join(", ")
                    )
                };
                let but = |of: &str, other: &str| {
                    let rest = format!("FROM ({} EXCEPT ALL {}) changed", images(of), images(other));
                    self.put_linked("changed.link", &rest)
                };
                but("fresh", "stale") + " " + &but("stale", "fresh")
            }
        }
    }

    fn of_rows(&self, event: &str, watched: &[String]) -> String {
        match event {
            "insert" => self.put("NEW", ""),
            "delete" => self.put("OLD", ""),
            _ => {
                let key: Vec<_> = match &self.by {
                    LoggedBy::Key(key) => key.0.iter().map(|part| part.column.clone()).collect(),
                    LoggedBy::Link(column) => vec![column.clone()],
                };
                let moved = changed("OLD", "NEW", &key);
                let changed = changed("OLD", "NEW", watched);
                format!(
                    "IF {moved} THEN {} END IF; IF {moved} OR {changed} THEN {} END IF;",
                    self.put("OLD", ""),
                    self.put("NEW", "")
                )
            }
        }
    }
}

/// Whether columns are not what they were, as they are stored: equal numbers may be written differently, and some types
/// can't be compared.
fn changed(old: &str, new: &str, columns: &[String]) -> String {
    if columns.is_empty() { "false".to_owned() } else { format!("NOT ({})", same_image([old, new], columns)) }
}
