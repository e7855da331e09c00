//! What there is to know about the application's table: its columns, their types, and what its rows are named by.

use super::failure::failed;
use super::key::{KeyColumns, KeyKind, KeyPart};
use super::names::quoted;
use super::session::Statements;
use super::types::ColumnType;
use nut_cellar_core::{Error, ErrorKind, Result, Schema};
use postgres::Row;
use postgres::types::Type;

/// A table of the database.
#[derive(Debug)]
pub(super) struct Table {
    pub oid: u32,
    /// Its schema and name.
    pub name: [String; 2],
    /// Whether its rows are in partitions.
    pub partitioned: bool,
    /// Whether it has row-level security.
    pub secured: bool,
    columns: Vec<TableColumn>,
    /// The sets of columns by each of which rows are told apart.
    unique: Vec<Vec<String>>,
}

/// A column.
#[derive(Debug)]
pub(super) struct TableColumn {
    pub name: String,
    pub kind: ColumnType,
    /// Whether values are equal only if their bytes are.
    exact: bool,
}

const LOOKING: &str = "Looking at the table";

impl Table {
    /// Looks at a table, by `name` or by `schema.name`, as the search path finds it.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if there is no such table, or its changes can't be followed.
    pub fn read(client: &mut dyn Statements, name: &str) -> Result<Self> {
        if let Some(oid) = Self::number(client, name)? {
            return Self::of(client, oid);
        }
        let message = format!("There is no table `{name}` that this role finds; {}.", tables(client));
        Err(Error::new(ErrorKind::BadSchema, message))
    }

    /// The number of a table or view.
    pub fn number(client: &mut dyn Statements, name: &str) -> Result<Option<u32>> {
        let parts: Vec<String> = name.split('.').map(quoted).collect();
        let sql = "SELECT pg_catalog.to_regclass($1)::pg_catalog.oid";
        // A whole name may have a dot in it.
        for spelled in [quoted(name), parts.join(".")] {
            if parts.len() <= 2 || spelled == quoted(name) {
                let found =
                    client.query_typed_one(sql, &[(&spelled, Type::TEXT)]).map_err(failed(LOOKING))?;
                if let Some(oid) = found.get(0) {
                    return Ok(Some(oid));
                }
            }
        }
        Ok(None)
    }

