//! The SQL functions of `nut_cellar::sqlite::functions`, for any program that loads extensions into SQLite.
//!
//! ```text
//! sqlite> .load ./libnut_cellar
//! sqlite> SELECT items.title FROM cellar_find('items', 'walnut box') AS found JOIN items ON items.id = found.key;
//! ```
//!
//! SQLite is the one that the program has, which may be older than the one whose interface this was compiled for.
//!
//! What always holds: no function is called that the program's SQLite does not have.

use nut_cellar::sqlite::SqlFunctions;
use rusqlite::{Connection, ffi};
use std::ffi::{CStr, c_char, c_int};
use std::mem::{MaybeUninit, offset_of};
use std::sync::LazyLock;

/// The oldest SQLite that has all that is called, 3.37: it lists tables by `pragma_table_list`.
const OLDEST: c_int = 3_037_000;
const TOO_OLD: &CStr = c"Nut Cellar needs SQLite 3.37 or newer.";

/// For all connections of the program, which share what was read.
static FUNCTIONS: LazyLock<SqlFunctions> = LazyLock::new(SqlFunctions::new);

/// Called by SQLite when the extension is loaded; makes the functions known to the connection that loads it.
///
/// # Safety
/// SQLite calls it, with a connection, where to put a message, and its table of functions.
#[unsafe(no_mangle)]
pub unsafe extern "C" fn sqlite3_extension_init(
    connection: *mut ffi::sqlite3,
    message: *mut *mut c_char,
    functions: *mut ffi::sqlite3_api_routines,
) -> c_int {
    // SAFETY: what SQLite hands over is what it says, and its table has a function that tells the version.
    unsafe {
        let Some(version) = functions.as_ref().and_then(|table| table.libversion_number) else {
            return ffi::SQLITE_ERROR;
        };
        let version = version();
        if version < OLDEST {
            return refuse(functions, message);
        }
        let mut known = known_functions(functions, version);
        Connection::extension_init2(connection, message, &raw mut known, |connection| {
            FUNCTIONS
                .register(&connection)
                .map_err(|error| rusqlite::Error::ModuleError(error.to_string()))?;
            // Other connections of the program may have loaded it as well.
            Ok(true)
        })
    }
}

/// The table of functions as this was compiled for it: those that came later than the program's SQLite are none, and it says that
/// it has the version that is asked for.
unsafe fn known_functions(
    functions: *const ffi::sqlite3_api_routines,
    version: c_int,
) -> ffi::sqlite3_api_routines {
    let bytes = match version {
        ..3_041_000 => offset_of!(ffi::sqlite3_api_routines, is_interrupted),
        3_041_000..3_043_000 => offset_of!(ffi::sqlite3_api_routines, stmt_explain),
        3_043_000..3_044_000 => offset_of!(ffi::sqlite3_api_routines, get_clientdata),
        _ => size_of::<ffi::sqlite3_api_routines>(),
    };
    let mut known = MaybeUninit::<ffi::sqlite3_api_routines>::zeroed();
    // SAFETY: the table of this version has so many bytes, and a function that is not there is all zeros.
    let mut known = unsafe {
        functions.cast::<u8>().copy_to_nonoverlapping(known.as_mut_ptr().cast(), bytes);
        known.assume_init()
    };
    known.libversion_number = Some(wanted_version);
    known
}

extern "C" fn wanted_version() -> c_int {
    ffi::SQLITE_VERSION_NUMBER
}

/// Tells that the program's SQLite is too old, in memory of its own.
unsafe fn refuse(functions: *mut ffi::sqlite3_api_routines, message: *mut *mut c_char) -> c_int {
    let text = TOO_OLD.to_bytes_with_nul();
    // SAFETY: SQLite frees what its own function has given.
    unsafe {
        if let (Some(malloc), false) = ((*functions).malloc, message.is_null()) {
            let room = malloc(c_int::try_from(text.len()).unwrap_or(0)).cast::<u8>();
            if !room.is_null() {
                room.copy_from_nonoverlapping(text.as_ptr(), text.len());
                *message = room.cast();
            }
        }
    }
    ffi::SQLITE_ERROR
}
