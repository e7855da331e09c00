//! A view or a query that records are read from, in the place of a table.

use super::failure::{Failure, failed};
use super::names::quoted;
use super::session::Statements;
use super::table::Table;
use nut_cellar_core::schema::Source;
use nut_cellar_core::{Error, ErrorKind, Key, Result};
use postgres::types::Type;

/// What records are read from.
#[derive(Debug)]
pub(super) struct Derived {
    /// As something to select from.
    pub sql: String,
    /// The number of the view, if it is one.
    pub view: Option<u32>,
    /// How it is told in messages.
    name: String,
    /// Each column with the name of its type without its length.
    columns: Vec<(String, String)>,
}

const LOOKING: &str = "Looking at what records are read from";

impl Derived {
    /// Looks at the columns of what a source names, if it names such.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if it can't be selected from.
    pub fn read(client: &mut dyn Statements, source: &Source) -> Result<Option<Self>> {
        match (&source.view, &source.query) {
            (Some(view), _) => Self::view(client, view).map(Some),
            (None, Some(query)) => Self::query(client, query).map(Some),
            (None, None) => Ok(None),
        }
    }

    fn view(client: &mut dyn Statements, name: &str) -> Result<Self> {
        let bad = |what: &str| Err(Error::new(ErrorKind::BadSchema, format!("`{name}` is no view{what}.")));
        let Some(oid) = Table::number(client, name)? else { return bad(" that this role finds") };
        let sql = "SELECT c.relkind::text, n.nspname, c.relname FROM pg_catalog.pg_class c
                   JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1";
        let row = client.query_typed_one(sql, &[(&oid, Type::OID)]).map_err(failed(LOOKING))?;
        match row.get(0) {
            "v" => {}
            "m" => {
                return bad(
                    " that is made anew whenever it is read, but a stored one, which would have to be refreshed first",
                );
            }
            _ => return bad(""),
        }
        let sql = "SELECT a.attname, pg_catalog.format_type(a.atttypid, NULL) FROM pg_catalog.pg_attribute a
                   WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";
        let columns = client.query_typed(sql, &[(&oid, Type::OID)]).map_err(failed(LOOKING))?;
        Ok(Self {
            sql: format!("{}.{}", quoted(row.get(1)), quoted(row.get(2))),
            view: Some(oid),
            name: format!("View `{name}`"),
            columns: columns.iter().map(|row| (row.get(0), row.get(1))).collect(),
        })
    }

    fn query(client: &mut dyn Statements, query: &str) -> Result<Self> {
        // A comment that it may end with ends with the line.
        let sql = format!("({query}\n)");
        // One row without values tells the columns, however many the query gives.
        let look = format!("SELECT t.* FROM (SELECT) one LEFT JOIN {sql} t ON false");
        let row = client.query_typed_one(&look, &[]).map_err(unusable)?;
        let types: Vec<u32> = row.columns().iter().map(|column| column.type_().oid()).collect();
        let sql_of_types = "SELECT pg_catalog.format_type(kind, NULL)
                            FROM pg_catalog.unnest($1) WITH ORDINALITY t(kind, place) ORDER BY place";
        let types =
            client.query_typed(sql_of_types, &[(&types, Type::OID_ARRAY)]).map_err(failed(LOOKING))?;
        let names = row.columns().iter().map(|column| column.name().to_owned());
        Ok(Self {
            columns: names.zip(types.iter().map(|row| row.get(0))).collect(),
            sql,
            view: None,
            name: "The query".to_owned(),
        })
    }

    /// The name of a column's type.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if there is no such column; the message names those there are.
    pub fn type_of(&self, name: &str) -> Result<&str> {
        let found = self.columns.iter().find(|(column, _)| column == name);
        found.map(|(_, kind)| kind.as_str()).ok_or_else(|| {
            let known: Vec<_> = self.columns.iter().map(|(column, _)| column.as_str()).collect();
            let message = format!("{} has no column `{name}`; it has {}.", self.name, known.join(", "));
            Error::new(ErrorKind::BadSchema, message)
        })
    }
}

/// The error for a query that can't be used.
#[cold]
pub(super) fn unusable(failure: Failure) -> Error {
    let error = failed("Reading by the query")(failure);
    let message = format!("{error} (Its tables have to be named with their schemas.)");
    Error::caused(ErrorKind::BadSchema, message, error)
}

/// The error for two rows with one key.
#[cold]
pub(super) fn ambiguous(from: &str, key: &Key) -> Error {
    let message = format!("{from} gives several rows for the key {key}; each record has just one.");
    Error::new(ErrorKind::BadRecord, message)
}
