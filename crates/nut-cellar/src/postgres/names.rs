//! The names of what belongs to a cellar, quoted so that no name ever becomes SQL.

use super::failure::failed;
use super::session::{Session, Statements};
use nut_cellar_core::{Error, ErrorKind, Result};

/// The longest name that PostgreSQL keeps, in bytes.
const LONGEST: usize = 63;
/// What the name of a cellar's schema begins with.
const BEGINNING: &str = "cellar_";

/// The names of a cellar's schema, and of what is in it.
#[derive(Clone, Debug)]
pub(super) struct Names {
    cellar: String,
}

/// The tables of a cellar.
pub(super) const TABLES: [&str; 3] = ["state", "chunk", "log"];

impl Names {
    pub fn new(cellar: &str) -> Result<Self> {
        let length = BEGINNING.len() + cellar.len();
        if cellar.is_empty() || cellar.contains('\0') || length > LONGEST {
            let most = LONGEST - BEGINNING.len();
            let message = format!(
                "A cellar needs a name without zero bytes and of at most {most} bytes, such as `items`."
            );
            return Err(Error::new(ErrorKind::BadRequest, message));
        }
        Ok(Self { cellar: cellar.to_owned() })
    }

    /// The name of the cellar.
    pub fn cellar(&self) -> &str {
        &self.cellar
    }

    /// The schema that holds what belongs to the cellar, bare.
    pub fn bare_schema(&self) -> String {
        format!("{BEGINNING}{}", self.cellar)
    }

    /// The same, quoted.
    pub fn schema(&self) -> String {
        quoted(&self.bare_schema())
    }

    /// A table or function in the schema, quoted.
    pub fn inside(&self, name: &str) -> String {
        format!("{}.{}", self.schema(), quoted(name))
    }

    /// The function, and the beginning of the trigger's name, for an event on a joined table or on the records' own.
    /// With another schema come others.
    pub fn event(event: &str, join: Option<usize>, revision: i32) -> String {
        let name = join.map_or(event.to_owned(), |join| format!("{event}_join{join}"));
        if revision > 0 { format!("{name}_{revision}") } else { name }
    }

    /// The trigger of a function on the application's table, bare. Long names are cut as PostgreSQL would cut them.
    pub fn trigger(&self, function: &str) -> String {
        let mut name = format!("{BEGINNING}{function}_{}", self.cellar);
        while name.len() > LONGEST {
            name.pop();
        }
        name
    }
}

/// An identifier in quotation marks.
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text as SQL, where no parameter can stand. It is the same whether the session takes backslashes as they are or not.
pub(super) fn literal(text: &str) -> String {
    let text = text.replace('\'', "''");
    if text.contains('\\') { format!("E'{}'", text.replace('\\', "\\\\")) } else { format!("'{text}'") }
}

/// The names of the cellars in a database.
///
/// # Errors
/// If the database can't be read.
pub fn cellars(client: &mut impl Session) -> Result<Vec<String>> {
    listed(client)
}

pub(super) fn listed(client: &mut dyn Statements) -> Result<Vec<String>> {
    let sql = "SELECT pg_catalog.substr(n.nspname::pg_catalog.text, 8) FROM pg_catalog.pg_namespace n
               JOIN pg_catalog.pg_class c ON c.relnamespace OPERATOR(pg_catalog.=) n.oid AND c.relname OPERATOR(pg_catalog.=) 'state'
               WHERE pg_catalog.starts_with(n.nspname::pg_catalog.text, 'cellar_') ORDER BY 1";
    let rows = client.query_typed(sql, &[]).map_err(failed("Listing the cellars"))?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}
