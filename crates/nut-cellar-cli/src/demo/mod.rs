//! `demo`: a database of the Quillmere Light Railway's lost-property office, and a walk through the main things on it.

mod office;
mod walk;

use crate::arguments;
use nut_cellar::{Error, ErrorKind, Result};
use std::path::PathBuf;

pub fn run(call: &arguments::Demo) -> Result<()> {
    let path = place(call)?;
    let connection = office::open(&path)?;
    walk::Walk::new(connection, &path)?.all()
}

/// Where the database goes: a file that is not there yet.
fn place(call: &arguments::Demo) -> Result<PathBuf> {
    let Some(path) = &call.at else {
        let folder = tempfile::Builder::new().prefix("nut-cellar-demo-").tempdir().map_err(|error| {
            Error::caused(ErrorKind::Place, format!("Making a temporary folder failed: {error}."), error)
        })?;
        return Ok(folder.keep().join("quillmere.db"));
    };
    if path.exists() {
        let message = format!("{} is there already; give a name that is free.", path.display());
        return Err(Error::new(ErrorKind::BadRequest, message));
    }
    Ok(path.clone())
}
