//! What there is to know about the application's table: its columns, its key, and what must be unique in it.

use super::failure::failed;
use super::names::{in_main, quoted};
use nut_cellar_core::{Error, ErrorKind, Result, Schema};
use rusqlite::{Connection, OptionalExtension, Row};

/// An ordinary table of the main database.
#[derive(Debug)]
pub(super) struct Table {
    /// Its name as declared.
    pub name: String,
    columns: Vec<TableColumn>,
    /// Sets of columns of which no two rows may have the same values.
    pub unique: Vec<UniqueSet>,
}

#[derive(Debug)]
struct TableColumn {
    name: String,
    declared: String,
    primary: bool,
    /// What SQLite puts in the place of NULL where a statement replaces on conflict: the default of a column that has to have a value.
    filled: Option<String>,
    generated: Generated,
}

/// Whether a column is worked out of others.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Generated {
    No,
    Read,
    Stored,
}

/// Columns of which no two rows may have the same values.
#[derive(Debug)]
pub(super) struct UniqueSet {
    pub columns: Vec<UniqueColumn>,
    /// Whether that holds for some rows only.
    partial: bool,
    /// Whether it is the number of a row, which SQLite draws where a statement does not say it.
    is_drawn: bool,
}

impl UniqueSet {
    /// Whether it is of just these columns, quoted, in any order.
    pub fn is_of(&self, columns: &[String]) -> bool {
        self.columns.len() == columns.len()
            && self.columns.iter().all(|column| columns.contains(&column.name))
    }
}

/// A column of a unique set.
#[derive(Debug)]
pub(super) struct UniqueColumn {
    /// The column, quoted.
    pub name: String,
    /// How the index compares it, quoted, where it is not byte by byte.
    pub collation: Option<String>,
    /// The value that a new row has there, as a trigger sees it that runs before the row is written.
    pub new: String,
}

const LOOKING: &str = "Looking at the table";

