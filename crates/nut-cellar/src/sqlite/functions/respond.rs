//! `cellar_response`: all that a search answers, as one document.

use super::raw::{self, writes};
use super::{Shared, told};
use nut_cellar_core::{Error, ErrorKind, Request, Result};
use rusqlite::Connection;
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef;
use std::sync::Arc;

pub(super) fn register(connection: &Connection, shared: &Arc<Shared>) -> rusqlite::Result<()> {
    let shared = Arc::clone(shared);
    connection.create_scalar_function("cellar_response", 2, FunctionFlags::SQLITE_UTF8, move |context| {
        respond(context, &shared).map_err(told)
    })
}

fn respond(context: &Context<'_>, shared: &Shared) -> Result<Option<String>> {
    let text = |place: usize| match context.get_raw(place) {
        ValueRef::Null => Ok(None),
        ValueRef::Text(text) => str::from_utf8(text).map(Some).map_err(|_| wrong("a text is no UTF-8")),
        _ => Err(wrong("cellar and request are texts")),
    };
    let (Some(cellar), Some(request)) = (text(0)?, text(1)?) else { return Ok(None) };
    let request = Request::read(request)?;
    let found = raw::with_connection(context, |connection| {
        shared.with(connection, cellar, |cellar| {
            cellar.answer_in_statement(connection, &request, writes(connection))
        })
    })?;
    let document = serde_json::to_string(&found);
    document.map(Some).map_err(|error| wrong(&error.to_string()))
}

#[cold]
fn wrong(what: &str) -> Error {
    let message = format!(
        r#"cellar_response: {what}; use it like cellar_response('items', '{{"query": "walnut box"}}')."#
    );
    Error::new(ErrorKind::BadRequest, message)
}