    /// Looks at the table with this number.
    ///
    /// # Errors
    /// As for [`read`](Self::read).
    pub fn of(client: &mut dyn Statements, oid: u32) -> Result<Self> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        let sql = "SELECT c.relkind::pg_catalog.text, n.nspname, c.relname, c.relrowsecurity,
                     EXISTS (SELECT 1 FROM pg_catalog.pg_inherits i WHERE i.inhparent OPERATOR(pg_catalog.=) c.oid)
                   FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid OPERATOR(pg_catalog.=) c.relnamespace
                   WHERE c.oid OPERATOR(pg_catalog.=) $1";
        let row = client.query_typed_opt(sql, &[(&oid, Type::OID)]).map_err(failed(LOOKING))?;
        let row = row.ok_or_else(|| {
            let message = "The table of the cellar is gone; release the cellar.";
            Error::new(ErrorKind::OutOfStep, message)
        })?;
        let (kind, name, secured): (String, String, bool) = (row.get(0), row.get(2), row.get(3));
        let partitioned = kind == "p";
        if kind != "r" && !partitioned {
            return bad(format!("`{name}` is no table, so its changes can't be followed; name one."));
        }
        if row.get(4) && !partitioned {
            return bad(format!(
                "Other tables inherit from `{name}`, and what is written to them would go unseen; name a table without such."
            ));
        }
        let columns = columns_of(client, oid)?;
        let sql = "SELECT pg_catalog.array_agg(a.attname::pg_catalog.text) FROM pg_catalog.pg_index i
                   CROSS JOIN LATERAL pg_catalog.generate_series(0, i.indnkeyatts OPERATOR(pg_catalog.-) 1) place
                   JOIN pg_catalog.pg_attribute a ON a.attrelid OPERATOR(pg_catalog.=) i.indrelid AND a.attnum OPERATOR(pg_catalog.=) i.indkey[place]
                   WHERE i.indrelid OPERATOR(pg_catalog.=) $1 AND i.indisunique AND i.indisvalid AND i.indimmediate
                     AND i.indpred IS NULL AND i.indexprs IS NULL
                   GROUP BY i.indexrelid HAVING pg_catalog.bool_and(a.attnotnull)";
        let unique = client.query_typed(sql, &[(&oid, Type::OID)]).map_err(failed(LOOKING))?;
        let unique = unique.iter().map(|row| row.get(0)).collect();
        Ok(Self { oid, name: [row.get(1), name], partitioned, secured, columns, unique })
    }

    /// Whether the role that asks is given all rows.
    pub fn is_seen_whole(&self, client: &mut dyn Statements) -> Result<bool> {
        let sql = "SELECT NOT pg_catalog.row_security_active($1)";
        Ok(client.query_typed_one(sql, &[(&self.oid, Type::OID)]).map_err(failed(LOOKING))?.get(0))
    }

    /// The columns' names.
    pub fn columns(&self) -> impl Iterator<Item = &str> {
        self.columns.iter().map(|column| column.name.as_str())
    }

    /// Its name, quoted.
    pub fn quoted(&self) -> String {
        self.name.each_ref().map(|part| quoted(part)).join(".")
    }

    /// The type of a column.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if the table has no such column; the message names those it has.
    pub fn type_of(&self, name: &str) -> Result<&ColumnType> {
        let found = self.columns.iter().find(|column| column.name == name);
        found.map(|column| &column.kind).ok_or_else(|| {
            let known: Vec<_> = self.columns.iter().map(|column| column.name.as_str()).collect();
            let message =
                format!("Table `{}` has no column `{name}`; it has {}.", self.name[1], known.join(", "));
            Error::new(ErrorKind::BadSchema, message)
        })
    }

    /// Whether no two rows have the same values in all of these columns, and each has one in each.
    pub fn are_unique(&self, columns: &[String]) -> bool {
        self.unique
            .iter()
            .any(|known| known.len() == columns.len() && known.iter().all(|column| columns.contains(column)))
    }

    /// The columns that name a row for a schema.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if they are not declared to do so, or one is of another type than keys may have.
    pub fn key(&self, schema: &Schema) -> Result<KeyColumns> {
        let columns = schema.key_columns();
        let parts = columns
            .iter()
            .map(|column| {
                let declared = self.type_of(column)?.clone();
                Ok(KeyPart { kind: self.key_kind(column)?, column: quoted(column), declared })
            })
            .collect::<Result<_>>()?;
        if self.are_unique(columns) {
            return Ok(KeyColumns(parts));
        }
        let table = &self.name[1];
        let what = match columns {
            [one] => format!("Column `{one}` of table `{table}` is not declared to be its key"),
            all => format!(
                "Columns `{}` of table `{table}` are not declared to be its key together",
                all.join("`, `")
            ),
        };
        Err(Error::new(
            ErrorKind::BadSchema,
            format!(
                "{what}, so rows could not be told apart; declare a PRIMARY KEY, or NOT NULL and a UNIQUE index, of just that."
            ),
        ))
    }

    fn key_kind(&self, key: &str) -> Result<KeyKind> {
        let bad = |message: String| Err(Error::new(ErrorKind::BadSchema, message));
        let table = &self.name[1];
        let declared = self.type_of(key)?;
        let kind = match Type::from_oid(declared.oid) {
            Some(Type::INT2 | Type::INT4 | Type::INT8) => KeyKind::Integer,
            Some(Type::TEXT | Type::VARCHAR) => KeyKind::Text,
            Some(Type::UUID) => KeyKind::Uuid,
            Some(Type::BYTEA) => KeyKind::Bytes,
            _ => {
                return bad(format!(
                    "Column `{key}` of table `{table}` is of type {}; a key is a whole number, a text, a uuid or bytes.",
                    declared.name
                ));
            }
        };
        if self.columns.iter().any(|column| column.name == key && !column.exact) {
            return bad(format!(
                "Column `{key}` of table `{table}` has a collation that takes different texts for equal; a key can't have that."
            ));
        }
        Ok(kind)
    }
}

/// The columns of a table or view.
pub(super) fn columns_of(client: &mut dyn Statements, oid: u32) -> Result<Vec<TableColumn>> {
    let sql = format!(
        "SELECT a.attname, coalesce((SELECT c.collisdeterministic FROM pg_catalog.pg_collation c WHERE c.oid OPERATOR(pg_catalog.=) a.attcollation), true), {}
         FROM pg_catalog.pg_attribute a
         WHERE a.attrelid OPERATOR(pg_catalog.=) $1 AND a.attnum OPERATOR(pg_catalog.>) '0'::smallint AND NOT a.attisdropped ORDER BY a.attnum",
        ColumnType::selected("a.atttypid")
    );
    let columns = client.query_typed(&sql, &[(&oid, Type::OID)]).map_err(failed(LOOKING))?;
    let column =
        |row: &Row| TableColumn { name: row.get(0), exact: row.get(1), kind: ColumnType::read(row, 2) };
    Ok(columns.iter().map(column).collect())
}

/// The tables that could be adopted, in words.
fn tables(client: &mut dyn Statements) -> String {
    let sql = "SELECT relname FROM pg_catalog.pg_class c WHERE relkind OPERATOR(pg_catalog.=) ANY ('{r,p}')
                 AND pg_catalog.pg_table_is_visible(oid)
                 AND relnamespace OPERATOR(pg_catalog.<>) 'pg_catalog'::pg_catalog.regnamespace::pg_catalog.oid ORDER BY 1";
    match client.query_typed(sql, &[]) {
        Ok(rows) if !rows.is_empty() => {
            let names: Vec<String> = rows.iter().map(|row| row.get(0)).collect();
            format!("it finds {}", names.join(", "))
        }
        _ => "it finds none".to_owned(),
    }
}
