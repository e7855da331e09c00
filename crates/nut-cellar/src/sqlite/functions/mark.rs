//! `cellar_mark` and `cellar_excerpt`: texts with what a query finds in them marked.

use super::{Shared, raw, told};
use nut_cellar_core::{Error, ErrorKind, Find, Highlighter, Marks, Result};
use rusqlite::Connection;
use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::ValueRef;
use std::sync::{Arc, Mutex, PoisonError};

/// The characters of an excerpt where nobody says how many.
const CHARACTERS: i64 = 120;

/// The highlighter that was made last, with the cellar (of what version of the database's schema) and the query for which it
/// was: a statement asks for the same one row after row.
type Last = Mutex<Option<((String, i64), String, Arc<Highlighter>)>>;

pub(super) fn register(connection: &Connection, shared: &Arc<Shared>) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8;
    let last = Arc::new(Last::default());
    for arguments in [4, 6] {
        let (shared, last) = (Arc::clone(shared), Arc::clone(&last));
        connection.create_scalar_function("cellar_mark", arguments, flags, move |context| {
            Call { context, shared: &shared, last: &last }.mark().map_err(told)
        })?;
    }
    for arguments in [4, 5, 7] {
        let (shared, last) = (Arc::clone(shared), Arc::clone(&last));
        connection.create_scalar_function("cellar_excerpt", arguments, flags, move |context| {
            Call { context, shared: &shared, last: &last }.excerpt().map_err(told)
        })?;
    }
    Ok(())
}

struct Call<'c, 'f> {
    context: &'c Context<'f>,
    shared: &'c Shared,
    last: &'c Last,
}

impl Call<'_, '_> {
    fn mark(&self) -> Result<Option<String>> {
        let (Some((highlighter, column)), Some(text)) = (self.highlighter()?, self.text(3)?) else {
            return Ok(None);
        };
        highlighter.mark(column, text, &self.marks(4)?).map(Some)
    }

    fn excerpt(&self) -> Result<Option<String>> {
        let (Some((highlighter, column)), Some(text)) = (self.highlighter()?, self.text(3)?) else {
            return Ok(None);
        };
        let characters = match self.argument(4) {
            ValueRef::Null => CHARACTERS,
            ValueRef::Integer(characters) if characters > 0 => characters,
            _ => return Err(wrong("the length of an excerpt is a number of characters")),
        };
        let characters = usize::try_from(characters).unwrap_or(usize::MAX);
        highlighter.excerpt(column, text, characters, &self.marks(5)?).map(Some)
    }

    /// What marks, and in which column; none where a part of that is NULL.
    fn highlighter(&self) -> Result<Option<(Arc<Highlighter>, &str)>> {
        let (Some(cellar), Some(query), Some(column)) = (self.text(0)?, self.text(1)?, self.text(2)?) else {
            return Ok(None);
        };
        let highlighter = raw::with_connection(self.context, |connection| {
            let version = super::schema_version(connection)?;
            let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
            let known =
                last.as_ref().filter(|((of, at), asked, _)| of == cellar && *at == version && asked == query);
            if let Some((_, _, highlighter)) = known {
                return Ok(Arc::clone(highlighter));
            }
            let made =
                self.shared.with(connection, cellar, |cellar| cellar.highlighter(query, &Find::new()))?;
            let made = Arc::new(made);
            *last = Some(((cellar.to_owned(), version), query.to_owned(), Arc::clone(&made)));
            Ok(made)
        })?;
        Ok(Some((highlighter, column)))
    }

    /// What stands around matches. Where that is markup, the text is escaped, so that no text becomes markup.
    fn marks(&self, place: usize) -> Result<Marks> {
        let (before, after) = match (self.text(place)?, self.text(place + 1)?) {
            (None, None) => ("<mark>", "</mark>"),
            (before, after) => (before.unwrap_or_default(), after.unwrap_or_default()),
        };
        let marks = Marks::new(before, after);
        Ok(if before.contains('<') || after.contains('<') { marks.escaping_html() } else { marks })
    }

    fn argument(&self, place: usize) -> ValueRef<'_> {
        if place < self.context.len() { self.context.get_raw(place) } else { ValueRef::Null }
    }

    /// An argument; none if it is NULL or was left out. Numbers are taken as they are written.
    fn text(&self, place: usize) -> Result<Option<&str>> {
        match self.argument(place) {
            ValueRef::Null => Ok(None),
            ValueRef::Text(text) => match str::from_utf8(text) {
                Ok(text) => Ok(Some(text)),
                Err(_) => Err(wrong("a text is no UTF-8")),
            },
            _ => Err(wrong("cellar, query, column, text and marks are texts")),
        }
    }
}

#[cold]
fn wrong(what: &str) -> Error {
    let message = format!(
        "cellar_mark and cellar_excerpt: {what}; use them like cellar_mark('items', 'walnut', 'title', items.title)."
    );
    Error::new(ErrorKind::BadRequest, message)
}
