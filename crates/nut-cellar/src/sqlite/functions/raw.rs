//! Where SQLite calls back through C.
//!
//! What always holds: the handle of a connection is used inside a callback of that connection only, on the thread of the callback,
//! and no statement made with it outlives the callback; what SQLite keeps of a table begins with what SQLite
//! itself puts there; and a panic ends as an error of the statement.

#![allow(unsafe_code, reason = "SQLite lays out tables and cursors, and hands over connections, by pointers")]

use super::table_function::{Caller, Given, TableFunction, plan};
use nut_cellar_core::{Error, ErrorKind, Result};
use rusqlite::functions::Context as FunctionContext;
use rusqlite::types::Value;
use rusqlite::vtab::{
    Context, Filters, IndexInfo, Module, VTab, VTabConnection, VTabCursor, sqlite3_vtab, sqlite3_vtab_cursor,
};
use rusqlite::{Connection, ffi};
use std::borrow::Cow;
use std::ffi::{CStr, c_int};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;

/// Does `work` with the connection on which a function is called.
pub(super) fn with_connection<T>(
    context: &FunctionContext<'_>,
    work: impl FnOnce(&Connection) -> Result<T>,
) -> Result<T> {
    // SAFETY: the connection is used during the call only, and neither closed nor given hooks.
    let connection = unsafe { context.get_connection() };
    let connection = connection.map_err(|error| {
        Error::caused(ErrorKind::Place, format!("SQLite does not tell its connection: {error}."), error)
    })?;
    work(&connection)
}

/// Whether a statement that writes is running on a connection: then a function is called for it, such as in a trigger.
pub(super) fn writes(connection: &Connection) -> bool {
    // SAFETY: the handle is that of a connection that is open, and only asked. Its statements can't go away meanwhile: they are used on
    // this thread alone.
    unsafe {
        let handle = connection.handle();
        let mut statement = ffi::sqlite3_next_stmt(handle, std::ptr::null_mut());
        while !statement.is_null() {
            if ffi::sqlite3_stmt_busy(statement) != 0 && ffi::sqlite3_stmt_readonly(statement) == 0 {
                return true;
            }
            statement = ffi::sqlite3_next_stmt(handle, statement);
        }
        false
    }
}

/// Makes a function that gives a table known to a connection.
pub(super) fn register<F: TableFunction>(connection: &Connection, function: F) -> rusqlite::Result<()> {
    connection.create_module(F::NAME, Table::<F>::MODULE, Some(Arc::new(function)))
}

/// What SQLite keeps of a function on one connection.
#[repr(C)]
struct Table<F> {
    base: sqlite3_vtab,
    handle: *mut ffi::sqlite3,
    function: Arc<F>,
}

impl<F: TableFunction> Table<F> {
    const MODULE: &'static Module<'static, Self> = &Module::eponymous_only_module();
}

// SAFETY: it begins with SQLite's own part, and is laid out as C does.
unsafe impl<F: TableFunction> VTab<'_> for Table<F> {
    type Aux = Arc<F>;
    type Cursor = Cursor<F>;

    fn connect(
        db: &mut VTabConnection,
        function: Option<&Arc<F>>,
        _module: &[u8],
        _database: &[u8],
        _table: &[u8],
        _arguments: &[&[u8]],
    ) -> rusqlite::Result<(Cow<'static, CStr>, Self)> {
        let function = function.ok_or_else(|| rusqlite::Error::ModuleError("no function".to_owned()))?;
        // SAFETY: used as the head of this module says.
        let handle = unsafe { db.handle() };
        let table = Self { base: sqlite3_vtab::default(), handle, function: Arc::clone(function) };
        Ok((Cow::Borrowed(F::TABLE), table))
    }

    fn best_index(&self, info: &mut IndexInfo) -> rusqlite::Result<bool> {
        caught(|| Ok(plan::<F>(info)))
    }

    fn open(&mut self) -> rusqlite::Result<Cursor<F>> {
        // Several cursors of one table may be open, so they share nothing with it by reference.
        Ok(Cursor {
            base: sqlite3_vtab_cursor::default(),
            handle: self.handle,
            caller: Caller::new(&self.function),
            rows: Vec::new(),
            at: 0,
        })
    }
}

/// Goes through the rows of a call.
#[repr(C)]
struct Cursor<F> {
    base: sqlite3_vtab_cursor,
    handle: *mut ffi::sqlite3,
    caller: Caller<F>,
    /// The places of the rows that are asked for.
    rows: Vec<usize>,
    at: usize,
}

// SAFETY: it begins with SQLite's own part, and is laid out as C does.
unsafe impl<F: TableFunction> VTabCursor for Cursor<F> {
    fn filter(&mut self, given: c_int, _: Option<&str>, values: &Filters<'_>) -> rusqlite::Result<()> {
        caught(|| {
            self.at = 0;
            // SAFETY: used as the head of this module says. The connection does not own the handle.
            let connection = unsafe { Connection::from_handle(self.handle) }?;
            let values: Vec<Value> = values.iter().map(Value::try_from).collect::<Result<_, _>>()?;
            self.rows = self.caller.call(&connection, Given(given), values)?;
            Ok(())
        })
    }

    fn next(&mut self) -> rusqlite::Result<()> {
        self.at += 1;
        Ok(())
    }

    fn eof(&self) -> bool {
        self.at >= self.rows.len()
    }

    fn column(&self, context: &mut Context, column: c_int) -> rusqlite::Result<()> {
        caught(|| {
            let value = usize::try_from(column).ok().zip(self.rows.get(self.at));
            context.set_result(value.and_then(|(column, row)| self.caller.value(*row, column)))
        })
    }

    fn rowid(&self) -> rusqlite::Result<i64> {
        Ok(i64::try_from(self.at).unwrap_or(i64::MAX))
    }
}

/// Turns a panic into an error.
fn caught<T>(work: impl FnOnce() -> rusqlite::Result<T>) -> rusqlite::Result<T> {
    catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|_| {
        let message = "the search failed in a way that should not be possible; please report it".to_owned();
        Err(rusqlite::Error::ModuleError(message))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Panics;

    impl TableFunction for Panics {
        const NAME: &'static CStr = c"panics";
        const TABLE: &'static CStr = c"CREATE TABLE x(key, how HIDDEN)";
        const SHOWN: usize = 1;
        const ARGUMENTS: usize = 1;
        const NEEDED: usize = 0;
        const USE: &'static str = "";

        fn is_sorted(_: usize, _: bool, _: Given) -> bool {
            false
        }

        fn rows(&self, _: &Connection, _: &[Value]) -> rusqlite::Result<Vec<Vec<Value>>> {
            panic!("on purpose")
        }

        fn state(&self, _: &Connection, _: &[Value]) -> Option<i64> {
            None
        }
    }

    #[test]
    fn a_panic_is_an_error_of_the_statement() {
        let db = Connection::open_in_memory().unwrap();
        register(&db, Panics).unwrap();
        let answer = db.query_row("SELECT key FROM panics", [], |row| row.get::<_, i64>(0));
        assert!(answer.unwrap_err().to_string().contains("should not be possible"));
        assert_eq!(db.query_row("SELECT 1", [], |row| row.get::<_, i64>(0)), Ok(1));
    }
}