impl Table {
    /// Looks at a table.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if there is no such table, or it is a view, a virtual table or SQLite's own.
    pub fn read(connection: &Connection, name: &str) -> Result<Self> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        let found: Option<(String, String, bool)> = connection
            .query_row(
                "SELECT name, type, wr FROM pragma_table_list WHERE schema = 'main' AND name = ?1 COLLATE NOCASE",
                [name],
                |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)),
            )
            .optional()
            .map_err(failed(LOOKING))?;
        let Some((name, kind, without_rowid)) = found else {
            return bad(format!("There is no table `{name}` in this database; {}.", tables(connection)));
        };
        if kind != "table" || name.to_ascii_lowercase().starts_with("sqlite_") {
            return bad(format!(
                "`{name}` is no ordinary table ({kind}), so its changes can't be followed; name one."
            ));
        }
        let columns = rows(
            connection,
            "SELECT name, type, pk, \"notnull\", dflt_value, hidden FROM pragma_table_xinfo(?1, 'main')",
            &name,
            |row| {
                let (primary, needed, default) = (row.get::<_, i64>(2)? > 0, row.get(3)?, row.get(4)?);
                Ok(TableColumn {
                    name: row.get(0)?,
                    declared: row.get(1)?,
                    primary,
                    filled: Option::filter(default, |_| needed || primary && without_rowid),
                    generated: match row.get(5)? {
                        2 => Generated::Read,
                        3 => Generated::Stored,
                        _ => Generated::No,
                    },
                })
            },
        )?;
        let mut table = Self { name, columns, unique: Vec::new() };
        table.unique = table.unique_sets(connection, without_rowid)?;
        table.must_know_values_before(connection)?;
        Ok(table)
    }

    /// The columns for which a REPLACE puts a value in the place of NULL that can't be foretold, quoted, where it matters: what is unique
    /// is worked out of it, or it is drawn.
    pub fn unforeseen(&self) -> Vec<String> {
        let worked_out = self.unique_columns().any(|column| column.generated != Generated::No);
        let drawn = |default: &String| default.to_ascii_lowercase().contains("random");
        let is = |column: &&TableColumn| {
            let unique = self.unique_columns().any(|unique| unique.name == column.name);
            column.filled.as_ref().is_some_and(|default| worked_out || unique && drawn(default))
        };
        self.columns.iter().filter(is).map(|column| quoted(&column.name)).collect()
    }

    /// The columns in which rows have to be different, alone or together.
    fn unique_columns(&self) -> impl Iterator<Item = &TableColumn> {
        let sets = self.unique.iter().flat_map(|set| &set.columns);
        sets.filter_map(|unique| self.columns.iter().find(|column| quoted(&column.name) == unique.name))
    }

    /// Refuses a table of which a unique column is worked out of a key that SQLite draws: it is not known before the row is written, and
    /// then the row that it replaces is gone.
    fn must_know_values_before(&self, connection: &Connection) -> Result<()> {
        let mut drawn = self.unique.iter().filter(|set| set.is_drawn).flat_map(|set| &set.columns);
        let is_key = |key: &UniqueColumn| self.columns.iter().find(|column| quoted(&column.name) == key.name);
        let Some(key) = drawn.find_map(is_key) else { return Ok(()) };
        for column in self.unique_columns() {
            let depends = match column.generated {
                Generated::No => false,
                // The program that reads it asks for the row's number.
                Generated::Read => {
                    let sql = format!(
                        "EXPLAIN SELECT {} FROM {} NOT INDEXED",
                        quoted(&column.name),
                        in_main(&self.name)
                    );
                    let mut statement = connection.prepare(&sql).map_err(failed(LOOKING))?;
                    let codes =
                        statement.query_map([], |row| row.get::<_, String>(1)).map_err(failed(LOOKING))?;
                    let codes = codes.collect::<rusqlite::Result<Vec<_>>>().map_err(failed(LOOKING))?;
                    codes.iter().any(|code| code == "Rowid")
                }
                // Nothing tells of what it was worked out of but the table's definition.
                Generated::Stored => {
                    let sql = "SELECT sql FROM main.sqlite_schema WHERE type = 'table' AND name = ?1";
                    let sql: String =
                        connection.query_row(sql, [&self.name], |row| row.get(0)).map_err(failed(LOOKING))?;
                    let words = sql
                        .split(|character: char| !(character.is_alphanumeric() || "_$".contains(character)));
                    words.filter(|word| word.eq_ignore_ascii_case(&key.name)).count() > 1
                }
            };
            if depends {
                return Err(Error::new(
                    ErrorKind::BadSchema,
                    format!(
                        "The unique column `{}` of table `{}` is worked out of the key `{}`, or may be, and rows that REPLACE removes \
                         for it could not be followed; work it out of other columns, and VIRTUAL.",
                        column.name, self.name, key.name
                    ),
                ));
            }
        }
        Ok(())
    }

    /// The columns' names.
    pub fn columns(&self) -> impl Iterator<Item = &str> {
        self.columns.iter().map(|column| column.name.as_str())
    }

    /// The declared name of a column.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if the table has no such column; the message names those it has.
    pub fn column(&self, name: &str) -> Result<&str> {
        self.find(name).map(|column| column.name.as_str()).ok_or_else(|| {
            let known: Vec<_> = self.columns.iter().map(|column| column.name.as_str()).collect();
            Error::new(
                ErrorKind::BadSchema,
                format!("Table `{}` has no column `{name}`; it has {}.", self.name, known.join(", ")),
            )
        })
    }

    /// The columns that name a row for a schema.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if they are not declared to do so.
    pub fn key(&self, schema: &Schema) -> Result<Vec<&str>> {
        let key =
            schema.key_columns().iter().map(|column| self.column(column)).collect::<Result<Vec<_>>>()?;
        if self.are_unique(&key) {
            return Ok(key);
        }
        let what = match &key[..] {
            [one] => format!("Column `{one}` of table `{}` is not declared to be its key", self.name),
            all => format!(
                "Columns `{}` of table `{}` are not declared to be its key together",
                all.join("`, `"),
                self.name
            ),
        };
        Err(Error::new(
            ErrorKind::BadSchema,
            format!(
                "{what}, so rows could not be told apart; declare a PRIMARY KEY, or a UNIQUE index, of just that."
            ),
        ))
    }

    /// Whether no two rows may have the same values in all of these columns.
    pub fn are_unique(&self, columns: &[&str]) -> bool {
        let names: Vec<_> = columns.iter().map(|column| quoted(column)).collect();
        self.unique.iter().any(|set| !set.partial && set.is_of(&names))
    }

    /// Whether a column's values are compared as numbers with those of other columns: by what its type's name has in it
    /// (<https://www.sqlite.org/datatype3.html>, section 3.1).
    pub fn is_numeric(&self, name: &str) -> bool {
        let declared = self.find(name).map_or(String::new(), |column| column.declared.to_ascii_uppercase());
        let other = ["CHAR", "CLOB", "TEXT", "BLOB"].iter().any(|part| declared.contains(part));
        declared.contains("INT") || !(other || declared.is_empty())
    }

    /// Whether values of different types in a column may compare as equal, as 1 and 1.0 do: where it is declared
    /// neither as text nor as a whole number.
    pub fn mixes_types(&self, name: &str) -> bool {
        let declared = self.find(name).map_or(String::new(), |column| column.declared.to_ascii_uppercase());
        !["INT", "CHAR", "CLOB", "TEXT"].iter().any(|part| declared.contains(part))
    }

    fn find(&self, name: &str) -> Option<&TableColumn> {
        self.columns.iter().find(|column| column.name.eq_ignore_ascii_case(name))
    }

    fn unique_sets(&self, connection: &Connection, without_rowid: bool) -> Result<Vec<UniqueSet>> {
        let indexes: Vec<(String, bool, String)> = rows(
            connection,
            "SELECT name, partial, origin FROM pragma_index_list(?1, 'main') WHERE \"unique\"",
            &self.name,
            |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)),
        )?;
        let mut sets = Vec::new();
        for (index, partial, _) in &indexes {
            let columns: Vec<(Option<String>, String)> = rows(
                connection,
                "SELECT name, coll FROM pragma_index_xinfo(?1, 'main') WHERE key ORDER BY seqno",
                index,
                |row| Ok((row.get(0)?, row.get(1)?)),
            )?;
            let columns: Option<Vec<_>> = columns
                .into_iter()
                .map(|(name, collation)| {
                    let collation = (collation != "BINARY").then(|| quoted(&collation));
                    let name = name?;
                    let filled = self.find(&name).and_then(|column| column.filled.as_deref());
                    let name = quoted(&name);
                    let new = match filled {
                        Some(default) => format!("coalesce(new.{name}, {default})"),
                        None => format!("new.{name}"),
                    };
                    Some(UniqueColumn { name, collation, new })
                })
                .collect();
            let columns = columns.ok_or_else(|| self.over_expression(index))?;
            sets.push(UniqueSet { columns, partial: *partial, is_drawn: false });
        }
        if !without_rowid {
            let has_key_index = indexes.iter().any(|(_, _, origin)| origin == "pk");
            let name = self.rowid(has_key_index)?;
            let new = format!("new.{name}");
            let columns = vec![UniqueColumn { name, collation: None, new }];
            sets.push(UniqueSet { columns, partial: false, is_drawn: true });
        }
        Ok(sets)
    }

    /// What the number of a row is called: its INTEGER PRIMARY KEY, or one of the names that no column has.
    fn rowid(&self, has_key_index: bool) -> Result<String> {
        let declared = self.columns.iter().find(|column| column.primary);
        if let Some(column) = declared
            && !has_key_index
        {
            return Ok(quoted(&column.name));
        }
        let free = ["rowid", "_rowid_", "oid"].into_iter().find(|name| self.find(name).is_none());
        free.map(str::to_owned).ok_or_else(|| {
            Error::new(
                ErrorKind::BadSchema,
                format!(
                    "Table `{}` has columns named rowid, _rowid_ and oid; rename one of them.",
                    self.name
                ),
            )
        })
    }

    #[cold]
    fn over_expression(&self, index: &str) -> Error {
        Error::new(
            ErrorKind::BadSchema,
            format!(
                "The unique index `{index}` of table `{}` is over an expression, and rows that REPLACE removes for it \
                 could not be followed; make it an index over columns (a generated column will do).",
                self.name
            ),
        )
    }
}

fn rows<T>(
    connection: &Connection,
    sql: &str,
    parameter: &str,
    read: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
) -> Result<Vec<T>> {
    let all = || connection.prepare(sql)?.query_map([parameter], read)?.collect::<rusqlite::Result<_>>();
    all().map_err(failed(LOOKING))
}

/// The tables that could be adopted, in words.
fn tables(connection: &Connection) -> String {
    let sql = "SELECT name FROM main.sqlite_schema
               WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
                 AND name NOT LIKE ?1 ESCAPE '\\' ORDER BY name";
    match rows(connection, sql, "cellar\\_%", |row| row.get::<_, String>(0)) {
        Ok(names) if !names.is_empty() => format!("it has {}", names.join(", ")),
        _ => "it has none".to_owned(),
    }
}
