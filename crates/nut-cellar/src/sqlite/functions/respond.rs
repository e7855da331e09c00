//! `cellar_response` and `cellar_suggest`: all that a search answers, and what somebody who types is offered, as one document.

use super::raw::{self, writes};
use super::{Shared, told};
use nut_cellar_core::lenient::SuggestRequest;
use nut_cellar_core::{Error, ErrorKind, Request, Result};
use rusqlite::Connection;
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef;
use std::sync::Arc;

pub(super) fn register(connection: &Connection, shared: &Arc<Shared>) -> rusqlite::Result<()> {
    for settings in [2, 3] {
        let shared = Arc::clone(shared);
        connection.create_scalar_function(
            "cellar_suggest",
            settings,
            FunctionFlags::SQLITE_UTF8,
            move |context| suggest(context, &shared).map_err(told),
        )?;
    }
    let shared = Arc::clone(shared);
    connection.create_scalar_function("cellar_response", 2, FunctionFlags::SQLITE_UTF8, move |context| {
        respond(context, &shared).map_err(told)
    })
}

/// The arguments; none where one of them is NULL.
fn texts<'c>(context: &'c Context<'_>, wrong: fn(&str) -> Error) -> Result<Option<Vec<&'c str>>> {
    let text = |place| match context.get_raw(place) {
        ValueRef::Null => Ok(None),
        ValueRef::Text(text) => str::from_utf8(text).map(Some).map_err(|_| wrong("a text is no UTF-8")),
        _ => Err(wrong("all that it is given is texts")),
    };
    (0..context.len()).map(text).collect()
}

fn respond(context: &Context<'_>, shared: &Shared) -> Result<Option<String>> {
    let arguments = texts(context, wrong)?;
    let Some([cellar, request]) = arguments.as_deref() else { return Ok(None) };
    let request = Request::read(request)?;
    let found = raw::with_connection(context, |connection| {
        shared.with(connection, cellar, |cellar| {
            cellar.answer_in_statement(connection, &request, writes(connection))
        })
    })?;
    let document = serde_json::to_string(&found);
    document.map(Some).map_err(|error| wrong(&error.to_string()))
}

fn suggest(context: &Context<'_>, shared: &Shared) -> Result<Option<String>> {
    let wrong = |what: &str| {
        let message = format!("cellar_suggest: {what}; use it like cellar_suggest('items', 'wlanut b').");
        Error::new(ErrorKind::BadRequest, message)
    };
    let arguments = texts(context, wrong)?;
    let Some([cellar, text, settings @ ..]) = arguments.as_deref() else { return Ok(None) };
    let request = SuggestRequest::read(settings.first().unwrap_or(&"{}"))?;
    let suggested = raw::with_connection(context, |connection| {
        shared.with(connection, cellar, |cellar| {
            let (find, suggest) = request.clone().prepare(cellar.schema())?;
            cellar.suggest_in_statement(connection, (text, &find, &suggest), writes(connection))
        })
    })?;
    let document = serde_json::to_string(&suggested);
    document.map(Some).map_err(|error| wrong(&error.to_string()))
}

#[cold]
fn wrong(what: &str) -> Error {
    let message = format!(
        r#"cellar_response: {what}; use it like cellar_response('items', '{{"query": "walnut box"}}')."#
    );
    Error::new(ErrorKind::BadRequest, message)
}
