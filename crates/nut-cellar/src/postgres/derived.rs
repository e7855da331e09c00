//! A view or a query that records are read from, in the place of a table.
//!
//! What always holds: what is in it is run with no rights that its owner does not have. Who adopts it, catches up or repairs has none
//! that the owner could not take on (PostgreSQL's own roles say who could); whoever else searches calls functions that act as who
//! adopted it. The owner of a view is its own; that of a query is who adopted the cellar.

use super::failure::{Failure, failed};
use super::names::{Names, literal, quoted};
use super::session::Statements;
use super::table::{Table, columns_of};
use super::types::ColumnType;
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
    /// Each column with its type; none if it is a query that somebody else may run.
    columns: Option<Vec<(String, ColumnType)>>,
    /// The number of what says who its owner is, as SQL.
    owned: String,
}

const LOOKING: &str = "Looking at what records are read from";

impl Derived {
    /// Looks at the columns of what a source names, if it names such.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if it can't be selected from.
    pub fn read(client: &mut dyn Statements, source: &Source, names: &Names) -> Result<Option<Self>> {
        match (&source.view, &source.query) {
            (Some(view), _) => Self::view(client, view).map(Some),
            (None, Some(query)) => Self::query(client, query, names).map(Some),
            (None, None) => Ok(None),
        }
    }

    /// The condition that the owner could take on the rights of whoever acts; `and_session` of whoever has begun the session, too, to
    /// whose rights a role that was set could go back.
    pub fn is_trusted(&self, and_session: bool) -> String {
        let member = |of: &str| format!("pg_catalog.pg_has_role(v.relowner, {of}, 'MEMBER')");
        let all = if and_session {
            format!("{} AND {}", member("current_user"), member("session_user"))
        } else {
            member("current_user")
        };
        // Of a query that nobody has adopted yet whoever adopts it is the owner.
        format!(
            "coalesce((SELECT {all} FROM pg_catalog.pg_class v WHERE v.oid OPERATOR(pg_catalog.=) {}),
                      {} AND current_user OPERATOR(pg_catalog.=) session_user)",
            self.owned,
            self.view.is_none()
        )
    }

    /// Refuses to run it with rights that its owner does not have.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`], which says who may.
    pub fn must_be_trusted(&self, client: &mut dyn Statements) -> Result<()> {
        let sql = format!(
            "SELECT {}, (SELECT pg_catalog.pg_get_userbyid(v.relowner)::pg_catalog.text FROM pg_catalog.pg_class v
                         WHERE v.oid OPERATOR(pg_catalog.=) {})",
            self.is_trusted(true),
            self.owned
        );
        let row = client.query_typed_one(&sql, &[]).map_err(failed(LOOKING))?;
        if row.get(0) {
            return Ok(());
        }
        let owner = row.get::<_, Option<String>>(1);
        let owner =
            owner.map_or("whoever began the session".to_owned(), |owner| format!("its owner `{owner}`"));
        let message = format!(
            "{} would be run with rights that its owner does not have; connect as {owner} to adopt, catch up, check or repair.",
            self.name
        );
        Err(Error::new(ErrorKind::BadRequest, message))
    }

    fn view(client: &mut dyn Statements, name: &str) -> Result<Self> {
        let bad = |what: &str| Err(Error::new(ErrorKind::BadSchema, format!("`{name}` is no view{what}.")));
        let Some(oid) = Table::number(client, name)? else { return bad(" that this role finds") };
        let sql = "SELECT c.relkind::pg_catalog.text, n.nspname, c.relname FROM pg_catalog.pg_class c
                   JOIN pg_catalog.pg_namespace n ON n.oid OPERATOR(pg_catalog.=) c.relnamespace WHERE c.oid OPERATOR(pg_catalog.=) $1";
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
        let columns = columns_of(client, oid)?;
        Ok(Self {
            sql: format!("{}.{}", quoted(row.get(1)), quoted(row.get(2))),
            view: Some(oid),
            name: format!("View `{name}`"),
            columns: Some(columns.into_iter().map(|column| (column.name, column.kind)).collect()),
            owned: oid.to_string(),
        })
    }

    fn query(client: &mut dyn Statements, query: &str, names: &Names) -> Result<Self> {
        // A comment that it may end with ends with the line.
        let sql = format!("({query}\n)");
        let owned = format!("pg_catalog.to_regclass({})::pg_catalog.oid", literal(&names.inside("state")));
        let mut this = Self { sql, view: None, name: "The query".to_owned(), columns: None, owned };
        // Already to look at its columns may run what is in it.
        let trusted = format!("SELECT {}", this.is_trusted(true));
        if client.query_typed_one(&trusted, &[]).map_err(failed(LOOKING))?.get(0) {
            this.columns = Some(this.look(client)?);
        }
        Ok(this)
    }

    fn look(&self, client: &mut dyn Statements) -> Result<Vec<(String, ColumnType)>> {
        // One row without values tells the columns, however many the query gives.
        let look = format!("SELECT t.* FROM (SELECT) one LEFT JOIN {} t ON false", self.sql);
        let row = client.query_typed_one(&look, &[]).map_err(unusable)?;
        let types: Vec<u32> = row.columns().iter().map(|column| column.type_().oid()).collect();
        let sql_of_types = format!(
            "SELECT {} FROM pg_catalog.unnest($1) WITH ORDINALITY t(kind, place) ORDER BY place",
            ColumnType::selected("kind")
        );
        let types =
            client.query_typed(&sql_of_types, &[(&types, Type::OID_ARRAY)]).map_err(failed(LOOKING))?;
        let names = row.columns().iter().map(|column| column.name().to_owned());
        Ok(names.zip(types.iter().map(|row| ColumnType::read(row, 0))).collect())
    }

    /// A column's type, if it is known.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if there is no such column; the message names those there are.
    pub fn type_of(&self, name: &str) -> Result<Option<&ColumnType>> {
        let Some(columns) = &self.columns else { return Ok(None) };
        let found = columns.iter().find(|(column, _)| column == name);
        found.map(|(_, kind)| Some(kind)).ok_or_else(|| {
            let known: Vec<_> = columns.iter().map(|(column, _)| column.as_str()).collect();
            let message = format!("{} has no column `{name}`; it has {}.", self.name, known.join(", "));
            Error::new(ErrorKind::BadSchema, message)
        })
    }

    /// The SQL that gives a column of `t` as JSON, and as text. Where its type is not known, whoever has it may not run it anyway.
    pub fn json(&self, column: &str) -> Result<String> {
        Ok(self
            .type_of(column)?
            .map_or("NULL".to_owned(), |kind| kind.json(&format!("t.{}", quoted(column)))))
    }

    /// The same, as text.
    pub fn text(&self, column: &str) -> Result<String> {
        Ok(self
            .type_of(column)?
            .map_or("NULL".to_owned(), |kind| kind.text(&format!("t.{}", quoted(column)))))
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
