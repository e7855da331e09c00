//! What there is to know about the application's table: its columns, its key, and what must be unique in it.

use super::failure::failed;
use super::names::quoted;
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
}

/// Columns of which no two rows may have the same values.
#[derive(Debug)]
pub(super) struct UniqueSet {
    pub columns: Vec<UniqueColumn>,
    /// Whether that holds for some rows only.
    partial: bool,
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
        let columns =
            rows(connection, "SELECT name, type, pk FROM pragma_table_xinfo(?1, 'main')", &name, |row| {
                Ok(TableColumn {
                    name: row.get(0)?,
                    declared: row.get(1)?,
                    primary: row.get::<_, i64>(2)? > 0,
                })
            })?;
        let mut table = Self { name, columns, unique: Vec::new() };
        table.unique = table.unique_sets(connection, without_rowid)?;
        Ok(table)
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
                    Some(UniqueColumn { name: quoted(&name?), collation })
                })
                .collect();
            let columns = columns.ok_or_else(|| self.over_expression(index))?;
            sets.push(UniqueSet { columns, partial: *partial });
        }
        if !without_rowid {
            let has_key_index = indexes.iter().any(|(_, _, origin)| origin == "pk");
            let name = self.rowid(has_key_index)?;
            sets.push(UniqueSet { columns: vec![UniqueColumn { name, collation: None }], partial: false });
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
